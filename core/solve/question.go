package solve

import (
	"slices"
	"strings"
	"time"

	"github.com/go-air/gini"
	"github.com/go-air/gini/z"

	"stockade/core/archive"
)

// answer is what came of a search.
type answer int

const (
	unknownYet answer = iota // not within the time
	yes
	no
)

// question is the packages that machines of one view could install as a satisfiability
// problem, one for each view and architecture. It begins with what was taken, and is widened
// where that does not do; what the solver learned stays. A solver is nobody else's: searches of
// several mirrors run side by side.
//
// That nothing but the packages in here meets a need holds only while the newest of closed is
// assumed, and that packages exclude each other only while all is, or the guard of that
// exclusion: so the same problem answers whether something can be installed, from what was
// taken or from everything, and which exclusions are to blame.
type question struct {
	*selector
	solver     *gini.Gini
	installed  map[*node]z.Lit
	byPackage  map[*archive.Package]z.Lit
	nodes      []*node            // in the order in which they came
	named      map[string][]*node // the same by name
	askings    []*asking          // in the order in which they came
	asked      map[*meeting]*asking
	beside     map[besides]z.Lit
	besides    []besides // in the order in which they came
	closed     []z.Lit   // for each time that packages were put in
	all        z.Lit     // every exclusion holds
	kept       z.Lit     // what is installed stays; null: nothing is
	explains   bool      // needs have guards too
	exclusions int
	guards     map[string][]guard // by the name of the package that excludes
}

// guard is one exclusion, with the words to explain it; where the question is there to explain
// something, also a need, or that something is installed already.
type guard struct {
	lit     z.Lit
	between [2]string
	because string
	by      string // the name of whose it is
	of      *node  // the one whose it is; nil: of all that are called so
	needs   clause // nil: it is no need
}

// asking is a meeting in the question: which packages in here are its candidates, in the order
// in which they came, and the literals that speak of them.
type asking struct {
	*meeting
	batches []*batch
	met     z.Lit // true only if something that meets it is installed; null: nobody needs it
	there   z.Lit // true if something that meets it is installed; null: nobody asks
}

// batch is the candidates of a meeting that came in at one time, in order of names.
type batch struct {
	at     int // which time
	offers []offer
	lits   []z.Lit
	there  z.Lit // true if one of them is installed; null: nobody asks
	chain  *chain
}

// besides is a package that excludes what it may itself meet.
type besides struct {
	*node
	*meeting
}

// questionOf gives the question of the view at hand, with these packages in it.
func (s *selector) questionOf(inside []*node) *question {
	if s.question == nil {
		s.question = s.newQuestion()
	}
	s.question.put(inside)
	return s.question
}

func (s *selector) newQuestion() *question {
	q := &question{selector: s, solver: gini.New(), installed: map[*node]z.Lit{},
		byPackage: map[*archive.Package]z.Lit{}, named: map[string][]*node{},
		asked: map[*meeting]*asking{}, beside: map[besides]z.Lit{}, guards: map[string][]guard{}}
	q.all = q.solver.Lit()
	return q
}

// put puts packages in, with all that they ask of what is there and what that asks of them.
// What it costs is in proportion to the packages, their relations and what could meet them.
func (q *question) put(inside []*node) {
	var fresh []*node
	for _, n := range inside {
		if _, in := q.installed[n]; in {
			continue
		}
		m := q.solver.Lit()
		q.installed[n], q.byPackage[n.Package] = m, m
		q.named[n.Name] = append(q.named[n.Name], n)
		fresh = append(fresh, n)
	}
	if len(fresh) == 0 && len(q.closed) > 0 {
		return
	}
	q.closed = append(q.closed, q.solver.Lit())
	q.renew()
	q.nodes = append(q.nodes, fresh...)
	for _, n := range fresh {
		if !q.spend(1) {
			return
		}
		for _, c := range n.requires {
			q.need(n, c)
		}
		for _, m := range n.conflicts {
			for _, b := range q.asking(m).batches {
				q.conflict(n, m, b)
			}
		}
	}
	q.alike(fresh)
	q.keep()
}

// renew says what has changed for the packages that were in before: more may meet what
// they need, and more be what they exclude.
func (q *question) renew() {
	now := len(q.closed) - 1
	for _, a := range q.askings {
		q.look(a)
		if a.met != z.LitNull {
			q.close(a)
		}
	}
	for _, about := range q.besides {
		for _, b := range q.asked[about.meeting].since(now) {
			q.others(about.node, b, q.beside[about])
		}
	}
	for _, n := range q.nodes {
		for _, m := range n.conflicts {
			for _, b := range q.asking(m).since(now) {
				q.conflict(n, m, b)
			}
		}
	}
}

