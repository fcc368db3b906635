// Package fetch asks the upstreams of one source for files over HTTP: in their
// order, stepping over those that are down, with bounds on time and size.
//
// It trusts nothing: what it hands over are bytes from somewhere. The function
// that consumes them decides whether they are right, and when it says no the
// next upstream is asked.
package fetch

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"

	"golang.org/x/time/rate"

	"stockade/core/finding"
)

// Upstream is one server that carries a source.
type Upstream struct {
	URL    string `json:"url"`
	Region string `json:"region,omitempty"`
	// Listed tells that a list named it and no person: it may not lead into this
	// machine or its network, whatever its name resolves to.
	Listed bool `json:"listed,omitempty"`
}

// Route is how one source is reached.
type Route struct {
	Source    string
	Upstreams []Upstream
	Proxy     Proxy
	Redirects []string // further hosts to which an upstream may send
	Lists     []List   // files that name further upstreams; see Client.Expand
	// Credentials are those that its servers may be shown, each its own hosts alone.
	Credentials []Credential
	// Authority certifies its servers, in PEM; empty: those that this machine knows.
	Authority string
}

// Options are the bounds of a Client; zero values mean the defaults.
type Options struct {
	ConnectTimeout time.Duration // for connecting and for the first byte: 15 s
	Floor          int64         // bytes a second below which a body is given up: 1 KiB
	FloorWindow    time.Duration // over which the floor is measured: 20 s
	DownFor        time.Duration // how long a failing upstream is stepped over the first time: 60 s
	Rounds         int           // how often the whole list is tried: 2
	Limit          int64         // bytes a second over all transfers: none
	Unmeasured     time.Duration // for a body whose length nobody told: 30 min
	Agent          string
	Now            func() time.Time
}

// Client fetches. It is safe for concurrent use.
type Client struct {
	opt     Options
	limiter *rate.Limiter
	mu      sync.Mutex
	rate    float64                 // bytes a second of the last transfers, smoothed
	down    map[string]resting      // by upstream URL
	clients map[string]*http.Client // by server, and what it is shown
	// spreading is what is known of upstreams, by URL, to spread files over them
	spreading map[string]measured
}

// New makes a client.
func New(opt Options) *Client {
	def := func(d *time.Duration, v time.Duration) {
		if *d == 0 {
			*d = v
		}
	}
	def(&opt.ConnectTimeout, 15*time.Second)
	def(&opt.FloorWindow, 20*time.Second)
	def(&opt.DownFor, time.Minute)
	def(&opt.Unmeasured, 30*time.Minute)
	if opt.Floor == 0 {
		opt.Floor = 1 << 10
	}
	if opt.Rounds == 0 {
		opt.Rounds = 2
	}
	if opt.Agent == "" {
		opt.Agent = "stockade"
	}
	if opt.Now == nil {
		opt.Now = time.Now
	}
	c := &Client{opt: opt, down: map[string]resting{}, clients: map[string]*http.Client{},
		spreading: map[string]measured{}}
	if opt.Limit > 0 {
		c.limiter = rate.NewLimiter(rate.Limit(opt.Limit), int(max(opt.Limit, 64<<10)))
	}
	return c
}

// Request asks for one file of a source.
type Request struct {
	Path string // relative to the upstream's base
	Max  int64  // bytes; a longer body is content.too-large
	// Resume tells how much of the file is there from this very upstream, and the
	// validator that it gave with it (its ETag or Last-Modified); nil, or zero:
	// from the start.
	Resume func(Upstream) (offset int64, validator string)
	// Known gives what this upstream said of the file the last time, so that it
	// is asked conditionally. Nil or two empty strings: unconditionally.
	Known func(Upstream) (etag, lastModified string)
	// Spread is the size in bytes of a file that is the same from whichever upstream, because
	// its digest is known: a large one may come from another than the first. 0: it is not.
	Spread int64
}

