package bench

import (
	"fmt"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/families"
)

// described is a description of n sources with a key each, and twice as many packages in
// a house source.
func described(n int) *definition.Set {
	set := definition.NewSet()
	set.Sources["house"] = definition.Source{Family: "deb", Standing: definition.House, Release: "heron",
		Components: []string{"core"}, Architectures: []string{"amd64"}, Priority: 10}
	for i := range n {
		name := fmt.Sprintf("source-%05d", i)
		fingerprint := fmt.Sprintf("%040X", i+1)
		set.Keys[name] = definition.Key{Fingerprint: fingerprint}
		set.Sources[name] = definition.Source{Family: "deb", Standing: definition.Vendor, Release: "heron",
			Upstreams:  []definition.Upstream{{URL: "https://" + name + ".example/deb"}},
			Components: []string{"core"}, Architectures: []string{"amd64"},
			SignedBy: []string{name}, Priority: 50}
		for k := range 2 {
			set.Packages[fmt.Sprintf("package-%05d-%d", i, k)] = definition.Package{Source: "house",
				Name: fmt.Sprintf("p%05d-%d", i, k), Version: "1", Architecture: "amd64",
				SHA256: fmt.Sprintf("%064x", 2*i+k)}
		}
	}
	return set
}

// BenchmarkChecks checks descriptions of 1,000 sources and 2,000 house packages, against
// an eighth of that: what each object costs must not grow with their number.
func BenchmarkChecks(b *testing.B) {
	around := definition.Surroundings{Families: families.All, Now: time.Now(),
		Held: func(string) bool { return true }, Vouched: func(string, string) bool { return true }}
	const small, large = 125, 1000
	few, many := described(small), described(large)
	var each [2]time.Duration
	for b.Loop() {
		for i, set := range []*definition.Set{few, many} {
			begun := time.Now()
			if found := definition.Check(set, around); found.HasErrors() {
				b.Fatal(found)
			}
			each[i] += time.Since(begun)
		}
	}
	b.ReportMetric(float64(each[1])/large/(float64(each[0])/small), "times-an-object-of-few")
}
