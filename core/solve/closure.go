package solve

import (
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
)

// state is what is known of a package's hard needs: whether they can all be
// met, down to the bottom, when conflicts are left aside.
type state int8

const (
	unknown state = iota
	supported
	unsupported
)

// selector works on one architecture after the other.
type selector struct {
	*Universe
	*budget
	limits Limits
	out    *Selection
	chosen map[*archive.Package]*Chosen
	told   map[string]bool
	proved []provedThere             // of each proof
	unseen []*archive.Package        // taken, and hidden in the view that took them
	asked  map[*archive.Package]bool // seen by some view, and asked about there
	rests  map[string]bool           // names of what is outside, and packages of the mirror need
	relied map[*archive.Package]bool // of sources outside, that something was found to rest on

	view      View              // that is being looked at
	arch      string            // of the machine that is being looked at
	sees      []bool            // by source
	ranked    []bool            // by source: the view has ranks of its own for it
	pinned    map[pinKey]string // the version that packages of a name stay on
	hidden    map[*archive.Package]bool
	nodes     map[*archive.Package]*node
	namesakes map[string]*called
	meetings  map[meetingKey]*meeting
	question  *question        // what the solver knows; nil: it was not asked
	lacking   []lacking        // needs under conditions that nothing meets
	baseline  []*node          // what machines of the view have already, one of each name
	newer     []*node          // what could take its place
	always    map[string]*node // by name, what machines always have: essential packages
}

// take takes a package, for a want or for the sake of another: the strongest reason is kept.
func (s *selector) take(o offer, wanted bool, how, reason string) bool {
	if s.sources[o.source].Outside {
		s.relied[o.Package] = true
		return false
	}
	if c, ok := s.chosen[o.Package]; ok {
		if wanted && !c.Wanted || !c.Wanted && how == "" && c.How != "" {
			c.Wanted, c.How, c.For = wanted, how, reason
		}
		return false
	}
	s.chosen[o.Package] = &Chosen{Package: o.Package, Source: o.source, Wanted: wanted, How: how,
		For: reason}
	return true
}

// isTaken tells whether a package is there once the edition is: taken, or on the machines from
// elsewhere.
func (s *selector) isTaken(o offer) bool {
	return s.chosen[o.Package] != nil || s.relied[o.Package] || s.sources[o.source].Installed
}

// fails tells whether a hard need of a package can be met by nothing.
func (n *node) fails() bool {
	return slices.ContainsFunc(n.requires, func(c clause) bool {
		return !c.conditional() && !slices.ContainsFunc(c, func(l literal) bool { return l.live > 0 })
	})
}

// settle works out for everything that could be reached from the roots whether
// it can be supported. It begins with hope for all and takes out what fails,
// until nothing changes: circles that hold themselves up stay. What was settled
// before is not looked at again.
func (s *selector) settle(roots ...*node) {
	var reached []*node
	stack := slices.Clone(roots)
	for len(stack) > 0 && s.spend(1) {
		n := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if n.state != unknown {
			continue
		}
		n.state = supported // for now
		reached = append(reached, n)
		for _, c := range n.requires {
			if c.conditional() {
				continue // what it asks depends on what else is there: the proof decides
			}
			for _, l := range c {
				stack = append(stack, s.reach(l.meeting)...)
				l.users = append(l.users, n)
			}
		}
	}
	for len(reached) > 0 {
		n := reached[len(reached)-1]
		reached = reached[:len(reached)-1]
		if n.state == unsupported || !n.fails() {
			continue
		}
		n.state = unsupported
		for _, m := range n.of {
			if m.live--; m.live == 0 {
				reached = append(reached, m.users...)
			}
		}
	}
}

// reach makes the candidates of a meeting nodes, once, and gives those that are
// still to be settled.
func (s *selector) reach(m *meeting) (fresh []*node) {
	if m.settled || !s.spend(len(m.usable)) {
		return nil
	}
	m.settled = true
	for _, o := range m.usable {
		n := s.node(o)
		n.of = append(n.of, m)
		if n.state != unsupported {
			m.live++
		}
		if n.state == unknown {
			fresh = append(fresh, n)
		}
	}
	return fresh
}

