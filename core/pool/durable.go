package pool

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"

	"golang.org/x/sync/errgroup"

	"stockade/core/disk"
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
	if err := d.on.Rename(w.f.Name(), d.readyPath(sum)); err != nil {
		return fail(err)
	}
	d.on.Remove(w.f.Name() + fromSuffix)
	d.on.Remove(d.asidePath(sum)) // the right bytes are here again
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
		g.Go(func() error { return d.syncReady(sum) })
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
	if _, err := d.on.Stat(folder); errors.Is(err, fs.ErrNotExist) {
		if err := d.on.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		d.touch(d.root)
	}
	if err := d.on.Rename(d.readyPath(sum), to); err != nil && !errors.Is(err, fs.ErrNotExist) {
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
		if err := disk.Sync(d.on, dir); err != nil {
			failed = errors.Join(failed, err)
			d.touch(dir) // it is not durable yet: the next Flush must not say so
		}
	}
	return finding.Doing(failed, "make the pool durable")
}

// recover takes over what was ready when the last process ended: bytes that are still
// what their name says. Those that the disk lost are fetched again. What it gave a place may not
// be durable there: the first Flush makes every folder of the pool so.
func (d *Dir) recover() error {
	entries, err := d.on.ReadDir(d.root)
	if err != nil {
		return err
	}
	d.touch(d.root)
	for _, e := range entries {
		if e.IsDir() && len(e.Name()) == 2 {
			d.touch(filepath.Join(d.root, e.Name()))
		}
	}
	entries, err = d.on.ReadDir(d.readyFolder())
	if err != nil {
		return err
	}
	for _, e := range entries {
		size, sum, err := d.measure(d.readyPath(e.Name()))
		if err != nil {
			return err
		}
		if sum != e.Name() {
			if err := d.on.Remove(d.readyPath(e.Name())); err != nil {
				return err
			}
			continue
		}
		d.ready[sum] = size
	}
	return d.settle()
}

// measure reads a file whole.
func (d *Dir) measure(path string) (int64, string, error) {
	f, err := disk.Open(d.on, path)
	if err != nil {
		return 0, "", err
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	return n, hex.EncodeToString(h.Sum(nil)), err
}

// syncReady makes the bytes of a file durable. One that was removed meanwhile has none.
func (d *Dir) syncReady(sum string) error {
	err := disk.Sync(d.on, d.readyPath(sum))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	return err
}
