package service

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzip"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/internal/api"
	"stockade/internal/store"
)

// Bounds on what is recorded of machines.
const (
	enrolMost   = 10_000 // in one call
	noteLongest = 500    // characters
	aheadOfUs   = 10 * time.Minute
)

func (s *Service) handleMachines(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	set := m.set
	asked, err := askedMachines(c, set, s.now())
	if err != nil {
		return nil, err
	}
	if _, ok := set.Groups[asked.Group]; asked.Group != "" && !ok { // machines may be left of it
		if _, n, err := s.db.Machines(store.Asked{Group: asked.Group}, 0, 1); err != nil {
			return nil, err
		} else if n == 0 {
			return nil, dangling("", "group", asked.Group, set.Groups)
		}
	}
	at := m.lanesNow()
	if as := c.Query("as"); as != "" {
		return nil, takenAway(c, as, "machines", func(yield func(api.Machine) error) error {
			for last := ""; ; {
				part, err := s.db.MachinesAfter(asked, last, pageMost)
				if err != nil {
					return err
				}
				for _, m := range part {
					last = m.Name
					if err := yield(s.machine(set, at, m)); err != nil {
						return err
					}
				}
				if len(part) < pageMost {
					return nil
				}
			}
		})
	}
	limit, from, err := paging(c)
	if err != nil {
		return nil, err
	}
	from = max(from, 0)
	part, all, err := s.db.Machines(asked, int(from), limit)
	if err != nil {
		return nil, err
	}
	out := api.Machines{Items: []api.Machine{}, Matching: all, Groups: []api.GroupMachines{}}
	for _, m := range part {
		out.Items = append(out.Items, s.machine(set, at, m))
	}
	if next := from + int64(len(part)); next < all {
		out.Next = strconv.FormatInt(next, 10)
	}
	counts, err := s.machineCounts()
	for _, n := range counts {
		out.Groups = append(out.Groups, groupMachines(n))
	}
	return out, err
}

func groupMachines(n store.MachineCount) api.GroupMachines {
	return api.GroupMachines{Group: n.Group, Machines: n.Machines, Reported: n.Reported,
		Compared: n.Compared, Behind: n.Behind, Security: n.Security, Ahead: n.Ahead, Held: n.Held,
		Stranded: n.Stranded, Unknown: n.Unknown, Unsure: n.Unsure}
}

// laneMachines counts the machines of lanes that have some, those first on which most waits.
func (s *Service) laneMachines(set *definition.Set, lanes []api.Lane) ([]api.LaneMachines, error) {
	counts, err := s.machineCounts()
	if err != nil {
		return nil, err
	}
	all := map[string]*api.LaneMachines{}
	for _, n := range counts {
		lane := set.Groups[n.Group].Lane
		if all[lane] == nil {
			all[lane] = &api.LaneMachines{Lane: lane}
		}
		all[lane].Add(groupMachines(n))
	}
	out := []api.LaneMachines{}
	for _, l := range lanes {
		if m := all[l.Name]; m != nil {
			m.Edition = l.Edition
			out = append(out, *m)
		}
	}
	slices.SortStableFunc(out, func(a, b api.LaneMachines) int {
		return cmp.Or(b.Security-a.Security, b.Stranded-a.Stranded, b.Behind-a.Behind)
	})
	return out, nil
}

// staleState is the state of machines that did not report within the time that their group allows.
const staleState = "stale"

func askedMachines(c *gin.Context, set *definition.Set, now time.Time) (store.Asked, error) {
	asked := store.Asked{Text: c.Query("q"), State: c.Query("state"), Group: c.Query("group")}
	if lane := c.Query("lane"); lane != "" {
		if _, ok := set.Lanes[lane]; !ok {
			return asked, dangling("", "lane", lane, set.Lanes)
		}
		asked.Groups = append([]string{}, followersOf(set)[lane]...)
	}
	switch asked.State {
	case "":
	case staleState:
		asked.Stale = map[string]time.Time{}
		for name, g := range set.Groups {
			if within, err := g.ReportWithin.Duration(); err == nil && within > 0 {
				asked.Stale[name] = now.Add(-within)
			}
		}
	default:
		if _, ok := store.MachineStates[asked.State]; !ok {
			known := append(slices.Collect(maps.Keys(store.MachineStates)), staleState)
			slices.Sort(known)
			return asked, badQuery("state", asked.State, "allowed are "+strings.Join(known, ", "))
		}
	}
	return asked, nil
}

// lanesNow gives the edition that each lane shows.
func (m *model) lanesNow() map[string]string {
	out := map[string]string{}
	for edition, lanes := range m.shown {
		for _, lane := range lanes {
			out[lane] = edition
		}
	}
	return out
}

