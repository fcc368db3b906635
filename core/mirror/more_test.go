package mirror

import (
	"bytes"
	"io"
	"maps"
	"os"
	"path"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/must"
)

func TestIndexesAreReadInEveryCompressionAndByDigest(t *testing.T) {
	for _, z := range []string{"", "gz", "xz", "zst"} {
		for _, byHash := range []bool{false, true} {
			w := newWorld(t)
			w.repo.ByHash = byHash
			w.repo.Amend = func(idx map[string][]byte) {
				for name, data := range maps.Clone(idx) {
					if path.Ext(name) != "" {
						continue
					}
					for _, other := range []string{"", ".gz", ".xz"} {
						delete(idx, name+other)
					}
					packed, err := archive.Compress(data, z)
					must.Do(t, err)
					if z != "" {
						name += "." + z
					}
					idx[name] = packed
				}
			}
			w.publish()
			if byHash { // what a publication in between leaves behind
				for p := range w.files {
					if strings.Contains(path.Base(p), "Packages") {
						w.files[p] = []byte("newer")
					}
				}
			}
			out, err := w.build()
			if err != nil {
				t.Fatalf("%q, by digest %v: %v", z, byHash, err)
			}
			if out.Packages != 4 {
				t.Errorf("%q: %d packages", z, out.Packages)
			}
		}
	}
}

// small is a pool on a disk with little room.
type small struct {
	pool.Store
	free int64
}

func (s small) Free() (int64, error) { return s.free, nil }

func TestABuildThatWillNotFitIsNotBegun(t *testing.T) {
	w := newWorld(t)
	w.builder.Pool = small{w.builder.Pool, Spare + 100}
	f := w.refused("mirror.will-not-fit")
	if !strings.Contains(f.Text, "free") {
		t.Error(f.Text)
	}
	for p, n := range w.hits {
		if strings.HasSuffix(p, ".deb") && n > 0 {
			t.Errorf("%s was fetched all the same", p)
		}
	}
}

func TestAClockThatContradictsTheAcceptedRootDecidesNothing(t *testing.T) {
	w := newWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	w.now = w.now.AddDate(-1, 0, 0)
	w.refusedAfterFirst(t, "site.clock")
}

// refusedAfterFirst is refused for a world that has an edition already.
func (w *world) refusedAfterFirst(t *testing.T, code finding.Code) {
	t.Helper()
	w.plan.Number = 2
	_, err := w.build()
	if f, ok := finding.From(err); !ok || f.Code != code {
		t.Errorf("ended with %v, and %s was expected", err, code)
	}
}

func TestAnotherRepositoryUnderTheSameKeyIsTold(t *testing.T) {
	w := newWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	w.repo.Origin, w.repo.Date = "Tarn Test", w.repo.Date.Add(time.Minute)
	w.publish()
	w.refusedAfterFirst(t, "source.other-repository")
}

func TestAFlatRepositoryIsMirrored(t *testing.T) {
	w := newWorld(t)
	file, err := made.BuildDeb("Package: drive\nVersion: 1\nArchitecture: amd64\n", nil, "gz")
	must.Do(t, err)
	index := []byte(made.DebStanza("Package: drive\nVersion: 1\nArchitecture: amd64\n",
		"./drive_1_amd64.deb", file) + "\n")
	release := made.DebRelease{Origin: "Kelp", Date: w.now.Add(-time.Hour),
		Architectures: []string{"amd64"},
		Components:    []string{"x"}}.Text(map[string][]byte{"Packages": index})
	clear, err := w.key.Clearsign(bytes.Replace(release, []byte("Components: x\n"), nil, 1))
	must.Do(t, err)
	w.files = map[string][]byte{"InRelease": clear, "Packages": index, "drive_1_amd64.deb": file}
	w.source.Spec.Release, w.source.Spec.Components = "./", nil
	w.source.Want = definition.Want{Packages: []string{"drive"}, With: "required", Versions: 1}
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	_, m := w.open(1)
	for _, p := range []string{"tarn/InRelease", "tarn/Packages.gz", "tarn/drive_1_amd64.deb"} {
		if _, ok := m.Find(p); !ok {
			t.Errorf("the manifest lacks %s: %v", p, m.all())
		}
	}
}

