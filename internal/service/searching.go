package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/gin-gonic/gin"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/search"
	"stockade/internal/store"
)

// searching is the search index with what it lacks. It is filled in the background, from what was accepted
// and from editions, and answers are as of then.
type searching struct {
	index  *search.Index
	nudged chan struct{} // holds one
	// damaged tells that a question could not be answered: the index is made anew. It is written without
	// waiting for the disk, so a machine that stops can leave it so.
	damaged atomic.Bool
	mu      sync.Mutex
	unread  map[string]string // why what was found of an object is not in the index, by object
}

// searched are the parts of the records that say which lists there are.
var searched = []store.Part{"kepts", "editions", "decisions", store.RecordRows}

// nudge has the index brought up to date.
func (x *searching) nudge() {
	select {
	case x.nudged <- struct{}{}:
	default:
	}
}

func (s *Service) openIndex() (err error) {
	s.searching.index, err = search.Open(filepath.Join(s.cfg.Data, "search.db"))
	return err
}

// fillIndex keeps the search index up to date until ctx ends.
func (s *Service) fillIndex(ctx context.Context) {
	for {
		if err := s.bringIndexUp(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("the search index could not be updated", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-s.searching.nudged:
		}
	}
}

// listed is a list that the index should have, and how it is read.
type listed struct {
	search.List
	read func(yield func(search.Package) error) error
}

// bringIndexUp reads into the index what it lacks, and takes out of it what is no more.
func (s *Service) bringIndexUp(ctx context.Context) error {
	unused, err := s.searching.index.Unused()
	if s.searching.damaged.Swap(false) || err != nil || unused {
		if err := s.searching.index.Clear(); err != nil {
			return err
		}
	}
	m, err := s.model()
	if err != nil {
		return err
	}
	unread := map[string]string{}
	wanted := s.listsOfSources(m, unread)
	there := map[string]bool{} // sources and editions that exist
	for _, l := range wanted {
		there[objectOf(l.List)] = true
	}
	has := map[string]search.List{} // the lists that the index has, the newest of each source
	for _, l := range s.searching.index.Lists() {
		has[objectOf(l)] = l
	}
	for _, name := range slices.Sorted(maps.Keys(m.editions)) {
		for _, e := range slices.Backward(m.editions[name]) {
			l := listed{List: search.List{Kind: search.OfEdition, Name: name, Number: e.Number,
				Made: e.Created.Unix()}}
			there[objectOf(l.List)] = true
			if has[objectOf(l.List)].Made != l.Made {
				wanted = append(wanted, l)
			}
		}
	}
	for _, l := range wanted {
		if l.Kind == search.OfEdition || has[objectOf(l.List)].Digest != l.Digest {
			unread[objectOf(l.List)] = "not in the search index yet"
		}
	}
	s.searching.tell(unread)
	if err := s.searching.index.Drop(func(l search.List) bool { return !there[objectOf(l)] }); err != nil {
		return err
	}
	for _, l := range wanted {
		if _, lacks := unread[objectOf(l.List)]; !lacks {
			continue
		}
		err := s.inBackground(ctx, func() error { return s.intoIndex(ctx, l) })
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil {
			unread[objectOf(l.List)] = "it could not be read: " + err.Error()
		} else {
			delete(unread, objectOf(l.List))
		}
		s.searching.tell(unread)
		s.live.change(api.OfSearch)
	}
	return nil
}

// tell keeps what the index lacks, for those who ask.
func (x *searching) tell(unread map[string]string) {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.unread = maps.Clone(unread)
}

// lacks gives what the index lacks.
func (x *searching) lacks() api.Some[api.NotIndexed] {
	x.mu.Lock()
	defer x.mu.Unlock()
	out := api.Some[api.NotIndexed]{Items: []api.NotIndexed{}, All: len(x.unread)}
	for _, object := range slices.Sorted(maps.Keys(x.unread))[:min(len(x.unread), unreadShown)] {
		out.Items = append(out.Items, api.NotIndexed{Object: object, Why: x.unread[object]})
	}
	return out
}

// objectOf names what a list is of, as findings do.
func objectOf(l search.List) string {
	if l.Kind == search.OfSource {
		return "source " + l.Name
	}
	return "edition " + editionName(l)
}

func editionName(l search.List) string { return l.Name + "/" + strconv.Itoa(l.Number) }

// listsOfSources gives the lists of what was accepted of enabled sources. Of which there is none, unread
// says why.
func (s *Service) listsOfSources(m *model, unread map[string]string) (out []listed) {
	for _, name := range slices.Sorted(maps.Keys(m.set.Sources)) {
		switch src := m.set.Sources[name]; {
		case src.Disabled:
			continue
		case src.Managed():
			out = append(out, listOfHouse(m.set, name))
			continue
		}
		src, err := s.source(m.set, m.trusted, name)
		if err == nil && src.Accepted == nil {
			err = finding.New(finding.SourceRootMissing, "source "+name, "it was never refreshed")
		}
		if err != nil {
			unread["source "+name] = reason(err)
			continue
		}
		spec, err := json.Marshal(src.Spec) // which lists it has depends on what is described, too
		if err != nil {
			unread["source "+name] = err.Error()
			continue
		}
		out = append(out, listed{List: search.List{Kind: search.OfSource, Name: name,
			Digest: fmt.Sprintf("%s %x", src.Accepted.Digest, sha256.Sum256(spec))},
			read: func(yield func(search.Package) error) error { return s.readAccepted(src, yield) }})
	}
	return out
}

// listOfHouse gives the list of a house source, which is a record. What is said of its packages is known
// once an edition holds them.
func listOfHouse(set *definition.Set, name string) listed {
	ids := set.HousePackages(name)
	h := sha256.New()
	for _, id := range ids {
		p := set.Packages[id]
		fmt.Fprintf(h, "%q %q %q %s\n", p.Name, p.Version, p.Architecture, p.SHA256)
	}
	return listed{List: search.List{Kind: search.OfSource, Name: name,
		Digest: fmt.Sprintf("house %x", h.Sum(nil))},
		read: func(yield func(search.Package) error) error {
			for _, id := range ids {
				p := set.Packages[id]
				if err := yield(search.Package{Source: name, Name: p.Name, Version: p.Version,
					Arch: p.Architecture, Digest: p.SHA256, Size: int64(p.Size)}); err != nil {
					return err
				}
			}
			return nil
		}}
}

// reason is an error as one sentence beside its object.
func reason(err error) string {
	if f, ok := finding.From(err); ok {
		return f.Text
	}
	return err.Error()
}

// readAccepted yields the packages of what was accepted of a source.
func (s *Service) readAccepted(src *upstream.Source, yield func(search.Package) error) error {
	b := s.reader(nil)
	lists, missing, err := b.AcceptedLists(src)
	if err != nil {
		return err
	}
	if len(missing) > 0 {
		return finding.New(finding.ContentMissing, "source "+src.Name, "its index %s is not in "+
			"the pool",
			missing[0]).Do("run stockade source refresh %s", src.Name)
	}
	for _, n := range slices.Sorted(maps.Keys(lists)) {
		if err := b.Read(src, n, lists[n], func(p *archive.Package, _ []byte) error {
			provides := make([]string, 0, len(p.Provides))
			for _, v := range p.Provides {
				provides = append(provides, v.Name)
			}
			return yield(search.Package{Source: src.Name, Name: p.Name, Version: p.Version, Arch: p.Arch,
				Digest: cmp.Or(p.SHA256, p.SHA512), Size: p.Size, Text: search.Text{Summary: p.Summary,
					Section: p.Section, Origin: p.Origin, Licence: p.Licence, Provides: provides}})
		}); err != nil {
			return err
		}
	}
	return nil
}

// intoIndex reads one list into the index.
func (s *Service) intoIndex(ctx context.Context, l listed) error {
	release, err := s.sweeping.use(ctx)
	if err != nil {
		return err
	}
	defer release()
	if l.Kind == search.OfEdition {
		e, err := s.openEdition(l.Name, l.Number) // beside the editions that are kept open for machines
		if err != nil {
			return err
		}
		l.Digest = e.ListDigest()
		l.read = func(yield func(search.Package) error) error {
			return e.Items(func(it edition.Item) error {
				return yield(search.Package{Source: it.Source, Name: it.Name, Version: it.Version,
					Arch: it.Arch, Digest: cmp.Or(it.SHA512, it.SHA256), Size: it.Size,
					Text: search.Text{Summary: it.Summary, Origin: it.Origin, Licence: it.Licence}})
			})
		}
	}
	return s.searching.index.Put(ctx, l.List, l.read)
}

// How much one question for packages gives.
const (
	foundUsual, foundMost = 50, 200
	editionsShown         = 20 // of one version
	unreadShown           = 20 // of what the index lacks
)

// handleFindPackages finds packages by parts of their names and by what is said of them.
func (s *Service) handleFindPackages(c *gin.Context) (any, error) {
	q, err := questioned(c)
	if err != nil {
		return nil, err
	}
	most, err := queried(c, "limit", foundUsual)
	if err != nil {
		return nil, err
	}
	if most == 0 {
		return nil, badQuery("limit", "0", "at least one word is needed")
	}
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	asked, err := m.narrowed(c)
	if err != nil {
		return nil, err
	}
	asked.Text, asked.Most = q, int(min(most, foundMost))
	return s.findPackages(c.Request.Context(), m, asked)
}

// questioned reads what is looked for.
func questioned(c *gin.Context) (string, error) {
	q := strings.TrimSpace(c.Query("q"))
	if len(q) > searchLength {
		return "", badQuery("q", finding.Harmless(q[:20])+"…", "it is longer than a name can be")
	}
	return q, nil
}

// narrowed makes a question of the filters of a call.
func (m *model) narrowed(c *gin.Context) (q search.Question, err error) {
	source, family, standing := c.Query("source"), c.Query("family"), c.Query("standing")
	arch, in, lane := c.Query("arch"), c.Query("edition"), c.Query("lane")
	if _, ok := m.set.Sources[source]; source != "" && !ok {
		return q, dangling("", "source", source, m.set.Sources)
	}
	if family != "" && !slices.Contains(families.All.Names(), family) {
		return q, badQuery("family", family, "the families are "+strings.Join(families.All.Names(), ", "))
	}
	if standing != "" && !slices.Contains(definition.Standings, standing) {
		return q, badQuery("standing", standing, "allowed are "+strings.Join(definition.Standings, ", "))
	}
	if in != "" {
		id, err := edition.ParseID(in, "")
		if err != nil || !m.edition(id.Mirror, id.Number) {
			return q, badQuery("edition", in, "this edition does not exist")
		}
	}
	if _, ok := m.set.Lanes[lane]; lane != "" && !ok {
		return q, dangling("", "lane", lane, m.set.Lanes)
	}
	if in != "" || lane != "" {
		q.Within = func(l search.List) bool {
			return l.Kind == search.OfEdition && (in == "" || editionName(l) == in) &&
				(lane == "" || slices.Contains(m.shown[editionName(l)], lane))
		}
	}
	q.Fits = func(p search.Package) bool {
		of := m.set.Sources[p.Source]
		return (source == "" || p.Source == source) && (arch == "" || p.Arch == arch) &&
			(family == "" || of.Family == family) && (standing == "" || of.Standing == standing)
	}
	return q, nil
}

// counts tells whether a list of the index is of a source that is enabled, or of an edition that exists.
func (m *model) counts(l search.List) bool {
	if l.Kind == search.OfEdition {
		return m.edition(l.Name, l.Number)
	}
	src, described := m.set.Sources[l.Name]
	return described && !src.Disabled
}

// findPackages asks the index. A package that its source offered once, and no edition has, is not found.
func (s *Service) findPackages(ctx context.Context, m *model, q search.Question) (api.FoundPackages, error) {
	out := api.FoundPackages{Items: []api.FoundPackage{}, Unread: s.searching.lacks()}
	newest := map[string]int{}
	for _, l := range s.searching.index.Lists() {
		if l.Kind == search.OfSource {
			newest[l.Name] = max(newest[l.Name], l.Number)
		}
	}
	q.Counts = func(l search.List) bool {
		return (l.Kind != search.OfSource || l.Number == newest[l.Name]) && m.counts(l)
	}
	hits, more, err := s.searching.index.Find(ctx, q)
	if err != nil {
		if ctx.Err() == nil {
			s.searching.damaged.Store(true)
			s.searching.nudge()
			err = finding.New(finding.FaultCode, "search",
				"the search index cannot be read (%v). Stockade is creating it again",
				err).Do("search again in a moment")
		}
		return out, err
	}
	out.More = more
	for _, h := range hits {
		out.Items = append(out.Items, m.foundPackage(h))
	}
	if len(hits) > 0 || q.Text == "" {
		return out, nil
	}
	near, err := s.searching.index.Near(ctx, q.Text)
	if err != nil || near == "" {
		return out, err
	}
	q.Text, q.Most = near, 1 // one that is in no list which counts is no help
	if hits, _, err = s.searching.index.Find(ctx, q); err == nil && len(hits) > 0 && hits[0].Name == near {
		out.Near = near
	}
	return out, err
}

var matches = map[search.Match]string{search.Exact: "exact", search.Begins: "begins",
	search.Contains: "contains", search.Said: "said"}

func (m *model) foundPackage(h search.Hit) api.FoundPackage {
	out := api.FoundPackage{Name: h.Name, Match: matches[h.Match], Versions: []api.FoundVersion{}}
	byPriority := func(a, b search.Held) int {
		x, y := m.set.Sources[a.Source], m.set.Sources[b.Source]
		if x.Family != y.Family || x.Family == "" {
			return cmp.Or(strings.Compare(a.Source, b.Source), strings.Compare(b.Version, a.Version))
		}
		newer := strings.Compare(b.Version, a.Version)
		if f := families.All[x.Family]; f != nil {
			newer = f.CompareVersions(b.Version, a.Version)
		}
		return cmp.Or(cmp.Compare(x.Priority, y.Priority), strings.Compare(a.Source, b.Source), newer,
			strings.Compare(a.Arch, b.Arch))
	}
	slices.SortStableFunc(h.Packages, byPriority)
	newest := map[[2]string]bool{} // of a source, for an architecture: it is there
	none := true
	for _, p := range h.Packages {
		v := api.FoundVersion{Source: p.Source, Version: p.Version, Arch: p.Arch, Size: p.Size,
			Editions: []string{}, Lanes: []string{}}
		for _, l := range slices.Backward(p.In) {
			if l.Kind == search.OfSource {
				v.Offered = true
				continue
			}
			name := editionName(l)
			if len(v.Editions) < editionsShown {
				v.Editions = append(v.Editions, name)
			}
			v.Lanes = append(v.Lanes, m.shown[name]...)
		}
		slices.Sort(v.Lanes)
		of := [2]string{v.Source, v.Arch}
		v.Main = v.Offered && !newest[of] || len(v.Lanes) > 0
		newest[of] = newest[of] || v.Offered
		none = none && !v.Main
		out.Versions = append(out.Versions, v)
		out.Summary, out.Section = cmp.Or(out.Summary, p.Summary), cmp.Or(out.Section, p.Section)
		out.Origin, out.Licence = cmp.Or(out.Origin, p.Origin), cmp.Or(out.Licence, p.Licence)
	}
	for i := range out.Versions {
		out.Versions[i].Main = out.Versions[i].Main || none
	}
	return out
}
