package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/store"
)

// editionCache holds editions that are looked at or served. Those that were used last stay, as far as
// they take no more than cacheBytes together; each is opened once, while others wait for it alone.
type editionCache struct {
	mu     sync.Mutex
	held   map[string]*heldEdition
	uses   int64
	briefs map[string]*edition.Edition // without their manifests, which are what takes memory
}

// heldEdition is an edition that is held, or is being opened.
type heldEdition struct {
	ready  chan struct{} // closed when it is open, or could not be opened
	sealed *edition.Sealed
	err    error
	used   int64 // which of all uses was its last
}

// briefsMost is how many editions are remembered without their manifests.
const briefsMost = 2000

// cacheBytes bounds what opened editions take: one of 65,000 files takes some 12 MB.
const cacheBytes = 384 << 20

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

func (c *editionCache) open(s *Service, name string, number int) (*edition.Sealed, error) {
	key := fmt.Sprintf("%s/%d", name, number)
	c.mu.Lock()
	if c.held == nil {
		c.held, c.briefs = map[string]*heldEdition{}, map[string]*edition.Edition{}
	}
	c.uses++
	h, there := c.held[key]
	if there {
		h.used = c.uses
		c.mu.Unlock()
		<-h.ready
		return h.sealed, h.err
	}
	h = &heldEdition{ready: make(chan struct{}), used: c.uses}
	c.held[key] = h
	c.mu.Unlock()
	h.sealed, h.err = s.openEdition(name, number)
	c.mu.Lock()
	defer c.mu.Unlock()
	close(h.ready)
	switch {
	case c.held[key] != h: // it was to be forgotten meanwhile
	case h.err != nil:
		delete(c.held, key)
	default:
		if len(c.briefs) >= briefsMost {
			clear(c.briefs)
		}
		c.briefs[key] = h.sealed.Edition
		c.leave()
	}
	return h.sealed, h.err
}

// leave lets those go that were used longest ago, until the others take no more than they may.
func (c *editionCache) leave() {
	var open []string
	var bytes int64
	for key, h := range c.held {
		if h.sealed != nil {
			open, bytes = append(open, key), bytes+h.sealed.Held()
		}
	}
	slices.SortFunc(open, func(a, b string) int { return cmp.Compare(c.held[a].used, c.held[b].used) })
	for _, key := range open[:max(len(open)-1, 0)] {
		if bytes <= cacheBytes {
			return
		}
		bytes -= c.held[key].sealed.Held()
		delete(c.held, key)
	}
}

// openEdition reads an edition from its folder, and checks its seal.
func (s *Service) openEdition(name string, number int) (*edition.Sealed, error) {
	object := fmt.Sprintf("edition %s/%d", name, number)
	out, err := edition.Open(s.editionFolder(name, number), s.site.Load().now(), s.pool)
	if err != nil {
		if f, ok := finding.From(err); ok {
			f.Object = object
			return nil, f
		}
		return nil, err
	}
	if out.Mirror != name || out.Number != number {
		return nil, finding.New(finding.EditionSealBad, object, "the folder contains another "+
			"edition, %s",
			out.Name())
	}
	return out, nil
}

func (c *editionCache) forget(name string, number int) {
	c.mu.Lock()
	defer c.mu.Unlock()
	key := fmt.Sprintf("%s/%d", name, number)
	delete(c.held, key)
	delete(c.briefs, key)
}

// forgetAll has every edition opened anew.
func (c *editionCache) forgetAll() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.held, c.briefs = nil, nil
}

func noEdition(name string, number int) error {
	return &api.Problem{Title: "Not found", Status: 404, Type: "urn:stockade:not-found",
		Detail: fmt.Sprintf("the mirror %s has no edition %d, or it is retired", name, number),
		WayOut: "run stockade edition list to see the editions"}
}

// notStanding is noEdition, or that there is no such mirror.
func (s *Service) notStanding(name string, number int) error {
	set, err := s.db.Described()
	if err != nil {
		return err
	}
	if _, ok := set.Mirrors[name]; !ok {
		made, err := s.db.Editions(name)
		if err != nil {
			return err
		}
		if len(made) == 0 {
			return dangling("", "mirror", name, set.Mirrors)
		}
	}
	return noEdition(name, number)
}

