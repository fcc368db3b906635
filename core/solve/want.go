package solve

import (
	"slices"
	"sort"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
)

// By is what a want goes by.
type By int

// What wants go by.
const (
	ByName     By = iota // the name of packages, or a pattern of names
	ByProvided           // what packages provide: a name, a capability or a file
	BySection            // the section or category that they are in, or a pattern of sections
	ByGroup              // a set of packages that their repository names
	ByOrigin             // the source package that they were built from, or a pattern of such
)

// Want is one wish of a mirror.
type Want struct {
	Source   int // AllSources: whatever source machines would take it from
	By       By
	Relation archive.Relation // a name or pattern, with a bound on its version
	With     string           // required, recommended or suggested
	Versions int              // how many of the newest; 0: all
	As       string           // as it was written
	List     string           // that it stands on; empty: none
	Group    string           // whose machines alone it is for; empty: all
	Only     bool             // older versions than elsewhere are meant
	// Alternatives tells that of several ways to meet a need every one is taken.
	Alternatives bool
}

// AllSources stands for no source in particular.
const AllSources = -1

// old tells whether the want itself asks for something that may be older than
// what there is.
func (w Want) old() bool {
	op := w.Relation.Op
	return w.Only || op == archive.Equal || op == archive.Less || op == archive.LessOrEqual
}

// admits tells whether a package is what a want is about, its version left aside.
func (w Want) admits(p *archive.Package) bool {
	like := func(text string) bool { return archive.Matches(w.Relation.Name, text) }
	switch w.By {
	case BySection:
		_, plain, inside := strings.Cut(p.Section, "/")
		return p.Section != "" && (like(p.Section) || inside && like(plain))
	case ByGroup:
		return slices.ContainsFunc(p.Groups, func(g archive.Membership) bool {
			return g.Group == w.Relation.Name && (!g.Optional || w.With == definition.Suggested)
		})
	case ByOrigin:
		if p.Origin == "" {
			return like(p.Name)
		}
		return like(p.Origin)
	}
	return true
}

// following is how the needs of what is wanted are followed.
type following struct {
	with string // required, recommended, suggested; "" follows nothing
	all  bool   // every way to meet a need is taken
}

// offered gives what a want could take of one name: for the machine's own
// architecture, and where that has nothing, or everything is wanted, for those that
// are turned on beside it.
func (s *selector) offered(w Want, name string) (out []offer) {
	for _, a := range append([]string{s.arch}, s.view.Foreign...) {
		for _, o := range s.called(name) {
			if (w.Source == AllSources || o.source == w.Source) && !s.sources[o.source].Outside &&
				s.runs(o, a) && !s.excepted(o) && !slices.Contains(out, o) {
				out = append(out, o)
			}
		}
		if len(out) > 0 && w.Versions > 0 {
			break
		}
	}
	return out
}

// namesOf gives the names of which a want may take packages.
func (s *selector) namesOf(w Want) (names []string) {
	if w.By == ByName && !isPattern(w.Relation.Name) {
		return []string{w.Relation.Name}
	}
	for text, n := range s.names {
		if len(n.real) == 0 || !s.spend(1) {
			continue
		}
		if w.By == ByName && archive.Matches(w.Relation.Name, text) ||
			w.By != ByName && slices.ContainsFunc(n.real,
				func(o offer) bool { return w.admits(o.Package) }) {
			names = append(names, text)
		}
	}
	sort.Strings(names)
	return names
}

// match gives the packages that a want takes in the view at hand, newest first.
// A want at no source in particular takes from the best priority that has the
// name: that is what machines would do.
func (s *selector) match(w Want) (out []offer) {
	if w.By == ByProvided {
		return s.provided(w)
	}
	u := s.Universe
	for _, n := range s.namesOf(w) {
		fit := s.offered(w, n)
		if w.Source == AllSources && len(fit) > 0 {
			best := s.order(fit[0])
			for _, o := range fit {
				best = min(best, s.order(o))
			}
			fit = slices.DeleteFunc(fit, func(o offer) bool { return s.order(o) != best })
		}
		fit = slices.DeleteFunc(fit, func(o offer) bool {
			return w.By == ByName && !u.isIn(o, w.Relation) || !w.admits(o.Package)
		})
		slices.SortStableFunc(fit, func(a, b offer) int {
			return u.family.CompareVersions(b.Version, a.Version)
		})
		if w.Versions > 0 { // a choice is made among what suits the machine best
			suiting := u.suiting(fit, s.arch)
			best := 1 << 30
			for _, o := range fit {
				best = min(best, suiting(o))
			}
			fit = slices.DeleteFunc(fit, func(o offer) bool { return suiting(o) != best })
		}
		out = append(out, newest(fit, w.Versions)...)
	}
	return out
}

