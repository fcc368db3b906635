package upstream

import (
	"context"
	"errors"
	"io"
	"maps"
	"slices"
	"stockade/core/archive"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"strings"
	"sync"
)

// Failures gathers, while a build fetches, which upstreams gave wrong bytes or were too slow: that
// another gave the right ones does not make it right. It is told once for each upstream and kind.
type Failures struct {
	mu  sync.Mutex
	all map[string]finding.Finding
}

type failuresKey struct{}

// Gather has the failures of upstreams gathered that are met under the context it gives.
func Gather(ctx context.Context) (context.Context, *Failures) {
	f := &Failures{all: map[string]finding.Finding{}}
	return context.WithValue(ctx, failuresKey{}, f), f
}

// failed notes a failure, where they are gathered.
func failed(ctx context.Context, source string, f *fetch.Failure) {
	kind := f.Kind()
	to, ok := ctx.Value(failuresKey{}).(*Failures)
	if !ok || kind != fetch.Wrong && kind != fetch.Slow {
		return
	}
	to.mu.Lock()
	defer to.mu.Unlock()
	key := source + "\x00" + f.Upstream.URL + "\x00" + string(kind)
	if _, told := to.all[key]; !told {
		to.all[key] = f.Told(source)
	}
}

// Told gives what was gathered.
func (f *Failures) Told() (out finding.List) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(f.all)) {
		out = append(out, f.all[key])
	}
	return out
}

// counting reports what passes through it.
type counting struct {
	r io.Reader
	f func(n int)
}

func (c counting) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.f(n)
	return n, err
}

// spreadable gives the size of what may come from any upstream: a package file, which its
// digest names. Lists come from the upstream of the root, as one that is behind has others.
func spreadable(want pool.Want, check func(f pool.Blob) error) int64 {
	if check == nil || want.Signed != nil || want.Size == archive.UnknownSize {
		return 0
	}
	return want.Size
}

// FetchInto gets one file that an index names into the pool, from whichever
// upstream has it right. paths are tried in order when upstreams lack the first.
func (b *Reader) FetchInto(ctx context.Context, src *Source, want pool.Want, paths []string, p *Progress,
	check func(f pool.Blob) error) (string, error) {
	if src.House != nil { // whatever it has lies in the pool
		return "", finding.New(finding.EditionDamaged, "source "+src.Name,
			"the file %s of the house source is missing from the pool", want.Name).
			Do("add the file again: stockade package add FILE --source %s", src.Name)
	}
	most := want.Size
	switch {
	case most != archive.UnknownSize:
	case want.Signed != nil:
		most = MaxSigned
	default:
		most = MaxIndex // what it really is, its digest tells
	}
	return b.Pool.Ingest(want, func(sink pool.Sink) error {
		var last error
		counted := int64(0)
		again := func(origin string) error { // what was thrown away does not count as done
			if p != nil {
				p.Add("", -counted, 0)
			}
			counted = 0
			return sink.Begin(origin)
		}
		resume := func(u fetch.Upstream) (int64, string) {
			from, validator, _ := strings.Cut(sink.Origin(), "\n")
			if from != u.URL {
				return 0, ""
			}
			return sink.Offset(), validator
		}
		for _, path := range paths {
			last = b.Fetch.Get(ctx, src.Route, fetch.Request{Path: path, Max: most, Resume: resume,
				Spread: spreadable(want, check)},
				func(r *fetch.Response) error {
					if r.Offset == 0 || r.Offset != sink.Offset() {
						if err := again(r.Upstream.URL + "\n" + r.Validator()); err != nil {
							return err
						}
					}
					name := fetch.Shown(r.Upstream.URL)
					if _, err := io.Copy(sink, counting{r.Body, func(n int) {
						counted += int64(n)
						if p != nil {
							p.Add(name, int64(n), 0)
						}
					}}); err != nil {
						if f, judged := finding.From(err); judged && f.Code != finding.FaultCode {
							return errors.Join(err, again(""))
						}
						return err
					}
					if err := sink.Verify(); err != nil {
						return errors.Join(About(err, src.Name), again(""))
					}
					return nil
				}, func(f *fetch.Failure) {
					b.Logger().Warn("upstream failed", "source", src.Name, "upstream",
						fetch.Shown(f.Upstream.URL),
						"path", path, "error", f.Err)
					failed(ctx, src.Name, f)
				})
			if last == nil {
				return nil
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if f, ok := finding.From(last); ok && f.Code == finding.FaultCode {
				return last
			}
		}
		return last
	}, check)
}

// Wanted is what an index or a root says of a file.
func Wanted(path string, size int64, sha256, sha512 string) pool.Want {
	return pool.Want{Name: path, Size: size, Authority: pool.ByDigest(sha256, sha512)}
}

// About names the source in a finding that has no object yet.
func About(err error, source string) error {
	if f, ok := finding.From(err); ok && f.Object == "" && f.Code != finding.FaultCode {
		f.Object = "source " + source
		return f
	}
	return err
}

// Saying is an error as one sentence: of a finding its text.
func Saying(err error) string {
	if f, ok := finding.From(err); ok {
		return f.Text
	}
	return err.Error()
}

// MaxSigned bounds a file that is signed by itself, and of which no index says how long it is (bytes).
const MaxSigned = 256 << 20
