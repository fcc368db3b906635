package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"maps"
	"runtime"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/internal/store"
)

// What machines told is compared with what their lanes show whenever one of the two changes, beside
// everything else.
const (
	comparedAtOnce = 200 // machines, whose lists are in memory
	comparedAfter  = 200 * time.Millisecond
	comparedAgain  = 5 * time.Minute // where it failed
)

// comparing knows what the lists of each group's machines are to be compared with.
type comparing struct {
	nudged chan struct{} // holds one
	mu     sync.Mutex
	basis  map[string]string // by group
}

func (c *comparing) nudge() {
	select {
	case c.nudged <- struct{}{}:
	default:
	}
}

// basisOf gives what lists of a group are to be compared with now; empty: with nothing.
func (c *comparing) basisOf(group string) string {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.basis[group]
}

// compareMachines goes on until ctx ends.
func (s *Service) compareMachines(ctx context.Context) {
	again := time.NewTimer(0)
	defer again.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-s.comparing.nudged:
		case <-again.C:
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(comparedAfter): // what is recorded in one go is looked at once
		}
		if err := s.compareAll(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("machines could not be compared with their lanes", "error", err)
			again.Reset(comparedAgain)
		}
	}
}

// shownGroup is a group whose machines are compared.
type shownGroup struct {
	view  machine.View
	basis string
	blind string // why its machines see nothing
}

// compareAll compares what is not compared yet.
func (s *Service) compareAll(ctx context.Context) error {
	counts, err := s.machineCounts()
	if err != nil || len(counts) == 0 {
		return err
	}
	m, err := s.model()
	if err != nil {
		return err
	}
	set, at := m.set, m.lanesNow()
	groups := map[string]map[string]shownGroup{} // by edition and group
	basis := map[string]string{}
	for _, n := range counts {
		g, ok := set.Groups[n.Group]
		shown := at[g.Lane]
		if !ok || shown == "" {
			if _, err := s.db.ForgetCompared(n.Group); err != nil {
				return err
			}
			continue
		}
		x, err := s.shownTheGroup(n.Group, g, shown)
		if err != nil {
			return err
		}
		basis[n.Group] = x.basis
		if groups[shown] == nil {
			groups[shown] = map[string]shownGroup{}
		}
		groups[shown][n.Group] = x
	}
	s.comparing.mu.Lock()
	s.comparing.basis = basis
	s.comparing.mu.Unlock()
	editions := slices.Sorted(maps.Keys(groups))
	failed := make([]error, len(editions)) // one that fails keeps the others from nothing
	if err := sideBySide(len(editions), func(i int) error {
		if ctx.Err() == nil {
			failed[i] = s.compareWith(ctx, set, editions[i], groups[editions[i]])
		}
		return ctx.Err()
	}); err != nil {
		return err
	}
	return errors.Join(failed...)
}

// shownTheGroup gives the view of a group on the edition that its lane shows.
func (s *Service) shownTheGroup(name string, g definition.Group, shown string) (x shownGroup, err error) {
	id, err := edition.ParseID(shown, "")
	if err != nil {
		return x, err
	}
	created := ""
	open, err := s.editions.brief(s, id.Mirror, id.Number)
	switch f, ok := finding.From(err); {
	case ok && f.Code != finding.FaultCode:
		x.blind = shown + " cannot be read: " + f.Text
	case err != nil:
		return x, err
	default:
		created = open.Created.UTC().Format(time.RFC3339Nano)
		x.view, err = machine.Of(name, g, families.All, open)
		if f, ok := finding.From(err); ok {
			x.blind = f.Text
		} else if err != nil {
			return x, err
		} else if len(x.view.Sources) == 0 {
			x.blind = "its machines cannot use any source of " + shown
		}
	}
	raw, err := json.Marshal(struct {
		Edition, Created, Blind string
		View                    machine.View
	}{shown, created, x.blind, x.view})
	sum := sha256.Sum256(raw)
	x.basis = hex.EncodeToString(sum[:12])
	return x, err
}

