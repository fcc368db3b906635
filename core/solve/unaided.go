package solve

import (
	"slices"
	"strings"

	"stockade/core/archive"
)

// Unaided is a package that the clients of some families do not install by themselves although
// everything that it needs is there: one of its needs is met only by a version that is not the
// candidate of its name (archive.Rules.CandidateOnly), or by another package than the one that the
// client takes first (archive.Rules.FirstProvider). Who names that package installs it.
type Unaided struct {
	View   string
	Arch   string
	Needer *archive.Package
	Source int
	Clause archive.Clause
	Meets  *archive.Package // what would meet it
	First  *archive.Package // what machines take of that name
	// Stops are the packages that were asked about and are not installed for it, the needer too
	// where it was.
	Stops []*archive.Package
}

// unaided looks, when all was taken for all views, for what machines do not install by themselves.
// What was proved of it is taken back.
func (s *selector) unaided(views []View) {
	var look func(*Proof, provedThere)
	switch {
	case s.rules.FirstProvider:
		look = s.byFirst
	case s.rules.CandidateOnly && s.severalVersions():
		look = s.unaidedBy
	default:
		return
	}
	at := 0
	for _, v := range views {
		for _, arch := range v.Architectures {
			if at == len(s.out.Proofs) {
				return
			}
			s.begin(v, arch)
			look(&s.out.Proofs[at], s.proved[at])
			if at++; s.err != nil {
				return
			}
		}
	}
}

// severalVersions tells whether several versions of a name were taken, or come from outside.
func (s *selector) severalVersions() bool {
	seen := map[string]string{}
	several := func(p *archive.Package) bool {
		v, ok := seen[p.Name]
		seen[p.Name] = p.Version
		return ok && v != p.Version
	}
	for p := range s.chosen {
		if several(p) {
			return true
		}
	}
	for i, src := range s.sources {
		if !src.Outside || src.Installed {
			continue
		}
		for _, o := range s.of[i] {
			if several(o.Package) {
				return true
			}
		}
	}
	return false
}

// cause is why a package is not installed by itself: the need of one of its own, or that of what it
// needs in turn. Without a needer it cannot be installed at all, which is told otherwise.
type cause struct {
	needer *node
	clause clause
	meets  offer
}

// provedThere is what was asked about on a view and an architecture, and can be installed, and the
// sets that were asked about, in the order of their proof.
type provedThere struct {
	packages []*archive.Package
	sets     []*node
}

// unaidedBy looks at one view and architecture.
func (s *selector) unaidedBy(proof *Proof, proved provedThere) {
	first, there := s.firstOfEach()
	asked := map[*archive.Package]bool{}
	for _, p := range proved.packages {
		asked[p] = true
	}
	var looked []*node
	for _, n := range there {
		if s.spend(1); s.err != nil {
			return
		}
		if first[s.kindOf(n.offer)] == n { // who asks for another version names it
			s.settle(n)
			looked = append(looked, n)
		}
	}
	known := map[*archive.Package]*node{}
	for _, n := range there {
		known[n.Package] = n
	}
	why := map[*node]*cause{}
	for more := true; more; {
		more = false
		for _, n := range looked {
			if why[n] != nil {
				continue
			}
			if c := s.notByItself(n, first, known, why); c != nil {
				why[n] = c
				more = true
			}
			if s.err != nil {
				return
			}
		}
	}
	for i, set := range proved.sets { // of what is named with a version, that one is installed
		if c := s.notByItself(set, first, known, why); c != nil && c.needer != set {
			proof.Sets[i].Proved = false
		}
	}
	told := map[*node]int{}
	for _, n := range looked {
		c := why[n]
		if c == nil || c.needer == nil || !asked[n.Package] {
			continue
		}
		if proof.Proved > 0 {
			proof.Proved--
		}
		i, ok := told[c.needer]
		if !ok {
			i = len(s.out.Unaided)
			told[c.needer] = i
			s.out.Unaided = append(s.out.Unaided, Unaided{View: s.view.Name, Arch: s.arch,
				Needer: c.needer.Package, Source: c.needer.source, Clause: c.clause.written(),
				Meets: c.meets.Package, First: first[s.kindOf(c.meets)].Package})
		}
		s.out.Unaided[i].Stops = append(s.out.Unaided[i].Stops, n.Package)
	}
}

