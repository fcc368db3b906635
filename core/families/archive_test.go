package families

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/definition"
	"stockade/core/solve"
	"stockade/internal/must"
)

// ownArchive is what this machine's own package client knows of its archive: its lists, and
// the client on a machine that has nothing installed.
type ownArchive struct {
	*solve.Universe
	arch     string
	names    []string // of packages for the machine, without those of sources
	root     string
	packages int
	stanzas  map[*archive.Package]string
	taken    []*archive.Package // by the last selection
	asked    []*archive.Package // of these, what was wanted
	sources  int
}

// readOwn reads the lists that the machine's own client keeps; the test is skipped where it has
// none.
func readOwn(t *testing.T) *ownArchive {
	t.Helper()
	files, err := filepath.Glob("/var/lib/apt/lists/*_Packages*")
	must.Do(t, err)
	out, err := exec.Command("dpkg", "--print-architecture").Output()
	helper := "/usr/lib/apt/apt-helper"
	if _, herr := os.Stat(helper); len(files) == 0 || err != nil || herr != nil {
		t.Skip("skipped: this machine's package client has no lists of its archive")
	}
	o := &ownArchive{arch: strings.TrimSpace(string(out)), root: t.TempDir(),
		stanzas: map[*archive.Package]string{}}
	var sources []solve.Source
	for i := range files {
		sources = append(sources, solve.Source{Name: fmt.Sprintf("s%d", i), Priority: 20,
			Architectures: []string{o.arch}})
	}
	o.Universe, o.sources = solve.NewUniverse(deb.Family{}, sources), len(sources)
	seen := map[string]bool{}
	for i, file := range files {
		plain, err := exec.Command(helper, "cat-file", file).Output()
		must.Do(t, err)
		n := 0
		err = deb.Family{}.ReadIndex(archive.Source{Name: "own", Architectures: []string{o.arch}},
			archive.IndexChoice{},
			bytes.NewReader(plain), func(p *archive.Package, raw []byte) error {
				o.stanzas[p] = string(bytes.TrimSpace(raw))
				p.Index, p.Ordinal = i, n
				n++
				o.Add(i, p)
				if o.packages++; !seen[p.Name] {
					seen[p.Name] = true
					o.names = append(o.names, p.Name)
				}
				return nil
			})
		if err != nil {
			t.Fatalf("%s: %v", filepath.Base(file), err)
		}
	}
	slices.Sort(o.names)
	for _, dir := range []string{"cache/archives/partial", "log"} {
		must.Do(t, os.MkdirAll(filepath.Join(o.root, dir), 0o755))
	}
	must.Do(t, os.WriteFile(filepath.Join(o.root, "status"), nil, 0o644))
	if out, err := exec.Command("apt-cache", append(o.settings(),
		"gencaches")...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return o
}

// installsFrom asks the client whether it installs names where there is nothing but what was
// taken last.
func (o *ownArchive) installsFrom(t *testing.T, names []string, recommends bool) bool {
	t.Helper()
	dir, err := os.MkdirTemp(o.root, "alone-")
	must.Do(t, err)
	defer os.RemoveAll(dir)
	var list strings.Builder
	for _, p := range o.taken {
		list.WriteString(o.stanzas[p] + "\n\n")
	}
	for _, d := range []string{"repo", "state/lists/partial", "cache/archives/partial"} {
		must.Do(t, os.MkdirAll(filepath.Join(dir, d), 0o755))
	}
	for name, text := range map[string]string{"repo/Packages": list.String(), "status": "",
		"sources.list": "deb [trusted=yes] file:" + dir + "/repo ./\n"} {
		must.Write(t, filepath.Join(dir, name), text)
	}
	with := append(o.settings(), "-qq", "-o", "Dir::State="+dir+"/state", "-o",
		"Dir::State::status="+dir+"/status",
		"-o", "Dir::Cache="+dir+"/cache", "-o", "Dir::Etc::SourceList="+dir+"/sources.list",
		"-o", "Dir::Etc::SourceParts=/dev/null", "-o", "APT::Sandbox::User=root",
		"-o", "APT::Install-Recommends="+strconv.FormatBool(recommends))
	client := func(args ...string) ([]byte, error) {
		c := exec.Command("apt-get", slices.Concat(with, args)...)
		c.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
		return c.CombinedOutput()
	}
	if out, err := client("update"); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	out, err := client(append([]string{"-s", "install"}, names...)...)
	if err != nil {
		t.Logf("%s", out)
	}
	return err == nil
}

// installs asks the client what it would install of an empty machine; nil where it says no.
func (o *ownArchive) installs(names []string, recommends bool) map[string]string {
	args := append(o.settings(), "-s", "-qq", "-o",
		"APT::Install-Recommends="+strconv.FormatBool(recommends),
		"-o", "APT::Install-Suggests=false", "install")
	c := exec.Command("apt-get", append(args, names...)...)
	c.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	out, err := c.Output()
	if err != nil {
		return nil
	}
	return picked(string(out), regexp.MustCompile(`(?m)^Inst (\S+) \((\S+) `))
}

// settings make the client one of a machine that has nothing, and keeps what it works out.
func (o *ownArchive) settings() []string {
	return []string{"-o", "Dir::State::status=" + o.root + "/status", "-o",
		"Dir::Cache::pkgcache=pkgcache.bin",
		"-o", "Dir::Cache::srcpkgcache=srcpkgcache.bin", "-o", "Dir::Cache=" + o.root +
			"/cache", "-o", "Dir::Log=" + o.root + "/log", "-o", "Dir::Etc::Preferences=/dev/null",
		"-o", "Dir::Etc::PreferencesParts=/dev/null", "-o", "Debug::NoLocking=true", "-o",
		"APT::Architectures=" + o.arch}
}

// ours gives what we take of the archive for names, and why they could not be installed side by
// side; "" where they can.
func (o *ownArchive) ours(t *testing.T, names []string, recommends bool) (map[string]string, string) {
	t.Helper()
	with := definition.Required
	if recommends {
		with = definition.Recommended
	}
	view := solve.View{Architectures: []string{o.arch}, Together: []solve.Together{{Name: "the set"}}}
	var wants []solve.Want
	for i, n := range names {
		wants = append(wants, solve.Want{Source: solve.AllSources, Relation: archive.Relation{Name: n},
			With: with, Versions: 1, As: n})
		view.Together[0].Wants = append(view.Together[0].Wants, i)
	}
	s, err := o.Select(t.Context(), wants, []solve.View{view}, solve.Limits{})
	must.Do(t, err)
	out := map[string]string{}
	o.taken, o.asked = nil, nil
	for _, c := range s.Chosen {
		out[c.Name] = c.Version
		o.taken = append(o.taken, c.Package)
		if c.Wanted {
			o.asked = append(o.asked, c.Package)
		}
	}
	switch {
	case len(s.Missing) > 0:
		return out, "missing " + s.Missing[0].Clause.String()
	case len(s.Conflicts) > 0:
		return out, s.Conflicts[0].String()
	case len(s.Undecided) > 0:
		return out, "not decided"
	case !s.Proofs[0].Sets[0].Proved:
		return out, "not proved"
	}
	return out, ""
}

// tried gives how many are tried, unless the environment says otherwise.
func tried(few int) int {
	if n, err := strconv.Atoi(os.Getenv("STOCKADE_SETS")); err == nil {
		return n
	}
	return few
}

// What is taken of the real archive for sets of its packages, at random, with what they
// recommend or without, is what the real client installs on a machine that has nothing: it says
// yes and no to the same sets, and installs them where there is nothing but what was taken. Where
// the two differ, one rule makes each difference, and the test finds it: several packages meet one
// need, and the client took another of them than we did. The client takes seconds for a set, so
// that a few are tried each time; STOCKADE_SETS tries more.
func TestWhatIsTakenOfTheRealArchiveIsWhatTheRealClientInstalls(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: the real client takes its time")
	}
	o := readOwn(t)
	sets := tried(3)
	r := rand.New(rand.NewPCG(1, 2))
	same, yes, explained := 0, 0, 0
	for i := range sets {
		var names []string
		for range 1 + r.IntN(4) {
			names = append(names, o.names[r.IntN(len(o.names))])
		}
		recommends := i%2 == 1
		ours, no := o.ours(t, names, recommends)
		theirs := o.installs(names, recommends)
		if (theirs == nil) != (no != "") && !o.certified(t, names, no) {
			t.Errorf("%v: we say %q, and the client takes %d packages", names, no, len(theirs))
		}
		if theirs == nil || no != "" {
			continue
		}
		if yes++; maps.Equal(ours, theirs) {
			same++
		} else if open := o.unexplained(ours, theirs, recommends); len(open) > 0 {
			t.Errorf("%v (recommends: %v): no rule explains %v", names, recommends, open)
		} else {
			explained++
		}
		if !o.installsFrom(t, names, recommends) {
			t.Errorf("%v (recommends: %v): from our %d packages alone the client does not install them",
				names, recommends, len(ours))
		}
	}
	t.Logf("%d packages in all; of %d sets %d can be installed; of these %d are the same to the last "+
		"package, and %d differ in which of several meets a need", o.packages, sets, yes, same, explained)
}

