package definition

import (
	"time"

	"github.com/robfig/cron/v3"
)

// Due tells whether a schedule, in five cron fields, falls between two times: behind the
// first, and not behind the second. The empty schedule never does.
func Due(schedule string, last, now time.Time) bool {
	if schedule == "" {
		return false
	}
	plan, err := cron.ParseStandard(schedule)
	if err != nil {
		return false
	}
	next := plan.Next(last) // zero for one that never falls, such as the 30th of February
	return !next.IsZero() && !next.After(now)
}

// LastDue gives the last time before now at which a schedule fell, if that is less than two
// years ago.
func LastDue(schedule string, now time.Time) (at time.Time, ok bool) {
	if schedule == "" {
		return at, false
	}
	plan, err := cron.ParseStandard(schedule)
	if err != nil {
		return at, false
	}
	// From the shortest way back in which it fell, forward: what falls often is found near.
	for _, back := range []time.Duration{time.Hour, 24 * time.Hour, 8 * 24 * time.Hour, 32 * 24 * time.Hour,
		370 * 24 * time.Hour, 740 * 24 * time.Hour} {
		for next := plan.Next(now.Add(-back)); !next.IsZero() && !next.After(now); next = plan.Next(next) {
			at, ok = next, true
		}
		if ok {
			return at, true
		}
	}
	return at, false
}
