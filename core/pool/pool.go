// Package pool is the content-addressed store: every file by its SHA-256,
// written once, never changed in place.
//
// Only verified bytes enter: a file is hashed while it is written, and admitted only
// when it is what its Authority says, and after the check that the caller gives has
// passed. The package trusts that authority, which the caller took from a signed index
// or a verified node; it believes neither who sends bytes nor the disk for what it is
// named by another digest.
//
// A fault of this machine (no space, no descriptors, an error of the disk) comes back
// as the finding site.fault. It is never taken for damage, and no upstream is blamed.
package pool

import (
	"context"
	"errors"
	"io"

	"stockade/core/finding"
)

// ErrMissing is returned for a file that is not there.
var ErrMissing = errors.New("it is not in the pool")

// Blob is a file of a store, open for reading.
type Blob interface {
	io.ReadSeekCloser
	io.ReaderAt
	// Size is how long it is (bytes).
	Size() int64
}

// Store is where verified files lie. Dir is the one on a local disk.
type Store interface {
	// Has tells whether the file is there, with its size in bytes.
	Has(sha256 string) (size int64, ok bool)
	// Find gives the name, by SHA-256, of a file that is what a want asks for, also
	// where the want knows it by another digest.
	Find(want Want) (sha256 string, ok bool)
	// Open opens a file for reading. ErrMissing: there is none.
	Open(sha256 string) (Blob, error)
	// Ingest takes a file in: get fills the sink, check (which may be nil) looks at
	// the whole file before it is admitted.
	Ingest(want Want, get func(Sink) error, check func(Blob) error) (sha256 string, err error)
	// Add takes bytes in that this site made, or has verified where they are.
	Add(data []byte) (sha256 string, err error)
	// Flush makes everything that was taken in durable.
	Flush() error
	// Each calls f for every file.
	Each(f func(sha256 string, size int64) error) error
	// Remove takes a file out; Sweep does, and nobody else.
	Remove(sha256 string) error
	// Aside tells how much is set aside.
	Aside() (files int, bytes int64, err error)
	// SetAside takes a file that is not what its name says out of use without
	// deleting it. It goes when the right bytes came in, or with DropAside.
	SetAside(sha256 string) error
	// DropAside deletes what was set aside, and tells how much that was.
	DropAside() (files int, bytes int64, err error)
	// Tidy removes unfinished files, and names that lead to nothing.
	Tidy() error
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
	// Verify tells why what is there is not what was wanted, or nil.
	Verify() error
}

// Sweep removes every file that is not kept, and tells how much that was. The caller
// sees to it that nothing is taken in meanwhile.
func Sweep(ctx context.Context, store Store, keep func(sha256 string) bool) (files int, bytes int64,
	err error) {
	type dead struct {
		sum  string
		size int64
	}
	var all []dead
	if err := store.Each(func(sum string, size int64) error {
		if !keep(sum) {
			all = append(all, dead{sum, size})
		}
		return nil
	}); err != nil {
		return 0, 0, err
	}
	for _, d := range all {
		if err := ctx.Err(); err != nil {
			return files, bytes, err
		}
		if err := store.Remove(d.sum); err != nil {
			return files, bytes, err
		}
		files++
		bytes += d.size
	}
	return files, bytes, nil
}

// Gone tells why a file could not be opened: it is gone, which is damage, or this
// machine could not open it, which says nothing of the file. It gives nil for nil.
func Gone(err error, what string) error {
	if err == nil {
		return nil
	}
	if f, ok := finding.Fault(err, "open "+what); ok {
		return f
	}
	if f, ok := finding.From(err); ok && f.Code == finding.EditionDamaged {
		return finding.New(f.Code, "", "%s was changed on disk. Stockade moved it aside", what)
	}
	return finding.New(finding.EditionDamaged, "", "%s is missing from the pool", what)
}
