package definition

import (
	"fmt"
	"testing"
)

// When nobody waits for what is found any more, nothing further is looked at.
func TestACheckEndsWhenNobodyWaits(t *testing.T) {
	set := NewSet()
	for i := range 100 {
		set.Sources[fmt.Sprintf("depot-%03d", i)] = Source{Family: "none",
			Upstreams: []Upstream{{URL: "ftp://x"}}}
	}
	of := func(left int) (objects int) {
		seen := map[string]bool{}
		for _, f := range Check(set, Surroundings{Ended: func() bool { left--; return left < 0 }}) {
			seen[f.Object] = true
		}
		return len(seen)
	}
	if all := of(1_000); all < 100 {
		t.Fatalf("got findings of %d sources, want 100", all)
	}
	if some := of(10); some > 11 {
		t.Errorf("got findings of %d sources, want those of the first ten", some)
	}
}
