package mirror

import (
	"context"
	"errors"
	"io"
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/upstream"
)

// Refilled is what came of bringing back what the pool lacked of an edition.
type Refilled struct {
	Files int
	Bytes int64
	// Lacks are paths that are not there still, and Why is what kept the first of them from being there.
	Lacks []string
	Why   error
}

// Refill brings back what the pool lacks of a sealed edition. kept gives a file, by its SHA-256, that was
// kept beside the pool; nil where there is none. What is not kept is fetched from the upstreams of the
// source that is described under the name which it has in the edition. The digests of the seal decide what
// is taken: it says nothing of who may sign the source now. The error is the context's, or a fault of this
// machine.
func (b *Builder) Refill(ctx context.Context, e *edition.Sealed, sources map[string]*upstream.Source,
	kept func(sha256 string) io.ReadCloser) (out Refilled, err error) {
	b.Tell(upstream.Event{Step: "refill", Text: e.Name(), Remaining: -1})
	// The lists of its files are among what is kept, and are read first.
	for _, l := range e.Manifest.Lines {
		if b.holds(l) {
			continue
		}
		if err := b.takeKept(l, kept); err == nil {
			out.Files, out.Bytes = out.Files+1, out.Bytes+l.Size
		}
	}
	var mu sync.Mutex
	lacks := func(path string, why error) {
		mu.Lock()
		defer mu.Unlock()
		if out.Lacks = append(out.Lacks, path); out.Why == nil {
			out.Why = why
		}
	}
	asked := map[string]bool{}
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(b.workers())
	for l, err := range e.Files() {
		if err != nil {
			lacks("the lists of its files", err)
			break
		}
		if inner.Err() != nil {
			break
		}
		if b.holds(l) || asked[l.SHA256] {
			continue
		}
		asked[l.SHA256] = true
		g.Go(func() (err error) {
			defer finding.Catch(&err)
			why := b.takeKept(l, kept)
			if errors.Is(why, pool.ErrMissing) {
				why = b.fetchAgain(inner, l, sources)
			}
			if why == nil {
				mu.Lock()
				out.Files, out.Bytes = out.Files+1, out.Bytes+l.Size
				mu.Unlock()
				return nil
			}
			if f, ok := finding.From(why); ok && f.Code == finding.FaultCode {
				return why
			}
			lacks(l.Path, why)
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return out, err
	}
	slices.Sort(out.Lacks)
	if ctx.Err() != nil {
		return out, ctx.Err()
	}
	return out, b.Pool.Flush()
}

// holds tells whether the pool has a file, as long as it was sealed.
func (b *Builder) holds(l edition.Line) bool {
	size, ok := b.Pool.Has(l.SHA256)
	return ok && size == l.Size
}

// takeKept takes a file in that was kept beside the pool; pool.ErrMissing where none was.
func (b *Builder) takeKept(l edition.Line, kept func(sha256 string) io.ReadCloser) error {
	from := kept(l.SHA256)
	if from == nil {
		return pool.ErrMissing
	}
	defer from.Close()
	_, err := b.Pool.Ingest(upstream.Wanted(l.Path, l.Size, l.SHA256, ""), func(sink pool.Sink) error {
		if err := sink.Restart(); err != nil {
			return err
		}
		_, err := io.Copy(sink, from)
		return err
	}, nil)
	return err
}

// fetchAgain fetches a package file from where its source says that it is.
func (b *Builder) fetchAgain(ctx context.Context, l edition.Line, sources map[string]*upstream.Source) error {
	name, path, _ := strings.Cut(l.Path, "/")
	src := sources[name]
	if src == nil {
		return finding.New(finding.EditionDamaged, "",
			"%s is missing from the pool, and the source %s no longer exists or cannot be used "+
				"now",
			l.Path, name).
			Do("define the source again, or restore the file from a backup of the pool")
	}
	_, err := b.FetchInto(ctx, src, upstream.Wanted(path, l.Size, l.SHA256, ""), []string{path}, nil, nil)
	if errors.Is(err, fetch.ErrNotFound) {
		return finding.New(finding.EditionDamaged, "",
			"%s is missing from the pool, and no upstream of %s has it any more", l.Path, name).
			Do("restore the file from a backup of the pool, or build a new edition")
	}
	return err
}
