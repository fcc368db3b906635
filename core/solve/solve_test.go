package solve

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/internal/made"
	"stockade/internal/must"
)

// universe reads stanzas in a short form: "name version arch // Field: value // …",
// by source.
func universe(t testing.TB, sources []Source, lists ...string) *Universe {
	t.Helper()
	u := NewUniverse(deb.Family{}, sources)
	for i, list := range lists {
		var text strings.Builder
		for line := range strings.Lines(list) {
			line = strings.TrimSpace(line)
			if line == "" {
				continue
			}
			fields := strings.Split(line, "//")
			id := strings.Fields(fields[0])
			fmt.Fprintf(&text, "Package: %s\nVersion: %s\nArchitecture: %s\nFilename: pool/%s_%s_%s.deb\n"+
				"Size: 1\nSHA256: %064x\n", id[0], id[1], id[2], id[0], id[1], id[2], len(text.String())+1)
			for _, f := range fields[1:] {
				text.WriteString(strings.TrimSpace(f) + "\n")
			}
			text.WriteString("\n")
		}
		s := archive.Source{Name: sources[i].Name, Architectures: sources[i].Architectures}
		must.Do(t, (deb.Family{}).ReadIndex(s, archive.IndexChoice{}, strings.NewReader(text.String()),
			func(p *archive.Package, _ []byte) error {
				p.Index = i
				u.Add(i, p)
				return nil
			}))
	}
	return u
}

func want(source int, text, with string, versions int) Want {
	r, err := archive.ParseWant(text)
	if err != nil {
		panic(err)
	}
	return Want{Source: source, Relation: r, With: with, Versions: versions, As: text}
}

func names(s *Selection) string {
	var out []string
	for _, c := range s.Chosen {
		n := c.Name + "=" + c.Version
		if c.Arch != "amd64" && c.Arch != "all" {
			n += ":" + c.Arch
		}
		out = append(out, n)
	}
	slices.Sort(out)
	return strings.Join(out, " ")
}

func TestTheNamesThatAreNear(t *testing.T) {
	u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}}, `
		sluicectl 1 amd64 // Provides: sluice-tool
		sluicectl-dbg 1 amd64
		sluicect2 1 amd64
		tide-tables 1 all
		tide-table 1 all
		tide-labels 1 all
		ab 1 all`)
	for name, near := range map[string]string{
		"sluicectl":    "sluicectl sluicect2 sluicectl-dbg", // by distance; then what has it within
		"sluicctl":     "sluicectl sluicect2",
		"slucectl":     "sluicectl sluicect2",
		"tide-tabels":  "tide-labels tide-table tide-tables", // those as far away by name
		"tide":         "tide-labels tide-table tide-tables",
		"table":        "tide-table tide-tables",
		"abc":          "ab",
		"sluice-tools": "", // no package has that as its own name
		"quayside":     "",
	} {
		if got := strings.Join(u.Near(name), " "); got != near {
			t.Errorf("%s: %q", name, got)
		}
	}
	for _, c := range []struct {
		a, b string
		far  int
	}{{"", "", 0}, {"ab", "ab", 0}, {"ab", "", 2}, {"", "abcd", 4}, {"ab", "ba", 2}, {"kitten", "sitting", 3},
		{"abc", "axc", 1}, {"abcd", "bcd", 1}, {"a", "abcde", 4}, {"a", "abcdef", 99}, {"abcdef", "a", 99}} {
		if got := far(c.a, c.b); got != c.far {
			t.Errorf("%q and %q: %d", c.a, c.b, got)
		}
	}
}

// Selection out of a large universe must not grow with the square of its size:
// eight times the packages may not take much more than eight times the effort.
func TestSelectionGrowsWithItsSize(t *testing.T) {
	build := func(n int) func() {
		var list strings.Builder
		for i := range n {
			fmt.Fprintf(&list, "p%d 1 amd64 // Depends: p%d, p%d | p%d\n", i, (i+1)%n, (i*7)%n, (i*13)%n)
		}
		u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}}, list.String())
		return func() {
			if s := u.selectAll(t, []Want{{Relation: archive.Relation{Name: "*"}}}); len(s.Chosen) != n ||
				len(s.Missing) > 0 {
				t.Fatalf("%d chosen, %d missing", len(s.Chosen), len(s.Missing))
			}
		}
	}
	const small = 4000
	a, b := made.Effort(5, build(small)), made.Effort(3, build(8*small))
	// In proportion it is 8, with the square 64.
	if ratio := float64(b) / float64(a); ratio > 32 {
		t.Errorf("eight times the packages take %.1f times the effort", ratio)
	}
}

// selectAll selects with the usual limits; an error ends the test.
func (u *Universe) selectAll(t testing.TB, wants []Want) *Selection {
	t.Helper()
	s, err := u.Select(t.Context(), wants, []View{u.Everyone()}, Limits{})
	must.Do(t, err)
	return s
}
