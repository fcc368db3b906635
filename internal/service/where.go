package service

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/upstream"
	"stockade/internal/api"
)

func (s *Service) handleWhere(c *gin.Context) (any, error) {
	in, err := body[api.WhereAsked](c)
	if err != nil {
		return nil, err
	}
	if err := archive.CheckName(in.Name); err != nil {
		return nil, err
	}
	return s.jobs.start("where", "package "+in.Name, who(c).Name,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			release, err := s.sweeping.use(ctx)
			if err != nil {
				return nil, nil, err
			}
			defer release()
			return s.where(ctx, in.Name, sink)
		})
}

// where tells which sources have packages of a name, and what machines would take. What sources
// offer is verified on the way, and stays accepted as after a refresh.
func (s *Service) where(ctx context.Context, name string, sink func(upstream.Event)) (any, finding.List,
	error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return nil, nil, err
	}
	if t.broken != nil {
		return nil, nil, t.broken
	}
	if err := s.explained(); err != nil {
		return nil, nil, err
	}
	var sources []*upstream.Source
	var refused []mirror.Unread
	for _, n := range slices.Sorted(maps.Keys(set.Sources)) {
		if set.Sources[n].Disabled {
			continue
		}
		src, err := s.source(set, t, n)
		if f, ok := finding.From(err); ok {
			refused = append(refused, mirror.Unread{Source: n, Why: f.Text})
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		sources = append(sources, src)
	}
	var plans []mirror.Plan
	var unknown []mirror.TakenBy // what the machines of these groups take
	for _, m := range slices.Sorted(maps.Keys(set.Mirrors)) {
		p, err := s.seenBy(set, t, m)
		if f, ok := finding.From(err); ok {
			for group, g := range p.Groups {
				unknown = append(unknown, mirror.TakenBy{Group: group, Lane: g.Lane, Mirror: m,
					Copy: p.Mirror.Copy,
					Arch: strings.Join(g.Architectures, ", "), Offers: []mirror.Seen{},
					Why: "unknown: " + f.Object + ": " + f.Text})
			}
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		if len(p.Groups) > 0 {
			plans = append(plans, p)
		}
	}
	out, err := s.builder(sink).Where(ctx, name, sources, plans)
	if err != nil {
		return nil, nil, err
	}
	out.Unread, out.Groups = append(out.Unread, refused...), append(out.Groups, unknown...)
	slices.SortStableFunc(out.Groups, func(a, b mirror.TakenBy) int {
		return strings.Compare(a.Group,
			b.Group)
	})
	if err := s.keepPublications(out.Publications); err != nil {
		return nil, nil, err
	}
	return out, finding.List{}, nil
}
