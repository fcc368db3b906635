package archive

import (
	"fmt"
	"testing"
)

// Lists of streams that are made to cost: it ends within its bounds, and says that it
// does not know.
func TestHostileStreamsEndWithinTheirBudget(t *testing.T) {
	many := make([]string, 50_000)
	for i := range many {
		many[i] = fmt.Sprintf("s%06d", i)
	}
	wide := &Streams{
		All:      []*Stream{{Module: "app", Name: "1", Needs: [][]StreamNeed{{{Module: "lib", Not: many}}}}},
		Defaults: map[string]string{}}
	for _, s := range many {
		wide.All = append(wide.All, &Stream{Module: "lib", Name: s})
	}
	// Each of many modules can be met in two ways, and the last one in none.
	deep := &Streams{Defaults: map[string]string{}}
	const chain = 30
	for i := range chain {
		next := StreamNeed{Module: fmt.Sprintf("m%02d", i+1)}
		for _, stream := range []string{"1", "2"} {
			deep.All = append(deep.All, &Stream{Module: fmt.Sprintf("m%02d", i), Name: stream,
				Needs: [][]StreamNeed{{next}, {next}}})
		}
	}
	for name, c := range map[string]struct {
		list    *Streams
		enabled string
	}{"many streams, and as many that are not meant": {wide, "app:1"},
		"a chain of choices that all fail": {deep, "m00:1"}} {
		t.Run(name, func(t *testing.T) {
			a := Activate([]*Streams{c.list}, []string{c.enabled})
			if !a.GaveUp || len(a.Off) != 1 {
				t.Errorf("gave up: %v; off: %v", a.GaveUp, a.Off)
			}
		})
	}
}
