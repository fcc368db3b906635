package solve

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/go-air/gini"
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

// maxExplained bounds the conflicts of one architecture that are explained.
const maxExplained = 200

// prove shows for every wanted package whose needs can be met that a set of
// packages of the mirror exists in which it can be installed: every need met,
// nothing in conflict, one version of each name. Most are settled by going
// straight ahead; about the rest a solver is asked, about many at once: whatever
// can be installed together can be installed. Where what was taken does not do,
// all that machines of the view see is searched, and what was found is taken.
func (s *selector) prove(roots map[string][]offer) {
	wanted, conflicts, undecided := map[*node]bool{}, len(s.out.Conflicts), len(s.out.Undecided)
	var open []*node
	for _, with := range []string{"", definition.Recommended, definition.Required, definition.Suggested} {
		for _, o := range roots[with] {
			if n := s.node(o); !wanted[n] {
				wanted[n] = true
				if n.state == supported {
					open = append(open, n)
				}
			}
		}
	}
	proved := len(open)
	s.decide(open)
	if s.err == nil && len(s.out.Conflicts) > conflicts {
		s.widen(conflicts)
	}
	if s.err == nil && len(s.out.Conflicts) > conflicts {
		s.explainConflicts(conflicts)
	}
	proved -= len(s.out.Conflicts) - conflicts + len(s.out.Undecided) - undecided
	s.out.Proofs = append(s.out.Proofs, Proof{View: s.view.Name, Arch: s.arch,
		Wanted: len(wanted), Proved: proved})
}

// decide finds out which of the wanted packages can be installed from what was
// taken. It tells those that cannot, and those that it could not decide about.
func (s *selector) decide(wanted []*node) {
	var inside []*node
	for p, c := range s.chosen {
		if o := (offer{p, c.Source}); s.here(o) {
			inside = append(inside, s.node(o))
		}
	}
	slices.SortFunc(inside, func(a, b *node) int { return a.compare(b.offer) })
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
	if wanted = s.straight(wanted); len(wanted) == 0 || s.err != nil {
		return
	}
	q := s.question(inside)
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
					s.undecided(n, "the time for all of them, %s, was used up before",
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
	switch q.search(s.ctx, assumed, limit) {
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
			s.undecided(open[0], "the search was given up after %s, among %d packages with %d exclusions",
				limit, len(q.installed), q.exclusions)
			return nil
		}
	}
	if len(open) == 1 {
		s.undecided(open[0], "the search gave no answer")
		return nil
	}
	half := len(open) / 2
	s.ask(q, open[:half], limit)
	return open[half:]
}

// answer is what came of a search.
type answer int

const (
	unknownYet answer = iota // not within the time
	yes
	no
)

// question is the packages of a mirror as a satisfiability problem. A solver is
// nobody else's: searches of several mirrors run side by side.
type question struct {
	*selector
	solver     *gini.Gini
	installed  map[*node]z.Lit
	byPackage  map[*archive.Package]z.Lit
	met        map[*meeting]z.Lit // true only if something that meets it is installed
	there      map[*meeting]z.Lit // true if something that meets it is installed
	takes      map[*meeting]*taken
	exclusions int
	guarded    bool // each exclusion holds only when its guard is assumed
	guards     []guard
}

// guard is one exclusion, with the words to explain it.
type guard struct {
	lit     z.Lit
	between [2]string
	because string
}

// question translates packages and all that they ask of each other. Its size is
// in proportion to the packages, their relations and what could meet them.
func (s *selector) question(inside []*node) *question {
	q := s.emptyQuestion(inside)
	q.translate(inside)
	return q
}

func (s *selector) emptyQuestion(inside []*node) *question {
	q := &question{selector: s, solver: gini.New(), installed: map[*node]z.Lit{},
		byPackage: map[*archive.Package]z.Lit{},
		met:       map[*meeting]z.Lit{}, there: map[*meeting]z.Lit{}, takes: map[*meeting]*taken{}}
	for _, n := range inside {
		m := q.solver.Lit()
		q.installed[n], q.byPackage[n.Package] = m, m
	}
	return q
}