// unexplained gives the packages that one took and the other did not for which no rule is found.
// The rule is: a package that both have needs (or recommends) one of several, and the two took
// another. What is needed by a package that is explained is explained too.
func (o *ownArchive) unexplained(ours, theirs map[string]string, recommends bool) (open []string) {
	in := func(set map[string]string, p *archive.Package) bool { return set[p.Name] == p.Version }
	packages := map[string]*archive.Package{}
	for _, set := range []map[string]string{ours, theirs} {
		for name, version := range set {
			for i := range o.sources {
				for _, p := range o.Called(name, i) {
					if p.Version == version {
						packages[name+" "+version] = p
					}
				}
			}
		}
	}
	meets := func(p *archive.Package, c archive.Clause) bool {
		f := deb.Family{}
		return slices.ContainsFunc(c, func(r archive.Relation) bool {
			if p.Name == r.Name && f.Meets(p, archive.Itself, r) {
				return true
			}
			for i, v := range p.Provides {
				if v.Name == r.Name && f.Meets(p, i, r) {
					return true
				}
			}
			return false
		})
	}
	clauses := map[*archive.Package][]archive.Clause{}
	for _, p := range packages {
		rel, err := p.Needs.Relations()
		if err != nil {
			continue
		}
		clauses[p] = rel.Requires
		if recommends {
			clauses[p] = slices.Concat(rel.Requires, rel.Recommends)
		}
	}
	one := func(set, other map[string]string) {
		known := map[*archive.Package]bool{}
		for changed := true; changed; {
			changed = false
			for _, d := range packages {
				if !in(set, d) || in(other, d) || known[d] {
					continue
				}
				for p, all := range clauses {
					if !in(set, p) || p == d || !known[p] && !in(other, p) {
						continue
					}
					for _, c := range all {
						instead := known[p]
						for _, e := range packages { // the other has another for it
							instead = instead || e != d && in(other, e) && meets(e, c)
						}
						if instead && meets(d, c) && !known[d] {
							known[d], changed = true, true
						}
					}
				}
			}
		}
		for _, d := range packages {
			if in(set, d) && !in(other, d) && !known[d] {
				open = append(open, d.String())
			}
		}
	}
	one(ours, theirs)
	one(theirs, ours)
	slices.Sort(open)
	return open
}

