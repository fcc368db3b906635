package service

import (
	"context"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/must"
	"stockade/internal/store"
)

// until waits for a state of a job.
func (d *desk) until(id int64, is func(api.Job) bool) api.Job {
	d.t.Helper()
	var job api.Job
	for end := time.Now().Add(time.Minute); time.Now().Before(end); time.Sleep(5 * time.Millisecond) {
		var err error
		job, err = d.s.jobs.get(id)
		must.Do(d.t, err)
		if is(job) {
			return job
		}
	}
	d.t.Fatalf("the job does not come to that: %+v", job)
	return job
}

// So many builds run at once as were asked for; the others wait, say so, and can be stopped.
func TestHeavyJobsWaitForAPlace(t *testing.T) {
	d := newDesk(t)
	j := newJobs(d.s.db, d.s.now, time.Hour, 1<<40, 1, d.s.log)
	d.s.jobs = j
	free := make(chan struct{})
	work := func(ctx context.Context, _ func(upstream.Event)) (any, finding.List, error) {
		select {
		case <-free:
		case <-ctx.Done():
		}
		return nil, nil, ctx.Err()
	}
	start := func(kind, object string) int64 {
		t.Helper()
		job, err := j.start(kind, object, "mara", work)
		must.Do(t, err)
		return job.ID
	}
	first := start("build", "mirror barrage")
	second := start("preview", "mirror gates")
	third := start("estimate", "mirror pumps")
	waits := func(job api.Job) bool { return job.State == api.Running && job.Progress.Step == "wait" }
	d.until(second, waits)
	d.until(third, waits)
	light, err := j.start("probe", "source tarn", "mara",
		func(context.Context, func(upstream.Event)) (any, finding.List, error) { return nil, nil, nil })
	must.Do(t, err)
	d.until(light.ID, func(job api.Job) bool { return job.State == api.Done })
	_, err = j.stopJob(third)
	must.Do(t, err)
	d.until(third, func(job api.Job) bool { return job.State == api.Stopped })
	close(free)
	for _, id := range []int64{first, second} {
		d.until(id, func(job api.Job) bool { return job.State == api.Done })
	}
	j.end()
}

// Whoever looks at the jobs waits for no transaction.
func TestTheListOfJobsWaitsForNoTransaction(t *testing.T) {
	d := newDesk(t)
	free, ended := make(chan struct{}), make(chan struct{})
	job, err := d.s.jobs.start("build", "mirror barrage", "mara",
		func(_ context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			<-free
			sink(upstream.Event{Step: "fetch"})
			return nil, nil, nil
		})
	must.Do(t, err)
	must.Do(t, d.s.db.Tx(func(*store.DB) error { // it holds the one connection that writes
		go func() {
			d.s.jobs.start("probe", "source tarn", "mara",
				func(context.Context, func(upstream.Event)) (any, finding.List, error) {
					return nil, nil,
						nil
				})
			close(ended)
		}()
		close(free)
		looked := make(chan struct{})
		go func() {
			for range 50 {
				d.must(d.ask(api.Viewer, "GET", "/jobs", nil), 200, nil)
				d.s.jobs.list()
				time.Sleep(2 * time.Millisecond)
			}
			close(looked)
		}()
		select {
		case <-looked:
		case <-time.After(30 * time.Second):
			t.Error("the list of jobs waits for a transaction")
		}
		return nil
	}))
	<-ended
	d.until(job.ID, func(job api.Job) bool { return job.State == api.Done })
	d.idle()
}