// stands gives the record of an edition that exists and is not retired. One that cannot be read
// is not taken for one that is not there.
func (s *Service) stands(name string, number int) (store.Edition, error) {
	rec, err := s.db.EditionBy(name, number)
	if errors.Is(err, store.ErrNotFound) || err == nil && rec.Retired {
		err = s.notStanding(name, number)
	}
	return rec, err
}

// standing opens an edition that exists and is not retired.
func (s *Service) standing(name string, number int) (*edition.Sealed, store.Edition, error) {
	rec, err := s.stands(name, number)
	if err != nil {
		return nil, rec, err
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
	return shownBy(set, now), nil
}

func shownBy(set *definition.Set, now *inForce) map[string][]string {
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
	return out
}

func (s *Service) editionList(name string) ([]api.Edition, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	return m.editionsOf(name), nil
}

// editionsOf gives the editions of a mirror that are not retired, or of all, newest first.
func (m *model) editionsOf(name string) []api.Edition {
	mirrors := []string{name}
	if name == "" {
		mirrors = slices.Sorted(maps.Keys(m.editions))
	}
	out := []api.Edition{}
	for _, mirror := range mirrors {
		for _, e := range m.editions[mirror] {
			out = append(out, editionOf(e, m.shown))
		}
	}
	return out
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

// before gives the number of the newest edition of a mirror that stands before one.
func (s *Service) before(name string, number int) (int, error) {
	all, err := s.db.Editions(name)
	if err != nil {
		return 0, err
	}
	for _, e := range all {
		if e.Number < number && !e.Retired {
			return e.Number, nil
		}
	}
	return 0, &api.Problem{Title: "Not found", Status: 404,
		Type:   "urn:stockade:not-found",
		Detail: fmt.Sprintf("there is no edition of %s before %d", name, number)}
}

// differences holds the last few that were worked out: editions do not change.
type differences struct {
	mu    sync.Mutex
	held  map[[3]string]*difference
	order [][3]string
}

// differencesMost is how many are held; one of 65,000 changes takes 15 MB.
const differencesMost = 8

type difference struct {
	once    sync.Once
	changes []edition.Change
	err     error
}

// get gives a difference, worked out once however many ask for it.
func (d *differences) get(key [3]string, find func() ([]edition.Change, error)) ([]edition.Change, error) {
	d.mu.Lock()
	one, ok := d.held[key]
	if !ok {
		if d.held == nil {
			d.held = map[[3]string]*difference{}
		}
		one = &difference{}
		d.held[key] = one
		if d.order = append(d.order, key); len(d.order) > differencesMost {
			delete(d.held, d.order[0])
			d.order = d.order[1:]
		}
	}
	d.mu.Unlock()
	one.once.Do(func() { one.changes, one.err = find() })
	if one.err != nil {
		d.mu.Lock()
		if d.held[key] == one {
			delete(d.held, key)
			d.order = slices.DeleteFunc(d.order, func(k [3]string) bool { return k == key })
		}
		d.mu.Unlock()
	}
	return one.changes, one.err
}

// diff compares an edition with another of its mirror; against 0 means with nothing. What it
// gives is shared: it is not to be changed.
func (s *Service) diff(name string, number, against int) ([]edition.Change, error) {
	to, rec, err := s.standing(name, number)
	if err != nil {
		return nil, err
	}
	var from *edition.Sealed
	if against != 0 {
		if from, _, err = s.standing(name, against); err != nil {
			return nil, err
		}
	}
	key := [3]string{name, fmt.Sprintf("%d %d", number, rec.Created.UnixNano()), fmt.Sprint(against)}
	return s.diffs.get(key, func() ([]edition.Change, error) {
		byName := map[string]archive.Family{}
		for _, src := range to.Sources {
			byName[src.Name] = families.All[src.Family]
		}
		compare := func(source, a, b string) int {
			if f := byName[source]; f != nil {
				return f.CompareVersions(a, b)
			}
			return strings.Compare(a, b)
		}
		var changes []edition.Change
		if from == nil {
			items, err := s.items(name, number)
			if err != nil {
				return nil, err
			}
			changes = edition.Diff(nil, items, compare)
		} else if changes, err = edition.Differences(from, to, compare); err != nil {
			return nil, err
		}
		told, err := s.advisories(name, number, "")
		if err != nil {
			return nil, err
		}
		edition.Advise(changes, told)
		return changes, nil
	})
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

func (s *Service) retire(name string, number int, by actor) (api.Edition, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Edition{}, err
	}
	defer ch.end()
	e, err := s.stands(name, number)
	if err != nil {
		return api.Edition{}, err
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
			Detail: fmt.Sprintf("job %d is using it", id),
		}
	}
	e.Retired = true
	return out, s.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveEdition(e); err != nil {
			return err
		}
		return ch.write(tx, "edition.retire", "edition "+out.Name, nil)
	})
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

