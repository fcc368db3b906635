package mirror

import (
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/must"
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

// Each of these findings is told where its cause is, and not where it is not.
func TestFindingsOfABuildThatStopNothing(t *testing.T) {
	debs, rpms := func(t *testing.T) *world { return newWorld(t) },
		func(t *testing.T) *world { return newRPMWorld(t).world }
	faithful := func(w *world) {
		w.plan.Mirror = definition.Mirror{Copy: "faithful", Complete: "told"}
		w.plan.Sources[0].Want = definition.Want{Everything: true}
	}
	// Two builds of one stream, each of which needs another stream of a module that has no default.
	either := func(streams ...string) string {
		text := ""
		for i, s := range streams {
			text += "---\ndocument: modulemd\nversion: 2\ndata: {name: deck, stream: \"1\", version: 1, " +
				"context: c" +
				string(rune('a'+i)) + ", dependencies: [{requires: {hull: [\"" + s + "\"]}}]}\n...\n" +
				"---\ndocument: modulemd\nversion: 2\ndata: {name: hull, stream: \"" + s +
				"\", version: 1, context: x}\n...\n"
		}
		return text
	}
	for _, c := range []struct {
		name, code, says string
		of               func(t *testing.T) *world
		cause, none      func(w *world)
		rated            finding.Severity
	}{
		{"a package that lies elsewhere", "content.placed-elsewhere",
			"/parts for 1 of its packages, libbrine",
			func(t *testing.T) *world {
				w := newRPMWorld(t)
				w.elsewhere()
				return w.world
			}, faithful, func(w *world) {}, finding.Warning},
		{"module streams that are off", "mirror.stream-off", "no machine sees 1 package that came along",
			rpms, faithful, func(w *world) {}, finding.Note},
		{"module streams of which one or another is on", "mirror.stream-open", "module stream deck:1",
			func(t *testing.T) *world {
				w := newRPMWorld(t)
				w.rpm.Modules += either("1", "2")
				w.republish()
				return w.world
			}, func(w *world) { w.source.Want.Streams = []string{"deck:1"} },
			func(w *world) { w.source.Want.Streams = []string{"deck:1", "hull:1"} }, finding.Warning},
		{"a newer one at a source of which it is not wanted", "mirror.newer-elsewhere",
			"tide-tables 2.4.1-1 is taken from tarn, and kelp has 3.0-1", debs,
			func(w *world) { w.beside("3.0-1", 20) }, func(w *world) { w.beside("2.0-1", 20) },
			finding.Warning},
		{"a newer one of a later priority", "priority.holds-back",
			"machines stay on tide-tables 2.4.1-1 of tarn (priority 20), and kelp (priority 70) has 3.0-1",
			debs,
			func(w *world) {
				w.beside("3.0-1", 70)
				w.plan.Mirror.Want, w.source.Want = w.source.Want, definition.Want{}
			},
			func(w *world) {
				w.beside("2.0-1", 70)
				w.plan.Mirror.Want, w.source.Want = w.source.Want, definition.Want{}
			}, finding.Warning},
		{"a vendor before the official one", "priority.shadowed",
			"the group gatehouse takes 2 packages of tarn " +
				"(official, priority 20) from kelp (vendor, priority 10) in its place: libtide2 1.0-1 and " +
				"not 2.1-1",
			debs, rival("1.0-1", "vendor", 10), rival("3.0-1", "vendor", 70), finding.Warning},
		{"the house before the official one", "priority.shadowed", "from kelp (house, priority 10)", debs,
			rival("3.0-1", "house", 10), rival("3.0-1", "official", 10), finding.Note},
		{"another standing with the same priority", "priority.tie",
			"kelp (vendor) and tarn (official) share the " +
				"priority 20, and of 2 packages the group gatehouse takes those of kelp, which are newer " +
				"or stand " +
				"first: libtide2 3.0-1 and not 2.1-1", debs, rival("3.0-1", "vendor", 20),
			rival("3.0-1", "official", 20), finding.Warning},
		{"a source that is always overtaken", "priority.never-chosen",
			"nothing of kelp would be taken by the " +
				"group gatehouse: of each of its 2 packages", debs, rival("1.0-1", "official", 20),
			rival("2.2-1", "official", 20), finding.Note},
		{"a pin behind which something waits", "pin.holds-back",
			"the group gatehouse stays on tide-tables 2.3-1, " +
				"and 2.4.1-1 of tarn waits behind the pin", debs,
			func(w *world) { w.gatehouse("tide-tables = 2.3-1") },
			func(w *world) { w.gatehouse("tide-tables = 2.4.1-1") }, finding.Warning},
	} {
		for _, way := range []struct {
			name string
			how  func(w *world)
			want int
		}{{"told", c.cause, 1}, {"silent", c.none, 0}} {
			t.Run(c.name+", "+way.name, func(t *testing.T) {
				w := c.of(t)
				way.how(w)
				out, err := w.build()
				must.Do(t, err)
				got := told(out.Findings, c.code)
				if len(got) > 0 != (way.want > 0) {
					t.Fatalf("%d of %s in %v", len(got), c.code, out.Findings)
				}
				if way.want > 0 && !slices.ContainsFunc(got, func(f finding.Finding) bool {
					return strings.Contains(f.Text, c.says) && f.Severity == c.rated && f.WayOut != ""
				}) {
					t.Errorf("%+v", got)
				}
			})
		}
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
	if f := w.refused("source.future-index"); !strings.Contains(f.Text, "and this machine's clock says") {
		t.Error(f)
	}
}
