package machine

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/must"
)

// snapshot is all below a folder: kind, mode and content of each path.
func snapshot(t *testing.T, root string) map[string]string {
	t.Helper()
	out := map[string]string{}
	if err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(root, path)
		must.Do(t, err)
		if rel == "." || strings.HasPrefix(rel, "var") {
			return nil // what is kept for the way back lies there
		}
		st, err := os.Lstat(path)
		if err != nil {
			return err
		}
		text := ""
		if st.Mode().IsRegular() {
			raw, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			text = string(raw)
		}
		out[rel] = st.Mode().String() + " " + text
		return nil
	}); err != nil {
		t.Fatal(err)
	}
	return out
}

func differ(a, b map[string]string) (out []string) {
	for p, x := range a {
		if b[p] != x {
			out = append(out, p)
		}
	}
	for p := range b {
		if _, ok := a[p]; !ok {
			out = append(out, "+"+p)
		}
	}
	return out
}

func unpacked(t *testing.T, k Kit) string {
	t.Helper()
	var b bytes.Buffer
	must.Do(t, k.Write(&b))
	dir := t.TempDir()
	cmd := exec.Command("tar", "-xzf", "-")
	cmd.Dir, cmd.Stdin = dir, bytes.NewReader(b.Bytes())
	if out, err := cmd.CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	return filepath.Join(dir, k.Name())
}

func sh(t *testing.T, code int, args ...string) string {
	t.Helper()
	cmd := exec.Command("sh", args...)
	out, _ := cmd.CombinedOutput()
	if cmd.ProcessState.ExitCode() != code {
		t.Fatalf("sh %q: %d\n%s", args, cmd.ProcessState.ExitCode(), out)
	}
	return string(out)
}

// In each family: what the kit puts in place is what was to be there, and back brings back what
// was there before, step by step; a damaged kit changes nothing.
func TestAKitAppliesAndLeadsBack(t *testing.T) {
	for name, f := range archive.NewRegistry(deb.Family{}, rpm.Family{}, alpm.Family{}) {
		t.Run(name, func(t *testing.T) {
			root := t.TempDir()
			own := f.Touched()[0]
			if strings.HasSuffix(own, ".conf") {
				own = f.Touched()[2]
			}
			before := map[string]string{own + "/sources.list": "deb https://outside.example x y\n",
				own + "/mine.conf": "kept\n", "etc/hostname": "gatehouse\n"}
			for p, text := range before {
				must.Do(t, os.MkdirAll(filepath.Dir(filepath.Join(root, p)), 0o755))
				must.Do(t, os.WriteFile(filepath.Join(root, p), []byte(text), 0o640))
			}
			kit := func(edition string, files ...archive.ClientFile) Kit {
				return Kit{Group: "gatehouse", Edition: edition, At: "http://127.0.0.1:8441/lane/steady",
					Made: time.Unix(1_790_000_000, 0), Family: f, Files: files}
			}
			file := func(name, text string) archive.ClientFile {
				return archive.ClientFile{Path: own + "/" + name, Mode: 0o600, Data: []byte(text)}
			}
			first := unpacked(t, kit("barrage/1", file("mine.conf", "ours\n"), file("ring.gpg", "\x00\x01"),
				file("gone.conf", "only in the first\n")))
			second := unpacked(t, kit("barrage/2", file("mine.conf", "newer\n"),
				file("ring.gpg", "\x00\x01")))

			start := snapshot(t, root)
			sh(t, 0, filepath.Join(first, "apply"), root)
			one := snapshot(t, root)
			for p, want := range map[string]string{"mine.conf": "ours\n", "ring.gpg": "\x00\x01",
				"gone.conf": "only in the first\n"} {
				if one[own+"/"+p] != "-rw------- "+want {
					t.Errorf("%s: %q", p, one[own+"/"+p])
				}
			}
			if one["etc/hostname"] != start["etc/hostname"] || one[own+"/sources.list"] == "" {
				t.Error("something else was changed")
			}
			said := sh(t, 0, filepath.Join(second, "apply"), root)
			two := snapshot(t, root)
			if two[own+"/gone.conf"] != "" || !strings.Contains(said,
				"gone.conf, which is no longer needed") ||
				two[own+"/mine.conf"] != "-rw------- newer\n" {
				t.Errorf("after the second: %s\n%v", said, two)
			}
			sh(t, 0, filepath.Join(second, "back"), root)
			if d := differ(one, snapshot(t, root)); len(d) > 0 {
				t.Errorf("one step back: %v", d)
			}
			sh(t, 0, filepath.Join(second, "back"), root)
			if d := differ(start, snapshot(t, root)); len(d) > 0 {
				t.Errorf("two steps back: %v", d)
			}
			if said := sh(t, 1, filepath.Join(second, "back"), root); !strings.Contains(said,
				"nothing can be restored") {
				t.Error(said)
			}
			kept := filepath.Join(root, "var/lib/stockade/before/0001.tar.gone-back")
			if st, err := os.Stat(kept); err != nil || st.Mode() != 0o600 {
				t.Errorf("what is kept, with any password in it: %v, %v", st, err)
			}
			stuck := unpacked(t, kit("barrage/3", file("mine.conf", "third\n"), file("sources.list/x", "")))
			sh(t, 1, filepath.Join(stuck, "apply"), root)
			if d := differ(start, snapshot(t, root)); len(d) > 0 {
				t.Errorf("what could not be put in place as a whole changed %v", d)
			}
			must.Do(t, os.WriteFile(filepath.Join(first, "root", own, "ring.gpg"), []byte("x"), 0o600))
			if said := sh(t, 1, filepath.Join(first, "apply"), root); !strings.Contains(said,
				"Nothing was changed") {
				t.Error(said)
			}
			if d := differ(start, snapshot(t, root)); len(d) > 0 {
				t.Errorf("a damaged kit changed %v", d)
			}
		})
	}
}