func (q *question) add(lits ...z.Lit) {
	for _, m := range lits {
		q.solver.Add(m)
	}
	q.solver.Add(z.LitNull)
}

// exclude adds a rule that says that something does not go together.
func (q *question) exclude(g guard, rules ...[]z.Lit) {
	q.exclusions++
	if q.guarded {
		g.lit = q.solver.Lit()
		q.guards = append(q.guards, g)
	}
	for _, r := range rules {
		if q.guarded {
			r = append(slices.Clone(r), g.lit.Not())
		}
		q.add(r...)
	}
}

func (q *question) translate(inside []*node) {
	for _, n := range inside {
		if !q.spend(1) {
			return
		}
		for _, c := range n.requires {
			q.need(n, c)
		}
		for _, m := range n.conflicts {
			q.conflict(n, m)
		}
	}
	q.names(inside)
}

// taken is what of a meeting's candidates is in the mirror, in order of names.
type taken struct {
	offers []offer
	lits   []z.Lit
	chain  *chain
}

// taken works it out, once.
func (q *question) taken(m *meeting) *taken {
	if t := q.takes[m]; t != nil {
		return t
	}
	t := &taken{}
	q.takes[m] = t
	if !q.spend(len(m.usable)) {
		return t
	}
	for _, o := range m.usable {
		if _, in := q.byPackage[o.Package]; in {
			t.offers = append(t.offers, o)
		}
	}
	slices.SortStableFunc(t.offers, func(a, b offer) int { return strings.Compare(a.Name, b.Name) })
	for _, o := range t.offers {
		t.lits = append(t.lits, q.byPackage[o.Package])
	}
	return t
}

// own gives from where to where those of one name stand.
func (t *taken) own(name string) (from, to int) {
	from, _ = slices.BinarySearchFunc(t.offers, name, func(o offer, name string) int {
		return strings.Compare(o.Name, name)
	})
	for to = from; to < len(t.offers) && t.offers[to].Name == name; to++ {
	}
	return from, to
}

// need says that one of the literals of a clause holds when n is installed.
func (q *question) need(n *node, c clause) {
	rule := []z.Lit{q.installed[n].Not()}
	against := len(c.positive()) == 0 // a conflict in other words: the package itself does not count
	for _, l := range c {
		if l.not && against {
			rule = append(rule, q.thereBeside(n, l.meeting).Not())
		} else if l.not {
			rule = append(rule, q.thereIf(l.meeting).Not())
		} else {
			rule = append(rule, q.metBy(l.meeting))
		}
	}
	if against {
		q.exclude(guard{between: [2]string{n.String()},
			because: n.Name + " excludes " + strings.ReplaceAll(c.written().String(), "not ", "")}, rule)
		return
	}
	q.add(rule...)
}

func (q *question) metBy(m *meeting) z.Lit {
	lit, ok := q.met[m]
	if !ok {
		lit = q.solver.Lit()
		q.met[m] = lit
		q.add(append([]z.Lit{lit.Not()}, q.taken(m).lits...)...)
	}
	return lit
}

func (q *question) thereIf(m *meeting) z.Lit {
	lit, ok := q.there[m]
	if !ok {
		lit = q.solver.Lit()
		q.there[m] = lit
		for _, c := range q.taken(m).lits {
			q.add(c.Not(), lit)
		}
	}
	return lit
}

// thereBeside is thereIf for what is not n itself.
func (q *question) thereBeside(n *node, m *meeting) z.Lit {
	t := q.taken(m)
	if !slices.ContainsFunc(t.offers, func(o offer) bool { return o.Package == n.Package }) {
		return q.thereIf(m)
	}
	lit := q.solver.Lit()
	if !q.spend(len(t.lits)) {
		return lit
	}
	for i, c := range t.lits {
		if t.offers[i].Package != n.Package {
			q.add(c.Not(), lit)
		}
	}
	return lit
}

