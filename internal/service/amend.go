package service

import (
	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/internal/api"
)

// handleAmend makes one change to what is described, as a revision like any other.
func (s *Service) handleAmend(c *gin.Context) (any, error) {
	in, err := body[api.AmendAsked](c)
	if err != nil {
		return nil, err
	}
	amend := func(set *definition.Set) error { return set.Amend(in.Amendment) }
	if in.Look {
		return s.would(amend)
	}
	return refused("Nothing was changed")(s.edit(asking(c), in.Amendment.String(), amend))
}