func (s *Service) handleEditions(c *gin.Context) (any, error) {
	name := c.Query("mirror")
	list, err := s.editionList(name)
	if err != nil || len(list) > 0 || name == "" {
		return page(list, err)
	}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	if _, ok := set.Mirrors[name]; !ok {
		return nil, dangling("", "mirror", name, set.Mirrors)
	}
	return page(list, nil)
}

func (s *Service) handleEdition(c *gin.Context, name string, n int) (any, error) {
	rec, err := s.stands(name, n)
	if err != nil {
		return nil, err
	}
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	// What is said of the seal is checked now, and not when the edition was first opened.
	out := api.EditionDetail{Edition: editionOf(rec, m.shown), Checked: s.now().UTC()}
	e, err := s.openEdition(name, n)
	switch f, found := finding.From(err); {
	case err == nil:
		out.Seal, out.Sealed = *e.Edition, true
	case !found || f.Code == finding.FaultCode:
		return nil, err // it says nothing of the seal
	default:
		out.Problem = err.Error()
		s.editions.forget(name, n) // nothing more is served of it either
	}
	return out, nil
}

// kindsOfChange are what a difference can be narrowed down to.
var kindsOfChange = map[string]func(edition.Change) bool{
	"security": func(c edition.Change) bool { return c.Security },
	"newer":    func(c edition.Change) bool { return c.Action == edition.Changed && !c.Older },
	"older":    func(c edition.Change) bool { return c.Older },
	"added":    func(c edition.Change) bool { return c.Action == edition.Added },
	"removed":  func(c edition.Change) bool { return c.Action == edition.Removed },
}

func (s *Service) handleDiff(c *gin.Context, name string, n int) (any, error) {
	against, err := queried(c, "against", 0)
	if err != nil {
		return nil, err
	}
	kind := c.Query("kind")
	if _, ok := kindsOfChange[kind]; kind != "" && !ok {
		return nil, badQuery("kind", kind, "allowed are "+
			strings.Join(slices.Sorted(maps.Keys(kindsOfChange)), ", "))
	}
	if _, _, err := s.standing(name, n); err != nil {
		return nil, err
	}
	if against == 0 {
		before, err := s.before(name, n)
		if err != nil {
			return nil, err
		}
		against = int64(before)
	}
	changes, err := s.diff(name, n, int(against))
	if err != nil {
		return nil, err
	}
	out := api.Difference{Items: []api.Change{}, Against: fmt.Sprintf("%s/%d", name, against),
		Summary: edition.Summarise(changes)}
	q := strings.ToLower(c.Query("q"))
	fits := func(x edition.Change) bool {
		return (kind == "" || kindsOfChange[kind](x)) && (q == "" ||
			strings.Contains(strings.ToLower(x.Name+" "+strings.Join(x.Advisories, " ")), q))
	}
	if as := c.Query("as"); as != "" {
		return nil, takenAway(c, as, name+"-"+fmt.Sprint(n)+"-difference",
			func(yield func(edition.Change) error) error {
				for _, x := range changes {
					if fits(x) {
						if err := yield(x); err != nil {
							return err
						}
					}
				}
				return nil
			})
	}
	limit, cursor, err := paging(c)
	if err != nil {
		return nil, err
	}
	for i, x := range changes {
		if !fits(x) {
			continue
		}
		if out.Matching++; int64(i) < cursor || len(out.Items) == limit {
			if int64(i) >= cursor && out.Next == "" {
				out.Next = fmt.Sprint(i)
			}
			continue
		}
		out.Items = append(out.Items, x)
	}
	return out, nil
}

func (s *Service) handleAdvisories(c *gin.Context, name string, n int) (any, error) {
	return page(s.advisories(name, n, c.Query("q")))
}

func (s *Service) handleManifest(c *gin.Context, name string, n int) (any, error) {
	return s.editionFiles(name, n)
}

func (s *Service) handleFile(c *gin.Context, name string, n int) (any, error) {
	e, _, err := s.standing(name, n)
	if err != nil {
		return nil, err
	}
	path := strings.TrimPrefix(c.Param("path"), "/")
	if err := s.canServe(e, path); err != nil {
		return nil, err
	}
	s.serveFrom(c.Writer, c.Request, e, path, true)
	return nil, nil
}

