package machine

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"stockade/core/archive"
	"stockade/internal/must"
)

func file(path, text string) archive.ClientFile {
	return archive.ClientFile{Path: path, Mode: 0o644, Data: []byte(text)}
}

func read(t *testing.T, path string) string {
	t.Helper()
	raw, err := os.ReadFile(path)
	must.Do(t, err)
	return string(raw)
}

func TestFilesForMachinesCanBeReadWhateverTheUmaskIs(t *testing.T) {
	root := filepath.Join(t.TempDir(), "mnt", "machine")
	old := syscall.Umask(0o077)
	defer syscall.Umask(old)
	setup := archive.ClientFile{Path: "etc/pki/setup", Mode: 0o755, Data: []byte("#!/bin/sh\n")}
	if _, _, err := WriteFiles(root, []string{"etc"},
		[]archive.ClientFile{file("etc/apt/keyrings/tarn.gpg", "ring"), setup}); err != nil {
		t.Fatal(err)
	}
	for path, want := range map[string]os.FileMode{
		"":                          0o755,
		"etc/apt/keyrings":          0o755,
		"etc/apt/keyrings/tarn.gpg": 0o644,
		"etc/pki/setup":             0o755,
		Written:                     0o644,
	} {
		info, err := os.Stat(filepath.Join(root, path))
		must.Do(t, err)
		if info.Mode().Perm() != want {
			t.Errorf("%s has the mode %o", path, info.Mode().Perm())
		}
	}
}

func TestWhatIsNoLongerNeededIsTakenAway(t *testing.T) {
	root := t.TempDir()
	at := func(p string) string { return filepath.Join(root, p) }
	must.Do(t, os.MkdirAll(at("etc/zypp"), 0o755))
	must.Write(t, at("etc/zypp/locks"), "by hand")
	write := func(files ...archive.ClientFile) (gone, left string) {
		t.Helper()
		g, l, err := WriteFiles(root, []string{"etc"}, files)
		must.Do(t, err)
		return strings.Join(g, " "), strings.Join(l, " ")
	}
	write(file("etc/repo", "1"), file("etc/zypp/locks", "a pin"), file("etc/key.asc", "barred later"), file(
		"etc/module", "stream"))
	if got := read(t, at("etc/zypp/locks.before-stockade")); got != "by hand" {
		t.Errorf("what stood there before: %q", got)
	}
	must.Write(t, at("etc/module"), "changed by hand")
	gone, left := write(file("etc/repo", "2"))
	if gone != "etc/key.asc etc/zypp/locks" || left != "etc/module" {
		t.Errorf("taken away: %s; left: %s", gone, left)
	}
	if read(t, at("etc/repo")) != "2" || read(t, at("etc/zypp/locks")) != "by hand" ||
		read(t, at("etc/module")) != "changed by hand" {
		t.Error("what stays is not what it should be")
	}
	if _, err := os.Stat(at("etc/key.asc")); err == nil {
		t.Error("the key is still there")
	}
	if _, err := os.Stat(at("etc/repo.before-stockade")); err == nil {
		t.Error("our own file was kept as if it were somebody else's")
	}
}

func TestAListOfWrittenFilesLeadsNowhereElse(t *testing.T) {
	root := t.TempDir()
	outside := filepath.Join(filepath.Dir(root), "outside")
	must.Do(t, os.WriteFile(outside, nil, 0o644))
	if _, _, err := WriteFiles(root, []string{"etc"}, nil); err != nil {
		t.Fatal(err)
	}
	empty := "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855"
	must.Write(t, filepath.Join(root, Written), empty+"  ../outside\n")
	if _, _, err := WriteFiles(root, []string{"etc"}, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(outside); err != nil {
		t.Error("a file outside the root was taken away")
	}
}