// step is a package that is followed, with how it was come to.
type step struct {
	*node
	up    *step
	depth int
	under clause // the condition under which it is needed; nil: none
}

// waiting is a clause whose conditions do not hold yet.
type waiting struct {
	at *step
	clause
}

// closing follows what roots need.
type closing struct {
	*selector
	following
	queue       []*step
	conditional []waiting
	visited     map[*node]bool
}

func (c *closing) soft() bool {
	return c.with == definition.Recommended || c.with == definition.Suggested
}

// close takes what the roots need.
func (s *selector) close(roots []offer, how following) {
	if len(roots) == 0 {
		return
	}
	c := &closing{selector: s, following: how, visited: map[*node]bool{}}
	for _, o := range roots {
		n := s.node(o)
		s.settle(n)
		c.queue = append(c.queue, &step{node: n})
	}
	for len(c.queue) > 0 && s.err == nil {
		for len(c.queue) > 0 && s.spend(1) {
			at := c.queue[0]
			c.queue = c.queue[1:]
			if !c.visited[at.node] {
				c.visited[at.node] = true
				c.visit(at)
			}
		}
		// Nothing is left to follow: see what conditions have come to hold, and
		// what offers itself to what is there now.
		c.conditional = slices.DeleteFunc(c.conditional, func(w waiting) bool {
			p := w.positive()
			if len(p) == 0 || !s.applies(w.clause) {
				return false
			}
			c.follow(w.at, p, w.clause, "")
			return true
		})
		if c.soft() {
			for _, n := range s.offering(how.with) {
				s.take(n.offer, false, "supplements", "")
				c.queue = append(c.queue, &step{node: n, depth: 1})
			}
		}
	}
}

// visit follows what one package needs.
func (c *closing) visit(at *step) {
	for _, x := range at.requires {
		if x.conditional() {
			c.conditional = append(c.conditional, waiting{at, x})
			continue
		}
		c.follow(at, x, nil, "")
	}
	soft := func(all []clause, how string) {
		for _, x := range all {
			if c.applies(x) {
				c.follow(at, x.positive(), nil, how)
			}
		}
	}
	if at.asks == nil {
		return
	}
	if c.soft() {
		soft(c.clauses(at.asks.recommends, at.offer), definition.Recommended)
	}
	if c.with == definition.Suggested && at.depth == 0 {
		soft(c.clauses(at.asks.suggests, at.offer), definition.Suggested)
	}
}

// follow takes what meets a clause of a package; how is "" where that needs it; under is the whole
// of it where it had conditions.
func (c *closing) follow(at *step, x, under clause, how string) {
	hard := how == ""
	pick := c.pick(x, !hard)
	if pick == nil {
		if hard && c.err == nil {
			c.missing(at, x, under)
		}
		return
	}
	if c.with == "" {
		return // only proved, not taken
	}
	for _, n := range c.ways(pick, x) {
		if c.sources[n.source].Outside && !c.sources[at.source].Outside && hard {
			c.rests[n.Name] = true
		}
		c.take(n.offer, false, how, at.Name)
		if !c.sources[n.source].Installed {
			c.queue = append(c.queue, &step{node: n, up: at, depth: at.depth + 1, under: under})
		}
	}
}

// ways gives what is taken for a clause beside the pick: where every way is wanted, the best of
// each name that would do.
func (c *closing) ways(pick *node, x clause) []*node {
	out := []*node{pick}
	if !c.all {
		return out
	}
	seen := map[string]bool{pick.Name: true}
	for _, l := range x {
		for _, o := range l.usable {
			if !c.spend(1) {
				return out
			}
			if n := c.node(o); n.state == supported && !seen[o.Name] && !c.sources[o.source].Outside {
				seen[o.Name] = true
				out = append(out, n)
			}
		}
	}
	return out
}