// Response is what an upstream sent. Offset is where Body begins.
type Response struct {
	Upstream     Upstream
	NotModified  bool
	Offset       int64
	Length       int64 // of Body; -1: not told
	ETag         string
	LastModified string
	Body         io.Reader
}

// Validator is what a server says of a file by which a later request can tell
// whether it is still the same: a strong ETag, else the time of its last change.
func (r *Response) Validator() string {
	if r.ETag != "" && !strings.HasPrefix(r.ETag, "W/") {
		return r.ETag
	}
	return r.LastModified
}

// ErrNotFound is in the chain when an upstream says that it has no such file.
var ErrNotFound = errors.New("the upstream does not have this file")

// passing is trouble after which the same list may be tried again.
type passing struct{ error }

func (p passing) Unwrap() error { return p.error }

func mayPass(err error) bool {
	var p passing
	return errors.As(err, &p)
}

// Failure is what one upstream did with one request.
type Failure struct {
	Upstream Upstream
	Path     string
	Err      error
}

func (f *Failure) Error() string {
	return fmt.Sprintf("%s: %s: %v", Shown(f.Upstream.URL), f.Path, f.Err)
}
func (f *Failure) Unwrap() error { return f.Err }

// plainParameters are those of queries that say which list of servers is wanted. Any other can be what
// lets somebody in.
var plainParameters = []string{"arch", "basearch", "cc", "content", "country", "infra", "ip_version", "path",
	"protocol", "release", "releasever", "repo", "use_mirror_status", "version"}

// plainValue is what such a parameter can be: a name, a version, a variable.
var plainValue = regexp.MustCompile(`^[A-Za-z0-9._$/-]{0,64}$`)

// PlainQuery leaves out of a query what may be a secret, and tells whether there was such.
func PlainQuery(query string) (plain string, secret bool) {
	var kept []string
	for part := range strings.SplitSeq(query, "&") {
		key, value, _ := strings.Cut(part, "=")
		if slices.Contains(plainParameters, strings.ToLower(key)) && plainValue.MatchString(value) {
			kept = append(kept, part)
		} else if part != "" {
			secret = true
		}
	}
	return strings.Join(kept, "&"), secret
}

// Shown gives a URL as it may be shown: without user and password, and without what may be a secret in
// its query or fragment. One that cannot be read is not shown: a password may stand where a port should.
func Shown(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return "(unreadable URL)"
	}
	u.User = nil
	plain, secret := PlainQuery(u.RawQuery)
	if u.Fragment != "" || secret {
		u.Fragment, u.RawFragment = "", ""
		u.RawQuery, u.ForceQuery = "", false
		return u.String() + "?" + strings.TrimPrefix(plain+"&…", "&")
	}
	return u.String()
}

// Get asks the upstreams of the route in their order, but for files that are spread,
// until one delivers what consume accepts. consume may be called several times, once an upstream; for
// a finding that it returns the next upstream is asked. report, if not nil, is
// told of every upstream that failed. When none delivers, the error joins what
// each did; a finding among them stays reachable with finding.From.
func (c *Client) Get(ctx context.Context, route Route, req Request, consume func(*Response) error,
	report func(*Failure)) error {
	if len(route.Upstreams) == 0 {
		return fmt.Errorf("the source %s has no upstream", route.Source)
	}
	var failures []error
	for round := range c.opt.Rounds {
		if round > 0 {
			wait := max(time.Duration(round)*500*time.Millisecond, c.soonest(route.Upstreams))
			if err := sleep(ctx, wait); err != nil {
				return err
			}
		}
		again := false
		in := c.spread(c.order(route.Upstreams), req)
		for n, up := range in {
			ends := c.begins(up, req)
			a := &asked{Client: c, route: route, up: up, req: req}
			if round == 0 { // at the end whoever gives anything will do
				a.others = in[n+1:]
			}
			err := a.one(ctx, consume)
			ends(err)
			if err == nil {
				c.mark(up, false, 0)
				return nil
			}
			if ctx.Err() != nil {
				return ctx.Err()
			}
			if f, ok := finding.From(err); ok && f.Code == finding.FaultCode {
				return f // no other upstream would do better
			}
			f := &Failure{Upstream: up, Path: req.Path, Err: err}
			if f.Kind() == Wrong { // others are asked before it for a while
				c.mark(up, true, 0)
			}
			failures = append(failures, f)
			if report != nil {
				report(f)
			}
			again = again || mayPass(err)
		}
		if !again {
			break
		}
	}
	// Judgements about content come before connection trouble.
	slices.SortStableFunc(failures, func(a, b error) int { return weight(a) - weight(b) })
	return errors.Join(failures...)
}

