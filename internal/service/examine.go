package service

import (
	"context"
	"os"
	"path/filepath"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/api"
)

func (s *Service) handleExamine(c *gin.Context) (any, error) {
	in, err := body[api.KeyData](c)
	if err != nil {
		return nil, err
	}
	certs, err := trust.ReadCertificates(in.Data)
	if err != nil {
		return nil, err
	}
	return s.startExamine(c.Param("name"), certs, who(c).Name)
}

// startExamine begins to find out which certificates signed the root of a source.
// Nothing that is fetched for it stays: nobody decided about these keys.
func (s *Service) startExamine(name string, certs []*trust.Certificate, by string) (api.Job, error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return api.Job{}, err
	}
	described, ok := set.Sources[name]
	if !ok {
		return api.Job{}, dangling("", "source", name, set.Sources)
	}
	if described.Managed() {
		return api.Job{}, finding.New(finding.DefineBadValue, "source "+name,
			"the source has no upstreams: its packages are added by hand and signed with the "+
				"site key")
	}
	return s.jobs.start("examine", "source "+name, by,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			src, err := s.sourceAsDescribed(set, t, name)
			if err != nil {
				return nil, nil, err
			}
			src.Accepted = nil
			aside, err := os.MkdirTemp(filepath.Join(s.cfg.Data, "tmp"), "examine")
			if err != nil {
				return nil, nil, finding.Doing(err, "create a folder for the examination")
			}
			defer os.RemoveAll(aside)
			b := s.reader(sink)
			if b.Pool, err = pool.Open(filepath.Join(aside, "pool"), filepath.Join(aside,
				"tmp")); err != nil {
				return nil, nil, err
			}
			out, err := b.Examine(ctx, *src, certs)
			return out, nil, err
		})
}