// kindOf names what machines choose one of: a name, and of architectures turned on beside their own
// each by itself.
func (s *selector) kindOf(o offer) string {
	if s.Universe.runs(o, s.arch) || s.forAll(o) {
		return o.Name
	}
	return o.Name + "\x00" + o.Arch
}

// firstOfEach gives what is there for the machines, and what comes first of each name.
func (s *selector) firstOfEach() (first map[string]*node, there []*node) {
	there = s.inside()
	kinds := map[string][]offer{}
	for _, n := range there {
		k := s.kindOf(n.offer)
		kinds[k] = append(kinds[k], n.offer)
	}
	for i, src := range s.sources { // all that machines have from outside, taken or not
		if !src.Outside || src.Installed || !s.sees[i] {
			continue
		}
		for _, o := range s.of[i] {
			if k := s.kindOf(o); kinds[k] != nil && s.here(o) && !s.isTaken(o) {
				kinds[k] = append(kinds[k], o)
			}
		}
	}
	first = map[string]*node{}
	for k, all := range kinds {
		first[k] = s.node(s.first(all))
	}
	return first, there
}

// notByItself tells why a package is not installed by itself, as far as is known of others; nil
// where it is.
func (s *selector) notByItself(n *node, first map[string]*node, known map[*archive.Package]*node,
	why map[*node]*cause) *cause {
	if n.set == nil && n.state != supported {
		return &cause{}
	}
	for _, c := range n.requires {
		if c.conditional() {
			continue
		}
		var of *cause
		met, other := false, offer{}
		for _, l := range c {
			if !s.spend(1 + len(l.meeting.all)) {
				return nil
			}
			for _, o := range l.meeting.all {
				x := known[o.Package]
				switch {
				case s.sources[o.source].Installed:
					met = true
				case s.sources[o.source].Outside && s.here(o):
					f := first[s.kindOf(o)]
					met = met || f == nil || f.Package == o.Package
				case x == nil || x == n:
					met = met || x == n
				case first[s.kindOf(o)] != x:
					if other.Package == nil {
						other = o
					}
				case why[x] == nil:
					met = true
				default:
					of = why[x]
				}
			}
		}
		switch {
		case met:
		case other.Package != nil && (of == nil || of.needer == nil):
			return &cause{n, c, other}
		case of != nil:
			return of
		default:
			return &cause{}
		}
	}
	return nil
}

// String tells it in one sentence.
func (u Unaided) String() string {
	var names []string
	for _, p := range u.Stops {
		if p != u.Needer && !slices.Contains(names, p.Name) {
			names = append(names, p.Name)
		}
	}
	needer := u.Needer.String()
	if u.Needer.Version == "" { // a set that shall go together
		needer = u.Needer.Name
	}
	s := needer + " needs " + u.Clause.String()
	switch {
	case u.First == nil:
		s += ", which no candidate satisfies " + where(u.View, u.Arch)
	case u.Meets == u.First:
		s += ", for which " + u.First.Name + " " + u.First.Version + " is selected " + where(u.View, u.Arch) +
			", and that conflicts with the rest"
	case u.First.Name != u.Meets.Name:
		s += ": " + u.First.Name + " " + u.First.Version + " is selected for it " + where(u.View, u.Arch) +
			". The client does not try " + u.Meets.Name + " " + u.Meets.Version +
			", which would satisfy it, too"
	default:
		s += ". " + u.Meets.Name + " " + u.Meets.Version + " satisfies it, but " + u.First.Name + " " +
			u.First.Version + " is selected " + where(u.View, u.Arch)
	}
	if len(names) > 0 {
		s += ". This affects " + strings.Join(names[:min(3, len(names))], ", ")
		if more := len(names) - 3; more > 0 {
			s += " and others"
		}
	}
	return s
}
