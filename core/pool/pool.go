// Package pool is the content-addressed store: every file by its SHA-256,
// written once, never changed in place.
//
// Only verified bytes enter: a file is hashed while it is written and renamed
// into the pool only when size and digest are what a signed index said, and
// after the check that the caller gives has passed.
package pool

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"golang.org/x/sys/unix"

	"stockade/core/finding"
)

// Want is what a file must be. SHA256 or SHA512 is given, in lower-case
// hexadecimal; Size in bytes, or -1 where no index tells it.
type Want struct {
	Name           string // for messages
	Size           int64
	SHA256, SHA512 string
}

// check refuses a want that nothing stands behind.
func (w Want) check() error {
	plain := func(s string, digits int) bool {
		return s == "" || len(s) == digits && strings.Trim(s, "0123456789abcdef") == ""
	}
	if w.SHA256 == "" && w.SHA512 == "" || !plain(w.SHA256, 64) || !plain(w.SHA512, 128) || w.Size < -1 {
		return finding.New("content.weak-digest", "", "%s has no digest that it could be known by", w.Name)
	}
	return nil
}

// Store is where verified files lie. Dir is the one on a local disk.
type Store interface {
	// Has tells whether the file is there, with its size in bytes.
	Has(sha256 string) (size int64, ok bool)
	// Find gives the name, by SHA-256, of a file that is what a want asks for, also
	// where the want knows it by another digest.
	Find(want Want) (sha256 string, ok bool)
	// Open opens a file for reading.
	Open(sha256 string) (*os.File, error)
	// Ingest takes a file in: get fills the sink, check looks at the whole
	// file before it is admitted.
	Ingest(want Want, get func(Sink) error, check func(f *os.File) error) (sha256 string, err error)
	// Add takes bytes in that are right by construction.
	Add(data []byte) (sha256 string, err error)
	// Flush makes everything that was taken in durable.
	Flush() error
	// Each calls f for every file.
	Each(f func(sha256 string, size int64) error) error
	// Remove takes a file out; the sweep does, and nobody else.
	Remove(sha256 string) error
	// Aside tells how much is set aside.
	Aside() (files int, bytes int64, err error)
	// SetAside takes a file that is not what its name says out of use without
	// deleting it. It goes when the right bytes came in, or with DropAside.
	SetAside(sha256 string) error
	// Free gives the bytes that can still be stored.
	Free() (int64, error)
}

// Sink receives a file that is being taken in.
type Sink interface {
	io.Writer
	Offset() int64  // how much is there already, perhaps from an earlier try
	Restart() error // forget what is there
	// Origin is what Begin was told when the bytes that are there began: part of
	// a file goes on only from where it came from.
	Origin() string
	Begin(origin string) error // forget what is there; what follows is from there
	Verify() error             // nil when size and digest are right; else a finding
}

// Dir is a Store in a folder.
type Dir struct {
	root, tmp string
	mu        sync.Mutex
	touched   map[string]bool    // folders with new entries
	busy      map[string]*ingest // one ingest a file
}

var _ Store = (*Dir)(nil)

// Open opens the pool at root, with unfinished files under tmp, on the same
// file system.
func Open(root, tmp string) (*Dir, error) {
	for _, d := range []string{root, tmp} {
		if err := os.MkdirAll(d, 0o700); err != nil {
			return nil, finding.Doing(err, "open the pool")
		}
	}
	return &Dir{root: root, tmp: tmp, touched: map[string]bool{}, busy: map[string]*ingest{}}, nil
}

// Path is where a file lies, whether or not it is there. sha256 must be 64
// hexadecimal digits; anything else gives a path that cannot exist.
func (d *Dir) Path(sha256 string) string {
	if len(sha256) != 64 || strings.Trim(sha256, "0123456789abcdef") != "" {
		return filepath.Join(d.root, "none", "none")
	}
	return filepath.Join(d.root, sha256[:2], sha256[2:])
}

