package edition

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"stockade/internal/must"
)

// Drawn editions that share files and lists, and name some twice, against counting each by itself.
func TestWhatEditionsHoldIsWhatCountingEachGives(t *testing.T) {
	for n := range uint64(6) {
		r := rand.New(rand.NewPCG(n, 53))
		store := newPool(t)
		file := func() Line {
			text := fmt.Sprint("file ", r.IntN(12))
			sum, err := store.Add([]byte(text))
			must.Do(t, err)
			return Line{"", int64(len(text)), sum}
		}
		var all []*Sealed
		for number := range 4 {
			files := NewCollection()
			for _, source := range []string{"kelp", "moor", "tarn"} {
				for i := range r.IntN(4) {
					l := file()
					l.Path = fmt.Sprint(source, "/", i)
					must.Do(t, files.Add(l))
				}
			}
			m, err := files.Manifest(store.Add)
			must.Do(t, err)
			e := &Edition{Mirror: "barrage", Number: number, Sources: []Source{{
				Indexes: []Index{{SHA256: file().SHA256}}}}}
			all = append(all, &Sealed{Edition: e, Manifest: m, store: store, lists: map[string]Lines{}})
		}
		kept := file().SHA256
		open := func(n int) (*Sealed, error) { return all[n], nil }
		must.Do(t, store.Flush())
		h, err := Held(store, len(all), open)
		must.Do(t, err)
		h.Keep(kept)
		users, held := map[string]map[int]bool{kept: {-1: true, -2: true}}, make([]Space, len(all))
		for i, e := range all {
			seen := map[string]bool{}
			use := func(sum string) {
				if users[sum] == nil {
					users[sum] = map[int]bool{}
				}
				users[sum][i] = true
			}
			for l, err := range e.Files() {
				must.Do(t, err)
				if use(l.SHA256); !seen[l.SHA256] {
					seen[l.SHA256] = true
					held[i].add(l.Size)
				}
			}
			use(e.Sources[0].Indexes[0].SHA256)
			if h.Editions[i] != (Holding{e.Name(), held[i]}) {
				t.Errorf("%d: %+v, and by itself %+v", n, h.Editions[i], held[i])
			}
		}
		var total, unheld Space
		alone := make([]Space, len(all))
		must.Do(t, store.Each(func(sum string, size int64) error {
			total.add(size)
			if h.Needed(sum) != (users[sum] != nil) {
				t.Errorf("%d: %s is needed: %v", n, sum, users[sum])
			}
			if users[sum] == nil {
				unheld.add(size)
			}
			for i := range users[sum] {
				if len(users[sum]) == 1 {
					alone[i].add(size)
				}
			}
			return nil
		}))
		each, rest := h.Alone()
		if fmt.Sprint(each, rest, h.Total) != fmt.Sprint(alone, unheld, total) {
			t.Errorf("%d: %v, and by itself %v", n, []any{each, rest, h.Total}, []any{alone, unheld, total})
		}
		late, err := store.Add([]byte("came later"))
		if must.Do(t, err); !h.Needed(late) {
			t.Error("what came later would be swept")
		}
		all[3].Manifest.Parts = append(all[3].Manifest.Parts, Part{Source: "none"})
		if _, err := Held(store, len(all), open); err == nil {
			t.Error("a list that the manifest does not name")
		}
	}
	s := seal(t)
	e := s.open()
	must.Do(t, s.store.Remove(s.find(e, "about/files/tarn").SHA256))
	if _, err := Held(s.store, 1, func(int) (*Sealed, error) { return e, nil }); err == nil ||
		!strings.Contains(err.Error(), "about/files/tarn is missing from the pool") {
		t.Errorf("a list that is gone: %v", err)
	}
}
