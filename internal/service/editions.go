package service

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"stockade/core/edition"
	"strings"
	"sync"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/store"
)

// editionCache holds the editions that are being looked at or served.
type editionCache struct {
	mu     sync.Mutex
	held   map[string]*edition.Sealed
	order  []string
	briefs map[string]*edition.Edition // without their manifests, which are what takes memory
}

// briefsMost is how many editions are remembered without their manifests.
const briefsMost = 2000

// brief gives what an edition says of itself, as it was when its seal was checked.
func (c *editionCache) brief(s *Service, name string, number int) (*edition.Edition, error) {
	c.mu.Lock()
	e, ok := c.briefs[fmt.Sprintf("%s/%d", name, number)]
	c.mu.Unlock()
	if ok {
		return e, nil
	}
	open, err := c.open(s, name, number)
	if err != nil {
		return nil, err
	}
	return open.Edition, nil
}

// cacheMost is how many manifests are held; one of 65,000 files takes 10 MB.
const cacheMost = 24

func (c *editionCache) open(s *Service, name string, number int) (*edition.Sealed, error) {
	key := fmt.Sprintf("%s/%d", name, number)
	c.mu.Lock()
	defer c.mu.Unlock()
	if e, ok := c.held[key]; ok {
		return e, nil
	}
	out, err := edition.Open(s.editionFolder(name, number), []*trust.Certificate{s.site.Certificate()},
		s.pool)
	if err != nil {
		if f, ok := finding.From(err); ok {
			f.Object = "edition " + key
			return nil, f
		}
		return nil, err
	}
	if out.Mirror != name || out.Number != number {
		return nil, finding.New("edition.seal-bad", "edition "+key, "the folder holds another edition, %s",
			out.Name())
	}
	if c.held == nil {
		c.held = map[string]*edition.Sealed{}
	}
	c.held[key] = out
	if len(c.briefs) >= briefsMost || c.briefs == nil {
		c.briefs = map[string]*edition.Edition{}
	}
	c.briefs[key] = out.Edition
	if c.order = append(c.order, key); len(c.order) > cacheMost {
		delete(c.held, c.order[0])
		c.order = c.order[1:]
	}
	return out, nil
}

func (c *editionCache) forget(name string, number int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	key := fmt.Sprintf("%s/%d", name, number)
	delete(c.held, key)
	delete(c.briefs, key)
	c.order = slices.DeleteFunc(c.order, func(k string) bool { return k == key })
}

func noEdition(name string, number int) error {
	return &api.Problem{Title: "There is no such edition", Status: 404, Type: "urn:stockade:not-found",
		Detail: fmt.Sprintf("the mirror %s has no edition %d that stands", name, number),
		WayOut: "stockade edition list shows those that do"}
}

// standing opens an edition that exists and is not retired.
func (s *Service) standing(name string, number int) (*edition.Sealed, store.Edition, error) {
	rec, err := s.db.EditionBy(name, number)
	if err != nil || rec.Retired {
		return nil, rec, noEdition(name, number)
	}
	e, err := s.editions.open(s, name, number)
	return e, rec, err
}

// shown gives the lanes that point at each edition now, by MIRROR/N.
func (s *Service) shown() (map[string][]string, error) {
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, err
	}
	out := map[string][]string{}
	for lane := range set.Lanes {
		if moves := now.moves(lane); len(moves) > 0 {
			key := latest(moves)
			out[key] = append(out[key], lane)
		}
	}
	for _, l := range out {
		slices.Sort(l)
	}
	return out, nil
}

func (s *Service) editionList(name string) ([]api.Edition, error) {
	all, err := s.db.Editions(name)
	if err != nil {
		return nil, err
	}
	shown, err := s.shown()
	if err != nil {
		return nil, err
	}
	out := []api.Edition{}
	for _, e := range all {
		if !e.Retired {
			out = append(out, editionOf(e, shown))
		}
	}
	return out, nil
}

func editionOf(e store.Edition, shown map[string][]string) api.Edition {
	name := fmt.Sprintf("%s/%d", e.Mirror, e.Number)
	lanes := shown[name]
	if lanes == nil {
		lanes = []string{}
	}
	return api.Edition{
		Name:     name,
		Mirror:   e.Mirror,
		Number:   e.Number,
		Created:  e.Created,
		Copy:     e.Copy,
		Packages: e.Packages,
		Files:    e.Files,
		Bytes:    e.Bytes,
		Lanes:    lanes,
	}
}

func (s *Service) items(name string, number int) ([]edition.Item, error) {
	e, _, err := s.standing(name, number)
	if err != nil {
		return nil, err
	}
	var out []edition.Item
	err = e.Items(func(it edition.Item) error {
		out = append(out, it)
		return nil
	})
	return out, err
}

