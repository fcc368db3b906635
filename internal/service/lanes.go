package service

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/internal/api"
	"stockade/internal/store"
)

func (s *Service) handleLanes(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	return page(s.laneList(m))
}

func (s *Service) handleLane(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	name := c.Param("name")
	if _, ok := m.set.Lanes[name]; !ok {
		return nil, dangling("", "lane", name, m.set.Lanes)
	}
	out, err := s.describeLane(m, name, followersOf(m.set)[name])
	out.Findings = m.found.of("lane " + name)
	return out, err
}

// moved is a lane after a step, and the edition that it showed before; the same where it made none.
type moved struct {
	api.Lane
	was string
}

func (s *Service) moveLane(f func(string, api.Move, actor) (moved, error)) handler {
	return func(c *gin.Context) (any, error) {
		in, err := optional[api.Move](c)
		if err != nil {
			return nil, err
		}
		l, err := f(c.Param("name"), in, asking(c))
		if err != nil || l.was == l.Edition {
			return l.Lane, err
		}
		to, err := edition.ParseID(l.Edition, l.Mirror)
		if err != nil {
			return nil, err
		}
		before := l.Lane
		before.Edition = l.was
		changes, err := s.laneDifference(before, to)
		if err != nil { // the lane is moved all the same
			s.log.Warn("the effect of a lane move on machines could not be determined", "lane", l.Name,
				"error", err)
			return l.Lane, nil
		}
		l.Findings = append(l.Findings, changes.Findings...)
		return l.Lane, nil
	}
}

// laneList gives the lanes, with what is found of them.
func (s *Service) laneList(m *model) ([]api.Lane, error) {
	return m.lanes.get(func() ([]api.Lane, error) {
		followers := followersOf(m.set)
		out := []api.Lane{}
		for _, name := range slices.Sorted(maps.Keys(m.set.Lanes)) {
			l, err := s.describeLane(m, name, followers[name])
			if err != nil {
				return nil, err
			}
			l.Findings = m.found.of("lane " + name)
			out = append(out, l)
		}
		return out, nil
	})
}

func (s *Service) lane(name string) (api.Lane, error) {
	m, err := s.model()
	if err != nil {
		return api.Lane{}, err
	}
	if _, ok := m.set.Lanes[name]; !ok {
		return api.Lane{}, dangling("", "lane", name, m.set.Lanes)
	}
	return s.describeLane(m, name, followersOf(m.set)[name])
}

// describeLane tells where a lane points, and who follows it.
func (s *Service) describeLane(m *model, name string, followers []string) (api.Lane, error) {
	l, moves := m.set.Lanes[name], m.force.moves(name)
	if len(moves) == 0 && m.force.broken != nil {
		return api.Lane{}, m.force.broken
	}
	out := api.Lane{
		Name:     name,
		Mirror:   l.Mirror,
		URL:      s.PackagesURL() + "/lane/" + name,
		History:  []api.Step{},
		Groups:   []string{},
		Findings: finding.List{},
	}
	for i, mv := range moves {
		step := api.Step{
			Edition: fmt.Sprintf("%s/%d", mv.Mirror, mv.Edition),
			At:      mv.At,
			By:      mv.By,
			Reason:  mv.Reason,
			Back:    mv.Back,
		}
		if i == 0 {
			out.Edition = step.Edition
		}
		out.History = append(out.History, step)
	}
	out.Groups = append(out.Groups, followers...)
	back, ok, err := s.wayBack(m, moves)
	if err != nil { // the lane is told of all the same; going back says why it cannot
		s.log.Warn("whether a lane can go back could not be determined", "lane", name, "error", err)
	}
	if ok {
		out.Back = fmt.Sprintf("%s/%d", back.Mirror, back.Edition)
	}
	if all := m.editions[l.Mirror]; len(all) > 0 {
		out.Newest = fmt.Sprintf("%s/%d", l.Mirror, all[0].Number)
	}
	return out, nil
}

