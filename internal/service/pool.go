package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"golang.org/x/sync/semaphore"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/store"
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
			Detail: "a sweep is running, and no file can be added to the pool meanwhile",
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

// held works out what a sweep leaves: what editions hold, what the next builds read again, and
// what house sources stand on.
func (s *Service) held() (*edition.Holdings, error) {
	records, err := s.db.Editions("")
	if err != nil {
		return nil, err
	}
	grace, err := s.inGrace()
	if err != nil {
		return nil, err
	}
	records = slices.DeleteFunc(records, func(e store.Edition) bool {
		return e.Retired && !s.stays(e, grace)
	})
	held, err := edition.Held(s.pool, len(records), func(n int) (*edition.Sealed, error) {
		return s.editions.open(s, records[n].Mirror, records[n].Number)
	})
	if err != nil {
		return nil, err
	}
	accepted, err := s.db.AllKept("accepted")
	if err != nil {
		return nil, err
	}
	for _, k := range accepted {
		var a upstream.Accepted
		if err := json.Unmarshal([]byte(k.Body), &a); err != nil {
			return nil, fmt.Errorf("the accepted metadata of %s cannot be read: %w", k.Name, err)
		}
		for _, f := range a.Files {
			held.Keep(f.SHA256)
		}
	}
	house, err := s.houseFiles()
	if err != nil {
		return nil, err
	}
	for sum := range house {
		held.Keep(sum)
	}
	return held, nil
}

// stays tells whether a retired edition is kept for machines that began with it, and is still there.
func (s *Service) stays(e store.Edition, grace map[edition.ID]time.Time) bool {
	if _, kept := grace[edition.ID{Mirror: e.Mirror, Number: e.Number}]; !kept {
		return false
	}
	_, err := os.Stat(s.editionFolder(e.Mirror, e.Number))
	return err == nil
}

// poolUsage works out what uses the disk.
func (s *Service) poolUsage() (out api.PoolUsage, err error) {
	held, err := s.held()
	if err != nil {
		return out, err
	}
	m, err := s.model()
	if err != nil {
		return out, err
	}
	grace, err := s.inGrace()
	if err != nil {
		return out, err
	}
	alone, unheld := held.Alone()
	out.Total, out.Unheld, out.Editions = api.Space(held.Total), api.Space(unheld), []api.EditionSpace{}
	for n, e := range held.Editions {
		space := api.EditionSpace{Name: e.Name, Held: api.Space(e.Held), Alone: api.Space(alone[n]),
			Lanes: append([]string{}, m.shown[e.Name]...)}
		if id, err := edition.ParseID(e.Name, ""); err == nil && !m.edition(id.Mirror, id.Number) {
			if until, ok := grace[edition.ID{Mirror: id.Mirror, Number: id.Number}]; ok {
				space.Until = &until
			}
		}
		out.Editions = append(out.Editions, space)
	}
	if out.Aside.Files, out.Aside.Bytes, err = s.pool.Aside(); err != nil {
		return out, err
	}
	out.Free, err = s.free()
	return out, err
}

func (s *Service) startSweep(by actor) (api.Job, error) {
	return s.jobs.start("sweep", "pool", by.name,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			release, err := s.sweeping.alone(ctx, func() {
				sink(upstream.Event{Step: "wait", Text: "for " + s.jobs.others("pool"), Remaining: -1})
			})
			if err != nil {
				return nil, nil, err
			}
			defer release()
			sink(upstream.Event{Step: "sweep", Remaining: -1})
			held, err := s.held()
			if err != nil {
				return nil, nil, fmt.Errorf("nothing was swept: %w", err)
			}
			retired, err := s.db.Editions("")
			if err != nil {
				return nil, nil, err
			}
			grace, err := s.inGrace()
			if err != nil {
				return nil, nil, err
			}
			for _, e := range retired {
				if !e.Retired || s.stays(e, grace) {
					continue
				}
				s.editions.forget(e.Mirror, e.Number)
				if err := os.RemoveAll(s.editionFolder(e.Mirror, e.Number)); err != nil {
					return nil, nil, err
				}
			}
			defer s.usage.forget()
			swept, err := sweep(ctx, s.pool, held)
			err = errors.Join(err, s.dropHouse(held))
			details := map[string]string{"files": strconv.Itoa(swept.Files),
				"bytes": strconv.FormatInt(swept.Bytes, 10)}
			if jerr := s.record(by.forJob(), "pool.sweep", "pool", details); err == nil {
				err = jerr
			}
			return swept, nil, err
		})
}

// sweep removes what is not held, and what was set aside.
func sweep(ctx context.Context, files pool.Store, held *edition.Holdings) (out api.Space, err error) {
	out.Files, out.Bytes, err = pool.Sweep(ctx, files, held.Needed)
	if err != nil {
		return out, err
	}
	if err := files.Tidy(); err != nil {
		return out, err
	}
	n, bytes, err := files.DropAside()
	out.Files, out.Bytes = out.Files+n, out.Bytes+bytes
	return out, err
}

func (s *Service) handlePoolUsage(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	return s.usage.spaceOf(m, s.now(), s.poolUsage)
}

func (s *Service) handleSweepPool(c *gin.Context) (any, error) { return s.startSweep(asking(c)) }
