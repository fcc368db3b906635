package service

import (
	"errors"
	"fmt"
	"maps"
	"slices"

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
	set, all, err := s.toldNow()
	if err != nil {
		return nil, err
	}
	return page(s.laneList(set, all))
}

func (s *Service) handleLane(c *gin.Context) (any, error) {
	out, err := s.lane(c.Param("name"))
	if err != nil {
		return nil, err
	}
	_, all, err := s.toldNow()
	out.Findings = all.of("lane " + out.Name)
	return out, err
}

func (s *Service) moveLane(f func(string, api.Move, actor) (api.Lane, error)) handler {
	return func(c *gin.Context) (any, error) {
		in, err := optional[api.Move](c)
		if err != nil {
			return nil, err
		}
		return f(c.Param("name"), in, asking(c))
	}
}

func (s *Service) laneList(set *definition.Set, all states) ([]api.Lane, error) {
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, err
	}
	followers := followersOf(set)
	var out []api.Lane
	for _, name := range slices.Sorted(maps.Keys(set.Lanes)) {
		l, err := s.describeLane(set, now, name, followers[name])
		if err != nil {
			return nil, err
		}
		l.Findings = all.of("lane " + name)
		out = append(out, l)
	}
	return out, nil
}

func (s *Service) lane(name string) (api.Lane, error) {
	set, err := s.db.Described()
	if err != nil {
		return api.Lane{}, err
	}
	if _, ok := set.Lanes[name]; !ok {
		return api.Lane{}, dangling("", "lane", name, set.Lanes)
	}
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return api.Lane{}, err
	}
	return s.describeLane(set, now, name, followersOf(set)[name])
}

// describeLane tells where a lane points, and who follows it.
func (s *Service) describeLane(set *definition.Set, now *inForce, name string, followers []string) (api.Lane,
	error) {
	l, moves := set.Lanes[name], now.moves(name)
	if len(moves) == 0 && now.broken != nil {
		return api.Lane{}, now.broken
	}
	out := api.Lane{
		Name:     name,
		Mirror:   l.Mirror,
		URL:      s.PackagesURL() + "/lane/" + name,
		History:  []api.Step{},
		Groups:   []string{},
		Findings: finding.List{},
	}
	for i, m := range moves {
		step := api.Step{
			Edition: fmt.Sprintf("%s/%d", m.Mirror, m.Edition),
			At:      m.At,
			By:      m.By,
			Reason:  m.Reason,
			Back:    m.Back,
		}
		if i == 0 {
			out.Edition = step.Edition
		}
		out.History = append(out.History, step)
	}
	out.Groups = append(out.Groups, followers...)
	back, ok, err := s.wayBack(moves)
	if err != nil { // the lane is told of all the same; going back says why it cannot
		s.log.Warn("whether a lane can go back is not known", "lane", name, "error", err)
	}
	if ok {
		out.Back = fmt.Sprintf("%s/%d", back.Mirror, back.Edition)
	}
	standing, err := s.db.Editions(l.Mirror)
	for _, e := range standing {
		if !e.Retired {
			out.Newest = fmt.Sprintf("%s/%d", e.Mirror, e.Number)
			break
		}
	}
	return out, err
}

func (s *Service) move(name string, m api.Move, by actor) (api.Lane, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Lane{}, err
	}
	defer ch.end()
	l, err := s.lane(name)
	if err != nil {
		return l, err
	}
	to, err := edition.ParseID(m.Edition, l.Mirror)
	if err != nil {
		return l, err
	}
	if to.Mirror != l.Mirror {
		return l, finding.New("define.bad-value", "lane "+name,
			"the lane shows editions of %s, and %s is of another mirror", l.Mirror, m.Edition).
			Do("stockade edition list --mirror %s shows those that it can show", l.Mirror)
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
		return l, finding.New("edition.damaged", "edition "+open.Name(),
			"%s, and perhaps more of it, is gone or cut short; the lane stays where it is", missing)
	}
	if l.Edition == open.Name() {
		return l, nil // it is there already: a step to the same place would be one to go back by
	}
	return ch.step(l, store.Move{Lane: name, Mirror: to.Mirror, Edition: to.Number, Reason: m.Reason})
}