// toCompare is a machine with what it has installed.
type toCompare struct {
	store.Machine
	list      []byte // as it was reported, packed
	installed []archive.Installed
	problem   string
}

// read reads the list of a machine.
func (x *toCompare) read(set *definition.Set) {
	raw, err := unpacked(x.list)
	if err == nil {
		x.installed, err = machine.ReadReport(families.All, set.Groups[x.Group].Family, raw)
	}
	if err != nil {
		x.problem = "its list cannot be read: " + err.Error()
	}
}

// sideBySide does something with each of n things, as many at once as there are processors.
func sideBySide(n int, do func(i int) error) error {
	var g errgroup.Group
	g.SetLimit(runtime.NumCPU())
	for i := range n {
		g.Go(func() error { return do(i) })
	}
	return g.Wait()
}

// compareWith compares machines of groups whose lanes show an edition, some at once.
func (s *Service) compareWith(ctx context.Context, set *definition.Set, shown string,
	groups map[string]shownGroup) error {
	var batch []toCompare
	flush := func() error {
		if len(batch) == 0 {
			return nil
		}
		err := s.compareBatch(ctx, set, shown, groups, batch)
		batch = nil
		return err
	}
	for _, group := range slices.Sorted(maps.Keys(groups)) {
		machines, err := s.db.MachinesOf(group, groups[group].basis, -1)
		if err != nil {
			return err
		}
		for _, m := range machines {
			told, err := s.db.InventoryBy(m.Name)
			if err != nil {
				return err
			}
			batch = append(batch, toCompare{Machine: m, list: told.List})
			if len(batch) == comparedAtOnce {
				if err := flush(); err != nil {
					return err
				}
			}
		}
	}
	return flush()
}

// offered reads what an edition has of some names.
func (s *Service) offered(shown string, asked func(string) bool) (*machine.Offered, error) {
	id, err := edition.ParseID(shown, "")
	if err != nil {
		return nil, err
	}
	open, err := s.editions.open(s, id.Mirror, id.Number)
	if err != nil {
		return nil, err
	}
	return machine.Read(open, asked)
}

func (s *Service) compareBatch(ctx context.Context, set *definition.Set, shown string,
	groups map[string]shownGroup, batch []toCompare) error {
	if err := sideBySide(len(batch), func(i int) error { batch[i].read(set); return ctx.Err() }); err != nil {
		return err
	}
	names := map[string]bool{}
	for _, m := range batch {
		for _, p := range m.installed {
			names[p.Name] = true
		}
	}
	var offered *machine.Offered
	unread := ""
	offerings := map[string]*machine.Offering{}
	out := make([]store.Compared, 0, len(batch))
	for _, m := range batch {
		g := groups[m.Group]
		c := store.Compared{Machine: m.Name, Turn: m.Turn, Against: shown, Basis: g.basis,
			Problem: m.problem}
		if c.Problem == "" {
			c.Problem = g.blind
		}
		if c.Problem == "" {
			if offered == nil && unread == "" {
				var err error
				offered, err = s.offered(shown, func(name string) bool { return names[name] })
				if f, ok := finding.From(err); ok && f.Code != finding.FaultCode {
					unread = shown + " cannot be read: " + f.Text
				} else if err != nil {
					return err
				}
			}
			c.Problem = unread
		}
		if c.Problem == "" {
			if offerings[m.Group] == nil {
				offerings[m.Group] = offered.To(g.view, families.All[set.Groups[m.Group].Family])
			}
			var err error
			if c.Comparison, err = offerings[m.Group].Compare(ctx, m.installed); err != nil {
				return err
			}
		}
		out = append(out, c)
	}
	if err := sideBySide(len(out), func(i int) error {
		raw, err := json.Marshal(append([]machine.InstalledPackage{}, out[i].Comparison.Items...))
		if err == nil {
			out[i].Items, err = packed(raw)
		}
		return err
	}); err != nil {
		return err
	}
	return s.db.KeepCompared(out)
}
