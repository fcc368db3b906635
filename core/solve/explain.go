package solve

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/go-air/gini/z"

	"stockade/core/archive"
)

// Refusal is why a wanted package, or a set of them that shall go together, cannot be installed
// by the machines of a view.
type Refusal struct {
	Wanted string `json:"wanted"` // name, version and architecture; of a set its name
	Set    bool   `json:"set,omitempty"`
	View   string `json:"view,omitempty"` // see View.Name
	Arch   string `json:"architecture"`
	// Parts are what is so of the packages that machines see and cannot be all together with what
	// is wanted. None of them can be left out, where Minimal says so.
	Parts   []string `json:"parts,omitempty"`
	Minimal bool     `json:"minimal"`
	// Why is the same as a tree, from what is wanted on; nil: it was not worked out, and Because
	// says why.
	Why     *Explained `json:"why,omitempty"`
	Because string     `json:"because,omitempty"`
	WaysOut []WayOut   `json:"ways_out,omitempty"` // that were tried, and lead out
	Tried   bool       `json:"tried"`              // ways out were looked for
	Group   string     `json:"group,omitempty"`    // whose set it is; empty: no group's own

	packages []*archive.Package // what is wanted; of a set, one of each
	absent   []string           // of a set, names of which there is none that fits
	core     []part
}

// part is one thing that is so of packages: a need, an exclusion, that something is installed
// already. It may be several rules of the question.
type part struct {
	guard
	lits []z.Lit
}

// Explained is a package in an explanation.
type Explained struct {
	Package  string   `json:"package"` // name, version and architecture
	Source   string   `json:"source,omitempty"`
	Needs    []NeedOf `json:"needs,omitempty"`
	Excludes []string `json:"excludes,omitempty"` // what keeps it from going together with others
	Above    bool     `json:"above,omitempty"`    // what is to be said of it stands further up
	// Deeper: what is to be said of it is left out here, since the tree is deep already. It is among the
	// parts of the refusal.
	Deeper bool `json:"deeper,omitempty"`
}

// NeedOf is a need in an explanation, with all that would meet it.
type NeedOf struct {
	Clause   string      `json:"clause"`
	Ways     []Explained `json:"ways,omitempty"`     // none: nothing that machines see meets it
	Further  int         `json:"further,omitempty"`  // ways that are left out here, and fare alike
	Excepted []string    `json:"excepted,omitempty"` // names of what would, but is excepted
}

// Explanations of one view and architecture are bounded in number, and each in the ways that are
// shown of one need, and in how deep its tree is: a person reads no further, and JSON is nested only so deep.
const (
	maxExplained = 50
	maxWays      = 12
	maxDeep      = 50
)

// refuse explains why each of these cannot be installed, and says so of the conflicts among them.
// alone are those that are no sets.
func (s *selector) refuse(refused, alone []*node, conflicts []Conflict) {
	before := s.budget
	defer func() { s.budget = before }()
	at := map[*archive.Package]int{}
	for i, c := range conflicts {
		at[c.Wanted] = i
	}
	fails := map[*archive.Package]bool{}
	for _, n := range alone {
		fails[n.Package] = true
	}
	until := time.Now().Add(s.limits.all(len(refused)))
	for i, n := range refused {
		r := Refusal{Wanted: n.String(), View: s.view.Name, Arch: s.arch,
			packages: []*archive.Package{n.Package}}
		if n.set != nil {
			r.Wanted, r.Set, r.Group, r.packages = n.set.Name, true, n.set.Group, nil
			r.Because = inWay(n, fails)
			for _, c := range n.requires {
				if len(c[0].usable) > 0 {
					r.packages = append(r.packages, c[0].usable[0].Package)
				} else {
					r.absent = append(r.absent, c[0].relation.Name)
				}
			}
		}
		switch left := time.Until(until); {
		case r.Because != "":
		case i >= maxExplained || left <= 0:
			r.Because = "not determined, because many others cannot be installed either"
		default:
			s.budget = newBudget(before.ctx, s.count)
			s.explainOne(&r, n, min(s.limits.each(), left))
		}
		if k, is := at[n.Package]; is {
			conflicts[k].explained(r)
		}
		s.out.Refusals = append(s.out.Refusals, r)
	}
	before.err = before.ctx.Err()
}