// certified tells whether the client says no to names and yes to them once all that we would
// install with them is named too: it looks ahead less far than a search does.
func (o *ownArchive) certified(t *testing.T, names []string, no string) bool {
	if no != "" {
		return false
	}
	found, err := o.Installable(t.Context(), solve.Query{View: solve.View{Architectures: []string{o.arch}},
		Arch: o.arch, Packages: o.asked})
	if err != nil || found == nil {
		t.Errorf("%v: %v", names, err)
		return false
	}
	var all []string
	for _, c := range found {
		all = append(all, c.Name+"="+c.Version)
	}
	return o.installs(all, false) != nil
}

// Whether packages and sets of the real archive can be installed is answered as the real client
// answers it; sets are sought that exclude each other. Where it says no and we say yes, it says yes
// to the very packages that we name.
func TestProofsOfTheRealArchiveAreTheRealClientsAnswers(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: the real client takes its time")
	}
	o := readOwn(t)
	r := rand.New(rand.NewPCG(3, 4))
	counts := map[string]int{}
	for i := range tried(6) {
		names := []string{o.names[r.IntN(len(o.names))]}
		if i%3 > 0 {
			names = o.atOdds(r)
		}
		if i%3 == 2 {
			names = append(names, o.names[r.IntN(len(o.names))])
		}
		_, no := o.ours(t, names, false)
		theirs := o.installs(names, false)
		switch {
		case theirs != nil && no != "":
			t.Errorf("%v: we say %q, and the client takes %d packages", names, no, len(theirs))
		case theirs != nil:
			counts["both yes"]++
		case no != "":
			counts["both no"]++
		case o.certified(t, names, no):
			counts["yes, and the client to all by name"]++
		default:
			t.Errorf("%v: we say yes, and the client no, to all that we name too", names)
		}
	}
	t.Logf("%v", counts)
	if counts["both no"] == 0 || counts["both yes"] == 0 {
		t.Errorf("nothing was compared: %v", counts)
	}
}

