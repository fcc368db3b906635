package upstream

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"sync"

	"golang.org/x/sync/errgroup"

	"stockade/core/archive"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
)

// MaxIndex bounds one index, decompressed (bytes).
const MaxIndex = 2 << 30

// List is one index of a source that is in the pool.
type List struct {
	archive.IndexChoice
	Used   archive.IndexFile
	SHA256 string
}

// Lists fetches the indexes that a source selects, by the digests of its root.
func (b *Reader) Lists(ctx context.Context, pub *Publication) ([]List, error) {
	src := pub.Source
	choices, err := src.Family.Indexes(src.Spec, pub.Root)
	if err != nil {
		return nil, err
	}
	for _, f := range src.Family.CheckRoot(src.Spec, pub.Root) {
		if f.Severity == finding.Error {
			return nil, f
		}
	}
	var missing int64
	for _, c := range choices {
		if b.InPool(c) < 0 && len(c.Files) > 0 {
			missing += max(c.Files[0].Size, 0)
		}
	}
	p := b.Progress("indexes", len(choices), missing)
	out := make([]List, len(choices))
	parent := ctx
	g, ctx := errgroup.WithContext(ctx)
	g.SetLimit(4)
	for i, c := range choices {
		g.Go(func() (err error) {
			defer finding.Catch(&err)
			l, err := b.list(ctx, src, c, p)
			out[i] = l
			p.Add("", 0, 1)
			return err
		})
	}
	err = g.Wait()
	p.End()
	if err != nil {
		return out, err
	}
	return out, b.sample(parent, pub, out)
}

// inPool tells which compression of an index is in the pool already.
func (b *Reader) InPool(c archive.IndexChoice) int {
	for i, f := range c.Files {
		if _, ok := b.Pooled(f); ok {
			return i
		}
	}
	return -1
}

// pooled gives the name of a file of a root, by SHA-256, when it is there.
func (b *Reader) Pooled(f archive.IndexFile) (sum string, ok bool) {
	return b.Pool.Find(Wanted(f.Path, f.Size, f.SHA256, f.SHA512))
}

func (b *Reader) list(ctx context.Context, src *Source, c archive.IndexChoice, p *Progress) (List, error) {
	if i := b.InPool(c); i >= 0 {
		sum, _ := b.Pooled(c.Files[i])
		return List{IndexChoice: c, Used: c.Files[i], SHA256: sum}, nil
	}
	var errs []error
	for _, f := range c.Files {
		sum, err := b.FetchInto(ctx, src, Wanted(f.Path, f.Size, f.SHA256, f.SHA512), f.Paths, p, nil)
		if err == nil {
			return List{IndexChoice: c, Used: f, SHA256: sum}, nil
		}
		if ctx.Err() != nil {
			return List{}, ctx.Err()
		}
		errs = append(errs, err)
		if !errors.Is(err, fetch.ErrNotFound) {
			break // changed content is not asked for in another form
		}
	}
	err := errors.Join(errs...)
	if f, ok := finding.From(err); ok {
		return List{}, f
	}
	return List{}, finding.New(finding.ContentMissing, "source "+src.Name,
		"no upstream has the index %s: %v",
		c.Files[0].Path, err)
}

// Read reads an index of the pool and yields its packages.
func (b *Reader) Read(src *Source, n int, l List, yield func(p *archive.Package, raw []byte) error) error {
	f, err := b.Pool.Open(l.SHA256)
	if err != nil {
		return pool.Gone(err, "the index "+l.Used.Path)
	}
	defer f.Close()
	// What lies in the pool was right when it came in. Whether it still is, is
	// found out while it is read: disks forget, and people edit.
	digest := sha256.New()
	disk := finding.Watching("read the index " + l.Used.Path)
	file := io.TeeReader(disk.Reader(f), digest)
	plain, err := archive.Decompress(bufio.NewReaderSize(file, 256<<10), l.Used.Compression, MaxIndex)
	if err != nil {
		return About(disk.Blame(err), src.Name)
	}
	defer plain.Close()
	fast := ahead(plain)
	defer fast.Close() // once more does no harm
	err = src.Family.ReadIndex(src.Spec, l.IndexChoice, fast, func(p *archive.Package, raw []byte) error {
		p.Index = n
		return yield(p, raw)
	})
	fast.Close()
	if _, rest := io.Copy(io.Discard, file); rest != nil {
		return finding.Doing(rest, "read the index %s", l.Used.Path)
	}
	if fault := disk.Blame(err); fault != err {
		return fault
	}
	if hex.EncodeToString(digest.Sum(nil)) != l.SHA256 {
		if err := b.Pool.SetAside(l.SHA256); err != nil {
			return err
		}
		return finding.New(finding.EditionDamaged, "source "+src.Name,
			"the index %s was changed on disk after it was downloaded", l.Used.Path).
			Do("run it again: the index is downloaded again")
	}
	return About(err, src.Name)
}

// readAhead reads in a goroutine of its own, so that decompressing and parsing
// run side by side. It never holds more than four blocks; Close ends it.
type readAhead struct {
	blocks chan block
	stop   chan struct{}
	now    block
	once   sync.Once
}

type block struct {
	data []byte
	err  error
}

func ahead(r io.Reader) *readAhead {
	a := &readAhead{blocks: make(chan block, 4), stop: make(chan struct{})}
	go func() {
		defer close(a.blocks)
		for {
			next := readBlock(r)
			select {
			case a.blocks <- next:
			case <-a.stop:
				return
			}
			if next.err != nil {
				return
			}
		}
	}()
	return a
}

// readBlock reads one block; what is read may make a decompressor fall over.
func readBlock(r io.Reader) (b block) {
	defer finding.Catch(&b.err)
	buf := make([]byte, 256<<10)
	n, err := io.ReadFull(r, buf)
	if err == io.ErrUnexpectedEOF {
		err = io.EOF
	}
	return block{buf[:n], err}
}

func (a *readAhead) Read(p []byte) (int, error) {
	for len(a.now.data) == 0 {
		if a.now.err != nil {
			return 0, a.now.err
		}
		next, ok := <-a.blocks
		if !ok {
			return 0, io.EOF
		}
		a.now = next
	}
	n := copy(p, a.now.data)
	a.now.data = a.now.data[n:]
	return n, nil
}

// Close ends the goroutine and waits for it.
func (a *readAhead) Close() {
	a.once.Do(func() { close(a.stop) })
	for range a.blocks {
	}
}
