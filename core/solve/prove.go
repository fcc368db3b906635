package solve

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/go-air/gini/z"

	"stockade/core/archive"
	"stockade/core/definition"
)

// A search is begun again after this long, then after twice as long and so on,
// to see whether anybody still wants the answer. What it learned it keeps.
const searchSlice = 100 * time.Millisecond

// Wanted packages are asked about so many at once, or in so many parts.
const (
	leastTogether = 256
	mostParts     = 32
)

// prove shows for every wanted package whose needs can be met that a set of
// packages of the mirror exists in which it can be installed: every need met,
// nothing in conflict, one version of each name. Most are settled by going
// straight ahead; about the rest a solver is asked, about many at once: whatever
// can be installed together can be installed. Where what was taken does not do,
// all that machines of the view see is searched, and what was found is taken.
// Sets of wanted packages are asked about like packages that need what is in them. Where nothing
// else is known to be installed and every package is asked about, these are all that were taken.
func (s *selector) prove(roots map[following][]offer, sets []*node) {
	wanted, conflicts, undecided := map[*node]bool{}, len(s.out.Conflicts), len(s.out.Undecided)
	var open, refused []*node
	ask := func(n *node) {
		if wanted[n] {
			return
		}
		wanted[n] = true
		if n.state == supported {
			open = append(open, n)
		} else {
			refused = append(refused, n)
		}
	}
	for _, with := range []string{"", definition.Recommended, definition.Required, definition.Suggested} {
		for _, all := range []bool{false, true} {
			for _, o := range roots[following{with, all}] {
				ask(s.node(o))
			}
		}
	}
	if s.view.Every {
		for _, n := range s.inside() {
			if !s.sources[n.source].Outside {
				s.settle(n)
				ask(n)
			}
		}
	}
	proof := Proof{View: s.view.Name, Arch: s.arch, Wanted: len(wanted), Every: s.view.Every,
		Beside: s.view.Beside, Rests: slices.Sorted(maps.Keys(s.rests))}
	alone := slices.Clone(refused)
	for _, n := range sets {
		s.settle(n)
		ask(n)
	}
	if s.baselineFails() {
		for _, n := range open {
			s.undecided(n, "the packages of the baseline conflict with each other")
		}
		s.out.Proofs, s.proved = append(s.out.Proofs, proof), append(s.proved, provedThere{})
		return
	}
	s.decide(slices.Clone(open))
	if s.err == nil && len(s.out.Conflicts) > conflicts {
		s.widen(conflicts)
	}
	if s.err == nil {
		s.tellLacking(wanted, s.out.Conflicts[conflicts:], s.out.Undecided[undecided:])
	}
	for _, c := range s.out.Conflicts[conflicts:] {
		refused = append(refused, s.nodes[c.Wanted])
		if s.nodes[c.Wanted].set == nil {
			alone = append(alone, s.nodes[c.Wanted])
		}
	}
	unproved := map[*archive.Package]bool{}
	for _, u := range s.out.Undecided[undecided:] {
		unproved[u.Wanted] = true
	}
	for _, n := range refused {
		unproved[n.Package] = true
	}
	var proved []*archive.Package
	for n := range wanted {
		if n.set == nil && !unproved[n.Package] {
			proved = append(proved, n.Package)
		}
	}
	proof.Proved = len(proved)
	for _, n := range sets {
		proof.Sets = append(proof.Sets, ProvedSet{Name: n.set.Name, Packages: n.set.wants,
			Proved: !unproved[n.Package]})
	}
	s.out.Proofs, s.proved = append(s.out.Proofs, proof), append(s.proved, provedThere{proved, sets})
	if s.err == nil {
		s.refuse(refused, alone, s.out.Conflicts[conflicts:])
	}
}

// inside gives what is there for the machines of the view, in order: what was taken, and what
// that was found to rest on.
func (s *selector) inside() (inside []*node) {
	for p, c := range s.chosen {
		if o := (offer{p, c.Source}); s.here(o) {
			inside = append(inside, s.node(o))
		}
	}
	for i, src := range s.sources {
		if !src.Outside || !s.sees[i] {
			continue
		}
		for _, o := range s.of[i] {
			if s.isTaken(o) && s.here(o) {
				inside = append(inside, s.node(o))
			}
		}
	}
	slices.SortFunc(inside, func(a, b *node) int { return a.compare(b.offer) })
	return inside
}

