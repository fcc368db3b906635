package alpm_test

import (
	"archive/tar"
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"

	"stockade/core/archive"
	. "stockade/core/archive/alpm"
	"stockade/core/finding"
	"stockade/internal/made/told"
	"stockade/internal/must"
)

const (
	bad       = "source.malformed-index"
	ambiguous = "content.ambiguous"
	badFile   = "content.malformed-package"
)

func TestEachRefusalOfADescription(t *testing.T) {
	without := func(field string) string {
		_, rest, ok := strings.Cut(plainDescription, "%"+field+"%\n")
		if !ok {
			t.Fatalf("nothing to take out: %s", field)
		}
		before, _, _ := strings.Cut(plainDescription, "%"+field+"%\n")
		_, behind, _ := strings.Cut(rest, "\n\n")
		return before + behind
	}
	change := func(old, new string) string { return told.Change(t, plainDescription, old, new) }
	with := func(field, value string) string { return without(field) + "%" + field + "%\n" + value + "\n\n" }
	many := func(n int) string {
		out := plainDescription
		for i := range n {
			out += fmt.Sprintf("%%X%d%%\n1\n\n", i)
		}
		return out
	}
	const relation = "the relation %q "
	for _, c := range []struct{ name, text, code, says string }{
		{"as it is", plainDescription, "", ""},
		{"without its last line", strings.TrimSuffix(plainDescription, "\n"), "", ""},
		{"no name", without("NAME"), bad, "name, version or architecture of a package is missing"},
		{"no version", without("VERSION"), bad, "name, version or architecture of a package is missing"},
		{"no architecture", without("ARCH"), bad, "name, version or architecture of a package is missing"},
		{"an architecture that is none", with("ARCH", "x86/64"), bad, "\"x86/64\" is not an architecture"},
		{"no file name", without("FILENAME"), bad, "wrack has no valid file name"},
		{"the file name of something else", with("FILENAME", "wrack.tar.gz"), bad,
			"wrack has no valid file name"},
		{"a file name in a folder", with("FILENAME", "../wrack-1-1-x86_64.pkg.tar.zst"),
			"content.unsafe-path", "leads out of its folder"},
		{"a file name of another meaning", with("FILENAME", "wr%61ck-1-1-x86_64.pkg.tar.zst"),
			"content.unsafe-path", "contains a character that clients interpret in a URL: a space or %"},
		{"no size", without("CSIZE"), bad, "wrack has no size"},
		{"a size that is none", with("CSIZE", "five"), bad, `the size "five" is not a number`},
		{"no digest", without("SHA256SUM"), bad, "wrack has an invalid checksum"},
		{"a weak digest alone", with("SHA256SUM", "x")[:len(without("SHA256SUM"))] + "%MD5SUM%\n" +
			strings.Repeat("a", 32) + "\n\n", "content.weak-digest", "has only an MD5 checksum"},
		{"a digest that is none", with("SHA256SUM", strings.Repeat("a", 63)), bad,
			"wrack has an invalid checksum"},
		{"a version that is none", with("VERSION", "1-2-3"), bad, "more than one dash"},
		{"a signature that is none", plainDescription + "%PGPSIG%\n!!\n\n", bad, "not base64"},
		{"a need without a version", with("DEPENDS", "libecho>="), bad, fmt.Sprintf(relation, "libecho>=") +
			"has no version"},
		{"a need without a name", with("DEPENDS", ">=1"), bad, fmt.Sprintf(relation, ">=1") +
			"has no valid name"},
		{"a need of two names", with("DEPENDS", "libecho and more"), bad, "has no valid name"},
		{"a need compared in another way", with("DEPENDS", "libecho=>1"), bad,
			"has an unknown comparison"},
		{"a conflict without a name", plainDescription + "%CONFLICTS%\n=1\n\n", bad, "has no valid name"},
		{"a suggestion without a name", plainDescription + "%OPTDEPENDS%\n: for pictures\n\n", bad,
			"has no valid name"},
		{"something provided without a name", plainDescription + "%PROVIDES%\n=1\n\n", bad,
			"has no valid name"},
		{"as many fields as may be", many(256 - 7), "", ""},
		{"more fields", many(256 - 6), "content.too-large", "more than 256 fields"},
		{"a line of no field", "x\n" + plainDescription, bad, "a line of a description does not belong to a"},
		{"a control character", plainDescription + "%DESC%\na\x01b\n\n", bad, "has a control character"},
		{"a deletion", plainDescription + "%DESC%\na\x7fb\n\n", bad, "has a control character"},
		{"a tab", plainDescription + "%DESC%\na\tb\n\n", "", ""},
		{"a second value where one belongs", change("wrack\n\n%VERSION", "wrack\nother\n\n%VERSION"),
			ambiguous, "NAME has 2 values"},
		{"a field among the values", change("%DEPENDS%\n", "%DESC%\nx\n%DEPENDS%\n"),
			ambiguous, "looks like a field"},
		{"a field among the values of many", change("libecho>=1\n", "libecho>=1\n%PROVIDES%\nbus\n"),
			ambiguous, "looks like a field"},
		{"a field twice", plainDescription + "%DEPENDS%\nother\n\n", ambiguous,
			"the field DEPENDS occurs twice"},
		{"an unknown field twice", plainDescription + "%X%\na\n\n%X%\na\n\n", ambiguous,
			"the field X occurs twice"},
		{"a field without a value", change("%DEPENDS%\nlibecho>=1\n\n", "%DEPENDS%\n\n"),
			ambiguous, "no value"},
		{"a blank behind a name", change("%NAME%\n", "%NAME% \n"), ambiguous, "white space"},
		{"a blank behind a value", change("wrack\n\n%VERSION", "wrack \n\n%VERSION"),
			ambiguous, "white space"},
		{"a line of one blank", change("\n\n%VERSION", "\n \n%VERSION"), ambiguous, "white space"},
		{"carriage returns", strings.ReplaceAll(plainDescription, "\n", "\r\n"), ambiguous, "white space"},
		{"a size with a sign", change("%CSIZE%\n5", "%CSIZE%\n+5"), bad, "+5"},
		{"a name that is an option", change("wrack\n\n%VERSION", "-wrack\n\n%VERSION"),
			"content.bad-name", "-wrack"},
		{"a name with a shell's sign", change("wrack\n\n%VERSION", "wrack$x\n\n%VERSION"),
			"content.bad-name", "wrack$x"},
		{"a name turned around", change("wrack\n\n%VERSION", "wr\u202eack\n\n%VERSION"),
			"content.bad-name", "character"},
		{"a version with a shell's sign", change("%VERSION%\n1-1", "%VERSION%\n1;x-1"), bad, "';'"},
		{"a relation with a control character", change("libecho>=1", "libecho>=1\u202e"),
			bad, "has an invalid version"},
	} {
		p, err := ReadDescription([]byte(c.text), "x")
		if err == nil {
			_, err = p.Needs.Relations()
		}
		told.Refused(t, c.name, err, finding.Code(c.code), c.says)
	}
}

