package solve

import (
	"slices"

	"stockade/core/archive"
)

// place is where a relation is looked for: on behalf of a package of one
// architecture, for a need or for a conflict.
type place struct {
	within   string // the architecture that the relation is about
	conflict bool
}

// placeOf gives where a relation of a package is looked for. Where the family
// does not bind it to the package's architecture, it is the machine's.
func (s *selector) placeOf(o offer, r archive.Relation, conflict bool) place {
	if b, ok := s.family.(archive.Bound); ok {
		return place{b.Within(r, o.Arch, s.arch), conflict}
	}
	return place{within: s.arch}
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

// fits tells which offers a relation is about, by architecture.
func (s *selector) fits(r archive.Relation, at place) func(o offer) bool {
	b, bound := s.family.(archive.Bound)
	if !bound {
		return func(o offer) bool { return s.runs(o, s.arch) }
	}
	var now offer // that is asked about
	machine := archive.Machine{Within: at.within, Conflict: at.conflict, Takes: func(arch string) bool {
		if arch == "" {
			return s.here(now)
		}
		return s.has(arch) && s.runs(now, arch)
	}}
	return func(o offer) bool {
		now = o
		return b.About(o.Package, r, machine)
	}
}
