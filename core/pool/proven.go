package pool

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"sync"
	"syscall"

	"stockade/core/finding"
)

// Proven opens files of a pool only when their bytes are what their names say. Each is read whole when it
// is opened for the first time, and again when its entry on the disk is another than then: the inode, the
// size, and the times of its bytes and of its entry, of which nobody can set the last. What differs is set
// aside. A disk that gives other bytes under the same entry is not found out here, but by verifying an
// edition.
type Proven struct {
	store Store
	mu    sync.Mutex
	seen  map[string]entry
	turns map[string]*sync.Mutex // one reads a file whole
}

// entry is what a file's entry on the disk says.
type entry struct {
	device, inode uint64
	size          int64
	bytes, change syscall.Timespec // when the bytes, and when the entry changed
}

// maxSeen bounds what is remembered: some 150 bytes a file.
const maxSeen = 500_000

// NewProven begins with a pool of which nothing was read.
func NewProven(store Store) *Proven {
	return &Proven{store: store, seen: map[string]entry{}, turns: map[string]*sync.Mutex{}}
}

// Open opens a file. It is a finding with code edition.damaged that its bytes are other ones.
func (p *Proven) Open(sum string) (Blob, error) {
	f, err := p.store.Open(sum)
	if err != nil {
		return nil, err
	}
	if p.known(sum, f) {
		return f, nil
	}
	err = p.read(sum, f)
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

func entryOf(f Blob) (e entry, ok bool) {
	on, ok := f.(interface{ Stat() (fs.FileInfo, error) })
	if !ok {
		return e, false
	}
	info, err := on.Stat()
	if err != nil {
		return e, false
	}
	st, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return e, false
	}
	return entry{uint64(st.Dev), st.Ino, st.Size, st.Mtim, st.Ctim}, true
}

func (p *Proven) known(sum string, f Blob) bool {
	now, ok := entryOf(f)
	p.mu.Lock()
	defer p.mu.Unlock()
	was, seen := p.seen[sum]
	return ok && seen && was == now
}

// read reads a file whole, one caller at a time.
func (p *Proven) read(sum string, f Blob) error {
	p.mu.Lock()
	turn := p.turns[sum]
	if turn == nil {
		turn = &sync.Mutex{}
		p.turns[sum] = turn
	}
	p.mu.Unlock()
	turn.Lock()
	defer turn.Unlock()
	defer func() {
		p.mu.Lock()
		delete(p.turns, sum)
		p.mu.Unlock()
	}()
	if p.known(sum, f) {
		return nil // by the one before
	}
	before, ok := entryOf(f)
	h := sha256.New()
	if _, err := io.Copy(h, io.NewSectionReader(f, 0, f.Size())); err != nil {
		return finding.Doing(err, "read the file %s of the pool", sum)
	}
	if hex.EncodeToString(h.Sum(nil)) != sum {
		changed := finding.New(finding.EditionDamaged, "",
			"the file %s of the pool was changed on disk. Stockade moved it aside", sum)
		if err := p.store.SetAside(sum); err != nil {
			return errors.Join(changed, fmt.Errorf("and could not be moved aside: %w", err))
		}
		return changed
	}
	if !ok {
		return nil
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if len(p.seen) >= maxSeen {
		clear(p.seen)
	}
	p.seen[sum] = before
	return nil
}