// canServe tells why a file of an edition cannot be served; nil where it can, or where
// the edition has none of this path.
func (s *Service) canServe(e *edition.Sealed, path string) error {
	l, ok, err := e.Find(path)
	if err != nil || !ok {
		return err
	}
	f, err := s.proven.Open(l.SHA256)
	if err != nil {
		g, ok := finding.From(pool.Gone(err, path))
		if !ok {
			return err
		}
		if g.Object == "" {
			g.Object = "edition " + e.Name()
		}
		return g
	}
	defer f.Close()
	if f.Size() != l.Size {
		return finding.New(finding.EditionDamaged, "edition "+e.Name(),
			"%s has %d bytes in the pool, but had %d when the edition was sealed", path, f.Size(), l.Size)
	}
	return nil
}

func (s *Service) handleVerify(c *gin.Context, name string, n int) (any, error) {
	return s.startVerify(name, n, who(c).Name)
}

func (s *Service) handleRetire(c *gin.Context, name string, n int) (any, error) {
	return s.retire(name, n, asking(c))
}

func (s *Service) onEdition(f func(c *gin.Context, name string, n int) (any, error)) handler {
	return func(c *gin.Context) (any, error) {
		n, err := number(c, "number")
		if err != nil {
			return nil, err
		}
		return f(c, c.Param("mirror"), n)
	}
}

var errEnough = errors.New("enough")

// editionPackages reads one page of the package list; the cursor is where the
// next line begins (bytes).
func (s *Service) editionPackages(c *gin.Context, name string, n int) (any, error) {
	e, _, err := s.standing(name, n)
	if err != nil {
		return nil, err
	}
	each := func(offset int64, yield func(it edition.Item, next int64) error) error {
		if q := c.Query("q"); q != "" {
			return e.Search(q, offset, yield)
		}
		return e.ItemsFrom(offset, yield)
	}
	if as := c.Query("as"); as != "" {
		return nil, takenAway(c, as, fmt.Sprintf("%s-%d-packages", name, n),
			func(yield func(edition.Item) error) error {
				return each(0, func(it edition.Item, _ int64) error { return yield(it) })
			})
	}
	limit, cursor, err := paging(c)
	if err != nil {
		return nil, err
	}
	out := api.Page[api.Item]{Items: []api.Item{}}
	last := int64(0) // behind the last one that is on the page
	err = each(max(cursor, 0), func(it edition.Item, next int64) error {
		if len(out.Items) == limit {
			out.Next = strconv.FormatInt(last, 10)
			return errEnough
		}
		out.Items, last = append(out.Items, it), next
		return nil
	})
	if errors.Is(err, edition.ErrNoLine) {
		return nil, &api.Problem{
			Title:  "The request could not be read",
			Status: 400,
			Type:   "urn:stockade:request",
			Detail: "the cursor is not from a page of this list",
		}
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	return out, err
}

func (s *Service) startVerify(name string, number int, by string) (api.Job, error) {
	object := fmt.Sprintf("edition %s/%d", name, number)
	if _, err := s.stands(name, number); err != nil {
		return api.Job{}, err
	}
	return s.jobs.start("verify", object, by,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			s.editions.forget(name, number)
			open, err := s.editions.open(s, name, number)
			if err != nil {
				return nil, nil, err
			}
			all, total := open.Manifest.Files(), open.Manifest.Bytes()
			last := time.Time{}
			found := open.Verify(ctx.Done(),
				func(files int, bytes int64) {
					if now := time.Now(); now.Sub(last) > 100*time.Millisecond || files == all {
						last = now
						sink(upstream.Event{
							Step:       "verify",
							Files:      files,
							FilesTotal: all,
							Bytes:      bytes,
							BytesTotal: total,
							Remaining:  -1,
						})
					}
				})
			if ctx.Err() != nil {
				return nil, nil, ctx.Err()
			}
			if err := s.db.Keep("verify", open.Name(), checked{Findings: found}, s.now().UTC()); err != nil {
				return nil, nil, err
			}
			if len(found) > 0 {
				return nil, found, found
			}
			return map[string]any{"files": all, "bytes": total, "seal": "holds"}, found, nil
		})
}

func (s *Service) editionFolder(name string, number int) string {
	return filepath.Join(s.cfg.Data, "editions", name, fmt.Sprint(number))
}
