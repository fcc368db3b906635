package solve

import (
	"slices"

	"stockade/core/archive"
)

// place is where a relation is looked for: on behalf of a package of one
// architecture, for a need or for a conflict.
type place struct {
	within   string // the architecture that an unqualified relation is about
	conflict bool   // a conflict is about packages of every architecture
}

// placeOf gives where the relations of a package are looked for. Where the family
// does not bind them to the package's architecture, it is the machine's.
func (s *selector) placeOf(o offer, conflict bool) place {
	if b, ok := s.family.(archive.Bound); ok {
		return place{b.Within(o.Arch, s.arch), conflict}
	}
	return place{within: s.arch}
}

// bound tells whether the family binds relations to architectures.
func (s *selector) bound() bool {
	_, ok := s.family.(archive.Bound)
	return ok
}

// has tells whether machines of the view can have packages of an architecture.
func (s *selector) has(arch string) bool {
	return arch == s.arch || slices.Contains(s.view.Foreign, arch)
}

// here tells whether machines of the view could have an offer, for their own
// architecture or for one that they have turned on beside it.
func (s *selector) here(o offer) bool {
	return s.runs(o, s.arch) || slices.ContainsFunc(s.view.Foreign, func(a string) bool {
		return s.runs(o, a)
	})
}

// fits tells which offers a relation is about, by architecture (for deb: Debian
// Policy §7.1 and the multi-architecture field).
func (s *selector) fits(r archive.Relation, at place) func(o offer) bool {
	switch {
	case r.Qualifier == "any" && at.conflict, r.Qualifier == "" && at.conflict && s.bound():
		return s.here
	case r.Qualifier == "any":
		return func(o offer) bool {
			return o.Coexists == archive.Allowed && s.here(o)
		}
	case r.Qualifier == "native":
		return func(o offer) bool { return s.runs(o, s.arch) }
	case r.Qualifier != "":
		return func(o offer) bool { return s.has(r.Qualifier) && s.runs(o, r.Qualifier) }
	case at.within == s.arch && len(s.view.Foreign) == 0:
		return func(o offer) bool { return s.runs(o, s.arch) }
	}
	return func(o offer) bool {
		return s.runs(o, at.within) || o.Coexists == archive.Foreign && s.here(o)
	}
}
