package service

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

func (s *Service) handleAbout(c *gin.Context) (any, error) {
	return api.About{
		Version:    s.cfg.Version,
		SiteKey:    s.site.Load().main.Certificate().Fingerprint,
		Packages:   s.PackagesURL(),
		Definition: 1,
	}, nil
}

func (s *Service) handleOpenapi(c *gin.Context) (any, error) {
	c.Data(http.StatusOK, "application/json", api.OpenAPI(s.cfg.Version))
	return nil, nil
}

func (s *Service) handleSchema(c *gin.Context) (any, error) {
	c.Data(http.StatusOK, "application/schema+json", definition.Schema())
	return nil, nil
}

func (s *Service) handleWhoami(c *gin.Context) (any, error) { return s.whoIs(who(c)) }

// whoIs tells whose account it is, and which calls are not theirs to make.
func (s *Service) whoIs(a store.Account) (any, error) {
	found, err := s.contradicted()
	out := api.Who{Account: a.Name, Role: a.Role, Needs: map[string]string{},
		Journal: append(finding.List{}, found...)}
	for _, r := range api.Routes {
		if rank[a.Role] < rank[r.Role] {
			out.Needs[r.Name] = r.Role
		}
	}
	return out, err
}