// diff compares an edition with an older one; against 0 means the one before.
func (s *Service) diff(name string, number, against int) ([]edition.Change, error) {
	if against == 0 {
		all, err := s.db.Editions(name)
		if err != nil {
			return nil, err
		}
		for _, e := range all {
			if e.Number < number && !e.Retired {
				against = e.Number
				break
			}
		}
		if against == 0 {
			return nil, &api.Problem{Title: "There is nothing to compare with", Status: 404,
				Type:   "urn:stockade:not-found",
				Detail: fmt.Sprintf("no edition of %s before %d stands", name, number)}
		}
	}
	to, err := s.items(name, number)
	if err != nil {
		return nil, err
	}
	from, err := s.items(name, against)
	if err != nil {
		return nil, err
	}
	open, _, err := s.standing(name, number)
	if err != nil {
		return nil, err
	}
	byName := map[string]archive.Family{}
	for _, src := range open.Sources {
		byName[src.Name] = families.All[src.Family]
	}
	changes := edition.Diff(from, to, func(source, a, b string) int {
		if f := byName[source]; f != nil {
			return f.CompareVersions(a, b)
		}
		return strings.Compare(a, b)
	})
	told, err := s.advisories(name, number, "")
	if err != nil {
		return nil, err
	}
	ids := edition.AdvisoryIDs(told)
	for i, c := range changes {
		if c.NewVersion != "" {
			changes[i].Advisories = ids[c.Source+"\x00"+c.Name+"\x00"+c.NewVersion+"\x00"+c.Arch]
		}
	}
	return changes, nil
}

// advisories gives those of an edition that have q in their id, title, severity
// or packages.
func (s *Service) advisories(name string, number int, q string) ([]edition.Advisory, error) {
	e, _, err := s.standing(name, number)
	if err != nil {
		return nil, err
	}
	q = strings.ToLower(q)
	var out []edition.Advisory
	err = e.ReadAdvisories(func(a edition.Advisory) error {
		text := a.ID + " " + a.Title + " " + a.Kind + " " + a.Severity
		for _, p := range a.Packages {
			text += " " + p.Name
		}
		if q == "" || strings.Contains(strings.ToLower(text), q) {
			out = append(out, a)
		}
		return nil
	})
	return out, err
}

func (s *Service) retire(name string, number int, by string) (api.Edition, error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	e, err := s.db.EditionBy(name, number)
	if err != nil || e.Retired {
		return api.Edition{}, noEdition(name, number)
	}
	shown, err := s.shown()
	if err != nil {
		return api.Edition{}, err
	}
	out := editionOf(e, shown)
	if len(out.Lanes) > 0 {
		return out, &api.Problem{Title: "The edition was not retired", Status: 409,
			Type:   "urn:stockade:in-use",
			Detail: fmt.Sprintf("the lane %s shows %s", strings.Join(out.Lanes, ", "), out.Name),
			WayOut: "move the lane first"}
	}
	if id := s.jobs.on("edition " + out.Name); id != 0 {
		return out, &api.Problem{
			Title:  "The edition was not retired",
			Status: 409,
			Type:   "urn:stockade:in-use",
			Detail: fmt.Sprintf("job %d works on it", id),
		}
	}
	e.Retired = true
	return out, s.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveEdition(e); err != nil {
			return err
		}
		return s.write(tx, by, "edition.retire", "edition "+out.Name, nil)
	})
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
	return out, nil
}

func (s *Service) move(name string, m api.Move, by string) (api.Lane, error) {
	s.writing.Lock()
	defer s.writing.Unlock()
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
			"the lane shows editions of %s, and %s is of another mirror", l.Mirror, m.Edition)
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
	return s.step(l, store.Move{Lane: name, Mirror: to.Mirror, Edition: to.Number, Reason: m.Reason}, by)
}

func (s *Service) back(name string, m api.Move, by string) (api.Lane, error) {
	s.writing.Lock()
	defer s.writing.Unlock()
	l, err := s.lane(name)
	if err != nil {
		return l, err
	}
	moves, err := s.moves(name)
	if err != nil {
		return l, err
	}
	// Where the lane was before it came to where it is: steps back are undone
	// moves, so they are taken off a stack.
	var stack []store.Move
	for _, mv := range slices.Backward(moves) {
		if mv.Back && len(stack) > 0 {
			stack = stack[:len(stack)-1]
			continue
		}
		stack = append(stack, mv)
	}
	for i := len(stack) - 2; i >= 0; i-- {
		if _, _, err := s.standing(stack[i].Mirror, stack[i].Edition); err == nil {
			return s.step(l, store.Move{
				Lane:    name,
				Mirror:  stack[i].Mirror,
				Edition: stack[i].Edition,
				Reason:  m.Reason,
				Back:    true,
			}, by)
		}
	}
	return l, &api.Problem{
		Title:  "The lane was not moved",
		Status: 409,
		Type:   "urn:stockade:no-way-back",
		Detail: "the lane " + name + " showed no other edition before that still stands",
	}
}

func (s *Service) step(l api.Lane, m store.Move, by string) (api.Lane, error) {
	m.At, m.By = s.now().UTC(), by
	action := "lane.move"
	if m.Back {
		action = "lane.back"
	}
	err := s.db.Tx(func(tx *store.DB) error {
		if err := tx.AddMove(m); err != nil {
			return err
		}
		return s.write(tx, by, action, "lane "+l.Name, map[string]string{"from": l.Edition, "to": fmt.Sprintf(
			"%s/%d", m.Mirror, m.Edition), "reason": m.Reason})
	})
	if err != nil {
		return l, err
	}
	return s.lane(l.Name)
}

func (s *Service) editionFiles(name string, number int) (api.Manifest, error) {
	if _, _, err := s.standing(name, number); err != nil {
		return api.Manifest{}, err
	}
	var out api.Manifest
	var err error
	folder := s.editionFolder(name, number)
	if out.Manifest, err = os.ReadFile(filepath.Join(folder, edition.ManifestName)); err != nil {
		return out, err
	}
	out.Seal, err = os.ReadFile(filepath.Join(folder, edition.SealName))
	return out, err
}

func decode[T any](raw string) (v T) {
	json.Unmarshal([]byte(raw), &v)
	return v
}
