package families

import (
	"archive/tar"
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/must"
)

// packed makes an archive of members: NAME, with a type before it where it is no plain file.
func packed(t *testing.T, compression string, members ...string) []byte {
	t.Helper()
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, m := range members {
		h := &tar.Header{Name: m, Mode: 0o644, Typeflag: tar.TypeReg, Size: int64(len(m))}
		if target, ok := strings.CutPrefix(m, "link:"); ok {
			h.Name, h.Typeflag, h.Linkname, h.Size = target, tar.TypeSymlink, "/etc/shadow", 0
		}
		must.Do(t, w.WriteHeader(h))
		if h.Size > 0 {
			if _, err := w.Write([]byte(m)); err != nil {
				t.Fatal(err)
			}
		}
	}
	must.Do(t, w.Close())
	out, err := archive.Compress(b.Bytes(), compression)
	must.Do(t, err)
	return out
}

func TestWhatIsTakenOfAnArchiveOfAMachine(t *testing.T) {
	want := []string{"etc/apt/keyrings/a.asc", "etc/apt/sources.list", "etc/pacman.conf",
		"etc/yum.repos.d/b.repo"}
	root := []string{"./etc/apt/sources.list", "etc/yum.repos.d/b.repo", "/etc/pacman.conf", "etc/shadow",
		"etc/apt/keyrings/a.asc", "link:etc/apt/sources.list.d/evil.list", "var/lib/x",
		"etc/ssl/private/key.pem"}
	within := []string{"apt/sources.list", "yum.repos.d/b.repo", "./pacman.conf", "shadow",
		"apt/keyrings/a.asc"}
	below := []string{"machine-7/etc/apt/sources.list", "machine-7/etc/yum.repos.d/b.repo",
		"machine-7/etc/pacman.conf", "machine-7/etc/apt/keyrings/a.asc"}
	up := []string{"x/../etc/apt/sources.list", "../../etc/yum.repos.d/b.repo", "etc/../etc/pacman.conf",
		"etc/apt/keyrings/../keyrings/a.asc"}
	for name, members := range map[string][]string{"of the root": root, "made within /etc": within,
		"below a folder": below, "with paths that go up": up} {
		for _, compression := range []string{"", "gz", "xz"} {
			u := definition.NewUnpacking()
			err := u.Unpack(All, packed(t, compression, members...))
			got := u.Files
			if err != nil || !slices.Equal(slices.Sorted(maps.Keys(got)), want) {
				t.Errorf("%s, %q: %v %v", name, compression, slices.Sorted(maps.Keys(got)), err)
			}
		}
	}
	many := make([]string, 20_002)
	for i := range many {
		many[i] = fmt.Sprint("x/", i)
	}
	whole := packed(t, "", root...)
	for name, c := range map[string]struct {
		data []byte
		code string
	}{
		"rubbish":       {[]byte(strings.Repeat("hello", 500)), "define.syntax"},
		"cut short":     {whole[:520], "define.syntax"},
		"a damaged one": {append([]byte("\x1f\x8b"), whole...), "define.syntax"},
		"many members":  {packed(t, "gz", many...), "content.too-large"},
	} {
		err := definition.NewUnpacking().Unpack(All, c.data)
		if f, _ := finding.From(err); string(f.Code) != c.code {
			t.Errorf("%s: %v", name, err)
		}
	}
	for name, want := range map[string]bool{"etc.tar": true, "etc.tar.gz": true, "x/ETC.TGZ": true,
		"etc.tar.zst": true, "etc.txz": true, "sources.list": false, "tar": false, "etc.targz": false} {
		if definition.IsPacked(name) != want {
			t.Errorf("%s is an archive: %v", name, !want)
		}
	}
}
