package solve

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/rpm"
	"stockade/core/archive/rpm/header"
	"stockade/internal/made"
	"stockade/internal/must"
)

// rpmUniverse holds made packages of the rpm family, read as an index says them.
func rpmUniverse(t *testing.T, architectures []string, all ...made.RPM) *Universe {
	t.Helper()
	u := NewUniverse(rpm.Family{}, []Source{{Name: "brine", Priority: 40, Architectures: architectures}})
	for i, m := range all {
		if m.Arch == "" {
			m.Arch = "x86_64"
		}
		file, err := m.Build(nil)
		must.Do(t, err)
		o, err := header.Open(bytes.NewReader(file))
		must.Do(t, err)
		list := `<metadata>` + rpm.Description{File: o, Path: "p/" + m.FileName(), SHA256: fmt.Sprintf(
			"%064x", i+1)}.Primary() + `</metadata>`
		s := archive.Source{Name: "brine", Architectures: architectures}
		must.Do(t, (rpm.Family{}).ReadIndex(s, archive.IndexChoice{}, strings.NewReader(list),
			func(p *archive.Package, _ []byte) error {
				p.Ordinal = i
				u.Add(0, p)
				return nil
			}))
	}
	return u
}

func TestSelectionOfTheRPMFamily(t *testing.T) {
	type m = made.RPM
	one := []string{"x86_64"}
	for _, c := range []struct {
		name    string
		archs   []string
		made    []m
		wants   []string
		with    string
		chosen  string
		missing string
		because string
	}{
		{"a provide without a version meets a versioned need", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"bus >= 2"}},
				{Name: "b", Version: "1-1", Provides: []string{"bus"}}}, []string{"a"},
			"required", "a b", "", ""},
		{"a provide of a bound that overlaps", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"bus < 2"}},
				{Name: "b", Version: "1-1", Provides: []string{"bus >= 3"}},
				{Name: "c", Version: "1-1", Provides: []string{"bus >= 1"}}}, []string{"a"}, "required",
			"a c", "", ""},
		{"a release left out is any release", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"b = 2"}}, {Name: "b", Version: "2-7"}},
			[]string{"a"}, "required", "a b", "", ""},
		{"a name of its own that a package provides in another version counts", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"b >= 5"}},
				{Name: "b", Version: "2-1", Provides: []string{"b = 5"}}}, []string{"a"}, "required", "a b",
			"", ""},
		{"a release left out is any release in a bound too", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"bus > 1.2-3"}},
				{Name: "b", Version: "1-1", Provides: []string{"bus = 1.2"}}}, []string{"a"}, "required",
			"a b", "", ""},
		{"and is excluded by one", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"b"}, Conflicts: []string{"bus < 1.2-3"}},
				{Name: "b", Version: "1-1", Provides: []string{"bus = 1.2"}}}, []string{"a"}, "required",
			"a b", "", "a excludes bus < 1.2-3"},
		{"what is for all architectures does not lie beside its name", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"x", "y"}},
				{Name: "b", Version: "1-1", Arch: "noarch", Provides: []string{"x"}},
				{Name: "b", Version: "2-1", Provides: []string{"y"}}}, []string{"a"}, "required", "a b b",
			"", "only one version of b can be installed"},
		{"a boolean conflict does not exclude the package that says so", one, []m{{
			Name:      "a",
			Version:   "1-1",
			Requires:  []string{"b"},
			Provides:  []string{"bus"},
			Conflicts: []string{"(bus and panel)"},
		}, {Name: "b", Version: "1-1", Provides: []string{"panel"}}}, []string{"a"}, "required", "a b", "",
			""},
		{"an epoch counts", one, []m{{Name: "a", Version: "1-1", Requires: []string{"b >= 1:1"}},
			{Name: "b", Version: "9-7"}}, []string{"a"}, "required", "a", "a needs b >= 1:1", ""},
		{"a condition that does not hold asks for nothing", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"(b if c)"}}, {Name: "b", Version: "1-1"},
				{Name: "c", Version: "1-1"}}, []string{"a"}, "required", "a", "", ""},
		{"a condition that holds", one, []m{{Name: "a", Version: "1-1", Requires: []string{"(b if c)"}},
			{Name: "b", Version: "1-1"}, {Name: "c", Version: "1-1"}}, []string{"a", "c"}, "required",
			"a b c", "", ""},
		{"a condition that comes to hold later", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"(b if c)", "d"}},
				{Name: "b", Version: "1-1"},
				{Name: "c", Version: "1-1"}, {Name: "d", Version: "1-1", Requires: []string{"c"}}}, []string{
				"a"}, "required", "a b c d", "", ""},
		{"a condition whose consequence is missing", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"(gone if c)"}}, {Name: "c", Version: "1-1"}},
			[]string{"a", "c"}, "required", "a c", "a needs gone", ""},
		{"else", one, []m{{Name: "a", Version: "1-1", Requires: []string{"(b if c else d)"}},
			{Name: "b", Version: "1-1"}, {Name: "c", Version: "1-1"}, {Name: "d", Version: "1-1"}}, []string{
			"a"}, "required", "a d", "", ""},
		{"one package that meets two", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"(b >= 1 with b < 3)"}},
				{Name: "b", Version: "4-1"}, {Name: "b", Version: "2-1"}, {Name: "b", Version: "0-1"}},
			[]string{"a"}, "required", "a b", "", ""},
		{"one package that does not have another", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"(x without y)"}},
				{Name: "b", Version: "4-1", Provides: []string{"x", "y"}},
				{Name: "c", Version: "2-1", Provides: []string{"x"}}}, []string{"a"}, "required", "a c", "",
			""},
		{"a conflict that is a condition", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"b", "c"}, Conflicts: []string{"(b and c)"}},
				{Name: "b", Version: "1-1"}, {Name: "c", Version: "1-1"}}, []string{"a"}, "required",
			"a b c", "", "a excludes b or c"},
		{"what is obsoleted cannot stay", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"b", "old"}},
				{Name: "b", Version: "1-1", Obsoletes: []string{"old < 2"}}, {Name: "old", Version: "1-1"}},
			[]string{"a"}, "required", "a b old", "", "b excludes old < 2"},
		{"only real names are obsoleted", one, []m{{Name: "a", Version: "1-1", Requires: []string{"b", "c"}},
			{Name: "b", Version: "1-1", Obsoletes: []string{"old"}},
			{Name: "c", Version: "1-1", Provides: []string{"old"}}}, []string{"a"}, "required", "a b c", "",
			""},
		{"recommendations", one, []m{{Name: "a", Version: "1-1", Recommends: []string{"b"}},
			{Name: "b", Version: "1-1", Suggests: []string{"c"}}, {Name: "c", Version: "1-1"}},
			[]string{"a"}, "recommended", "a b", "", ""},
		{"recommendations backward", one,
			[]m{{Name: "a", Version: "1-1"}, {Name: "b", Version: "1-1", Supplements: []string{"a"}},
				{Name: "c", Version: "1-1", Enhances: []string{"a"}},
				{Name: "d", Version: "1-1", Supplements: []string{"(a and gone)"}}}, []string{"a"},
			"recommended", "a b", "", ""},
		{"suggestions backward", one,
			[]m{{Name: "a", Version: "1-1"}, {Name: "b", Version: "1-1", Supplements: []string{"a"}},
				{Name: "c", Version: "1-1", Enhances: []string{"a"}}}, []string{"a"}, "suggested", "a b c",
			"", ""},
		{"nothing backward where only needs are followed", one,
			[]m{{Name: "a", Version: "1-1"}, {Name: "b", Version: "1-1", Supplements: []string{"a"}}},
			[]string{"a"}, "required", "a", "", ""},
		{"the machine's own architecture first", one,
			[]m{{Name: "a", Version: "1-1"}, {Name: "a", Version: "2-1", Arch: "i686"}}, []string{"a"},
			"required", "a", "", ""},
		{"another architecture where only it meets a need", one,
			[]m{{Name: "a", Version: "1-1", Requires: []string{"lib(x86-32)"}},
				{Name: "lib", Version: "1-1", Arch: "i686", Provides: []string{"lib(x86-32)"}},
				{Name: "lib", Version: "1-1"}}, []string{"a"}, "required", "a lib:i686", "", ""},
		{"two architectures beside each other", []string{"x86_64", "i686"},
			[]m{{Name: "a", Version: "1-1", Requires: []string{"lib"}},
				{Name: "a", Version: "1-1", Arch: "i686", Requires: []string{"lib"}},
				{Name: "lib", Version: "1-1"}, {Name: "lib", Version: "1-1", Arch: "i686"}}, []string{"a"},
			"required", "a a:i686 lib lib:i686", "", ""},
		{"a file of another package", one, []m{{Name: "a", Version: "1-1", Requires: []string{"/usr/bin/b"}},
			{Name: "b", Version: "1-1", Files: []made.File{{Path: "/usr/bin/b", Mode: 0o755}}}}, []string{
			"a"}, "required", "a b", "", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			u := rpmUniverse(t, c.archs, c.made...)
			var wants []Want
			for _, w := range c.wants {
				wants = append(wants, want(0, w, c.with, 1))
			}
			s := u.selectAll(t, wants)
			var got []string
			for _, p := range s.Chosen {
				n := p.Name
				if p.Arch == "i686" {
					n += ":i686"
				}
				got = append(got, n)
			}
			if have := sorted(got); have != c.chosen {
				t.Errorf("chosen %s, and %s was meant", have, c.chosen)
			}
			missing, because := "", ""
			if len(s.Missing) > 0 {
				missing = s.Missing[0].Needer.Name + " needs " + s.Missing[0].Clause.String()
			}
			if len(s.Conflicts) > 0 {
				because = s.Conflicts[0].Because
			}
			if missing != c.missing || because != c.because {
				t.Errorf("missing %q, because %q", missing, because)
			}
		})
	}
}