func weight(err error) int {
	if _, ok := finding.From(err); ok {
		return 0
	}
	if errors.Is(err, ErrNotFound) {
		return 2
	}
	return 1
}

func (c *Client) order(all []Upstream) []Upstream {
	c.mu.Lock()
	defer c.mu.Unlock()
	now := c.opt.Now()
	var up, down []Upstream
	for _, u := range all {
		if c.down[u.URL].until.After(now) {
			down = append(down, u)
		} else {
			up = append(up, u)
		}
	}
	if len(up) == 0 {
		return down
	}
	return up
}

// resting is an upstream that is stepped over, and how often it failed in a row.
type resting struct {
	until time.Time
	asked time.Time // until when the server itself asked for a rest
	times int
}

// mostRest bounds the rest of an upstream that fails again and again: each time it is twice
// as long as the last.
const mostRest = 30 * time.Minute

func (c *Client) mark(u Upstream, down bool, wait time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if down && wait > 0 {
		// It says itself when to come again: that is no sign that it is broken, however many files are told.
		r := c.down[u.URL]
		if until := c.opt.Now().Add(wait); until.After(r.asked) {
			r.asked = until
		}
		if r.asked.After(r.until) {
			r.until = r.asked
		}
		c.down[u.URL] = r
	} else if down {
		r := c.down[u.URL]
		rest := c.opt.DownFor << min(r.times, 10)
		if most := max(c.opt.DownFor, mostRest); rest > most || rest < 0 {
			rest = most
		}
		// What fails while it rests, such as several files at once, is one failure.
		if now := c.opt.Now(); !r.until.After(now) {
			r.times++
			r.until = now.Add(rest)
		}
		c.down[u.URL] = r
	} else {
		delete(c.down, u.URL)
	}
}

// Address joins an upstream's base URL and a path of the source.
func Address(base, p string) (string, error) {
	u, err := url.Parse(base)
	if err != nil {
		return "", finding.New(finding.SourceBadURL, "", "%q is not a URL", Shown(base))
	}
	if p == "" {
		return u.String(), nil
	}
	u.Path = strings.TrimRight(u.Path, "/") + "/" + p
	u.RawPath = ""
	return u.String(), nil
}

// asked is one request to one upstream.
type asked struct {
	*Client
	route  Route
	up     Upstream
	req    Request
	offset int64      // where it goes on from
	known  bool       // it was asked conditionally
	others []Upstream // that can be asked after it
	at     *url.URL   // the server that answered, at the end of redirects
}

func (a *asked) one(ctx context.Context, consume func(*Response) error) error {
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)
	r, err := a.request(ctx)
	if err != nil {
		return err
	}
	res, err := a.follow(r)
	if err != nil {
		return a.unanswered(err)
	}
	defer res.Body.Close()
	if res.StatusCode == http.StatusRequestedRangeNotSatisfiable && a.offset > 0 {
		anew := &asked{Client: a.Client, route: a.route, up: a.up, req: a.req, others: a.others}
		anew.req.Resume = nil
		return anew.one(ctx, consume)
	}
	out, err := a.answer(res)
	if err != nil {
		return err
	}
	if out.NotModified {
		return consume(out)
	}
	return a.take(ctx, cancel, res, out, consume)
}

