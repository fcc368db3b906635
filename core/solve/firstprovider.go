package solve

import (
	"slices"

	"stockade/core/archive"
)

// Some clients do not search (archive.Rules.FirstProvider; pacman): for each dependency that nothing
// chosen so far satisfies they take the first package that does, go on with what that needs, and
// give up where something chosen conflicts. A proof by search alone would promise what they refuse,
// so what was proved is put together once more as they do it.
//
// The cost is linear in what was taken and its relations: only packages from which something that
// could go wrong is reached are put together one by one, under a bound of their own.

// taker puts packages together as such a client does.
type taker struct {
	*selector
	left   int64 // steps
	firsts map[*meeting][]offer
}

// pick is what is taken for a dependency, and what else would satisfy it.
type pick struct {
	needer *node
	clause clause
	first  offer
	others []offer
}

// byFirst takes back what was proved, on the view and architecture at hand, of packages that the
// client does not install by itself.
func (s *selector) byFirst(proof *Proof, proved provedThere) {
	t := &taker{selector: s, left: workBase + workPerPackage*int64(s.count), firsts: map[*meeting][]offer{}}
	var asked []*node
	for _, p := range proved.packages {
		if at := slices.IndexFunc(s.called(p.Name), func(o offer) bool { return o.Package == p }); at >= 0 {
			asked = append(asked, s.node(s.called(p.Name)[at]))
		}
	}
	slices.SortFunc(asked, func(a, b *node) int { return a.compare(b.offer) })
	suspect := t.suspects(slices.Concat(asked, proved.sets))
	told := map[*archive.Package]int{}
	tell := func(p pick) *Unaided {
		i, ok := told[p.needer.Package]
		if !ok {
			i = len(s.out.Unaided)
			told[p.needer.Package] = i
			s.out.Unaided = append(s.out.Unaided, p.unaided(s))
		}
		return &s.out.Unaided[i]
	}
	for _, n := range asked {
		if !suspect[n] {
			continue
		}
		p, ok := t.installs(n)
		switch {
		case s.err != nil:
			return
		case t.left < 0:
			s.undecided(n, "the packages that the client selects for its dependencies would "+
				"cost too much to determine")
			proof.Proved--
		case !ok:
			proof.Proved--
			u := tell(p)
			u.Stops = append(u.Stops, n.Package)
		}
	}
	for i, set := range proved.sets {
		if !suspect[set] || !proof.Sets[i].Proved {
			continue
		}
		if p, ok := t.installs(set); !ok {
			proof.Sets[i].Proved = false
			if p.needer != set {
				tell(p)
			}
		}
	}
}

// unaided is a pick that led to nothing as it is told.
func (p pick) unaided(s *selector) Unaided {
	u := Unaided{View: s.view.Name, Arch: s.arch, Needer: p.needer.Package, Source: p.needer.source,
		Clause: p.clause.written(), First: p.first.Package, Meets: p.first.Package}
	if len(p.others) > 0 {
		u.Meets = p.others[0].Package
	}
	return u
}

// spendOwn tells whether there is enough left to go on.
func (t *taker) spendOwn(n int) bool {
	t.left -= int64(n) + 1
	return t.left >= 0 && t.spendTime(n)
}

// there tells whether the client sees an offer: it was taken, or the machines have its source from
// elsewhere.
func (t *taker) there(o offer) bool {
	return t.here(o) && (t.sources[o.source].Outside || t.isTaken(o))
}

// choices gives what the client would take for a relation, first choice first.
func (t *taker) choices(m *meeting) []offer {
	all, known := t.firsts[m]
	if !known {
		for _, o := range m.usable {
			if t.there(o) && !t.node(o).damaged {
				all = append(all, o)
			}
		}
		t.firsts[m] = all
	}
	return all
}

// pickFor gives what the client takes for a dependency of a package, where nothing chosen so far
// satisfies it; ok is false where there is nothing. Another package of a name that is chosen already
// is passed over.
func (t *taker) pickFor(n *node, c clause, chosen map[string]*node) (p pick, ok bool) {
	for _, l := range c {
		for _, o := range t.choices(l.meeting) {
			if chosen[o.Name] != nil {
				continue
			}
			if !ok {
				p, ok = pick{needer: n, clause: c, first: o}, true
			} else if o.Package != p.first.Package {
				p.others = append(p.others, o)
			}
		}
	}
	return p, ok
}

