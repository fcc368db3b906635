package service

import (
	"context"
	"time"

	"github.com/robfig/cron/v3"
)

// schedule starts the builds and probes that are due, three times a minute.
func (s *Service) schedule(ctx context.Context) {
	last := s.now()
	t := time.NewTicker(20 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		now := s.now()
		set, err := s.db.Described()
		if err != nil {
			s.log.Error("the schedule cannot be read", "error", err)
			continue
		}
		for name, m := range set.Mirrors {
			if !due(m.Schedule, last, now) {
				continue
			}
			if _, err := s.startMirror("build", name, "schedule"); err != nil {
				s.log.Warn("a scheduled build did not start", "mirror", name, "error", err)
			}
		}
		for name, src := range set.Sources {
			if src.Disabled || !due(src.ProbeSchedule, last, now) {
				continue
			}
			if _, err := s.startProbe(name, "schedule", nil); err != nil {
				s.log.Warn("a scheduled probe did not start", "source", name, "error", err)
			}
		}
		last = now
	}
}

// due tells whether a schedule, in five cron fields, fell between two times.
func due(schedule string, last, now time.Time) bool {
	if schedule == "" {
		return false
	}
	plan, err := cron.ParseStandard(schedule)
	return err == nil && !plan.Next(last).After(now)
}
