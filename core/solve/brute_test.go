package solve

import (
	"context"
	"fmt"
	"math/bits"
	"math/rand"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
)

// drawn is a small universe that was drawn by lot. Its versions are numbers, so that
// what follows from it can be worked out here by trying everything, with nothing of what
// is tested.
type drawn struct {
	packages []drawnPackage
	priority []int // by source
	open     bool  // a name provided without a version is there in all of them (rpm)
	// apart are the pairs of one name that cannot be side by side; nil: all of them.
	apart map[[2]int]bool
}

type drawnPackage struct {
	name      string
	version   int
	source    int
	provides  []drawnRelation // with a version: exactly that one
	requires  [][]drawnRelation
	conflicts []drawnRelation
	arch      string // "all": of none in particular; "elsewhere": of one that the machine has not
}

// runs gives the packages, a bit for each, that the machine can have.
func (d drawn) runs() (set int) {
	for i, p := range d.packages {
		if p.arch != "elsewhere" {
			set |= 1 << i
		}
	}
	return set
}

// forAll is what families call the architecture of packages of none in particular.
var forAll = map[string]string{"deb": "all", "rpm": "noarch", "alpm": "any"}

type drawnRelation struct {
	name    string
	op      archive.Op
	version int
	not     bool
}

func (p drawnPackage) String() string {
	return fmt.Sprintf("%s %d at %d gives %v needs %v excludes %v", p.name, p.version, p.source, p.provides,
		p.requires, p.conflicts)
}

// meets is what a relation means for versions that are numbers.
func (d drawn) meets(r drawnRelation, p drawnPackage) bool {
	holds := func(v int) bool { return r.op.Holds(v - r.version) }
	if p.name == r.name && holds(p.version) {
		return true
	}
	return slices.ContainsFunc(p.provides, func(v drawnRelation) bool {
		if v.op == archive.Any {
			return v.name == r.name && (r.op == archive.Any || d.open)
		}
		return v.name == r.name && (r.op == archive.Any || v.op == archive.Equal && holds(v.version))
	})
}

// stands tells whether a set of packages, a bit for each, can be installed together.
func (d drawn) stands(set int) bool {
	in := func(i int) bool { return set&(1<<i) != 0 }
	there := func(r drawnRelation, but string) bool {
		for i, p := range d.packages {
			if p.name != but && in(i) && d.meets(r, p) {
				return true
			}
		}
		return false
	}
	for i, p := range d.packages {
		if !in(i) {
			continue
		}
		for j, other := range d.packages {
			if i != j && in(j) && p.name == other.name && (d.apart == nil || d.apart[[2]int{min(i, j),
				max(i, j)}]) {
				return false // one version of a name
			}
		}
		for _, c := range p.requires {
			if !slices.ContainsFunc(c, func(r drawnRelation) bool { return there(r, "") != r.not }) {
				return false
			}
		}
		for _, r := range p.conflicts {
			if there(r, p.name) { // its own other versions are another matter
				return false
			}
		}
	}
	return true
}

// installable tells whether some set of what is allowed has what is wanted in it and stands.
func (d drawn) installable(wanted, allowed int) bool {
	for set := allowed; set > 0; set = (set - 1) & allowed {
		if set&wanted == wanted && d.stands(set) {
			return true
		}
	}
	return false
}

const drawnNames = "abcdef"