// Has implements Store.
func (d *Dir) Has(sha256 string) (int64, bool) {
	st, err := os.Lstat(d.Path(sha256))
	if err != nil || !st.Mode().IsRegular() {
		return 0, false
	}
	return st.Size(), true
}

// Find implements Store. A file that came in under its SHA-512 alone is found by
// that; it is read whole, so that no name leads to other bytes.
func (d *Dir) Find(want Want) (string, bool) {
	if want.check() != nil {
		return "", false
	}
	sum := want.SHA256
	if sum == "" {
		text, err := os.ReadFile(d.foreign(want.SHA512))
		if err != nil {
			return "", false
		}
		sum = string(text)
	}
	size, ok := d.Has(sum)
	if !ok || want.Size >= 0 && size != want.Size {
		return "", false
	}
	if want.SHA256 == "" && !d.is(sum, want.SHA512) {
		return "", false
	}
	return sum, true
}

// foreign is where the SHA-256 of a file stands that is known by its SHA-512.
func (d *Dir) foreign(sha512 string) string { return filepath.Join(d.root, "sha512", sha512) }

// is tells whether a file has a SHA-512.
func (d *Dir) is(sum, want string) bool {
	f, err := d.Open(sum)
	if err != nil {
		return false
	}
	defer f.Close()
	h := sha512.New()
	_, err = io.Copy(h, f)
	return err == nil && hex.EncodeToString(h.Sum(nil)) == want
}

// remember notes the SHA-256 of a file that is known by its SHA-512. It only
// saves fetching it again: where that fails, nothing is lost.
func (d *Dir) remember(sha512, sum string) {
	to := d.foreign(sha512)
	if os.MkdirAll(filepath.Dir(to), 0o755) != nil {
		return
	}
	if os.WriteFile(to+".new", []byte(sum), 0o444) == nil {
		os.Rename(to+".new", to)
	}
}

// Open implements Store.
func (d *Dir) Open(sha256 string) (*os.File, error) { return os.Open(d.Path(sha256)) }

// Ingest implements Store. What was fetched of a file before a failure is kept
// and gone on from the next time.
func (d *Dir) Ingest(want Want, get func(Sink) error, check func(*os.File) error) (string, error) {
	if err := want.check(); err != nil {
		return "", err
	}
	name := want.SHA256
	if name == "" {
		name = want.SHA512
	}
	unlock := d.lock(name)
	defer unlock()
	if sum, ok := d.Find(want); ok {
		// Another transfer was quicker; this one's check has still to be passed.
		if check == nil {
			return sum, nil
		}
		f, err := d.Open(sum)
		if err != nil {
			return "", err
		}
		defer f.Close()
		return sum, check(f)
	}
	part := filepath.Join(d.tmp, "part-"+name)
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return "", finding.Doing(err, "take in %s", want.Name)
	}
	defer f.Close()
	w := &writer{f: f, h256: sha256.New(), h512: sha512.New(), want: want}
	if from, err := os.ReadFile(part + fromSuffix); err == nil {
		w.origin = string(from)
	}
	if want.SHA512 == "" {
		w.h512 = nil
	}
	if w.n, err = io.Copy(w.hashes(), f); err != nil {
		return "", finding.Doing(err, "take in %s", want.Name)
	}
	if want.Size >= 0 && w.n >= want.Size && want.Size > 0 {
		if err := w.Restart(); err != nil { // a whole but unfinished file was wrong or never checked
			return "", err
		}
	}
	drop := func() {
		os.Remove(part)
		os.Remove(part + fromSuffix)
	}
	if err := get(w); err != nil {
		if f, judged := finding.From(err); judged && f.Code != finding.FaultCode {
			drop()
		}
		return "", err
	}
	if err := w.Verify(); err != nil {
		drop()
		return "", err
	}
	sum := w.sum()
	if check != nil {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return "", err
		}
		if err := check(f); err != nil {
			if g, ok := finding.From(err); !ok || g.Code != finding.FaultCode {
				drop()
			}
			return "", err
		}
	}
	if err := d.admit(f, part, sum); err != nil {
		return "", err
	}
	if want.SHA256 == "" {
		d.remember(want.SHA512, sum)
	}
	return sum, nil
}

