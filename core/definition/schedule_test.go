package definition

import (
	"testing"
	"time"

	"stockade/internal/must"
)

func TestWhenAScheduleIsDue(t *testing.T) {
	at := func(text string) time.Time {
		d, err := time.Parse(time.DateTime, text)
		must.Do(t, err)
		return d
	}
	for _, c := range []struct {
		schedule  string
		last, now string
		due       bool
		before    string // when it fell last before now
	}{
		{"30 3 * * 1", "2026-11-23 03:29:50", "2026-11-23 03:30:00", true, "2026-11-23 03:30:00"}, // a Monday
		{"30 3 * * 1", "2026-11-23 03:30:00", "2026-11-23 03:30:20", false, "2026-11-23 03:30:00"},
		{"30 3 * * 1", "2026-11-22 03:29:50", "2026-11-22 03:30:10", false, "2026-11-16 03:30:00"},
		// it was away
		{"30 3 * * 1", "2026-11-20 00:00:00", "2026-11-25 00:00:00", true, "2026-11-23 03:30:00"},
		{"*/5 * * * *", "2026-11-25 00:00:01", "2026-11-25 00:04:59", false, "2026-11-25 00:00:00"},
		{"0 0 1 1 *", "2026-11-25 00:00:00", "2026-11-25 00:00:20", false, "2026-01-01 00:00:00"},
		{"0 0 29 2 *", "2026-11-25 00:00:00", "2026-11-25 00:00:20", false, ""}, // in 2024
		{"0 0 30 2 *", "2026-11-25 00:00:00", "2026-11-25 00:00:20", false, ""}, // never
		{"", "2026-11-20 00:00:00", "2026-11-25 00:00:00", false, ""},
		{"at night", "2026-11-20 00:00:00", "2026-11-25 00:00:00", false, ""},
	} {
		if got := Due(c.schedule, at(c.last), at(c.now)); got != c.due {
			t.Errorf("%q between %s and %s: %v", c.schedule, c.last, c.now, got)
		}
		before, ok := LastDue(c.schedule, at(c.now))
		if got := map[bool]string{true: before.Format(time.DateTime)}[ok]; got != c.before {
			t.Errorf("%q before %s: %q, and %q was meant", c.schedule, c.now, got, c.before)
		}
	}
}