// decide finds out which of the wanted packages can be installed from what was
// taken. It tells those that cannot, and those that it could not decide about.
func (s *selector) decide(wanted []*node) {
	inside := s.inside()
	for _, n := range inside { // so that each knows all that it is a candidate of
		for _, c := range n.requires {
			for _, l := range c {
				s.reach(l.meeting)
			}
		}
		for _, m := range n.conflicts {
			s.reach(m)
		}
	}
	if len(s.baseline) == 0 { // with something installed, all of it would have to be put together
		wanted = s.straight(wanted)
	}
	if len(wanted) == 0 || s.err != nil {
		return
	}
	q := s.questionOf(s.around(s.isTaken, wanted...))
	if s.err != nil {
		return
	}
	together := max(leastTogether, len(wanted)/mostParts)
	until := time.Now().Add(s.limits.all(len(inside)))
	for begin := 0; begin < len(wanted); begin += together {
		open := slices.Clone(wanted[begin:min(begin+together, len(wanted))])
		for len(open) > 0 {
			if s.err = s.ctx.Err(); s.err != nil {
				return
			}
			left := time.Until(until)
			if left <= 0 {
				for _, n := range append(open, wanted[min(begin+together, len(wanted)):]...) {
					s.undecided(n, "the time for the whole proof, %s, had run out before",
						s.limits.all(len(inside)))
				}
				return
			}
			open = s.ask(q, open, min(left, s.limits.each()))
		}
	}
	s.err = s.ctx.Err()
}

// undecided tells that it was not found out whether a package can be installed.
func (s *selector) undecided(n *node, why string, args ...any) {
	s.out.Undecided = append(s.out.Undecided, Undecided{n.Package, s.view.Name, s.arch,
		fmt.Sprintf(why, args...)})
}

// ask settles some of the open packages and gives the rest.
func (s *selector) ask(q *question, open []*node, limit time.Duration) []*node {
	var assumed []z.Lit
	byLit := map[z.Lit]*node{}
	for _, n := range open {
		m := q.installed[n]
		assumed = append(assumed, m)
		byLit[m] = n
	}
	switch q.installs(assumed, limit) {
	case yes:
		return nil
	case no:
		if len(open) == 1 {
			s.out.Conflicts = append(s.out.Conflicts,
				Conflict{Wanted: open[0].Package, View: s.view.Name, Arch: s.arch})
			return nil
		}
		// One of those that do not go together is asked about by itself.
		for _, m := range q.solver.Why(nil) {
			if n := byLit[m]; n != nil {
				rest := slices.DeleteFunc(slices.Clone(open), func(o *node) bool { return o == n })
				s.ask(q, []*node{n}, limit)
				return rest
			}
		}
	case unknownYet:
		if len(open) == 1 {
			s.undecided(open[0], "the search was stopped after %s, among %d packages with %d "+
				"exclusions",
				limit, len(q.installed), q.exclusions)
			return nil
		}
	}
	if len(open) == 1 {
		s.undecided(open[0], "the search returned no answer")
		return nil
	}
	half := len(open) / 2
	s.ask(q, open[:half], limit)
	return open[half:]
}

// around gives what could be installed for the sake of some packages, of what is
// admitted.
func (s *selector) around(admitted func(offer) bool, roots ...*node) []*node {
	seen, looked := map[*node]bool{}, map[*meeting]bool{}
	out := slices.Clone(roots)
	for _, n := range roots {
		seen[n] = true
	}
	for _, n := range s.baseline {
		if !seen[n] {
			seen[n] = true
			out = append(out, n)
		}
	}
	for _, n := range s.newer {
		if admitted(n.offer) && !seen[n] && !n.damaged {
			seen[n] = true
			out = append(out, n)
		}
	}
	for i := 0; i < len(out); i++ {
		for _, c := range out[i].requires {
			for _, l := range c {
				if looked[l.meeting] || !s.spend(len(l.usable)) {
					continue
				}
				looked[l.meeting] = true
				for _, o := range l.usable {
					if !admitted(o) || !s.here(o) {
						continue
					}
					if n := s.node(o); !seen[n] && !n.damaged {
						seen[n] = true
						out = append(out, n)
					}
				}
			}
		}
	}
	return out
}

// where names the machines of a view.
func where(view, arch string) string {
	if view == "" {
		return "on " + arch
	}
	return "by " + view + " on " + arch
}

// Where names the machines that it is not known of.
func (u Undecided) Where() string { return where(u.View, u.Arch) }

// String explains a conflict in one sentence.
func (c Conflict) String() string {
	s := c.Wanted.String()
	if c.Wanted.Version == "" {
		s = c.Wanted.Name
	}
	s += " cannot be installed " + where(c.View, c.Arch) + ": " + c.Because
	if c.Between[0] != "" && c.Between[1] != "" {
		s += " (" + strings.Join(c.Between[:], " against ") + ")"
	}
	return s
}