func mismatch(want Want, n int64, sum, sum512 string) *finding.Finding {
	var f finding.Finding
	switch {
	case want.Size >= 0 && n != want.Size:
		f = finding.New("content.size-mismatch", "", "%s has %d bytes, and its index says %d", want.Name, n,
			want.Size)
	case want.SHA256 != "" && sum != want.SHA256:
		f = finding.New("content.digest-mismatch", "", "%s has the SHA-256 %s, and its index says %s",
			want.Name, sum, want.SHA256)
	case want.SHA512 != "" && sum512 != want.SHA512:
		f = finding.New("content.digest-mismatch", "", "%s has the SHA-512 %s…, and its index says %s…",
			want.Name, sum512[:32], want.SHA512[:32])
	default:
		return nil
	}
	return &f
}

// admit syncs, renames and remembers the folder for Flush.
func (d *Dir) admit(f *os.File, part, sum string) error {
	fail := func(err error) error { return finding.Doing(err, "take a file into the pool") }
	if err := f.Chmod(0o444); err != nil {
		return fail(err)
	}
	if err := f.Sync(); err != nil {
		return fail(err)
	}
	to := d.Path(sum)
	dir := filepath.Dir(to)
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return fail(err)
		}
		d.touch(d.root)
	}
	if err := os.Rename(part, to); err != nil {
		return fail(err)
	}
	d.touch(dir)
	os.Remove(part + fromSuffix)
	os.Remove(d.aside(sum)) // the right bytes are here again
	return nil
}

// fromSuffix is behind the name of an unfinished file where it says from where
// its bytes are.
const fromSuffix = ".from"

// aside is where a file lies that was not what its name says.
func (d *Dir) aside(sum string) string { return filepath.Join(d.root, "aside", sum) }

// SetAside implements Store.
func (d *Dir) SetAside(sum string) error {
	if err := os.MkdirAll(filepath.Join(d.root, "aside"), 0o700); err != nil {
		return finding.Doing(err, "set the file %s aside", sum)
	}
	return finding.Doing(os.Rename(d.Path(sum), d.aside(sum)), "set the file %s aside", sum)
}

// Aside implements Store.
func (d *Dir) Aside() (files int, bytes int64, err error) {
	return d.eachAside(func(string) error { return nil })
}

// DropAside deletes what was set aside, and tells how much that was.
func (d *Dir) DropAside() (files int, bytes int64, err error) {
	return d.eachAside(func(name string) error { return os.Remove(d.aside(name)) })
}

// eachAside calls f for every file that was set aside, and counts those for
// which it did not fail.
func (d *Dir) eachAside(f func(name string) error) (files int, bytes int64, err error) {
	entries, err := os.ReadDir(filepath.Join(d.root, "aside"))
	if errors.Is(err, fs.ErrNotExist) {
		return 0, 0, nil
	}
	for _, e := range entries {
		if ferr := f(e.Name()); ferr != nil {
			err = errors.Join(err, ferr)
			continue
		}
		files++
		if info, ierr := e.Info(); ierr == nil {
			bytes += info.Size()
		}
	}
	return files, bytes, err
}

func (d *Dir) touch(dir string) {
	d.mu.Lock()
	d.touched[dir] = true
	d.mu.Unlock()
}

// Add implements Store.
func (d *Dir) Add(data []byte) (string, error) {
	raw := sha256.Sum256(data)
	sum := hex.EncodeToString(raw[:])
	return d.Ingest(Want{Name: "a file of our own", Size: int64(len(data)), SHA256: sum},
		func(w Sink) error {
			if err := w.Restart(); err != nil {
				return err
			}
			_, err := w.Write(data)
			return err
		}, nil)
}

