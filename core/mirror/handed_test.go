package mirror

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stockade/core/archive/deb"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
	"stockade/internal/must"
)

// handed is a made-up package in a file, for the house source reach-lamps.
func handed(t *testing.T, w *world, version string) Handed {
	t.Helper()
	file, err := made.BuildDeb("Package: lamp-ctl\nVersion: "+version+"\nArchitecture: amd64\n"+
		"Maintainer: Workshop <workshop@skerry.example>\nDescription: old lamps\n", nil, "gz")
	must.Do(t, err)
	path := filepath.Join(t.TempDir(), "lamp.deb")
	must.Do(t, os.WriteFile(path, file, 0o600))
	f, err := os.Open(path)
	must.Do(t, err)
	t.Cleanup(func() { f.Close() })
	set := definition.NewSet()
	set.Sources["reach-lamps"] = definition.Source{Family: "deb",
		Standing: definition.House, Release: "heron",
		Components: []string{"lamps"}, Architectures: []string{"amd64"}}
	set.Sources["tarn"] = definition.Source{Family: "deb", Standing: definition.Official,
		Upstreams: []definition.Upstream{{URL: "https://north.tarn.example/tarn"}}}
	return Handed{Set: set, Source: "reach-lamps", Family: deb.Family{}, From: "recipe 12",
		Why: "the old lamps need it", By: "ada", File: f, Others: []*upstream.Source{w.source}}
}

func TestAPackageIsTakenInWithWhatIsKnownOfIt(t *testing.T) {
	w := newWorld(t)
	nobody := trust.NewKeyring("anything", nil, nil)
	h := handed(t, w, "1.0-1")
	id, rec, found, err := w.builder.TakeIn(h, nobody)
	must.Do(t, err)
	if !strings.HasPrefix(id, "lamp-ctl-1.0-1.amd64-") || rec.Name != "lamp-ctl" || rec.From != "recipe 12" ||
		rec.By != "ada" || len(rec.SHA256) != 64 || rec.Size == 0 {
		t.Errorf("%s %+v", id, rec)
	}
	if _, ok := w.builder.Pool.Has(rec.SHA256); !ok {
		t.Error("it is not in the pool")
	}
	// Of the other source nothing was accepted: whether it has the package is not known.
	if len(found) != 1 || found[0].Code != "house.not-compared" {
		t.Errorf("%v", found)
	}
	h.Set.Packages[id] = rec
	for name, c := range map[string]struct {
		change func(*Handed)
		code   string
		text   string
	}{
		"the same file once more": {func(*Handed) {}, "define.duplicate-name",
			"this file is already in the source, as"},
		"other bytes of that version": {func(h *Handed) {
			o := h.Set.Packages[id]
			o.Given = strings.Repeat("0", 64)
			h.Set.Packages[id] = o
		}, "define.duplicate-name", "with other content"},
		"nowhere from": {func(h *Handed) { h.From = " " }, "define.missing-field",
			"the origin"},
		"for nothing": {func(h *Handed) { h.Why = "" }, "define.missing-field", "the purpose"},
		"a source with upstreams": {func(h *Handed) { h.Source = "tarn" }, "define.bad-value",
			"only be added to a house source"},
		"another architecture": {func(h *Handed) {
			src := h.Set.Sources["reach-lamps"]
			src.Architectures = []string{"arm64"}
			h.Set.Sources["reach-lamps"] = src
		}, "source.architecture-missing", "is for amd64"},
	} {
		h := handed(t, w, "1.0-1")
		h.Set.Packages[id] = rec
		c.change(&h)
		_, _, _, err := w.builder.TakeIn(h, nobody)
		if f, _ := finding.From(err); string(f.Code) != c.code || !strings.Contains(f.Text, c.text) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// What a source offers with these very bytes, and who signed it is known.
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	same := handed(t, w, "1.0-1")
	theirs := w.files["pool/core/l/libtide2/libtide2_2.1-1_amd64.deb"]
	must.Do(t, os.WriteFile(same.File.Name(), theirs, 0o600))
	_, rec, found, err = w.builder.TakeIn(same, nobody)
	if err != nil || rec.Name != "libtide2" || len(found) != 1 ||
		found[0].Code != "house.offered-elsewhere" ||
		!strings.Contains(found[0].Text, "tarn also offers libtide2 2.1-1, with the same content") {
		t.Errorf("%+v %v %v", rec, found, err)
	}
	broken := handed(t, w, "1.0-2")
	if broken.File, err = os.Open(os.DevNull); err != nil {
		t.Fatal(err)
	}
	defer broken.File.Close()
	_, _, _, err = w.builder.TakeIn(broken, nobody)
	if f, _ := finding.From(err); f.Code != "content.malformed-package" || f.Object != "source reach-lamps" ||
		!strings.Contains(f.WayOut, "choose a package file of the family deb") {
		t.Errorf("%v", err)
	}
}
