package bench

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive/deb"
	"stockade/core/edition"
)

// A difference of editions in which every one of 65,000 packages has another version, against
// sorting their names: what working it out costs once both lists are read.
func BenchmarkDifference(b *testing.B) {
	names := make([]string, 65_000)
	for i := range names {
		names[i] = fmt.Sprintf("part-%05d", i*7919%65_000)
	}
	sorted := slices.Sorted(slices.Values(names))
	list := func(version string) []edition.Item {
		out := make([]edition.Item, len(sorted))
		for i, name := range sorted { // as lists are written
			out[i] = edition.Item{Source: "depot", Name: name, Version: version, Arch: "amd64",
				SHA256: version + strings.Repeat("0", 60)}
		}
		return out
	}
	from, to := list("1.0-1"), list("1.1-1")
	var ours, floor time.Duration
	for b.Loop() {
		start := time.Now()
		changes := edition.Diff(from, to, func(_, a, b string) int { return deb.CompareVersions(a, b) })
		ours += time.Since(start)
		if len(changes) != len(names) {
			b.Fatal(len(changes))
		}
		start = time.Now()
		slices.Sort(slices.Clone(names))
		floor += time.Since(start)
	}
	b.ReportMetric(float64(ours)/float64(floor), "x-sorting")
}
