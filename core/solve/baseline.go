package solve

import (
	"maps"
	"slices"

	"github.com/go-air/gini/z"
)

// What machines have installed already is put into a universe as a source of its own, Outside and
// Installed. It stays: of each of its names something is installed afterwards, itself or another
// version, or what replaces it. It is taken to be in order as it is: of its needs those count that
// something of it meets, and what excludes something of it was not in the way there.

// Essential packages are always there, in a version that nobody knows: nothing may be installed
// that excludes what machines see of them. They meet no need for that: what needs one in a version
// has it taken.

// stand makes nodes of what machines of the view have installed, one of each name: where a list
// has several versions of one, the newest.
func (s *selector) stand() {
	s.baseline, s.newer, s.always = nil, nil, map[string]*node{}
	best := map[string]offer{}
	var names []string
	for i, src := range s.sources {
		if !src.Installed || !s.sees[i] {
			continue
		}
		for _, o := range s.of[i] {
			if !s.here(o) {
				continue
			}
			have, seen := best[o.Name]
			if !seen {
				names = append(names, o.Name)
			}
			if !seen || s.family.CompareVersions(o.Version, have.Version) > 0 {
				best[o.Name] = o
			}
		}
	}
	for _, name := range names {
		s.baseline = append(s.baseline, s.node(best[name]))
	}
	for _, name := range names {
		for _, o := range s.called(name) {
			if !s.sources[o.source].Installed && s.here(o) && !s.excepted(o) {
				s.newer = append(s.newer, s.node(o))
			}
		}
	}
	for _, o := range s.essential {
		if best[o.Name].Package != nil || !s.here(o) {
			continue
		}
		if have := s.always[o.Name]; have == nil || s.before(o, have.offer) {
			s.always[o.Name] = s.node(o)
		}
	}
}

// excludesAlways gives what is always there that a conflict is about, of other names than the
// package has that says so.
func (s *selector) excludesAlways(n *node, m *meeting) (out []*node) {
	if len(s.always) == 0 {
		return nil
	}
	if !m.looked {
		m.looked = true
		for _, o := range m.all {
			if a := s.always[o.Name]; a != nil && a.Package == o.Package {
				m.always = append(m.always, a)
			}
		}
	}
	for _, a := range m.always {
		if a.Name != n.Name {
			out = append(out, a)
		}
	}
	return out
}

// standing gives the node of an installed package what it asks, as far as what is installed
// meets it.
func (s *selector) standing(n *node, asks *needs) {
	n.state = supported
	if asks.err != nil {
		return // what it asks is not known
	}
	beside := func(m *meeting) bool {
		return slices.ContainsFunc(m.all, func(o offer) bool {
			return s.sources[o.source].Installed && o.Name != n.Name
		})
	}
	for _, c := range s.clauses(asks.requires, n.offer) {
		if !c.conditional() && slices.ContainsFunc(c, func(l literal) bool { return beside(l.meeting) }) {
			n.requires = append(n.requires, c)
		}
	}
	for _, r := range asks.conflicts {
		if m := s.meetingOf(r, s.placeOf(n.offer, r.Relation, true)); !beside(m) {
			n.conflicts = append(n.conflicts, m)
		}
	}
}

// keep says of each name that is installed that it stays, in whatever version, or goes for the
// sake of what replaces it. It is said anew each time that packages were put in.
func (q *question) keep() {
	if len(q.baseline)+len(q.always) == 0 {
		return
	}
	q.kept = q.solver.Lit()
	replacing := map[string][]*node{} // by the name that they replace
	for _, n := range q.nodes {
		for _, r := range n.replaces {
			replacing[r.Name] = append(replacing[r.Name], n)
		}
	}
	for _, f := range q.baseline {
		q.stays(f, z.LitNull, replacing, f.Name+" is already installed and stays")
	}
	if len(q.always) == 0 {
		return
	}
	there := map[*node]z.Lit{} // it is there as it was
	for _, name := range slices.Sorted(maps.Keys(q.always)) {
		a := q.always[name]
		there[a] = q.solver.Lit()
		q.stays(a, there[a], replacing, name+" is always there")
		for _, m := range a.conflicts {
			for _, b := range q.asking(m).batches {
				for i, o := range b.offers {
					if o.Name != name && q.spend(1) {
						q.exclude(name, guard{by: name, because: name + " excludes " + m.relation.String()},
							[]z.Lit{there[a].Not(), b.lits[i].Not()})
					}
				}
			}
		}
	}
	for _, n := range q.nodes {
		for _, m := range n.conflicts {
			if !q.spend(len(m.all)) {
				return
			}
			for _, a := range q.excludesAlways(n, m) {
				q.exclude(n.Name, guard{between: [2]string{n.String(), a.String()}, of: n,
					because: n.Name + " excludes " + m.relation.String()},
					[]z.Lit{q.installed[n].Not(), there[a].Not()})
			}
		}
	}
}

// stays says that of a name something is installed: what is there already, another version, or
// what replaces it.
func (q *question) stays(f *node, there z.Lit, replacing map[string][]*node, because string) {
	if !q.spend(len(q.named[f.Name]) + len(replacing[f.Name])) {
		return
	}
	rule := []z.Lit{q.kept.Not()}
	if there != z.LitNull {
		rule = append(rule, there)
	}
	if q.explains {
		rule = append(rule, q.guard(f.Name, guard{of: f, because: because}).Not())
	}
	for _, n := range q.named[f.Name] {
		rule = append(rule, q.installed[n])
	}
	for _, n := range replacing[f.Name] {
		if n.Name != f.Name && slices.ContainsFunc(n.replaces, func(r *relation) bool {
			return r.Name == f.Name && q.isIn(f.offer, r.Relation)
		}) {
			rule = append(rule, q.installed[n])
		}
	}
	q.add(rule...)
}

// baselineFails tells whether what is said to be installed cannot be there as it is.
func (s *selector) baselineFails() bool {
	if len(s.baseline) == 0 || s.err != nil {
		return false
	}
	q := s.questionOf(slices.Clone(s.baseline))
	return s.err == nil && q.installs(nil, s.limits.each()) == no
}
