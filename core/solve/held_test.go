package solve

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/finding"
)

// Relations that anything tells apart are different ones; that one is negated does not.
func TestWhatTellsRelationsApart(t *testing.T) {
	u := NewUniverse(deb.Family{}, nil)
	base := archive.Relation{Name: "tide", Qualifier: "amd64", Op: archive.GreaterOrEqual, Version: "2"}
	with := func(change func(r *archive.Relation)) archive.Relation {
		r := base
		r.Also = slices.Clone(base.Also)
		change(&r)
		return r
	}
	also := func(all ...archive.Relation) archive.Relation {
		return with(func(r *archive.Relation) { r.Also = all })
	}
	a := archive.Relation{Name: "a", Op: archive.Equal, Version: "1"}
	b := archive.Relation{Name: "b"}
	change := func(r archive.Relation, f func(*archive.Relation)) archive.Relation { f(&r); return r }
	seen := map[*relation]string{}
	for name, r := range map[string]archive.Relation{
		"as it is":            base,
		"another name":        with(func(r *archive.Relation) { r.Name = "ebb" }),
		"another qualifier":   with(func(r *archive.Relation) { r.Qualifier = "any" }),
		"another bound":       with(func(r *archive.Relation) { r.Op = archive.Greater }),
		"another version":     with(func(r *archive.Relation) { r.Version = "3" }),
		"real packages alone": with(func(r *archive.Relation) { r.Real = true }),
		"and another":         also(a),
		"and a further one":   also(a, b),
		"in another order":    also(b, a),
		"one inside the other": also(change(a,
			func(r *archive.Relation) { r.Also = []archive.Relation{b} })),
		"and not another":      also(change(a, func(r *archive.Relation) { r.Not = true })),
		"and a real one":       also(change(a, func(r *archive.Relation) { r.Real = true })),
		"and one of a version": also(change(a, func(r *archive.Relation) { r.Version = "2" })),
		"and one below it":     also(change(a, func(r *archive.Relation) { r.Op = archive.Less })),
		"and one of a name":    also(change(a, func(r *archive.Relation) { r.Name = "c" })),
		"and one elsewhere":    also(change(a, func(r *archive.Relation) { r.Qualifier = "any" })),
		"names that run on":    also(archive.Relation{Name: "a1"}),
		"versions that run on": also(archive.Relation{Name: "a", Version: "1"}),
		"both, in one the other": also(change(b,
			func(r *archive.Relation) { r.Also = []archive.Relation{a} })),
	} {
		have := u.relation(r)
		if as, twice := seen[have]; twice {
			t.Errorf("%s is taken for: %s", name, as)
		}
		seen[have] = name
		if again := u.relation(r); again != have {
			t.Errorf("%s is held twice", name)
		}
		r.Not = true
		if not := u.relation(r); not != have || not.Not {
			t.Errorf("%s, negated, is another: %+v", name, not.Relation)
		}
	}
}

// A package counts once for each source, however many of its name there are, and whatever
// of it is another makes another package.
func TestAPackageCountsOnce(t *testing.T) {
	p := func(change func(*archive.Package)) *archive.Package {
		x := &archive.Package{Name: "tide", Version: "1", Arch: "amd64", SHA256: "a"}
		change(x)
		return x
	}
	for _, others := range []int{0, few - 2, few - 1, few, 3 * few} {
		u := NewUniverse(deb.Family{}, []Source{{}, {}})
		for i := range others {
			u.Add(0, p(func(x *archive.Package) { x.Version = fmt.Sprint(100 + i) }))
		}
		all := []*archive.Package{p(func(*archive.Package) {}),
			p(func(x *archive.Package) { x.Version = "2" }),
			p(func(x *archive.Package) { x.Arch = "arm64" }),
			p(func(x *archive.Package) { x.SHA256 = "b" }), p(func(x *archive.Package) { x.SHA512 = "c" })}
		for range 2 {
			for _, x := range all {
				u.Add(0, x)
			}
		}
		if u.count != others+len(all) || len(u.called("tide")) != u.count || u.state != u.count {
			t.Errorf("beside %d others: %d packages", others, u.count)
		}
		if u.Add(1, all[0]); u.count != others+len(all)+1 {
			t.Errorf("beside %d others: of another source it is the same", others)
		}
	}
}

