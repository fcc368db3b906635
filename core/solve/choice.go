package solve

import (
	"context"
	"fmt"
	"slices"

	"stockade/core/archive"
)

// Choice is which package of a name the machines of a view take that have none of that name
// yet, and what else their sources have (docs/priorities.md has the rule).
type Choice struct {
	View string `json:"view,omitempty"`
	Arch string `json:"architecture"`
	// Offers are all that the sources of the view have of the name, in the order in which
	// machines would take them; the first is taken unless Passed says why not.
	Offers []Offer `json:"offers"`
}

// Offer is one of them.
type Offer struct {
	*archive.Package `json:"-"`
	Source           int    `json:"-"`
	Taken            bool   `json:"taken"`
	Why              string `json:"why"` // it is taken, or is not
}

// Choose tells which package of a name is taken on an architecture of a view. It works on
// names alone: whether it can be installed is for Select to prove.
func (u *Universe) Choose(ctx context.Context, v View, arch, name string) Choice {
	s := u.selector(ctx, Limits{})
	if u.rules.Pins == archive.PinHolds {
		v.Pins = nil
	}
	s.begin(v, arch)
	out := Choice{View: v.Name, Arch: arch, Offers: []Offer{}}
	var best offer
	if taken := s.match(Want{Source: AllSources, Relation: archive.Relation{Name: name},
		Versions: 1}); len(taken) > 0 {
		best = taken[0]
	}
	for _, o := range u.called(name) {
		if s.seesOffer(o) && (u.runs(o, arch) || slices.ContainsFunc(v.Foreign, func(a string) bool {
			return u.runs(o, a)
		})) {
			out.Offers = append(out.Offers, Offer{o.Package, o.source, o == best, ""})
		}
	}
	rank := func(o Offer) int {
		if s.here(offer{o.Package, o.Source}) && !u.excepted(offer{o.Package, o.Source}) {
			return 0
		}
		return 1
	}
	var all []offer
	for _, o := range out.Offers {
		all = append(all, offer{o.Package, o.Source})
	}
	suiting := u.suiting(all, arch)
	slices.SortStableFunc(out.Offers, func(a, b Offer) int {
		x, y := offer{a.Package, a.Source}, offer{b.Package, b.Source}
		switch {
		case a.Taken != b.Taken:
			return order(a.Taken)
		case rank(a) != rank(b):
			return rank(a) - rank(b)
		case s.order(x) != s.order(y):
			return s.order(x) - s.order(y)
		case suiting(x) != suiting(y):
			return suiting(x) - suiting(y)
		}
		return u.family.CompareVersions(b.Version, a.Version)
	})
	for i := range out.Offers {
		out.Offers[i].Why = s.why(out.Offers[i], best, out.Offers)
	}
	return out
}

func order(first bool) int {
	if first {
		return -1
	}
	return 1
}

// why says in words why an offer is taken, or is not.
func (s *selector) why(x Offer, best offer, among []Offer) string {
	u, o := s.Universe, offer{x.Package, x.Source}
	src := u.sources[x.Source]
	pin, pinned := s.pinned[pinKey{o.Name, s.arch}]
	if x.Taken {
		switch {
		case pinned:
			return "a pin selects this version"
		case !slices.ContainsFunc(among, func(y Offer) bool {
			return y.Package != x.Package && s.here(offer{y.Package, y.Source})
		}):
			return "no other source of this machine has a package of that name"
		case !slices.ContainsFunc(among, func(y Offer) bool { return y.Source != x.Source }):
			return "it is the newest of " + src.Name
		}
		return fmt.Sprintf("%s has the best priority of the sources that have it (%d), and "+
			"this is its newest version",
			src.Name, src.Priority)
	}
	switch {
	case u.excepted(o):
		return "excluded by the mirror"
	case pinned && u.family.CompareVersions(o.Version, pin) != 0:
		return "machines stay on " + pin
	case !s.here(o):
		return "its module stream is not enabled"
	case best.Package == nil:
		return ""
	}
	first := u.sources[best.source]
	switch {
	case first.Priority < src.Priority:
		return fmt.Sprintf("%s wins: its priority is %d, not %d", first.Name, first.Priority,
			src.Priority)
	case s.order(best) < s.order(o):
		return first.Name + " is listed first, and has the same version"
	case !u.forAll(best) && !u.forAll(o) && u.rank(best, s.arch) < u.rank(o, s.arch):
		return fmt.Sprintf("%s suits machines of %s better", best.Arch, s.arch)
	case u.family.CompareVersions(best.Version, o.Version) > 0:
		return best.Version + " is newer"
	}
	return "it is the same version as that of " + first.Name
}
