package e2e

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/must"
)

// TestReadsAndJournalledWritesAtOnce asks and changes side by side: the journal
// is read for each request and written in each change, over one connection to
// the records, and neither may wait for what the other holds.
func TestReadsAndJournalledWritesAtOnce(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	var readers, writers sync.WaitGroup
	stop := make(chan struct{})
	for range 6 {
		readers.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				if _, err := client.Get[api.Page[api.Account]](ctx, s.client, "/accounts"); err != nil {
					t.Error("reading:", err)
					return
				}
			}
		})
	}
	for w := range 2 {
		writers.Go(func() {
			for i := range 40 {
				in := api.NewAccount{Name: fmt.Sprintf("keeper-%d-%d", w, i), Role: api.Viewer}
				if _, err := client.Post[api.NewToken](ctx, s.client, "/accounts", in); err != nil {
					t.Error("writing:", err)
					return
				}
			}
		})
	}
	writers.Wait()
	close(stop)
	readers.Wait()
	page, err := client.Get[api.Page[api.Account]](t.Context(), s.client, "/accounts")
	if err != nil || len(page.Items) != 81 {
		t.Errorf("%d accounts, and 81 were made: %v", len(page.Items), err)
	}
}

// TestBuildsSweepsAndChecksAtOnce builds two mirrors, verifies editions and sweeps the pool
// side by side, again and again: every edition that is sealed is whole, and each job ends as
// it would alone.
func TestBuildsSweepsAndChecksAtOnce(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	first := s.built("steady")
	second := filepath.Join(s.dir, "second.yaml")
	must.Do(t, os.WriteFile(second, []byte("stockade: 1\nmirrors:\n  tables:\n    copy: tailored\n"+
		"    from: [{source: tarn, want: {packages: [tide-tables]}}]\n"), 0o600))
	s.cli(0, "record", second)
	ctx, cancel := context.WithTimeout(t.Context(), 3*time.Minute)
	defer cancel()
	// run starts a job and follows it; one of the same thing may be under way already.
	run := func(path string) (api.Job, error) {
		for {
			j, err := client.Post[api.Job](ctx, s.client, path, nil)
			var p *api.Problem
			if errors.As(err, &p) && p.Type == "urn:stockade:busy" {
				select {
				case <-ctx.Done():
					return j, ctx.Err()
				case <-time.After(20 * time.Millisecond):
				}
				continue
			}
			if err != nil {
				return j, err
			}
			return s.client.Follow(ctx, j.ID, nil)
		}
	}
	var all sync.WaitGroup
	for _, path := range []string{"/mirrors/barrage/build", "/mirrors/tables/build", "/pool/sweep",
		"/editions/" + first + "/verify"} {
		all.Go(func() {
			for range 3 {
				if j, err := run(path); err != nil || j.State != api.Done {
					t.Errorf("%s: %+v %v", path, j, err)
				}
			}
		})
	}
	all.Wait()
	editions, err := client.Get[api.Page[api.Edition]](ctx, s.client, "/editions")
	if err != nil || len(editions.Items) < 2 {
		t.Fatalf("%d editions, %v", len(editions.Items), err)
	}
	for _, e := range editions.Items {
		if j, err := run(fmt.Sprintf("/editions/%s/%d/verify", e.Mirror, e.Number)); err != nil ||
			j.State != api.Done {
			t.Errorf("%s/%d: %+v %v", e.Mirror, e.Number, j, err)
		}
	}
	if j, err := run("/pool/sweep"); err != nil || j.State != api.Done {
		t.Errorf("%+v %v", j, err)
	}
	s.cli(0, "edition", "verify", first)
}
