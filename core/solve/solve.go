// Package solve selects what a mirror takes: wanted packages, everything that
// they need, and the proof that what was taken can be installed from the
// mirror alone.
//
// It works on packages as indexes describe them and trusts those descriptions:
// they were verified before. It does not trust them to be harmless: what a
// selection may cost is bounded in proportion to its size, a proof is bounded in
// time, and both end when their context does. What could not be decided within
// the bounds is an answer of its own (Undecided), never a yes. It fetches nothing, and knows
// a family only through archive.Matching.
package solve

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
)

// Source is one source as selection sees it.
type Source struct {
	Name          string
	Priority      int
	Architectures []string
	Except        []string // patterns of names that are never taken
	// Outside tells that machines have it from elsewhere: what it has meets needs, and is not
	// taken. Views that do not name their sources do not see it.
	Outside bool
	// Installed tells that its packages are installed already (see View.Installed); it is Outside
	// too.
	Installed bool
}

// offer is a package and where it comes from.
type offer struct {
	*archive.Package
	source int
}

// provision is one of the names that a package provides.
type provision struct {
	offer
	at int // in its Provides
}

// identity is what two entries of one source must share to be one package.
type identity struct {
	source                              int
	name, version, arch, sha256, sha512 string
}

// Universe is all packages of one family that a mirror may take from.
type Universe struct {
	family    archive.Matching
	rules     archive.Rules
	sources   []Source
	names     map[string]*name
	relations map[relationKey]*relation
	needs     map[*archive.Package]*needs // of those that were looked at
	of        [][]offer                   // by source, of those outside
	essential []offer                     // that machines always have
	backward  []offer                     // those that recommend themselves
	several   map[identity]bool           // what is in already, of names that stand more than a few times
	count     int
	state     int             // grows with what is put in
	lifted    map[string]bool // names of which exceptions are left aside while a way out is tried
	key       []byte          // memory of the last key
}

// NewUniverse makes an empty universe.
func NewUniverse(family archive.Matching, sources []Source) *Universe {
	return &Universe{family: family, rules: family.Rules(), sources: sources, names: map[string]*name{},
		relations: map[relationKey]*relation{}, needs: map[*archive.Package]*needs{},
		of: make([][]offer, len(sources)), several: map[identity]bool{}}
}

// Add puts a package of the source with that index in. A package for all
// architectures that stands in several lists of its source counts once.
func (u *Universe) Add(source int, p *archive.Package) {
	if u.has(source, p) {
		return
	}
	u.state++
	o, own := offer{p, source}, u.name(p.Name)
	own.real = append(own.real, o)
	for i, v := range p.Provides {
		if u.counts(p, v) {
			n := u.name(v.Name)
			n.provided = append(n.provided, provision{o, i})
		}
	}
	if u.sources[source].Outside {
		u.of[source] = append(u.of[source], o)
	}
	if p.Essential && !u.sources[source].Installed {
		u.essential = append(u.essential, o)
	}
	if p.Backward {
		u.backward = append(u.backward, o)
	}
	u.count++
}

// counts tells whether what a package provides adds to what its name and version
// say.
func (u *Universe) counts(p *archive.Package, v archive.Provide) bool {
	return v.Name != p.Name || v.Op != archive.Equal || v.Version != p.Version
}

// few is how many packages of one name are looked through one by one.
const few = 8

func (u *Universe) has(source int, p *archive.Package) bool {
	id := func(source int, p *archive.Package) identity {
		return identity{source, p.Name, p.Version, p.Arch, p.SHA256, p.SHA512}
	}
	have, now := u.called(p.Name), id(source, p)
	if len(have) < few {
		return slices.ContainsFunc(have, func(o offer) bool { return id(o.source, o.Package) == now })
	}
	if len(have) == few {
		for _, o := range have {
			u.several[id(o.source, o.Package)] = true
		}
	}
	if u.several[now] {
		return true
	}
	u.several[now] = true
	return false
}

// UnmetPaths gives the file paths that some package needs, or that are wanted, and that nothing is
// known to have: what the lists of files have to be asked for.
func (u *Universe) UnmetPaths(wants ...Want) map[string]bool {
	out := map[string]bool{}
	filed, ok := u.family.(archive.Filed)
	if !ok {
		return out
	}
	ask := func(x archive.Relation) {
		if filed.NamesFile(x) && (u.names[x.Name] == nil || len(u.names[x.Name].provided) == 0) {
			out[x.Name] = true
		}
	}
	for _, w := range wants {
		if w.By == ByProvided {
			ask(w.Relation)
		}
	}
	if !filed.NeedsFiles() {
		return out
	}
	for _, n := range u.names {
		for _, o := range n.real {
			if o.Needs == nil || u.sources[o.source].Installed {
				continue
			}
			r, err := o.Needs.Relations()
			if err != nil {
				continue // told when somebody wants it
			}
			for _, c := range r.Requires {
				for _, x := range c {
					ask(x)
				}
			}
		}
	}
	return out
}

