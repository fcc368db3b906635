package e2e

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/service"
)

// Mirrors of three families are built at once; each comes out as if alone.
func TestMirrorsBuiltAtOnceComeOutAsIfAlone(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.house()
	var wait sync.WaitGroup
	for _, m := range []string{"barrage", "tarn-whole", "pumps", "pumps-whole", "launch", "launch-whole"} {
		wait.Go(func() {
			ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
			defer cancel()
			j, err := client.Post[api.Job](ctx, s.client, "/mirrors/"+m+"/build", nil)
			if err == nil {
				j, err = s.client.Follow(ctx, j.ID, nil)
			}
			if err != nil || j.State != "done" {
				t.Errorf("%s: %s %s %v %v", m, j.State, j.Problem, j.Findings, err)
			}
		})
	}
	wait.Wait()
	for _, e := range []string{"barrage/1", "tarn-whole/1", "pumps/1", "pumps-whole/1", "launch/1",
		"launch-whole/1"} {
		s.cli(0, "edition", "verify", e)
	}
}

// pigeonhole makes Tarn publish packages about which a search goes on for years.
func (s *site) pigeonhole(holes int) {
	s.t.Helper()
	if err := s.scenario.PublishTarn(time.Now(), true, func(r *made.DebRepository) {
		add := func(name, fields string) {
			r.Packages = append(r.Packages, made.Deb{Component: "core", Name: name, Version: "1",
				Arch: "amd64", Summary: "x", Fields: fields})
		}
		var all []string
		for p := range holes + 1 {
			var places []string
			for h := range holes {
				name := fmt.Sprintf("p%d-in-%d", p, h)
				places = append(places, name)
				add(name, fmt.Sprintf("Provides: hole-%d\nConflicts: hole-%d\n", h, h))
			}
			add(fmt.Sprintf("pigeon%d", p), "Depends: "+strings.Join(places, " | ")+"\n")
			all = append(all, fmt.Sprintf("pigeon%d", p))
		}
		for i, p := range r.Packages { // something that was there before needs all of them
			if p.Name == "sluicectl" && p.Arch == "amd64" {
				r.Packages[i].Fields = strings.Replace(p.Fields, "Depends: ", "Depends: "+strings.Join(all,
					", ")+", ", 1)
			}
		}
	}); err != nil {
		s.t.Fatal(err)
	}
}

func TestASearchWithoutEndIsStoppedAndEndsWithTheService(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.pigeonhole(12)
	start := func() int64 {
		t.Helper()
		ctx := context.Background()
		j, err := client.Post[api.Job](ctx, s.client, "/mirrors/tarn-whole/build", nil)
		must.Do(t, err)
		for until := time.Now().Add(time.Minute); j.Progress.Step != "select"; {
			if j, err = client.Get[api.Job](ctx, s.client, fmt.Sprintf("/jobs/%d", j.ID)); err != nil ||
				time.Now().After(until) || j.State != "running" {
				t.Fatalf("the build does not come to its search: %s %s %v", j.State, j.Problem, err)
			}
		}
		return j.ID
	}
	id := start()
	begun := time.Now()
	s.cli(0, "job", "stop", fmt.Sprint(id))
	j, err := s.client.Follow(context.Background(), id, nil)
	if err != nil || j.State != "stopped" {
		t.Errorf("%s %s %v", j.State, j.Problem, err)
	}
	if took := time.Since(begun); took > 30*time.Second {
		t.Errorf("stopping took %s", took)
	}
	start()
	begun = time.Now()
	s.stop()
	if took := time.Since(begun); took > 30*time.Second {
		t.Errorf("the service took %s to end", took)
	}
}

func TestAJobHasAnEnd(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		configure func(*service.Config)
		says      string
	}{
		"in time":   {func(c *service.Config) { c.JobTime = 700 * time.Millisecond }, "longer than 700ms"},
		"in memory": {func(c *service.Config) { c.JobMemory = 1 << 10 }, "of memory"},
	} {
		t.Run(name, func(t *testing.T) {
			s := newSiteWith(t, c.configure)
			s.described()
			s.pigeonhole(12)
			j := s.job("/mirrors/tarn-whole/build", nil)
			if j.State != "failed" || !has(j.Findings, "job.beyond-bounds") ||
				!strings.Contains(j.Problem, c.says) {
				t.Errorf("%s %s %v", j.State, j.Problem, j.Findings)
			}
		})
	}
}
