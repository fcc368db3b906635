// Package solve selects what a mirror takes: wanted packages, everything that
// they need, and the proof that what was taken can be installed from the
// mirror alone.
//
// It works on packages as indexes describe them and trusts those descriptions:
// they were verified before.
package solve

import (
	"fmt"
	"path"
	"slices"
	"sort"
	"strings"

	"stockade/core/archive"
)

// Source is one source as selection sees it.
type Source struct {
	Name          string
	Priority      int
	Architectures []string
	Except        []string // patterns of names that are never taken
}

// offer is a package and where it comes from.
type offer struct {
	*archive.Package
	source int
}

// Universe is all packages of one family that a mirror may take from.
type Universe struct {
	family   archive.Versions
	sources  []Source
	byName   map[string][]offer
	virtual  map[string][]offer // by provided name
	backward []offer            // those that recommend themselves
	count    int
	needs    map[*archive.Package]archive.Relations
}

// NewUniverse makes an empty universe.
func NewUniverse(family archive.Versions, sources []Source) *Universe {
	return &Universe{family: family, sources: sources, byName: map[string][]offer{}, virtual: map[string][]offer{},
		needs: map[*archive.Package]archive.Relations{}}
}

// Add puts a package of the source with that index in. A package for all
// architectures that stands in several lists of its source counts once.
func (u *Universe) Add(source int, p *archive.Package) {
	o := offer{p, source}
	for _, have := range u.byName[p.Name] {
		if have.source == source && have.Version == p.Version && have.Arch == p.Arch && have.SHA256 == p.SHA256 && have.SHA512 == p.SHA512 {
			return
		}
	}
	u.byName[p.Name] = append(u.byName[p.Name], o)
	for _, v := range p.Provides {
		if v.Name != p.Name {
			u.provide(v.Name, o)
		}
	}
	if p.Backward {
		u.backward = append(u.backward, o)
	}
	u.count++
}

// provide notes that a package answers to a name, once.
func (u *Universe) provide(name string, o offer) {
	if have := u.virtual[name]; len(have) == 0 || have[len(have)-1].Package != o.Package {
		u.virtual[name] = append(have, o)
	}
}

// UnmetPaths gives the file paths that some package needs and that nothing is
// known to have: what the lists of files have to be asked for.
func (u *Universe) UnmetPaths() map[string]bool {
	out := map[string]bool{}
	for _, offers := range u.byName {
		for _, o := range offers {
			r, err := u.relations(o.Package)
			if err != nil {
				continue
			}
			for _, c := range r.Requires {
				for _, x := range c {
					if strings.HasPrefix(x.Name, "/") && len(u.virtual[x.Name]) == 0 {
						out[x.Name] = true
					}
				}
			}
		}
	}
	return out
}

// Sums gives the packages of one source by the digest that lists of files name
// them by.
func (u *Universe) Sums(source int) map[string]*archive.Package {
	out := map[string]*archive.Package{}
	for _, offers := range u.byName {
		for _, o := range offers {
			if o.source == source {
				out[o.SHA256+o.SHA512] = o.Package
			}
		}
	}
	return out
}

// AddPath notes that a package of a source has a file.
func (u *Universe) AddPath(source int, p *archive.Package, path string) {
	p.Provides = append(p.Provides, archive.Provide{Name: path})
	u.provide(path, offer{p, source})
}

// Want is one wish of a mirror.
type Want struct {
	Source   int
	Relation archive.Relation // the name may be a pattern
	With     string           // required, recommended or suggested
	Versions int              // how many of the newest; 0: all
	As       string           // as it was written
}

// Chosen is one package that is taken, and why.
type Chosen struct {
	*archive.Package
	Source int
	Wanted bool   // by name; else something needs it
	For    string // the first package that needs it, or the want
}

// Unmatched is a want that nothing fits.
type Unmatched struct {
	Want
	Near     []string // names that a person may have meant
	Versions []string // what there is, when only the version does not fit
}

// Missing is a need that nothing in the mirror's sources can meet.
type Missing struct {
	Needer   *archive.Package
	Source   int
	Arch     string
	Clause   archive.Clause
	Chain    []string // from a wanted package to the needer
	Excepted []string // packages that would do, but are excepted
}

// Conflict is a wanted package that cannot be installed for what it needs excludes itself.
type Conflict struct {
	Wanted  *archive.Package
	Arch    string
	Between [2]string
	Because string
}