func draw(r *rand.Rand, conditions bool) drawn {
	d := drawn{priority: []int{20 + 10*r.Intn(2), 20 + 10*r.Intn(2)}}
	relation := func() drawnRelation {
		x := drawnRelation{name: drawnNames[r.Intn(len(drawnNames)):][:1]}
		if r.Intn(3) == 0 {
			x.name = "v" // that nobody is called
		}
		if r.Intn(2) == 0 {
			x.op = []archive.Op{archive.Equal, archive.GreaterOrEqual, archive.Less}[r.Intn(3)]
			x.version = 1 + r.Intn(3)
		}
		return x
	}
	seen := map[string]bool{}
	for range 3 + r.Intn(8) {
		name := drawnNames[r.Intn(len(drawnNames)):][:1]
		p := drawnPackage{name: name, version: 1 + r.Intn(3), source: r.Intn(2)}
		key := fmt.Sprint(p.name, p.version)
		if seen[key] {
			continue // which of two alike is taken says nothing
		}
		seen[key] = true
		p.arch = []string{"", "", "all", "all", "elsewhere"}[r.Intn(5)]
		for range r.Intn(3) {
			var c []drawnRelation
			for range 1 + r.Intn(2) {
				c = append(c, relation())
			}
			if conditions && r.Intn(4) == 0 {
				c = append(c, relation())
				c[len(c)-1].not = true
			}
			p.requires = append(p.requires, c)
		}
		if r.Intn(3) == 0 {
			p.conflicts = append(p.conflicts, relation())
		}
		if r.Intn(3) == 0 {
			v := drawnRelation{name: "v"}
			if r.Intn(2) == 0 {
				v.op, v.version = archive.Equal, 1+r.Intn(3)
			}
			p.provides = append(p.provides, v)
		}
		d.packages = append(d.packages, p)
	}
	return d
}

// given is relations that were not read from anywhere.
type given archive.Relations

func (g given) Relations() (archive.Relations, error) { return archive.Relations(g), nil }

// universe puts it into a family's words.
func (d drawn) universe(family archive.Matching, suffix string) (*Universe, []*archive.Package) {
	var sources []Source
	for i, p := range d.priority {
		sources = append(sources, Source{Name: fmt.Sprint("s", i), Priority: p,
			Architectures: []string{"x86_64"}})
	}
	u := NewUniverse(family, sources)
	written := func(r drawnRelation) archive.Relation {
		x := archive.Relation{Name: r.name, Op: r.op, Not: r.not}
		if r.op != archive.Any {
			x.Version = fmt.Sprint(r.version) + suffix
		}
		return x
	}
	var all []*archive.Package
	for i, p := range d.packages {
		var needs given
		for _, c := range p.requires {
			var clause archive.Clause
			for _, r := range c {
				clause = append(clause, written(r))
			}
			needs.Requires = append(needs.Requires, clause)
		}
		for _, r := range p.conflicts {
			needs.Conflicts = append(needs.Conflicts, written(r))
		}
		x := &archive.Package{
			Name: p.name, Version: fmt.Sprint(p.version) + suffix, Arch: "x86_64", Ordinal: i,
			SHA256: fmt.Sprintf("%064x", i+1), Needs: needs,
		}
		switch p.arch {
		case "all":
			x.Arch = forAll[family.(archive.Family).Name()]
		case "elsewhere":
			x.Arch = "s390x"
		}
		for _, v := range p.provides {
			w := written(v)
			x.Provides = append(x.Provides, archive.Provide{Name: w.Name, Op: w.Op, Version: w.Version})
		}
		all = append(all, x)
		u.Add(p.source, x)
	}
	return u, all
}

// stopped counts what can be installed, and is not by itself: trying everything does not ask whether
// it is.
func (s *Selection) stopped() (n int) {
	for _, u := range s.Unaided {
		n += len(u.Stops)
	}
	return n
}

