package solve

import (
	"context"
	"slices"

	"stockade/core/archive"
)

// InstalledState is how an installed package stands beside what machines of a view see of its name.
type InstalledState string

// The states of an installed package.
const (
	// Current: what comes first of its name is the version that is installed.
	Current InstalledState = "current"
	// Behind: what comes first is newer.
	Behind InstalledState = "behind"
	// Ahead: what comes first is older. Nothing takes it back by itself.
	Ahead InstalledState = "ahead"
	// Held: a pin keeps what is newer from being taken.
	Held InstalledState = "held"
	// Stranded: no source of the view has a package of its name that runs where it does.
	Stranded InstalledState = "stranded"
)

// Values gives all states.
func (InstalledState) Values() []string {
	return []string{string(Current), string(Behind), string(Ahead), string(Held), string(Stranded)}
}

// Successor is what comes first of the name of an installed package.
type Successor struct {
	State InstalledState
	Offer Offer // without a package where the state is Stranded
}

// Successor tells what machines of a view that have a package installed would take of its name
// when they are brought up to date (docs/priorities.md has the rule). It works on names alone:
// whether it can be installed, what replaces it under another name, and what other packages that
// are installed say to it, is not looked at. An architecture that is not said is taken to be arch.
func (u *Universe) Successor(ctx context.Context, v View, arch string, have archive.Identity) Successor {
	s := u.selector(ctx, Limits{})
	compare := u.family.CompareVersions
	newer := func(o offer) bool { return compare(o.Version, have.Version) > 0 }
	of := func(p archive.Relation) bool { return p.Name == have.Name }
	effect := u.rules.Pins
	pinned := slices.ContainsFunc(v.Pins, of)
	free := v
	free.Pins = slices.DeleteFunc(slices.Clone(v.Pins), of)
	s.begin(free, arch)
	all := s.kin(have)
	if len(all) == 0 {
		return Successor{State: Stranded}
	}
	seen := all
	if pinned && effect != archive.PinHolds {
		s.begin(v, arch)
		seen = s.kin(have)
	}
	if effect == archive.PinPrefers && slices.ContainsFunc(v.Pins, func(p archive.Relation) bool {
		return of(p) && compare(p.Version, have.Version) <= 0
	}) {
		// What is installed counts as the pinned version; one that is older takes nothing back.
		if seen = all; slices.ContainsFunc(v.Pins, func(p archive.Relation) bool {
			return of(p) && compare(p.Version, have.Version) == 0
		}) {
			seen = slices.DeleteFunc(slices.Clone(all), newer)
		}
	}
	best, state := s.successor(seen, have)
	if state != Behind && pinned && slices.ContainsFunc(all, newer) {
		return Successor{Held, offered(s.first(slices.DeleteFunc(slices.Clone(all), func(o offer) bool {
			return !newer(o)
		})))}
	}
	if state == Behind && pinned && effect == archive.PinHolds {
		state = Held
	}
	if best.Package == nil { // the pin hides all that there is, and none of it is newer
		best = s.first(all)
	}
	return Successor{state, offered(best)}
}

// successor gives what comes first of several packages, as clients look at them.
func (s *selector) successor(seen []offer, have archive.Identity) (offer, InstalledState) {
	compare := s.family.CompareVersions
	if len(seen) == 0 {
		return offer{}, Current
	}
	best := s.first(seen)
	if s.rules.NeverBack {
		if onward := slices.DeleteFunc(slices.Clone(seen), func(o offer) bool {
			return compare(o.Version, have.Version) < 0
		}); len(onward) > 0 {
			best = s.first(onward)
		}
	}
	switch d := compare(best.Version, have.Version); {
	case d > 0:
		return best, Behind
	case d < 0:
		return best, Ahead
	}
	return best, Current
}

func offered(o offer) Offer { return Offer{Package: o.Package, Source: o.source} }

// kin gives what machines see of the name of an installed package that can come in its place: of
// its architecture, or where one of the two is for all. What is for all comes to be of the machine's
// own architecture, and of another that runs there only where nothing of its own is seen.
func (s *selector) kin(have archive.Identity) (out []offer) {
	all := have.Arch == "" || s.family.Rank(have.Arch, "") >= 0
	var others []offer
	own := false
	for _, o := range s.called(have.Name) {
		rank := s.family.Rank(o.Arch, s.arch)
		switch {
		case !s.here(o) || s.excepted(o):
		case o.Arch == have.Arch || s.forAll(o):
			out = append(out, o)
		case all && rank == 0:
			out, own = append(out, o), true
		case all && rank > 0:
			others = append(others, o)
		}
	}
	if !own {
		out = append(out, others...)
	}
	return out
}

// first gives what comes first of several packages of one name.
func (s *selector) first(of []offer) offer {
	suiting := s.suiting(of, s.arch)
	return slices.MinFunc(of, func(a, b offer) int {
		if d := s.order(a) - s.order(b); d != 0 {
			return d
		}
		if d := suiting(a) - suiting(b); d != 0 {
			return d
		}
		return s.family.CompareVersions(b.Version, a.Version)
	})
}