// atOdds gives two packages of which one excludes the other.
func (o *ownArchive) atOdds(r *rand.Rand) []string {
	f := deb.Family{}
	for {
		name := o.names[r.IntN(len(o.names))]
		for i := range o.sources {
			for _, p := range o.Called(name, i) {
				rel, err := p.Needs.Relations()
				if err != nil {
					continue
				}
				for _, x := range rel.Conflicts {
					for k := range o.sources {
						for _, q := range o.Called(x.Name, k) {
							if q.Name != name && f.Meets(q, archive.Itself, x) {
								return []string{name, q.Name}
							}
						}
					}
				}
			}
		}
	}
}

// changed gives the archive anew, with some packages in a source elsewhere that no machine sees, or
// with other relations.
func (o *ownArchive) changed(elsewhere func(p *archive.Package) bool,
	needs func(p *archive.Package) archive.RelationSource) (*solve.Universe, int) {
	var sources []solve.Source
	for i := range o.sources {
		sources = append(sources, o.Source(i))
	}
	sources = append(sources, solve.Source{Name: "elsewhere", Priority: 30, Architectures: []string{o.arch},
		Outside: true})
	u := solve.NewUniverse(deb.Family{}, sources)
	for i := range o.sources {
		for _, name := range o.names {
			for _, p := range o.Called(name, i) {
				at := i
				if elsewhere != nil && elsewhere(p) {
					at = o.sources
				}
				if needs != nil {
					other := *p
					other.Needs = needs(p)
					p = &other
				}
				u.Add(at, p)
			}
		}
	}
	return u, o.sources
}

