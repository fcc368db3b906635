package solve

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"go.yaml.in/yaml/v3"

	"stockade/core/archive"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

// scenario is what sources have, what is wanted of them, and who sees them.
type scenario struct {
	Name    string
	Sources []struct {
		Source   `yaml:",inline"`
		Packages string // as universe reads them
	}
	Wants  []Want
	Views  []View   // none: all machines
	Choose []string // names of which it is told which package is taken
}

// saying writes down what selections say.
type saying struct {
	strings.Builder
	u *Universe
}

func (w *saying) of(p *archive.Package, source int) string {
	if p == nil {
		return "nothing"
	}
	return p.String() + " of " + w.u.sources[source].Name
}

func (w *saying) selection(t *testing.T, s *Selection) {
	for _, c := range s.Chosen {
		fmt.Fprintf(w, "takes %s: wanted %v, for %q, %s\n", w.of(c.Package, c.Source), c.Wanted, c.For, c.How)
	}
	for _, u := range s.Unmatched {
		fmt.Fprintf(w, "nothing fits %q: near %q, versions %q, offers %v\n", u.As, u.Near, u.Versions,
			u.Offers)
	}
	for _, m := range s.Missing {
		fmt.Fprintf(w, "%s lacks %v for %q on %s: by %q, excepted %q\n", w.of(m.Needer, m.Source),
			m.Clause, m.View, m.Arch,
			m.Chain, m.Excepted)
	}
	for _, c := range s.Conflicts {
		fmt.Fprintf(w, "%s (for %q on %s, between %q)\n", c, c.View, c.Arch, c.Between)
	}
	for _, x := range s.Surpassed {
		fmt.Fprintf(w, "%q on %s have %s, and %s is newer, behind %v, held by %v for %v\n",
			x.View, x.Arch,
			w.of(x.Have, x.Source), w.of(x.Newer, x.Elsewhere), x.Behind, x.Needer, x.Clause)
	}
	for _, x := range s.Unaided {
		fmt.Fprintf(w, "%q on %s: %s needs %v, which %s meets, and %s comes first; stops %v\n", x.View,
			x.Arch,
			w.of(x.Needer, x.Source), x.Clause, x.Meets, x.First, x.Stops)
	}
	fmt.Fprintf(w, "undecided %d, unseen %d, damaged %v\n", len(s.Undecided), s.Unseen, s.Damaged)
	for _, p := range s.Proofs {
		fmt.Fprintf(w, "%s; sets %+v, rests on %q\n", p, p.Sets, p.Rests)
	}
	for _, r := range s.Refusals {
		var b bytes.Buffer
		e := json.NewEncoder(&b)
		e.SetEscapeHTML(false)
		e.SetIndent("", " ")
		must.Do(t, e.Encode(r))
		fmt.Fprintf(w, "refused: %s", b.String())
	}
}

func (w *saying) scenario(t *testing.T, c scenario) {
	var sources []Source
	var lists []string
	for _, s := range c.Sources {
		sources, lists = append(sources, s.Source), append(lists, s.Packages)
	}
	w.u = universe(t, sources, lists...)
	if len(c.Views) == 0 {
		c.Views = []View{w.u.Everyone()}
	}
	s, err := w.u.Select(t.Context(), c.Wants, c.Views, Limits{})
	must.Do(t, err)
	w.selection(t, s)
	for _, v := range c.Views {
		ways := Ways{View: v, Taken: func(p *archive.Package) bool {
			return slices.ContainsFunc(s.Chosen, func(c Chosen) bool { return c.Package == p })
		}}
		for i, src := range sources {
			if src.Outside && !src.Installed && !slices.Contains(v.Sources, i) {
				ways.Spare = append(ways.Spare, i)
			}
		}
		for _, r := range s.Refusals {
			if r.View == v.Name {
				for _, way := range w.u.WaysOut(t.Context(), r, ways) {
					fmt.Fprintf(w, "a way out of %s on %s: %s; takes %q, %d files, %d bytes\n", r.Wanted,
						r.Arch,
						way.Amendment, way.Packages, way.Files, way.Bytes)
				}
			}
		}
		for _, arch := range v.Architectures {
			for _, c := range s.Chosen {
				if !w.u.Sees(v, arch, c) {
					fmt.Fprintf(w, "%q on %s do not see %s\n", v.Name, arch, w.of(c.Package, c.Source))
				}
			}
			for _, m := range s.Missing {
				for i := range sources {
					m.Arch, m.On = arch, arch
					if what, always := w.u.Meets(m, i); what != "" {
						fmt.Fprintf(w, "%s has %s for %v on %s, always there %v\n", sources[i].Name,
							what, m.Clause, arch, always)
					}
				}
			}
		}
		rivalry, err := w.u.Rivalry(t.Context(), v)
		must.Do(t, err)
		for _, r := range rivalry.Rivals {
			fmt.Fprintf(w, "%q on %s take %d of source %d where %d has them too: %s, not %s\n", v.Name,
				r.Arch, r.Names,
				r.Taken, r.Of, r.First, r.Instead)
		}
		for _, i := range slices.Sorted(maps.Keys(rivalry.Never)) {
			fmt.Fprintf(w, "%q take none of the %d of source %d\n", v.Name, rivalry.Never[i], i)
		}
		for _, x := range w.u.Behind(t.Context(), v) {
			fmt.Fprintf(w, "%q on %s stay at %s, behind which waits %s\n", v.Name, x.Arch, x.Pinned,
				w.of(x.Newer, x.Source))
		}
		for _, name := range c.Choose {
			for _, arch := range v.Architectures {
				for _, o := range w.u.Choose(t.Context(), v, arch, name).Offers {
					fmt.Fprintf(w, "%q on %s, %s: taken %v, %s\n", v.Name, arch,
						w.of(o.Package, o.Source), o.Taken, o.Why)
				}
			}
		}
	}
}

// Scenarios, and all that is said of them: testdata holds both.
func TestWhatIsSaidOfScenarios(t *testing.T) {
	files, err := filepath.Glob("testdata/*.yaml")
	must.Do(t, err)
	scenarios := 0
	for _, file := range files {
		w := &saying{}
		docs := yaml.NewDecoder(strings.NewReader(must.Read(t, file)))
		for {
			var c scenario
			err := docs.Decode(&c)
			if errors.Is(err, io.EOF) {
				break
			}
			must.Do(t, err)
			fmt.Fprintf(w, "# %s\n", c.Name)
			w.scenario(t, c)
			scenarios++
		}
		kept.Same(t, strings.TrimSuffix(filepath.Base(file), ".yaml")+".txt", w.String())
	}
	if scenarios < 35 {
		t.Errorf("%d scenarios", scenarios)
	}
}