func TestEachRefusalOfAVersion(t *testing.T) {
	for v, says := range map[string]string{
		"1-1": "", "1": "", "2:1.0~rc1+git^1-1.1": "", strings.Repeat("1", 512): "",
		"": "no version in it", "2:": "no version in it", "-1": "no version in it",
		strings.Repeat("1", 513): "longer than 512 bytes", "1-2-3": "more than one dash", "1 2-1": "' '",
		"1-1;": "';'",
	} {
		if err := CheckVersion(v); (err == nil) != (says == "") || err != nil &&
			!strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", v, err)
		}
	}
}

// packing makes a tar of files, each a name and a text; a name that ends in a slash is a
// folder, and one that ends in an at sign a link.
func packing(t *testing.T, files ...[2]string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, f := range files {
		h := &tar.Header{Name: f[0], Typeflag: tar.TypeReg, Mode: 0o644, Size: int64(len(f[1]))}
		if strings.HasSuffix(f[0], "/") {
			h.Typeflag = tar.TypeDir
		} else if name, ok := strings.CutSuffix(f[0], "@"); ok {
			h.Name, h.Typeflag, h.Linkname, h.Size = name, tar.TypeSymlink, "x", 0
		}
		must.Do(t, w.WriteHeader(h))
		if _, err := w.Write([]byte(f[1])[:h.Size]); err != nil {
			t.Fatal(err)
		}
	}
	must.Do(t, w.Close())
	return b.Bytes()
}

