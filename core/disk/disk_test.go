package disk_test

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/internal/made/faults"
	"stockade/internal/must"
)

// there is what lies below a folder: paths with modes and bytes.
func there(t *testing.T, root string) string {
	t.Helper()
	var out []string
	must.Do(t, filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || path == root && d.IsDir() {
			return err
		}
		info, err := d.Info()
		must.Do(t, err)
		text := fmt.Sprintf("%s %s", strings.TrimPrefix(path[len(root):], "/"), info.Mode())
		if info.Mode().IsRegular() {
			text += " " + must.Read(t, path)
		}
		out = append(out, text)
		return nil
	}))
	return strings.Join(out, ",")
}

// What is done is done by these calls, in this order, whatever the umask is; each that fails is told,
// and then there is what is there at the end, or the beginning of it, and nothing else.
func TestEachCallAndItsFault(t *testing.T) {
	defer syscall.Umask(syscall.Umask(0o077))
	for _, c := range []struct {
		name  string
		do    func(on disk.System, root string) error
		calls string
		there string
		again string // what is called a second time; "=": the same
		err   error  // of the second time
	}{
		{"a new file", func(on disk.System, root string) error {
			return disk.WriteNew(on, root+"/a", []byte("one"), 0o666)
		}, "open a,chmod a,write a,sync a", "a -rw-rw-rw- one", "open a", fs.ErrExist},
		{"replaced", func(on disk.System, root string) error {
			return disk.Replace(on, root+"/a", []byte("one"), 0o644)
		}, "remove a.stockade-new,open a.stockade-new,chmod a.stockade-new,write a.stockade-new," +
			"sync a.stockade-new,rename a.stockade-new a,open .,sync .", "a -rw-r--r-- one", "=", nil},
		{"folders", func(on disk.System, root string) error {
			grown, err := disk.MakeFolder(on, root+"/b/c")
			for _, folder := range grown {
				err = errors.Join(err, disk.Sync(on, folder))
			}
			return err
		}, "mkdir b,chmod b,mkdir b/c,chmod b/c,open .,sync .,open b,sync b", "b drwxr-xr-x," +
			"b/c drwxr-xr-x", "", nil},
	} {
		if c.again == "=" {
			c.again = c.calls
		}
		root := t.TempDir()
		for _, time := range []struct {
			calls string
			err   error
		}{{c.calls, nil}, {c.again, c.err}} {
			on := &faults.Disk{System: disk.OS, Root: root}
			err := c.do(on, root)
			if got := strings.Join(on.Calls(), ","); got != time.calls || !errors.Is(err, time.err) {
				t.Errorf("%s: calls %s, %v", c.name, got, err)
			}
			if got := there(t, root); got != c.there {
				t.Errorf("%s: there is %s", c.name, got)
			}
		}
		for i, call := range strings.Split(c.calls, ",") {
			root := t.TempDir()
			err := c.do(&faults.Disk{System: disk.OS, Root: root, Fails: i + 1, With: syscall.EIO}, root)
			told, _ := finding.Fault(err, "")
			if left := there(t, root); told.Code != finding.FaultCode || !strings.HasPrefix(c.there, left) {
				t.Errorf("%s, where %q fails: %v; there is %s", c.name, call, err, left)
			}
		}
	}
	if err := disk.Sync(disk.OS, t.TempDir()); err != nil {
		t.Error(err)
	}
	root := t.TempDir()
	must.Write(t, root+"/file", "one")
	if _, err := disk.MakeFolder(disk.OS, root+"/file/b"); !errors.Is(err, fs.ErrExist) {
		t.Errorf("a folder in a file: %v", err)
	}
	if _, err := disk.MakeFolder(racing{disk.OS}, root+"/quick"); err != nil {
		t.Errorf("a folder that somebody else makes meanwhile: %v", err)
	}
	if got, err := disk.ReadFile(disk.OS, root+"/file"); string(got) != "one" || err != nil {
		t.Errorf("%s, %v", got, err)
	}
	if _, err := disk.ReadFile(disk.OS, root); !errors.Is(err, syscall.EISDIR) {
		t.Errorf("a folder is read: %v", err)
	}
}

// racing lets somebody else make each folder first.
type racing struct{ disk.System }

func (r racing) Mkdir(name string, mode fs.FileMode) error {
	return errors.Join(r.System.Mkdir(name, mode), r.System.Mkdir(name, mode))
}

// What somebody names as a file is written as they would expect, or told why not and what to do.
func TestWhatIsSavedWhere(t *testing.T) {
	for name, c := range map[string]struct{ make, told, way, there string }{
		"new":           {"", "", "", "out -rw-r----- ours"},
		"there already": {"echo theirs > out", "", "", "out -rw-r----- ours"},
		"a link to a file": {"mkdir m; echo theirs > m/f; ln -s m/f out", "", "",
			"m drwxr-xr-x,m/f -rw-r----- ours,out Lrwxrwxrwx"},
		"a link to nothing": {"ln -s m/f out", "it is a link, and its target does not exist",
			"create the target, or remove the link",
			"out Lrwxrwxrwx"},
		"a folder":  {"mkdir out", "it is a folder", "name a file in the folder", "out drwxr-xr-x"},
		"a pipe":    {"mkfifo out", "", "", "out prw-r--r--"},
		"no folder": {"rmdir ../root", "there is no folder ", "create the folder first", ""},
		"in a file": {"cd ..; rmdir root; : > root", "not a directory", "", " -rw-r--r-- "},
	} {
		t.Run(name, func(t *testing.T) {
			root := filepath.Join(t.TempDir(), "root")
			must.Do(t, os.Mkdir(root, 0o755))
			made := exec.Command("sh", "-c", "umask 022; "+c.make)
			made.Dir = root
			must.Do(t, made.Run())
			read := make(chan string, 1)
			if name == "a pipe" {
				go func() {
					data, err := os.ReadFile(root + "/out")
					read <- fmt.Sprint(string(data), err)
				}()
			}
			err := disk.Save(root+"/out", []byte("ours"), 0o640)
			told, _ := finding.From(err)
			if (err == nil) != (c.told == "") || err != nil && !strings.Contains(err.Error(), c.told) ||
				!strings.HasPrefix(told.WayOut, c.way) {
				t.Errorf("%v", err)
			}
			if name == "a pipe" {
				if got := <-read; got != "ours<nil>" {
					t.Error(got)
				}
			}
			if name == "no folder" {
				return
			}
			if got := there(t, root); got != c.there {
				t.Errorf("there is %s", got)
			}
		})
	}
}