func (s *Service) back(name string, m api.Move, by actor) (api.Lane, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Lane{}, err
	}
	defer ch.end()
	l, err := s.lane(name)
	if err != nil {
		return l, err
	}
	moves, err := s.moves(name)
	if err != nil {
		return l, err
	}
	to, ok, err := s.wayBack(moves)
	if err != nil {
		return l, err
	}
	if ok {
		return ch.step(l, store.Move{Lane: name, Mirror: to.Mirror, Edition: to.Edition, Reason: m.Reason,
			Back: true})
	}
	return l, &api.Problem{
		Title:  "The lane was not moved",
		Status: 409,
		Type:   "urn:stockade:no-way-back",
		Detail: "the lane " + name + " showed no other edition before that still stands",
		WayOut: "stockade lane move " + name +
			" MIRROR/N shows another one; stockade edition list --mirror " + l.Mirror + " lists them",
	}
}

// wayBack gives the step that one step back leads to: where the lane was before it came to
// where it is, or further back where that edition does not stand any more. Steps back are
// undone moves, so they are taken off a stack. An edition of which this machine cannot say whether
// it stands is not stepped over: err says so.
func (s *Service) wayBack(moves []store.Move) (to store.Move, ok bool, err error) {
	var stack []store.Move
	for _, mv := range slices.Backward(moves) {
		if mv.Back && len(stack) > 0 {
			stack = stack[:len(stack)-1]
			continue
		}
		stack = append(stack, mv)
	}
	for i := len(stack) - 2; i >= 0; i-- {
		rec, err := s.db.EditionBy(stack[i].Mirror, stack[i].Edition)
		if errors.Is(err, store.ErrNotFound) || err == nil && rec.Retired {
			continue
		}
		if err != nil {
			return to, false, err
		}
		_, err = s.editions.brief(s, rec.Mirror, rec.Number)
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
		return nil, finding.New("define.bad-value", "lane "+l.Name,
			"the lane shows editions of %s, and %s is of another mirror", l.Mirror, named)
	}
	return s.laneDifference(l, to)
}

func (s *Service) laneDifference(l api.Lane, to edition.ID) (any, error) {
	out := api.LaneDifference{From: l.Edition, To: to.String(), Groups: []api.GroupDifference{},
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
		d.Items = seen[:min(len(seen), shownOfGroup)]
		if len(will.Sources) == 0 {
			d.Blind = "its machines would see no source of " + out.To
			if len(will.Left) > 0 {
				d.Blind += ": " + will.Left[0].Source + " is left out, for " + will.Left[0].Why
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

func (ch *change) step(l api.Lane, m store.Move) (api.Lane, error) {
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
		return l, err
	}
	was := l.Edition
	if l, err = ch.lane(l.Name); err != nil {
		return l, err
	}
	l.Findings = append(l.Findings, ch.unseen(was, m)...)
	outdated, err := ch.outdated(was, m, l.Groups)
	if err != nil { // the lane is moved all the same
		ch.log.Warn("whether machines need other files could not be told", "lane", l.Name, "error", err)
	}
	l.Findings = append(l.Findings, outdated...)
	return l, nil
}

// outdated tells which groups need other files after a step than before.
func (s *Service) outdated(was string, m store.Move, groups []string) (found finding.List, err error) {
	from, err := edition.ParseID(was, m.Mirror)
	if err != nil || from.Mirror != m.Mirror {
		return nil, nil // it showed nothing, or another mirror: machines get other files anyway
	}
	before, err := s.editions.brief(s, from.Mirror, from.Number)
	if err != nil {
		return nil, nil // what is wrong with it is told where it is served
	}
	after, err := s.editions.brief(s, m.Mirror, m.Edition)
	if err != nil {
		return nil, nil
	}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	for _, group := range groups {
		outdated, err := machine.Outdated(group, set.Groups[group], families.All, before, after)
		if err != nil {
			return nil, err
		}
		found = append(found, outdated...)
	}
	return found, nil
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
		out = append(out, finding.New("lane.older-lists", "lane "+m.Lane,
			"it shows an older edition than before; machines of the family %s that have asked since keep "+
				"the newer lists until an edition newer than %s is shown", src.Family, was).
			Do("to see the older one at once, on each such machine: %s", older))
	}
	return out
}

// followersOf gives the groups that follow each lane, in order.
func followersOf(set *definition.Set) map[string][]string {
	out := map[string][]string{}
	for _, g := range slices.Sorted(maps.Keys(set.Groups)) {
		out[set.Groups[g].Lane] = append(out[set.Groups[g].Lane], g)
	}
	return out
}
