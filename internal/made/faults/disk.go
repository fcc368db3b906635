// Package faults makes one call fail, of a file system or of what a family writes with: what a
// test sees then is what a full or failing disk does to the program.
package faults

import (
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"stockade/core/disk"
)

// Disk is a file system of which one call fails, and which tells what was called.
type Disk struct {
	disk.System
	// Root is left out of what is told.
	Root string
	// Fails is which call fails, from one; zero is none.
	Fails int
	// With is what it fails with.
	With error
	// Only counts and tells those alone whose line begins so, where it is given.
	Only []string
	// At says which calls fail, in place of Fails, where it is given.
	At *Places

	mu    sync.Mutex
	calls []string
}

// Calls gives what was called, a line each: the call and the path below Root.
func (d *Disk) Calls() []string {
	d.mu.Lock()
	defer d.mu.Unlock()
	return append([]string(nil), d.calls...)
}

// call notes a call, and fails it if it is the one.
func (d *Disk) call(what string, paths ...string) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	line := what
	for _, p := range paths {
		if below, err := filepath.Rel(d.Root, p); err == nil {
			p = below
		}
		line += " " + p
	}
	if len(d.Only) > 0 {
		counts := false
		for _, only := range d.Only {
			counts = counts || strings.HasPrefix(line, only)
		}
		if !counts {
			return nil
		}
	}
	if d.At != nil {
		if err := d.At.Call(what); err != nil {
			return &fs.PathError{Op: what, Path: fmt.Sprint(paths), Err: err}
		}
		return nil
	}
	d.calls = append(d.calls, line)
	if len(d.calls) == d.Fails {
		return &fs.PathError{Op: what, Path: fmt.Sprint(paths), Err: d.With}
	}
	return nil
}

// OpenFile implements disk.System.
func (d *Disk) OpenFile(name string, flag int, perm fs.FileMode) (disk.File, error) {
	if err := d.call("open", name); err != nil {
		return nil, err
	}
	// Root may write to what is read-only; who runs the service may not.
	if flag&(os.O_WRONLY|os.O_RDWR) != 0 {
		if info, err := d.System.Lstat(name); err == nil && info.Mode()&0o200 == 0 {
			return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrPermission}
		}
	}
	f, err := d.System.OpenFile(name, flag, perm)
	if err != nil {
		return nil, err
	}
	return &openFile{f, d}, nil
}

// Lstat implements disk.System.
func (d *Disk) Lstat(name string) (fs.FileInfo, error) {
	if err := d.call("look", name); err != nil {
		return nil, err
	}
	return d.System.Lstat(name)
}

// ReadDir implements disk.System.
func (d *Disk) ReadDir(name string) ([]fs.DirEntry, error) {
	if err := d.call("list", name); err != nil {
		return nil, err
	}
	return d.System.ReadDir(name)
}

// Mkdir implements disk.System.
func (d *Disk) Mkdir(name string, perm fs.FileMode) error {
	if err := d.call("mkdir", name); err != nil {
		return err
	}
	return d.System.Mkdir(name, perm)
}

// MkdirAll implements disk.System.
func (d *Disk) MkdirAll(name string, perm fs.FileMode) error {
	if err := d.call("mkdir", name); err != nil {
		return err
	}
	return d.System.MkdirAll(name, perm)
}

// Chmod implements disk.System.
func (d *Disk) Chmod(name string, mode fs.FileMode) error {
	if err := d.call("chmod", name); err != nil {
		return err
	}
	return d.System.Chmod(name, mode)
}

// Rename implements disk.System.
func (d *Disk) Rename(from, to string) error {
	if err := d.call("rename", from, to); err != nil {
		return err
	}
	return d.System.Rename(from, to)
}

// Remove implements disk.System.
func (d *Disk) Remove(name string) error {
	if err := d.call("remove", name); err != nil {
		return err
	}
	return d.System.Remove(name)
}

// RemoveAll implements disk.System.
func (d *Disk) RemoveAll(name string) error {
	if err := d.call("remove", name); err != nil {
		return err
	}
	return d.System.RemoveAll(name)
}

// openFile is one on such a disk.
type openFile struct {
	disk.File
	on *Disk
}

func (f *openFile) Read(p []byte) (int, error) {
	if err := f.on.call("read", f.Name()); err != nil {
		return 0, err
	}
	return f.File.Read(p)
}

func (f *openFile) Write(p []byte) (int, error) {
	if err := f.on.call("write", f.Name()); err != nil {
		return 0, err
	}
	return f.File.Write(p)
}

func (f *openFile) Seek(offset int64, whence int) (int64, error) {
	if err := f.on.call("seek", f.Name()); err != nil {
		return 0, err
	}
	return f.File.Seek(offset, whence)
}

func (f *openFile) Chmod(mode fs.FileMode) error {
	if err := f.on.call("chmod", f.Name()); err != nil {
		return err
	}
	return f.File.Chmod(mode)
}

func (f *openFile) Truncate(size int64) error {
	if err := f.on.call("truncate", f.Name()); err != nil {
		return err
	}
	return f.File.Truncate(size)
}

func (f *openFile) Sync() error {
	if err := f.on.call("sync", f.Name()); err != nil {
		return err
	}
	return nil // a test's disk need not last
}

func (f *openFile) Stat() (fs.FileInfo, error) {
	if err := f.on.call("stat", f.Name()); err != nil {
		return nil, err
	}
	return f.File.Stat()
}
