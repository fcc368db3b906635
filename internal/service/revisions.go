package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

func (s *Service) handleRevisions(c *gin.Context) (any, error) {
	limit, cursor, err := paging(c)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Revisions(max(cursor, 0), limit)
	out := api.Page[api.Revision]{Items: []api.Revision{}}
	for _, r := range rows {
		out.Items = append(out.Items, revision(r))
	}
	if len(rows) == limit {
		out.Next = strconv.FormatInt(rows[limit-1].ID, 10)
	}
	return out, err
}

func (s *Service) revisionBy(id int64) (store.Revision, error) {
	r, err := s.db.RevisionBy(id)
	if errors.Is(err, store.ErrNotFound) {
		err = absent("revision", id)
	}
	return r, err
}

func (s *Service) handleRevision(c *gin.Context) (any, error) {
	id, err := number(c, "id")
	if err != nil {
		return nil, err
	}
	r, err := s.revisionBy(int64(id))
	out := revision(r)
	out.Whole = r.Whole
	return out, err
}

func (s *Service) handleRestore(c *gin.Context) (any, error) {
	id, err := number(c, "id")
	if err != nil {
		return nil, err
	}
	in, err := optional[api.Restore](c)
	if err != nil {
		return nil, err
	}
	return refused("The revision was not restored")(s.restore(int64(id), in.Object, asking(c)))
}

func (s *Service) handleWouldRestore(c *gin.Context) (any, error) {
	id, err := number(c, "id")
	if err != nil {
		return nil, err
	}
	p, err := s.restoring(int64(id), c.Query("object"))
	if err != nil {
		return nil, err
	}
	return p.judgement, nil
}

// restore makes the description what it was after a revision: all of it, or one
// object, KIND/NAME. Decisions about keys are not restored: they are taken anew.
func (s *Service) restore(id int64, object string, by actor) (api.Judgement, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Judgement{}, err
	}
	defer ch.end()
	p, err := s.restoring(id, object)
	if err != nil {
		return api.Judgement{}, err
	}
	if len(definition.Blocking(p.judgement.Findings)) > 0 {
		return p.judgement, errRefused
	}
	if err := p.permitted(ch.role); err != nil {
		return p.judgement, err
	}
	summary := fmt.Sprintf("restore revision %d", id)
	if object != "" {
		summary = fmt.Sprintf("restore %s of revision %d", strings.Replace(object, "/", " ", 1), id)
	}
	return ch.commit(p, summary)
}

// restoring works out what restoring would change.
func (s *Service) restoring(id int64, object string) (*proposal, error) {
	rev, err := s.revisionBy(id)
	if err != nil {
		return nil, err
	}
	then, found := definition.Read(definition.Text{Name: fmt.Sprintf("revision %d", id), Text: rev.Whole})
	if found.HasErrors() {
		return nil, &refusal{fmt.Sprintf("revision %d cannot be read", id), found}
	}
	recorded, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	if object == "" {
		return s.proposeSet(recorded, then)
	}
	target := definition.Overlay(recorded, definition.NewSet())
	kind, name, _ := strings.Cut(object, "/")
	if !target.Take(then, kind, name) {
		return nil, finding.New(finding.DefineDanglingReference, "",
			"neither revision %d nor the current definitions contain %q", id, object).
			Do("name it as KIND/NAME, such as source/tarn")
	}
	return s.proposeSet(recorded, target)
}

func revision(r store.Revision) api.Revision {
	out := api.Revision{ID: r.ID, At: r.At, By: r.By, Summary: r.Summary}
	json.Unmarshal([]byte(r.Changes), &out.Changes)
	return out
}