// inWay names a package of a set that cannot be installed by itself; "" where there is none.
func inWay(n *node, fails map[*archive.Package]bool) string {
	for _, c := range n.requires {
		all := len(c[0].usable) > 0
		for _, o := range c[0].usable {
			all = all && fails[o.Package]
		}
		if all {
			return c[0].usable[0].String() + " cannot be installed by itself"
		}
	}
	return ""
}

// explained says of a conflict the first exclusion that is to blame.
func (c *Conflict) explained(r Refusal) {
	c.Because = "its dependencies exclude each other"
	if r.Set && r.Because != "" {
		c.Because = r.Because
	}
	var exclusion, there *part
	for i := range r.core {
		switch p := &r.core[i]; {
		case p.needs != nil:
		case p.of != nil && p.between == [2]string{}: // it is there already
			there = cmp.Or(there, p)
		default:
			exclusion = cmp.Or(exclusion, p)
		}
	}
	p := cmp.Or(exclusion, there)
	if p == nil {
		return
	}
	c.Between, c.Because = p.between, p.because
	if there != nil && c.Between[1] != "" && c.Between[0] != there.of.String() {
		c.Between[1] = there.of.String() // of all that it excludes this is what is in the way
	}
}

// explainOne finds out of all that machines of the view see a smallest part that is at odds with
// having n: no part of it can be left out.
func (s *selector) explainOne(r *Refusal, n *node, limit time.Duration) {
	q := s.newQuestion()
	q.explains = true
	until := time.Now().Add(limit)
	q.put(s.around(func(offer) bool { return true }, n))
	if s.err != nil {
		r.Because = "not determined, because the cost is out of proportion to the packages"
		return
	}
	core := q.parts()
	holds := func(parts []part) answer {
		assumed := []z.Lit{q.closed[len(q.closed)-1], q.installed[n]}
		if q.kept != z.LitNull {
			assumed = append(assumed, q.kept)
		}
		for _, p := range parts {
			assumed = append(assumed, p.lits...)
		}
		return q.search(assumed, time.Until(until))
	}
	if holds(core) != no {
		r.Because = "not determined in time"
		return
	}
	core = blamed(q, core)
	r.Minimal = true
	for i := len(core) - 1; i >= 0; i-- { // from what is farthest on
		without := slices.Delete(slices.Clone(core), i, i+1)
		switch holds(without) {
		case no:
			core = blamed(q, without)
			i = min(i, len(core))
		case unknownYet:
			r.Minimal = false
		}
	}
	r.core = core
	for _, p := range core {
		r.Parts = append(r.Parts, p.String())
	}
	t := telling{selector: s, core: core, told: map[*node]bool{}, passed: map[*node]bool{},
		shown: make([]bool, len(core))}
	why := t.tell(n, 0)
	for i, p := range core { // what is of nothing in the tree stands with what is wanted
		if !t.shown[i] {
			why.Excludes = append(why.Excludes, p.String())
		}
	}
	r.Why = &why
}

// parts gathers the rules by what they say.
func (q *question) parts() (out []part) {
	type what struct {
		of  *node
		say string
	}
	at := map[what]int{}
	var names []string
	for _, in := range q.nodes {
		if !slices.Contains(names[max(0, len(names)-1):], in.Name) {
			names = append(names, in.Name)
		}
	}
	names = append(names, slices.Sorted(maps.Keys(q.always))...)
	done := map[string]bool{}
	for _, name := range names {
		if done[name] {
			continue
		}
		done[name] = true
		for _, g := range q.guards[name] {
			key := what{g.of, g.because}
			if g.needs != nil {
				key.say = "needs " + g.needs.written().String()
			}
			i, seen := at[key]
			if !seen {
				i = len(out)
				at[key] = i
				out = append(out, part{guard: g})
			}
			out[i].lits = append(out[i].lits, g.lit)
		}
	}
	return out
}

// blamed leaves those of the parts that the solver needed for its no.
func blamed(q *question, parts []part) []part {
	in := map[z.Lit]bool{}
	for _, m := range q.solver.Why(nil) {
		in[m] = true
	}
	return slices.DeleteFunc(slices.Clone(parts), func(p part) bool {
		return !slices.ContainsFunc(p.lits, func(m z.Lit) bool { return in[m] })
	})
}