func TestARootWithADetachedSignatureIsAskedForConditionally(t *testing.T) {
	w := newWorld(t)
	delete(w.files, "dists/heron/InRelease")
	out, err := w.build()
	must.Do(t, err)
	w.plan.Previous, w.plan.Number = out.Edition, 2
	clear(w.hits)
	if out, err = w.build(); err != nil || !out.Unchanged {
		t.Fatalf("%v", err)
	}
	if w.hits["dists/heron/Release"] != 1 || w.hits["dists/heron/Release.gpg"] != 1 {
		t.Errorf("asked for %v", w.hits)
	}
	// The same text under a new signature, by a key that took the place of the old one: the new
	// signature counts, and the old one does not any more.
	renewed := keys()[1]
	signature, err := renewed.DetachSign(w.files["dists/heron/Release"], true)
	must.Do(t, err)
	before := w.keyring("tarn")
	w.source.Keyring = trust.NewKeyring("tarn", []trust.Known{{Certificate: renewed.Certificate(),
		VouchedFor: []string{"tarn"}}, {Certificate: w.key.Certificate(), VouchedFor: []string{"tarn"},
		Barred: "stolen"}}, func() time.Time { return w.now })
	first := w.files["dists/heron/Release.gpg"]
	w.refusedAfterFirst(t, "key.barred")
	w.files["dists/heron/Release.gpg"] = signature
	if out, err = w.build(); err != nil || out.Unchanged || out.FetchFiles > 0 ||
		out.Edition.Sources[0].Signer.Fingerprint != renewed.Certificate().Fingerprint {
		t.Fatalf("the renewed signature: %+v %v", out.Edition, err)
	}
	if !slices.Contains(out.Edition.Because, "source tarn: its signer") {
		t.Errorf("got %q", out.Edition.Because)
	}
	w.files["dists/heron/Release.gpg"], w.source.Keyring = first, before
	w.plan.Number++
	// A new text under the old signature is no root.
	w.repo.Date = w.repo.Date.Add(time.Minute)
	old := w.files["dists/heron/Release.gpg"]
	w.publish()
	delete(w.files, "dists/heron/InRelease")
	w.files["dists/heron/Release.gpg"] = old
	w.refusedAfterFirst(t, "content.signature-bad")
}

func TestAnIndexThatWasChangedOnDiskIsNotReadForTruth(t *testing.T) {
	w := newWorld(t)
	out, err := w.build()
	must.Do(t, err)
	// The uncompressed index is put where the compressed one lies: same name, other bytes.
	sum := out.Edition.Sources[0].Indexes[0].SHA256
	file := w.builder.Pool.(*pool.Dir).Path(sum)
	raw, err := os.ReadFile(file)
	must.Do(t, err)
	evil, err := archive.Compress(bytes.Replace(mustPlain(t, raw), []byte("Version: 1.4-1"), []byte(
		"Version: 6.6-6"), 1), "xz")
	must.Do(t, err)
	if len(evil) < len(raw) { // trailing zeros in fours are padding to xz
		evil = append(evil, make([]byte, len(raw)-len(evil))...)
	}
	must.Do(t, os.Chmod(file, 0o644))
	must.Do(t, os.WriteFile(file, evil[:len(raw)], 0o644))
	w.source.Want.Packages = []string{"sluicectl"}
	w.refusedAfterFirst(t, "edition.damaged")
	if out, err := w.build(); err != nil || out.Edition == nil {
		t.Errorf("begun again, and still %v", err)
	}
}

func mustPlain(t *testing.T, packed []byte) []byte {
	t.Helper()
	r, err := archive.Decompress(bytes.NewReader(packed), "xz", 1<<20)
	must.Do(t, err)
	defer r.Close()
	plain, err := io.ReadAll(r)
	must.Do(t, err)
	return plain
}

// A source of a lower standing borrows the names of the official one: machines
// would give it that one's priority.
func TestASourceThatBorrowsAnothersNamesIsNotBuiltBesideIt(t *testing.T) {
	w, other := newWorld(t), newWorld(t)
	other.repo.Packages = []made.Deb{{Component: "core", Name: "libtide2", Version: "9-1",
		Arch: "amd64", Summary: "newer"}}
	other.publish()
	other.source.Name, other.source.Spec.Name, other.source.Route.Source = "moor", "moor", "moor"
	other.source.Standing, other.source.Priority = "community", 60
	other.source.Want = definition.Want{Everything: true}
	w.source.Want = definition.Want{Everything: true}
	w.plan.Sources = append(w.plan.Sources, other.source)
	w.plan.Mirror.Copy, w.plan.Mirror.Complete = "faithful", "told"
	if f := w.refused("priority.ambiguous"); !strings.Contains(f.Object+f.Text, "moor") {
		t.Errorf("%v", f)
	}
	other.repo.Origin, other.repo.Label = "tarn", "TARN" // in other letters
	other.publish()
	w.refused("priority.ambiguous")
	other.repo.Origin, other.repo.Label = "Moor", "Moor"
	other.publish()
	if _, err := w.build(); err != nil {
		t.Errorf("with names of its own: %v", err)
	}
	// Tailored, each is known by its own name.
	other.repo.Origin, other.repo.Label, other.repo.Date = "Tarn", "Tarn", other.repo.Date.Add(time.Minute)
	other.publish()
	other.source.Accepted = nil
	w.plan.Mirror.Copy, w.plan.Number = "tailored", 2
	if _, err := w.build(); err != nil {
		t.Errorf("tailored: %v", err)
	}
}
