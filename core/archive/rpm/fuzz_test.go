package rpm_test

import (
	"bytes"
	"strings"
	"testing"

	"stockade/core/archive"
	. "stockade/core/archive/rpm"
	"stockade/core/archive/rpm/header"
	"stockade/internal/must"
)

func FuzzVersions(f *testing.F) {
	for _, s := range []string{"1.0", "1:1.0~rc1-2.el9", "1.0^git", "", "a.b"} {
		f.Add(s, "1.0-1")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if CompareVersions(a, a) != 0 {
			t.Errorf("%q differs from itself", a)
		}
		if x, y := CompareVersions(a, b), CompareVersions(b, a); CheckVersion(a) == nil &&
			CheckVersion(b) == nil && ((x < 0) != (y > 0) || (x == 0) != (y == 0)) {
			t.Errorf("%q and %q: %d and %d", a, b, x, y)
		}
	})
}

func FuzzRich(f *testing.F) {
	for _, s := range []string{"(a if (b and c) else d)", "(a with b >= 2)", "(a unless b)", "((",
		"(a or b or c)"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if all, err := ParseRich(s, false); err == nil {
			for _, c := range all {
				if len(c) == 0 {
					t.Errorf("%q gives a clause that nothing meets", s)
				}
			}
		}
		ParseRich(s, true)
	})
}

// Whatever a header says, reading it stays within its bytes.
func FuzzPackage(f *testing.F) {
	for _, format := range []int{4, 6} {
		m := pumpctl
		m.Format = format
		file, err := m.Build(nil)
		must.Do(f, err)
		f.Add(file)
	}
	f.Fuzz(func(t *testing.T, file []byte) {
		Family{}.Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(file)}, nil)
		if o, err := header.Open(bytes.NewReader(file)); err == nil {
			d := Description{File: o, Path: "x.rpm", SHA256: strings.Repeat("a", 64)}
			raw := d.Primary()
			d.FileList()
			d.Other()
			// What we write of a hostile header is well-formed.
			if err := Walk([]byte(raw), nil, nil); err != nil && !strings.Contains(err.Error(),
				"invalid UTF-8") {
				t.Errorf("%v\n%s", err, raw)
			}
		}
	})
}

func FuzzPrimary(f *testing.F) {
	file, err := pumpctl.Build(nil)
	must.Do(f, err)
	o, err := header.Open(bytes.NewReader(file))
	must.Do(f, err)
	f.Add(`<?xml version="1.0"?><metadata packages="1">` + Description{File: o, Path: "a/b.rpm",
		SHA256: strings.Repeat("a", 64), Size: 3}.Primary() + "</metadata>")
	f.Add("<metadata></metadata>")
	f.Fuzz(func(t *testing.T, text string) {
		Family{}.ReadIndex(spec, archive.IndexChoice{}, strings.NewReader(text),
			func(p *archive.Package, raw []byte) error {
				if archive.CheckPath(p.Path) != nil || p.Name == "" || strings.Contains(p.Name, "/") ||
					len(p.SHA256)+len(p.SHA512) == 0 {
					t.Errorf("%+v", p)
				}
				p.Needs.Relations()
				return nil
			})
	})
}

func FuzzRoot(f *testing.F) {
	f.Add(`<repomd><revision>1</revision><data type="primary"><checksum type="sha256">` + strings.Repeat("a",
		64) + `</checksum><location href="repodata/p.xml.gz"/><size>1</size></data></repomd>`)
	f.Fuzz(func(t *testing.T, text string) {
		if r, err := ParseRoot([]byte(text)); err == nil {
			for p, e := range r.Entries {
				if archive.CheckPath(p) != nil || e.SHA256 == "" && e.SHA512 == "" {
					t.Errorf("%q %+v", p, e)
				}
			}
		}
	})
}

func FuzzLore(f *testing.F) {
	f.Add(`<updates><update type="security"><id>A</id><pkglist><collection><package name="a" version="1" release="1" arch="noarch"/></collection></pkglist></update></updates>`, brokenModules)
	f.Fuzz(func(t *testing.T, xml, yaml string) {
		ReadAdvisoryList(strings.NewReader(xml), func(*archive.Advisory) error { return nil })
		ReadFileList(strings.NewReader(xml), func(string, string) error { return nil })
		ReadStreamList(strings.NewReader(yaml))
	})
}

const brokenModules = "---\ndocument: modulemd\ndata:\n  name: a\n  stream: b\n  artifacts:\n    rpms: " +
	"[x]\n...\n"
