package solve

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"stockade/internal/must"
)

// An explanation is as deep as the needs that it goes along, and can be read back from where it is kept.
func TestADeepExplanationIsReadBack(t *testing.T) {
	for _, deep := range []int{10, 3_000} {
		var b strings.Builder
		fmt.Fprintf(&b, "all 1 amd64 // Depends: p0, x\nx 1 amd64 // Conflicts: p%d\n", deep)
		for i := range deep {
			fmt.Fprintf(&b, "p%d 1 amd64 // Depends: p%d\n", i, i+1)
		}
		fmt.Fprintf(&b, "p%d 1 amd64\n", deep)
		u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}}, b.String())
		s, err := u.Select(t.Context(), []Want{want(0, "all", "required", 1)}, []View{u.Everyone()},
			Limits{Each: 2 * time.Minute, All: 5 * time.Minute}) // a busy machine takes its time
		must.Do(t, err)
		if len(s.Refusals) != 1 {
			t.Fatalf("%d needs: got %d explanations, undecided %v", deep, len(s.Refusals), s.Undecided)
		}
		raw, err := json.Marshal(s.Refusals)
		must.Do(t, err)
		var back []Refusal
		if err := json.Unmarshal(raw, &back); err != nil {
			t.Errorf("%d needs, %d bytes: %v", deep, len(raw), err)
		}
		if r := back[0]; len(r.Parts) != deep+3 || !r.Minimal || r.Why == nil {
			t.Errorf("%d needs: got %d parts, want %d", deep, len(r.Parts), deep+3)
		}
		depth, cut := 0, false
		for at := back[0].Why; at != nil; depth++ {
			cut = cut || at.Deeper
			var next *Explained
			for _, need := range at.Needs {
				for i := range need.Ways {
					if strings.HasPrefix(need.Ways[i].Package, "p") {
						next = &need.Ways[i]
					}
				}
			}
			at = next
		}
		if depth > maxDeep+1 || cut != (deep > maxDeep) {
			t.Errorf("%d needs: the tree is %d deep, and says of being cut: %v", deep, depth, cut)
		}
	}
}