func (q *question) add(lits ...z.Lit) {
	for _, m := range lits {
		q.solver.Add(m)
	}
	q.solver.Add(z.LitNull)
}

// exclude adds a rule that says that something does not go together.
func (q *question) exclude(name string, g guard, rules ...[]z.Lit) {
	q.exclusions++
	lit := q.guard(name, g)
	for _, r := range rules {
		q.add(append(slices.Clone(r), lit.Not())...)
	}
}

// guard gives the literal under which a rule holds.
func (q *question) guard(name string, g guard) z.Lit {
	g.lit, g.by = q.solver.Lit(), name
	q.guards[name] = append(q.guards[name], g)
	q.add(q.all.Not(), g.lit)
	return g.lit
}

// since gives the batches that came at a time or after it.
func (a *asking) since(at int) []*batch {
	for i, b := range a.batches {
		if b.at >= at {
			return a.batches[i:]
		}
	}
	return nil
}

// asking gives what is known here of a meeting.
func (q *question) asking(m *meeting) *asking {
	a := q.asked[m]
	if a == nil {
		a = &asking{meeting: m}
		q.asked[m] = a
		q.askings = append(q.askings, a)
		q.look(a)
	}
	return a
}

// look adds the candidates that came in since it looked before.
func (q *question) look(a *asking) {
	if !q.spend(len(a.usable)) {
		return
	}
	had := map[*archive.Package]bool{}
	for _, b := range a.batches {
		for _, o := range b.offers {
			had[o.Package] = true
		}
	}
	b := &batch{at: len(q.closed) - 1}
	for _, o := range a.usable {
		if _, in := q.byPackage[o.Package]; in && !had[o.Package] {
			b.offers = append(b.offers, o)
		}
	}
	if len(b.offers) == 0 {
		return
	}
	slices.SortStableFunc(b.offers, func(a, b offer) int { return strings.Compare(a.Name, b.Name) })
	for _, o := range b.offers {
		b.lits = append(b.lits, q.byPackage[o.Package])
	}
	a.batches = append(a.batches, b)
	if a.there != z.LitNull {
		q.implied(b, a.there)
	}
}

// implied says that what is in a batch is what a literal tells to be there.
func (q *question) implied(b *batch, there z.Lit) {
	for _, c := range b.lits {
		q.add(c.Not(), there)
	}
}

// own gives from where to where those of one name stand.
func (b *batch) own(name string) (from, to int) {
	from, _ = slices.BinarySearchFunc(b.offers, name, func(o offer, name string) int {
		return strings.Compare(o.Name, name)
	})
	for to = from; to < len(b.offers) && b.offers[to].Name == name; to++ {
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
		q.exclude(n.Name, guard{between: [2]string{n.String()}, of: n,
			because: n.Name + " excludes " + strings.ReplaceAll(c.written().String(), "not ", "")}, rule)
		return
	}
	if q.explains {
		rule = append(rule, q.guard(n.Name, guard{of: n, needs: c}).Not())
	}
	q.add(rule...)
}

// metBy is true only if something that meets a meeting is installed.
func (q *question) metBy(m *meeting) z.Lit {
	a := q.asking(m)
	if a.met == z.LitNull {
		a.met = q.solver.Lit()
		q.close(a)
	}
	return a.met
}

// close says that nothing meets a meeting but what is in here now.
func (q *question) close(a *asking) {
	rule := []z.Lit{q.closed[len(q.closed)-1].Not(), a.met.Not()}
	for _, b := range a.batches {
		rule = append(rule, b.lits...)
	}
	q.add(rule...)
}

// thereIf is true if something that meets a meeting is installed.
func (q *question) thereIf(m *meeting) z.Lit {
	a := q.asking(m)
	if a.there == z.LitNull {
		a.there = q.solver.Lit()
		for _, b := range a.batches {
			q.implied(b, a.there)
		}
	}
	return a.there
}

// thereBeside is thereIf for what is not n itself.
func (q *question) thereBeside(n *node, m *meeting) z.Lit {
	if !slices.ContainsFunc(m.usable, func(o offer) bool { return o.Package == n.Package }) {
		return q.thereIf(m)
	}
	about := besides{n, m}
	lit, ok := q.beside[about]
	if !ok {
		lit = q.solver.Lit()
		q.beside[about] = lit
		q.besides = append(q.besides, about)
		for _, b := range q.asking(m).batches {
			q.others(n, b, lit)
		}
	}
	return lit
}