// request writes it, with the range that is missing and what is known already.
func (a *asked) request(ctx context.Context) (*http.Request, error) {
	address, err := Address(a.up.URL, a.req.Path)
	if err != nil {
		return nil, err
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, finding.New(finding.SourceBadURL, "source "+a.route.Source,
			"%q is not a URL", Shown(a.up.URL))
	}
	r.Header.Set("User-Agent", a.opt.Agent)
	r.Header.Set("Accept-Encoding", "identity")
	validator := ""
	if a.req.Resume != nil {
		a.offset, validator = a.req.Resume(a.up)
	}
	if a.offset > 0 {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-", a.offset))
		if validator != "" {
			r.Header.Set("If-Range", validator)
		}
	}
	etag, modified := "", ""
	if a.req.Known != nil {
		etag, modified = a.req.Known(a.up)
	}
	if etag != "" {
		r.Header.Set("If-None-Match", etag)
	} else if modified != "" {
		r.Header.Set("If-Modified-Since", modified)
	}
	a.known = etag != "" || modified != ""
	return r, nil
}

// unanswered tells why nothing came: a fault of this machine is not the upstream's.
func (a *asked) unanswered(err error) error {
	if f, ok := finding.From(err); ok {
		f.Object = cmp.Or(f.Object, "source "+a.route.Source)
		return f
	}
	if f, ok := finding.Fault(err, "connect to "+Shown(a.up.URL)); ok && !errors.Is(err, syscall.EACCES) &&
		!errors.Is(err, syscall.EPERM) {
		return f
	}
	a.mark(a.up, true, 0)
	if f := a.distrusted(err); f != nil {
		return f
	}
	return passing{plain(err)}
}

// answer reads the head of what came.
func (a *asked) answer(res *http.Response) (*Response, error) {
	out := &Response{
		Upstream:     a.up,
		Length:       res.ContentLength,
		ETag:         res.Header.Get("ETag"),
		LastModified: res.Header.Get("Last-Modified"),
	}
	switch {
	case res.StatusCode == http.StatusOK:
	case res.StatusCode == http.StatusPartialContent && a.offset > 0:
		first, ok := rangeStart(res.Header.Get("Content-Range"))
		if !ok || first != a.offset {
			return nil, fmt.Errorf("the upstream answered with another range than requested")
		}
		out.Offset = a.offset
	case res.StatusCode == http.StatusNotModified && a.known:
		out.NotModified = true
		return out, nil
	case res.StatusCode == http.StatusNotFound || res.StatusCode == http.StatusGone:
		return nil, ErrNotFound
	case res.StatusCode == http.StatusTooManyRequests || res.StatusCode >= 500:
		wait := retryAfter(res.Header.Get("Retry-After"), a.opt.Now())
		a.mark(a.up, true, min(wait, 10*time.Minute))
		return nil, passing{fmt.Errorf("the upstream answered %s", res.Status)}
	default:
		if err := a.refused(res); err != nil {
			return nil, err
		}
		return nil, fmt.Errorf("the upstream answered %s", res.Status)
	}
	if a.req.Max > 0 && res.ContentLength > 0 && out.Offset+res.ContentLength > a.req.Max {
		return nil, finding.New(finding.ContentTooLarge, "source "+a.route.Source,
			"%s has %d bytes; the limit is %d", a.req.Path, out.Offset+res.ContentLength,
			a.req.Max)
	}
	return out, nil
}

