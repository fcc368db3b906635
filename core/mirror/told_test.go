package mirror

import (
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/internal/made"
)

// beside adds a second source to the plan, like tarn but with one package of its own, of a
// priority.
func (w *world) beside(version string, priority int, want ...string) {
	other := newWorld(w.t)
	other.repo.Packages = []made.Deb{{Component: "core", Name: "libtide2", Version: version, Arch: "amd64",
		Summary: "tide library"}, {Component: "core", Name: "tide-tables", Version: version, Arch: "amd64",
		Summary: "tables"}}
	other.repo.Components, other.repo.Architectures = []string{"core"}, []string{"amd64"}
	other.publish()
	src := *other.source
	src.Name, src.Spec.Name, src.Priority = "kelp", "kelp", priority
	src.Spec.Components = []string{"core"}
	src.Keyring, src.Route.Source = other.ring("kelp"), "kelp"
	src.Want = definition.Want{Packages: want}
	if len(want) > 0 {
		src.Want.With, src.Want.Versions = "required", 1
	}
	w.plan.Sources = append(w.plan.Sources, &src)
	w.plan.Mirror.Complete = "told"
}

// gatehouse is a group whose machines see every source of the plan.
func (w *world) gatehouse(pins ...string) {
	w.plan.Groups = map[string]definition.Group{"gatehouse": {Family: "deb", Release: "heron",
		Lane: "steady", Architectures: []string{"amd64"}, Pins: pins}}
}

// rival puts a source of a standing and a priority beside, and a group that sees both.
func rival(version, standing string, priority int) func(w *world) {
	return func(w *world) {
		w.beside(version, priority)
		w.plan.Sources[1].Standing = standing
		w.gatehouse()
	}
}

// A root of tomorrow is taken, for clocks differ; one of the day after is not.
func TestARootOfTheFutureIsRefused(t *testing.T) {
	w := newWorld(t)
	w.repo.Date = w.now.Add(23 * time.Hour)
	w.publish()
	if _, err := w.build(); err != nil {
		t.Error(err)
	}
	w = newWorld(t)
	w.repo.Date = w.now.Add(25 * time.Hour)
	w.publish()
	if f := w.refused("source.future-index"); !strings.Contains(f.Text,
		"but the clock of this machine says") {
		t.Error(f)
	}
}
