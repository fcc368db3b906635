package families

import (
	"bytes"
	"context"
	"crypto/sha256"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/machine"
	"stockade/internal/must"
)

// everything is all below a folder: what kind each is, and what is in it.
func everything(t *testing.T, folder string) string {
	t.Helper()
	var out strings.Builder
	must.Do(t, filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		must.Do(t, err)
		st, err := os.Lstat(path)
		must.Do(t, err)
		text := ""
		if st.Mode().IsRegular() {
			raw, err := os.ReadFile(path)
			must.Do(t, err)
			text = string(raw)
		}
		fmt.Fprintf(&out, "%s %s %q\n", path, st.Mode(), text)
		return nil
	}))
	return out.String()
}

// The disk of another machine is somebody else's: whatever lies on it, what writes files for that
// machine, its kit and its setup change nothing outside of it, and end.
func TestAHostileRootLeadsNowhereElse(t *testing.T) {
	outside := map[string]string{"passwd": "root:x:0:0\n", "sources.list.d/mine.list": "deb x y z\n",
		"stockade-tarn/pubring/key": "key\n", "mine.repo": "[x]\n", "pacman.conf": "[core]\n",
		"stockade-x/pubring/k": "k\n", "trustdb.gpg": "t\n"}
	for _, family := range All.Names() {
		t.Run(family, func(t *testing.T) {
			t.Parallel() // it waits for the disk
			hostileRoots(t, family, outside)
		})
	}
}

// hostileRoots tries what one family writes and runs on disks of all kinds.
func hostileRoots(t *testing.T, family string, outside map[string]string) {
	f := All[family].(archive.Configuring)
	conf, found := f.Configure(archive.Client{Sources: []archive.ClientSource{{Source: archive.Source{
		Name: "tarn", Family: family, Release: "heron", Components: []string{"core"},
		Architectures: []string{"x86_64"}}, Origin: "Tarn", Label: "Tarn"}}})
	if found.HasErrors() {
		t.Fatal(found)
	}
	files, err := archive.PrintFiles(All[family], conf, "steady", "/media/stick")
	must.Do(t, err)
	// The disk need not have it for good here, which takes most of the time.
	stubs := t.TempDir()
	must.Do(t, os.WriteFile(filepath.Join(stubs, "sync"), []byte("#!/bin/sh\n"), 0o755))
	quick := func(ctx context.Context, args ...string) *exec.Cmd {
		cmd := exec.CommandContext(ctx, "sh", args...)
		cmd.Env = append(os.Environ(), "PATH="+stubs+":"+os.Getenv("PATH"))
		return cmd
	}
	setup := ""
	links := []string{"var/lib/stockade", "var/lib", "var", "etc", "var/cache/dnf",
		"var/lib/stockade/before",
		"var/lib/stockade/written", "var/lib/stockade/written.new", "var/lib/stockade/back.new"}
	links = append(links, f.Touched()...)
	for n, file := range files {
		if n < 2 { // each is written alike
			links = append(links, file.Path, file.Path+".stockade-new", file.Path+".before-stockade",
				filepath.Dir(file.Path))
		}
		if filepath.Base(file.Path) == archive.SetupName {
			setup = file.Path
		}
	}
	var packed bytes.Buffer
	kit := machine.Kit{Group: "gatehouse", Edition: "barrage/1", At: "/media/stick", Family: All[family],
		Made: time.Unix(1_790_000_000, 0), Files: files}
	must.Do(t, kit.Write(&packed))
	where := t.TempDir()
	untar := exec.Command("tar", "-xz", "-C", where)
	untar.Stdin = &packed
	must.Do(t, untar.Run())
	hostile := map[string]func(root, out string){
		"a list of what was written": func(root, out string) {
			sum := sha256.Sum256([]byte(outside["passwd"]))
			must.Do(t, os.MkdirAll(filepath.Join(root, "var/lib/stockade"), 0o755))
			must.Do(t, os.MkdirAll(filepath.Join(root, "etc"), 0o755))
			must.Do(t, os.WriteFile(filepath.Join(root, "etc/passwd"), []byte(outside["passwd"]), 0o644))
			rel, err := filepath.Rel(root, filepath.Join(out, "passwd"))
			must.Do(t, err)
			must.Do(t, os.WriteFile(filepath.Join(root, machine.Written), fmt.Appendf(nil,
				"%x  %s\n%x  etc/passwd\n%x  %s/../../../%s\n", sum, rel, sum, sum, f.Touched()[0],
				rel), 0o644))
		},
	}
	for _, path := range links {
		hostile["a link at "+path] = func(root, out string) {
			must.Do(t, os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755))
			target := out
			if filepath.Ext(path) != "" || strings.Contains(path, "written") ||
				filepath.Base(path) == "stockade-setup" {
				target = filepath.Join(out, "passwd")
			}
			must.Do(t, os.Symlink(target, filepath.Join(root, path)))
		}
		hostile["a pipe at "+path] = func(root, _ string) {
			must.Do(t, os.MkdirAll(filepath.Dir(filepath.Join(root, path)), 0o755))
			must.Do(t, syscall.Mkfifo(filepath.Join(root, path), 0o644))
		}
	}
	for name, make := range hostile {
		if strings.HasPrefix(name, "a pipe") && strings.HasSuffix(name, ".before-stockade") {
			continue
		}
		for how, do := range map[string]func(ctx context.Context, root string){
			"files": func(ctx context.Context, root string) {
				machine.WriteFiles(root, f.Touched(), files)
			},
			"apply": func(ctx context.Context, root string) {
				quick(ctx, filepath.Join(where, kit.Name(), "apply"), root).Run()
			},
			"back": func(ctx context.Context, root string) {
				keep := filepath.Join(root, "var/lib/stockade/before")
				if os.MkdirAll(keep, 0o755) == nil {
					exec.Command("tar", "-cf", filepath.Join(keep, "0001.tar"), "-C", where, ".").Run()
				}
				quick(ctx, filepath.Join(where, kit.Name(), "back"), root).Run()
			},
			"setup": func(ctx context.Context, root string) {
				quick(ctx, filepath.Join(where, kit.Name(), "root", setup),
					root).Run()
			},
		} {
			if how == "setup" && strings.HasPrefix(name, "a link at var/lib") {
				continue // it does nothing there
			}
			if family == "alpm" && how == "setup" && !strings.HasPrefix(name, "a link at etc") {
				continue // it makes a keyring, which takes long
			}
			root, out := t.TempDir(), t.TempDir()
			for path, text := range outside {
				must.Do(t, os.MkdirAll(filepath.Dir(filepath.Join(out, path)), 0o755))
				must.Do(t, os.WriteFile(filepath.Join(out, path), []byte(text), 0o644))
			}
			make(root, out)
			if how == "back" && strings.HasPrefix(name, "a link at var") {
				continue // the folder of what is kept is made above, through the link
			}
			before := everything(t, out)
			ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
			do(ctx, root)
			if ctx.Err() != nil {
				t.Errorf("%s, %s, %s: it does not end", family, name, how)
			}
			cancel()
			if after := everything(t, out); after != before {
				t.Errorf("%s, %s, %s: what lies outside was changed:\n%s\nit was\n%s", family, name,
					how, after,
					before)
			}
			if _,
				err := os.Stat(filepath.Join(root, "etc/passwd")); name == "a list of what was written" &&
				err != nil {
				t.Errorf("%s, %s: a file of somebody else's on the disk was removed: %v", family, how,
					err)
			}
		}
	}
}