// machine describes a machine, without its items.
func (s *Service) machine(set *definition.Set, at map[string]string, m store.Machine) api.Machine {
	g := set.Groups[m.Group]
	out := api.Machine{Name: m.Name, Group: m.Group, Note: m.Note, Lane: g.Lane, Edition: at[g.Lane],
		Enrolled: m.Enrolled, By: m.By, Reported: m.Reported, ReportedBy: m.GivenBy, Against: m.Against,
		Problem: m.Problem, Comparison: machine.Comparison{Installed: m.Packages, Current: m.Current,
			Behind: m.Behind, Security: m.Security, Ahead: m.Ahead, Held: m.Held, Stranded: m.Stranded,
			Unknown: m.Unknown, Unsure: m.Unsure, Bytes: m.Bytes, Items: []machine.InstalledPackage{}}}
	if f, ok := families.All[g.Family].(archive.Inventoried); ok {
		out.Prints = f.PrintsInventory()
	}
	out.Compared = m.Problem == "" && m.Basis != "" && m.Basis == s.comparing.basisOf(m.Group)
	out.Findings = ofMachine(set, m, s.now())
	return out
}

// ofMachine gives what is told of one machine.
func ofMachine(set *definition.Set, m store.Machine, now time.Time) finding.List {
	out := finding.List{}
	object := "machine " + m.Name
	g, ok := set.Groups[m.Group]
	if !ok {
		return append(out, finding.New(finding.DefineDanglingReference, object,
			"its group, %s, is not defined", m.Group).
			Do("run stockade machine change %s --group GROUP, or stockade machine remove %s", m.Name, m.Name))
	}
	heard := time.Unix(m.Heard, 0)
	within, err := g.ReportWithin.Duration()
	if err == nil && within > 0 && now.Sub(heard) > within {
		since := "it has not reported since it was enrolled on " + heard.UTC().Format(time.DateOnly)
		if m.Turn > 0 {
			since = "its last report is from " + heard.UTC().Format(time.DateOnly)
		}
		out = append(out, finding.New(finding.MachineStale, object, "%s. The group requires a "+
			"report every %s", since,
			g.ReportWithin).Do("run stockade machine report %s FILE", m.Name))
	}
	if m.Problem != "" {
		out = append(out, finding.New(finding.MachineNotCompared, object, "%s", m.Problem))
	}
	if m.Basis == "" || m.Problem != "" {
		return out
	}
	for _, told := range []struct {
		n    int
		code finding.Code
		text string
	}{
		{m.Security, finding.MachineSecurityWaits, "security updates on %[2]s are available for %[1]s"},
		{m.Stranded, finding.MachineStrandedPackage,
			"not in any source that the machine uses on %[2]s: %[1]s"},
		{m.Ahead, finding.MachineAhead, "newer than the candidates on %[2]s: %[1]s"},
	} {
		if told.n > 0 {
			out = append(out, finding.New(told.code, object, told.text,
				finding.Count(told.n, "installed package"), m.Against))
		}
	}
	out.Sort()
	return out
}

// ofMachines adds what is told of the machines of each group, one finding for each kind.
func (s *Service) ofMachines(set *definition.Set, out states) error {
	counts, err := s.machineCounts()
	if err != nil {
		return err
	}
	for _, n := range counts {
		object := "group " + n.Group
		g, ok := set.Groups[n.Group]
		if !ok {
			out.add(finding.New(finding.DefineDanglingReference, object,
				"this group is not defined, but %s enrolled in it", are(n.Machines)).
				Do("define the group again, move the machines to another group (stockade " +
					"machine change), or remove them (stockade machine remove)"))
			continue
		}
		if within, err := g.ReportWithin.Duration(); err == nil && within > 0 {
			if limit := s.now().Add(-within); time.Unix(n.Heard, 0).Before(limit) {
				_, stale, err := s.db.Machines(store.Asked{Stale: map[string]time.Time{n.Group: limit}},
					0, 1)
				if err != nil {
					return err
				}
				out.add(finding.New(finding.MachineStale, object,
					"no report from %d of its %s within %s", stale, quantity(n.Machines, "machine"),
					g.ReportWithin).Do("run stockade machine list --group %s --state stale", n.Group))
			}
		}
		for _, told := range []struct {
			n           int
			code        finding.Code
			text, state string
		}{
			{n.Security, finding.MachineSecurityWaits, "security updates available from its " +
				"lane, on %d of its %s",
				"security"},
			{n.Stranded, finding.MachineStrandedPackage,
				"installed packages that are not in any source, on %d of its %s", "stranded"},
			{n.Ahead, finding.MachineAhead,
				"installed packages newer than their candidates, on %d of its %s", "ahead"},
		} {
			if told.n > 0 {
				out.add(finding.New(told.code, object, told.text, told.n,
					quantity(n.Machines, "machine")).
					Do("run stockade machine list --group %s --state %s", n.Group, told.state))
			}
		}
	}
	return nil
}

