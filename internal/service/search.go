package service

import (
	"cmp"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/search"
	"stockade/internal/store"
)

// How much a search looks at, and gives.
const (
	hitsOfKind   = 8
	searchLength = 100 // bytes of a question
)

// handleSearch finds what has a text in its name: what is described, keys, editions, and the
// packages that sources offer or editions hold.
func (s *Service) handleSearch(c *gin.Context) (any, error) {
	q, err := questioned(c)
	if err != nil {
		return nil, err
	}
	q = strings.ToLower(q)
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
	found, err := s.findPackages(c.Request.Context(), m, search.Question{Text: q, Most: hitsOfKind})
	if err != nil {
		return nil, err
	}
	for _, p := range found.Items {
		f.hit("package", p.Name, whereabouts(p), "/packages?name="+url.QueryEscape(p.Name), "")
	}
	out.Unread = found.Unread.All
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

// whereabouts tells in a few words where a package is.
func whereabouts(p api.FoundPackage) string {
	var offered, in []string
	for _, v := range p.Versions {
		if v.Offered && !slices.Contains(offered, v.Source) {
			offered = append(offered, v.Source)
		}
		for _, lane := range v.Lanes {
			if !slices.Contains(in, lane) {
				in = append(in, lane)
			}
		}
	}
	var out []string
	if len(offered) > 0 {
		out = append(out, "offered by "+finding.Names(offered, 3))
	}
	if len(in) > 0 {
		out = append(out, "shown by "+finding.Names(in, 3))
	}
	if len(out) == 0 {
		out = append(out, "in "+finding.Names(p.Versions[0].Editions, 3))
	}
	return strings.Join(out, "; ")
}
