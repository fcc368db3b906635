package edition

import (
	mathbits "math/bits"

	"stockade/core/finding"
	"stockade/core/pool"
)

// Holdings tells which files of a pool some editions hold: what a sweep has to leave, and what
// each edition costs. It knows the files that were in the pool when it was made.
type Holdings struct {
	Total    Space
	Editions []Holding // as they were given

	at    map[string]int32 // of each file, by its SHA-256
	sizes []int64
	by    []int32    // which edition alone holds it, or one of those below
	seen  [][]uint64 // by edition, a bit for each file
}

// Holding is what one edition holds of the pool.
type Holding struct {
	Name string // MIRROR/N
	Held Space  // each file once, as often as the edition may show it
}

// Space is how much lies somewhere.
type Space struct {
	Files int
	Bytes int64
}

func (s *Space) add(bytes int64) { s.Files++; s.Bytes += bytes }

const (
	byNobody = -1
	byMore   = -2 // more than one edition, or something else
)

// Held works out what editions hold of a pool; open gives the one at a place from zero, and may
// be called again for it. A list of files that several editions have is read once. It costs a bit
// for each file and edition beside the names of the files. An error tells which list cannot be
// read: nothing may be removed then.
func Held(store pool.Store, editions int, open func(n int) (*Sealed, error)) (*Holdings, error) {
	h := &Holdings{Editions: make([]Holding, editions), seen: make([][]uint64, editions),
		at: map[string]int32{}}
	if err := store.Each(func(sum string, size int64) error {
		h.at[sum] = int32(len(h.sizes))
		h.sizes, h.by = append(h.sizes, size), append(h.by, byNobody)
		h.Total.add(size)
		return nil
	}); err != nil {
		return nil, err
	}
	type list struct {
		sum  string
		part Part // with what the manifest says of it, which is compared when it is read
	}
	of := map[list][]int{}
	var lists []list
	for n := range editions {
		e, err := open(n)
		if err != nil {
			return nil, err
		}
		h.Editions[n].Name = e.Name()
		h.seen[n] = make([]uint64, (len(h.sizes)+63)/64)
		for _, l := range e.Manifest.Lines {
			if i, ok := h.at[l.SHA256]; ok {
				h.has(n, i)
			}
		}
		for _, src := range e.Sources {
			for _, x := range src.Indexes {
				if i, ok := h.at[x.SHA256]; ok { // the next build reads them again
					h.needs(n, i)
				}
			}
		}
		for _, p := range e.Manifest.Parts {
			line, ok := e.Manifest.Lines.Find(p.path())
			if !ok {
				return nil, finding.New(finding.EditionDamaged, "edition "+e.Name(),
					"the manifest does not list %s",
					p.path())
			}
			l := list{line.SHA256, p}
			if of[l] == nil {
				lists = append(lists, l)
			}
			of[l] = append(of[l], n)
		}
	}
	for _, l := range lists {
		e, err := open(of[l][0])
		if err != nil {
			return nil, err
		}
		lines, err := e.list(l.part)
		if err != nil {
			return nil, err
		}
		h.have(of[l], lines)
	}
	return h, nil
}

// have notes that editions have the files of a list. The list is gone through once, however many have it.
func (h *Holdings) have(editions []int, lines Lines) {
	bits, all := make([]uint64, (len(h.sizes)+63)/64), Space{}
	for _, line := range lines {
		i, ok := h.at[line.SHA256]
		if word, bit := i/64, uint64(1)<<(i%64); ok && bits[word]&bit == 0 {
			bits[word] |= bit
			all.add(h.sizes[i])
			for _, n := range editions[:min(len(editions), 2)] { // two make it more than one
				h.needs(n, i)
			}
		}
	}
	for _, n := range editions {
		held := &h.Editions[n].Held
		held.Files, held.Bytes = held.Files+all.Files, held.Bytes+all.Bytes
		for w, word := range bits {
			for both := word & h.seen[n][w]; both != 0; both &= both - 1 { // counted already
				held.Files--
				held.Bytes -= h.sizes[w*64+mathbits.TrailingZeros64(both)]
			}
			h.seen[n][w] |= word
		}
	}
}

// has notes that an edition has a file.
func (h *Holdings) has(n int, i int32) {
	h.needs(n, i)
	if word, bit := &h.seen[n][i/64], uint64(1)<<(i%64); *word&bit == 0 {
		*word |= bit
		h.Editions[n].Held.add(h.sizes[i])
	}
}

// needs notes that an edition, or the next build after it, needs a file.
func (h *Holdings) needs(n int, i int32) {
	switch h.by[i] {
	case byNobody:
		h.by[i] = int32(n)
	case int32(n):
	default:
		h.by[i] = byMore
	}
}

// Keep notes that something else than an edition needs a file.
func (h *Holdings) Keep(sha256 string) {
	if i, ok := h.at[sha256]; ok {
		h.by[i] = byMore
	}
}

// Needed tells whether a sweep has to leave a file: what came after the holdings were worked
// out is left as well.
func (h *Holdings) Needed(sha256 string) bool {
	i, ok := h.at[sha256]
	return !ok || h.by[i] != byNobody
}

// Alone gives what each edition alone holds, which a sweep would free once it is retired, and
// what nothing holds, which a sweep would free now.
func (h *Holdings) Alone() (each []Space, unheld Space) {
	each = make([]Space, len(h.Editions))
	for i, by := range h.by {
		switch by {
		case byNobody:
			unheld.add(h.sizes[i])
		case byMore:
		default:
			each[by].add(h.sizes[i])
		}
	}
	return each, unheld
}