// What is selected is what comes of trying everything: the wanted package that machines would
// take; with it enough to install it, exactly when there is a way; and each reason is one.
func TestSelectionIsWhatTryingEverythingGives(t *testing.T) {
	for _, c := range []struct {
		family     archive.Matching
		suffix     string
		conditions bool
		open       bool
	}{
		{deb.Family{}, "-1", false, false},
		{rpm.Family{}, "-1", true, true},
		{alpm.Family{}, "-1", false, false},
	} {
		name := c.family.(archive.Family).Name()
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			counts := map[string]int{}
			for seed := range int64(4000) {
				d := draw(rand.New(rand.NewSource(seed)), c.conditions)
				d.open = c.open
				u, all := d.universe(c.family, c.suffix)
				for _, n := range drawnNames[:3] {
					if problem := d.compare(u, all, c.family, string(n), counts); problem != "" {
						t.Fatalf("seed %d, %c: %s\n%s", seed, n, problem, d)
					}
				}
			}
			for seed := range int64(4000) {
				d := draw(rand.New(rand.NewSource(-1-seed)), c.conditions)
				d.open = c.open
				u, all := d.universe(c.family, c.suffix)
				if problem := d.compareTwo(u, all, counts); problem != "" {
					t.Fatalf("seed %d: %s\n%s", -1-seed, problem, d)
				}
			}
			t.Logf("%v", counts)
			for seed := range int64(2000) {
				d := draw(rand.New(rand.NewSource(1<<40+seed)), false)
				d.open = c.open
				if problem := d.compareOnFooting(c.family, c.suffix, seed, counts); problem != "" {
					t.Fatalf("seed %d: %s\n%s", 1<<40+seed, problem, d)
				}
			}
			outcomes := []string{"unmatched", "installed", "missing", "conflict", "together", "apart",
				"explained in 1", "explained in 3", "stands on the baseline", "does not beside the baseline",
				"for the baseline alone"}
			t.Logf("%v", counts)
			for _, outcome := range outcomes {
				if counts[outcome] < 20 {
					t.Errorf("only %d of the drawn were %s: nothing was compared", counts[outcome], outcome)
				}
			}
		})
	}
}

func (d drawn) String() string {
	var lines []string
	for _, p := range d.packages {
		lines = append(lines, p.String())
	}
	return fmt.Sprint(strings.Join(lines, "\n"), "\npriorities ", d.priority)
}

// compare selects one name and says what is not as it must be.
func (d drawn) compare(u *Universe, all []*archive.Package, family archive.Matching, wanted string,
	counts map[string]int) string {
	wants := []Want{{
		Source: AllSources, Relation: archive.Relation{Name: wanted}, With: "required",
		Versions: 1, As: wanted,
	}}
	s, err := u.Select(context.Background(), wants, []View{u.Everyone()}, Limits{})
	if err != nil {
		return err.Error()
	}
	best := -1 // the best priority, among equals the newest
	rank := func(p drawnPackage) int {
		r := d.priority[p.source] * 10
		if family.Rules().InOrder {
			r += p.source
		}
		return r
	}
	for i, p := range d.packages {
		if p.name == wanted && p.arch != "elsewhere" && (best < 0 || rank(p) < rank(d.packages[best]) ||
			rank(p) == rank(d.packages[best]) && p.version > d.packages[best].version) {
			best = i
		}
	}
	if best < 0 {
		counts["unmatched"]++
		if len(s.Unmatched) != 1 || len(s.Chosen) != 0 {
			return fmt.Sprintf("nothing is called so, and %v %v", s.Unmatched, s.Chosen)
		}
		return ""
	}
	chosen := 0
	for _, c := range s.Chosen {
		i := slices.Index(all, c.Package)
		chosen |= 1 << i
		if c.Wanted != (i == best) {
			return fmt.Sprintf("%s: wanted %v", c.Package, c.Wanted)
		}
		if problem := d.reason(c, all, s); problem != "" {
			return problem
		}
	}
	if chosen&(1<<best) == 0 {
		return "what machines would take was not taken: " + all[best].String()
	}
	told := len(s.Missing) + len(s.Conflicts)
	possible := d.installable(1<<best, d.runs())
	switch {
	case len(s.Undecided) > 0:
		return fmt.Sprint("not decided: ", s.Undecided)
	case possible && told > 0:
		return fmt.Sprintf("it can be installed, and is told otherwise: %v %v", s.Missing, s.Conflicts)
	case possible && !d.installable(1<<best, chosen):
		return fmt.Sprintf("what was taken is not enough: %v", s.Chosen)
	case !possible && told == 0:
		return "it cannot be installed, and nothing is told"
	case possible:
		counts["installed"]++
	case len(s.Missing) > 0:
		counts["missing"]++
	default:
		counts["conflict"]++
	}
	if p := s.Proofs[0]; p.Wanted != 1 || (p.Proved+s.stopped() == 1) != possible {
		return fmt.Sprintf("proof %+v", p)
	}
	if problem := d.explained(s, all, 1<<best, possible, counts); problem != "" {
		return problem
	}
	if found, err := u.Installable(context.Background(), Query{View: u.Everyone(), Arch: "x86_64",
		Packages: []*archive.Package{all[best]}}); err != nil || (found != nil) != possible {
		return fmt.Sprintf("asked for a way to install it: %v, %v", found, err)
	}
	return d.missing(s, all)
}

