package pool

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"golang.org/x/sync/errgroup"

	"stockade/core/finding"
)

// A file that was admitted lies in ready until its bytes are durable, and only then
// under its own name: what stands there is whole, whenever the power fails. Files are
// made durable many at a time, for which a disk needs little longer than for one.
const (
	batchFiles = 256
	batchBytes = 256 << 20
	syncsMost  = 16 // at once
)

// admit gives a file that is right its place among those that are ready.
func (d *Dir) admit(w *writer, sum string) error {
	fail := func(err error) error { return finding.Doing(err, "take %s into the pool", w.want.Name) }
	if err := w.f.Chmod(0o444); err != nil {
		return fail(err)
	}
	if err := os.Rename(w.f.Name(), d.readyPath(sum)); err != nil {
		return fail(err)
	}
	os.Remove(w.f.Name() + fromSuffix)
	os.Remove(d.asidePath(sum)) // the right bytes are here again
	d.mu.Lock()
	d.ready[sum] = w.n
	files, bytes := len(d.ready), int64(0)
	for _, size := range d.ready {
		bytes += size
	}
	d.mu.Unlock()
	if files >= batchFiles || bytes >= batchBytes {
		return d.settle()
	}
	return nil
}

// forget takes a file that was removed off the list of those that are ready.
func (d *Dir) forget(sum string) {
	d.mu.Lock()
	delete(d.ready, sum)
	d.mu.Unlock()
}

// settle makes what is ready durable, and moves it to its place. What could not be
// made durable stays ready, for the next try.
func (d *Dir) settle() error {
	d.settling.Lock()
	defer d.settling.Unlock()
	d.mu.Lock()
	batch := slices.Sorted(maps.Keys(d.ready))
	d.mu.Unlock()
	var g errgroup.Group
	g.SetLimit(syncsMost)
	for _, sum := range batch {
		g.Go(func() error { return syncFile(d.readyPath(sum)) })
	}
	if err := g.Wait(); err != nil {
		return finding.Doing(err, "make files of the pool durable")
	}
	for _, sum := range batch {
		if err := d.place(sum); err != nil {
			return finding.Doing(err, "make files of the pool durable")
		}
		d.forget(sum)
	}
	return nil
}

// place moves a durable file to its place. One that was removed meanwhile stays so.
func (d *Dir) place(sum string) error {
	to := d.Path(sum)
	folder := filepath.Dir(to)
	if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		d.touch(d.root)
	}
	if err := os.Rename(d.readyPath(sum), to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	d.touch(folder)
	d.touch(d.readyFolder())
	return nil
}

func (d *Dir) touch(dir string) {
	d.mu.Lock()
	d.touched[dir] = true
	d.mu.Unlock()
}

// Flush implements Store.
func (d *Dir) Flush() error {
	if err := d.settle(); err != nil {
		return err
	}
	d.mu.Lock()
	dirs := d.touched
	d.touched = map[string]bool{}
	d.mu.Unlock()
	var failed error
	for dir := range dirs {
		if err := SyncDir(dir); err != nil {
			failed = errors.Join(failed, err)
			d.touch(dir) // it is not durable yet: the next Flush must not say so
		}
	}
	return failed
}

// recover takes over what was ready when the last process ended: bytes that are still
// what their name says. Those that the disk lost are fetched again.
func (d *Dir) recover() error {
	entries, err := os.ReadDir(d.readyFolder())
	if err != nil {
		return err
	}
	for _, e := range entries {
		size, sum, err := measure(d.readyPath(e.Name()))
		if err != nil {
			return err
		}
		if sum != e.Name() {
			if err := os.Remove(d.readyPath(e.Name())); err != nil {
				return err
			}
			continue
		}
		d.ready[sum] = size
	}
	return d.settle()
}

// measure reads a file whole.
func measure(path string) (int64, string, error) {
	f, err := os.Open(path)
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	return n, hex.EncodeToString(h.Sum(nil)), err
}

// syncFile makes the bytes of a file durable. One that was removed meanwhile has none.
func syncFile(path string) error {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	return f.Sync()
}

// SyncDir makes the entries of a folder durable.
func SyncDir(dir string) error {
	f, err := os.Open(dir)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := f.Sync(); err != nil {
		return fmt.Errorf("sync the folder %s: %w", dir, err)
	}
	return nil
}

// WriteSynced writes a new file durably. It fails where the file is there.
func WriteSynced(path string, data []byte, mode os.FileMode) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if err == nil {
		err = f.Sync()
	}
	return errors.Join(err, f.Close())
}

// MakeFolder makes a folder and those above it that are not there yet, such that
// everybody can read them, whatever the umask is. Folders that are there stay as
// they are.
func MakeFolder(path string) error {
	if info, err := os.Stat(path); err == nil {
		if !info.IsDir() {
			return finding.Doing(&fs.PathError{Op: "mkdir", Path: path, Err: fs.ErrExist}, "make a folder")
		}
		return nil
	}
	if parent := filepath.Dir(path); parent != path {
		if err := MakeFolder(parent); err != nil {
			return err
		}
	}
	err := os.Mkdir(path, 0o755)
	if errors.Is(err, fs.ErrExist) {
		return nil // somebody else was quicker
	}
	if err == nil {
		err = os.Chmod(path, 0o755)
	}
	return finding.Doing(err, "make a folder")
}