func TestFilesThatNothingIsKnownToHaveAreAskedFor(t *testing.T) {
	u := rpmUniverse(t, []string{"x86_64"},
		made.RPM{Name: "a", Version: "1-1", Requires: []string{"/usr/share/b/table", "/usr/bin/b"}},
		made.RPM{Name: "b", Version: "1-1", Files: []made.File{{Path: "/usr/bin/b", Mode: 0o755}}})
	if got := u.UnmetPaths(); len(got) != 1 || !got["/usr/share/b/table"] {
		t.Errorf("%v", got)
	}
	for _, p := range u.ByFileKey(0, rpm.Family{}.FileKey)[u.Called("b", 0)[0].SHA256] {
		u.AddPath(0, p, "/usr/share/b/table")
	}
	if s := u.selectAll(t, []Want{want(0, "a", "required", 1)}); len(u.UnmetPaths()) > 0 ||
		len(s.Missing) > 0 || len(s.Chosen) != 2 {
		t.Errorf("%v %v", s.Missing, s.Chosen)
	}
}

func TestSelectionOfTheALPMFamily(t *testing.T) {
	read := func(all ...made.Alpm) *Universe {
		u := NewUniverse(alpm.Family{},
			[]Source{{Name: "wrack", Priority: 30, Architectures: []string{"x86_64"}}})
		for i, m := range all {
			info, err := alpm.ParseInfo([]byte(m.Info()))
			must.Do(t, err)
			p, err := alpm.ReadDescription(alpm.Describe(info, m.FileName(), 1, strings.Repeat("a", 64)),
				"x")
			must.Do(t, err)
			p.Ordinal = i
			u.Add(0, p)
		}
		return u
	}
	pkg := func(name, version string, change func(m *made.Alpm)) made.Alpm {
		m := made.Alpm{Name: name, Version: version, Arch: "x86_64"}
		if change != nil {
			change(&m)
		}
		return m
	}
	needs := func(what ...string) func(m *made.Alpm) { return func(m *made.Alpm) { m.Depends = what } }
	gives := func(what ...string) func(m *made.Alpm) { return func(m *made.Alpm) { m.Provides = what } }
	for _, c := range []struct {
		name            string
		made            []made.Alpm
		chosen, missing string
	}{
		{"an unversioned provide meets no versioned need", []made.Alpm{pkg("a", "1-1", needs("bus>=1")),
			pkg("b", "1-1", gives("bus"))}, "a", "a needs bus >= 1"},
		{"a versioned one does", []made.Alpm{pkg("a", "1-1", needs("bus>=1")),
			pkg("b", "1-1", gives("bus=2"))}, "a b", ""},
		{"a release left out is any release", []made.Alpm{pkg("a", "1-1", needs("b=2")),
			pkg("b", "2-7", nil)}, "a b", ""},
		{"a shared library by its number", []made.Alpm{pkg("a", "1-1", needs("libb.so=1-64")), pkg("b",
			"2-7", gives("libb.so=1-64"))}, "a b", ""},
	} {
		s := read(c.made...).selectAll(t, []Want{want(0, "a", "required", 1)})
		missing := ""
		if len(s.Missing) > 0 {
			missing = s.Missing[0].Needer.Name + " needs " + s.Missing[0].Clause.String()
		}
		var got []string
		for _, p := range s.Chosen {
			got = append(got, p.Name)
		}
		if sorted(got) != c.chosen || missing != c.missing {
			t.Errorf("%s: chosen %s, missing %q", c.name, sorted(got), missing)
		}
	}
}

func sorted(s []string) string {
	slices.Sort(s)
	return strings.Join(s, " ")
}
