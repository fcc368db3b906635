package service

import (
	"context"
	"fmt"
	"maps"
	"os"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/pool"
	"stockade/internal/api"
)

// sweeping keeps a sweep of the pool and what puts files into the pool apart. Any
// number may put files in at once; a sweep wants to be alone. While it waits for
// that, nobody else has to wait for it.
type sweeping struct {
	once sync.Once
	all  *semaphore.Weighted
}

const (
	usersMost  = 1 << 30
	askAgainIn = 100 * time.Millisecond
)

func (s *sweeping) weighted() *semaphore.Weighted {
	s.once.Do(func() { s.all = semaphore.NewWeighted(usersMost) })
	return s.all
}

// use waits until no sweep is under way, and keeps the next one waiting until
// release is called. The error is the context's.
func (s *sweeping) use(ctx context.Context) (release func(), err error) {
	if err := s.weighted().Acquire(ctx, 1); err != nil {
		return nil, err
	}
	return func() { s.all.Release(1) }, nil
}

// now is use for a request, which waits for no job: while a sweep is under way it is
// told to come again.
func (s *sweeping) now() (release func(), err error) {
	if !s.weighted().TryAcquire(1) {
		return nil, &api.Problem{Title: "The pool is being swept", Status: 503, Type: "urn:stockade:busy",
			Detail: "a sweep is under way, and nothing can be put into the pool meanwhile",
			WayOut: "try again when it has ended: stockade job list"}
	}
	return func() { s.all.Release(1) }, nil
}

// alone waits until nothing puts files in, and calls waits each time that something
// still does. The error is the context's.
func (s *sweeping) alone(ctx context.Context, waits func()) (release func(), err error) {
	// Acquire would stand in the queue, and everybody after it would stand behind.
	for !s.weighted().TryAcquire(usersMost) {
		waits()
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-time.After(askAgainIn):
		}
	}
	return func() { s.all.Release(usersMost) }, nil
}

// held gives what a sweep leaves: by digest, which edition is the only one that
// holds it, or shared when more do or when something else builds on it. Editions
// are counted as each is called with them; they are too large to keep.
func (s *Service) held(each func(*edition.Sealed)) (by map[string]int, err error) {
	by = map[string]int{}
	records, err := s.db.Editions("")
	if err != nil {
		return nil, err
	}
	at := -1
	for _, e := range records {
		if e.Retired {
			continue
		}
		open, err := s.editions.open(s, e.Mirror, e.Number)
		if err != nil {
			return nil, err
		}
		at++
		each(open)
		hold := func(sum string) {
			if other, ok := by[sum]; ok && other != at {
				by[sum] = shared
			} else if !ok {
				by[sum] = at
			}
		}
		for l, err := range open.Files() {
			if err != nil {
				return nil, err
			}
			hold(l.SHA256)
		}
		for _, src := range open.Sources {
			for _, x := range src.Indexes {
				hold(x.SHA256) // the next build reads them again
			}
		}
	}
	accepted, err := s.db.AllKept("accepted")
	if err != nil {
		return nil, err
	}
	for _, k := range accepted {
		var a mirror.Accepted
		if _, err := s.db.Kept("accepted", k.Name, &a); err == nil {
			for _, f := range a.Files {
				by[f.SHA256] = shared
			}
		}
	}
	house, err := s.houseFiles()
	if err != nil {
		return nil, err
	}
	for sum := range maps.Keys(house) {
		by[sum] = shared
	}
	return by, nil
}

const shared = -1

// poolUsage works out what uses the disk.
func (s *Service) poolUsage() (out api.PoolUsage, err error) {
	add := func(to *api.Space, bytes int64) { to.Files++; to.Bytes += bytes }
	sizes := map[string]int64{}
	if err := s.pool.Each(func(sum string, size int64) error {
		sizes[sum] = size
		add(&out.Total, size)
		return nil
	}); err != nil {
		return out, err
	}
	lanes, err := s.shown()
	if err != nil {
		return out, err
	}
	out.Editions = []api.EditionSpace{}
	by, err := s.held(func(open *edition.Sealed) {
		e := api.EditionSpace{Name: open.Name(), Lanes: append([]string{}, lanes[open.Name()]...)}
		seen := map[string]bool{}
		for l, err := range open.Files() {
			if err != nil {
				return // held tells it
			}
			if size, ok := sizes[l.SHA256]; ok && !seen[l.SHA256] {
				seen[l.SHA256] = true
				add(&e.Held, size)
			}
		}
		out.Editions = append(out.Editions, e)
	})
	if err != nil {
		return out, err
	}
	for sum, size := range sizes {
		if at, ok := by[sum]; !ok {
			add(&out.Unheld, size)
		} else if at != shared {
			add(&out.Editions[at].Alone, size)
		}
	}
	if out.Aside.Files, out.Aside.Bytes, err = s.pool.Aside(); err != nil {
		return out, err
	}
	out.Free, err = s.pool.Free()
	return out, err
}

func (s *Service) startSweep(by string) (api.Job, error) {
	return s.jobs.start("sweep", "pool", by,
		func(ctx context.Context, sink func(mirror.Event)) (any, finding.List, error) {
			release, err := s.sweeping.alone(ctx, func() {
				sink(mirror.Event{Step: "wait", Text: "for " + s.jobs.others("pool"), Remaining: -1})
			})
			if err != nil {
				return nil, nil, err
			}
			defer release()
			sink(mirror.Event{Step: "sweep", Remaining: -1})
			held, err := s.held(func(*edition.Sealed) {})
			if err != nil {
				return nil, nil, fmt.Errorf("nothing was swept: %w", err)
			}
			retired, err := s.db.Editions("")
			if err != nil {
				return nil, nil, err
			}
			for _, e := range retired {
				if !e.Retired {
					continue
				}
				s.editions.forget(e.Mirror, e.Number)
				if err := os.RemoveAll(s.editionFolder(e.Mirror, e.Number)); err != nil {
					return nil, nil, err
				}
			}
			defer s.usage.forget()
			swept, err := sweep(ctx, s.pool, held)
			details := map[string]string{"files": strconv.Itoa(swept.Files),
				"bytes": strconv.FormatInt(swept.Bytes, 10)}
			if jerr := s.record(by, "pool.sweep", "pool", details); err == nil {
				err = jerr
			}
			return swept, nil, err
		})
}

// sweep removes what is not held, and what was set aside.
func sweep(ctx context.Context, store pool.Store, held map[string]int) (out api.Space, err error) {
	out.Files, out.Bytes, err = pool.Sweep(ctx, store, func(sum string) bool {
		_, ok := held[sum]
		return ok
	})
	if err != nil {
		return out, err
	}
	if err := store.Tidy(); err != nil {
		return out, err
	}
	files, bytes, err := store.DropAside()
	out.Files, out.Bytes = out.Files+files, out.Bytes+bytes
	return out, err
}

func (s *Service) handlePoolUsage(c *gin.Context) (any, error) { return s.poolUsage() }

func (s *Service) handleSweepPool(c *gin.Context) (any, error) { return s.startSweep(who(c).Name) }
