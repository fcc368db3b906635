package solve

import (
	"slices"
	"time"

	"github.com/go-air/gini/z"
)

// maxExplained bounds the conflicts of one architecture that are explained.
const maxExplained = 200

// explainConflicts finds for each conflict from one on the exclusions without
// which it would not be one.
func (s *selector) explainConflicts(from int) {
	explained := 0
	for i := from; i < len(s.out.Conflicts); i++ {
		c := &s.out.Conflicts[i]
		c.Because = "its needs exclude each other"
		if explained++; explained <= maxExplained && s.question != nil {
			s.question.explain(c)
		}
	}
}

// explain looks for the exclusions to blame among what was taken before any search was widened.
func (q *question) explain(c *Conflict) {
	wanted := q.node(offer{c.Wanted, q.chosen[c.Wanted].Source})
	until := time.Now().Add(q.limits.each())
	holds := func(guards []guard) answer {
		assumed := []z.Lit{q.closed[0], q.installed[wanted]}
		for _, g := range guards {
			assumed = append(assumed, g.lit)
		}
		return q.search(assumed, time.Until(until))
	}
	core := q.guardsAround(wanted)
	if q.err != nil || holds(core) != no {
		return
	}
	in := map[z.Lit]bool{}
	for _, m := range q.solver.Why(nil) {
		in[m] = true
	}
	core = slices.DeleteFunc(core, func(g guard) bool { return !in[g.lit] })
	if len(core) == 0 {
		c.Because = "what it needs is not all among what is taken"
		return
	}
	for i := 0; i < len(core) && len(core) > 1; { // leave out what is not needed for the explanation
		if without := slices.Delete(slices.Clone(core), i, i+1); holds(without) == no {
			core = without
		} else {
			i++
		}
	}
	c.Between, c.Because = core[0].between, core[0].because
}

// guardsAround gives the exclusions by packages that could be installed for the sake of one.
func (q *question) guardsAround(wanted *node) (out []guard) {
	done := map[string]bool{}
	for _, n := range q.around(q.isTaken, wanted) {
		if !done[n.Name] {
			done[n.Name] = true
			out = append(out, q.guards[n.Name]...)
		}
	}
	return out
}
