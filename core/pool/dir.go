package pool

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"stockade/core/archive/text"
	"stockade/core/disk"
	"stockade/core/finding"
)

// Dir is a Store in a folder:
//
//	ab/cdef…               files by SHA-256, read-only
//	ready/SHA256           admitted, and not yet durable
//	aside/SHA256           found to be something else than their name says
//	sha512/…, meaning-…/…  the SHA-256 of files that are known by another name
type Dir struct {
	on        disk.System
	root, tmp string
	mu        sync.Mutex
	busy      map[string]*turn // one ingest a file
	settling  sync.Mutex       // one batch is made durable at a time
	ready     map[string]int64 // sizes of what lies in ready
	touched   map[string]bool  // folders with new entries
}

var _ Store = (*Dir)(nil)

// Open opens the pool at root, with unfinished files under tmp, on the same file
// system. What was admitted and not durable when the last process ended is read again:
// what is right stays.
func Open(root, tmp string) (*Dir, error) { return OpenOn(disk.OS, root, tmp) }

// OpenOn is Open on a file system that is handed in.
func OpenOn(on disk.System, root, tmp string) (*Dir, error) {
	d := &Dir{
		on:      on,
		root:    root,
		tmp:     tmp,
		busy:    map[string]*turn{},
		ready:   map[string]int64{},
		touched: map[string]bool{},
	}
	for _, dir := range []string{root, tmp, d.readyFolder()} {
		if err := on.MkdirAll(dir, 0o700); err != nil {
			return nil, finding.Doing(err, "open the pool")
		}
	}
	return d, finding.Doing(d.recover(), "open the pool")
}

func wellNamed(sum string) bool { return text.IsHex(sum, text.SHA256) }

// Path is where a durable file lies, whether or not it is there. sha256 must be 64
// hexadecimal digits; anything else gives a path that cannot exist.
func (d *Dir) Path(sha256 string) string {
	if !wellNamed(sha256) {
		return filepath.Join(d.root, "none", "none")
	}
	return filepath.Join(d.root, sha256[:2], sha256[2:])
}

func (d *Dir) readyFolder() string         { return filepath.Join(d.root, "ready") }
func (d *Dir) readyPath(sum string) string { return filepath.Join(d.readyFolder(), sum) }
func (d *Dir) asidePath(sum string) string { return filepath.Join(d.root, "aside", sum) }
func (d *Dir) foreign(name string) string  { return filepath.Join(d.root, filepath.FromSlash(name)) }
func (d *Dir) unfinished(want Want) string { return filepath.Join(d.tmp, "part-"+want.key()) }
func foreignFolder(name string) bool {
	return name == string(SHA512) || strings.HasPrefix(name, "meaning-")
}
func (d *Dir) places(sum string) [3]string {
	// A file moves from ready to its place while somebody looks for it.
	return [3]string{d.Path(sum), d.readyPath(sum), d.Path(sum)}
}

// Has implements Store.
func (d *Dir) Has(sha256 string) (int64, bool) {
	if !wellNamed(sha256) {
		return 0, false
	}
	for _, path := range d.places(sha256) {
		if st, err := d.on.Lstat(path); err == nil && st.Mode().IsRegular() {
			return st.Size(), true
		}
	}
	return 0, false
}

// file is a Blob on disk. That it is an *os.File lets the kernel send it.
type file struct {
	*os.File
	size int64
}

func (f file) Size() int64 { return f.size }

// blob is a Blob on any other disk.
type blob struct {
	disk.File
	size int64
}

func (b blob) Size() int64 { return b.size }

// Open implements Store.
func (d *Dir) Open(sha256 string) (Blob, error) {
	if !wellNamed(sha256) {
		return nil, ErrMissing
	}
	for _, path := range d.places(sha256) {
		f, err := disk.Open(d.on, path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, finding.Doing(err, "open the file %s of the pool", sha256)
		}
		st, err := f.Stat()
		if err != nil {
			f.Close()
			return nil, finding.Doing(err, "open the file %s of the pool", sha256)
		}
		if f, ok := f.(*os.File); ok {
			return file{f, st.Size()}, nil
		}
		return blob{f, st.Size()}, nil
	}
	return nil, ErrMissing
}

// Find implements Store. A file that came in by another name than its SHA-256 is found
// by that; it is read whole, so that no name leads to other bytes.
func (d *Dir) Find(want Want) (string, bool) {
	if want.check() != nil {
		return "", false
	}
	for _, name := range want.names() {
		sum, byName := strings.CutPrefix(name, string(SHA256)+"/")
		if !byName {
			text, err := disk.ReadFile(d.on, d.foreign(name))
			if err != nil {
				continue
			}
			sum = string(text)
		}
		size, ok := d.Has(sum)
		if !ok || want.Size >= 0 && size != want.Size {
			return "", false
		}
		if !byName && !d.is(sum, want) {
			return "", false
		}
		return sum, true
	}
	return "", false
}

// is tells whether a file is what a want asks for, by reading it.
func (d *Dir) is(sum string, want Want) bool {
	f, err := d.Open(sum)
	if err != nil {
		return false
	}
	defer f.Close()
	h := running(want.hashes())
	n, err := io.Copy(h.writer(), f)
	return err == nil && want.judge(n, h) == nil && want.believe(f) == nil
}