// met tells whether what is installed already, or what is chosen, satisfies a dependency.
func (t *taker) met(c clause, chosen map[string]*node) bool {
	return slices.ContainsFunc(c, func(l literal) bool {
		return slices.ContainsFunc(l.meeting.usable, func(o offer) bool {
			n := chosen[o.Name]
			return t.sources[o.source].Installed || n != nil && n.Package == o.Package
		})
	})
}

// suspects gives the packages from which, by first choices alone, something is reached that may
// stop them: a dependency that nothing satisfies, two packages of one name, or a conflict. All
// others are installed as they were proved, since a client chooses nothing but what is reached so.
func (t *taker) suspects(roots []*node) map[*node]bool {
	reached := map[*node]bool{}
	byName, by := map[string][]*node{}, map[*node][]*node{} // what needs each
	var all, bad []*node
	reach := func(n *node) {
		if !reached[n] {
			reached[n] = true
			all = append(all, n)
			byName[n.Name] = append(byName[n.Name], n)
		}
	}
	for _, n := range roots {
		reach(n)
	}
	for i := 0; i < len(all); i++ {
		n := all[i]
		for _, c := range n.requires {
			if c.conditional() || t.met(c, nil) {
				continue
			}
			p, ok := t.pickFor(n, c, nil)
			if !t.spendTime(1 + len(p.others)) {
				return nil
			}
			if !ok {
				bad = append(bad, n)
				continue
			}
			to := t.node(p.first)
			by[to] = append(by[to], n)
			reach(to)
		}
	}
	for _, n := range all {
		if len(byName[n.Name]) > 1 {
			bad = append(bad, n)
		}
		for _, m := range n.conflicts {
			for _, o := range m.usable {
				if x := t.nodes[o.Package]; x != nil && reached[x] && x.Name != n.Name {
					bad = append(bad, n, x)
				}
			}
		}
	}
	out := map[*node]bool{}
	for len(bad) > 0 {
		n := bad[len(bad)-1]
		bad = bad[:len(bad)-1]
		if !out[n] {
			out[n] = true
			bad = append(bad, by[n]...)
		}
	}
	return out
}

// installs puts a package together with what it needs, as the client does that is asked for it. If
// that fails, it gives the choice that led there.
func (t *taker) installs(root *node) (pick, bool) {
	var picks []pick
	var order []*node
	chosen := map[string]*node{}
	var add func(n *node) (pick, bool)
	add = func(n *node) (pick, bool) {
		chosen[n.Name] = n
		order = append(order, n)
		for _, c := range n.requires {
			if !t.spendOwn(len(c)) {
				return pick{needer: n, clause: c}, false
			}
			if c.conditional() || t.met(c, chosen) {
				continue
			}
			p, ok := t.pickFor(n, c, chosen)
			if !ok {
				return pick{needer: n, clause: c}, false
			}
			picks = append(picks, p)
			if deeper, ok := add(t.node(p.first)); !ok {
				if len(deeper.others) == 0 && len(p.others) > 0 {
					return p, false
				}
				return deeper, false
			}
		}
		return pick{}, true
	}
	if p, ok := add(root); !ok {
		return p, false
	}
	gone := map[*node]bool{}
	for _, n := range order {
		for _, m := range n.conflicts {
			for _, o := range m.usable {
				x := chosen[o.Name]
				if x == nil || x.Package != o.Package || x == n || gone[x] || gone[n] {
					continue
				}
				switch { // of two, the client leaves out the one that the other stands for
				case provides(n, x.Name) && x != root:
					gone[x] = true
				case provides(x, n.Name) && n != root:
					gone[n] = true
				default:
					return blame(picks, root, n, x), false
				}
			}
		}
	}
	for n := range gone {
		delete(chosen, n.Name)
	}
	for _, n := range order {
		for _, c := range n.requires {
			if !gone[n] && !c.conditional() && !t.met(c, chosen) {
				return blame(picks, root, n), false
			}
		}
	}
	return pick{}, true
}

// provides tells whether a package provides a name.
func provides(n *node, name string) bool {
	return slices.ContainsFunc(n.Provides, func(p archive.Provide) bool { return p.Name == name })
}

// blame gives the choice that brought one of some packages in, best one that could have been
// another.
func blame(picks []pick, root *node, of ...*node) pick {
	var best pick
	for _, p := range picks {
		if slices.ContainsFunc(of, func(n *node) bool { return n.Package == p.first.Package }) &&
			(best.needer == nil || len(best.others) == 0 && len(p.others) > 0) {
			best = p
		}
	}
	if best.needer == nil {
		best = pick{needer: root, first: of[0].offer}
		if len(root.requires) > 0 {
			best.clause = root.requires[0]
		}
	}
	return best
}
