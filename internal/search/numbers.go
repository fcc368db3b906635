package search

import (
	"encoding/binary"
	"errors"
	"slices"
)

// Numbers is a set of numbers from 1 on, as ranges that neither touch nor overlap, in order. Packages are
// numbered as they are first read, so that a list has few ranges.
type Numbers []Range

// Range is the numbers from First to Last, both of them in it.
type Range struct{ First, Last int64 }

// numbersOf makes a set; numbers may be in any order and repeat, and are sorted in place.
func numbersOf(numbers []int64) (out Numbers) {
	slices.Sort(numbers)
	for _, n := range numbers {
		if last := len(out) - 1; last >= 0 && n <= out[last].Last+1 {
			out[last].Last = n
			continue
		}
		out = append(out, Range{n, n})
	}
	return out
}

// Has tells whether a number is in the set. It costs the logarithm of the ranges.
func (s Numbers) Has(n int64) bool {
	_, found := slices.BinarySearchFunc(s, n, func(r Range, n int64) int {
		switch {
		case r.Last < n:
			return -1
		case r.First > n:
			return 1
		}
		return 0
	})
	return found
}

// Len is how many numbers are in the set.
func (s Numbers) Len() (n int64) {
	for _, r := range s {
		n += r.Last - r.First + 1
	}
	return n
}

// Without gives what is in s and not in other.
func (s Numbers) Without(other Numbers) (out Numbers) {
	for _, r := range s {
		for len(other) > 0 && other[0].Last < r.First {
			other = other[1:]
		}
		for i := 0; i < len(other) && other[i].First <= r.Last; i++ {
			if other[i].First > r.First {
				out = append(out, Range{r.First, other[i].First - 1})
			}
			r.First = other[i].Last + 1
		}
		if r.First <= r.Last {
			out = append(out, r)
		}
	}
	return out
}

// union gives what is in any of the sets.
func union(sets []Numbers) (out Numbers) {
	all := slices.Concat(sets...)
	slices.SortFunc(all, func(a, b Range) int { return int(min(max(a.First-b.First, -1), 1)) })
	for _, r := range all {
		if last := len(out) - 1; last >= 0 && r.First <= out[last].Last+1 {
			out[last].Last = max(out[last].Last, r.Last)
			continue
		}
		out = append(out, r)
	}
	return out
}

// bytes gives the set as varints: of each range what lies between it and the one before, and its length.
func (s Numbers) bytes() (out []byte) {
	at := int64(0)
	for _, r := range s {
		out = binary.AppendUvarint(out, uint64(r.First-at))
		out = binary.AppendUvarint(out, uint64(r.Last-r.First))
		at = r.Last
	}
	return out
}

// readNumbers reads what bytes gave.
func readNumbers(b []byte) (out Numbers, err error) {
	at := int64(0)
	for len(b) > 0 {
		first, n := binary.Uvarint(b)
		if n <= 0 {
			return nil, errors.New("its numbers cannot be read")
		}
		length, m := binary.Uvarint(b[n:])
		if m <= 0 || first > 1<<40 || length > 1<<40 {
			return nil, errors.New("its numbers cannot be read")
		}
		b = b[n+m:]
		out = append(out, Range{at + int64(first), at + int64(first) + int64(length)})
		at += int64(first) + int64(length)
	}
	return out, nil
}
