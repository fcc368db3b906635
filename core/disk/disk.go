// Package disk is the file system that the pool, editions and machines' files are
// written to, with what they need of it done in one way: files that appear whole, and
// are there still when the power fails.
//
// System is handed in, so that a test can let each call fail once and see in which order
// things are made durable. The package trusts the kernel; it does not judge what an error
// means, which core/finding does.
package disk

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"stockade/core/finding"
)

// File is an open file or folder.
type File interface {
	io.ReadWriteSeeker
	io.ReaderAt
	io.Closer
	Name() string
	Chmod(mode fs.FileMode) error
	Truncate(size int64) error
	// Sync makes the bytes of a file durable, or the entries of a folder.
	Sync() error
	Stat() (fs.FileInfo, error)
}

// System is a file system. Its methods do what those of package os do, with the same
// errors.
type System interface {
	OpenFile(name string, flag int, perm fs.FileMode) (File, error)
	Stat(name string) (fs.FileInfo, error)
	Lstat(name string) (fs.FileInfo, error)
	ReadDir(name string) ([]fs.DirEntry, error)
	Mkdir(name string, perm fs.FileMode) error
	MkdirAll(name string, perm fs.FileMode) error
	Chmod(name string, mode fs.FileMode) error
	Rename(from, to string) error
	Remove(name string) error
	RemoveAll(name string) error
}

// OS is the file system of this machine.
var OS System = local{}

type local struct{}

func (local) OpenFile(name string, flag int, perm fs.FileMode) (File, error) {
	f, err := os.OpenFile(name, flag, perm)
	if err != nil {
		return nil, err // a *os.File that is nil would be a File that is not
	}
	return f, nil
}

func (local) Stat(name string) (fs.FileInfo, error)      { return os.Stat(name) }
func (local) Lstat(name string) (fs.FileInfo, error)     { return os.Lstat(name) }
func (local) ReadDir(name string) ([]fs.DirEntry, error) { return os.ReadDir(name) }
func (local) Mkdir(name string, perm fs.FileMode) error  { return os.Mkdir(name, perm) }
func (local) MkdirAll(name string, perm fs.FileMode) error {
	return os.MkdirAll(name, perm)
}
func (local) Chmod(name string, mode fs.FileMode) error { return os.Chmod(name, mode) }
func (local) Rename(from, to string) error              { return os.Rename(from, to) }
func (local) Remove(name string) error                  { return os.Remove(name) }
func (local) RemoveAll(name string) error               { return os.RemoveAll(name) }

// Open opens a file or folder for reading. A pipe that somebody put in its place is not waited for.
func Open(on System, name string) (File, error) {
	return on.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
}

// ReadFile reads a file whole.
func ReadFile(on System, name string) ([]byte, error) {
	f, err := Open(on, name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return io.ReadAll(f)
}

// Sync makes the bytes of a file durable, or the entries of a folder.
func Sync(on System, name string) error {
	f, err := Open(on, name)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close()); err != nil {
		return fmt.Errorf("make %s durable: %w", name, err)
	}
	return nil
}

// WriteNew writes a new file durably, with exactly that mode. It fails where the file is
// there; where it fails otherwise, no file is left. Its entry is durable when its folder is.
func WriteNew(on System, name string, data []byte, mode fs.FileMode) error {
	f, err := on.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	if err = f.Chmod(mode); err == nil { // whatever the umask is
		_, err = f.Write(data)
	}
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		on.Remove(name)
	}
	return err
}

// Replace writes a file durably, such that its name leads to the whole of the old bytes
// or the whole of the new, with exactly that mode. Where it fails nothing else is left. Two
// callers must not write the same file at once.
func Replace(on System, name string, data []byte, mode fs.FileMode) error {
	part := name + ".stockade-new"
	// What an earlier try left may be such that it cannot be written to.
	if err := on.Remove(part); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := WriteNew(on, part, data, mode); err != nil {
		return err
	}
	if err := on.Rename(part, name); err != nil {
		on.Remove(part)
		return err
	}
	return Sync(on, filepath.Dir(name))
}

// Save writes what somebody wants in a file of that name, on the file system of this machine. A
// link stays, and the file that it leads to is written; a regular file is replaced as Replace
// does; to a device or a pipe the bytes are written as they are. What keeps it from that is
// told as a fault of the machine, with what to do.
func Save(name string, data []byte, mode fs.FileMode) error {
	cannot := func(why, do string) error {
		return finding.New(finding.FaultCode, "", "write to %s: %s", name, why).Do("%s", do)
	}
	info, err := os.Stat(name)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		folder := filepath.Dir(name)
		if _, err := os.Lstat(name); err == nil {
			return cannot("it is a link, and its target does not exist", "create the target, or remove "+
				"the link")
		}
		if _, err := os.Stat(folder); errors.Is(err, fs.ErrNotExist) {
			return cannot("there is no folder "+folder, "create the folder first")
		}
		err = Replace(OS, name, data, mode)
	case err == nil && info.IsDir():
		return cannot("it is a folder", "name a file in the folder")
	case err == nil && info.Mode().IsRegular():
		var real string
		if real, err = filepath.EvalSymlinks(name); err == nil {
			err = Replace(OS, real, data, mode)
		}
	case err == nil:
		var f *os.File
		if f, err = os.OpenFile(name, os.O_WRONLY, 0); err == nil {
			_, err = f.Write(data)
			err = errors.Join(err, f.Close())
		}
	}
	return finding.Doing(err, "write to %s", name)
}

// MakeFolder makes a folder and those above it that are not there yet, such that
// everybody can read them, whatever the umask is. Folders that are there stay as
// they are. It gives the folders that have a new entry, also where it fails: they are
// durable when they are synced.
func MakeFolder(on System, path string) (grown []string, err error) {
	if info, err := on.Stat(path); err == nil {
		if !info.IsDir() {
			err = finding.Doing(&fs.PathError{Op: "mkdir", Path: path, Err: fs.ErrExist}, "make a folder")
		}
		return nil, err
	}
	parent := filepath.Dir(path)
	if parent != path {
		if grown, err = MakeFolder(on, parent); err != nil {
			return grown, err
		}
	}
	grown = append(grown, parent)
	err = on.Mkdir(path, 0o755)
	if errors.Is(err, fs.ErrExist) {
		return grown, nil // somebody else was quicker, and has not synced it yet
	}
	if err == nil {
		if err = on.Chmod(path, 0o755); err != nil {
			on.Remove(path) // the next try would take it as it is
		}
	}
	return grown, finding.Doing(err, "make a folder")
}
