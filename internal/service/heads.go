package service

import (
	"errors"
	"sync"
	"sync/atomic"

	"stockade/core/edition"
	"stockade/internal/store"
)

// heads is what serves machines: where lanes stand, and which editions do. A change that wrote an entry
// into the journal has it read again, for each lane and edition when it is asked for; nothing else does,
// such as a machine's report or how a job goes. The editions themselves are in the cache of those.
type heads struct {
	changed  atomic.Int64 // counts the changes that wrote an entry
	mu       sync.Mutex
	read     int64                   // which of them this is read after
	steps    map[string][]store.Move // of lanes that are described, newest first
	standing map[edition.ID]bool     // editions that are there and not retired
}

// errNowhere is returned for a lane that is not described, or shows nothing yet.
var errNowhere = errors.New("the lane does not exist, or shows no edition")

// remembered gives what find gives, from memory where nothing was changed since. An
// error is never remembered: names come from outside.
func remembered[K comparable, V any](h *heads, in func(*heads) map[K]V, key K,
	find func() (V, error)) (V, error) {
	now := h.changed.Load()
	h.mu.Lock()
	if h.read != now || h.steps == nil {
		h.read = now
		h.steps, h.standing = map[string][]store.Move{}, map[edition.ID]bool{}
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
	if h.read == now {
		in(h)[key] = v
	}
	h.mu.Unlock()
	return v, nil
}

// stepsOf gives the steps of a lane that is described, newest first.
func (s *Service) stepsOf(lane string) ([]store.Move, error) {
	return remembered(&s.heads, func(h *heads) map[string][]store.Move { return h.steps }, lane,
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
	_, err := remembered(&s.heads, func(h *heads) map[edition.ID]bool { return h.standing }, id,
		func() (bool, error) {
			_, err := s.stands(id.Mirror, id.Number)
			return err == nil, err
		})
	if err != nil {
		return nil, err
	}
	return s.editions.open(s, id.Mirror, id.Number)
}
