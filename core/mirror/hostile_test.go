package mirror

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/internal/made"
	"stockade/internal/must"
)

// pigeonhole publishes packages of which loft needs more places than there are:
// an index of a few kilobytes about which a search can go on for years.
func (w *world) pigeonhole(holes int) {
	add := func(name, fields string) {
		w.repo.Packages = append(w.repo.Packages, made.Deb{Component: "core", Name: name, Version: "1",
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
	add("loft", "Depends: "+strings.Join(all, ", ")+"\n")
	w.publish()
	w.source.Want.Packages = []string{"loft", "p*"}
}

func TestWhatCouldNotBeDecidedIsToldAndNotSealedUnderStrict(t *testing.T) {
	w := newWorld(t)
	w.builder.Proof = solve.Limits{Each: 200 * time.Millisecond, All: time.Second}
	w.pigeonhole(11)
	if f := w.refused("mirror.not-proved"); !strings.Contains(f.Text, "loft") || !strings.Contains(f.Text,
		"stopped after") {
		t.Errorf("%v", f)
	}
	w.plan.Mirror.Complete = "told"
	out, err := w.build()
	must.Do(t, err)
	if told := out.Findings.With("mirror.not-proved"); len(told) != 1 || told[0].Severity != finding.Warning {
		t.Errorf("%v", out.Findings)
	}
}

func TestAHangingProofEndsWithTheBuild(t *testing.T) {
	w := newWorld(t)
	w.builder.Proof = solve.Limits{Each: time.Hour, All: time.Hour}
	w.pigeonhole(11)
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
	defer cancel()
	begun := time.Now()
	if _, err := w.builder.Build(ctx, w.plan); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
	if took := time.Since(begun); took > time.Minute {
		t.Errorf("it went on for %s", took)
	}
}

// fallible is a family with a mistake in it.
type fallible struct {
	deb.Family
	index bool
}

func (f fallible) Inspect(file archive.PackageFile, v archive.Verifier) (archive.Inspected, error) {
	if !f.index {
		panic("looking inside")
	}
	return f.Family.Inspect(file, v)
}

func TestAMistakeInAReaderEndsTheBuildAndNotTheProcess(t *testing.T) {
	w := newWorld(t)
	w.source.Family = fallible{}
	_, err := w.build()
	var m *finding.Mistake
	if !errors.As(err, &m) || m.Value != "looking inside" || len(m.Stack) == 0 {
		t.Errorf("%v", err)
	}
	if _, err := os.Stat(edition.Folder(w.builder.Editions, edition.ID{Mirror: "barrage", Number: 1})); err ==
		nil {
		t.Error("an edition was sealed all the same")
	}
}

func TestRequirementsWithTooManyOperandsAreRefused(t *testing.T) {
	for name, requirement := range map[string]string{
		"or":   "(a0" + strings.Repeat(" or a", 20_000) + ")",
		"and":  "(a0" + strings.Repeat(" and a", 20_000) + ")",
		"deep": strings.Repeat("(a or ", 5000) + "b" + strings.Repeat(")", 5000),
	} {
		t.Run(name, func(t *testing.T) {
			w := newRPMWorld(t)
			w.rpm.Packages[0].Requires = append(w.rpm.Packages[0].Requires, requirement)
			w.republish()
			w.source.Want = definition.Want{Packages: []string{w.rpm.Packages[0].Name},
				With: "required", Versions: 1}
			w.refused("content.too-large")
		})
	}
}
