package machine

import (
	"strings"
	"testing"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/internal/must"
)

// Before a lane moves it is told which machines have files that say something else than the edition
// that they would see then.
func TestFilesOfBeforeAreComparedWithTheEditionThatALaneMovesTo(t *testing.T) {
	g := definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"}}
	edited := func(number int, change func(*edition.Edition)) *edition.Edition {
		tarn, kelp := of("tarn", "official", "ABAB"), of("kelp", "vendor", "ABAB")
		tarn.Tailored, tarn.Origin, tarn.Suite, tarn.Codename, tarn.Priority = false, "Tarn", "stable",
			"heron", 20
		kelp.Origin, kelp.Priority = "Kelp", 40
		e := &edition.Edition{Mirror: "barrage", Number: number, Sources: []edition.Source{tarn, kelp}}
		if change != nil {
			change(e)
		}
		return e
	}
	for _, c := range []struct {
		name   string
		change func(*edition.Edition)
		says   []string // what each finding has in it
	}{
		{"the same", nil, nil},
		{"a suite that is renamed", func(e *edition.Edition) { e.Sources[0].Suite = "oldstable" }, nil},
		{"an origin that is another", func(e *edition.Edition) { e.Sources[0].Origin = "Tarn Archive" },
			[]string{"the origin, label or codename of tarn changed between barrage/1 and " +
				"barrage/2"}},
		{"a priority", func(e *edition.Edition) { e.Sources[1].Priority = 10 },
			[]string{"the priority of kelp changed"}},
		{"a key more", func(e *edition.Edition) {
			e.Sources[1].Keys = append([]string{"CDCD"},
				e.Sources[1].Keys...)
		},
			[]string{"do not trust the key CDCD, which also verifies kelp of barrage/2"}},
		{"a source less", func(e *edition.Edition) { e.Sources = e.Sources[:1] },
			[]string{"use kelp, which barrage/2 does not contain: their updates fail"}},
		{"a source more", func(e *edition.Edition) {
			more := of("reach", "house", "ABAB")
			more.Origin = "Reach"
			e.Sources = append(e.Sources, more)
		}, []string{"do not use reach, which barrage/2 contains"}},
		{"a release and components", func(e *edition.Edition) {
			e.Sources[0].Release, e.Sources[0].Components = "heron-2", []string{"field"}
		}, []string{"the release and the components of tarn changed"}},
	} {
		found, err := Outdated("gatehouse", g, families, edited(1, nil), edited(2, c.change))
		must.Do(t, err)
		if len(found) != len(c.says) {
			t.Errorf("%s: got %v, want %q", c.name, found, c.says)
			continue
		}
		for i, f := range found {
			if f.Code != "lane.files-outdated" || f.Object != "group gatehouse" || !strings.Contains(f.Text,
				c.says[i]) ||
				!strings.Contains(f.WayOut, "stockade group files gatehouse") {
				t.Errorf("%s: got %v, want %q", c.name, f, c.says[i])
			}
		}
	}
	if found, err := Outdated("gatehouse", g, families, &edition.Edition{}, edited(2, nil)); err != nil ||
		found != nil {
		t.Errorf("a group that saw nothing: got %v %v", found, err)
	}
}
