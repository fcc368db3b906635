package solve

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/internal/must"
)

// surpassed in a short form: "openssl 3.0.20 < 3.0.22 in 1", with "behind" where
// the priority is what keeps machines from it.
func surpassedIn(s *Selection) string {
	var out []string
	for _, x := range s.Surpassed {
		text := fmt.Sprintf("%s %s < %s in %d", x.Have.Name, x.Have.Version, x.Newer.Version, x.Elsewhere)
		if x.Behind {
			text += " behind"
		}
		out = append(out, text)
	}
	return strings.Join(out, "; ")
}

// Base, updates and security of one distribution, as everybody has them.
func TestAWantOverAllSourcesTakesWhatMachinesWould(t *testing.T) {
	amd := []string{"amd64"}
	sources := []Source{{Name: "tarn", Priority: 20, Architectures: amd},
		{Name: "tarn-fixes", Priority: 20, Architectures: amd},
		{Name: "kelp", Priority: 40, Architectures: amd}}
	base := "ssl 3.0.20 amd64 // Depends: libc\nlibc 2.36 amd64\neditor 9 amd64"
	fixes := "ssl 3.0.22 amd64 // Depends: libc"
	vendor := "ssl 4.0 amd64\ndrive 7 amd64 // Depends: ssl"
	for _, c := range []struct {
		name      string
		wants     []Want
		chosen    string
		surpassed string
		unmatched int
	}{
		{"over all sources: the best priority, and among equals the newest",
			[]Want{want(AllSources, "ssl", "required", 1)},
			"libc=2.36 ssl=3.0.22", "ssl 3.0.22 < 4.0 in 2 behind", 0},
		{"over all sources, the newest two", []Want{want(AllSources, "ssl", "required", 2)},
			"libc=2.36 ssl=3.0.20 ssl=3.0.22", "ssl 3.0.22 < 4.0 in 2 behind", 0},
		{"a pattern over all sources", []Want{want(AllSources, "*", "required", 1)},
			"drive=7 editor=9 libc=2.36 ssl=3.0.22", "ssl 3.0.22 < 4.0 in 2 behind", 0},
		{"at the base alone: what is left out is told", []Want{want(0, "ssl", "required", 1)},
			"libc=2.36 ssl=3.0.20", "ssl 3.0.20 < 3.0.22 in 1", 0},
		{"at the base on purpose", []Want{{Source: 0, Relation: archive.Relation{Name: "ssl"},
			With: "required", Versions: 1, Only: true}}, "libc=2.36 ssl=3.0.20", "", 0},
		{"a bound that means an older one", []Want{want(AllSources, "ssl < 3.0.21", "required", 1)},
			"libc=2.36 ssl=3.0.20", "", 0},
		{"a bound that only a worse priority meets", []Want{want(AllSources, "ssl >= 4", "required", 1)}, "",
			"", 1},
		{"a need is met from the best priority too", []Want{want(2, "drive", "required", 1)},
			"drive=7 libc=2.36 ssl=3.0.22", "ssl 3.0.22 < 4.0 in 2 behind", 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := universe(t, sources, base, fixes, vendor).selectAll(t, c.wants)
			if got := names(s); got != c.chosen {
				t.Errorf("chosen: %s", got)
			}
			if got := surpassedIn(s); got != c.surpassed {
				t.Errorf("newer elsewhere: %s", got)
			}
			if len(s.Unmatched) != c.unmatched {
				t.Errorf("unmatched: %v", s.Unmatched)
			}
			if c.unmatched > 0 && !slices.Contains(s.Unmatched[0].Offers, Offered{2, "4.0"}) {
				t.Errorf("what there is: %v", s.Unmatched[0].Offers)
			}
		})
	}
}

