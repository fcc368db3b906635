package service

import (
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/internal/api"
)

func (s *Service) handleOverview(c *gin.Context) (any, error) {
	since := time.Time{}
	if text := c.Query("since"); text != "" {
		var err error
		if since, err = time.Parse(time.RFC3339, text); err != nil {
			return nil, badQuery("since", text, "it is a time as RFC 3339 has it")
		}
	}
	return s.overview(since)
}

// overview answers: is anything wrong, what is new (since a time, unless that is zero), what runs.
func (s *Service) overview(since time.Time) (api.Overview, error) {
	out := api.Overview{NeedsYou: finding.List{}, Jobs: s.jobs.list(), Sources: []api.SourceStrip{}}
	set, all, err := s.toldNow()
	if err != nil {
		return out, err
	}
	if out.NeedsYou, out.Aside, err = s.setApart(all.needsYou()); err != nil {
		return out, err
	}
	var asked []time.Time
	out.Looked.Journal = s.comparedAt()
	for _, name := range slices.Sorted(maps.Keys(set.Sources)) {
		src, err := s.describeSource(set, all, name)
		if err != nil {
			return out, err
		}
		if !src.Disabled && !set.Sources[name].Managed() {
			asked = append(asked, src.Checked)
		}
		strip := api.SourceStrip{Name: name, Standing: src.Standing,
			Disabled: src.Disabled, Days: []api.Day{}}
		if src.Accepted != nil {
			strip.RootDate = src.Accepted.Date
		}
		if len(src.Findings) > 0 {
			strip.Worst = string(src.Findings[0].Severity)
		}
		days := map[string]int{}
		if _, _, err := s.db.Kept("days", name, &days); err != nil {
			return out, err
		}
		for i := 89; i >= 0; i-- {
			d := s.now().UTC().AddDate(0, 0, -i).Format(time.DateOnly)
			strip.Days = append(strip.Days, api.Day{Date: d, Published: days[d]})
		}
		out.Sources = append(out.Sources, strip)
	}
	if len(asked) > 0 {
		out.Looked.Sources = slices.MinFunc(asked, time.Time.Compare)
	}
	if out.Lanes, err = s.laneList(set, all); err != nil {
		return out, err
	}
	if out.Lanes == nil {
		out.Lanes = []api.Lane{}
	}
	if out.Machines, err = s.laneMachines(set, out.Lanes); err != nil {
		return out, err
	}
	editions, err := s.editionList("")
	if err != nil {
		return out, err
	}
	out.Editions = len(editions)
	if out.First, err = s.firstPath(set, out.Lanes, editions); err != nil {
		return out, err
	}
	if !since.IsZero() {
		if out.Since, err = s.newSince(since, set.Names("source"), out.Lanes, editions); err != nil {
			return out, err
		}
	}
	if out.PoolFiles, out.PoolBytes, err = s.usage.get(s.pool, s.now()); err != nil {
		return out, err
	}
	if out.FreeBytes, err = s.pool.Free(); err != nil {
		return out, err
	}
	out.Recent, err = s.db.JournalPage(-1, 8, "", time.Time{})
	return out, err
}

// usage remembers how large the pool is: looking at every file takes long for a
// large one, and the overview asks every few seconds.
type usage struct {
	mu    sync.Mutex
	at    time.Time
	files int
	bytes int64
}

// usageFor is how long the answer is good.
const usageFor = time.Minute

func (u *usage) get(store pool.Store, now time.Time) (files int, bytes int64, err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if age := now.Sub(u.at); age >= 0 && age < usageFor {
		return u.files, u.bytes, nil
	}
	u.files, u.bytes = 0, 0
	err = store.Each(func(_ string, size int64) error { u.files++; u.bytes += size; return nil })
	if err == nil {
		u.at = now
	}
	return u.files, u.bytes, err
}

// forget makes the next question look again.
func (u *usage) forget() {
	u.mu.Lock()
	u.at = time.Time{}
	u.mu.Unlock()
}
