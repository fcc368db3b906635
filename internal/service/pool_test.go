package service

import (
	"context"
	"errors"
	"testing"
	"testing/synctest"

	"stockade/internal/must"
)

// While a sweep waits for a build, others go on, and the sweep can be stopped.
func TestASweepThatWaitsKeepsNobodyWaiting(t *testing.T) {
	synctest.Test(t, aSweepThatWaits)
}

// aSweepThatWaits runs in a bubble of its own, in which time passes when all wait.
func aSweepThatWaits(t *testing.T) {
	var s sweeping
	build, err := s.use(t.Context())
	must.Do(t, err)
	ctx, stop := context.WithCancel(t.Context())
	waited := make(chan error)
	go func() {
		_, err := s.alone(ctx, func() {})
		waited <- err
	}()
	synctest.Wait() // the sweep waits
	second, err := s.use(t.Context())
	must.Do(t, err)
	second()
	stop()
	if err := <-waited; !errors.Is(err, context.Canceled) {
		t.Errorf("a sweep that was stopped while it waited: %v", err)
	}
	build()
	sweep, err := s.alone(t.Context(), func() {})
	must.Do(t, err)
	soon, end := context.WithTimeout(t.Context(), 3*askAgainIn)
	defer end()
	if _, err := s.use(soon); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("a build went on in the middle of a sweep: %v", err)
	}
	sweep()
	if release, err := s.use(t.Context()); err != nil {
		t.Error(err)
	} else {
		release()
	}
}
