package mirror

import (
	"bytes"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/made"
)

// withSources is a world whose packages were built from source packages that it lists.
func withSources(t *testing.T) *world {
	w := newWorld(t)
	for i := range w.repo.Packages {
		switch p := &w.repo.Packages[i]; p.Name {
		case "libtide2":
			p.Fields = "Source: tide-tools (2.1)\n"
		case "tide-data":
			p.Fields = "Source: tide-tools (2.1)\n"
		}
	}
	w.repo.Sources = []made.DebSource{
		{Component: "core", Name: "sluicectl", Version: "1.4-1", Fields: "Build-Depends: libtide2\n",
			Files: map[string]string{"sluicectl_1.4.orig.tar.gz": "orig",
				"sluicectl_1.4-1.debian.tar.xz": "debian"}},
		{Component: "core", Name: "tide-tools", Version: "2.1",
			Files: map[string]string{"tide-tools_2.1.tar.xz": "t"}},
		{Component: "core", Name: "tide-tools", Version: "1.0",
			Files: map[string]string{"tide-tools_1.0.tar.xz": "o"}},
	}
	w.publish()
	w.plan.Mirror.Want.SourcePackages = true
	return w
}

// A source package that is not what its list says, or a list that cannot be, is refused.
func TestSourcePackagesThatAreRefused(t *testing.T) {
	amend := func(old, new string) func(w *world) {
		return func(w *world) {
			w.repo.Amend = func(files map[string][]byte) {
				for name, data := range files {
					if strings.HasSuffix(name, "/Sources.xz") || strings.HasSuffix(name, "/Sources.gz") {
						delete(files, name)
					} else if strings.HasSuffix(name, "/Sources") {
						files[name] = bytes.ReplaceAll(data, []byte(old), []byte(new))
					}
				}
			}
			w.publish()
		}
	}
	const dsc = "pool/core/t/tide-tools/tide-tools_2.1.dsc"
	for name, c := range map[string]struct {
		change     func(w *world)
		code, part string
	}{
		"another version inside": {func(w *world) {
			w.repo.Sources[1].Inside = "2.2"
			w.publish()
		}, "content.identity-mismatch", "contains tide-tools 2.2"},
		"a file changed": {func(w *world) {
			w.files["pool/core/t/tide-tools/tide-tools_2.1.tar.xz"] = []byte("T")
		}, "content.digest-mismatch", "tide-tools_2.1.tar.xz"},
		"a file gone": {func(w *world) { delete(w.files, dsc) }, "", "tide-tools_2.1.dsc"},
		"a folder that leads out": {amend("Directory: pool/core/t", "Directory: ../t"),
			"content.unsafe-path", "tide-tools"},
		"a name that leads out": {amend(" tide-tools_2.1.tar.xz", " ../x.tar.xz"),
			"content.unsafe-path", "x.tar.xz"},
		"no digests": {amend("Checksums-Sha256:", "Checksums-Sha1:"), "content.weak-digest", "SHA-256"},
		"a digest that is none": {amend("Checksums-Sha256:\n ", "Checksums-Sha256:\n z"),
			"source.malformed-index", "checksum"},
		"no description":      {amend(".dsc", ".txt"), "source.malformed-index", "no description"},
		"a size that is none": {amend(" 1 tide", " -1 tide"), "source.malformed-index", "size"},
	} {
		t.Run(name, func(t *testing.T) {
			w := withSources(t)
			c.change(w)
			_, err := w.build()
			f, ok := finding.From(err)
			if err == nil || c.code != "" && (!ok || string(f.Code) != c.code) ||
				!strings.Contains(err.Error(), c.part) {
				t.Errorf("%v", err)
			}
		})
	}
}
