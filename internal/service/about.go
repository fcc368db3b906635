package service

import (
	"net/http"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/api"
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

func (s *Service) handleWhoami(c *gin.Context) (any, error) {
	found, err := s.contradicted()
	return api.Who{Account: who(c).Name, Role: who(c).Role,
		Journal: append(finding.List{}, found...)}, err
}