// What one group cannot see does not help it, though it stands in the mirror.
func TestEachViewIsProvedByItself(t *testing.T) {
	amd := []string{"amd64"}
	sources := []Source{{Name: "tarn", Priority: 20, Architectures: amd},
		{Name: "tarn-fixes", Priority: 20, Architectures: amd}}
	u := universe(t, sources,
		"ctl 1 amd64 // Depends: lib (>= 2)\ntables 1 amd64\ntables 2 amd64 // Depends: lib (>= 2)",
		"lib 2 amd64")
	wants := []Want{want(AllSources, "ctl", "required", 1), want(AllSources, "tables", "required", 1)}
	pin, err := archive.ParseWant("tables = 1")
	must.Do(t, err)
	s, err := u.Select(t.Context(), wants, []View{
		{Name: "the group whole", Architectures: amd, Sources: []int{0, 1}},
		{Name: "the group base", Architectures: amd, Sources: []int{0}},
		{Name: "the group base with its pins", Architectures: amd, Sources: []int{0},
			Pins: []archive.Relation{pin}, Wants: []int{1}},
	}, Limits{})
	must.Do(t, err)
	if got := names(s); got != "ctl=1 lib=2 tables=1 tables=2" {
		t.Errorf("chosen: %s", got)
	}
	var proofs, missing []string
	for _, p := range s.Proofs {
		proofs = append(proofs, fmt.Sprintf("%s %d/%d", p.View, p.Proved, p.Wanted))
	}
	for _, m := range s.Missing {
		missing = append(missing, m.View+" "+m.Needer.Name)
	}
	if got := strings.Join(proofs, "; "); got !=
		"the group whole 2/2; the group base 0/2; the group base with its pins 1/1" {
		t.Errorf("proved: %s", got)
	}
	if got := strings.Join(missing, "; "); got != "the group base ctl; the group base tables" {
		t.Errorf("missing: %s", got)
	}
}

// The best of what meets a need conflicts, and something else would do.
func TestAnotherCandidateIsFoundWhenTheBestConflicts(t *testing.T) {
	one := []Source{{Name: "tarn", Priority: 20, Architectures: []string{"amd64"}}}
	for _, c := range []struct{ name, list, want, chosen string }{
		{"another package that provides it",
			"ctl 1 amd64 // Depends: bus // Conflicts: net\nnet 1 amd64 // Provides: bus\nserial 1 amd64 " +
				"// Provides: bus", "ctl", "ctl=1 net=1 serial=1"},
		{"another alternative",
			"ctl 1 amd64 // Depends: net | serial // Conflicts: net\nnet 1 amd64\nserial 1 amd64", "ctl",
			"ctl=1 net=1 serial=1"},
		{"an older version", "ctl 1 amd64 // Depends: lib, panel\npanel 1 amd64 // Conflicts: lib (>= 2)\n" +
			"lib 1 amd64\nlib 2 amd64", "ctl", "ctl=1 lib=1 lib=2 panel=1"},
		{"further down", "ctl 1 amd64 // Depends: mid, panel\nmid 1 amd64 // Depends: lib\npanel 1 amd64 " +
			"// Conflicts: lib (>= 2)\nlib 1 amd64 // Depends: data\nlib 2 amd64\ndata 1 amd64", "ctl",
			"ctl=1 data=1 lib=1 lib=2 mid=1 panel=1"},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := universe(t, one, c.list).selectAll(t, []Want{want(0, c.want, "required", 1)})
			if len(s.Conflicts) > 0 {
				t.Fatal(s.Conflicts[0])
			}
			if got := names(s); got != c.chosen {
				t.Errorf("chosen: %s", got)
			}
			if p := s.Proofs[0]; p.Proved != 1 || p.Wanted != 1 {
				t.Errorf("proof: %v", p)
			}
		})
	}
	t.Run("and where nothing would do, it is told", func(t *testing.T) {
		s := universe(t, one,
			"ctl 1 amd64 // Depends: bus // Conflicts: bus\nnet 1 amd64 // Provides: bus").selectAll(t,
			[]Want{want(0, "ctl", "required", 1)})
		if len(s.Conflicts) != 1 || s.Proofs[0].Proved != 0 {
			t.Errorf("conflicts: %v, proof: %v", s.Conflicts, s.Proofs)
		}
	})
	t.Run("and where looking for it would cost too much, it is not known", func(t *testing.T) {
		u := universe(t, one, "ctl 1 amd64 // Depends: bus // Conflicts: net\nnet 1 amd64 // Provides: bus\n"+
			"serial 1 amd64 // Provides: bus")
		v := u.Everyone()
		v.Hides = func(*archive.Package) bool {
			u.count = -workBase // nothing is left for a second search; the first has its part already
			return false
		}
		s, err := u.Select(t.Context(), []Want{want(0, "ctl", "required", 1)}, []View{v}, Limits{})
		if err != nil || len(s.Conflicts) != 0 || len(s.Undecided) != 1 || s.Proofs[0].Proved != 0 ||
			!strings.Contains(s.Undecided[0].Because, "out of proportion") {
			t.Errorf("%v conflicts: %v, undecided: %v", err, s.Conflicts, s.Undecided)
		}
	})
}

