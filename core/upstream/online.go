package upstream

import (
	"context"
	"fmt"
	"slices"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/trust"
)

// Described makes what a build needs of a source out of its description: without what was
// decided, accepted before and given in secret.
func Described(set *definition.Set, name string, known archive.Registry) (*Source, error) {
	src, ok := set.Sources[name]
	if !ok {
		return nil, fmt.Errorf("mirror: no source is named %s", name)
	}
	route, err := set.Route(name)
	if err != nil {
		return nil, err
	}
	age, err := src.MaxAge.Duration()
	if err != nil {
		return nil, err
	}
	out := &Source{Name: name, Standing: src.Standing, Priority: src.Priority, Spec: src.Archive(name),
		Family: known[src.Family], Route: route, MaxAge: age,
		SecurityFixes: src.SecurityFixes}
	if u := src.Unsigned; u != (definition.Unsigned{}) {
		until, err := u.End()
		if err != nil {
			return nil, err
		}
		out.Unsigned = &Unsigned{Reason: u.Reason, Until: until}
	}
	return out, nil
}

// Online judges what the upstreams of a described source serve now, as if each of the
// certificates were vouched for it: signature, release, components, architectures and dates of
// the root, and, of several upstreams, which are behind or down. Nothing is accepted by that:
// the builder's pool should be one that is thrown away. What only time tells (an older root
// than was accepted before, another repository of the same owner) is not looked at.
func (b *Reader) Online(ctx context.Context, set *definition.Set, name string,
	certs []*trust.Certificate) (finding.List, error) {
	src, err := Described(set, name, b.Families)
	if err != nil {
		return nil, err
	}
	var known []trust.Known
	for _, c := range certs {
		known = append(known, trust.Known{Certificate: c, VouchedFor: []string{name}})
	}
	src.Keyring = trust.NewKeyring(name, known, b.Now).Under(set.Policy(name))
	inOrder := src.Route
	pub, err := b.Refresh(ctx, src)
	if len(inOrder.Lists) == 0 {
		src.Route = inOrder // a refresh puts last who has no root; what is told is of the order described
	}
	var found finding.List
	if pub != nil {
		found = pub.Findings
	}
	if err != nil {
		f, ok := finding.From(err)
		if ctx.Err() != nil || !ok {
			return found, err
		}
		found = append(found, f)
	}
	found = slices.DeleteFunc(found, func(f finding.Finding) bool {
		return f.Code == finding.SourceUnsignedChanged // that a first root is taken: nothing is, here
	})
	if len(src.Route.Upstreams) < 2 {
		return found, ctx.Err()
	}
	// Each server by itself; what the refresh told of those that failed is told again by that.
	found = slices.DeleteFunc(found,
		func(f finding.Finding) bool { return f.Code == finding.SourceUpstreamDown })
	_, probed, err := b.Probe(ctx, src)
	return append(found, probed...), err
}
