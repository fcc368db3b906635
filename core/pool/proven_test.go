package pool

import (
	"errors"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/must"
)

func TestAFileThatWasChangedOnDiskIsNotOpened(t *testing.T) {
	root := t.TempDir()
	d, err := Open(filepath.Join(root, "pool"), filepath.Join(root, "tmp"))
	must.Do(t, err)
	p := NewProven(d)
	for name, change := range map[string]func(path string, was os.FileInfo){
		"before it is opened": func(path string, _ os.FileInfo) {
			must.Do(t, os.WriteFile(path, []byte("tide 2.4.2 of somebody else"), 0o644))
		},
		"after it was opened, with its time put back": func(path string, was os.FileInfo) {
			must.Do(t, os.WriteFile(path, []byte("tide 2.4.2 of somebody else"), 0o644))
			must.Do(t, os.Chtimes(path, was.ModTime(), was.ModTime()))
		},
		"by a pipe under its name": func(path string, _ os.FileInfo) {
			must.Do(t, os.Remove(path))
			must.Do(t, syscall.Mkfifo(path, 0o644))
		},
		"by another file under its name": func(path string, was os.FileInfo) {
			must.Do(t, os.WriteFile(path+".new", []byte("tide 2.4.2 of somebody else"), 0o644))
			must.Do(t, os.Chtimes(path+".new", was.ModTime(), was.ModTime()))
			must.Do(t, os.Rename(path+".new", path))
		},
	} {
		text := "tide 2.4.2 as it was sealed" // of the same length
		sum, err := d.Add([]byte(text))
		must.Do(t, err)
		must.Do(t, d.Flush())
		path := d.Path(sum)
		st, err := os.Stat(path)
		must.Do(t, err)
		must.Do(t, os.Chmod(path, 0o644))
		if name != "before it is opened" {
			for range 3 {
				f, err := p.Open(sum)
				must.Do(t, err)
				must.Do(t, f.Close())
			}
		}
		time.Sleep(20 * time.Millisecond) // an entry's time has the clock's grain
		change(path, st)
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() {
				f, err := p.Open(sum)
				if f, _ := finding.From(err); err == nil || f.Code != "edition.damaged" &&
					!errors.Is(err, ErrMissing) {
					t.Errorf("%s: %v", name, err)
				}
				if err == nil {
					f.Close()
				}
			})
		}
		all.Wait()
		if files, _, err := d.Aside(); err != nil || files != 1 {
			t.Errorf("%s: %d files were set aside, %v", name, files, err)
		}
		if _, ok := d.Has(sum); ok {
			t.Errorf("%s: the changed file is in the pool", name)
		}
		_, _, err = d.DropAside()
		must.Do(t, err)
	}
}

func TestAFileIsReadWholeOnce(t *testing.T) {
	root := t.TempDir()
	d, err := Open(filepath.Join(root, "pool"), filepath.Join(root, "tmp"))
	must.Do(t, err)
	sum, err := d.Add([]byte("tide"))
	must.Do(t, err)
	must.Do(t, d.Flush())
	p := NewProven(d)
	for range 2 {
		f, err := p.Open(sum)
		must.Do(t, err)
		if known := p.known(sum, f); !known || len(p.turns) != 0 {
			t.Errorf("it is known: %v; %d are being read", known, len(p.turns))
		}
		must.Do(t, f.Close())
	}
	if _, err := p.Open(sum[:63] + "0"); !errors.Is(err, ErrMissing) {
		t.Errorf("a file that is not there: %v", err)
	}
}
