// Package mirror builds offline mirrors: from definitions to a sealed edition.
//
//	roots (signed) → indexes (digest) → packages → selection → proof → files (digest) → manifest → seal
//
// A byte is stored only when a chain stands behind it. Roots are believed
// through the keyring of their source, everything else through digests. What
// goes wrong comes back as findings; a build that fails leaves what was
// verified in the pool, and nothing else. What a key may sign, and which edition a lane
// shows, is not decided here.
package mirror

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/solve"
	"stockade/core/trust"
)

// Source is one source as a build uses it.
type Source struct {
	Name     string
	Standing string
	Priority int
	Spec     archive.Source
	Family   archive.Family
	Route    fetch.Route
	Keyring  *trust.Keyring
	MaxAge   time.Duration
	// SecurityFixes: each of its updates is one.
	SecurityFixes bool
	Want          definition.Want
	Accepted      *Accepted // nil: nothing was accepted yet
	// Vouched are the decisions that keys may sign it, by fingerprint.
	Vouched map[string]edition.Vouch
	// Unsigned, if not nil, acknowledges that nobody signs its root.
	Unsigned *Unsigned
	House    *House // a house source as it was published; nil: it has upstreams
	// Further are servers that are probed beside its own, and no build asks.
	Further []fetch.Upstream
	// AcceptOnce, if not empty, is the reason for which a person accepts a root
	// that is older or of another repository than the last one.
	AcceptOnce string
}

// Accepted is the root of a source that was last found good.
type Accepted struct {
	Source      string                  `json:"source"`
	At          time.Time               `json:"at"`
	Date        time.Time               `json:"date"`
	Expires     time.Time               `json:"expires,omitzero"`
	Origin      string                  `json:"origin"`
	Label       string                  `json:"label"`
	Suite       string                  `json:"suite"`
	Codename    string                  `json:"codename"`
	Signer      archive.Signer          `json:"signer"`
	Upstream    string                  `json:"upstream"` // URL
	Choice      int                     `json:"choice"`   // which of the family's ways to get the root
	Files       []AcceptedFile          `json:"files"`
	Digest      string                  `json:"digest"`            // over the files
	Dates       map[string]time.Time    `json:"dates,omitempty"`   // of single files of the root
	Samples     map[string][]string     `json:"samples,omitempty"` // names of what its lists have, by list
	Version     string                  `json:"version,omitempty"` // as the root says it
	Conditional map[string]conditionals `json:"conditional,omitempty"`
	Offers      Offers                  `json:"offers"`
	// Published are the dates of the last roots that were accepted, the newest last: how
	// regularly the source publishes is learned from them.
	Published []time.Time `json:"published,omitempty"`
}

// Offers is what a root says that it has.
type Offers struct {
	Components    []string `json:"components"`
	Architectures []string `json:"architectures"`
}

type conditionals struct {
	ETag         string `json:"etag,omitempty"`
	LastModified string `json:"last_modified,omitempty"`
}

// AcceptedFile is a file of an accepted root; its bytes are in the pool.
type AcceptedFile struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
}

// Publication is what a source offers now, verified.
type Publication struct {
	Source   *Source
	Root     *archive.Root
	Accepted Accepted
	Changed  bool // against the root accepted before
	// Judged tells that its lists were compared with those of the root accepted
	// before. Until then it must not be taken for accepted.
	Judged   bool
	Findings finding.List
	Failures finding.List // what upstreams failed on the way
}

// Event tells how far a piece of work is. Bytes are those still to be fetched
// at the beginning of the step and done of them.
type Event struct {
	Step       string           `json:"step"`
	Text       string           `json:"text,omitempty"`
	Files      int              `json:"files"`
	FilesTotal int              `json:"files_total"`
	Bytes      int64            `json:"bytes"`
	BytesTotal int64            `json:"bytes_total"`
	Rate       int64            `json:"rate"`                // bytes a second
	Remaining  int              `json:"remaining_s"`         // seconds; -1: unknown
	Upstreams  map[string]int64 `json:"upstreams,omitempty"` // bytes by upstream
}

// left is how many seconds the rest takes after some of it took so long: what the slower of
// bytes and files needs. Many small files wait for answers rather than for bytes.
func (e Event) left(took float64) int {
	left := 0.0
	if e.Bytes > 0 {
		left = took * float64(max(e.BytesTotal-e.Bytes, 0)) / float64(e.Bytes)
	}
	if e.Files > 0 {
		left = max(left, took*float64(max(e.FilesTotal-e.Files, 0))/float64(e.Files))
	}
	return int(left)
}

// Builder does the work. All fields are needed but Log and Sink.
type Builder struct {
	Pool     pool.Store
	Fetch    *fetch.Client
	Site     *trust.SiteKey
	Families archive.Registry
	Editions string // folder of the editions
	Workers  int    // downloads at once; 8 if zero
	// LookAround is how long defined sources that are not in a mirror are waited for where fixes are looked
	// for in them; 12 s if zero.
	LookAround time.Duration
	Proof      solve.Limits
	Now        func() time.Time
	Log        *slog.Logger
	Sink       func(Event)
}

// upstreamFailures gathers, while a build fetches, which upstreams gave wrong bytes or were too slow: that
// another gave the right ones does not make it right. It is told once for each upstream and kind.
type upstreamFailures struct {
	mu  sync.Mutex
	all map[string]finding.Finding
}

type failuresKey struct{}

