package solve

import (
	"slices"
	"time"

	"github.com/go-air/gini/z"

	"stockade/core/archive"
)

// widen looks in all that machines of the view see for a way to install what
// conflicts, from one conflict on. What was found is taken, and the conflict is
// none. It costs about as much as the selection before it, and no more: where that
// does not do, it is not known whether they are conflicts.
func (s *selector) widen(from int) {
	failed := slices.Clone(s.out.Conflicts[from:])
	var roots []*node
	for _, c := range failed {
		roots = append(roots, s.nodes[c.Wanted])
	}
	before := s.budget
	defer func() { s.budget = before }()
	s.budget = newBudget(before.ctx, s.count)
	q := s.questionOf(s.around(func(offer) bool { return true }, roots...))
	if s.err != nil {
		before.err = before.ctx.Err()
		s.nodes, s.meetings = map[*archive.Package]*node{}, map[meetingKey]*meeting{} // some are not whole
		s.question = nil
		for _, l := range s.lacking {
			s.tellMissing(l.Missing)
		}
		s.lacking = nil
		s.out.Conflicts = s.out.Conflicts[:from]
		for _, n := range roots {
			s.undecided(n, "it cannot be installed from the selected packages, and a search "+
				"among all packages would cost out of proportion")
		}
		return
	}
	s.out.Conflicts = s.out.Conflicts[:from]
	until := time.Now().Add(s.limits.all(len(q.installed)))
	for i, n := range roots {
		limit := min(s.limits.each(), time.Until(until))
		switch q.installs([]z.Lit{q.installed[n]}, limit) {
		case yes:
			s.takeFound(q, n)
		case no:
			s.out.Conflicts = append(s.out.Conflicts, failed[i])
		case unknownYet:
			s.undecided(n, "it cannot be installed from the selected packages, and the search "+
				"among all %d packages was stopped", len(q.installed))
		}
	}
	before.err = before.ctx.Err()
}

// tellLacking tells what is missing under conditions. They were followed as if there was no other
// way: where the package at the beginning of the chain was proved there was one, unless what
// brings the condition about is wanted too and the two do not go together.
func (s *selector) tellLacking(wanted map[*node]bool, conflicts []Conflict, undecided []Undecided) {
	open := map[*archive.Package]bool{}
	for _, c := range conflicts {
		open[c.Wanted] = true
	}
	for _, u := range undecided {
		open[u.Wanted] = true
	}
	before := s.budget
	defer func() { s.budget = before }()
	s.budget = newBudget(before.ctx, s.count)
	until := time.Now().Add(s.limits.all(len(s.lacking)))
	for _, l := range s.lacking {
		if open[l.root.Package] || l.root.state != supported || !s.goTogether(l, wanted, time.Until(until)) {
			s.tellMissing(l.Missing)
		}
	}
	before.err = before.ctx.Err()
}

// goTogether tells whether the package at the beginning of a chain can be installed beside the
// wanted ones that bring about what the chain asks for. What was found is taken.
func (s *selector) goTogether(l lacking, wanted map[*node]bool, left time.Duration) bool {
	together := []*node{l.root}
	for _, c := range l.under {
		for _, x := range c {
			for _, o := range x.usable {
				if n := s.nodes[o.Package]; x.not && n != nil && wanted[n] && !slices.Contains(together, n) {
					together = append(together, n)
				}
			}
		}
	}
	if len(together) == 1 {
		return true
	}
	if s.err != nil {
		return false
	}
	q := s.questionOf(s.around(func(offer) bool { return true }, together...))
	if s.err != nil {
		return false // it is not whole
	}
	var lits []z.Lit
	for _, n := range together {
		lits = append(lits, q.installed[n])
	}
	if q.installs(lits, min(s.limits.each(), left)) != yes {
		return false
	}
	for _, n := range together {
		s.takeFound(q, n)
	}
	return true
}

// takeFound takes what the answer has for one package: of what meets each need,
// what is taken already, or else the best.
func (s *selector) takeFound(q *question, root *node) {
	s.walk(q, root, func(n, by *node) {
		if s.sources[n.source].Outside && !s.sources[by.source].Outside {
			s.rests[n.Name] = true
		}
		s.take(n.offer, false, "", by.Name)
	})
}

// walk goes through what the answer has for one package, and what it has in place of what is
// installed.
func (s *selector) walk(q *question, root *node, each func(n, by *node)) {
	in := func(o offer) bool {
		m, asked := q.byPackage[o.Package]
		return asked && q.solver.Value(m)
	}
	seen := map[*node]bool{root: true}
	queue := []*node{root}
	for _, n := range s.newer {
		if in(n.offer) && !seen[n] {
			seen[n] = true
			each(n, root)
			queue = append(queue, n)
		}
	}
	for ; len(queue) > 0; queue = queue[1:] {
		n := queue[0]
		for _, c := range n.requires {
			if holds := !slices.ContainsFunc(c, func(l literal) bool {
				return l.not && !slices.ContainsFunc(l.usable, in)
			}); !holds {
				continue
			}
			var pick *node
			for _, l := range c.positive() {
				for _, o := range l.usable {
					if in(o) && (pick == nil || !s.isTaken(pick.offer) && s.isTaken(o)) {
						pick = s.node(o)
					}
				}
			}
			if pick != nil && !seen[pick] {
				seen[pick] = true
				each(pick, n)
				queue = append(queue, pick)
			}
		}
	}
}