// Machines that have turned on a second architecture: what is foreign meets needs
// from the other, what may be for several lies side by side in one version, and
// conflicts are about packages of both.
func TestSeveralArchitecturesOnOneMachine(t *testing.T) {
	both := []Source{{Name: "tarn", Priority: 20, Architectures: []string{"amd64", "i386"}}}
	for _, c := range []struct {
		name, list, want string
		foreign          []string
		chosen           string
		problem          string // of a missing need or a conflict
	}{
		{"a need of a foreign package is met in its own architecture",
			"plot 1 i386 // Depends: lib\nlib 1 amd64\nlib 1 i386", "plot", []string{"i386"},
			"lib=1:i386 plot=1:i386", ""},
		{"without that architecture there is no such package",
			"ctl 1 amd64 // Depends: plot:i386\nplot 1 i386", "ctl", nil, "ctl=1", "ctl needs plot:i386"},
		{"a need that names the architecture",
			"ctl 1 amd64 // Depends: plot:i386\nplot 1 i386 // Depends: lib\nlib 1 i386", "ctl", []string{
				"i386"}, "ctl=1 lib=1:i386 plot=1:i386", ""},
		{"a foreign tool meets needs of any architecture",
			"plot 1 i386 // Depends: tool\ntool 1 amd64 // Multi-Arch: foreign", "plot", []string{"i386"},
			"plot=1:i386 tool=1", ""},
		{"one that does not say so meets none of another", "plot 1 i386 // Depends: tool\ntool 1 amd64",
			"plot", []string{"i386"}, "plot=1:i386", "plot needs tool"},
		{"the same library side by side",
			"ctl 1 amd64 // Depends: lib, plot:i386\nplot 1 i386 // Depends: lib\nlib 1 amd64 // " +
				"Multi-Arch: same\nlib 1 i386 // Multi-Arch: same", "ctl", []string{"i386"},
			"ctl=1 lib=1 lib=1:i386 plot=1:i386", ""},
		{"but not in two versions",
			"ctl 1 amd64 // Depends: lib, plot:i386\nplot 1 i386 // Depends: lib\nlib 1 amd64 // " +
				"Multi-Arch: same\nlib 2 i386 // Multi-Arch: same", "ctl", []string{"i386"},
			"ctl=1 lib=1 lib=2:i386 plot=1:i386", "only one version of lib"},
		{"nor where it does not say that it may",
			"ctl 1 amd64 // Depends: lib, plot:i386\nplot 1 i386 // Depends: lib\nlib 1 amd64\nlib 1 i386",
			"ctl", []string{"i386"}, "ctl=1 lib=1 lib=1:i386 plot=1:i386", "only one version of lib"},
		{"a conflict is about packages of both",
			"ctl 1 amd64 // Depends: plot:i386 // Conflicts: lib\nplot 1 i386 // Depends: lib\nlib 1 i386",
			"ctl", []string{"i386"}, "ctl=1 lib=1:i386 plot=1:i386", "ctl excludes lib"},
		{"unless it names the architecture",
			"ctl 1 amd64 // Depends: plot:i386 // Conflicts: lib:amd64\nplot 1 i386 // Depends: lib\n" +
				"lib 1 i386", "ctl", []string{"i386"}, "ctl=1 lib=1:i386 plot=1:i386", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			u := universe(t, both, c.list)
			s, err := u.Select(t.Context(), []Want{want(0, c.want, "required", 1)},
				[]View{{Name: "the group lab", Architectures: []string{"amd64"}, Foreign: c.foreign}},
				Limits{})
			must.Do(t, err)
			if got := names(s); got != c.chosen {
				t.Errorf("chosen: %s", got)
			}
			var problem string
			for _, m := range s.Missing {
				problem += m.Needer.Name + " needs " + m.Clause.String() + " "
			}
			for _, x := range s.Conflicts {
				problem += x.String()
			}
			if c.problem == "" && problem != "" || !strings.Contains(problem, c.problem) {
				t.Errorf("found: %s", problem)
			}
			if proved := s.Proofs[0].Proved == s.Proofs[0].Wanted; proved != (c.problem == "") {
				t.Errorf("proof: %v", s.Proofs)
			}
		})
	}
}

