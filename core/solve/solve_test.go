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

// Why each package is taken: the strongest reason counts, whichever comes first.
func TestReasonsOfASelection(t *testing.T) {
	one := []Source{{Name: "tarn", Priority: 20, Architectures: []string{"amd64"}}}
	for _, c := range []struct {
		list, with, want string
	}{
		{"a 1 amd64 // Depends: b // Recommends: r // Suggests: s\nb 1 amd64\nr 1 amd64 // Recommends: t\n" +
			"s 1 amd64\nt 1 amd64", "suggested", "a: wanted a; b: a; r: recommended a; s: suggested a; " +
			"t: recommended r"},
		{"a 1 amd64 // Depends: b // Recommends: r\nb 1 amd64 // Depends: r\nr 1 amd64", "recommended",
			"a: wanted a; b: a; r: b"},
		{"a 1 amd64 // Depends: b // Recommends: r\nb 1 amd64\nr 1 amd64", "required", "a: wanted a; b: a"},
	} {
		u := universe(t, one, c.list)
		s, err := u.Select(t.Context(), []Want{want(0, "a", c.with, 1)}, []View{u.Everyone()}, Limits{})
		must.Do(t, err)
		var got []string
		for _, x := range s.Chosen {
			how := x.How
			if x.Wanted {
				how = "wanted"
			}
			got = append(got, x.Name+": "+strings.TrimSpace(how+" "+x.For))
		}
		slices.Sort(got)
		if said := strings.Join(got, "; "); said != c.want {
			t.Errorf("%s\n%s\nand not\n%s", c.list, said, c.want)
		}
	}
}

