package solve

import (
	"slices"

	"stockade/core/archive"
)

// state is what is known of a package's hard needs: whether they can all be
// met, down to the bottom, when conflicts are left aside.
type state int8

const (
	unknown state = iota
	supported
	unsupported
)

type selector struct {
	*Universe
	out     *Selection
	arch    string
	chosen  map[*archive.Package]*Chosen
	support map[*archive.Package]state
	told    map[string]bool
}

func (s *selector) take(o offer, wanted bool, reason string) bool {
	if c, ok := s.chosen[o.Package]; ok {
		if wanted && !c.Wanted {
			c.Wanted, c.For = true, reason
		}
		return false
	}
	s.chosen[o.Package] = &Chosen{Package: o.Package, Source: o.source, Wanted: wanted, For: reason}
	return true
}

// usable gives the candidates that are not excepted.
func (s *selector) usable(r archive.Relation) []offer {
	return slices.DeleteFunc(s.candidates(r, s.arch), s.excepted)
}

// settle works out for everything that could be reached from the roots whether
// it can be supported. It begins with hope for all and takes out what fails,
// until nothing changes: circles that hold themselves up stay.
func (s *selector) settle(roots []offer) {
	type clauses [][]offer
	reach := map[*archive.Package]clauses{}
	users := map[*archive.Package][]*archive.Package{}
	stack := slices.Clone(roots)
	for len(stack) > 0 {
		o := stack[len(stack)-1]
		stack = stack[:len(stack)-1]
		if _, ok := reach[o.Package]; ok || s.support[o.Package] != unknown {
			continue
		}
		reach[o.Package] = nil
		rel, err := s.relations(o.Package)
		if err != nil {
			s.support[o.Package] = unsupported
			s.out.Damaged = append(s.out.Damaged, err)
			continue
		}
		var all clauses
		for _, c := range rel.Requires {
			if c.Conditional() {
				continue // what it asks depends on what else is there: the proof decides
			}
			var any []offer
			for _, r := range c {
				any = append(any, s.usable(r)...)
			}
			for _, a := range any {
				users[a.Package] = append(users[a.Package], o.Package)
			}
			all = append(all, any)
			stack = append(stack, any...)
		}
		reach[o.Package] = all
	}
	fails := func(p *archive.Package) bool {
		for _, any := range reach[p] {
			if !slices.ContainsFunc(any, func(o offer) bool { return s.support[o.Package] != unsupported }) {
				return true
			}
		}
		return false
	}
	var work []*archive.Package
	for p := range reach {
		work = append(work, p)
	}
	for len(work) > 0 {
		p := work[len(work)-1]
		work = work[:len(work)-1]
		if s.support[p] != unsupported && fails(p) {
			s.support[p] = unsupported
			work = append(work, users[p]...)
		}
	}
	for p := range reach {
		if s.support[p] == unknown {
			s.support[p] = supported
		}
	}
}

// close takes what the roots need. with tells how far: "" follows nothing.
func (s *selector) close(roots []offer, with string) {
	if len(roots) == 0 {
		return
	}
	s.settle(roots)
	if s.told == nil {
		s.told = map[string]bool{}
	}
	type step struct {
		offer
		up    *step
		depth int
	}
	type waiting struct {
		at     *step
		clause archive.Clause
	}
	var queue []*step
	var conditional []waiting
	visited := map[*archive.Package]bool{}
	for _, o := range roots {
		queue = append(queue, &step{offer: o})
	}
	follow := func(at *step, c archive.Clause, hard bool) {
		pick := s.pick(c, !hard)
		if pick == nil {
			if hard {
				var chain []string
				for up := at; up != nil; up = up.up {
					chain = append([]string{up.Name}, chain...)
				}
				s.missing(at.offer, c, chain)
			}
			return
		}
		if with == "" {
			return // only proved, not taken
		}
		s.take(*pick, false, at.Name)
		queue = append(queue, &step{offer: *pick, up: at, depth: at.depth + 1})
	}
	soft := with == "recommended" || with == "suggested"
	for len(queue) > 0 {
		for len(queue) > 0 {
			at := queue[0]
			queue = queue[1:]
			if visited[at.Package] {
				continue
			}
			visited[at.Package] = true
			rel, err := s.relations(at.Package)
			if err != nil {
				continue // told by settle
			}
			for _, c := range rel.Requires {
				if c.Conditional() {
					conditional = append(conditional, waiting{at, c})
					continue
				}
				follow(at, c, true)
			}
			if soft {
				for _, c := range rel.Recommends {
					if s.applies(c) {
						follow(at, positive(c), false)
					}
				}
			}
			if with == "suggested" && at.depth == 0 {
				for _, c := range rel.Suggests {
					if s.applies(c) {
						follow(at, positive(c), false)
					}
				}
			}
		}
		// Nothing is left to follow: see what conditions have come to hold, and
		// what offers itself to what is there now.
		rest := conditional[:0]
		for _, w := range conditional {
			if p := positive(w.clause); len(p) > 0 && s.applies(w.clause) {
				follow(w.at, p, true)
			} else {
				rest = append(rest, w)
			}
		}
		conditional = rest
		if soft {
			for _, o := range s.offering(with) {
				s.take(o, false, "what it supplements")
				queue = append(queue, &step{offer: o, depth: 1})
			}
		}
	}
}