// String says what a guard stands for.
func (g guard) String() string {
	if g.needs != nil {
		return g.of.title() + " needs " + g.needs.written().String()
	}
	if g.of != nil {
		return g.of.title() + strings.TrimPrefix(g.because, g.of.Name)
	}
	return g.because
}

// title names a package, or a set.
func (n *node) title() string {
	if n.set != nil {
		return n.set.Name
	}
	return n.String()
}

// telling makes a tree of an explanation.
type telling struct {
	*selector
	core []part
	told map[*node]bool
	// passed are those of ways that are left out.
	passed map[*node]bool
	// shown tells of each part whether it stands in the tree, or is of a way that is left out.
	shown []bool
}

// pass takes what is to be said of a package that is left out for said, and of what it leads to.
func (t *telling) pass(n *node) {
	waiting := []*node{n}
	for len(waiting) > 0 {
		n, waiting = waiting[len(waiting)-1], waiting[:len(waiting)-1]
		if t.told[n] || t.passed[n] {
			continue
		}
		t.passed[n] = true
		for i, g := range t.core {
			if g.of != n && (g.of != nil || g.by != n.Name) {
				continue
			}
			t.shown[i] = true
			for _, l := range g.needs {
				for _, o := range l.usable {
					waiting = append(waiting, t.node(o))
				}
			}
		}
	}
}

func (t *telling) tell(n *node, depth int) Explained {
	out := Explained{Package: n.title()}
	if n.set == nil {
		out.Source = t.sources[n.source].Name
	}
	if t.told[n] {
		out.Above = true
		return out
	}
	if depth == maxDeep {
		out.Deeper = true
		t.pass(n)
		return out
	}
	t.told[n] = true
	for i, g := range t.core {
		about := g.of == n || g.of == nil && g.by == n.Name
		switch {
		case g.needs != nil && g.of == n:
			t.shown[i] = true
			out.Needs = append(out.Needs, t.need(g.needs, depth))
		case g.needs == nil && about:
			t.shown[i] = true
			out.Excludes = append(out.Excludes, g.because)
		}
	}
	return out
}

func (t *telling) need(c clause, depth int) NeedOf {
	out := NeedOf{Clause: c.written().String()}
	seen := map[*archive.Package]bool{}
	for _, l := range c {
		if l.not {
			continue
		}
		for _, o := range l.all {
			if t.excepted(o) && !slices.Contains(out.Excepted, o.Name) {
				out.Excepted = append(out.Excepted, o.Name)
			}
		}
		for _, o := range l.usable {
			if seen[o.Package] {
				continue
			}
			seen[o.Package] = true
			if len(out.Ways) == maxWays {
				out.Further++
				t.pass(t.node(o))
				continue
			}
			out.Ways = append(out.Ways, t.tell(t.node(o), depth+1))
		}
	}
	return out
}

// setsOf makes a node of each set of the view at hand that shall go together: a package that needs
// one of what each of its wants takes.
func (s *selector) setsOf(wants []Want, matches [][]offer) (out []*node) {
	for _, t := range s.view.Together {
		n := &node{offer: offer{Package: &archive.Package{Name: t.Name}}, called: &called{}}
		some, all := false, true
		for _, i := range t.Wants {
			t.wants = append(t.wants, wants[i].As)
			if len(matches[i]) == 0 {
				n.requires, all = append(n.requires, s.oneOf(wants[i].Relation, nil)), false
				continue
			}
			some = true
			var names []string
			byName := map[string][]offer{}
			for _, o := range matches[i] {
				if byName[o.Name] == nil {
					names = append(names, o.Name)
				}
				byName[o.Name] = append(byName[o.Name], o)
			}
			for _, name := range names {
				n.requires = append(n.requires, s.oneOf(archive.Relation{Name: name}, byName[name]))
			}
		}
		if n.set = &t; some && (all || !t.Loose) { // else it is about packages of another family
			s.nodes[n.Package] = n
			out = append(out, n)
		}
	}
	return out
}

// oneOf is the need of one of some packages.
func (s *selector) oneOf(r archive.Relation, of []offer) clause {
	return clause{{meeting: &meeting{relation: &relation{Relation: r, name: &name{text: r.Name}}, all: of,
		usable: of}}}
}
