package archive

import (
	"bytes"
	"crypto/sha256"
	"slices"
)

// sampleSize is how many names a sample has at the most.
const sampleSize = 64

// Sampler keeps those of many names whose digests are the smallest: of two lists
// that share most names, most of the sample is the same.
type Sampler struct{ kept []sampled }

type sampled struct {
	digest [8]byte
	name   string
}

// Add takes one name.
func (s *Sampler) Add(name string) {
	sum := sha256.Sum256([]byte(name))
	x := sampled{[8]byte(sum[:8]), name}
	i, twice := slices.BinarySearchFunc(s.kept, x, func(a, b sampled) int {
		return bytes.Compare(a.digest[:], b.digest[:])
	})
	if twice || i >= sampleSize {
		return
	}
	s.kept = slices.Insert(s.kept, i, x)
	s.kept = s.kept[:min(len(s.kept), sampleSize)]
}

// Names gives the sample.
func (s *Sampler) Names() (out []string) {
	for _, x := range s.kept {
		out = append(out, x.name)
	}
	return out
}

// leastSampled is how many names a sample must have to say anything.
const leastSampled = 4

// OfAnother tells whether two samples are so different that they can hardly be
// of one list at two times: fewer than half of the names of the smaller one are
// in the other. Samples of less than four names say nothing.
func OfAnother(a, b []string) bool {
	least := min(len(a), len(b))
	if least < leastSampled {
		return false
	}
	shared := 0
	for _, n := range a {
		if slices.Contains(b, n) {
			shared++
		}
	}
	return 2*shared < least
}