// positive gives what a clause asks for when its conditions hold.
func positive(c archive.Clause) archive.Clause {
	return slices.DeleteFunc(slices.Clone(c), func(r archive.Relation) bool { return r.Not })
}

// present tells whether something that is taken meets a relation.
func (s *selector) present(r archive.Relation) bool {
	r.Not = false
	return slices.ContainsFunc(s.candidates(r, s.arch), func(o offer) bool { return s.chosen[o.Package] != nil })
}

// applies tells whether all conditions of a clause hold for what is taken, so
// that it asks for the rest.
func (s *selector) applies(c archive.Clause) bool {
	return !slices.ContainsFunc(c, func(r archive.Relation) bool { return r.Not && !s.present(r) })
}

// holds tells whether all clauses hold for what is taken.
func (s *selector) holds(all []archive.Clause) bool {
	for _, c := range all {
		if !slices.ContainsFunc(c, func(r archive.Relation) bool { return s.present(r) != r.Not }) {
			return false
		}
	}
	return len(all) > 0
}

// offering gives the packages that are not taken yet, supplement (or, where
// suggestions are followed, enhance) what is, and can be supported.
func (s *selector) offering(with string) (out []offer) {
	for _, o := range s.backward {
		if s.chosen[o.Package] != nil || !s.runs(o, s.arch) || s.excepted(o) {
			continue
		}
		rel, err := s.relations(o.Package)
		if err != nil {
			continue
		}
		all := rel.Supplements
		if with == "suggested" {
			all = slices.Concat(rel.Supplements, rel.Enhances)
		}
		if !slices.ContainsFunc(all, s.holds) {
			continue
		}
		if s.settle([]offer{o}); s.support[o.Package] == supported {
			out = append(out, o)
		}
	}
	return out
}

// pick chooses the package that meets a clause: one that is taken already, or
// the first alternative's best that can itself be supported. For soft needs
// only what can be supported is good enough; for hard ones anything that is
// there, so that what is missing further down can be told.
func (s *selector) pick(c archive.Clause, soft bool) *offer {
	var all []offer
	for _, r := range c {
		all = append(all, s.usable(r)...)
	}
	s.settle(all)
	var first *offer
	for i, o := range all {
		if s.support[o.Package] != supported {
			continue
		}
		if _, taken := s.chosen[o.Package]; taken {
			return &all[i]
		}
		if first == nil {
			first = &all[i]
		}
	}
	if first == nil && !soft && len(all) > 0 {
		return &all[0]
	}
	return first
}

func (s *selector) missing(needer offer, c archive.Clause, chain []string) {
	key := needer.Name + "\x00" + needer.Version + "\x00" + c.String() + "\x00" + s.arch
	if s.told[key] {
		return
	}
	s.told[key] = true
	m := Missing{Needer: needer.Package, Source: needer.source, Arch: s.arch, Clause: c, Chain: chain}
	for _, r := range c {
		for _, o := range s.candidates(r, s.arch) {
			if s.excepted(o) && !slices.Contains(m.Excepted, o.Name) {
				m.Excepted = append(m.Excepted, o.Name)
			}
		}
	}
	s.out.Missing = append(s.out.Missing, m)
}
