package mirror

import (
	"testing"
	"time"
)

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
