package alpm_test

import (
	"archive/tar"
	"bytes"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	. "stockade/core/archive/alpm"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/made/faults"
	"stockade/internal/must"
)

func testKeys() []*trust.SiteKey {
	return made.Keys(made.Owner{Name: "Wrack 0", Address: "yard@wrack.example"},
		made.Owner{Name: "Wrack 1", Address: "yard@wrack.example"})
}

func keyringOf(k *trust.SiteKey) *trust.Keyring {
	return trust.NewKeyring("wrack",
		[]trust.Known{{Certificate: k.Certificate(), VouchedFor: []string{"wrack"}}}, time.Now)
}

var spec = archive.Source{Name: "wrack", Family: "alpm", Components: []string{"wrack", "chart"},
	Architectures: []string{"x86_64"}}

func repository() made.AlpmRepository {
	return made.AlpmRepository{Components: []string{"wrack", "chart"}, Arch: "x86_64",
		Date: time.Unix(1_790_000_000, 0), Packages: []made.Alpm{
			{Component: "wrack", Name: "echo-plot", Version: "1:2.3-2", Arch: "x86_64", Summary: "draws",
				Depends: []string{"libecho>=1.8", "bus"}, OptDepend: []string{"paper: to print", "ink>1:"},
				Provides: []string{"plot=2", "libplot.so=2-64"}, Conflicts: []string{"plot1<2"},
				Replaces: []string{"plot0"}, Groups: []string{"survey"},
				Files: []made.File{{Path: "/usr/bin/echo-plot", Mode: 0o755, Data: []byte("x")}}},
			{Component: "wrack", Name: "libecho", Version: "1.9-1", Arch: "x86_64", Packing: "xz"},
			{Component: "wrack", Name: "other", Version: "1-1", Arch: "aarch64"},
			{Component: "chart", Name: "data", Version: "7-1", Arch: "any", Packing: "gz"},
		}}
}

func published(t *testing.T, change func(r *made.AlpmRepository)) (map[string][]byte, *archive.Root, error) {
	t.Helper()
	r := repository()
	if change != nil {
		change(&r)
	}
	files, err := r.Publish(testKeys()[0])
	must.Do(t, err)
	root, err := Family{}.ReadRoot(spec, Family{}.Roots(spec)[0], files, keyringOf(testKeys()[0]))
	return files, root, err
}

func readAll(files map[string][]byte, root *archive.Root) (out []*archive.Package, raws []string, err error) {
	lists, err := Family{}.Indexes(spec, root)
	if err != nil {
		return nil, nil, err
	}
	for _, x := range lists {
		plain, err := archive.Decompress(bytes.NewReader(files[x.Files[0].Path]),
			x.Files[0].Compression, 1<<30)
		if err != nil {
			return nil, nil, err
		}
		if err := (Family{}).ReadIndex(spec, x, plain, func(p *archive.Package, raw []byte) error {
			out, raws = append(out, p), append(raws, string(raw))
			return nil
		}); err != nil {
			return nil, nil, err
		}
	}
	return out, raws, nil
}

// A package whose description comes only behind hundreds of megabytes of zeros is
// given up in bounded time and memory.
func TestAPackageThatUnpacksWithoutEndIsRefused(t *testing.T) {
	for _, z := range []string{"zst", "gz"} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		w.WriteHeader(&tar.Header{Name: ".BUILDINFO", Typeflag: tar.TypeReg,
			Mode: 0o644, Size: 2 * MaxBefore})
		w.Write(make([]byte, 2*MaxBefore))
		w.Close()
		file, err := archive.Compress(b.Bytes(), z)
		must.Do(t, err)
		if _, err := (Family{}).Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(file)}, nil); err ==
			nil || !strings.Contains(err.Error(), "more than") {
			t.Errorf("%s: %v", z, err)
		}
	}
}

func TestAWrittenDatabaseReadsBack(t *testing.T) {
	files, root, err := published(t, func(r *made.AlpmRepository) { r.Unsigned = true })
	must.Do(t, err)
	all, raws, err := readAll(files, root)
	must.Do(t, err)
	out := map[string][]byte{}
	writing := archive.Writing{Source: spec, Root: root, Time: time.Unix(1_790_001_000, 0),
		Sign: testKeys()[1],
		Each: func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool,
			f func(*archive.Package, []byte) error) error {
			for i, p := range all {
				if p.Name != "libecho" && list(archive.IndexChoice{Component: p.Component, Arch: "x86_64"}) &&
					want(p) {
					if err := f(p, []byte(raws[i])); err != nil {
						return err
					}
				}
			}
			return nil
		},
		Package: func(p *archive.Package) (io.ReadSeekCloser, error) {
			return nopCloser{bytes.NewReader(files[p.Path])}, nil
		},
		Put: func(p string, data []byte) error { out[p] = data; return nil },
	}
	calls := faults.Writing(writing, func(w archive.Writing) error {
		clear(out)
		return Family{}.Write(w)
	}, func(call int, err error) {
		if !errors.Is(err, faults.Err) {
			t.Errorf("call %d fails: %v", call, err)
		}
	})
	if calls < 5 {
		t.Errorf("only %d calls", calls)
	}
	clear(out)
	must.Do(t, (Family{}).Write(writing))
	r, err := Family{}.ReadRoot(spec, Family{}.Roots(spec)[0], out, keyringOf(testKeys()[1]))
	must.Do(t, err)
	got, _, err := readAll(out, r)
	if err != nil || len(got) != 2 || got[0].Name != "echo-plot" || got[1].Name != "data" {
		t.Fatalf("%v %v", got, err)
	}
	// A package that nobody had signed is signed by the site, in both places.
	if len(got[0].Signature) == 0 || !bytes.Equal(got[0].Signature, out[Family{}.SignatureOf(got[0].Path)]) {
		t.Error("no signature of the site on a package")
	}
	if _, err := (Family{}).Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(files[got[0].Path]),
		Signature: got[0].Signature}, keyringOf(testKeys()[1])); err != nil {
		t.Error(err)
	}
	if _, err := keyringOf(testKeys()[1]).Detached(out["wrack/os/x86_64/wrack.files"],
		out["wrack/os/x86_64/wrack.files.sig"]); err != nil {
		t.Error(err)
	}
}

