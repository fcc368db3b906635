package solve

import "slices"

// Steps that may be taken straight ahead: for one package at least, and for all
// of them with so many for each. Where they do not do, the search begins.
const (
	maxStraight  = 20_000
	eachStraight = 400
)

// attempt is a set of packages that is put together without ever going back.
type attempt struct {
	*selector
	installed map[*node]bool
	byName    map[string][]*node
	met       map[*meeting]who // by something that is installed
	excluded  map[*meeting]who // by something that is installed
	order     []*node
	left      int // steps
}

// who tells whose doing something is: packages of one name, or of several.
type who struct {
	name    string
	several bool
}

func (w who) and(name string) who { return who{name, w.several || w.name != "" && w.name != name} }

// others tells whether packages of another name are among them.
func (w who) others(name string) bool { return w.several || w.name != "" && w.name != name }

// straight takes out of the wanted packages those that can be installed with the
// first of what meets each need that does not exclude what is there already. The
// set that was put together for one is a proof for everything in it.
func (s *selector) straight(wanted []*node) []*node {
	proved := map[*node]bool{}
	steps := maxStraight + eachStraight*len(wanted)
	return slices.DeleteFunc(wanted, func(n *node) bool {
		if proved[n] || steps <= 0 || s.ctx.Err() != nil {
			return proved[n]
		}
		a := &attempt{selector: s, installed: map[*node]bool{}, byName: map[string][]*node{},
			met: map[*meeting]who{}, excluded: map[*meeting]who{},
			left: min(max(maxStraight, steps/8), steps)}
		before := a.left
		if a.stands(n) {
			for _, in := range a.order {
				proved[in] = true
			}
		}
		steps -= before - a.left
		return proved[n]
	})
}

// stands puts together what a package needs. A no says nothing but that this way
// does not lead there.
func (a *attempt) stands(n *node) bool {
	if !a.install(n) {
		return false
	}
	var later []asked
	for i := 0; i < len(a.order); i++ {
		for _, c := range a.order[i].requires {
			if c.conditional() {
				later = append(later, asked{a.order[i], c})
			} else if !a.meet(c) {
				return false
			}
		}
	}
	for _, c := range later { // all is there that will be there
		if !a.holds(c) {
			return false
		}
	}
	return a.left > 0
}

// asked is a clause of a package.
type asked struct {
	by *node
	clause
}

// holds tells whether a clause with conditions holds. One that only excludes does
// not exclude the package that says so.
func (a *attempt) holds(c asked) bool {
	itself := len(c.positive()) == 0 && len(a.byName[c.by.Name]) == 1
	return slices.ContainsFunc(c.clause, func(l literal) bool {
		if l.not && itself {
			return !a.met[l.meeting].others(c.by.Name)
		}
		return a.has(l.meeting) != l.not
	})
}

// has tells whether something that is installed meets a relation.
func (a *attempt) has(m *meeting) bool { return a.met[m].name != "" }

// meet installs what meets a clause, unless it is met.
func (a *attempt) meet(c clause) bool {
	if slices.ContainsFunc(c, func(l literal) bool { return a.has(l.meeting) }) {
		return true
	}
	for _, l := range c {
		for _, o := range l.usable {
			if a.left--; a.left <= 0 {
				return false
			}
			if !a.isTaken(o) || !a.here(o) {
				continue
			}
			if n := a.node(o); n.state == supported && a.install(n) {
				return true
			}
		}
	}
	return false
}

// install puts a package to the others, unless they exclude each other.
func (a *attempt) install(n *node) bool {
	a.left -= len(n.of) + len(n.conflicts) + len(a.byName[n.Name])
	for _, other := range a.byName[n.Name] {
		if other != n && a.family.Exclusive(other.Package, n.Package) {
			return false
		}
	}
	excludes := slices.ContainsFunc(n.conflicts, func(m *meeting) bool { return a.met[m].others(n.Name) })
	excluded := slices.ContainsFunc(n.of, func(m *meeting) bool { return a.excluded[m].others(n.Name) })
	if n.damaged || excludes || excluded || a.left <= 0 {
		return false
	}
	if a.installed[n] {
		return true
	}
	for _, m := range n.of {
		a.met[m] = a.met[m].and(n.Name)
	}
	for _, m := range n.conflicts {
		a.excluded[m] = a.excluded[m].and(n.Name)
	}
	a.installed[n] = true
	a.byName[n.Name] = append(a.byName[n.Name], n)
	a.order = append(a.order, n)
	return true
}
