package service

import (
	"fmt"
	"strings"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

// handleRename gives what is described another name. It is one revision, in which all that names
// it follows.
func (s *Service) handleRename(c *gin.Context) (any, error) {
	in, err := body[api.RenameAsked](c)
	if err != nil {
		return nil, err
	}
	return refused("Nothing was renamed")(s.rename(in, asking(c)))
}

func (s *Service) rename(in api.RenameAsked, by actor) (api.Judgement, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Judgement{}, err
	}
	defer ch.end()
	if err := s.explained(); err != nil {
		return api.Judgement{}, err
	}
	recorded, err := s.db.Described()
	if err != nil {
		return api.Judgement{}, err
	}
	target := definition.Overlay(recorded, definition.NewSet())
	if err := target.Rename(in.Kind, in.Name, in.To); err != nil {
		return api.Judgement{}, err
	}
	if err := s.named(recorded, in); err != nil {
		return api.Judgement{}, err
	}
	p, err := s.proposeSet(recorded, target)
	if err != nil {
		return api.Judgement{}, err
	}
	if in.Kind == "source" {
		// Who vouched did so for a name. The source is the same one: the decision is made anew for
		// its new name, by who renames it, on the evidence that there is.
		for _, v := range p.trusted.Vouches() {
			if v.Source == in.Name {
				p.judgement.Vouches = append(p.judgement.Vouches, api.Vouching{Fingerprint: v.Fingerprint,
					Source: in.To, Evidence: fmt.Sprintf("as vouched for %s by %s on %s: %s", in.Name, v.By,
						v.At.UTC().Format("2006-01-02"), v.Why)})
			}
		}
	}
	if len(definition.Blocking(p.judgement.Findings)) > 0 {
		return p.judgement, errRefused
	}
	if err := p.permitted(ch.role); err != nil {
		return p.judgement, err
	}
	if in.Look {
		return p.judgement, nil
	}
	out, err := ch.commit(p, fmt.Sprintf("rename %s %s to %s", in.Kind, in.Name, in.To))
	if err == nil && in.Kind == "group" {
		return out, s.db.Tx(func(tx *store.DB) error { return tx.MoveMachines(in.Name, in.To) })
	}
	if err != nil || in.Kind != "source" {
		return out, err
	}
	// the days on which something was published are of the same repository
	return out, s.db.Tx(func(tx *store.DB) error { return tx.Called("days", in.Name, in.To) })
}

// named refuses to rename what is known by its name outside of the description: an edition's seal
// has its mirror's, a machine's files have the address of its lane, and the site signs what a house
// source holds under its name.
func (s *Service) named(set *definition.Set, in api.RenameAsked) error {
	object := in.Kind + " " + in.Name
	no := func(way, format string, args ...any) error {
		return finding.New(finding.DefineBadValue, object, format, args...).Do("%s", way)
	}
	switch in.Kind {
	case "mirror":
		made, err := s.db.Editions(in.Name)
		if err != nil || len(made) == 0 {
			return err
		}
		return no("define a mirror with the new name, and let lanes use it",
			"its name is part of the seals of its editions, such as %s/%d", made[0].Mirror, made[0].Number)
	case "lane":
		moves, err := s.moves(in.Name)
		if err != nil || len(moves) == 0 {
			return err
		}
		return no("define a lane with the new name, let groups follow it, and install new "+
			"files on their machines",
			"its name is part of the address that machines use; it shows %s", latest(moves))
	case "source":
		for id := range set.Packages {
			if strings.HasPrefix(id, in.Name+"/") || set.Packages[id].Source == in.Name {
				return no("add its packages to a house source with the new name",
					"it holds packages that the site signs under its name")
			}
		}
	}
	return nil
}
