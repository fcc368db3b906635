package service

import (
	"context"
	"time"

	"github.com/robfig/cron/v3"
)

// schedule starts the builds that are due, once a minute.
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
			if m.Schedule == "" {
				continue
			}
			plan, err := cron.ParseStandard(m.Schedule)
			if err != nil || plan.Next(last).After(now) {
				continue
			}
			if _, err := s.startMirror("build", name, "schedule"); err != nil {
				s.log.Warn("a scheduled build did not start", "mirror", name, "error", err)
			}
		}
		last = now
	}
}
