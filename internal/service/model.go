package service

import (
	"encoding/json"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/internal/api"
	"stockade/internal/store"
)

// model is what pages and lists draw from: what is described, trusted and in force, the editions that are
// not retired, and all that was found. It is read once after a change and shared by all who ask until the
// next one, so nothing in it is ever changed. A change of the records reads them itself.
type model struct {
	set      *definition.Set
	trusted  *trusted
	force    *inForce
	editions map[string][]store.Edition // of each mirror, newest first
	shown    map[string][]string        // lanes by the edition that they show now
	kept     map[string]map[string]store.Kept
	found    states // but what is found of machines: see toldNow

	sources once[[]api.Source]
	lanes   once[[]api.Lane]
	keys    once[[]api.Key]
	far     once[map[string][]string] // see howFar
}

// once is what is worked out of a model when it is first asked for.
type once[T any] struct {
	sync.Once
	v   T
	err error
}

func (o *once[T]) get(find func() (T, error)) (T, error) {
	o.Do(func() { o.v, o.err = find() })
	return o.v, o.err
}

// models holds the newest model. Those who ask while it is read wait for it.
type models struct {
	// outdated counts what was found that no record says: what the pool lacks, what contradicts the journal.
	outdated atomic.Int64
	mu       sync.Mutex
	now      *model
	of       modelOf
	at       time.Time
	machines
}

// modelOf is what a model was read after. It is good while that is the same, for toldFor: what is found
// depends on the time as well.
type modelOf struct {
	changes, outdated int64
	site              *siteKeys
}

// model gives what pages draw from, as of the last change.
func (s *Service) model() (*model, error) {
	s.models.mu.Lock()
	defer s.models.mu.Unlock()
	of := modelOf{s.db.ChangesBut(store.MachineRows, store.InventoryRows, store.Comparisons, store.Personal),
		s.models.outdated.Load(), s.site.Load()}
	if s.models.now != nil && s.models.of == of && time.Since(s.models.at) < toldFor {
		return s.models.now, nil
	}
	at := time.Now()
	m, err := s.readModel()
	if err != nil {
		return nil, err
	}
	s.models.now, s.models.of, s.models.at = m, of, at
	return m, nil
}

func (s *Service) readModel() (*model, error) {
	m := &model{editions: map[string][]store.Edition{}}
	var err error
	if m.trusted, m.set, err = s.trustedAndSet(); err != nil {
		return nil, err
	}
	if m.force, err = s.ledger.read(s.db, s.keys); err != nil {
		return nil, err
	}
	all, err := s.db.Editions("")
	if err != nil {
		return nil, err
	}
	for _, e := range all {
		if !e.Retired {
			m.editions[e.Mirror] = append(m.editions[e.Mirror], e)
		}
	}
	m.shown = shownBy(m.set, m.force)
	if m.kept, err = s.db.EveryKept(); err != nil {
		return nil, err
	}
	m.found, err = s.states(m)
	for object, found := range m.found {
		m.found[object] = slices.Clip(found) // whoever adds to it makes a copy
	}
	return m, err
}

// keptOf reads what is kept of something, as store.DB.Kept does.
func (m *model) keptOf(kind, name string, v any) (at time.Time, there bool, err error) {
	k, ok := m.kept[kind][name]
	if !ok {
		return at, false, nil
	}
	err = json.Unmarshal([]byte(k.Body), v)
	return k.At, err == nil, err
}

// edition tells whether an edition exists that is not retired.
func (m *model) edition(mirror string, number int) bool {
	return slices.ContainsFunc(m.editions[mirror], func(e store.Edition) bool { return e.Number == number })
}

// machines is what is counted of machines, as of the last report and comparison.
type machines struct {
	counting sync.Mutex
	counted  int64 // changes that the counts are after
	counts   []store.MachineCount
}

// machineCounts gives how many machines of each group are how.
func (s *Service) machineCounts() ([]store.MachineCount, error) {
	c := &s.models.machines
	c.counting.Lock()
	defer c.counting.Unlock()
	now := s.db.Changes(store.MachineRows, store.InventoryRows, store.Comparisons)
	if c.counts != nil && c.counted == now {
		return c.counts, nil
	}
	counts, err := s.db.MachineCounts()
	if err == nil {
		c.counts, c.counted = counts, now
	}
	return counts, err
}

// toldNow gives what pages draw from, and all that is found of it and of machines.
func (s *Service) toldNow() (*model, states, error) {
	m, err := s.model()
	if err != nil {
		return nil, nil, err
	}
	all := maps.Clone(m.found)
	free, err := s.free()
	if err != nil {
		return nil, nil, err
	}
	if free < mirror.Spare {
		all.add(finding.New(finding.SiteDiskFull, "site",
			"the disk of the pool has %d MiB free, and builds must leave %d MiB free, so no "+
				"build can start", free>>20, mirror.Spare>>20).
			Do("run stockade pool usage to see what uses the space, then stockade edition " +
				"retire and stockade pool sweep"))
	}
	return m, all, s.ofMachines(m.set, all)
}