// gathering has the failures of upstreams gathered that are met under the context it gives.
func gathering(ctx context.Context) (context.Context, *upstreamFailures) {
	f := &upstreamFailures{all: map[string]finding.Finding{}}
	return context.WithValue(ctx, failuresKey{}, f), f
}

// failed notes a failure, where they are gathered.
func failed(ctx context.Context, source string, f *fetch.Failure) {
	kind := f.Kind()
	to, ok := ctx.Value(failuresKey{}).(*upstreamFailures)
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

// told gives what was gathered.
func (f *upstreamFailures) told() (out finding.List) {
	f.mu.Lock()
	defer f.mu.Unlock()
	for _, key := range slices.Sorted(maps.Keys(f.all)) {
		out = append(out, f.all[key])
	}
	return out
}

// signs gives the key that signs what a family's clients read. While the site has two, both
// sign where the clients take what a key signed that they do not know beside one that they
// do; elsewhere the older one does alone, which every machine knows, until it is retired.
func (b *Builder) signs(f archive.Family) *trust.SiteKey {
	if f.Rules().Cosigned {
		return b.Site
	}
	return b.Site.Alone()
}

func (b *Builder) tell(e Event) {
	if b.Sink != nil {
		b.Sink(e)
	}
}

func (b *Builder) log() *slog.Logger {
	if b.Log == nil {
		return slog.New(slog.DiscardHandler)
	}
	return b.Log
}

func (b *Builder) workers() int {
	if b.Workers > 0 {
		return b.Workers
	}
	return 8
}

// progress counts transferred bytes and passes them on, at most ten times a second.
type progress struct {
	b     *Builder
	mu    sync.Mutex
	event Event
	start time.Time
	last  time.Time
	later *time.Timer // tells what was not told at once, so that nothing waits for the next piece to be told
	ended bool
}

// progressEvery is how often progress is told at the most.
const progressEvery = 100 * time.Millisecond

func (b *Builder) progress(step string, files int, bytes int64) *progress {
	p := &progress{
		b:     b,
		start: time.Now(),
		event: Event{
			Step:       step,
			FilesTotal: files,
			BytesTotal: bytes,
			Remaining:  -1,
			Upstreams:  map[string]int64{},
		},
	}
	p.sendLocked(true)
	return p
}

func (p *progress) add(upstream string, bytes int64, files int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.event.Bytes += bytes
	p.event.Files += files
	if upstream != "" {
		p.event.Upstreams[upstream] += bytes
	}
	p.sendLocked(false)
}

// end tells where the step stands when it is over.
func (p *progress) end() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ended = true
	p.sendLocked(true)
}

// catchUp tells what was held back.
func (p *progress) catchUp() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.later = nil
	if !p.ended && p.event.Files < p.event.FilesTotal {
		p.sendLocked(true)
	}
}

func (p *progress) sendLocked(force bool) {
	now := time.Now()
	if wait := progressEvery - now.Sub(p.last); !force && wait > 0 {
		if p.later == nil {
			p.later = time.AfterFunc(wait, p.catchUp)
		}
		return
	}
	p.last = now
	if took := now.Sub(p.start).Seconds(); took > 0.05 {
		p.event.Rate = int64(float64(p.event.Bytes) / took)
		if p.event.Rate > 0 {
			p.event.Remaining = p.event.left(took)
		}
	}
	e := p.event
	e.Upstreams = map[string]int64{}
	for k, v := range p.event.Upstreams {
		e.Upstreams[k] = v
	}
	p.b.tell(e)
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

// fetchInto gets one file that an index names into the pool, from whichever
// upstream has it right. paths are tried in order when upstreams lack the first.
func (b *Builder) fetchInto(ctx context.Context, src *Source, want pool.Want, paths []string, p *progress,
	check func(f pool.Blob) error) (string, error) {
	if src.House != nil { // whatever it has lies in the pool
		return "", finding.New(finding.EditionDamaged, "source "+src.Name,
			"%s of the house source is gone from the pool", want.Name).
			Do("add the file again: stockade package add FILE --source %s", src.Name)
	}
	most := want.Size
	switch {
	case most != archive.UnknownSize:
	case want.Signed != nil:
		most = maxSigned
	default:
		most = maxIndex // what it really is, its digest tells
	}
	return b.Pool.Ingest(want, func(sink pool.Sink) error {
		var last error
		counted := int64(0)
		again := func(origin string) error { // what was thrown away does not count as done
			if p != nil {
				p.add("", -counted, 0)
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
							p.add(name, int64(n), 0)
						}
					}}); err != nil {
						if f, judged := finding.From(err); judged && f.Code != finding.FaultCode {
							return errors.Join(err, again(""))
						}
						return err
					}
					if err := sink.Verify(); err != nil {
						return errors.Join(about(err, src.Name), again(""))
					}
					return nil
				}, func(f *fetch.Failure) {
					b.log().Warn("upstream failed", "source", src.Name, "upstream",
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

// wanted is what an index or a root says of a file.
func wanted(path string, size int64, sha256, sha512 string) pool.Want {
	return pool.Want{Name: path, Size: size, Authority: pool.ByDigest(sha256, sha512)}
}

// about names the source in a finding that has no object yet.
func about(err error, source string) error {
	if f, ok := finding.From(err); ok && f.Object == "" && f.Code != finding.FaultCode {
		f.Object = "source " + source
		return f
	}
	return err
}