// Selection is the answer.
type Selection struct {
	Chosen    []Chosen // in order of source, component, name, version
	Unmatched []Unmatched
	Missing   []Missing
	Conflicts []Conflict
	Damaged   []error // packages whose relations cannot be read
}

// Select works out what is taken for the wants. Architectures are closed over
// one by one: a package for all of them may need different ones on each.
func (u *Universe) Select(wants []Want) *Selection {
	s := &selector{Universe: u, out: &Selection{}, chosen: map[*archive.Package]*Chosen{}}
	var archs []string
	for _, src := range u.sources {
		for _, a := range src.Architectures {
			if !slices.Contains(archs, a) {
				archs = append(archs, a)
			}
		}
	}
	matched := make([]bool, len(wants))
	for _, arch := range archs {
		s.arch = arch
		s.support = map[*archive.Package]state{}
		roots := map[string][]offer{} // by how far needs are followed
		for i, w := range wants {
			for _, o := range u.match(w, arch) {
				matched[i] = true
				s.take(o, true, w.As)
				roots[w.With] = append(roots[w.With], o)
			}
		}
		for _, with := range []string{"required", "recommended", "suggested", ""} {
			s.close(roots[with], with)
		}
		s.prove(roots)
	}
	for i, w := range wants {
		if !matched[i] {
			s.out.Unmatched = append(s.out.Unmatched, u.explain(w))
		}
	}
	for _, c := range s.chosen {
		s.out.Chosen = append(s.out.Chosen, *c)
	}
	slices.SortFunc(s.out.Chosen, func(a, b Chosen) int {
		if a.Source != b.Source {
			return a.Source - b.Source
		}
		if a.Index != b.Index {
			return a.Index - b.Index
		}
		return a.Ordinal - b.Ordinal
	})
	return s.out
}

// match gives the packages that a want takes on one architecture, newest first.
func (u *Universe) match(w Want, arch string) []offer {
	var names []string
	if isPattern(w.Relation.Name) {
		for n := range u.byName {
			if glob(w.Relation.Name, n) {
				names = append(names, n)
			}
		}
		sort.Strings(names)
	} else {
		names = []string{w.Relation.Name}
	}
	var out []offer
	for _, n := range names {
		var fit []offer
		for _, o := range u.byName[n] {
			if o.source == w.Source && u.runs(o, arch) && !u.excepted(o) &&
				u.isIn(o.Version, w.Relation) {
				fit = append(fit, o)
			}
		}
		slices.SortStableFunc(fit, func(a, b offer) int { return u.family.CompareVersions(b.Version, a.Version) })
		if w.Versions > 0 { // a choice is made among what suits the machine best
			best := 1 << 30
			for _, o := range fit {
				best = min(best, u.family.Rank(o.Arch, arch))
			}
			fit = slices.DeleteFunc(fit, func(o offer) bool { return u.family.Rank(o.Arch, arch) != best })
		}
		kept, lastVersion := 0, ""
		for _, o := range fit {
			if o.Version != lastVersion {
				kept++
				lastVersion = o.Version
			}
			if w.Versions > 0 && kept > w.Versions {
				break
			}
			out = append(out, o)
		}
	}
	return out
}

func (u *Universe) runs(o offer, arch string) bool {
	return slices.Contains(u.sources[o.source].Architectures, arch) && u.family.Rank(o.Arch, arch) >= 0
}

// isIn tells whether a package's version is within the bound of a relation.
func (u *Universe) isIn(version string, r archive.Relation) bool {
	return r.Op == archive.Any || u.family.Satisfies(archive.Provide{Name: r.Name, Op: archive.Equal, Version: version}, r)
}

func (u *Universe) excepted(o offer) bool {
	return slices.ContainsFunc(u.sources[o.source].Except, func(p string) bool { return glob(p, o.Name) })
}

func isPattern(s string) bool { return strings.ContainsAny(s, "*?[") }

func glob(pattern, name string) bool {
	ok, err := path.Match(pattern, name)
	return err == nil && ok
}

func (u *Universe) explain(w Want) Unmatched {
	out := Unmatched{Want: w}
	for _, o := range u.byName[w.Relation.Name] {
		if o.source == w.Source && !slices.Contains(out.Versions, o.Version) {
			out.Versions = append(out.Versions, o.Version)
		}
	}
	if len(out.Versions) == 0 {
		out.Near = u.Near(w.Relation.Name)
	}
	return out
}

