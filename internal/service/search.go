package service

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

// How much a search looks at, and gives.
const (
	hitsOfKind   = 8
	searchTime   = 400 * time.Millisecond // for the packages of editions; what was not looked at is said
	searchLeast  = 2                      // characters before packages are looked at
	searchLength = 100                    // characters of a question
)

// handleSearch finds what has a text in its name: what is described, keys, editions, and the
// packages of the editions that lanes show.
func (s *Service) handleSearch(c *gin.Context) (any, error) {
	q := strings.ToLower(strings.TrimSpace(c.Query("q")))
	if len(q) > searchLength {
		return nil, badQuery("q", q[:20]+"…", "it is longer than a name can be")
	}
	out := api.Found{Hits: []api.Hit{}}
	if q == "" {
		return out, nil
	}
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	t, set := m.trusted, m.set
	f := finder{q: q, out: &out, of: map[string]int{}}
	for _, kind := range []struct{ kind, to string }{{"source", "/sources/"}, {"mirror", "/mirrors/"},
		{"lane", "/lanes?mirror="}, {"group", "/machines?group="}, {"credential", "/credentials?"},
		{"proxy", "/credentials?"}, {"key", ""}, {"list", "/describe?edit=list/"}} {
		for _, name := range set.Names(kind.kind) {
			to := kind.to + url.PathEscape(name)
			text := ""
			switch kind.kind {
			case "lane":
				to, text = kind.to+set.Lanes[name].Mirror, "shows editions of "+set.Lanes[name].Mirror
			case "group":
				text = "follows " + set.Groups[name].Lane
			case "source":
				text = set.Sources[name].Standing + ", " + set.Sources[name].Family
			case "key":
				all := set.Keys[name].All()
				if len(all) == 0 {
					continue
				}
				to, text = "/keys/"+all[0], all[0]
			}
			f.hit(kind.kind, name, text, to, name)
		}
	}
	spaceless := strings.ReplaceAll(q, " ", "")
	for _, fingerprint := range slices.Sorted(maps.Keys(t.certificates)) {
		ids := strings.Join(t.certificates[fingerprint].UserIDs, ", ")
		if len(spaceless) >= 4 && strings.Contains(strings.ToLower(fingerprint), spaceless) ||
			strings.Contains(strings.ToLower(ids), q) {
			f.hit("certificate", cmp.Or(ids, fingerprint), fingerprint, "/keys/"+fingerprint, "")
		}
	}
	machines, _, err := s.db.Machines(store.Asked{Text: q}, 0, hitsOfKind)
	if err != nil {
		return nil, err
	}
	for _, m := range machines {
		f.hit("machine", m.Name, "of "+m.Group, "/machines/"+m.Name, "")
	}
	editions := m.editionsOf("")
	for _, e := range editions {
		text := fmt.Sprintf("%d packages", e.Packages)
		if len(e.Lanes) > 0 {
			text += ", shown by " + strings.Join(e.Lanes, ", ")
		}
		f.hit("edition", e.Name, text, "/editions/"+e.Name, e.Name)
	}
	if len(q) >= searchLeast {
		if err := s.findPackages(&f, editions); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// finder gathers hits, so many of a kind, those first whose name begins with the text.
type finder struct {
	q   string
	out *api.Found
	of  map[string]int
}

// hit takes something whose name has the text; in is the name that is looked into, or empty
// where that was done.
func (f *finder) hit(kind, name, text, to, in string) {
	if in != "" && !strings.Contains(strings.ToLower(in), f.q) {
		return
	}
	if f.of[kind]++; f.of[kind] <= hitsOfKind {
		f.out.Hits = append(f.out.Hits, api.Hit{Kind: kind, Name: name, Text: text, To: to})
	}
}

// findPackages looks into the editions that lanes show, each list once.
func (s *Service) findPackages(f *finder, editions []api.Edition) error {
	began := time.Now()
	where := map[string][]string{} // by name of the package: editions
	var names []string
	for _, e := range editions {
		if len(e.Lanes) == 0 {
			continue
		}
		if time.Since(began) > searchTime {
			f.out.Unread = append(f.out.Unread, e.Name)
			continue
		}
		open, err := s.editions.open(s, e.Mirror, e.Number)
		if err != nil {
			f.out.Unread = append(f.out.Unread, e.Name) // what is wrong with it is told elsewhere
			continue
		}
		err = open.Search(f.q, 0, func(it edition.Item, _ int64) error {
			if !strings.Contains(strings.ToLower(it.Name), f.q) {
				return nil
			}
			if _, ok := where[it.Name]; !ok {
				names = append(names, it.Name)
			}
			if in := where[it.Name]; !slices.Contains(in, e.Name) {
				where[it.Name] = append(in, e.Name)
			}
			if len(names) > 10*hitsOfKind {
				return errEnough
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			f.out.Unread = append(f.out.Unread, e.Name)
		}
	}
	slices.SortStableFunc(names, func(a, b string) int {
		first := func(n string) int {
			switch low := strings.ToLower(n); {
			case low == f.q:
				return 0
			case strings.HasPrefix(low, f.q):
				return 1
			}
			return 2
		}
		return cmp.Or(cmp.Compare(first(a), first(b)), cmp.Compare(a, b))
	})
	for _, name := range names {
		in := where[name]
		f.hit("package", name, "in "+finding.Names(in, 3), "/editions/"+in[0]+"?q="+url.QueryEscape(name), "")
	}
	return nil
}
