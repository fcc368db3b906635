package alpm_test

import (
	"archive/tar"
	"bytes"
	"testing"

	"stockade/core/archive"
	. "stockade/core/archive/alpm"
	"stockade/core/finding"
	"stockade/internal/must"
)

const plainDescription = "%FILENAME%\nwrack-1-1-x86_64.pkg.tar.zst\n\n%NAME%\nwrack\n\n%VERSION%\n1-1\n\n" +
	"%ARCH%\nx86_64\n\n%CSIZE%\n5\n\n%SHA256SUM%\n" +
	"aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa\n\n%DEPENDS%\nlibecho>=1\n\n"

func TestAPackageThatSaysItselfTwiceIsRefused(t *testing.T) {
	m := repository().Packages[0]
	m.Packing = "gz"
	whole, err := m.Build()
	must.Do(t, err)
	for _, name := range []string{".PKGINFO", "./.PKGINFO"} {
		file := added(t, whole, name, "pkgname = other\npkgver = 1-1\narch = any\n")
		if _, err := ReadInfo(bytes.NewReader(file)); !isCode(err, "content.ambiguous") {
			t.Errorf("%s behind the files: %v", name, err)
		}
	}
}

func isCode(err error, code string) bool {
	f, ok := finding.From(err)
	return ok && string(f.Code) == code
}

// added puts one more file at the end of a package.
func added(t *testing.T, whole []byte, name, text string) []byte {
	t.Helper()
	r, plain, err := OpenTar(bytes.NewReader(whole), 1<<20)
	must.Do(t, err)
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
		must.Do(t, w.WriteHeader(h))
		w.Write(data)
	}
	must.Do(t, w.WriteHeader(&tar.Header{Name: name, Typeflag: tar.TypeReg, Mode: 0o644,
		Size: int64(len(text))}))
	w.Write([]byte(text))
	must.Do(t, w.Close())
	packed, err := archive.Compress(b.Bytes(), "gz")
	must.Do(t, err)
	return packed
}