func TestEachRefusalOfADatabase(t *testing.T) {
	read := func(data []byte) error {
		return Family{}.ReadIndex(archive.Source{Name: "wrack", Architectures: []string{"x86_64"}},
			archive.IndexChoice{Component: "core", Arch: "x86_64"}, bytes.NewReader(data),
			func(*archive.Package, []byte) error { return nil })
	}
	folder, desc := [2]string{"wrack-1-1/", ""}, [2]string{"wrack-1-1/desc", plainDescription}
	chart := strings.ReplaceAll(plainDescription, "wrack", "chart")
	whole := packing(t, folder, desc)
	odd := func(name, text string) []byte { return packing(t, folder, desc, [2]string{name, text}) }
	for _, c := range []struct {
		name       string
		data       []byte
		code, says string
	}{
		{"as it is", whole, "", ""},
		{"empty", packing(t), "", ""},
		{"no tar", bytes.Repeat([]byte("x"), 1024), bad, "the database is not a readable tar file"},
		{"cut in a description", whole[:1024+100], bad, "the database is truncated in wrack-1-1:"},
		{"a link", odd("wrack-1-1/files@", ""), bad, "the database contains \"wrack-1-1/files\", which is"},
		{"a file in no folder", odd("desc", "x"), ambiguous,
			"which is not the folder or the file of a package"},
		{"a folder in a folder", odd("wrack-1-1/more/", ""), ambiguous,
			"which is not the folder or the file of a package"},
		{"a file in a folder in a folder", odd("wrack-1-1/more/desc", "x"), ambiguous,
			"which is not the folder or the file of a package"},
		{"an absolute path", odd("/wrack-1-1/files", "x"), ambiguous,
			"which is not the folder or the file of a package"},
		{"a file twice", packing(t, folder, desc, [2]string{"wrack-1-1/files", ""},
			[2]string{"wrack-1-1/files", ""}), ambiguous, `the file "wrack-1-1/files" twice`},
		{"a file that nobody knows", odd("wrack-1-1/more", "x"), ambiguous,
			"the database contains an unexpected file"},
		{"a path with a dot", odd("./chart-1-1/desc", chart), ambiguous,
			"which is not the folder or the file of a package"},
		{"a path upward", odd("../chart-1-1/desc", chart), ambiguous,
			"which is not the folder or the file of a package"},
		{"a folder without a description", odd("chart-1-1/", ""), ambiguous, "without a description"},
		{"a folder of another name", packing(t, [2]string{"chart-1-1/desc", plainDescription}), bad, `in the folder "chart-1-1"`},
		{"a package in two places", packing(t, folder, desc, [2]string{"chart-1-1/desc", chart},
			[2]string{"wrack-1-1/depends", "%CONFLICTS%\nbus\n\n"}), ambiguous, `"wrack-1-1" in two places`},
		{"needs in two files", odd("wrack-1-1/depends", "%DEPENDS%\nbus\n\n"), ambiguous,
			"the field DEPENDS occurs twice"},
		{"something behind its end", append(bytes.Clone(whole), 'x'), ambiguous,
			"the database has data after its end"},
		{"a description that is too large", packing(t, folder,
			[2]string{"wrack-1-1/desc", strings.Repeat("x", 9<<20)}),
			"content.too-large", "the description of wrack-1-1 is larger"},
		{"a description that is none", packing(t, folder, [2]string{"wrack-1-1/desc", "x\n"}), bad,
			"a line of a description does not belong to a"},
	} {
		told.Refused(t, c.name, read(c.data), finding.Code(c.code), c.says)
	}
	f, _ := finding.From(read(packing(t, folder, [2]string{"wrack-1-1/desc", "x\n"})))
	if f.Object != "source wrack" || !strings.HasPrefix(f.Text, "package 1 of the database core: ") {
		t.Errorf("%+v", f)
	}
	// A reader's own judgement, and one of who takes the packages, stays what it is.
	own := finding.New("content.too-large", "", "enough")
	err := Family{}.ReadIndex(archive.Source{Architectures: []string{"x86_64"}},
		archive.IndexChoice{Component: "core", Arch: "x86_64"},
		bytes.NewReader(whole), func(*archive.Package, []byte) error { return own })
	told.Refused(t, "who takes it has enough", err, "content.too-large", "enough")
	for _, at := range []int{0, 512, 1200} {
		err := Family{}.ReadIndex(archive.Source{Architectures: []string{"x86_64"}},
			archive.IndexChoice{Component: "core", Arch: "x86_64"},
			&breaking{bytes.NewReader(whole[:at])}, func(*archive.Package, []byte) error { return nil })
		told.Refused(t, "too much comes out of it", err, "content.too-large", "more than")
	}
	_, err = Family{}.Indexes(archive.Source{Name: "wrack", Components: []string{"core"},
		Architectures: []string{"x86_64"}}, &archive.Root{Entries: map[string]archive.Entry{}})
	told.Refused(t, "no database", err, bad, "the database core/os/x86_64/core.db is missing")
}