// pacman takes a package from the first repository that has it.
func TestTheFirstOfEqualSourcesWinsWhereTheClientHasItSo(t *testing.T) {
	x := []string{"x86_64"}
	u := NewUniverse(alpm.Family{}, []Source{{Name: "wrack", Priority: 30, Architectures: x},
		{Name: "chart", Priority: 30, Architectures: x}})
	u.Add(0, &archive.Package{Name: "echo", Version: "1-1", Arch: "x86_64", SHA256: strings.Repeat("a", 64)})
	u.Add(1, &archive.Package{Name: "echo", Version: "2-1", Arch: "x86_64", SHA256: strings.Repeat("b", 64),
		Ordinal: 1})
	s := u.selectAll(t, []Want{want(AllSources, "echo", "required", 1)})
	if len(s.Chosen) != 1 || s.Chosen[0].Version != "1-1" {
		t.Errorf("chosen: %v", s.Chosen)
	}
	if got := surpassedIn(s); got != "echo 1-1 < 2-1 in 1 behind" {
		t.Errorf("newer elsewhere: %s", got)
	}
}

// Where everything is wanted, both architectures of such machines are taken: a copy
// whose index names a package has it.
func TestEverythingIsTakenForAllArchitectures(t *testing.T) {
	both := []Source{{Name: "tarn", Priority: 20, Architectures: []string{"amd64", "i386"}}}
	u := universe(t, both, "ctl 1 amd64\nctl 1 i386\ndata 1 all\nplot 1 i386")
	everything := Want{Relation: archive.Relation{Name: "*"}, As: "everything"}
	view := View{Name: "the group lab", Architectures: []string{"amd64"}, Foreign: []string{"i386"}}
	s, err := u.Select(t.Context(), []Want{everything}, []View{view}, Limits{})
	must.Do(t, err)
	if got := names(s); got != "ctl=1 ctl=1:i386 data=1 plot=1:i386" {
		t.Errorf("chosen: %s", got)
	}
	if p := s.Proofs[0]; p.Wanted != 4 || p.Proved != 4 {
		t.Errorf("proof: %v", p)
	}
}

// counted counts how often it is asked whether a package meets a relation of a name.
type counted struct {
	archive.Matching
	asked map[string]int
}

func (c counted) Meets(p *archive.Package, at int, r archive.Relation) bool {
	c.asked[r.Name]++
	return c.Matching.Meets(p, at, r)
}

// What meets a relation is worked out once, however many views and packages ask.
func TestWhatMeetsARelationIsWorkedOutOnce(t *testing.T) {
	sources := []Source{{Name: "tarn", Priority: 20, Architectures: []string{"amd64", "arm64"}}}
	u := universe(t, sources, "a 1 all // Depends: lib (>= 1)\nb 1 all // Depends: lib (>= 1)\n"+
		"lib 1 all\nlib 2 all")
	family := counted{u.family, map[string]int{}}
	u.family = family
	views := []View{u.Everyone(), {Name: "gatehouse", Architectures: []string{"amd64"}},
		{Name: "pumphouse", Architectures: []string{"arm64"}}}
	wants := []Want{want(AllSources, "a", "required", 1), want(AllSources, "b", "required", 1)}
	s, err := u.Select(t.Context(), wants, views, Limits{})
	if err != nil || len(s.Chosen) != 3 {
		t.Fatalf("%v %v", s, err)
	}
	if n := family.asked["lib"]; n != 2 {
		t.Errorf("two packages of one name were asked %d times about one relation", n)
	}
	for _, o := range universe(t, sources, "lib 3 all").called("lib") {
		u.Add(0, o.Package) // what is new counts
	}
	if s, err = u.Select(t.Context(), wants, views, Limits{}); err != nil || !slices.ContainsFunc(s.Chosen,
		func(c Chosen) bool { return c.Name == "lib" && c.Version == "3" }) {
		t.Errorf("a package that came later is not seen: %v %v", s, err)
	}
}