// Near gives up to three known names like name.
func (u *Universe) Near(name string) []string {
	type scored struct {
		name string
		d    int
	}
	var best []scored
	for n := range u.byName {
		if d := far(name, n); d <= max(2, len(name)/4) || len(name) > 3 && strings.Contains(n, name) {
			best = append(best, scored{n, d})
		}
	}
	slices.SortFunc(best, func(a, b scored) int {
		if a.d != b.d {
			return a.d - b.d
		}
		return strings.Compare(a.name, b.name)
	})
	var out []string
	for _, b := range best[:min(3, len(best))] {
		out = append(out, b.name)
	}
	return out
}

// far is the edit distance of two names, cut off where it no longer matters.
func far(a, b string) int {
	if d := len(a) - len(b); d > 4 || d < -4 {
		return 99
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			diagonal, row[j] = row[j], min(row[j]+1, row[j-1]+1, diagonal+cost)
		}
	}
	return row[len(b)]
}

// relations parses what a package needs, once.
func (u *Universe) relations(p *archive.Package) (archive.Relations, error) {
	if r, ok := u.needs[p]; ok {
		return r, nil
	}
	if p.Needs == nil {
		return archive.Relations{}, nil
	}
	r, err := p.Needs.Relations()
	if err == nil {
		u.needs[p] = r
	}
	return r, err
}

// candidates gives what could meet a relation on one architecture: by priority
// of the source, real names before provided ones, newest first.
func (u *Universe) candidates(r archive.Relation, arch string) []offer {
	var real, provided []offer
	fits := func(o offer) bool {
		switch r.Qualifier {
		case "", "native":
			return u.runs(o, arch)
		case "any":
			return u.runs(o, arch) && o.Coexists == archive.Allowed
		}
		return u.runs(o, r.Qualifier)
	}
	for _, o := range u.byName[r.Name] {
		if fits(o) && u.isIn(o.Version, r) {
			real = append(real, o)
		}
	}
	if !r.Real {
		for _, o := range u.virtual[r.Name] {
			if fits(o) && u.provides(o, r) {
				provided = append(provided, o)
			}
		}
	}
	if len(r.Also) > 0 {
		lacks := func(o offer) bool {
			return slices.ContainsFunc(r.Also, func(a archive.Relation) bool { return u.meets(o, a) == a.Not })
		}
		real, provided = slices.DeleteFunc(real, lacks), slices.DeleteFunc(provided, lacks)
	}
	machine := arch
	if r.Qualifier != "" && r.Qualifier != "native" && r.Qualifier != "any" {
		machine = r.Qualifier
	}
	better := func(a, b offer) int {
		if d := u.sources[a.source].Priority - u.sources[b.source].Priority; d != 0 {
			return d
		}
		if d := u.family.Rank(a.Arch, machine) - u.family.Rank(b.Arch, machine); d != 0 {
			return d
		}
		return u.family.CompareVersions(b.Version, a.Version)
	}
	slices.SortStableFunc(real, better)
	slices.SortStableFunc(provided, func(a, b offer) int {
		if d := better(a, b); d != 0 && a.Name == b.Name || u.sources[a.source].Priority != u.sources[b.source].Priority {
			return d
		}
		return strings.Compare(a.Name, b.Name)
	})
	return append(real, provided...)
}

// provides tells whether a package provides what meets a relation.
func (u *Universe) provides(o offer, r archive.Relation) bool {
	return slices.ContainsFunc(o.Provides, func(v archive.Provide) bool { return v.Name == r.Name && u.family.Satisfies(v, r) })
}

// meets tells whether a package meets a relation, by its name or by what it provides.
func (u *Universe) meets(o offer, r archive.Relation) bool {
	return o.Name == r.Name && u.isIn(o.Version, r) || !r.Real && u.provides(o, r)
}

// Meets tells whether anything in the universe meets a relation on any of its
// architectures, and names it.
func (u *Universe) Meets(c archive.Clause, arch string) (string, bool) {
	for _, r := range c {
		if r.Not {
			continue
		}
		if found := u.candidates(r, arch); len(found) > 0 {
			return fmt.Sprintf("%s %s", found[0].Name, found[0].Version), true
		}
	}
	return "", false
}