// compareTwo wants two packages. Each is looked at by itself, but for conditions that one brings
// about for the other: what can be installed side by side is never told to be missing.
func (d drawn) compareTwo(u *Universe, all []*archive.Package, counts map[string]int) string {
	var wants []Want
	for _, n := range []string{"a", "b"} {
		wants = append(wants, Want{Source: AllSources, Relation: archive.Relation{Name: n}, With: "required",
			Versions: 1, As: n})
	}
	view := u.Everyone()
	view.Together = []Together{{Name: "the pair", Wants: []int{0, 1}}}
	s, err := u.Select(context.Background(), wants, []View{view}, Limits{})
	if err != nil {
		return err.Error()
	}
	chosen, both, possible := 0, 0, true
	s, set := d.apartFrom(s)
	for _, c := range s.Chosen {
		chosen |= 1 << slices.Index(all, c.Package)
	}
	for _, c := range s.Chosen {
		if i := slices.Index(all, c.Package); c.Wanted {
			both |= 1 << i
			can := d.installable(1<<i, d.runs())
			possible = possible && can
			if can && !d.installable(1<<i, chosen) {
				return fmt.Sprintf("what was taken is not enough for %s: %v", c.Package, s.Chosen)
			}
		}
	}
	told := len(s.Missing) + len(s.Conflicts)
	together := d.installable(both, d.runs())
	if len(s.Unaided) == 0 && set.Proved != (together && bits.OnesCount(uint(both)) == 2) {
		return fmt.Sprintf("that the pair goes together is %v, and told %+v", together, set)
	}
	if together && both != 0 && !d.installable(both, chosen) {
		return fmt.Sprintf("what was taken is not enough for the pair: %v", s.Chosen)
	}
	switch {
	case both == 0:
	case together && told > 0:
		return fmt.Sprintf("both can be installed, and it is told otherwise: %v %v", s.Missing, s.Conflicts)
	case together && !possible:
		return "the trial contradicts itself"
	case together:
		counts["together"]++
	case !possible && told == 0:
		return "one cannot be installed, and nothing is told"
	case possible && told > 0 && len(s.Missing) == 0:
		return fmt.Sprintf("each can be installed, and it is told otherwise: %v", s.Conflicts)
	case possible:
		counts["apart"]++
	}
	return ""
}

// apartFrom takes what is told of the set out of a selection.
func (d drawn) apartFrom(s *Selection) (*Selection, ProvedSet) {
	s.Conflicts = slices.DeleteFunc(s.Conflicts, func(c Conflict) bool { return c.Wanted.Version == "" })
	if len(s.Proofs[0].Sets) == 0 {
		return s, ProvedSet{}
	}
	return s, s.Proofs[0].Sets[0]
}

// explained says what is wrong with an explanation: with what it says alone nothing can be
// installed, and with any part of it left out it can.
func (d drawn) explained(s *Selection, all []*archive.Package, wanted int, possible bool,
	counts map[string]int) string {
	if (len(s.Refusals) == 0) != possible {
		return fmt.Sprintf("refusals %v", s.Refusals)
	}
	if possible {
		return ""
	}
	r := s.Refusals[0]
	if !r.Minimal || r.Why == nil || len(r.Parts) != len(r.core) || len(r.core) == 0 {
		return fmt.Sprintf("the explanation is not whole: %+v", r)
	}
	rest := d.only(all, r.core)
	if rest.installable(wanted, d.runs()) {
		return fmt.Sprintf("it can be installed in spite of %v", r.Parts)
	}
	for i, part := range r.Parts {
		if rest = d.only(all, slices.Delete(slices.Clone(r.core), i, i+1)); !rest.installable(wanted,
			d.runs()) {
			return fmt.Sprintf("of %v, %q can be left out", r.Parts, part)
		}
	}
	counts[fmt.Sprint("explained in ", min(len(r.core), 4))]++
	return ""
}

