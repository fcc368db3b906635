package service

import (
	"errors"
	"sync"

	"stockade/core/edition"
	"stockade/internal/store"
)

// heads is what is needed to serve machines, in memory: the steps of lanes, and the
// editions that stand. It is read again when something was committed.
type heads struct {
	mu       sync.Mutex
	changes  int64                   // of the database, when this was read
	steps    map[string][]store.Move // of lanes that are described, newest first
	editions map[edition.ID]*edition.Sealed
}

// errNowhere is returned for a lane that is not described, or shows nothing yet.
var errNowhere = errors.New("there is no such lane, or it shows nothing yet")

// remembered gives what find gives, from memory where nothing was committed since. An
// error is never remembered: names come from outside.
func remembered[K comparable, V any](s *Service, in func(*heads) map[K]V, key K,
	find func() (V, error)) (V, error) {
	h := &s.heads
	now := s.db.Changes()
	h.mu.Lock()
	if h.changes != now || h.steps == nil {
		h.changes = now
		h.steps, h.editions = map[string][]store.Move{}, map[edition.ID]*edition.Sealed{}
	}
	v, ok := in(h)[key]
	h.mu.Unlock()
	if ok {
		return v, nil
	}
	v, err := find()
	if err != nil {
		return v, err
	}
	h.mu.Lock()
	if h.changes == now {
		in(h)[key] = v
	}
	h.mu.Unlock()
	return v, nil
}

// stepsOf gives the steps of a lane that is described, newest first.
func (s *Service) stepsOf(lane string) ([]store.Move, error) {
	return remembered(s, func(h *heads) map[string][]store.Move { return h.steps }, lane,
		func() ([]store.Move, error) {
			defined, err := s.db.IsDescribed("lane", lane)
			if err != nil {
				return nil, err
			}
			if !defined {
				return nil, errNowhere
			}
			moves, err := s.moves(lane)
			if err == nil && len(moves) == 0 {
				err = errNowhere
			}
			return moves, err
		})
}

// served gives an edition that stands.
func (s *Service) served(id edition.ID) (*edition.Sealed, error) {
	return remembered(s, func(h *heads) map[edition.ID]*edition.Sealed { return h.editions }, id,
		func() (*edition.Sealed, error) {
			e, _, err := s.standing(id.Mirror, id.Number)
			return e, err
		})
}