// ByFileKey gives the packages of one source by what its lists of files name them by.
func (u *Universe) ByFileKey(source int, key func(p *archive.Package) string) map[string][]*archive.Package {
	out := map[string][]*archive.Package{}
	for _, n := range u.names {
		for _, o := range n.real {
			if o.source == source {
				k := key(o.Package)
				out[k] = append(out[k], o.Package)
			}
		}
	}
	return out
}

// AddPath notes that a package of a source has a file.
func (u *Universe) AddPath(source int, p *archive.Package, path string) {
	n := u.name(path)
	if slices.ContainsFunc(n.provided, func(v provision) bool { return v.Package == p }) {
		return
	}
	u.state++
	p.Provides = append(p.Provides, archive.Provide{Name: path})
	n.provided = append(n.provided, provision{offer{p, source}, len(p.Provides) - 1})
}

// Chosen is one package that is taken, and why.
type Chosen struct {
	*archive.Package
	Source int
	Wanted bool   // by name; else something needs it
	For    string // the first package that it is there for, or the want
	How    string // what that is to it: "" needs it; recommended, suggested, supplements
}

// Unmatched is a want that nothing fits.
type Unmatched struct {
	Want
	Near     []string // names that a person may have meant
	Versions []string // what there is, when only the version does not fit
	Offers   []Offered
}

// Offered is a version that a source has.
type Offered struct {
	Source  int
	Version string
}

// Missing is a need that nothing in the mirror's sources can meet.
type Missing struct {
	Needer   *archive.Package
	Source   int
	View     string // see View.Name
	Arch     string // of the machines
	On       string // the architecture for which it is needed, which they may have turned on beside it
	Clause   archive.Clause
	Chain    []string // from a wanted package to the needer
	Excepted []string // packages that would do, but are excepted
}

// Conflict is a wanted package that cannot be installed for what it needs excludes itself.
type Conflict struct {
	Wanted  *archive.Package
	View    string // see View.Name
	Arch    string
	Between [2]string
	Because string
}

// Undecided is a wanted package of which it was not found out whether it can be
// installed.
type Undecided struct {
	Wanted  *archive.Package
	View    string // see View.Name
	Arch    string
	Because string // what was tried
}

// Selection is the answer.
type Selection struct {
	Chosen    []Chosen // in order of source, component, name, version
	Unmatched []Unmatched
	Missing   []Missing
	Conflicts []Conflict
	Undecided []Undecided
	Unseen    int     // packages that were taken and that no machine of any view sees
	Damaged   []error // packages whose relations cannot be read
	Surpassed []Surpassed
	Unaided   []Unaided
	Proofs    []Proof   // for each view and architecture
	Refusals  []Refusal // why what is wanted cannot be installed, as far as that was worked out
}

// Limits bound how long a proof may search. Zero values mean the defaults.
type Limits struct {
	Each time.Duration // for one package: 5 s
	All  time.Duration // for all of one architecture: 1 min, and 1 ms for each package
}

func (l Limits) each() time.Duration {
	if l.Each > 0 {
		return l.Each
	}
	return 5 * time.Second
}

// Patience is how long a search for one package may take.
func (l Limits) Patience() time.Duration { return l.each() }

func (l Limits) all(packages int) time.Duration {
	if l.All > 0 {
		return l.All
	}
	return time.Minute + time.Duration(packages)*time.Millisecond
}

// Select works out what is taken for the wants, for each view by itself.
// Architectures are closed over one by one: a package for all of them may need
// different ones on each. What one view took is at hand for the next. An error
// means that there is no answer: the context ended, or the packages ask for more
// work than their number explains (content.too-large).
func (u *Universe) Select(ctx context.Context, wants []Want, views []View,
	limits Limits) (*Selection, error) {
	s := u.selector(ctx, limits)
	matched := make([]bool, len(wants))
	for _, v := range views {
		for _, arch := range v.Architectures {
			s.begin(v, arch)
			s.selectFor(wants, matched)
			if s.err != nil {
				return nil, s.err
			}
		}
	}
	if s.unaided(views); s.err != nil {
		return nil, s.err
	}
	for i, w := range wants {
		if !matched[i] {
			s.out.Unmatched = append(s.out.Unmatched, u.explain(w))
		}
	}
	for _, p := range s.unseen {
		if !s.asked[p] {
			s.out.Unseen++
		}
	}
	for _, c := range s.chosen {
		s.out.Chosen = append(s.out.Chosen, *c)
	}
	slices.SortFunc(s.out.Chosen, func(a, b Chosen) int {
		return a.offer().compare(b.offer())
	})
	return s.out, nil
}

func (u *Universe) selector(ctx context.Context, limits Limits) *selector {
	return &selector{Universe: u, budget: newBudget(ctx, u.count), limits: limits, out: &Selection{},
		chosen: map[*archive.Package]*Chosen{}, told: map[string]bool{}, asked: map[*archive.Package]bool{},
		relied: map[*archive.Package]bool{}}
}

func (c Chosen) offer() offer { return offer{c.Package, c.Source} }