// Flush implements Store.
func (d *Dir) Flush() error {
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

// Each implements Store.
func (d *Dir) Each(f func(string, int64) error) error {
	return filepath.WalkDir(d.root, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		sum := filepath.Base(filepath.Dir(p)) + filepath.Base(p)
		if len(sum) != 64 {
			return nil
		}
		st, err := e.Info()
		if err != nil {
			return err
		}
		return f(sum, st.Size())
	})
}

// Remove implements Store.
func (d *Dir) Remove(sha256 string) error { return os.Remove(d.Path(sha256)) }

// dropForeign forgets names that lead to nothing any more.
func (d *Dir) dropForeign() error {
	entries, err := os.ReadDir(filepath.Join(d.root, "sha512"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, e := range entries {
		path := d.foreign(e.Name())
		text, rerr := os.ReadFile(path)
		if _, ok := d.Has(string(text)); rerr == nil && ok {
			continue
		}
		err = errors.Join(err, os.Remove(path))
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

// Sweep removes the unfinished files, and names that lead to nothing.
func (d *Dir) Sweep() error {
	parts, err := filepath.Glob(filepath.Join(d.tmp, "part-*"))
	for _, p := range parts {
		err = errors.Join(err, os.Remove(p))
	}
	return errors.Join(err, d.dropForeign())
}

type ingest struct {
	sync.Mutex
	waiting int
}

func (d *Dir) lock(name string) (unlock func()) {
	d.mu.Lock()
	m, ok := d.busy[name]
	if !ok {
		m = &ingest{}
		d.busy[name] = m
	}
	m.waiting++
	d.mu.Unlock()
	m.Lock()
	return func() {
		m.Unlock()
		d.mu.Lock()
		if m.waiting--; m.waiting == 0 {
			delete(d.busy, name)
		}
		d.mu.Unlock()
	}
}

// writer hashes while it writes and refuses to grow over the wanted size.
type writer struct {
	f          *os.File
	h256, h512 hash.Hash
	want       Want
	n          int64
	origin     string
}

func (w *writer) hashes() io.Writer {
	if w.h512 == nil {
		return w.h256
	}
	return io.MultiWriter(w.h256, w.h512)
}

func (w *writer) Write(p []byte) (int, error) {
	if w.want.Size >= 0 && w.n+int64(len(p)) > w.want.Size {
		return 0, finding.New("content.size-mismatch", "",
			"%s goes on after the %d bytes that its index says", w.want.Name, w.want.Size)
	}
	n, err := w.f.Write(p)
	w.hashes().Write(p[:n])
	w.n += int64(n)
	return n, finding.Doing(err, "write %s", w.want.Name)
}

func (w *writer) Offset() int64  { return w.n }
func (w *writer) Origin() string { return w.origin }

func (w *writer) Begin(origin string) error {
	if err := w.Restart(); err != nil {
		return err
	}
	if origin == w.origin {
		return nil
	}
	if err := os.WriteFile(w.f.Name()+fromSuffix, []byte(origin), 0o600); err != nil {
		return finding.Doing(err, "write %s", w.want.Name)
	}
	w.origin = origin
	return nil
}

func (w *writer) Verify() error {
	if f := mismatch(w.want, w.n, w.sum(), w.sum512()); f != nil {
		return *f
	}
	return nil
}

func (w *writer) Restart() error {
	if err := w.f.Truncate(0); err != nil {
		return finding.Doing(err, "write %s", w.want.Name)
	}
	if _, err := w.f.Seek(0, io.SeekStart); err != nil {
		return finding.Doing(err, "write %s", w.want.Name)
	}
	w.n = 0
	w.h256.Reset()
	if w.h512 != nil {
		w.h512.Reset()
	}
	return nil
}

func (w *writer) sum() string { return hex.EncodeToString(w.h256.Sum(nil)) }
func (w *writer) sum512() string {
	if w.h512 == nil {
		return ""
	}
	return hex.EncodeToString(w.h512.Sum(nil))
}