// A mirror of real packages that lacks one of the needs says which it is, and that the source which
// has it leads out.
func TestWhatARealMirrorLacksIsNamedWithItsSource(t *testing.T) {
	o := readOwn(t)
	r := rand.New(rand.NewPCG(5, 6))
	for range 3 {
		var wanted, needed string
		for needed == "" {
			wanted = o.names[r.IntN(len(o.names))]
			if _, no := o.ours(t, []string{wanted}, false); no != "" || len(o.taken) < 4 {
				continue
			}
			p := o.taken[r.IntN(len(o.taken))]
			if p.Name != wanted && len(p.Provides) == 0 {
				needed = p.Name
			}
		}
		u, elsewhere := o.changed(func(p *archive.Package) bool { return p.Name == needed }, nil)
		view := solve.View{Architectures: []string{o.arch}}
		s, err := u.Select(t.Context(), []solve.Want{{Source: solve.AllSources,
			Relation: archive.Relation{Name: wanted}, With: definition.Required, Versions: 1, As: wanted}},
			[]solve.View{view}, solve.Limits{})
		must.Do(t, err)
		if s.Proofs[0].Proved == 1 {
			continue // another package meets the need
		}
		named := slices.ContainsFunc(s.Missing, func(m solve.Missing) bool {
			return slices.ContainsFunc(m.Clause, func(x archive.Relation) bool { return x.Name == needed })
		})
		ways := u.WaysOut(t.Context(), s.Refusals[0], solve.Ways{View: view, Spare: []int{elsewhere},
			Taken: func(p *archive.Package) bool {
				return slices.ContainsFunc(s.Chosen, func(c solve.Chosen) bool { return c.Package == p })
			}})
		if !named || len(ways) != 1 || ways[0].Name != "elsewhere" || !slices.ContainsFunc(ways[0].Packages,
			func(name string) bool { return strings.HasPrefix(name, needed+" ") }) {
			t.Errorf("%s without %s: missing %v, ways out %+v", wanted, needed, s.Missing, ways)
		}
	}
}

// just are the relations of a package that an explanation names.
type just struct {
	*archive.Package
	parts []string
}

func (j just) Relations() (archive.Relations, error) {
	var out archive.Relations
	r, err := j.Needs.Relations()
	for _, c := range r.Requires {
		if slices.Contains(j.parts, j.String()+" needs "+c.String()) {
			out.Requires = append(out.Requires, c)
		}
	}
	for _, c := range r.Conflicts {
		if slices.Contains(j.parts, j.String()+" excludes "+c.String()) {
			out.Conflicts = append(out.Conflicts, c)
		}
	}
	return out, err
}

// Real packages that exclude each other are explained by a part of all relations: with nothing but
// that they still do, and with any of it left out they do not.
func TestWhatARealConflictIsExplainedByCannotBeLess(t *testing.T) {
	o := readOwn(t)
	r := rand.New(rand.NewPCG(8, 9))
	tries, explained := 0, 0
	for ; explained < 3 && tries < 40; tries++ {
		names := o.atOdds(r)
		prove := func(u *solve.Universe) *solve.Selection {
			view := solve.View{Architectures: []string{o.arch}, Together: []solve.Together{{Name: "both",
				Wants: []int{0, 1}}}}
			var wants []solve.Want
			for _, n := range names {
				wants = append(wants, solve.Want{Source: solve.AllSources,
					Relation: archive.Relation{Name: n}, With: definition.Required, Versions: 1, As: n})
			}
			s, err := u.Select(t.Context(), wants, []solve.View{view}, solve.Limits{})
			must.Do(t, err)
			return s
		}
		s := prove(o.Universe)
		if len(s.Refusals) != 1 || s.Refusals[0].Why == nil {
			continue // one of them alone, or they go together by another version
		}
		why := s.Refusals[0]
		if !why.Minimal {
			t.Fatalf("%v: %v", names, why.Parts)
		}
		with := func(parts []string) bool {
			u, _ := o.changed(nil, func(p *archive.Package) archive.RelationSource { return just{p, parts} })
			return prove(u).Proofs[0].Sets[0].Proved
		}
		if with(why.Parts) {
			t.Errorf("%v: with nothing but %v they go together", names, why.Parts)
		}
		for i, part := range why.Parts {
			if strings.HasPrefix(part, "both needs ") || strings.HasPrefix(part, "only one version") {
				continue // that is no relation of a package
			}
			if !with(slices.Delete(slices.Clone(why.Parts), i, i+1)) {
				t.Errorf("%v: of %v, %q can be left out", names, why.Parts, part)
			}
		}
		t.Logf("%v", why.Parts)
		explained++
	}
	if explained == 0 {
		t.Errorf("nothing was compared in %d tries", tries)
	}
}
