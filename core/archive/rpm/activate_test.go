package rpm

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
	wide := &streams{
		all:      []*stream{{Module: "app", Name: "1", Needs: [][]streamNeed{{{Module: "lib", Not: many}}}}},
		defaults: map[string]string{}}
	for _, s := range many {
		wide.all = append(wide.all, &stream{Module: "lib", Name: s})
	}
	// Each of many modules can be met in two ways, and the last one in none.
	deep := &streams{defaults: map[string]string{}}
	const chain = 30
	for i := range chain {
		next := streamNeed{Module: fmt.Sprintf("m%02d", i+1)}
		for _, name := range []string{"1", "2"} {
			deep.all = append(deep.all, &stream{Module: fmt.Sprintf("m%02d", i), Name: name,
				Needs: [][]streamNeed{{next}, {next}}})
		}
	}
	for name, c := range map[string]struct {
		list    *streams
		enabled string
	}{"many streams, and as many that are not meant": {wide, "app:1"},
		"a chain of choices that all fail": {deep, "m00:1"}} {
		t.Run(name, func(t *testing.T) {
			a := activate([]*streams{c.list}, []string{c.enabled})
			if !a.doubts.GaveUp || len(a.doubts.Off) != 1 {
				t.Errorf("gave up: %v; off: %v", a.doubts.GaveUp, a.doubts.Off)
			}
		})
	}
}
