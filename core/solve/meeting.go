package solve

import (
	"cmp"
	"context"
	"math/bits"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// meeting is one relation on one architecture with what could meet it. A
// relation that many packages have is worked out once.
type meeting struct {
	relation *relation
	all      []offer // what could meet it, best first
	usable   []offer // of these, what is not excepted

	// In the world that is put together: whose doing it is that something meets it, and that what
	// meets it is excluded; and the clauses that it is a condition of. See straight.
	met, excluded who
	watched       []asked

	always []*node // of its candidates, what is always there; see excludesAlways
	looked bool    // for these

	settled bool // its candidates were looked at; see selector.settle
	live    int  // how many usable ones can be supported as far as is known
	users   []*node
}

// literal is a meeting, or that nothing meets it.
type literal struct {
	*meeting
	not bool
}

// clause holds when one of its literals does.
type clause []literal

// written gives the clause as the index has it.
func (c clause) written() archive.Clause {
	out := make(archive.Clause, len(c))
	for i, l := range c {
		out[i] = l.relation.Relation
		out[i].Not = l.not
	}
	return out
}

// conditional tells whether the clause asks for something only while something
// else is there.
func (c clause) conditional() bool {
	return slices.ContainsFunc(c, func(l literal) bool { return l.not })
}

// positive gives what a clause asks for when its conditions hold.
func (c clause) positive() clause {
	return slices.DeleteFunc(slices.Clone(c), func(l literal) bool { return l.not })
}

// node is a package on one architecture with its relations as meetings.
type node struct {
	offer
	requires []clause
	// asks has also what it recommends and suggests, which is looked at where that is followed.
	asks                  *needs
	conflicts             []*meeting
	supplements, enhances [][]clause
	replaces              []*relation
	damaged               bool // its relations cannot be read
	// set is what it stands for that shall go together; nil: it is a package.
	set *Together

	in     bool // the world that is put together
	called *called
	state  state
	of     []*meeting // settled meetings that it is a candidate of
}

// called is what is known of the packages of one name.
type called struct{ in []*node } // the world that is put together

// budget bounds what a selection may cost in proportion to what it is made of:
// indexes come from outside, and a small one can be made to ask for a lot.
type budget struct {
	ctx   context.Context
	left  int64
	check int64
	err   error
}

// Costs are counted in comparisons of a candidate with a relation.
const (
	workBase       = 4_000_000
	workPerPackage = 200
	checkEvery     = 1 << 14
)

func newBudget(ctx context.Context, packages int) *budget {
	return &budget{ctx: ctx, left: workBase + workPerPackage*int64(packages)}
}

// spend tells whether there is enough left to go on. What made it end is err.
func (b *budget) spend(n int) bool {
	if b.err != nil {
		return false
	}
	b.left -= int64(n) + 1
	if b.left < 0 {
		b.err = finding.New(finding.ContentTooLarge, "",
			"resolving the dependencies would cost out of proportion to the number of packages")
		return false
	}
	if b.check += int64(n) + 1; b.check >= checkEvery {
		b.check = 0
		b.err = b.ctx.Err()
	}
	return b.err == nil
}

// spendTime counts work that has a bound of its own: only whether the context ended is asked.
func (b *budget) spendTime(n int) bool {
	if b.err == nil {
		if b.check += int64(n) + 1; b.check >= checkEvery {
			b.check = 0
			b.err = b.ctx.Err()
		}
	}
	return b.err == nil
}

// meetingKey is a relation and where it is looked for.
type meetingKey struct {
	*relation
	place
}

// meetingOf gives the one meeting of a relation.
func (s *selector) meetingOf(r *relation, at place) *meeting {
	key := meetingKey{r, at}
	if m, ok := s.meetings[key]; ok {
		return m
	}
	m := &meeting{relation: r, all: s.candidates(r, at.within, s.fits(r.Relation, at), s.spend)}
	m.usable = m.all
	if slices.ContainsFunc(m.all, s.excepted) {
		m.usable = slices.DeleteFunc(slices.Clone(m.all), s.excepted)
	}
	s.meetings[key] = m
	return m
}

// node gives the one node of a package.
func (s *selector) node(o offer) *node {
	if n, ok := s.nodes[o.Package]; ok {
		return n
	}
	n := &node{offer: o, called: s.namesakes[o.Name]}
	if n.called == nil {
		n.called = &called{}
		s.namesakes[o.Name] = n.called
	}
	s.nodes[o.Package] = n
	asks := s.needsOf(o.Package)
	if s.sources[o.source].Installed {
		s.standing(n, asks)
		return n
	}
	if asks.err != nil {
		n.damaged, n.state = true, unsupported
		if key := "damaged\x00" + o.Name + "\x00" + o.Version + "\x00" + o.Arch; !s.told[key] {
			s.told[key] = true
			s.out.Damaged = append(s.out.Damaged, asks.err)
		}
		return n
	}
	n.asks, n.requires = asks, s.clauses(asks.requires, o)
	n.replaces = asks.replaces
	for _, r := range asks.conflicts {
		n.conflicts = append(n.conflicts, s.meetingOf(r, s.placeOf(o, r.Relation, true)))
	}
	for _, all := range asks.supplements {
		n.supplements = append(n.supplements, s.clauses(all, o))
	}
	for _, all := range asks.enhances {
		n.enhances = append(n.enhances, s.clauses(all, o))
	}
	return n
}

func (s *selector) clauses(all [][]term, o offer) []clause {
	if len(all) == 0 {
		return nil
	}
	out := make([]clause, len(all))
	for i, c := range all {
		out[i] = make(clause, len(c))
		for k, t := range c {
			out[i][k] = literal{s.meetingOf(t.relation, s.placeOf(o, t.Relation, false)), t.not}
		}
	}
	return out
}

// offersOf is what meets a relation, by real names and by provided ones, whatever machine
// it is for.
type offersOf struct{ real, provided []offer }

// offersOf works it out, once for all views and architectures. Nil: spend said no.
func (u *Universe) offersOf(r *relation, spend func(int) bool) *offersOf {
	if r.offers != nil && r.as == u.state {
		return r.offers
	}
	if !spend(len(r.name.real) + len(r.name.provided)) {
		return nil
	}
	further := len(r.Also) // of which each is looked for among all that a package provides
	out := &offersOf{}
	for _, o := range r.name.real {
		if !spend(further * len(o.Provides)) {
			return nil
		}
		if u.isIn(o, r.Relation) {
			out.real = append(out.real, o)
		}
	}
	for _, v := range r.name.provided {
		if !spend(further * len(v.Provides)) {
			return nil
		}
		twice := len(out.provided) > 0 && out.provided[len(out.provided)-1].Package == v.Package ||
			v.Name == r.Name && u.isIn(v.offer, r.Relation)
		if !twice && u.family.Meets(v.Package, v.at, r.Relation) {
			out.provided = append(out.provided, v.offer)
		}
	}
	r.offers, r.as = out, u.state
	return out
}

// candidates gives what could meet a relation for one architecture, of what fits:
// by priority of the source, real names before provided ones, newest first. spend is told
// what it costs; when it says no, the answer is not whole and must not be used.
func (s *selector) candidates(r *relation, arch string, fits func(offer) bool,
	spend func(int) bool) []offer {
	whole := s.offersOf(r, spend)
	if whole == nil || !spend(len(whole.real)+len(whole.provided)) {
		return nil
	}
	var real, provided []offer
	for _, o := range whole.real {
		if fits(o) {
			real = append(real, o)
		}
	}
	for _, o := range whole.provided {
		if fits(o) {
			provided = append(provided, o)
		}
	}
	better := func(among []offer) func(a, b offer) int {
		suiting := s.suiting(among, arch)
		return func(a, b offer) int {
			return cmp.Or(s.order(a)-s.order(b), suiting(a)-suiting(b),
				s.family.CompareVersions(b.Version, a.Version))
		}
	}
	if n := len(real) + len(provided); n > few && !spend(n*bits.Len(uint(n))) {
		return nil
	}
	slices.SortStableFunc(real, better(real))
	among := better(provided)
	slices.SortStableFunc(provided, func(a, b offer) int {
		if d := among(a, b); d != 0 && a.Name == b.Name || s.order(a) != s.order(b) {
			return d
		}
		return strings.Compare(a.Name, b.Name)
	})
	return append(real, provided...)
}

// rank orders offers by how well they suit an architecture; those of others that
// may stand in for it come last.
func (u *Universe) rank(o offer, arch string) int {
	if r := u.family.Rank(o.Arch, arch); r >= 0 {
		return r
	}
	return 1 << 20
}