// What is in a kit: the files below root/, the scripts, what to read, and check sums of all of
// them with the site's signature; a script that sets a machine up is known by its name.
func TestWhatIsInAKit(t *testing.T) {
	k := Kit{Group: "gatehouse", Edition: "barrage/1", Made: time.Unix(1_790_000_000, 0),
		Family: families["deb"], Files: []archive.ClientFile{{Path: "etc/b/x", Mode: 0o640,
			Data: []byte("b")}, {Path: "etc/" + archive.SetupName, Mode: 0o755, Data: []byte("s")},
			{Path: "etc/a", Mode: 0o644, Data: []byte("a")}}}
	names := func(k Kit) (out []string) {
		t.Helper()
		dir := unpacked(t, k)
		must.Do(t, filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if rel, err := filepath.Rel(dir, path); err != nil || err == nil && !d.IsDir() {
				out = append(out, rel)
			}
			return err
		}))
		cmd := exec.Command("sha256sum", "-c", "--strict", "SHA256SUMS")
		cmd.Dir = dir
		if said, err := cmd.CombinedOutput(); err != nil || strings.Count(string(said), ": OK") < 6 {
			t.Errorf("%v: %s", err, said)
		}
		sums, err := os.ReadFile(filepath.Join(dir, "SHA256SUMS"))
		must.Do(t, err)
		var paths []string
		for l := range strings.Lines(string(sums)) {
			paths = append(paths, strings.TrimSpace(l[66:]))
		}
		if !slices.IsSorted(paths) {
			t.Errorf("the sums are in no order: %q", paths)
		}
		apply, err := os.ReadFile(filepath.Join(dir, "apply"))
		if err != nil || !strings.Contains(string(apply), "etc/"+archive.SetupName) ||
			!strings.Contains(string(apply), "0640 etc/b/x") {
			t.Errorf("the script: %v %s", err, apply)
		}
		return out
	}
	const plain = "README SHA256SUMS apply back root/etc/a root/etc/b/x root/etc/" + archive.SetupName
	if got := strings.Join(names(k), " "); got != plain {
		t.Error(got)
	}
	k.Sign = func(sums []byte) ([]byte, error) { return append([]byte("over "), sums...), nil }
	if got := strings.Join(names(k), " "); got != strings.Replace(plain, "SUMS", "SUMS SHA256SUMS.asc",
		1)+" site-key.gpg" {
		t.Error(got)
	}
	k.Sign = func([]byte) ([]byte, error) { return nil, io.ErrUnexpectedEOF }
	if err := k.Write(io.Discard); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a kit whose sums cannot be signed: %v", err)
	}
	k.Sign = nil
	for n := range 3 { // nor is one that cannot be written whole
		if err := k.Write(&narrow{left: 40 * n}); err == nil {
			t.Errorf("%d bytes were taken for a kit", 40*n)
		}
	}
}

// narrow takes so many bytes.
type narrow struct{ left int }

func (n *narrow) Write(p []byte) (int, error) {
	if n.left -= len(p); n.left < 0 {
		return 0, io.ErrShortWrite
	}
	return len(p), nil
}