func (s *Service) move(name string, m api.Move, by actor) (moved, error) {
	ch, err := s.begin(by)
	if err != nil {
		return moved{}, err
	}
	defer ch.end()
	shows, err := s.lane(name)
	l := moved{shows, shows.Edition}
	if err != nil {
		return l, err
	}
	to, err := edition.ParseID(m.Edition, l.Mirror)
	if err != nil {
		return l, err
	}
	if to.Mirror != l.Mirror {
		return l, finding.New(finding.DefineBadValue, "lane "+name,
			"the lane shows editions of %s, but %s belongs to another mirror", l.Mirror, m.Edition).
			Do("run stockade edition list --mirror %s to see the editions for this lane", l.Mirror)
	}
	open, _, err := s.standing(to.Mirror, to.Number)
	if err != nil {
		return l, err
	}
	missing, err := open.Missing()
	if err != nil {
		return l, err
	}
	if missing != "" {
		return l, finding.New(finding.EditionDamaged, "edition "+open.Name(),
			"%s is missing or truncated, perhaps with other files. The lane was not moved", missing)
	}
	if l.Edition == open.Name() {
		return l, nil // it is there already: a step to the same place would be one to go back by
	}
	return ch.step(l.Lane, store.Move{Lane: name, Mirror: to.Mirror, Edition: to.Number, Reason: m.Reason})
}

func (s *Service) back(name string, m api.Move, by actor) (moved, error) {
	ch, err := s.begin(by)
	if err != nil {
		return moved{}, err
	}
	defer ch.end()
	shows, err := s.lane(name)
	l := moved{shows, shows.Edition}
	if err != nil {
		return l, err
	}
	now, err := s.model()
	if err != nil {
		return l, err
	}
	to, ok, err := s.wayBack(now, now.force.moves(name))
	if err != nil {
		return l, err
	}
	if ok {
		return ch.step(shows, store.Move{Lane: name, Mirror: to.Mirror, Edition: to.Edition, Reason: m.Reason,
			Back: true})
	}
	return l, &api.Problem{
		Title:  "The lane was not moved",
		Status: 409,
		Type:   "urn:stockade:no-way-back",
		Detail: "the lane " + name + " has no earlier edition to go back to",
		WayOut: "to show another edition, run stockade lane move " + name +
			" MIRROR/N. To list them, run stockade edition list --mirror " + l.Mirror + " lists them",
	}
}

// wayBack gives the step that one step back leads to: where the lane was before it came to
// where it is, or further back where that edition does not stand any more. Steps back are
// undone moves, so they are taken off a stack. An edition of which this machine cannot say whether
// it stands is not stepped over: err says so.
func (s *Service) wayBack(m *model, moves []store.Move) (to store.Move, ok bool, err error) {
	var stack []store.Move
	for _, mv := range slices.Backward(moves) {
		if mv.Back && len(stack) > 0 {
			stack = stack[:len(stack)-1]
			continue
		}
		stack = append(stack, mv)
	}
	for i := len(stack) - 2; i >= 0; i-- {
		if !m.edition(stack[i].Mirror, stack[i].Edition) {
			continue
		}
		_, err = s.editions.brief(s, stack[i].Mirror, stack[i].Edition)
		if err == nil { // its seal holds
			return stack[i], true, nil
		}
		if f, ok := finding.From(err); !ok || f.Code == finding.FaultCode {
			return to, false, err
		}
	}
	return to, false, nil
}

// shownOfGroup is how many changes of a group are told; the summary counts all.
const shownOfGroup = 200

// handleLaneDifference tells what machines would see change.
func (s *Service) handleLaneDifference(c *gin.Context) (any, error) {
	l, err := s.lane(c.Param("name"))
	if err != nil {
		return nil, err
	}
	named := c.Query("to")
	if named == "" {
		named = l.Newest
	}
	to, err := edition.ParseID(named, l.Mirror)
	if err != nil {
		return nil, err
	}
	if to.Mirror != l.Mirror {
		return nil, finding.New(finding.DefineBadValue, "lane "+l.Name,
			"the lane shows editions of %s, but %s belongs to another mirror", l.Mirror, named)
	}
	return s.laneDifference(l, to)
}

