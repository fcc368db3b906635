package pool

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"stockade/core/finding"
)

// Lay keeps a file at a path beside the pool, so that it is there when the pool is lost: as a second name
// of the same bytes where the file system can do that, or as a copy. A file that is at the path already
// stays. Both names lead to one file, so bytes that change on the disk change under both: whoever takes the
// file from there compares its digest. ErrMissing: the pool has none.
func (d *Dir) Lay(sha256, to string) error {
	if !wellNamed(sha256) {
		return ErrMissing
	}
	for _, from := range d.places(sha256) {
		err := os.Link(from, to)
		switch {
		case err == nil || errors.Is(err, fs.ErrExist):
			return nil
		case errors.Is(err, fs.ErrNotExist):
			continue
		}
		return d.copyTo(sha256, to)
	}
	if _, err := os.Stat(filepath.Dir(to)); err != nil {
		return finding.Doing(err, "keep a file beside the pool")
	}
	return ErrMissing
}

func (d *Dir) copyTo(sha256, to string) error {
	from, err := d.Open(sha256)
	if err != nil {
		return err
	}
	defer from.Close()
	f, err := os.CreateTemp(filepath.Dir(to), "part-*")
	if err != nil {
		return finding.Doing(err, "keep a file beside the pool")
	}
	defer os.Remove(f.Name())
	_, err = io.Copy(f, from)
	err = errors.Join(err, f.Sync(), f.Close())
	if err == nil {
		err = os.Rename(f.Name(), to)
	}
	return finding.Doing(err, "keep a file beside the pool")
}