// conflict says that nothing that meets m goes together with n. A package does
// not conflict with itself, nor with its own other versions.
func (q *question) conflict(n *node, m *meeting) {
	t := q.taken(m)
	from, to := t.own(n.Name)
	g := guard{between: [2]string{n.String()}, because: n.Name + " excludes " + m.relation.String()}
	me := q.installed[n].Not()
	switch others := len(t.offers) - (to - from); {
	case others == 0:
	case to == from: // the same rule for everybody who says so
		g.between[1] = t.offers[0].String()
		q.exclude(g, []z.Lit{me, q.thereIf(m).Not()})
	case others <= few:
		for i, o := range t.offers {
			if i < from || i >= to {
				g.between[1] = o.String()
				q.exclude(g, []z.Lit{me, t.lits[i].Not()})
			}
		}
	default:
		c := q.chain(t)
		var rules [][]z.Lit
		if from > 0 {
			rules = append(rules, []z.Lit{me, c.first[from-1].Not()})
		}
		if to < len(t.offers) {
			rules = append(rules, []z.Lit{me, c.last[to].Not()})
		}
		q.exclude(g, rules...)
	}
}

// chain knows of many packages whether one of the first of them is installed,
// or one of the last: first[i] of those up to i, last[i] of those from i on.
type chain struct{ first, last []z.Lit }

// chain makes it, once: rules that leave out a few of many would cost the
// square of their number if they were written pair by pair.
func (q *question) chain(t *taken) *chain {
	if t.chain != nil {
		return t.chain
	}
	c := &chain{}
	for i, m := range t.lits {
		c.first, c.last = append(c.first, q.solver.Lit()), append(c.last, q.solver.Lit())
		q.add(m.Not(), c.first[i])
		q.add(m.Not(), c.last[i])
		if i > 0 {
			q.add(c.first[i-1].Not(), c.first[i])
			q.add(c.last[i].Not(), c.last[i-1])
		}
	}
	t.chain = c
	return c
}

// names says that of the packages of one name one can be installed, where the
// family has it so.
func (q *question) names(inside []*node) {
	byName := map[string][]*node{}
	var order []string
	for _, n := range inside {
		if byName[n.Name] == nil {
			order = append(order, n.Name)
		}
		byName[n.Name] = append(byName[n.Name], n)
	}
	for _, name := range order {
		all := byName[name]
		if len(all) == 1 {
			continue
		}
		because := "only one version of " + name + " can be installed"
		// Packages of one architecture exclude each other alike.
		byArch := map[string][]*node{}
		var archs []string
		for _, n := range all {
			if byArch[n.Arch] == nil {
				archs = append(archs, n.Arch)
			}
			byArch[n.Arch] = append(byArch[n.Arch], n)
		}
		for i, a := range archs {
			if first := byArch[a]; len(first) > 1 && q.family.Exclusive(first[0].Package, first[1].Package) {
				q.oneOf(first, because)
			}
			for _, b := range archs[i+1:] {
				q.apart(byArch[a], byArch[b], because)
			}
		}
	}
}

// apart says which packages of one name and two architectures are not installed
// beside each other: mostly none of the one beside any of the other.
func (q *question) apart(a, b []*node, because string) {
	var pairs [][2]*node
	for _, x := range a {
		for _, y := range b {
			if !q.spend(1) {
				return
			}
			if q.family.Exclusive(x.Package, y.Package) {
				pairs = append(pairs, [2]*node{x, y})
			}
		}
	}
	if len(pairs) == len(a)*len(b) {
		q.oneSide(a, b, because)
		return
	}
	for _, p := range pairs {
		q.exclude(guard{between: [2]string{p[0].String(), p[1].String()}, because: because},
			[]z.Lit{q.installed[p[0]].Not(), q.installed[p[1]].Not()})
	}
}