// only gives the same packages with nothing but what an explanation says of them.
func (d drawn) only(all []*archive.Package, core []part) drawn {
	out := drawn{priority: d.priority, open: d.open, apart: map[[2]int]bool{}}
	has := func(p *archive.Package, match func(g guard) bool) bool {
		return slices.ContainsFunc(core, func(x part) bool {
			return x.of != nil && x.of.Package == p && match(x.guard)
		})
	}
	for i, p := range d.packages {
		asks := relationsOf(all[i])
		q := p
		q.requires, q.conflicts = nil, nil
		for k, c := range asks.Requires {
			against := archive.Clause{}
			for _, x := range c {
				x.Not = false
				against = append(against, x)
			}
			if has(all[i], func(g guard) bool {
				if g.needs == nil {
					return c.Conditional() && g.because == p.name+" excludes "+against.String()
				}
				return g.needs.written().String() == c.String()
			}) {
				q.requires = append(q.requires, p.requires[k])
			}
		}
		for k, r := range asks.Conflicts {
			if has(all[i], func(g guard) bool { return g.because == p.name+" excludes "+r.String() }) {
				q.conflicts = append(q.conflicts, p.conflicts[k])
			}
		}
		out.packages = append(out.packages, q)
		for j := range i {
			if d.packages[j].name == p.name && slices.ContainsFunc(core, func(x part) bool {
				return x.of == nil && x.needs == nil && x.by == p.name
			}) {
				out.apart[[2]int{j, i}] = true
			}
		}
	}
	return out
}

// reason says what is wrong with why something was taken.
func (d drawn) reason(c Chosen, all []*archive.Package, s *Selection) string {
	if c.Wanted {
		return ""
	}
	p := d.packages[slices.Index(all, c.Package)]
	for _, needer := range s.Chosen {
		n := d.packages[slices.Index(all, needer.Package)]
		if n.name != c.For {
			continue
		}
		for _, clause := range n.requires {
			if slices.ContainsFunc(clause, func(r drawnRelation) bool { return !r.not && d.meets(r, p) }) {
				return ""
			}
		}
	}
	return fmt.Sprintf("%s is taken for %s, which does not need it", c.Package, c.For)
}

// missing says what is wrong with what is told to be missing: the package has that need, it
// stands at the end of the chain, and nothing that could be supported meets it.
func (d drawn) missing(s *Selection, all []*archive.Package) string {
	supported := d.supported()
	for _, m := range s.Missing {
		i := slices.Index(all, m.Needer)
		k := slices.IndexFunc(relationsOf(m.Needer).Requires, func(c archive.Clause) bool {
			asked := slices.DeleteFunc(slices.Clone(c), func(r archive.Relation) bool { return r.Not })
			return asked.String() == m.Clause.String() // where its conditions hold, the rest is asked for
		})
		switch {
		case k < 0:
			return fmt.Sprintf("%s has no need of %s", m.Needer, m.Clause)
		case len(m.Chain) == 0 || m.Chain[len(m.Chain)-1] != m.Needer.Name:
			return fmt.Sprintf("the chain %v does not end at %s", m.Chain, m.Needer)
		}
		for j, p := range d.packages {
			if supported[j] && slices.ContainsFunc(d.packages[i].requires[k], func(r drawnRelation) bool {
				return !r.not && d.meets(r, p)
			}) {
				return fmt.Sprintf("%s misses %s, and %s would do", m.Needer, m.Clause, p)
			}
		}
	}
	return ""
}

func relationsOf(p *archive.Package) archive.Relations {
	r, _ := p.Needs.Relations()
	return r
}

