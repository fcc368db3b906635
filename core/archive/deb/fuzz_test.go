package deb_test

import (
	"bytes"
	"testing"
	"time"

	"stockade/core/archive"
	. "stockade/core/archive/deb"
	"stockade/internal/made"
	"stockade/internal/must"
)

func FuzzVersions(f *testing.F) {
	for _, v := range []string{"1.0", "1:2.3~rc1-4", "0~~", "a", "", "99999999999999999999999", "1-2-3", ":",
		"1:"} {
		f.Add(v, "1.0-1")
	}
	f.Fuzz(func(t *testing.T, a, b string) {
		if CompareVersions(a, a) != 0 {
			t.Errorf("%q is not the same as itself", a)
		}
		if x, y := CompareVersions(a, b), CompareVersions(b, a); (x < 0) != (y > 0) || (x == 0) != (y == 0) {
			t.Errorf("%q and %q: %d one way, %d the other", a, b, x, y)
		}
		CheckVersion(a)
	})
}

func FuzzRelations(f *testing.F) {
	for _, v := range []string{"a", "a | b (>= 1), c:any (<< 2~)", "a (", ",,", "a\n b (=1)"} {
		f.Add(v)
	}
	f.Fuzz(func(t *testing.T, s string) {
		clauses, err := ParseRelations(s)
		if err != nil {
			return
		}
		for _, c := range clauses {
			for _, r := range c {
				if r.Name == "" || r.Op != archive.Any && CheckVersion(r.Version) != nil {
					t.Errorf("%q gave %+v", s, r)
				}
			}
		}
		ParseProvides(s, "amd64")
	})
}

func FuzzStanzas(f *testing.F) {
	for _, v := range []string{"Package: a\nVersion: 1\n\nPackage: b\n", "a:\n b\n c\n", "\n\n\n", ":", "a",
		" x\n", "Package: a\r\nVersion: 1\r\n"} {
		f.Add([]byte(v))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		r := NewStanzaReader(bytes.NewReader(data))
		for {
			raw, err := r.Next()
			if err != nil {
				return
			}
			if len(raw) == 0 || raw[len(raw)-1] != '\n' {
				t.Fatalf("a stanza without an end: %q", raw)
			}
			Fields(raw)
			WithoutFields(raw, "version")
		}
	})
}

func FuzzIndex(f *testing.F) {
	f.Add([]byte("Package: a\nVersion: 1\nArchitecture: amd64\nFilename: pool/a.deb\nSize: 3\nSHA256: " +
		"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\nDepends: b | c (>= 1)\n" +
		"Provides: d (= 2)\n\n"))
	f.Add([]byte("Package: a\nFilename: ../../etc/passwd\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		s := archive.Source{Name: "x", Release: "heron", Components: []string{"core"},
			Architectures: []string{"amd64"}}
		Family{}.ReadIndex(s, archive.IndexChoice{Component: "core", Arch: "amd64"}, bytes.NewReader(data),
			func(p *archive.Package, _ []byte) error {
				if archive.CheckPath(p.Path) != nil || p.Name == "" || CheckVersion(p.Version) != nil ||
					p.SHA256 == "" && p.SHA512 == "" || p.Size < 0 {
					t.Errorf("an unsafe package came out: %+v", p)
				}
				p.Needs.Relations()
				return nil
			})
	})
}

func FuzzRelease(f *testing.F) {
	f.Add([]byte("Suite: steady\nDate: Sat, 21 Nov 2026 08:00:00 UTC\nSHA256:\n " +
		"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa 12 core/binary-amd64/Packages\n"))
	f.Add([]byte("Date: x\n"))
	f.Fuzz(func(t *testing.T, data []byte) {
		r, err := ParseRelease(data, "dists/heron/")
		if err != nil {
			return
		}
		for p, e := range r.Entries {
			if archive.CheckPath(p) != nil || e.Size < 0 || e.SHA256 == "" && e.SHA512 == "" {
				t.Errorf("an unsafe entry came out: %q %+v", p, e)
			}
		}
	})
}

func FuzzPackageFile(f *testing.F) {
	for _, z := range []string{"", "gz", "xz", "zst"} {
		file, err := made.BuildDeb("Package: a\nVersion: 1\nArchitecture: all\n",
			[]made.File{{Path: "/usr/a", Mode: 0o644, Data: []byte("a")}}, z)
		must.Do(f, err)
		f.Add(file)
	}
	f.Add([]byte("!<arch>\ndebian-binary"))
	f.Fuzz(func(t *testing.T, data []byte) {
		slow := time.AfterFunc(5*time.Second, func() {
			panic("one package file takes more than five seconds")
		})
		defer slow.Stop()
		id, err := ReadIdentity(bytes.NewReader(data[:min(len(data), 1<<20)]))
		if err == nil && (id.Name == "" || id.Version == "" || id.Arch == "") {
			t.Errorf("an empty identity was accepted: %+v", id)
		}
	})
}