// oneOf says that at most one of several is installed: pair by pair where they
// are few, else along a chain, so that many do not cost their square.
func (q *question) oneOf(all []*node, because string) {
	if len(all) <= few {
		for i, a := range all {
			for _, b := range all[i+1:] {
				q.exclude(guard{between: [2]string{a.String(), b.String()}, because: because},
					[]z.Lit{q.installed[a].Not(), q.installed[b].Not()})
			}
		}
		return
	}
	var rules [][]z.Lit
	before := z.LitNull // one of those before is installed
	for _, n := range all {
		m, now := q.installed[n], q.solver.Lit()
		rules = append(rules, []z.Lit{m.Not(), now})
		if before != z.LitNull {
			rules = append(rules, []z.Lit{before.Not(), now}, []z.Lit{before.Not(), m.Not()})
		}
		before = now
	}
	q.exclude(guard{because: because}, rules...)
}

// oneSide says that packages of two kinds are not installed beside each other.
func (q *question) oneSide(a, b []*node, because string) {
	left := q.solver.Lit()
	var rules [][]z.Lit
	for _, n := range a {
		rules = append(rules, []z.Lit{q.installed[n].Not(), left})
	}
	for _, n := range b {
		rules = append(rules, []z.Lit{q.installed[n].Not(), left.Not()})
	}
	q.exclude(guard{between: [2]string{a[0].String(), b[0].String()}, because: because}, rules...)
}

// search looks for a way to have all that is assumed, for so long at the most.
func (q *question) search(ctx context.Context, assumed []z.Lit, limit time.Duration) answer {
	until := time.Now().Add(limit)
	slice := searchSlice
	for left := limit; left > 0 && ctx.Err() == nil; left = time.Until(until) {
		q.solver.Assume(assumed...)
		switch q.solver.Try(min(left, slice)) {
		case 1:
			return yes
		case -1:
			return no
		}
		slice *= 2
	}
	return unknownYet
}

// explainConflicts finds for each conflict from one on the exclusions without
// which it would not be one.
func (s *selector) explainConflicts(from int) {
	explained := 0
	for i := from; i < len(s.out.Conflicts); i++ {
		c := &s.out.Conflicts[i]
		c.Because = "its needs exclude each other"
		if explained++; explained <= maxExplained && s.err == nil {
			s.explainConflict(c)
		}
	}
}

func (s *selector) explainConflict(c *Conflict) {
	wanted := s.node(offer{c.Wanted, s.chosen[c.Wanted].Source})
	around := s.around(s.isTaken, wanted)
	q := s.emptyQuestion(around)
	q.guarded = true
	q.translate(around)
	if s.err != nil {
		return
	}
	until := time.Now().Add(s.limits.each())
	holds := func(guards []guard) answer {
		assumed := []z.Lit{q.installed[wanted]}
		for _, g := range guards {
			assumed = append(assumed, g.lit)
		}
		return q.search(s.ctx, assumed, time.Until(until))
	}
	core := q.guards
	if holds(core) != no {
		return
	}
	in := map[z.Lit]bool{}
	for _, m := range q.solver.Why(nil) {
		in[m] = true
	}
	core = slices.DeleteFunc(slices.Clone(core), func(g guard) bool { return !in[g.lit] })
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

func (s *selector) isTaken(o offer) bool { return s.chosen[o.Package] != nil }

// around gives what could be installed for the sake of some packages, of what is
// admitted.
func (s *selector) around(admitted func(offer) bool, roots ...*node) []*node {
	seen, looked := map[*node]bool{}, map[*meeting]bool{}
	out := slices.Clone(roots)
	for _, n := range roots {
		seen[n] = true
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
	s := c.Wanted.String() + " cannot be installed " + where(c.View, c.Arch) + ": " + c.Because
	if c.Between[0] != "" && c.Between[1] != "" {
		s += " (" + strings.Join(c.Between[:], " against ") + ")"
	}
	return s
}