func (s *Service) laneDifference(l api.Lane, to edition.ID) (*api.LaneDifference, error) {
	out := &api.LaneDifference{From: l.Edition, To: to.String(), Groups: []api.GroupDifference{},
		Findings: finding.List{}}
	after, _, err := s.standing(to.Mirror, to.Number)
	if err != nil {
		return nil, err
	}
	// What it shows now may be of another mirror, or gone: then all of the other is new.
	before, against := &edition.Edition{}, 0
	if from, err := edition.ParseID(l.Edition, ""); err == nil && from.Mirror == to.Mirror {
		open, _, err := s.standing(from.Mirror, from.Number)
		switch f, told := finding.From(err); {
		case err == nil:
			before, against = open.Edition, from.Number
		case !told || f.Code == finding.FaultCode:
			return nil, err
		}
	}
	if against == to.Number {
		against = 0
	}
	changes := []edition.Change{}
	if l.Edition != out.To {
		if changes, err = s.diff(to.Mirror, to.Number, against); err != nil {
			return nil, err
		}
	}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	for _, group := range l.Groups {
		g := set.Groups[group]
		was, err := machine.Of(group, g, families.All, before)
		if err != nil {
			return nil, err
		}
		will, err := machine.Of(group, g, families.All, after.Edition)
		if err != nil {
			return nil, err
		}
		d := api.GroupDifference{Group: group, Architectures: slices.Concat(will.Architectures,
			will.Foreign),
			Pins: append([]string{}, will.PinTexts()...)}
		seen := machine.Difference(was, will, families.All[g.Family], changes)
		d.Summary = machine.Summarise(seen)
		outdated, err := machine.Outdated(group, g, families.All, before, after.Edition)
		if err != nil {
			return nil, err
		}
		out.Findings = append(out.Findings, outdated...)
		out.Findings = append(out.Findings, machine.Removals(group, before, after.Edition, seen)...)
		d.Items = seen[:min(len(seen), shownOfGroup)]
		if len(will.Sources) == 0 {
			d.Blind = "its machines cannot use any source of " + out.To
			if len(will.Left) > 0 {
				d.Blind += ": " + will.Left[0].Source + " is omitted: " + will.Left[0].Why
			}
		}
		if d.Architectures == nil {
			d.Architectures = []string{}
		}
		out.Groups = append(out.Groups, d)
	}
	out.Findings = append(out.Findings, s.unseen(l.Edition, store.Move{Lane: l.Name, Mirror: to.Mirror,
		Edition: to.Number})...)
	return out, nil
}

func (ch *change) step(l api.Lane, m store.Move) (moved, error) {
	m.At, m.By = ch.now().UTC(), ch.by
	action := "lane.move"
	if m.Back {
		action = "lane.back"
	}
	err := ch.db.Tx(func(tx *store.DB) error {
		if err := tx.AddMove(m); err != nil {
			return err
		}
		return ch.write(tx, action, "lane "+l.Name, map[string]string{"from": l.Edition,
			"to": fmt.Sprintf(
				"%s/%d", m.Mirror, m.Edition), "reason": m.Reason})
	})
	if err != nil {
		return moved{l, l.Edition}, err
	}
	now, err := ch.lane(l.Name)
	return moved{now, l.Edition}, err
}

// unseen tells whether a lane was moved to an older edition that clients which asked
// since do not take.
func (s *Service) unseen(was string, m store.Move) finding.List {
	from, err := edition.ParseID(was, m.Mirror)
	if err != nil || from.Mirror != m.Mirror || from.Number <= m.Edition {
		return nil
	}
	open, err := s.editions.brief(s, m.Mirror, m.Edition)
	if err != nil {
		return nil // what is wrong with it is told where it is served
	}
	var out finding.List
	seen := map[string]bool{}
	for _, src := range open.Sources {
		older := families.All[src.Family].Rules().Older
		if older == "" || seen[src.Family] {
			continue
		}
		seen[src.Family] = true
		out = append(out, finding.New(finding.LaneOlderLists, "lane "+m.Lane,
			"the lane shows an older edition than before. Machines of the family %s that "+
				"updated their lists since keep the newer lists, until the lane shows an "+
				"edition newer than %s", src.Family, was).
			Do("to use the older edition now, run this on each such machine: %s", older))
	}
	return out
}

// inGrace gives the editions that lanes showed before, and of which machines that began with them are still
// given files, with the end of that. They are kept until then, whether they were retired or not.
func (s *Service) inGrace() (map[edition.ID]time.Time, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	out := map[edition.ID]time.Time{}
	for lane := range m.set.Lanes {
		moves := m.force.moves(lane)
		for i := 1; i < len(moves); i++ {
			ends := moves[i-1].At.Add(s.cfg.Grace)
			if s.now().After(ends) {
				break
			}
			id := edition.ID{Mirror: moves[i].Mirror, Number: moves[i].Edition}
			if ends.After(out[id]) {
				out[id] = ends
			}
		}
	}
	return out, nil
}

// followersOf gives the groups that follow each lane, in order.
func followersOf(set *definition.Set) map[string][]string {
	out := map[string][]string{}
	for _, g := range slices.Sorted(maps.Keys(set.Groups)) {
		out[set.Groups[g].Lane] = append(out[set.Groups[g].Lane], g)
	}
	return out
}
