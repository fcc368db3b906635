package edition

import (
	"encoding/json"
	"fmt"
	"io/fs"
	"maps"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"stockade/core/disk"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/made/faults"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

var digests = regexp.MustCompile(`[0-9a-fA-F]{40,128}|/[^ ]*/(pool|editions|out[0-9]*)\b`)

// What the disk is asked for fails once at each place from which an edition asks it: what is told is
// kept, as somebody read it. What is left there then, tests of each call tell.
func TestEachPlaceOfAnEditionThatMayFail(t *testing.T) {
	at := &faults.Places{In: []string{"stockade/core/edition"},
		With: &fs.PathError{Op: "use", Path: "disk", Err: syscall.EIO}}
	on := &faults.Disk{System: disk.OS, Root: "/", At: at}
	const advisories = `{"source":"tarn","id":"T-1","packages":[{"name":"sluicectl"}]}` + "\n"
	files := map[string]string{"tarn/pool/a.deb": "all of a", "tarn/pool/c.deb": "c",
		"kelp/drive.deb": "drive"}
	older, newer := seal(t), sealWith(t, files, strings.Replace(packages, "1.4-1", "1.5-1", 1), advisories)
	opened := func(s *sealed) (*Sealed, error) {
		var sum string
		at.Off(func() { sum = s.find(s.open(), "kelp/drive.deb").SHA256 })
		root := filepath.Dir(filepath.Dir(s.store.Path(sum)))
		var store *pool.Dir
		at.Off(func() {
			var err error
			store, err = pool.OpenOn(on, root, filepath.Join(filepath.Dir(root), "tmp"))
			must.Do(t, err)
		})
		return Open(s.folder(), []*trust.Certificate{site().Certificate()}, store)
	}
	reads := func(read func(e *Sealed, add func(any)) error) func() (any, error) {
		return func() (any, error) {
			var all []any
			e, err := opened(newer)
			if err == nil {
				err = read(e, func(v any) { all = append(all, v) })
			}
			return all, err
		}
	}
	manifest := func(s *sealed) []byte {
		return []byte(must.Read(t, filepath.Join(s.folder(), ManifestName)))
	}
	second := made.Keys(made.Owner{Name: "Skerry Reach, 2027"})[0]
	asks := map[string]func() (any, error){
		"packages": reads(func(e *Sealed, add func(any)) error {
			return e.Items(func(it Item) error { add(it.Name); return nil })
		}),
		"packages called so": reads(func(e *Sealed, add func(any)) error {
			return e.ItemsCalled(func(name string) bool { return name == "drive" },
				func(it Item) error { add(it.Name); return nil })
		}),
		"searched": reads(func(e *Sealed, add func(any)) error {
			return e.Search("sluice", 0, func(it Item, _ int64) error { add(it.Name); return nil })
		}),
		"advisories": reads(func(e *Sealed, add func(any)) error {
			return e.ReadAdvisories(func(a Advisory) error { add(a.ID); return nil })
		}),
		"a file": reads(func(e *Sealed, add func(any)) error {
			l, ok, err := e.Find("tarn/pool/a.deb")
			add(fmt.Sprint(l.Path, ok))
			return err
		}),
		"files": reads(func(e *Sealed, add func(any)) error {
			for l, err := range e.Files() {
				if err != nil {
					return err
				}
				add(l.Path)
			}
			return nil
		}),
		"verify": reads(func(e *Sealed, add func(any)) error {
			add(kept.Findings(e.Verify(nil, nil)))
			return nil
		}),
		"difference": func() (any, error) {
			from, err := opened(older)
			if err != nil {
				return nil, err
			}
			to, err := opened(newer)
			if err != nil {
				return nil, err
			}
			return Differences(from, to, func(_, a, b string) int { return strings.Compare(a, b) })
		},
		"what editions hold": func() (any, error) {
			h, err := Held(newer.store, 2, func(i int) (*Sealed, error) {
				return opened([]*sealed{older, newer}[i])
			})
			return h != nil, err
		},
		"export": func() (any, error) {
			dir := filepath.Join(t.TempDir(), "out")
			e, err := opened(newer)
			if err == nil {
				err = Export(on, FromPool(e.store), manifest(newer), []byte("seal"), dir, nil)
			}
			return nil, err
		},
		"renew": func() (any, error) {
			dir := filepath.Join(t.TempDir(), "out")
			at.Off(func() {
				must.Do(t, Export(disk.OS, FromPool(older.store), manifest(older), []byte("s"), dir, nil))
			})
			e, err := opened(newer)
			if err != nil {
				return nil, err
			}
			return Renew(on, FromPool(e.store), manifest(newer), []byte("seal"), dir, nil)
		},
		"countersign": func() (any, error) {
			return nil, Countersign(on, newer.folder(), []*trust.Certificate{site().Certificate()}, second)
		},
	}
	var told []string
	for _, name := range slices.Sorted(maps.Keys(asks)) {
		for tries := 0; tries < 200; tries++ {
			given, err := asks[name]()
			place, _ := at.Next()
			if place == nil {
				must.Do(t, err)
				break
			}
			said := fmt.Sprint(err)
			if err == nil {
				raw, err := json.Marshal(given)
				must.Do(t, err)
				said = "given is " + string(raw)
			}
			said = fmt.Sprintf("%s: %s\n  %s\n", name, place.Text, said)
			told = append(told, digests.ReplaceAllString(said, "…"))
		}
	}
	slices.Sort(told)
	kept.Same(t, "places.txt", strings.Join(slices.Compact(told), ""))
}