// newest gives those of the first versions; 0: all.
func newest(fit []offer, versions int) (out []offer) {
	kept, last := 0, ""
	for _, o := range fit {
		if o.Version != last {
			kept++
			last = o.Version
		}
		if versions > 0 && kept > versions {
			break
		}
		out = append(out, o)
	}
	return out
}

// provided gives what machines would take that ask for what packages provide: the first that
// can itself be installed, conflicts left aside, or else the first there is; of all ways, where
// these are wanted, the best of each name.
func (s *selector) provided(w Want) (out []offer) {
	at := place{within: s.arch}
	if b, ok := s.family.(archive.Bound); ok {
		at.within = b.Within(w.Relation, s.arch, s.arch)
	}
	m := s.meetingOf(s.relation(w.Relation), at)
	s.settle(s.reach(m)...)
	var first, any []offer
	seen := map[string]bool{}
	for _, o := range m.usable {
		if w.Source != AllSources && o.source != w.Source || s.sources[o.source].Outside || seen[o.Name] {
			continue
		}
		any = append(any, o)
		if s.node(o).state == supported {
			seen[o.Name] = true
			first = append(first, o)
		}
	}
	if len(first) == 0 {
		first = any[:min(1, len(any))]
	}
	if !w.Alternatives {
		first = first[:min(1, len(first))]
	}
	return first
}

func isPattern(s string) bool { return strings.ContainsAny(s, "*?[") }

func (u *Universe) explain(w Want) Unmatched {
	out := Unmatched{Want: w}
	if w.By != ByName {
		out.Near = u.nearby(w)
		return out
	}
	for _, o := range u.called(w.Relation.Name) {
		if (w.Source == AllSources || o.source == w.Source) && !u.sources[o.source].Outside &&
			!slices.Contains(out.Offers, Offered{o.source, o.Version}) {
			out.Offers = append(out.Offers, Offered{o.source, o.Version})
			out.Versions = append(out.Versions, o.Version)
		}
	}
	if len(out.Versions) == 0 {
		out.Near = u.Near(w.Relation.Name)
	}
	return out
}

// Near gives up to three known names like name.
func (u *Universe) Near(name string) []string {
	return near(name, func(yield func(string)) {
		for text, n := range u.names {
			if len(n.real) > 0 {
				yield(text)
			}
		}
	})
}

// nearby gives up to three known sections, groups, source packages or provided names like that
// of a want.
func (u *Universe) nearby(w Want) []string {
	return near(w.Relation.Name, func(yield func(string)) {
		seen := map[string]bool{}
		once := func(text string) {
			if text != "" && text != w.Relation.Name && !seen[text] {
				seen[text] = true
				yield(text)
			}
		}
		for text, n := range u.names {
			if w.By == ByProvided {
				if len(n.real)+len(n.provided) > 0 {
					once(text)
				}
				continue
			}
			for _, o := range n.real {
				switch w.By {
				case BySection:
					once(o.Section)
				case ByOrigin:
					once(o.Origin)
				case ByGroup:
					for _, g := range o.Groups {
						once(g.Group)
					}
				}
			}
		}
	})
}

func near(name string, each func(yield func(string))) []string {
	type scored struct {
		name string
		d    int
	}
	var best []scored
	each(func(text string) {
		if d := far(name, text); d <= max(2, len(name)/4) || len(name) > 3 && strings.Contains(text, name) {
			best = append(best, scored{text, d})
		}
	})
	slices.SortFunc(best, func(a, b scored) int {
		if a.d != b.d {
			return a.d - b.d
		}
		return strings.Compare(a.name, b.name)
	})
	var out []string
	for _, b := range best[:min(3, len(best))] {
		out = append(out, b.name)
	}
	return out
}

// far is the edit distance of two names, cut off where it no longer matters.
func far(a, b string) int {
	if d := len(a) - len(b); d > 4 || d < -4 {
		return 99
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			diagonal, row[j] = row[j], min(row[j]+1, row[j-1]+1, diagonal+cost)
		}
	}
	return row[len(b)]
}
