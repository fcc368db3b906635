package alpm_test

import (
	"archive/tar"
	"bytes"
	"strings"
	"testing"

	"stockade/core/archive"
	. "stockade/core/archive/alpm"
	"stockade/core/finding"
)

const plainDescription = "%FILENAME%\nwrack-1-1-x86_64.pkg.tar.zst\n\n%NAME%\nwrack\n\n%VERSION%\n1-1\n\n" +
	"%ARCH%\nx86_64\n\n%CSIZE%\n5\n\n%SHA256SUM%\n" +
	"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\n\n%DEPENDS%\nlibecho>=1\n\n"

func TestDescriptionsThatCouldBeReadInTwoWaysAreRefused(t *testing.T) {
	change := func(old, new string) string {
		if !strings.Contains(plainDescription, old) {
			t.Fatalf("nothing to change: %q", old)
		}
		return strings.Replace(plainDescription, old, new, 1)
	}
	if _, err := ReadDescription([]byte(plainDescription), "x"); err != nil {
		t.Fatal(err)
	}
	for name, c := range map[string]struct{ text, code, says string }{
		"a second value where one belongs": {change("wrack\n\n%VERSION", "wrack\nother\n\n%VERSION"),
			"content.ambiguous", "NAME has 2 values"},
		"a field among the values": {change("%DEPENDS%\n", "%DESC%\nx\n%DEPENDS%\n"),
			"content.ambiguous", "looks like a field"},
		"a field among the values of many": {change("libecho>=1\n", "libecho>=1\n%PROVIDES%\nbus\n"),
			"content.ambiguous", "looks like a field"},
		"a field twice": {plainDescription + "%DEPENDS%\nother\n\n",
			"content.ambiguous", "DEPENDS stands twice"},
		"an unknown field twice": {plainDescription + "%X%\na\n\n%X%\na\n\n",
			"content.ambiguous", "X stands twice"},
		"a field without a value": {change("%DEPENDS%\nlibecho>=1\n\n", "%DEPENDS%\n\n"),
			"content.ambiguous", "no value"},
		"a blank behind a name": {change("%NAME%\n", "%NAME% \n"), "content.ambiguous",
			"white space"},
		"a blank behind a value": {change("wrack\n\n%VERSION", "wrack \n\n%VERSION"),
			"content.ambiguous", "white space"},
		"a line of one blank": {change("\n\n%VERSION", "\n \n%VERSION"), "content.ambiguous",
			"white space"},
		"carriage returns": {strings.ReplaceAll(plainDescription, "\n", "\r\n"),
			"content.ambiguous", "white space"},
		"a size with a sign": {change("%CSIZE%\n5", "%CSIZE%\n+5"),
			"source.malformed-index", "+5"},
		"a name that is an option": {change("wrack\n\n%VERSION", "-wrack\n\n%VERSION"),
			"content.bad-name", "-wrack"},
		"a name with a shell's sign": {change("wrack\n\n%VERSION", "wrack$x\n\n%VERSION"),
			"content.bad-name", "wrack$x"},
		"a name turned around": {change("wrack\n\n%VERSION", "wr\u202eack\n\n%VERSION"),
			"content.bad-name", "character"},
		"a version with a shell's sign": {change("%VERSION%\n1-1", "%VERSION%\n1;x-1"),
			"source.malformed-index", "';'"},
		"a relation with a control character": {change("libecho>=1", "libecho>=1\u202e"),
			"source.malformed-index", "version that is none"},
	} {
		p, err := ReadDescription([]byte(c.text), "x")
		if err == nil {
			_, err = p.Needs.Relations()
		}
		f, _ := finding.From(err)
		if f.Code != c.code || !strings.Contains(f.Text, c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestDatabasesThatCouldBeReadInTwoWaysAreRefused(t *testing.T) {
	type file struct {
		name string
		kind byte
		text string
	}
	good := []file{{"wrack-1-1/", tar.TypeDir, ""}, {"wrack-1-1/desc", tar.TypeReg, plainDescription}}
	other := strings.ReplaceAll(plainDescription, "wrack", "chart")
	for name, c := range map[string]struct {
		files []file
		tail  string
		code  string
	}{
		"good":                {good, "", ""},
		"a description twice": {append(good[:2:2], good[1]), "", "content.ambiguous"},
		"a package in two places": {append(good[:2:2], file{"chart-1-1/desc", tar.TypeReg, other}, file{
			"wrack-1-1/depends", tar.TypeReg, "%CONFLICTS%\nbus\n\n"}), "", "content.ambiguous"},
		"a path with a dot": {append(good[:2:2], file{"./chart-1-1/desc", tar.TypeReg, other}),
			"", "content.ambiguous"},
		"a file that nobody knows": {append(good[:2:2], file{"wrack-1-1/more", tar.TypeReg, "x"}), "",
			"content.ambiguous"},
		"a folder without description": {append(good[:2:2], file{"chart-1-1/", tar.TypeDir, ""}), "",
			"content.ambiguous"},
		"a link": {append(good[:2:2], file{"wrack-1-1/files", tar.TypeSymlink, ""}), "",
			"source.malformed-index"},
		"something behind the end": {good, "more", "content.ambiguous"},
		"a folder of another name": {[]file{{"chart-1-1/desc", tar.TypeReg, plainDescription}}, "",
			"source.malformed-index"},
		"depends with a field of desc": {append(good[:2:2], file{"wrack-1-1/depends", tar.TypeReg,
			"%DEPENDS%\nbus\n\n"}), "", "content.ambiguous"},
	} {
		var b bytes.Buffer
		w := tar.NewWriter(&b)
		for _, f := range c.files {
			if err := w.WriteHeader(&tar.Header{
				Name:     f.name,
				Typeflag: f.kind,
				Mode:     0o644,
				Size:     int64(len(f.text)),
				Linkname: map[bool]string{true: "desc"}[f.kind == tar.TypeSymlink],
			}); err != nil {
				t.Fatal(err)
			}
			if _, err := w.Write([]byte(f.text)); err != nil {
				t.Fatal(err)
			}
		}
		if err := w.Close(); err != nil {
			t.Fatal(err)
		}
		b.WriteString(c.tail)
		err := Family{}.ReadIndex(archive.Source{Architectures: []string{"x86_64"}},
			archive.IndexChoice{Component: "wrack", Arch: "x86_64"}, &b,
			func(*archive.Package, []byte) error {
				return nil
			})
		if f, _ := finding.From(err); f.Code != c.code {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestAPackageThatSaysItselfTwiceIsRefused(t *testing.T) {
	m := repository().Packages[0]
	m.Packing = "gz"
	whole, err := m.Build()
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{".PKGINFO", "./.PKGINFO"} {
		file := added(t, whole, name, "pkgname = other\npkgver = 1-1\narch = any\n")
		if _, err := ReadInfo(bytes.NewReader(file)); !isCode(err, "content.ambiguous") {
			t.Errorf("%s behind the files: %v", name, err)
		}
	}
}

func isCode(err error, code string) bool {
	f, ok := finding.From(err)
	return ok && f.Code == code
}

// added puts one more file at the end of a package.
func added(t *testing.T, whole []byte, name, text string) []byte {
	t.Helper()
	r, plain, err := OpenTar(bytes.NewReader(whole), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	defer plain.Close()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for {
		h, err := r.Next()
		if err != nil {
			break
		}
		data := make([]byte, h.Size)
		if _, err := r.Read(data); h.Size > 0 && err != nil && err.Error() != "EOF" {
			t.Fatal(err)
		}
		if err := w.WriteHeader(h); err != nil {
			t.Fatal(err)
		}
		w.Write(data)
	}
	if err := w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644,
		Size: int64(len(text))}); err != nil {
		t.Fatal(err)
	}
	w.Write([]byte(text))
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	packed, err := archive.Compress(b.Bytes(), "gz")
	if err != nil {
		t.Fatal(err)
	}
	return packed
}
