package service

import (
	"context"
	"maps"
	"slices"
	"sync"
	"time"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/internal/api"
)

// lacking is what the pool lacks of the editions that lanes show. It is looked for at the start, every few
// minutes, and when machines were not given a file.
type lacking struct {
	mu     sync.Mutex
	of     map[string]finding.Finding // by edition
	nudged chan struct{}              // holds one
}

// lackingEvery is how often it is looked for: each file of an edition is looked up, and none is read.
const lackingEvery = 5 * time.Minute

// nudge has it looked for now.
func (l *lacking) nudge() {
	select {
	case l.nudged <- struct{}{}:
	default:
	}
}

// found gives what an edition lacks.
func (l *lacking) found(name string) (finding.Finding, bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	f, ok := l.of[name]
	return f, ok
}

// watchPool looks for what is lacking until ctx ends.
func (s *Service) watchPool(ctx context.Context) {
	t := time.NewTicker(lackingEvery)
	defer t.Stop()
	for {
		if err := s.lookForLacks(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("whether the pool has what lanes show could not be found out", "error", err)
		}
		if err := s.keepAllOwn(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("what cannot be fetched again could not be kept beside the pool", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case <-s.lacking.nudged:
		}
	}
}

func (s *Service) lookForLacks(ctx context.Context) error {
	shown, err := s.shown()
	if err != nil {
		return err
	}
	now := map[string]finding.Finding{}
	here, of := map[string]bool{}, "" // files that were found; editions of one mirror share most
	for _, name := range slices.Sorted(maps.Keys(shown)) {
		began := time.Now()
		id, err := edition.ParseID(name, "")
		if err != nil || ctx.Err() != nil {
			return ctx.Err()
		}
		e, err := s.served(id)
		if err != nil {
			continue // that is told where lanes are looked at
		}
		if id.Mirror != of {
			clear(here)
			of = id.Mirror
		}
		missing, err := e.MissingBut(func(sha256 string) bool {
			known := here[sha256]
			here[sha256] = true // where it is not there nothing of the edition is looked up after it
			return known
		})
		if err != nil {
			f, ok := finding.From(err)
			if !ok {
				f = finding.Unread(err, "what the pool has of "+name)
			}
			f.Object = "edition " + name
			now[name] = f
		} else if missing != "" {
			now[name] = finding.New(finding.EditionDamaged, "edition "+name,
				"%s, and perhaps more of it, was not found whole in the pool: machines are told to "+
					"try again",
				missing).Do("stockade mirror build %s, then move the lane; or bring the pool back from a "+
				"backup", e.Mirror)
		}
		if missing != "" || err != nil {
			clear(here)
		}
		select { // as long as it took, others have the processor and the disk
		case <-ctx.Done():
		case <-time.After(time.Since(began)):
		}
	}
	s.lacking.mu.Lock()
	changed := !maps.Equal(now, s.lacking.of)
	s.lacking.of = now
	s.lacking.mu.Unlock()
	if changed {
		s.models.outdated.Add(1)
		s.live.change(api.OfPool)
	}
	return nil
}
