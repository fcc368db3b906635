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
			s.log.Warn("the pool could not be checked for the editions on lanes", "error", err)
		}
		if err := s.keepAllOwn(ctx); err != nil && ctx.Err() == nil {
			s.log.Warn("files that cannot be downloaded again could not be copied beside the "+
				"pool", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		case <-s.lacking.nudged:
		}
	}
}

// inBackground does a piece of work that reads whole lists: one piece at a time, and as long as it took
// others have the processor and the disk.
func (s *Service) inBackground(ctx context.Context, work func() error) error {
	s.behind.Lock()
	defer s.behind.Unlock()
	began := time.Now()
	err := work()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(time.Since(began)):
	}
	return err
}

func (s *Service) lookForLacks(ctx context.Context) error {
	shown, err := s.shown()
	if err != nil {
		return err
	}
	now := map[string]finding.Finding{}
	here, of := map[string]bool{}, "" // files that were found; editions of one mirror share most
	for _, name := range slices.Sorted(maps.Keys(shown)) {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		id, err := edition.ParseID(name, "")
		if err != nil {
			return err
		}
		if id.Mirror != of {
			clear(here)
			of = id.Mirror
		}
		if err := s.inBackground(ctx, func() error {
			if f, lacks := s.lackOf(id, here); lacks {
				clear(here)
				now[name] = f
			}
			return nil
		}); err != nil {
			return err
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

// lackOf looks up each file of an edition but those of which is known that they are here, and tells what is
// lacking.
func (s *Service) lackOf(id edition.ID, here map[string]bool) (finding.Finding, bool) {
	e, err := s.served(id)
	if err != nil {
		return finding.Finding{}, false // that is told where lanes are looked at
	}
	name := id.String()
	missing, err := e.MissingBut(func(sha256 string) bool {
		known := here[sha256]
		here[sha256] = true // where it is not there nothing of the edition is looked up after it
		return known
	})
	if err != nil {
		f, ok := finding.From(err)
		if !ok {
			f = finding.Unread(err, "the files in the pool of "+name)
		}
		f.Object = "edition " + name
		return f, true
	}
	if missing == "" {
		return finding.Finding{}, false
	}
	return finding.New(finding.EditionDamaged, "edition "+name,
		"%s is missing or damaged in the pool, perhaps with other files. Machines that ask for "+
			"it are told to try again later",
		missing).Do("run stockade mirror build %s and move the lane, or restore the pool from "+
		"a backup",
		e.Mirror), true
}