// take hands the body on, within the bounds of size and time.
func (a *asked) take(ctx context.Context, cancel context.CancelCauseFunc, res *http.Response, out *Response,
	consume func(*Response) error) error {
	body := &watched{r: res.Body, ctx: ctx, limiter: a.limiter, left: -1}
	if a.req.Max > 0 {
		body.left = a.req.Max - out.Offset
		body.tooLarge = finding.New(finding.ContentTooLarge, "source "+a.route.Source,
			"%s is longer than the %d bytes that were expected", a.req.Path, a.req.Max)
	}
	stop := a.watch(body, res.ContentLength, cancel)
	defer stop()
	if res.ContentLength < 0 { // else the floor rate bounds it
		late := time.AfterFunc(a.opt.Unmeasured, func() { cancel(errSlow) })
		defer late.Stop()
	}
	out.Body = body
	begun := time.Now()
	err := consume(out)
	a.observe(a.up.URL, body.count, time.Since(begun))
	if body.failed == nil {
		return err
	}
	if cause := context.Cause(ctx); errors.Is(cause, errSlow) || errors.Is(cause, errOutrun) {
		a.mark(a.up, true, 0)
		return passing{cause}
	}
	if _, ok := finding.From(body.failed); !ok {
		return passing{fmt.Errorf("the connection broke: %w", plain(body.failed))}
	}
	return body.failed
}

// observe remembers how fast transfers are.
func (c *Client) observe(url string, bytes int64, took time.Duration) {
	if bytes < 1024 || took <= 0 {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	r := float64(bytes) / took.Seconds()
	if c.rate == 0 {
		c.rate = r
	}
	c.rate += (r - c.rate) * 0.2
	c.learn(url, r)
}

// Rate gives the bytes a second of the last transfers; 0 before the first.
func (c *Client) Rate() int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return int64(c.rate)
}

var errSlow = errors.New("the upstream is slower than the minimum rate")

// watched counts a body's bytes, holds its length and rate within bounds, and
// remembers how reading failed.
type watched struct {
	r        io.Reader
	ctx      context.Context
	limiter  *rate.Limiter
	left     int64 // -1: no bound
	tooLarge finding.Finding
	mu       sync.Mutex
	count    int64
	waited   time.Duration // for our own limit of all downloads
	failed   error
}

func (w *watched) Read(p []byte) (int, error) {
	if w.left >= 0 && int64(len(p)) > w.left+1 {
		p = p[:w.left+1]
	}
	n, err := w.r.Read(p)
	if w.limiter != nil && n > 0 {
		begun := time.Now()
		for rest := n; rest > 0; {
			k := min(rest, w.limiter.Burst())
			if err := w.limiter.WaitN(w.ctx, k); err != nil {
				break
			}
			rest -= k
		}
		w.mu.Lock()
		w.waited += time.Since(begun)
		w.mu.Unlock()
	}
	if w.left >= 0 {
		if w.left -= int64(n); w.left < 0 {
			n--
			w.left, err = 0, w.tooLarge
		}
	}
	w.mu.Lock()
	w.count += int64(n)
	w.mu.Unlock()
	if err != nil && err != io.EOF {
		w.failed = err
	}
	return n, err
}

// watch gives up a body that stays under the floor rate for a whole window, or, while others can be asked,
// far under what those would give where that would take another window. The time for which we held it
// back ourselves does not count. length is that of the body; -1: nobody told it.
func (a *asked) watch(w *watched, length int64, cancel context.CancelCauseFunc) (stop func()) {
	done := make(chan struct{})
	var once sync.Once
	go func() {
		window := a.opt.FloorWindow
		t := time.NewTicker(window)
		defer t.Stop()
		last, held := int64(0), time.Duration(0)
		for {
			select {
			case <-done:
				return
			case <-t.C:
				w.mu.Lock()
				now, waited := w.count, w.waited
				w.mu.Unlock()
				came, took := float64(now-last), window-(waited-held)
				last, held = now, waited
				if took < window/4 {
					continue // that is our own doing
				}
				if came < float64(a.opt.Floor)*took.Seconds() {
					cancel(errSlow)
					return
				}
				share := 0.0
				if len(a.others) > 0 && a.limiter == nil {
					share = a.share(a.others)
				}
				left := float64(length - now)
				if came < share*took.Seconds() && (length < 0 || left > came) {
					cancel(errOutrun)
					return
				}
			}
		}
	}()
	return func() { once.Do(func() { close(done) }) }
}

