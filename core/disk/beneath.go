package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"

	"stockade/core/finding"
)

// Beneath is the file system below a folder that may be somebody else's: a mounted disk, a medium, the
// root of another machine. No link and no ".." leads out of it, whoever changes it meanwhile, and what
// is opened is a regular file or a folder: a pipe has no end, and a device does things when it is read.
// Names are those of the whole file system, and lie below the folder.
type Beneath struct {
	dir  string
	root *os.Root
}

// NewBeneath opens a folder. The caller closes it.
func NewBeneath(dir string) (*Beneath, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, finding.Doing(err, "open the folder %s", dir)
	}
	root, err := os.OpenRoot(dir)
	if err != nil {
		return nil, finding.Doing(err, "open the folder %s", dir)
	}
	return &Beneath{dir, root}, nil
}

// Dir is the folder, absolute.
func (b *Beneath) Dir() string { return b.dir }

// Close closes the folder.
func (b *Beneath) Close() error { return b.root.Close() }

// name gives a name as it is below the folder.
func (b *Beneath) name(name string) (string, error) {
	rel, err := filepath.Rel(b.dir, name)
	if err != nil || !filepath.IsLocal(rel) {
		return "", finding.New(finding.ContentUnsafePath, "", "%s is not below %s", finding.Harmless(name),
			b.dir)
	}
	return rel, nil
}

// told says of a name why it was not followed.
func (b *Beneath) told(name string, err error) error {
	if err != nil && strings.Contains(err.Error(), "escapes from parent") { // os has no other way to tell
		return finding.New(finding.ContentUnsafePath, "",
			"%s is a link that leads out of %s. Stockade does not follow such links",
			finding.Harmless(name),
			b.dir).Do("find out who put it there. Remove the link, or name another folder")
	}
	return err
}

// OpenFile implements System.
func (b *Beneath) OpenFile(name string, flag int, perm fs.FileMode) (File, error) {
	rel, err := b.name(name)
	if err != nil {
		return nil, err
	}
	f, err := b.root.OpenFile(rel, flag|syscall.O_NONBLOCK, perm) // a pipe is not waited for
	if err != nil {
		return nil, b.told(name, err)
	}
	st, err := f.Stat()
	if err == nil && !st.Mode().IsRegular() && !st.IsDir() {
		err = finding.New(finding.ContentUnsafePath, "", "%s is not a regular file", finding.Harmless(name)).
			Do("find out who put it there, and remove it")
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// Stat implements System.
func (b *Beneath) Stat(name string) (fs.FileInfo, error) {
	rel, err := b.name(name)
	if err != nil {
		return nil, err
	}
	st, err := b.root.Stat(rel)
	return st, b.told(name, err)
}

// Lstat implements System.
func (b *Beneath) Lstat(name string) (fs.FileInfo, error) {
	rel, err := b.name(name)
	if err != nil {
		return nil, err
	}
	st, err := b.root.Lstat(rel)
	return st, b.told(name, err)
}

// ReadDir implements System.
func (b *Beneath) ReadDir(name string) ([]fs.DirEntry, error) {
	rel, err := b.name(name)
	if err != nil {
		return nil, err
	}
	f, err := b.root.Open(rel)
	if err != nil {
		return nil, b.told(name, err)
	}
	defer f.Close()
	entries, err := f.ReadDir(-1)
	return entries, err
}

// Mkdir implements System.
func (b *Beneath) Mkdir(name string, perm fs.FileMode) error {
	return b.one(name, func(rel string) error { return b.root.Mkdir(rel, perm) })
}

// MkdirAll implements System.
func (b *Beneath) MkdirAll(name string, perm fs.FileMode) error {
	return b.one(name, func(rel string) error { return b.root.MkdirAll(rel, perm) })
}

// Chmod implements System.
func (b *Beneath) Chmod(name string, mode fs.FileMode) error {
	return b.one(name, func(rel string) error { return b.root.Chmod(rel, mode) })
}

// Rename implements System.
func (b *Beneath) Rename(from, to string) error {
	target, err := b.name(to)
	if err != nil {
		return err
	}
	return b.one(from, func(rel string) error { return b.root.Rename(rel, target) })
}

// Remove implements System.
func (b *Beneath) Remove(name string) error { return b.one(name, b.root.Remove) }

// RemoveAll implements System.
func (b *Beneath) RemoveAll(name string) error { return b.one(name, b.root.RemoveAll) }

func (b *Beneath) one(name string, do func(rel string) error) error {
	rel, err := b.name(name)
	if err != nil {
		return err
	}
	return b.told(name, do(rel))
}

// Glob gives the names below the folder, slash-separated, that fit a pattern (see path.Match), which is
// relative to it.
func (b *Beneath) Glob(pattern string) ([]string, error) { return fs.Glob(b.root.FS(), pattern) }

// ReadMost reads a regular file that has so many bytes at most. Whatever it says of its size, no more
// is read.
func ReadMost(on System, name string, most int64) ([]byte, error) {
	f, err := Open(on, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err != nil {
		return nil, err
	}
	if int64(len(data)) > most {
		return nil, finding.New(finding.ContentTooLarge, "", "%s is larger than %d bytes, so "+
			"Stockade did not read it",
			finding.Harmless(name),
			most).Do("check what it is")
	}
	return data, nil
}
