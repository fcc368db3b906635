package mirror

import (
	"bytes"
	"strings"
	"testing"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/must"
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

// The source packages of what is taken come along, once each, in lists that the site signs; what is
// in no list is told.
func TestSourcePackagesComeAlong(t *testing.T) {
	w := withSources(t)
	out, err := w.build()
	must.Do(t, err)
	e, m := w.open(1)
	if n := e.Sources[0].SourcePackages; n != 2 || !e.Sources[0].Client().SourcePackages {
		t.Errorf("%d source packages", n)
	}
	var told []string
	must.Do(t, m.SourcePackages(func(p edition.SourcePackage) error {
		told = append(told, p.Name+" "+p.Version+" for "+strings.Join(p.Built, ", "))
		for _, f := range p.Files {
			if l, ok := m.Find(f.Path); !ok || l.SHA256 != f.SHA256 || l.Size != f.Size {
				t.Errorf("%s is not in the edition as it says", f.Path)
			}
		}
		return nil
	}))
	if got := strings.Join(told,
		"; "); got != "sluicectl 1.4-1 for sluicectl; tide-tools 2.1 for libtide2, "+
		"tide-data" {
		t.Error(got)
	}
	l, ok := m.Find("tarn/dists/heron/core/source/Sources")
	if !ok {
		t.Fatal("there is no list of source packages")
	}
	raw, err := w.builder.read(l.SHA256)
	must.Do(t, err)
	list := string(raw)
	for _, part := range []string{"Package: sluicectl\n", "Build-Depends: libtide2\n",
		"Directory: pool/core/s/sluicectl\n", "Checksums-Sha256:\n "} {
		if !strings.Contains(list, part) {
			t.Errorf("the list lacks %q:\n%s", part, list)
		}
	}
	if strings.Contains(list, "Files:") || strings.Contains(list, "Version: 1.0\n") {
		t.Errorf("the list has what nobody asked for:\n%s", list)
	}
	f := out.Findings.With("mirror.source-missing")
	if len(f) != 1 || !strings.Contains(f[0].Text, "tide-tables 2.4.1-1") {
		t.Errorf("%v", f)
	}
	if out.Bytes < 10 || out.Files < 8 {
		t.Errorf("%d files, %d bytes", out.Files, out.Bytes)
	}
	w.plan.Mirror.Want.SourcePackages = false
	w.plan.Number, w.plan.Previous = 2, e
	if out, err = w.build(); err != nil || out.Unchanged || out.Edition.Sources[0].SourcePackages != 0 {
		t.Errorf("without source packages: %+v, %v", out, err)
	}
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
		}, "content.identity-mismatch", "says inside that it is tide-tools 2.2"},
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
			"source.malformed-index", "digest"},
		"no description":      {amend(".dsc", ".txt"), "source.malformed-index", "no description"},
		"a size that is none": {amend(" 1 tide", " -1 tide"), "source.malformed-index", "size"},
	} {
		t.Run(name, func(t *testing.T) {
			w := withSources(t)
			c.change(w)
			_, err := w.build()
			f, ok := finding.From(err)
			if err == nil || c.code != "" && (!ok || f.Code != c.code) ||
				!strings.Contains(err.Error(), c.part) {
				t.Errorf("%v", err)
			}
		})
	}
}
