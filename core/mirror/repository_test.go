package mirror

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/must"
)

// Another repository of the same owner is validly signed. It is told from the
// one that was accepted by what its root says of itself, and, where that says
// nothing, by the names that its lists have.
func TestAnotherRepositoryOfTheSameOwnerIsRefused(t *testing.T) {
	names := func(prefix string, n int) (out []string) {
		for i := range n {
			out = append(out, fmt.Sprintf("%s-%d", prefix, i))
		}
		return out
	}
	stable := append(names("stable", 12), "shared-1", "shared-2")
	trial := append(names("testing", 6), "shared-1", "shared-2")
	for _, c := range []struct {
		name string
		make func(t *testing.T) (*world, func(names []string, says string))
	}{
		{name: "rpm", make: func(t *testing.T) (*world, func([]string, string)) {
			w := newRPMWorld(t)
			return w.world, func(names []string, says string) {
				w.rpm.Packages, w.rpm.Modules, w.rpm.Updates = []made.RPM{{Name: "pumpctl",
					Version: "3.2-1", Arch: "x86_64"}}, "", ""
				for _, n := range names {
					w.rpm.Packages = append(w.rpm.Packages, made.RPM{Name: n, Version: "1-1", Arch: "noarch"})
				}
				w.rpm.Name, w.rpm.CPE, w.rpm.Distro, w.rpm.Date = says, "", "", w.rpm.Date.Add(time.Minute)
				w.source.Want.Packages = []string{"pumpctl"}
				w.republish()
			}
		}},
		{name: "alpm", make: func(t *testing.T) (*world, func([]string, string)) {
			w := newALPMWorld(t)
			return w.world, func(names []string, _ string) {
				w.alpm.Packages = []made.Alpm{{Component: "wrack", Name: "echo-plot",
					Version: "2.3-2", Arch: "x86_64"}}
				for _, n := range names {
					w.alpm.Packages = append(w.alpm.Packages, made.Alpm{Component: "wrack", Name: n,
						Version: "1-1", Arch: "any"})
				}
				w.at = w.at.Add(time.Second)
				w.republish()
			}
		}},
		{name: "deb", make: func(t *testing.T) (*world, func([]string, string)) {
			w := newWorld(t)
			return w, func(names []string, says string) {
				w.repo.Packages = []made.Deb{{Component: "core", Name: "sluicectl", Version: "1.4-1",
					Arch: "amd64", Summary: "x"}}
				for _, n := range names {
					w.repo.Packages = append(w.repo.Packages, made.Deb{Component: "core", Name: n,
						Version: "1", Arch: "amd64", Summary: "x"})
				}
				w.repo.Label, w.repo.Date = "Tarn"+says, w.repo.Date.Add(time.Minute)
				w.source.Want.Packages = []string{"sluicectl"}
				w.publish()
			}
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			w, publish := c.make(t)
			publish(stable, "")
			if _, err := w.build(); err != nil {
				t.Fatal(err)
			}
			refused := func(what string) {
				t.Helper()
				w.plan.Number = 2
				_, err := w.builder.Build(t.Context(), w.plan)
				if f, _ := finding.From(err); f.Code != "source.other-repository" ||
					!strings.Contains(f.WayOut, "--accept-once") {
					t.Errorf("%s: %v", what, err)
				}
			}
			publish(trial, "")
			refused("by its names alone")
			if c.name != "alpm" { // whose databases say nothing of themselves
				publish(stable, "testing")
				refused("by what it says of itself")
			}
			// What a repository drops and adds from one day to the next is no other repository.
			publish(append(names("stable", 9), "shared-1", "shared-2", "new-1", "new-2"), "")
			if _, err := w.builder.Build(t.Context(), w.plan); err != nil {
				t.Errorf("the same repository, later: %v", err)
			}
		})
	}
}

func TestARefusedRepositoryIsNotTakenForAccepted(t *testing.T) {
	w := newALPMWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	w.alpm.Packages = nil
	for i := range 8 {
		w.alpm.Packages = append(w.alpm.Packages,
			made.Alpm{Component: "wrack", Name: fmt.Sprintf("other-%d", i), Version: "1-1", Arch: "any"})
	}
	w.at = w.at.Add(time.Second)
	w.republish()
	out, err := w.builder.Build(t.Context(), w.plan)
	if f, _ := finding.From(err); f.Code != "source.other-repository" {
		t.Fatal(err)
	}
	for _, p := range out.Publications {
		if p.Judged {
			t.Error("what was refused counts as looked at, and would be accepted")
		}
	}
	// A person may accept it once.
	w.source.AcceptOnce, w.source.Want.Packages = "the yard began anew", []string{"other-1"}
	if _, err := w.build(); err != nil {
		t.Error(err)
	}
}

// A database that is held back is as old as its own signature, however new the
// others are.
func TestAPartOfARootThatIsHeldBackIsTold(t *testing.T) {
	w := newALPMWorld(t)
	w.source.Spec.Components = []string{"wrack", "chart"}
	w.source.MaxAge = 10 * 24 * time.Hour
	publish := func(component string, at time.Time) map[string][]byte {
		r := w.alpm
		r.Components = []string{component}
		r.Packages = []made.Alpm{{Component: component, Name: component + "-a", Version: "1-1", Arch: "any"}}
		files, err := r.Publish(w.key.At(func() time.Time { return at }))
		must.Do(t, err)
		return files
	}
	w.now = w.now.Add(400 * 24 * time.Hour)
	files := publish("wrack", w.now.Add(-time.Hour))
	for p, data := range publish("chart", w.now.Add(-370*24*time.Hour)) {
		files[p] = data
	}
	w.put(files, nil)
	w.source.Want.Packages = []string{"wrack-a"}
	out, err := w.build()
	must.Do(t, err)
	stale := out.Findings.With("source.stale")
	if len(stale) != 1 || !strings.Contains(stale[0].Text, "chart.db") || !strings.Contains(stale[0].Text,
		"370 days") {
		t.Errorf("%v", out.Findings)
	}
}