func rangeStart(h string) (int64, bool) {
	rest, ok := strings.CutPrefix(h, "bytes ")
	if !ok {
		return 0, false
	}
	start, _, ok := strings.Cut(rest, "-")
	n, err := strconv.ParseInt(start, 10, 64)
	return n, ok && err == nil
}

func retryAfter(h string, now time.Time) time.Duration {
	if n, err := strconv.Atoi(h); err == nil && n > 0 {
		return time.Duration(n) * time.Second
	}
	if t, err := http.ParseTime(h); err == nil {
		return t.Sub(now)
	}
	return 0
}

// plain says what went wrong with a connection in people's words.
func plain(err error) error {
	var ue *url.Error
	if errors.As(err, &ue) {
		err = ue.Err
	}
	var dns *net.DNSError
	var timeout net.Error
	switch {
	case errors.As(err, &dns):
		return fmt.Errorf("its name %s cannot be resolved", dns.Name)
	case errors.As(err, &timeout) && timeout.Timeout():
		return errors.New("it did not answer in time")
	case strings.Contains(err.Error(), "connection refused"):
		return errors.New("the connection was refused: no server listens there")
	}
	return err
}

func sleep(ctx context.Context, d time.Duration) error {
	t := time.NewTimer(d)
	defer t.Stop()
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-t.C:
		return nil
	}
}

// Sample reads a file of one upstream up to a limit, and tells how many bytes came, and how
// many a second from the first one on.
func (c *Client) Sample(ctx context.Context, route Route, up Upstream, p string, limit int64) (bytes,
	rate int64,
	err error) {
	a := &asked{Client: c, route: route, up: up, req: Request{Path: p}}
	err = a.one(ctx, func(r *Response) error {
		start := time.Now()
		bytes, err = io.Copy(io.Discard, io.LimitReader(r.Body, limit))
		if took := time.Since(start); took > 0 {
			rate = int64(float64(bytes) / took.Seconds())
		}
		return err
	})
	return bytes, rate, err
}

// Probe is what one upstream did when it was asked for a file once.
type Probe struct {
	Upstream  Upstream      `json:"upstream"`
	At        time.Time     `json:"at"`
	Lookup    time.Duration `json:"lookup_ns,omitempty"` // when its name was known; 0: it is an address
	TLS       time.Duration `json:"tls_ns,omitempty"`    // when TLS stood; 0: without
	Connect   time.Duration `json:"connect_ns"`
	FirstByte time.Duration `json:"first_byte_ns"`
	Bytes     int64         `json:"bytes"`
	Rate      int64         `json:"bytes_per_second"`
	Body      []byte        `json:"-"`
	Error     string        `json:"error,omitempty"`
	Missing   bool          `json:"-"` // it answered that it has no such file
}

// ProbeOne asks one upstream for one file and measures. At most limit bytes are read.
func (c *Client) ProbeOne(ctx context.Context, route Route, up Upstream, p string, limit int64) Probe {
	out := Probe{Upstream: up, At: c.opt.Now()}
	start := time.Now()
	a := &asked{Client: c, route: route, up: up, req: Request{Path: p, Max: limit}}
	err := a.one(withTimes(ctx, start, &out),
		func(r *Response) error {
			body, err := io.ReadAll(r.Body)
			out.Bytes, out.Body = int64(len(body)), body
			if took := time.Since(start) - out.FirstByte; took > 0 {
				out.Rate = int64(float64(out.Bytes) / took.Seconds())
			}
			return err
		})
	if err != nil {
		out.Error, out.Missing = err.Error(), errors.Is(err, ErrNotFound)
	}
	return out
}