// remember notes under which further names a file is known. It only saves fetching it
// again: where that fails, nothing is lost.
func (d *Dir) remember(want Want, sum string) {
	for _, name := range want.names() {
		if strings.HasPrefix(name, string(SHA256)+"/") {
			return // it needs no other name
		}
		to := d.foreign(name)
		if d.on.MkdirAll(filepath.Dir(to), 0o755) == nil {
			disk.Replace(d.on, to, []byte(sum), 0o444)
		}
	}
}

// SetAside implements Store.
func (d *Dir) SetAside(sum string) error {
	if err := d.on.MkdirAll(filepath.Dir(d.asidePath(sum)), 0o700); err != nil {
		return finding.Doing(err, "set the file %s aside", sum)
	}
	for _, path := range d.places(sum) {
		err := d.on.Rename(path, d.asidePath(sum))
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		d.forget(sum)
		return finding.Doing(err, "set the file %s aside", sum)
	}
	return fmt.Errorf("set the file %s aside: %w", sum, ErrMissing)
}

// Aside implements Store.
func (d *Dir) Aside() (files int, bytes int64, err error) {
	return d.eachAside(func(string) error { return nil })
}

// DropAside implements Store.
func (d *Dir) DropAside() (files int, bytes int64, err error) {
	return d.eachAside(func(name string) error { return d.on.Remove(d.asidePath(name)) })
}

// eachAside calls f for every file that was set aside, and counts those for
// which it did not fail.
func (d *Dir) eachAside(f func(name string) error) (files int, bytes int64, err error) {
	entries, err := d.on.ReadDir(filepath.Join(d.root, "aside"))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, 0, nil
	}
	for _, e := range entries {
		info, ferr := e.Info() // which nobody has of what is gone
		if ferr == nil {
			ferr = f(e.Name())
		}
		if ferr != nil {
			err = errors.Join(err, ferr)
			continue
		}
		files++
		bytes += info.Size()
	}
	return files, bytes, finding.Doing(err, "look after what is set aside")
}

// Add implements Store.
func (d *Dir) Add(data []byte) (string, error) {
	raw := sha256.Sum256(data)
	sum := hex.EncodeToString(raw[:])
	want := Want{Name: "a file of our own", Size: int64(len(data)), Authority: ByDigest(sum, "")}
	return d.Ingest(want, func(w Sink) error {
		if err := w.Restart(); err != nil {
			return err
		}
		_, err := w.Write(data)
		return err
	}, nil)
}

// Each implements Store. What is ready and what is durable is told of once.
func (d *Dir) Each(f func(string, int64) error) error {
	folders, err := d.on.ReadDir(d.root)
	if err != nil {
		return finding.Doing(err, "list the pool")
	}
	for _, folder := range folders {
		name := folder.Name()
		if !folder.IsDir() || name != "ready" && !text.IsHex(name, 2) {
			continue
		}
		if err := d.eachIn(name, f); err != nil {
			return err
		}
	}
	return nil
}

func (d *Dir) eachIn(folder string, f func(string, int64) error) error {
	entries, err := d.on.ReadDir(filepath.Join(d.root, folder))
	if err != nil {
		return finding.Doing(err, "list the pool")
	}
	for _, e := range entries {
		sum := e.Name()
		if folder != "ready" {
			sum = folder + sum
		}
		if !wellNamed(sum) || !e.Type().IsRegular() {
			continue
		}
		st, err := e.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // it was removed, or made durable, meanwhile
		}
		if err != nil {
			return finding.Doing(err, "list the pool")
		}
		if err := f(sum, st.Size()); err != nil {
			return err
		}
	}
	return nil
}

// Remove implements Store.
func (d *Dir) Remove(sum string) error {
	removed := error(ErrMissing)
	for _, path := range d.places(sum) {
		err := d.on.Remove(path)
		switch {
		case err == nil:
			removed = nil
		case !errors.Is(err, fs.ErrNotExist):
			return finding.Doing(err, "remove the file %s from the pool", sum)
		}
	}
	d.forget(sum)
	return removed
}

// Tidy implements Store.
func (d *Dir) Tidy() error {
	parts, err := d.on.ReadDir(d.tmp)
	for _, p := range parts {
		if strings.HasPrefix(p.Name(), "part-") {
			err = errors.Join(err, d.on.Remove(filepath.Join(d.tmp, p.Name())))
		}
	}
	folders, rerr := d.on.ReadDir(d.root)
	err = errors.Join(err, rerr)
	for _, folder := range folders {
		if foreignFolder(folder.Name()) {
			err = errors.Join(err, d.dropForeign(folder.Name()))
		}
	}
	return finding.Doing(err, "tidy the pool")
}

// dropForeign forgets names that lead to nothing any more.
func (d *Dir) dropForeign(folder string) error {
	entries, err := d.on.ReadDir(filepath.Join(d.root, folder))
	for _, e := range entries {
		path := filepath.Join(d.root, folder, e.Name())
		text, rerr := disk.ReadFile(d.on, path)
		if _, ok := d.Has(string(text)); rerr == nil && ok {
			continue
		}
		err = errors.Join(err, d.on.Remove(path))
	}
	return err
}

// Free implements Store.
func (d *Dir) Free() (int64, error) {
	var st unix.Statfs_t
	if err := unix.Statfs(d.root, &st); err != nil {
		return 0, fmt.Errorf("ask for free space: %w", err)
	}
	return int64(st.Bavail) * int64(st.Bsize), nil
}
