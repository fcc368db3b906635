package solve

import "slices"

// Steps that may be taken straight ahead: for one package at least, and for all
// of them with so many for each. Where they do not do, the search begins. Worlds that many are
// put into are so many at most.
const (
	maxStraight  = 20_000
	eachStraight = 400
	maxWorlds    = 6
)

// world is a set of packages that can be installed side by side, put together without ever
// deciding otherwise about what is in it: a proof for everything in it. What it knows of packages
// and meetings stands with these, so that there is one world at a time; what an addition changed
// is taken back where it does not work out.
type world struct {
	*selector
	order []*node // what is in, in the order in which it came
	log   []undo
	later []asked // clauses with conditions that are to be looked at
	left  int     // steps
}

// undo is what a meeting knew before.
type undo struct {
	*meeting
	met, excluded who
	watched       int
}

// who tells whose doing something is: packages of one name, or of several.
type who struct {
	name    string
	several bool
}

func (w who) and(name string) who { return who{name, w.several || w.name != "" && w.name != name} }

// others tells whether packages of another name are among them.
func (w who) others(name string) bool { return w.several || w.name != "" && w.name != name }

// asked is a clause of a package.
type asked struct {
	by *node
	clause
}

// straight takes out of the wanted packages those that can be installed with the
// first of what meets each need that does not exclude what is there already. Packages are put
// into one world as long as they go together there, then into another, and at last each into
// one of its own.
func (s *selector) straight(wanted []*node) []*node {
	w := &world{selector: s, left: maxStraight + eachStraight*len(wanted)}
	for _, a := range s.always { // they are in each world, without what they need
		for _, m := range a.conflicts {
			s.reach(m)
			m.excluded = m.excluded.and(a.Name)
		}
	}
	proved := map[*node]bool{}
	for n := 0; n < maxWorlds && len(wanted) > 0; n++ {
		before := len(wanted)
		w.fill(wanted)
		for _, n := range w.order {
			proved[n] = true
		}
		w.back(0, 0)
		wanted = slices.DeleteFunc(wanted, func(n *node) bool { return proved[n] })
		if len(wanted) > before/2 {
			break
		}
	}
	return slices.DeleteFunc(wanted, func(n *node) bool {
		if proved[n] || w.left <= 0 || s.ctx.Err() != nil {
			return proved[n]
		}
		if w.add(n) {
			for _, in := range w.order {
				proved[in] = true
			}
		}
		w.back(0, 0)
		return proved[n]
	})
}

// fill puts in what goes together.
func (w *world) fill(wanted []*node) {
	for _, n := range wanted {
		if w.left <= 0 || w.ctx.Err() != nil {
			return
		}
		w.add(n)
	}
}

// add puts a package in with what it needs, or leaves the world as it was.
func (w *world) add(n *node) bool {
	order, log, left := len(w.order), len(w.log), w.left
	one := min(left, max(maxStraight, left/8)) // so much for one
	w.left = one
	ok := w.install(n) && w.meetAll(order)
	w.left += left - one
	if w.later = w.later[:0]; !ok {
		w.back(order, log)
	}
	return ok
}

// meetAll meets the needs of what came in from a place on.
func (w *world) meetAll(from int) bool {
	for from < len(w.order) || len(w.later) > 0 {
		for ; from < len(w.order); from++ {
			for _, c := range w.order[from].requires {
				if c.conditional() {
					w.later = append(w.later, asked{w.order[from], c})
				} else if !w.meet(c) {
					return false
				}
			}
		}
		if len(w.later) == 0 {
			break
		}
		last := w.later[len(w.later)-1]
		w.later = w.later[:len(w.later)-1]
		if w.left--; w.left <= 0 {
			return false
		}
		if last.by.in && !w.holds(last) && !w.meet(last.positive()) {
			return false
		}
	}
	return w.left > 0
}

// back takes out what came in after a moment.
func (w *world) back(order, log int) {
	for i := len(w.order) - 1; i >= order; i-- {
		n := w.order[i]
		n.in = false
		n.called.in = n.called.in[:len(n.called.in)-1]
	}
	for i := len(w.log) - 1; i >= log; i-- {
		u := w.log[i]
		u.meeting.met, u.meeting.excluded = u.met, u.excluded
		u.meeting.watched = u.meeting.watched[:u.watched]
	}
	clear(w.order[order:])
	clear(w.log[log:])
	w.order, w.log = w.order[:order], w.log[:log]
}

// note remembers what a meeting knows.
func (w *world) note(m *meeting) {
	w.log = append(w.log, undo{m, m.met, m.excluded, len(m.watched)})
}

// holds tells whether a clause with conditions holds. One that only excludes does
// not exclude the package that says so.
func (w *world) holds(c asked) bool {
	itself := len(c.positive()) == 0 && len(c.by.called.in) == 1
	return slices.ContainsFunc(c.clause, func(l literal) bool {
		if l.not && itself {
			return !l.met.others(c.by.Name)
		}
		return l.has() != l.not
	})
}

// has tells whether something that is in the world meets it.
func (m *meeting) has() bool { return m.met.name != "" }

// meet puts in what meets a clause, unless it is met.
func (w *world) meet(c clause) bool {
	if slices.ContainsFunc(c, func(l literal) bool { return l.has() }) {
		return true
	}
	for _, l := range c {
		for _, o := range l.usable {
			if w.left--; w.left <= 0 {
				return false
			}
			if !w.isTaken(o) || !w.here(o) {
				continue
			}
			if n := w.node(o); n.state == supported && w.install(n) {
				return true
			}
		}
	}
	return false
}

// install puts a package to the others, unless they exclude each other.
func (w *world) install(n *node) bool {
	w.left -= len(n.of) + len(n.conflicts) + len(n.called.in)
	if n.in {
		return w.left > 0
	}
	for _, other := range n.called.in {
		if w.family.Exclusive(other.Package, n.Package) {
			return false
		}
	}
	excludes := slices.ContainsFunc(n.conflicts, func(m *meeting) bool {
		return m.met.others(n.Name) || len(w.excludesAlways(n, m)) > 0
	})
	excluded := slices.ContainsFunc(n.of, func(m *meeting) bool { return m.excluded.others(n.Name) })
	if n.damaged || excludes || excluded || w.left <= 0 {
		return false
	}
	for _, m := range n.of {
		w.note(m)
		m.met = m.met.and(n.Name)
		w.later = append(w.later, m.watched...) // what had this for a condition
	}
	for _, m := range n.conflicts {
		w.note(m)
		m.excluded = m.excluded.and(n.Name)
	}
	for _, c := range n.requires {
		for _, l := range c {
			if l.not {
				w.note(l.meeting)
				l.meeting.watched = append(l.meeting.watched, asked{n, c})
			}
		}
	}
	n.in = true
	n.called.in = append(n.called.in, n)
	w.order = append(w.order, n)
	return true
}