// What a selection costs is counted: in these universes exactly so much. A loop that is not
// counted could be made to go on for as long as somebody likes.
func TestWhatASelectionCosts(t *testing.T) {
	amd := []string{"amd64"}
	one := []Source{{Name: "tarn", Priority: 20, Architectures: amd}}
	var many, chain, provided strings.Builder
	for i := range 40 {
		fmt.Fprintf(&many, "tide %d amd64\n", i+1)
		fmt.Fprintf(&chain, "link%d 1 amd64 // Depends: link%d\n", i, i+1)
		fmt.Fprintf(&provided, "p%d 1 amd64 // Provides: bus // Conflicts: bus\n", i)
	}
	chain.WriteString("link40 1 amd64\n")
	many.WriteString("gate 1 amd64 // Depends: tide (>= 7), tide (<< 30)\n")
	provided.WriteString("gate 1 amd64 // Depends: bus, p3 | p4 // Recommends: bus, nothing\n")
	for name, c := range map[string]struct {
		list  string
		wants []Want
		cost  int64
	}{
		"one package":               {"tide 1 amd64", []Want{want(0, "tide", "required", 1)}, 6},
		"a chain of needs":          {chain.String(), []Want{want(0, "link0", "required", 1)}, 606},
		"many versions of one name": {many.String(), []Want{want(0, "gate", "required", 1)}, 1121},
		"many that provide a name":  {provided.String(), []Want{want(0, "gate", "recommended", 1)}, 1067},
		"a pattern":                 {many.String(), []Want{want(0, "t*", "required", 3)}, 96},
		"all that conflict":         {provided.String(), []Want{want(0, "p*", "required", 1)}, 726},
	} {
		t.Run(name, func(t *testing.T) {
			u := universe(t, one, c.list)
			s := u.selector(t.Context(), Limits{})
			begun := s.left
			matched := make([]bool, len(c.wants))
			s.begin(View{Architectures: amd}, "amd64")
			s.selectFor(c.wants, matched)
			if s.err != nil || slices.Contains(matched, false) {
				t.Fatal(s.err, matched)
			}
			if got := begun - s.left; got != c.cost {
				t.Errorf("it costs %d, and cost %d", got, c.cost)
			}
			// With less than that it ends, and says why.
			s = universe(t, one, c.list).selector(t.Context(), Limits{})
			s.left = c.cost - 1
			s.begin(View{Architectures: amd}, "amd64")
			s.selectFor(c.wants, matched)
			if f, _ := finding.From(s.err); f.Code != "content.too-large" {
				t.Errorf("with less it ends with %v", s.err)
			}
		})
	}
}

// The context is asked after so many steps, neither at each nor never.
func TestHowOftenTheContextIsAsked(t *testing.T) {
	ended, end := context.WithCancel(t.Context())
	end()
	b := newBudget(ended, 1_000_000)
	if !b.spend(checkEvery-3) || !b.spend(0) {
		t.Error("the context is asked too early")
	}
	if b.spend(0) || !errors.Is(b.err, context.Canceled) || b.spend(0) {
		t.Errorf("the context is not asked: %v", b.err)
	}
	b = newBudget(t.Context(), 0)
	if b.left != workBase || !b.spend(workBase-1) || b.spend(0) {
		t.Errorf("%d are left", b.left)
	}
}

// The files that some package needs and nothing is known to have.
func TestWhichPathsAreUnmet(t *testing.T) {
	u := NewUniverse(withFiles{Matching: deb.Family{}}, []Source{{}})
	add := func(name string, provides []string, requires ...string) {
		p := &archive.Package{Name: name, Version: "1", Arch: "all", SHA256: name}
		for _, v := range provides {
			p.Provides = append(p.Provides, archive.Provide{Name: v})
		}
		var rel archive.Relations
		for _, r := range requires {
			rel.Requires = append(rel.Requires, archive.Clause{{Name: r}})
		}
		p.Needs = told{rel, nil}
		u.Add(0, p)
	}
	add("a", nil, "/bin/sh", "/usr/bin/tide", "tide", "/opt/none")
	add("b", []string{"/usr/bin/tide"})
	u.Add(0, &archive.Package{Name: "bare", Version: "1"})
	u.Add(0, &archive.Package{Name: "damaged", Version: "1", Needs: told{err: errors.New("unreadable")}})
	if got := slices.Sorted(maps.Keys(u.UnmetPaths())); !slices.Equal(got,
		[]string{"/bin/sh", "/opt/none"}) {
		t.Error(got)
	}
}

// withFiles is a family whose packages can need files.
type withFiles struct {
	archive.Matching
	archive.Filed
}

func (withFiles) NeedsFiles() bool { return true }

func (withFiles) NamesFile(r archive.Relation) bool { return strings.HasPrefix(r.Name, "/") }

// told are relations as they are given.
type told struct {
	all archive.Relations
	err error
}

func (n told) Relations() (archive.Relations, error) { return n.all, n.err }