// breaking ends with a judgement, as a stream does out of which too much comes.
type breaking struct{ *bytes.Reader }

func (b *breaking) Read(p []byte) (int, error) {
	if b.Len() == 0 {
		return 0, finding.New("content.too-large", "", "more than 9 bytes come out")
	}
	return b.Reader.Read(p)
}

func TestEachRefusalOfAPackageFile(t *testing.T) {
	const info = "pkgname = wrack\npkgver = 1-1\narch = x86_64\n"
	own := [2]string{".PKGINFO", info}
	usr := [2]string{"usr/bin/wrack", "x"}
	build := [2]string{".BUILDINFO", "x"}
	for _, c := range []struct {
		name       string
		data       []byte
		code, says string
	}{
		{"as it is", packing(t, build, own, [2]string{".MTREE", "x"}, usr), "", ""},
		{"with a comment", packing(t, [2]string{".PKGINFO", "# made\n\n" + info}, usr), "", ""},
		{"nothing", nil, badFile, "PKGINFO is missing before the files"},
		{"no tar", bytes.Repeat([]byte("x"), 1024), badFile, "tar"},
		{"files first", packing(t, usr, own), badFile, "PKGINFO is missing before the files"},
		{"none of it", packing(t, build), badFile, "PKGINFO is missing before the files"},
		{"twice", packing(t, own, own), ambiguous, ".PKGINFO twice"},
		{"twice in another spelling", packing(t, own, [2]string{"./.PKGINFO", info}), ambiguous,
			".PKGINFO twice"},
		{"in another spelling", packing(t, [2]string{"./.PKGINFO", info}), ambiguous, "another spelling"},
		{"a link", packing(t, [2]string{".PKGINFO@", ""}), badFile, "is not a regular file of at most"},
		{"too large", packing(t, [2]string{".PKGINFO", strings.Repeat("x", 5<<20)}), badFile,
			"is not a regular file of at most"},
		{"cut", packing(t, own)[:512+20], badFile, "its .PKGINFO: unexpected EOF"},
		{"a line that is no field", packing(t, [2]string{".PKGINFO", info + "hello\n"}), badFile,
			"line 4 of .PKGINFO is not a field"},
		{"a field without a name", packing(t, [2]string{".PKGINFO", info + " = x\n"}), badFile,
			"line 4 of .PKGINFO is not a field"},
		{"no name", packing(t, [2]string{".PKGINFO", "pkgver = 1-1\narch = any\n"}), badFile,
			"pkgname 0 times"},
		{"two versions", packing(t, [2]string{".PKGINFO", info + "pkgver = 2-1\n"}), badFile,
			"pkgver 2 times"},
		{"no architecture", packing(t, [2]string{".PKGINFO", "pkgname = a\npkgver = 1-1\n"}), badFile,
			"arch 0 times"},
	} {
		got, err := ReadInfo(bytes.NewReader(c.data))
		told.Refused(t, c.name, err, finding.Code(c.code), c.says)
		if err == nil && (len(got["pkgname"]) != 1 || got["pkgname"][0] != "wrack") {
			t.Errorf("%s: %v", c.name, got)
		}
	}
}

// verdict judges as it was told to.
type verdict struct {
	archive.Verifier
	err error
}

func (v verdict) Streamed(io.ReadSeeker, []byte) (archive.Signer, error) {
	return archive.Signer{}, v.err
}

func TestWhoseSignatureIsBadIsTold(t *testing.T) {
	file := packing(t, [2]string{".PKGINFO", "pkgname = wrack\npkgver = 1-1\narch = x86_64\n"})
	plain := errors.New("not now")
	for _, err := range []error{finding.New("content.signature-bad", "", "over other content"), plain, nil} {
		_, got := Family{}.Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(file),
			Signature: []byte("s")}, verdict{err: err})
		f, ok := finding.From(err)
		switch {
		case ok:
			told.Refused(t, "a finding", got, f.Code, "the package itself: over other content")
		case !errors.Is(got, err):
			t.Errorf("%v: %v", err, got)
		}
	}
	if _, err := (Family{}).Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(file)},
		verdict{err: plain}); err != nil {
		t.Errorf("a package that carries no signature: %v", err)
	}
}
