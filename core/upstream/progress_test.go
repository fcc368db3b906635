package upstream

import (
	"testing"
	"time"
)

// What is told of a step while it goes on: rate and what remains follow from what was done, a
// little is held back, and nothing is told after its end.
func TestProgressSaysHowFastAndHowLong(t *testing.T) {
	var told []Event
	p := (&Reader{Sink: func(e Event) { told = append(told, e) }}).Progress("packages", 4, 4000)
	if len(told) != 1 || told[0].Remaining != -1 || told[0].Rate != 0 || told[0].FilesTotal != 4 ||
		told[0].BytesTotal != 4000 {
		t.Fatalf("%+v", told)
	}
	p.start = p.start.Add(-10 * time.Second)
	p.Add("north", 600, 1)
	if len(told) != 1 {
		t.Errorf("it is told at once, and something was told just now: %+v", told)
	}
	p.last = time.Time{}
	p.Add("south", 400, 1)
	e := told[len(told)-1]
	if len(told) != 2 || e.Files != 2 || e.Bytes != 1000 || e.Rate < 90 || e.Rate > 100 ||
		e.Upstreams["north"] != 600 || e.Upstreams["south"] != 400 {
		t.Errorf("%+v", e)
	}
	if e.Remaining < 29 || e.Remaining > 34 {
		t.Errorf("3000 bytes at some 100 a second take %v s", e.Remaining)
	}
	e.Upstreams["north"] = 0
	p.last = time.Time{}
	p.Add("", 0, 0)
	if told[2].Upstreams["north"] != 600 {
		t.Error("who is told can change what is told next")
	}
	p.mu.Lock()
	p.later = nil
	p.mu.Unlock()
	p.catchUp()
	if n := len(told); n != 4 {
		t.Errorf("what was held back is not told: %d", n)
	}
	p.End()
	n := len(told)
	p.catchUp()
	if len(told) != n || n != 5 {
		t.Errorf("%d times, and %d after its end", n, len(told))
	}
	// Of a step whose files are all done its end tells.
	told = nil
	q := (&Reader{Sink: func(e Event) { told = append(told, e) }}).Progress("files", 1, 0)
	q.Add("", 0, 1)
	q.catchUp()
	q.End()
	if len(told) != 2 || told[0].Files != 0 || told[1].Files != 1 {
		t.Errorf("%+v", told)
	}
}