func are(n int) string {
	if n == 1 {
		return "1 machine is"
	}
	return fmt.Sprintf("%d machines are", n)
}

// oneMachine describes one, with its items.
func (s *Service) oneMachine(name string) (api.Machine, error) {
	m, err := s.machineBy(name)
	if err != nil {
		return api.Machine{}, err
	}
	now, err := s.model()
	if err != nil {
		return api.Machine{}, err
	}
	out := s.machine(now.set, now.lanesNow(), m)
	told, err := s.db.InventoryBy(name)
	if errors.Is(err, store.ErrNotFound) || err == nil && (len(told.Items) == 0 || m.Basis == "") {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	raw, err := unpacked(told.Items)
	if err == nil {
		err = json.Unmarshal(raw, &out.Items)
	}
	return out, err
}

func (s *Service) machineBy(name string) (store.Machine, error) {
	m, err := s.db.MachineBy(name)
	if !errors.Is(err, store.ErrNotFound) {
		return m, err
	}
	f := finding.New(finding.DefineDanglingReference, "", "no machine is named %q", name).
		Do("run stockade machine list to see the machines")
	near, _, err := s.db.Machines(store.Asked{}, 0, pageMost)
	var names []string
	for _, n := range near {
		names = append(names, n.Name)
	}
	if n := definition.Nearest(name, names); n != "" {
		f = f.Do("did you mean %q?", n)
	}
	return m, errors.Join(err, f)
}

func (s *Service) handleMachine(c *gin.Context) (any, error) { return s.oneMachine(c.Param("name")) }

// handleEnrol puts machines into a group, all or none.
func (s *Service) handleEnrol(c *gin.Context) (any, error) {
	in, err := body[api.Enrolling](c)
	if err != nil {
		return nil, err
	}
	return page(s.enrol(in, asking(c)))
}

func (s *Service) enrol(in api.Enrolling, by actor) ([]api.Machine, error) {
	ch, err := s.begin(by)
	if err != nil {
		return nil, err
	}
	defer ch.end()
	if len(in.Names) == 0 || len(in.Names) > enrolMost {
		return nil, finding.New(finding.DefineBadValue, "machine", "%d machines are named", len(in.Names)).
			Do("name 1 to %d machines", enrolMost)
	}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	if err := s.fits(set, "machine", in.Group, in.Note); err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for _, name := range in.Names {
		object := "machine " + finding.Harmless(name)
		if !definition.IsName(name) {
			return nil, finding.New(finding.DefineBadValue, object, "%q is not a valid name", name).
				Do("a name has lower-case letters, digits, dots and hyphens. No machine was " +
					"enrolled")
		}
		old, err := s.db.MachineBy(name)
		if err == nil || seen[name] {
			of := in.Group
			if err == nil {
				of = old.Group
			}
			return nil, finding.New(finding.DefineDuplicateName, object,
				"the machine is already enrolled in %s", of).
				Do("choose another name, or run stockade machine change %s. No machine was "+
					"enrolled", name)
		}
		if !errors.Is(err, store.ErrNotFound) {
			return nil, err
		}
		seen[name] = true
	}
	now := s.now().UTC()
	if err := s.db.Tx(func(tx *store.DB) error {
		for _, name := range in.Names {
			if err := tx.AddMachine(store.Machine{Name: name, Group: in.Group, Note: in.Note, Enrolled: now,
				Heard: now.Unix(), By: by.name}); err != nil {
				return err
			}
		}
		object, detail := "machine "+in.Names[0], map[string]string{"group": in.Group}
		if len(in.Names) > 1 {
			object, detail["machines"] = "group "+in.Group, strings.Join(in.Names, " ")
		}
		return ch.write(tx, "machine.enrol", object, detail)
	}); err != nil {
		return nil, err
	}
	model, err := s.model()
	if err != nil {
		return nil, err
	}
	at := model.lanesNow()
	var out []api.Machine
	for _, name := range in.Names {
		m, merr := s.db.MachineBy(name)
		out, err = append(out, s.machine(set, at, m)), errors.Join(err, merr)
	}
	return out, err
}

// fits tells why a machine cannot be in a group, or have a note.
func (s *Service) fits(set *definition.Set, object, group, note string) error {
	if _, ok := set.Groups[group]; !ok {
		return dangling(object, "group", group, set.Groups)
	}
	if utf8.RuneCountInString(note) > noteLongest || finding.Harmless(note) != note {
		return finding.New(finding.DefineBadValue, object,
			"the note is longer than %d characters, or contains characters that cannot be shown", noteLongest)
	}
	return nil
}

func (s *Service) handleChangeMachine(c *gin.Context) (any, error) {
	in, err := body[api.MachineChange](c)
	if err != nil {
		return nil, err
	}
	return s.changeMachine(c.Param("name"), in, asking(c))
}

func (s *Service) changeMachine(name string, in api.MachineChange, by actor) (any, error) {
	ch, err := s.begin(by)
	if err != nil {
		return nil, err
	}
	defer ch.end()
	m, err := s.machineBy(name)
	if err != nil {
		return nil, err
	}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	if err := s.fits(set, "machine "+name, in.Group, in.Note); err != nil {
		return nil, err
	}
	if was, is := set.Groups[m.Group], set.Groups[in.Group]; m.Turn > 0 && was.Family != "" &&
		was.Family != is.Family {
		return nil, finding.New(finding.DefineBadValue, "machine "+name,
			"its report is for the family %s, but machines of %s have the family %s", was.Family, in.Group,
			is.Family).Do("run stockade machine remove %s, and enrol it again", name)
	}
	if m.Group != in.Group || m.Note != in.Note {
		detail := map[string]string{"note": in.Note}
		if m.Group != in.Group {
			detail["from"], detail["to"] = m.Group, in.Group
		}
		m.Group, m.Note = in.Group, in.Note
		if err := s.db.Tx(func(tx *store.DB) error {
			if err := tx.SaveMachine(m); err != nil {
				return err
			}
			return ch.write(tx, "machine.change", "machine "+name, detail)
		}); err != nil {
			return nil, err
		}
	}
	return s.oneMachine(name)
}

func (s *Service) handleRemoveMachine(c *gin.Context) (any, error) {
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	out, err := s.oneMachine(c.Param("name"))
	if err != nil {
		return nil, err
	}
	return out, s.db.Tx(func(tx *store.DB) error {
		if err := tx.RemoveMachine(out.Name); err != nil {
			return err
		}
		return ch.write(tx, "machine.remove", "machine "+out.Name,
			map[string]string{"group": out.Group})
	})
}

// handleReport keeps what a machine has installed. It is what the machine says, and no change of
// anything that is decided here: the journal has no entry of it.
func (s *Service) handleReport(c *gin.Context) (any, error) {
	in, err := body[api.Reporting](c)
	if err != nil {
		return nil, err
	}
	name := c.Param("name")
	m, err := s.machineBy(name)
	if err != nil {
		return nil, err
	}
	current, err := s.model()
	if err != nil {
		return nil, err
	}
	set := current.set
	if _, ok := set.Groups[m.Group]; !ok {
		return nil, dangling("machine "+name, "group", m.Group, set.Groups)
	}
	installed, err := machine.ReadReport(families.All, set.Groups[m.Group].Family, []byte(in.Installed))
	if err != nil {
		if f, ok := finding.From(err); ok {
			f.Object = "machine " + name
			return nil, f
		}
		return nil, err
	}
	now := s.now().UTC()
	if in.At.IsZero() {
		in.At = now
	}
	in.At = in.At.UTC()
	if in.At.After(now.Add(aheadOfUs)) {
		return nil, finding.New(finding.DefineBadValue, "machine "+name,
			"its list is dated %s, but the clock here says %s", in.At.Format(time.DateTime),
			now.Format(time.DateTime)).Do("check both clocks")
	}
	if m.Turn > 0 && in.At.Unix() < m.Heard {
		return nil, &api.Problem{Title: "The report was not accepted", Status: http.StatusConflict,
			Type: "urn:stockade:machine.older-report", Object: "machine " + name,
			Detail: fmt.Sprintf("it is from %s, but a newer one from %s was accepted",
				in.At.Format(time.DateTime), m.Reported.UTC().Format(time.DateTime))}
	}
	m.Reported, m.Given, m.GivenBy, m.Heard = &in.At, &now, who(c).Name, in.At.Unix()
	m.Packages = len(installed)
	list, err := packed([]byte(in.Installed))
	if err == nil {
		err = s.db.GiveInventory(m, list)
	}
	if err != nil {
		return nil, err
	}
	return s.oneMachine(name)
}

func packed(data []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(data); err != nil {
		return nil, err
	}
	err = w.Close()
	return b.Bytes(), err
}

// unpackMost bounds what is unpacked of a record.
const unpackMost = 64 << 20

func unpacked(data []byte) ([]byte, error) {
	r, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(io.LimitReader(r, unpackMost))
}
