package service

import (
	"context"
	"testing"
	"time"
)

func TestAnAccountHasSoManyLongCallsAtOnce(t *testing.T) {
	var c computing
	var done []func()
	for range longAtOnce {
		d, ok := c.begin(t.Context(), "mara", "check")
		if !ok {
			t.Fatal("the first were refused")
		}
		done = append(done, d)
	}
	soon, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	if _, ok := c.begin(soon, "mara", "compare"); ok {
		t.Error("one more was let in")
	}
	if d, ok := c.begin(t.Context(), "ola", "check"); ok {
		d()
	} else {
		t.Error("another account has to wait for the first")
	}
	if d, ok := c.begin(t.Context(), "mara", "sources"); !ok {
		t.Error("a short call has to wait")
	} else {
		d()
	}
	done[0]()
	if _, ok := c.begin(t.Context(), "mara", "check"); !ok {
		t.Error("a place that came free was not given")
	}
}
