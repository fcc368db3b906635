package service

import (
	"slices"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/internal/api"
)

// maxChains bounds the packages of one name that are followed at once.
const maxChains = 8

// asked gives the packages of an edition that a call names.
func asked(c *gin.Context, e *edition.Sealed) ([]edition.Item, error) {
	name := c.Query("package")
	items, err := e.ItemsNamed(name, c.Query("version"), c.Query("arch"), maxChains+1)
	if err != nil {
		return nil, err
	}
	if len(items) == 0 {
		f := finding.New(finding.DefineDanglingReference, "edition "+e.Name(),
			"the edition has no package %q", name)
		if others, err := e.ItemsNamed(name, "", "", 1); err == nil && len(others) > 0 {
			f.Text = "it has no " + name + " of that version and architecture"
			return nil, f.Do("leave out version and architecture to see what the edition has")
		}
		if near := e.Near(name, definition.Nearest); near != "" {
			f = f.Do("did you mean %q?", near)
		}
		return nil, f
	}
	if len(items) > maxChains {
		return nil, finding.New(finding.DefineBadValue, "edition "+e.Name(),
			"the edition has more than %d packages named %s",
			maxChains, name).Do("add the version or the architecture")
	}
	return items, nil
}

// handleWhy tells why packages of a name are in an edition.
func (s *Service) handleWhy(c *gin.Context, name string, n int) (any, error) {
	e, _, err := s.standing(name, n)
	if err != nil {
		return nil, err
	}
	items, err := asked(c, e)
	if err != nil {
		return nil, err
	}
	out := []api.Reasons{}
	for _, it := range items {
		chain, err := e.Why(it)
		if err != nil {
			return nil, err
		}
		out = append(out, api.Reasons{Chain: chain})
	}
	return page(out, nil)
}

// editionChain follows what stands behind a package of an edition.
func (s *Service) editionChain(c *gin.Context, name string, n int) (any, error) {
	s.editions.forget(name, n) // seal and lists are compared now, not when it was opened first
	e, _, err := s.standing(name, n)
	if err != nil {
		return nil, err
	}
	items, err := asked(c, e)
	if err != nil {
		return nil, err
	}
	t, err := s.readTrusted()
	if err != nil {
		return nil, err
	}
	var out []api.Chain
	for _, it := range items {
		chain, err := e.Chain(it, families.All)
		if err != nil {
			return nil, err
		}
		out = append(out, api.Chain{Chain: chain, Since: s.decidedSince(t, chain)})
	}
	return page(out, nil)
}

// decidedSince tells what was decided about the key of a chain after its edition was sealed.
func (s *Service) decidedSince(t *trusted, c edition.Chain) string {
	i := slices.IndexFunc(c.Upstream, func(l edition.Link) bool { return l.Kind == "vouch" })
	switch {
	case i < 0:
		return ""
	case t.broken != nil:
		return "the journal is not intact: " + t.broken.Text
	}
	l := c.Upstream[i]
	if why := t.Distrusted(l.Fingerprint, c.Package.Source); why != "" {
		return "the key " + why
	}
	if _, ok := t.Vouched(l.Fingerprint, c.Package.Source); !ok {
		return "this vouch is no longer in force: the source or its vouched_for was removed"
	}
	return ""
}
