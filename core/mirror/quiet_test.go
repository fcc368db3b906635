package mirror

import (
	"strings"
	"testing"
	"time"
)

func TestASourceThatWentQuietIsTold(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	const day = 24 * time.Hour
	every := func(interval, since time.Duration, n int) (out []time.Time) {
		for i := n - 1; i >= 0; i-- {
			out = append(out, now.Add(-since-time.Duration(i)*interval))
		}
		return out
	}
	for _, c := range []struct {
		name      string
		published []time.Time
		says      string
	}{
		{"nothing is known", nil, ""},
		{"four roots are too few", every(day, 100*day, 4), ""},
		{"weekly, and nothing for six weeks", every(7*day, 42*day, 6), ""},
		{"weekly, and nothing for longer", every(7*day, 43*day, 6),
			"since 2026-10-14, for 43 days; before, something new came every 7 days (of 6 that were seen)"},
		{"hourly, and nothing for a day", every(time.Hour, 25*time.Hour, 10), ""},
		{"hourly, and nothing for three days", every(time.Hour, 3*day, 10), "every 1 h (of"},
		{"one long pause does not make it usual",
			append([]time.Time{now.Add(-900 * day)}, every(day, 8*day, 6)...), "every 1 day (of"},
	} {
		found := quiet("tarn", c.published, now)
		if c.says == "" && len(found) > 0 || c.says != "" && (len(found) != 1 ||
			found[0].Code != "source.quiet" || !strings.Contains(found[0].Text, c.says)) {
			t.Errorf("%s: %v", c.name, found)
		}
	}
}

// The dates of roots are remembered from one look to the next, and told at a look that finds
// nothing new, too.
func TestHowRegularlyASourcePublishesIsLearned(t *testing.T) {
	w := newWorld(t)
	w.repo.ValidUntil = time.Time{} // weeks go by
	w.publish()
	start := w.now
	for i := range 6 {
		w.now = start.Add(time.Duration(i) * 24 * time.Hour)
		w.repo.Date = w.now.Add(-time.Minute)
		w.publish()
		if out, err := w.build(); err != nil || len(told(out.Findings, "source.quiet")) > 0 {
			t.Fatalf("day %d: %v %v", i, out.Findings, err)
		}
		w.plan.Number++
	}
	if got := w.source.Accepted.Published; len(got) != 6 || !got[5].After(got[4]) {
		t.Errorf("the dates that were seen: %v", got)
	}
	w.now = w.now.Add(7 * 24 * time.Hour)
	pub, err := w.builder.Refresh(t.Context(), w.source)
	if err != nil || pub.Changed || len(told(pub.Findings, "source.quiet")) != 1 {
		t.Errorf("a week of silence: %v %v", pub.Findings, err)
	}
	if n := len(pub.Accepted.Published); n != 6 {
		t.Errorf("%d dates, though nothing was published", n)
	}
}
