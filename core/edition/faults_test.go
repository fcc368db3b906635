package edition

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/internal/made/faults"
	"stockade/internal/must"
)

// eachFault runs do with one call of the disk that fails, each in turn, in a folder of its
// own, and gives what it calls as it is.
func eachFault(t *testing.T, do func(on *faults.Disk, root string) error, so func(root, call string,
	err error)) []string {
	t.Helper()
	root := t.TempDir()
	on := &faults.Disk{System: disk.OS, Root: root}
	must.Do(t, do(on, root))
	so(root, "nothing", nil)
	calls := on.Calls()
	for i, call := range calls {
		root := t.TempDir()
		err := do(&faults.Disk{System: disk.OS, Root: root, Fails: i + 1, With: syscall.ENOSPC}, root)
		if f, _ := finding.From(err); err != nil && (f.Code != finding.FaultCode ||
			!strings.Contains(f.Text, "the disk is full")) {
			t.Errorf("%s: %v", call, err)
		}
		so(root, call, err)
		if err := do(&faults.Disk{System: disk.OS, Root: root}, root); err != nil &&
			!strings.Contains(err.Error(), "already exists and is not empty") {
			t.Errorf("%s: the next try: %v", call, err)
		}
		so(root, "the next try after "+call, nil)
	}
	return calls
}

// inOrder asserts that calls come in this order.
func inOrder(t *testing.T, calls []string, order ...string) {
	t.Helper()
	at := -1
	for _, call := range order {
		i := slices.Index(calls, call)
		if i <= at {
			t.Fatalf("%q is not called behind the one before it:\n%s", call, strings.Join(calls, "\n"))
		}
		at = i
	}
}

func TestEachFaultOfTheDiskWhileSealing(t *testing.T) {
	s := seal(t)
	e := s.open().Edition
	text, err := os.ReadFile(filepath.Join(s.folder(), ManifestName))
	must.Do(t, err)
	m, err := ReadManifest(strings.NewReader(string(text)))
	must.Do(t, err)
	record, err := os.ReadFile(filepath.Join(s.folder(), recordName))
	must.Do(t, err)
	calls := eachFault(t, func(on *faults.Disk, root string) error {
		return Seal(on, root, e, m, record, site())
	}, func(root, call string, err error) {
		folder := Folder(root, e.ID())
		entries, rerr := os.ReadDir(folder)
		switch {
		case errors.Is(rerr, fs.ErrNotExist):
			if err == nil {
				t.Errorf("%s: it is said to be sealed, and is not there", call)
			}
		case len(entries) != 3:
			t.Errorf("%s: %d of 3 files appear", call, len(entries))
		default:
			got, rerr := os.ReadFile(filepath.Join(folder, ManifestName))
			if rerr != nil || string(got) != string(text) {
				t.Errorf("%s: another manifest appears, %v", call, rerr)
			}
		}
	})
	fresh := "barrage/3.new"
	inOrder(t, calls, "write "+fresh+"/"+ManifestName, "sync "+fresh+"/"+ManifestName, "sync "+fresh,
		"rename "+fresh+" barrage/3", "sync barrage", "sync .")
	for _, name := range []string{ManifestName, recordName, SealName} {
		inOrder(t, calls, "chmod "+fresh+"/"+name, "write "+fresh+"/"+name, "sync "+fresh+"/"+name,
			"sync "+fresh)
	}
}

func TestEachFaultOfTheDiskWhileExporting(t *testing.T) {
	s := seal(t)
	manifest, err := os.ReadFile(filepath.Join(s.folder(), ManifestName))
	must.Do(t, err)
	calls := eachFault(t, func(on *faults.Disk, root string) error {
		return Export(on, FromPool(s.store), manifest, []byte("seal"), filepath.Join(root, "usb", "out"), nil)
	}, func(root, call string, err error) {
		out := filepath.Join(root, "usb", "out")
		files := 0
		rerr := filepath.WalkDir(out, func(path string, e fs.DirEntry, err error) error {
			if err != nil || e.IsDir() {
				return err
			}
			files++
			name, err := filepath.Rel(out, path)
			must.Do(t, err)
			data, err := os.ReadFile(path)
			if want, ok := s.files[name]; ok && string(data) != want {
				return fmt.Errorf("%s has %q", name, data)
			}
			return err
		})
		switch {
		case errors.Is(rerr, fs.ErrNotExist) && err == nil:
			t.Errorf("%s: it is said to be exported, and is not there", call)
		case errors.Is(rerr, fs.ErrNotExist):
		case rerr != nil || files < len(s.files)+7:
			t.Errorf("%s: %d files appear, %v", call, files, rerr)
		}
		if _, perr := os.Stat(out + ".part"); err == nil && perr == nil {
			t.Errorf("%s: a part is left behind", call)
		}
	})
	part := "usb/out.part"
	inOrder(t, calls, "mkdir usb", "sync .", "write "+part+"/tarn/pool/a.deb", "sync "+part+
		"/tarn/pool/a.deb", "sync "+part+"/tarn/pool", "rename "+part+" usb/out")
	if last := calls[len(calls)-1]; last != "sync usb" {
		t.Errorf("at last: %s", last)
	}
	inOrder(t, calls, "sync "+part+"/manifest", "sync "+part, "rename "+part+" usb/out")
}
