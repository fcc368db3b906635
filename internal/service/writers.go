package service

import (
	"slices"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/internal/api"
	"stockade/internal/store"
)

// handleCrossings tells what others recorded of the objects of documents since their writer
// began.
func (s *Service) handleCrossings(c *gin.Context) (any, error) {
	in, err := body[api.Begun](c)
	if err != nil {
		return nil, err
	}
	base := definition.NewSet()
	if in.Since > 0 {
		r, err := s.revisionBy(in.Since)
		if err != nil {
			return nil, err
		}
		base, _ = definition.Read(definition.Text{Name: "the revision", Text: r.Whole})
	}
	p, err := s.propose(c.Request.Context(), in.Documents)
	if err != nil {
		return nil, err
	}
	tag, err := s.describedTag()
	if err != nil {
		return nil, err
	}
	// What the documents say of each thing, as it would be recorded.
	given, _ := definition.Read(in.Documents.Documents...)
	mine := definition.NewSet()
	for kind, records := range given.Records() {
		for name := range records {
			mine.Take(p.target, kind, name)
		}
	}
	out := api.Crossed{ETag: tag, Revisions: []api.Revision{}, Documents: in.Documents.Documents}
	if out.Objects, err = definition.Crossings(base, p.recorded, mine); err != nil {
		return nil, err
	}
	for _, o := range out.Objects {
		text := ""
		switch in.Choices[o.Kind+" "+o.Name] {
		case api.Merged:
			text = o.Merged
		case api.Theirs: // what is recorded need not be said again
		default:
			continue
		}
		if out.Documents, err = definition.Settled(out.Documents, o.Kind, o.Name, text); err != nil {
			return nil, err
		}
	}
	err = s.db.EachRevision(in.Since, func(r store.Revision) error {
		told := revision(r)
		if slices.ContainsFunc(told.Changes, func(c definition.Change) bool {
			return slices.ContainsFunc(out.Objects, func(o definition.Crossing) bool {
				return o.Kind == c.Kind && o.Name == c.Name
			})
		}) {
			out.Revisions = append(out.Revisions, told)
		}
		return nil
	})
	return out, err
}
