package service

import (
	"testing"
	"time"
)

func TestWhenAScheduleIsDue(t *testing.T) {
	at := func(text string) time.Time {
		d, err := time.Parse(time.DateTime, text)
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	for _, c := range []struct {
		schedule  string
		last, now string
		due       bool
	}{
		{"30 3 * * 1", "2026-11-23 03:29:50", "2026-11-23 03:30:00", true}, // a Monday
		{"30 3 * * 1", "2026-11-23 03:30:00", "2026-11-23 03:30:20", false},
		{"30 3 * * 1", "2026-11-22 03:29:50", "2026-11-22 03:30:10", false},
		{"30 3 * * 1", "2026-11-20 00:00:00", "2026-11-25 00:00:00", true}, // the service was away
		{"", "2026-11-20 00:00:00", "2026-11-25 00:00:00", false},
		{"at night", "2026-11-20 00:00:00", "2026-11-25 00:00:00", false},
	} {
		if got := due(c.schedule, at(c.last), at(c.now)); got != c.due {
			t.Errorf("%q between %s and %s: %v", c.schedule, c.last, c.now, got)
		}
	}
}