// compare orders packages as they stand in sources and lists.
func (o offer) compare(b offer) int {
	return cmp.Or(o.source-b.source, o.Index-b.Index, o.Ordinal-b.Ordinal)
}

// selectFor takes and proves what is wanted for the view at hand.
func (s *selector) selectFor(wants []Want, matched []bool) {
	roots := map[following][]offer{}
	meant := map[string]bool{}
	matches := make([][]offer, len(wants))
	for i, w := range wants {
		if s.view.Wants != nil && !slices.Contains(s.view.Wants, i) {
			continue
		}
		if w.By == ByName && w.Versions == 0 && w.With == "" && s.view.Hides != nil && len(s.pinned) == 0 {
			s.takeUnseen(w)
		}
		matches[i] = s.match(w)
		how := following{w.With, w.Alternatives}
		for _, o := range matches[i] {
			matched[i] = true
			meant[o.Name] = meant[o.Name] || w.old()
			s.asked[o.Package] = true
			s.take(o, true, "", w.As)
			roots[how] = append(roots[how], o)
		}
	}
	for _, with := range []string{definition.Required, definition.Recommended, definition.Suggested, ""} {
		for _, all := range []bool{false, true} {
			s.close(roots[following{with, all}], following{with, all})
		}
	}
	if s.err == nil {
		s.prove(roots, s.setsOf(wants, matches))
	}
	if s.err == nil {
		s.surpassed(meant)
	}
}

// takeUnseen takes what is hidden from machines where everything is wanted: a copy
// of it all has it. Nothing is proved of it.
func (s *selector) takeUnseen(w Want) {
	for _, n := range s.names {
		for _, o := range n.real {
			if o.source == w.Source && s.Universe.runs(o, s.arch) && !s.excepted(o) && w.admits(o.Package) &&
				!s.runs(o, s.arch) && s.take(o, true, "", w.As) {
				s.unseen = append(s.unseen, o.Package)
			}
		}
	}
}

// suiting tells how well each of some packages suits a machine, as its client has it: one for
// all machines is passed over for none of its name, and gets none passed over.
func (u *Universe) suiting(of []offer, arch string) func(offer) int {
	best := map[string]int{} // by name, of those that are not for all
	for _, o := range of {
		if r := u.rank(o, arch); !u.forAll(o) {
			if b, seen := best[o.Name]; !seen || r < b {
				best[o.Name] = r
			}
		}
	}
	return func(o offer) int {
		if b, seen := best[o.Name]; seen && u.forAll(o) {
			return b
		}
		return u.rank(o, arch)
	}
}

// forAll tells whether a package is for machines of every architecture: it suits one of none
// in particular.
func (u *Universe) forAll(o offer) bool { return u.family.Rank(o.Arch, "") >= 0 }

func (u *Universe) runs(o offer, arch string) bool {
	return slices.Contains(u.sources[o.source].Architectures, arch) && u.family.Rank(o.Arch, arch) >= 0
}

// isIn tells whether a package meets a relation of its own name.
func (u *Universe) isIn(o offer, r archive.Relation) bool {
	return u.family.Meets(o.Package, archive.Itself, r)
}

func (u *Universe) excepted(o offer) bool {
	return !u.lifted[o.Name] && slices.ContainsFunc(u.sources[o.source].Except,
		func(p string) bool { return archive.Matches(p, o.Name) })
}

// Meets names the best that a source has to meet a need that is lacking, for whose need it is: that
// of a package of an architecture turned on beside the machine's own is met there. "" where it has
// nothing. essential tells that it belongs to what machines of that source always have.
func (u *Universe) Meets(m Missing, source int) (what string, essential bool) {
	s := u.selector(context.Background(), Limits{})
	view, needer := View{Sources: []int{source}}, offer{m.Needer, m.Source}
	if m.On != m.Arch {
		view.Foreign = []string{m.On}
	}
	s.begin(view, m.Arch)
	for _, r := range m.Clause {
		if r.Not {
			continue
		}
		fits := s.fits(r, s.placeOf(needer, r, false))
		runs := func(o offer) bool { return o.source == source && fits(o) && !u.excepted(o) }
		if found := s.candidates(u.relation(r), m.Arch, runs, func(int) bool {
			return true
		}); len(found) > 0 {
			return fmt.Sprintf("%s %s", found[0].Name, found[0].Version), found[0].Essential
		}
	}
	return "", false
}

// Source gives what the universe knows of one.
func (u *Universe) Source(k int) Source { return u.sources[k] }

// Called gives the packages of a name that a source has.
func (u *Universe) Called(name string, source int) (out []*archive.Package) {
	for _, o := range u.called(name) {
		if o.source == source {
			out = append(out, o.Package)
		}
	}
	return out
}

// Sees tells whether machines of a view see what was chosen, on an architecture.
func (u *Universe) Sees(v View, arch string, c Chosen) bool {
	s := u.selector(context.Background(), Limits{})
	s.begin(v, arch)
	return s.here(c.offer())
}