// others says that what is in a batch, but for n itself, is what a literal tells to be there.
func (q *question) others(n *node, b *batch, lit z.Lit) {
	if !q.spend(len(b.lits)) {
		return
	}
	for i, c := range b.lits {
		if b.offers[i].Package != n.Package {
			q.add(c.Not(), lit)
		}
	}
}

// conflict says that nothing of a batch that meets m goes together with n. A package does
// not conflict with itself, nor with its own other versions.
func (q *question) conflict(n *node, m *meeting, b *batch) {
	from, to := b.own(n.Name)
	g := guard{between: [2]string{n.String()}, of: n, because: n.Name + " excludes " + m.relation.String()}
	me := q.installed[n].Not()
	switch others := len(b.offers) - (to - from); {
	case others == 0:
	case to == from: // the same rule for everybody who says so
		if b.there == z.LitNull {
			b.there = q.solver.Lit()
			q.implied(b, b.there)
		}
		g.between[1] = b.offers[0].String()
		q.exclude(n.Name, g, []z.Lit{me, b.there.Not()})
	case others <= few:
		for i, o := range b.offers {
			if i < from || i >= to {
				g.between[1] = o.String()
				q.exclude(n.Name, g, []z.Lit{me, b.lits[i].Not()})
			}
		}
	default:
		c := q.chain(b)
		var rules [][]z.Lit
		if from > 0 {
			rules = append(rules, []z.Lit{me, c.first[from-1].Not()})
		}
		if to < len(b.offers) {
			rules = append(rules, []z.Lit{me, c.last[to].Not()})
		}
		q.exclude(n.Name, g, rules...)
	}
}

// chain knows of many packages whether one of the first of them is installed,
// or one of the last: first[i] of those up to i, last[i] of those from i on.
type chain struct{ first, last []z.Lit }

// chain makes it, once: rules that leave out a few of many would cost the
// square of their number if they were written pair by pair.
func (q *question) chain(b *batch) *chain {
	if b.chain != nil {
		return b.chain
	}
	c := &chain{}
	for i, m := range b.lits {
		c.first, c.last = append(c.first, q.solver.Lit()), append(c.last, q.solver.Lit())
		q.add(m.Not(), c.first[i])
		q.add(m.Not(), c.last[i])
		if i > 0 {
			q.add(c.first[i-1].Not(), c.first[i])
			q.add(c.last[i].Not(), c.last[i-1])
		}
	}
	b.chain = c
	return c
}

// alike says that of the packages of one name one can be installed, where the
// family has it so, for the names of these.
func (q *question) alike(fresh []*node) {
	done := map[string]bool{}
	for _, n := range fresh {
		all, name := q.named[n.Name], n.Name
		if len(all) == 1 || done[name] {
			continue
		}
		done[name] = true
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
		q.exclude(p[0].Name, guard{between: [2]string{p[0].String(), p[1].String()}, because: because},
			[]z.Lit{q.installed[p[0]].Not(), q.installed[p[1]].Not()})
	}
}

// oneOf says that at most one of several is installed: pair by pair where they
// are few, else along a chain, so that many do not cost their square.
func (q *question) oneOf(all []*node, because string) {
	if len(all) <= few {
		for i, a := range all {
			for _, b := range all[i+1:] {
				q.exclude(a.Name, guard{between: [2]string{a.String(), b.String()}, because: because},
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
	q.exclude(all[0].Name, guard{because: because}, rules...)
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
	q.exclude(a[0].Name, guard{between: [2]string{a[0].String(), b[0].String()}, because: because}, rules...)
}

// installs looks for a way to have all of these, from the packages that are in, for so long
// at the most.
func (q *question) installs(wanted []z.Lit, limit time.Duration) answer {
	assumed := []z.Lit{q.closed[len(q.closed)-1], q.all}
	if q.kept != z.LitNull {
		assumed = append(assumed, q.kept)
	}
	return q.search(append(assumed, wanted...), limit)
}

// search looks for a way to have all that is assumed, for so long at the most.
func (q *question) search(assumed []z.Lit, limit time.Duration) answer {
	until := time.Now().Add(limit)
	slice := searchSlice
	for left := limit; left > 0 && q.ctx.Err() == nil; left = time.Until(until) {
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