func TestSelection(t *testing.T) {
	amd := []string{"amd64"}
	one := func(except ...string) []Source {
		return []Source{{Name: "tarn", Priority: 20, Architectures: amd, Except: except}}
	}
	two := []Source{{Name: "tarn", Priority: 20, Architectures: amd},
		{Name: "kelp", Priority: 40, Architectures: amd}}
	for _, c := range []struct {
		name    string
		sources []Source
		lists   []string
		wants   []Want
		chosen  string
		missing string // of the first
		because string // of the first conflict
	}{
		{"needs come along, down to the bottom", one(), []string{
			"a 1 amd64 // Depends: b\nb 1 amd64 // Depends: c\nc 1 all\nd 1 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1 c=1", "", ""},
		{"pre-dependencies too", one(), []string{"a 1 amd64 // Pre-Depends: b\nb 1 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1", "", ""},
		{"a circle", one(), []string{"a 1 amd64 // Depends: b\nb 1 amd64 // Depends: a"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1", "", ""},
		{"the newest version", one(), []string{"a 1 amd64\na 1.10 amd64\na 1.9 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1.10", "", ""},
		{"the last two versions", one(), []string{"a 1 amd64\na 1.10 amd64\na 1.9 amd64"},
			[]Want{want(0, "a", "required", 2)}, "a=1.10 a=1.9", "", ""},
		{"a bound", one(), []string{"a 1 amd64\na 2 amd64\na 3 amd64"},
			[]Want{want(0, "a < 3", "required", 1)}, "a=2", "", ""},
		{"a pattern", one(), []string{"lib-a 1 amd64\nlib-b 1 amd64\nc 1 amd64"},
			[]Want{want(0, "lib-*", "required", 1)}, "lib-a=1 lib-b=1", "", ""},
		{"the first alternative", one(), []string{"a 1 amd64 // Depends: b | c\nb 1 amd64\nc 1 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1", "", ""},
		{"the second, when the first is not there", one(), []string{"a 1 amd64 // Depends: b | c\nc 1 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1 c=1", "", ""},
		{"the second, when the first lacks what it needs further down", one(), []string{
			"a 1 amd64 // Depends: b | c\nb 1 amd64 // Depends: gone\nc 1 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1 c=1", "", ""},
		{"the one that is taken already", one(),
			[]string{"a 1 amd64 // Depends: b | c\nb 1 amd64\nc 1 amd64"},
			[]Want{want(0, "c", "required", 1), want(0, "a", "required", 1)}, "a=1 c=1", "", ""},
		{"a virtual package", one(), []string{"a 1 amd64 // Depends: bus\nb 1 amd64 // Provides: bus"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1", "", ""},
		{"a virtual package with a version", one(),
			[]string{"a 1 amd64 // Depends: bus (>= 2)\nb 1 amd64 // Provides: bus\nc 1 amd64 // " +
				"Provides: bus (= 2.1)"}, []Want{want(0, "a", "required", 1)}, "a=1 c=1", "", ""},
		{"a version that the newest does not satisfy", one(), []string{
			"a 1 amd64 // Depends: b (<< 2)\nb 1 amd64\nb 2 amd64"}, []Want{want(0, "a", "required", 1)},
			"a=1 b=1", "", ""},
		{"the better priority wins over the newer version", two, []string{
			"a 1 amd64 // Depends: b\nb 1 amd64", "b 9 amd64"}, []Want{want(0, "a", "required", 1)},
			"a=1 b=1", "", ""},
		{"another source, when the better one does not have it", two, []string{
			"a 1 amd64 // Depends: b (>= 2)\nb 1 amd64", "b 9 amd64"}, []Want{want(0, "a", "required", 1)},
			"a=1 b=9", "", ""},
		{"a name from its own source only", two, []string{"a 1 amd64", "a 9 amd64"},
			[]Want{want(1, "a", "required", 1)}, "a=9", "", ""},
		{"recommended ones, of everything taken", one(), []string{
			"a 1 amd64 // Depends: b // Recommends: r\nb 1 amd64 // Recommends: s\nr 1 amd64\ns 1 amd64"},
			[]Want{want(0, "a", "recommended", 1)}, "a=1 b=1 r=1 s=1", "", ""},
		{"recommended ones that are not there do not matter", one(),
			[]string{"a 1 amd64 // Recommends: gone"}, []Want{want(0, "a", "recommended", 1)}, "a=1", "", ""},
		{"suggested ones, of the wanted alone", one(), []string{
			"a 1 amd64 // Depends: b // Suggests: r\nb 1 amd64 // Suggests: s\nr 1 amd64\ns 1 amd64"},
			[]Want{want(0, "a", "suggested", 1)}, "a=1 b=1 r=1", "", ""},
		{"an exception", one("*-dbg"), []string{"a 1 amd64\na-dbg 1 amd64"},
			[]Want{want(0, "a*", "required", 1)}, "a=1", "", ""},
		{"an exception that is needed", one("b"), []string{"a 1 amd64 // Depends: b\nb 1 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1", "a needs b", ""},
		{"something missing", one(), []string{
			"a 1 amd64 // Depends: b\nb 1 amd64 // Depends: gone (>= 2) | lost"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1", "b needs gone >= 2 or lost", ""},
		{"an architecture qualifier", one(), []string{
			"a 1 amd64 // Depends: p:any\np 1 amd64 // Multi-Arch: allowed"},
			[]Want{want(0, "a", "required", 1)}, "a=1 p=1", "", ""},
		{"a qualifier that the package does not allow", one(), []string{
			"a 1 amd64 // Depends: p:any\np 1 amd64"}, []Want{want(0, "a", "required", 1)}, "a=1",
			"a needs p:any", ""},
		{"each architecture by itself", []Source{{Name: "tarn", Architectures: []string{"amd64", "arm64"}}},
			[]string{"a 1 amd64 // Depends: b\nb 1 amd64\na 1 arm64\nb 1 arm64"},
			[]Want{want(0, "a", "required", 1)}, "a=1 a=1:arm64 b=1", "", ""},
		{"a conflict", one(), []string{"a 1 amd64 // Depends: b, c\nb 1 amd64 // Conflicts: c\nc 1 amd64"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1 c=1", "", "b excludes c"},
		{"a conflict that an alternative avoids", one(), []string{
			"a 1 amd64 // Depends: b, c | d\nb 1 amd64 // Conflicts: c\nc 1 amd64\nd 1 amd64"},
			[]Want{want(0, "d", "required", 1), want(0, "a", "required", 1)}, "a=1 b=1 d=1", "", ""},
		{"two versions of one name", one(),
			[]string{"a 1 amd64 // Depends: b, c\nb 1 amd64 // Depends: d (= 1)\nc 1 amd64 // Depends: d " +
				"(= 2)\nd 1 amd64\nd 2 amd64"}, []Want{want(0, "a", "required", 1)}, "a=1 b=1 c=1 d=1 d=2",
			"", "only one version of d"},
		{"a package may conflict with what it provides itself", one(), []string{
			"a 1 amd64 // Depends: bus\nb 1 amd64 // Provides: bus // Conflicts: bus"},
			[]Want{want(0, "a", "required", 1)}, "a=1 b=1", "", ""},
		{"wanted ones that exclude each other may both be carried", one(), []string{
			"a 1 amd64 // Conflicts: b\nb 1 amd64"},
			[]Want{want(0, "a", "required", 1), want(0, "b", "required", 1)}, "a=1 b=1", "", ""},
		{"everything follows nothing", one(), []string{"a 1 amd64 // Depends: gone\nb 1 amd64"},
			[]Want{{Relation: archive.Relation{Name: "*"}}}, "a=1 b=1", "a needs gone", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := universe(t, c.sources, c.lists...).selectAll(t, c.wants)
			if got := names(s); got != c.chosen {
				t.Errorf("chosen %s, and %s was meant", got, c.chosen)
			}
			missing := ""
			if len(s.Missing) > 0 {
				missing = s.Missing[0].Needer.Name + " needs " + s.Missing[0].Clause.String()
			}
			if missing != c.missing {
				t.Errorf("missing %q, and %q was meant", missing, c.missing)
			}
			because := ""
			if len(s.Conflicts) > 0 {
				because = s.Conflicts[0].Because
			}
			if !strings.Contains(because, c.because) || c.because == "" && because != "" {
				t.Errorf("conflict %q, and %q was meant", because, c.because)
			}
		})
	}
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

func TestAWantThatMatchesNothingNamesWhatIsNear(t *testing.T) {
	u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}},
		"sluicectl 1 amd64\ntide-tables 2 amd64\nother 1 amd64")
	s := u.selectAll(t, []Want{want(0, "sluicectk", "required", 1),
		want(0, "tide-tables > 5", "required", 1)})
	if len(s.Unmatched) != 2 || !slices.Contains(s.Unmatched[0].Near, "sluicectl") ||
		!slices.Contains(s.Unmatched[1].Versions, "2") {
		t.Errorf("%+v", s.Unmatched)
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
