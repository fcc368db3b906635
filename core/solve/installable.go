package solve

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"github.com/go-air/gini/z"

	"stockade/core/archive"
)

// Query asks for a way to install packages side by side.
type Query struct {
	View     View
	Arch     string
	Packages []*archive.Package
	// Admitted are the packages that may be taken; nil: all that machines of the view see.
	Admitted func(p *archive.Package) bool
	Limits   Limits
}

// ErrUndecided tells that no answer was found within the limits.
var ErrUndecided = errors.New("the search was given up")

// Installable looks for packages with which those of a query can be installed by the machines of
// its view, beside what these have already, and gives them in the order in which one leads to
// the other: the certificate of a yes, looked through once more by itself. Nil without an error:
// there is none. Packages of sources outside are among them: machines have those from elsewhere.
func (u *Universe) Installable(ctx context.Context, ask Query) ([]Chosen, error) {
	s := u.selector(ctx, ask.Limits)
	s.begin(ask.View, ask.Arch)
	root := &node{offer: offer{Package: &archive.Package{Name: "what is asked for"}}, set: &Together{},
		called: &called{}}
	for _, p := range ask.Packages {
		at := slices.IndexFunc(u.called(p.Name), func(o offer) bool { return o.Package == p })
		if at < 0 || !s.here(u.called(p.Name)[at]) {
			return nil, nil // machines do not see it
		}
		root.requires = append(root.requires, s.oneOf(archive.Relation{Name: p.Name},
			u.called(p.Name)[at:at+1]))
	}
	s.nodes[root.Package] = root
	q := s.questionOf(s.around(func(o offer) bool {
		return ask.Admitted == nil || s.sources[o.source].Outside || ask.Admitted(o.Package) ||
			slices.Contains(ask.Packages, o.Package)
	}, root))
	if s.err != nil {
		return nil, s.err
	}
	switch q.installs([]z.Lit{q.installed[root]}, ask.Limits.each()) {
	case no:
		return nil, nil
	case unknownYet:
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		return nil, ErrUndecided
	}
	var out []Chosen
	set := map[*node]bool{}
	s.walk(q, root, func(n, by *node) {
		c := Chosen{Package: n.Package, Source: n.source, For: by.Name, Wanted: by == root}
		if c.Wanted {
			c.For = ""
		}
		if !s.sources[n.source].Installed {
			out = append(out, c)
		}
		set[n] = true
	})
	for _, n := range s.baseline { // what of it stays
		if q.solver.Value(q.installed[n]) {
			set[n] = true
		}
	}
	return out, s.stands(set)
}

// stands looks through a set of packages, without the solver: every need is met in it, nothing in
// it excludes another, and of one name there is what may be side by side.
func (s *selector) stands(set map[*node]bool) error {
	in := func(m *meeting, but string) bool {
		return slices.ContainsFunc(m.usable, func(o offer) bool {
			n := s.nodes[o.Package]
			return n != nil && set[n] && (but == "" || o.Name != but)
		})
	}
	byName := map[string][]*node{}
	for n := range set {
		byName[n.Name] = append(byName[n.Name], n)
	}
	for n := range set {
		for _, c := range n.requires {
			against := len(c.positive()) == 0
			if !slices.ContainsFunc(c, func(l literal) bool {
				but := ""
				if against {
					but = n.Name
				}
				return in(l.meeting, but) != l.not
			}) {
				return fmt.Errorf("the answer leaves a need of %s unmet: %s", n, c.written())
			}
		}
		for _, m := range n.conflicts {
			if in(m, n.Name) {
				return fmt.Errorf("the answer has something beside %s that it excludes: %s", n, m.relation)
			}
		}
		for _, other := range byName[n.Name] {
			if other != n && s.family.Exclusive(n.Package, other.Package) {
				return fmt.Errorf("the answer has both %s and %s", n, other)
			}
		}
	}
	return nil
}