type nopCloser struct{ io.ReadSeeker }

func (nopCloser) Close() error { return nil }

func TestWhereDatabasesLie(t *testing.T) {
	for release, want := range map[string]string{
		"":                  "core/os/x86_64/core.db",
		"./":                "core.db",
		"$component/$arch/": "core/x86_64/core.db",
		"pkgs/":             "pkgs/core.db",
	} {
		if got := Database(archive.Source{Release: release}, "core", "x86_64"); got != want {
			t.Errorf("%q: %s", release, got)
		}
	}
	for release, bad := range map[string]bool{"": false, "./": false, "heron": true, "../x/": true,
		"$name/": true, "a/b/": false} {
		s := archive.Source{Name: "x", Release: release, Components: []string{"core"},
			Architectures: []string{"x86_64"}}
		if got := (Family{}).CheckSource(s); got.HasErrors() != bad {
			t.Errorf("%q: %v", release, got)
		}
	}
	if !(Family{}).CheckSource(archive.Source{Components: []string{"options"}, Architectures: []string{
		"x86_64"}}).HasErrors() || !(Family{}).CheckSource(archive.Source{}).HasErrors() {
		t.Error("a description that cannot be met was accepted")
	}
}

func FuzzDatabase(f *testing.F) {
	r := repository()
	files, err := r.Publish(plainKey{})
	must.Do(f, err)
	plain, err := archive.Decompress(bytes.NewReader(files["wrack/os/x86_64/wrack.db"]), "gz", 1<<20)
	must.Do(f, err)
	data, err := io.ReadAll(plain)
	must.Do(f, err)
	f.Add(data)
	f.Fuzz(func(t *testing.T, data []byte) {
		Family{}.ReadIndex(spec, archive.IndexChoice{Component: "wrack", Arch: "x86_64"},
			bytes.NewReader(data), func(p *archive.Package, _ []byte) error {
				if archive.CheckPath(p.Path) != nil || p.Name == "" || len(p.SHA256) != 64 {
					t.Errorf("%+v", p)
				}
				p.Needs.Relations()
				return nil
			})
	})
}

func FuzzDescription(f *testing.F) {
	f.Add("%NAME%\na\n\n%VERSION%\n1-1\n\n%DEPENDS%\nb>=1\n\n")
	f.Fuzz(func(t *testing.T, text string) {
		p, err := ReadDescription([]byte(text), "x")
		if err != nil {
			return
		}
		// What is written of it is read as the same.
		again, err := Rewrite(p, []byte(text), []byte("s"))
		if err != nil {
			t.Fatalf("%q is read and not written: %v", text, err)
		}
		q, err := ReadDescription(again, "x")
		if err != nil || p.String() != q.String() || p.Path != q.Path || p.SHA256 != q.SHA256 {
			t.Errorf("%q became %q: %v", text, again, err)
		}
	})
}

func FuzzInfo(f *testing.F) {
	f.Add(repository().Packages[0].Info())
	f.Fuzz(func(t *testing.T, text string) {
		if info, err := ParseInfo([]byte(text)); err == nil {
			raw := Describe(info, "a-1-1-any.pkg.tar.zst", 3, strings.Repeat("a", 64))
			ReadDescription(raw, "x")
		}
	})
}

func FuzzPackage(f *testing.F) {
	file, err := repository().Packages[0].Build()
	must.Do(f, err)
	f.Add(file)
	f.Fuzz(func(t *testing.T, file []byte) {
		Family{}.Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(file)}, nil)
		FileNames(io.LimitReader(bytes.NewReader(file), 1<<20))
	})
}

func FuzzVersions(f *testing.F) {
	f.Add("1:1.0rc1-2", "1.0")
	f.Fuzz(func(t *testing.T, a, b string) {
		if CompareVersions(a, a) != 0 {
			t.Errorf("%q differs from itself", a)
		}
		CompareVersions(a, b)
		CheckVersion(a)
	})
}

// plainKey signs nothing.
type plainKey struct{}

func (plainKey) Clearsign(text []byte) ([]byte, error)    { return text, nil }
func (plainKey) DetachSign([]byte, bool) ([]byte, error)  { return []byte("signature"), nil }
func (plainKey) SignStream(io.ReadSeeker) ([]byte, error) { return []byte("signature"), nil }