func TestAKitIsTheSameBytesAndHasNoHostilePath(t *testing.T) {
	k := Kit{Group: "gatehouse", Edition: "barrage/1", Made: time.Unix(1_790_000_000, 0),
		Family: families["deb"], Files: []archive.ClientFile{{Path: "etc/apt/x", Mode: 0o644}},
		Sign: func(sums []byte) ([]byte, error) { return append([]byte("over "), sums...), nil }}
	var a, b bytes.Buffer
	must.Do(t, k.Write(&a))
	if err := k.Write(&b); err != nil || !bytes.Equal(a.Bytes(), b.Bytes()) {
		t.Errorf("two writings differ: %v", err)
	}
	for _, path := range []string{"../x", "/etc/x", "etc/$(reboot)", "etc/a b", "etc/a'b", "etc/a\nb"} {
		k.Files = []archive.ClientFile{{Path: path, Mode: 0o644}}
		if err := k.Write(&a); err == nil {
			t.Errorf("%q was taken", path)
		}
	}
}

// A kit says by whom it is signed, and a machine holds to the key of the first one; an older edition is
// not taken for a newer one.
func TestAKitIsTheSitesOwnAndNoOlderOne(t *testing.T) {
	kit := func(edition string, site *trust.SiteKey, text string) string {
		return unpacked(t, Kit{Group: "gatehouse", Edition: edition, At: "/media/stick",
			Family: families["deb"],
			Made:   time.Unix(1_790_000_000, 0), Site: site.Certificate().Fingerprint,
			Key:   site.Certificate().Binary(),
			Sign:  func(sums []byte) ([]byte, error) { return site.DetachSign(sums, true) },
			Files: []archive.ClientFile{{Path: "etc/apt/x", Mode: 0o644, Data: []byte(text)}}})
	}
	site, err := made.Key(made.Owner{Name: "Skerry Reach", Address: "stores@reach.example"})
	must.Do(t, err)
	other, err := made.Key(made.Owner{Name: "Somebody", Address: "else@reach.example"})
	must.Do(t, err)
	root := t.TempDir()
	first, second := kit("barrage/1", site, "first\n"), kit("barrage/2", site, "second\n")
	has := func(when, want string) {
		t.Helper()
		raw, err := os.ReadFile(filepath.Join(root, "etc/apt/x"))
		if want != "" && (err != nil || string(raw) != want) || want == "" && err == nil {
			t.Errorf("%s: got %q, want %q (%v)", when, raw, want, err)
		}
	}
	// Whoever changes a file can write its check sum anew, and cannot sign that.
	changed := kit("barrage/1", site, "first\n")
	must.Do(t, os.WriteFile(filepath.Join(changed, "root/etc/apt/x"), []byte("mine\n"), 0o644))
	sums, err := os.ReadFile(filepath.Join(changed, "SHA256SUMS"))
	must.Do(t, err)
	sums = bytes.ReplaceAll(sums, []byte(digest([]byte("first\n"))), []byte(digest([]byte("mine\n"))))
	must.Do(t, os.WriteFile(filepath.Join(changed, "SHA256SUMS"), sums, 0o644))
	if said := sh(t, 1, filepath.Join(changed, "apply"), root); !strings.Contains(said, "signature") {
		t.Error(said)
	}
	has("a kit whose sums were written anew", "")
	if said := sh(t, 0, filepath.Join(second, "apply"), root); !strings.Contains(said,
		site.Certificate().Fingerprint) || !strings.Contains(said, "This is the first kit on this machine") {
		t.Error(said)
	}
	has("the first kit", "second\n")
	if said := sh(t, 1, filepath.Join(first, "apply"), root); !strings.Contains(said, "older barrage/1") {
		t.Error(said)
	}
	has("an older one", "second\n")
	if said := sh(t, 1, filepath.Join(kit("barrage/3", other, "third\n"), "apply"),
		root); !strings.Contains(said,
		"Nothing was changed") && !strings.Contains(said, "Nothing was changed") {
		t.Error(said)
	}
	has("one that another key signed", "second\n")
	sh(t, 0, filepath.Join(first, "apply"), "--older", root)
	has("an older one that is wanted", "first\n")
	sh(t, 0, filepath.Join(first, "back"), root)
	has("one step back", "second\n")
	if said := sh(t, 1, filepath.Join(first, "apply"), root); !strings.Contains(said, "older") {
		t.Errorf("the way back leads to the edition of before: %s", said)
	}
}