// supported tells of each package whether its needs without conditions can be met, all the way
// down, conflicts left aside: the largest set in which every need is met from within.
func (d drawn) supported() []bool {
	in := make([]bool, len(d.packages))
	for i := range in {
		in[i] = d.packages[i].arch != "elsewhere"
	}
	for changed := true; changed; {
		changed = false
		for i, p := range d.packages {
			for _, c := range p.requires {
				conditional := slices.ContainsFunc(c, func(r drawnRelation) bool { return r.not })
				if in[i] && !conditional && !slices.ContainsFunc(c, func(r drawnRelation) bool {
					return slices.ContainsFunc(d.packages, func(o drawnPackage) bool {
						return d.meets(r, o) && in[slices.IndexFunc(d.packages, func(x drawnPackage) bool {
							return x.name == o.name && x.version == o.version
						})]
					})
				}) {
					in[i], changed = false, true
				}
			}
		}
	}
	return in
}

// compareOnFooting takes some packages that go together for installed already, and wants another:
// it can be installed exactly when something that stands has it, and of each name that is
// installed something.
func (d drawn) compareOnFooting(family archive.Matching, suffix string, seed int64,
	counts map[string]int) string {
	_, all := d.universe(family, suffix)
	whole := d.runs()
	r := rand.New(rand.NewSource(seed))
	baseline := 0
	for range 6 {
		if set := r.Intn(whole+1) & whole; d.stands(set) && set > baseline {
			baseline = set
		}
	}
	sources := []Source{{Name: "s0", Priority: d.priority[0], Architectures: []string{"x86_64"}},
		{Name: "s1", Priority: d.priority[1], Architectures: []string{"x86_64"}},
		{Name: "installed", Priority: 99, Architectures: []string{"x86_64"}, Outside: true, Installed: true}}
	u := NewUniverse(family, sources)
	for i, p := range all {
		u.Add(d.packages[i].source, p)
		if baseline&(1<<i) != 0 {
			there := *p
			u.Add(2, &there)
		}
	}
	view := u.Everyone()
	view.Sources = []int{0, 1, 2}
	wants := []Want{{Source: AllSources, Relation: archive.Relation{Name: "a"}, With: "required",
		Versions: 1}}
	s, err := u.Select(context.Background(), wants, []View{view}, Limits{})
	if err != nil {
		return err.Error()
	}
	wanted, chosen := 0, baseline
	for _, c := range s.Chosen {
		i := slices.Index(all, c.Package)
		if i < 0 {
			return "what is installed was taken: " + c.String()
		}
		if chosen |= 1 << i; c.Wanted {
			wanted |= 1 << i
		}
	}
	if wanted == 0 || baseline == 0 {
		return ""
	}
	keeps := func(allowed int) bool {
		for set := allowed; set > 0; set = (set - 1) & allowed {
			if set&wanted != wanted || !d.stands(set) {
				continue
			}
			lost := false
			for i, p := range d.packages {
				if baseline&(1<<i) != 0 {
					kept := false
					for k, q := range d.packages {
						kept = kept || set&(1<<k) != 0 && q.name == p.name
					}
					lost = lost || !kept
				}
			}
			if !lost {
				return true
			}
		}
		return false
	}
	possible := keeps(whole)
	switch p := s.Proofs[0]; {
	case len(s.Undecided) > 0:
		return fmt.Sprint("not decided: ", s.Undecided)
	case (p.Proved+s.stopped() == 1) != possible:
		return fmt.Sprintf("on the baseline %b it is %v that it can be installed, and told %+v %v %v",
			baseline, possible, p, s.Missing, s.Conflicts)
	case possible && !keeps(chosen):
		return fmt.Sprintf("on the baseline %b what was taken is not enough: %v", baseline, s.Chosen)
	case possible && !d.installable(wanted, chosen&^baseline|wanted):
		counts["for the baseline alone"]++
	case possible:
		counts["stands on the baseline"]++
	case d.installable(wanted, whole):
		counts["does not beside the baseline"]++
	}
	if (len(s.Refusals) == 0) != possible || !possible && !s.Refusals[0].Minimal {
		return fmt.Sprintf("refusals %+v", s.Refusals)
	}
	return ""
}