// present tells whether something that is taken meets a relation.
func (s *selector) present(m *meeting) bool {
	s.spend(len(m.all))
	return slices.ContainsFunc(m.all, s.isTaken)
}

// applies tells whether all conditions of a clause hold for what is taken, so
// that it asks for the rest.
func (s *selector) applies(c clause) bool {
	return !slices.ContainsFunc(c, func(l literal) bool { return l.not && !s.present(l.meeting) })
}

// holds tells whether all clauses hold for what is taken.
func (s *selector) holds(all []clause) bool {
	for _, c := range all {
		if !slices.ContainsFunc(c, func(l literal) bool { return s.present(l.meeting) != l.not }) {
			return false
		}
	}
	return len(all) > 0
}

// offering gives the packages that are not taken yet, supplement (or, where
// suggestions are followed, enhance) what is, and can be supported.
func (s *selector) offering(with string) (out []*node) {
	for _, o := range s.backward {
		if !s.spend(1) || s.isTaken(o) || s.sources[o.source].Outside || !s.here(o) || s.excepted(o) {
			continue
		}
		n := s.node(o)
		all := n.supplements
		if with == definition.Suggested {
			all = slices.Concat(n.supplements, n.enhances)
		}
		if n.damaged || !slices.ContainsFunc(all, s.holds) {
			continue
		}
		if s.settle(n); n.state == supported {
			out = append(out, n)
		}
	}
	return out
}

// pick chooses the package that meets a clause: one that is taken already, or
// the first alternative's best that can itself be supported. For soft needs
// only what can be supported is good enough; for hard ones anything that is
// there, so that what is missing further down can be told.
func (s *selector) pick(c clause, soft bool) *node {
	var first, any *node
	for _, l := range c {
		s.settle(s.reach(l.meeting)...)
		for _, o := range l.usable {
			if !s.spend(1) {
				return nil
			}
			n := s.node(o)
			if any == nil {
				any = n
			}
			if n.state != supported {
				continue
			}
			if s.isTaken(o) {
				return n
			}
			if first == nil {
				first = n
			}
		}
	}
	if first == nil && !soft {
		return any
	}
	return first
}

// lacking is a need that nothing meets, and that is there only under conditions: whether it is
// one is known when the rest is proved.
type lacking struct {
	Missing
	root  *node    // at the beginning of the chain
	under []clause // the conditions
}

// missing notes that nothing meets a clause of a package.
func (s *selector) missing(at *step, c, under clause) {
	l := lacking{Missing: Missing{
		Needer: at.Package,
		Source: at.source,
		View:   s.view.Name,
		Arch:   s.arch,
		On:     s.arch,
		Clause: c.written(),
	}}
	if _, bound := s.family.(archive.Bound); bound && at.Arch != s.arch && !s.forAll(at.offer) {
		l.On = at.Arch
	}
	if under != nil {
		l.under = append(l.under, under)
	}
	for up := at; up != nil; up = up.up {
		l.Chain, l.root = append(l.Chain, up.Name), up.node
		if up.under != nil {
			l.under = append(l.under, up.under)
		}
	}
	slices.Reverse(l.Chain)
	for _, x := range c {
		for _, o := range x.all {
			if s.excepted(o) && !slices.Contains(l.Excepted, o.Name) {
				l.Excepted = append(l.Excepted, o.Name)
			}
		}
	}
	if len(l.under) > 0 {
		s.lacking = append(s.lacking, l)
		return
	}
	s.tellMissing(l.Missing)
}

// tellMissing tells of a need that nothing meets, once.
func (s *selector) tellMissing(m Missing) {
	key := strings.Join([]string{m.Needer.Name, m.Needer.Version, m.Clause.String(), m.Arch, m.View}, "\x00")
	if !s.told[key] {
		s.told[key] = true
		s.out.Missing = append(s.out.Missing, m)
	}
}
