package service

import (
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/http"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/klauspost/compress/gzhttp"

	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/internal/api"
	"stockade/internal/store"
)

//go:embed all:dist
var console embed.FS

func (s *Service) handler() http.Handler {
	gin.SetMode(gin.ReleaseMode)
	g := gin.New()
	g.Use(s.logged, s.guard)
	handlers := s.handlers()
	for _, r := range api.Routes {
		h, ok := handlers[r.Name]
		if !ok {
			panic("service: the route " + r.Name + " has no handler")
		}
		g.Handle(r.Method, api.Base+ginPath(r.Path), s.allow(r), s.received(r), s.answer(r, h))
	}
	g.NoRoute(s.consoleFiles())
	return compressed(g)
}

// compressFrom is from how many bytes on an answer is compressed: below, it would save nothing.
const compressFrom = 1400

// compressed sends texts compressed to whoever takes that. Streams of events, and files, go as they are.
func compressed(h http.Handler) http.Handler {
	wrap, err := gzhttp.NewWrapper(gzhttp.MinSize(compressFrom), gzhttp.ContentTypes([]string{
		"application/json", "application/problem+json", "text/csv", "text/html", "text/css",
		"text/javascript", "image/svg+xml"}))
	if err != nil {
		panic(err) // the options are not right
	}
	return wrap(h)
}

// ginPath rewrites {name} as gin has it; {path} takes the rest of the path.
func ginPath(p string) string {
	p = strings.ReplaceAll(p, "{path}", "*path")
	return strings.NewReplacer("{", ":", "}", "").Replace(p)
}

// guard sets the headers that keep a browser from being misled, and refuses
// requests that another site's page makes it send.
func (s *Service) guard(c *gin.Context) {
	h := c.Writer.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Frame-Options", "DENY")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Content-Security-Policy",
		"default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; font-src 'self' "+
			"data:; frame-ancestors 'none'; base-uri 'none'; form-action 'none'")
	h.Set("Cross-Origin-Opener-Policy", "same-origin")
	h.Set("Cache-Control", "no-store")
	if origin := c.GetHeader("Origin"); origin != "" && !strings.HasSuffix(origin, "://"+c.Request.Host) ||
		c.GetHeader("Sec-Fetch-Site") == "cross-site" && c.Request.Method != http.MethodGet {
		problem(c, &api.Problem{
			Title:  "The request was refused",
			Status: 403,
			Type:   "urn:stockade:cross-site",
			Detail: "another site's page sent it",
		})
		return
	}
	if c.Request.URL.Query().Has("token") {
		problem(c, &api.Problem{Title: "The request was refused", Status: 400,
			Type:   "urn:stockade:token-in-url",
			Detail: "the URL contains a token, and URLs are kept in logs and histories",
			WayOut: "send the token as Authorization: Bearer, and create a new one, because " +
				"others may have seen this one"})
		return
	}
	if !s.knownHost(c.Request.Host) {
		problem(c, &api.Problem{Title: "The request was refused", Status: 421, Type: "urn:stockade:host",
			Detail: fmt.Sprintf("this service does not have the name %q", c.Request.Host),
			WayOut: "use the address that the service was started with, or start it with " +
				"--host NAME"})
		return
	}
	c.Next()
}

// knownHost tells whether a request names the service by an address or by a name
// that it was told of. Any other name is somebody's who lets it point here, so
// that pages of theirs count as this service's in a browser.
func (s *Service) knownHost(host string) bool {
	name, _, err := net.SplitHostPort(host)
	if err != nil {
		name = host
	}
	name = strings.ToLower(strings.TrimSuffix(strings.Trim(name, "[]"), "."))
	if name == "localhost" || net.ParseIP(name) != nil {
		return true
	}
	listen, _, _ := net.SplitHostPort(s.cfg.Listen)
	return name != "" &&
		(strings.EqualFold(name, listen) || slices.ContainsFunc(s.cfg.Hosts, func(h string) bool {
			return strings.EqualFold(h, name)
		}))
}

var rank = map[string]int{api.Open: 0, api.Viewer: 1, api.Operator: 2, api.Warden: 3}

// allow lets a request of an account with a sufficient role through: one that carries a
// token, or the cookie of a session.
func (s *Service) allow(r api.Route) gin.HandlerFunc {
	return func(c *gin.Context) {
		if r.Role == api.Open {
			return
		}
		from := address(c.Request)
		by, known := credentialOf{}, false
		var unread error
		if token, ok := strings.CutPrefix(c.GetHeader("Authorization"), "Bearer "); ok {
			// A right token works, whatever else comes from its address.
			if by, known, unread = s.byToken(token); !known && unread == nil {
				s.guesses.wrong(from)
				if wait := s.guesses.wait(from); wait > 0 {
					time.Sleep(guessDelay)
					c.Header("Retry-After", strconv.Itoa(int(wait.Seconds())+1))
					problem(c, &api.Problem{
						Title:  "Not signed in",
						Status: 429,
						Type:   "urn:stockade:guessing",
						Detail: "this token is wrong, and too many wrong tokens came from this " +
							"address",
						WayOut: "wait a minute. A valid token works immediately",
					})
					return
				}
			}
		} else if cookie, err := c.Cookie(s.cookieName()); err == nil {
			if !ownPage(c) {
				problem(c, &api.Problem{Title: "The request was refused", Status: 403,
					Type:   "urn:stockade:cross-site",
					Detail: "it has the cookie of a session, but was not sent by the console",
					WayOut: "programs must send a token: Authorization: Bearer TOKEN"})
				return
			}
			by, known, unread = s.bySession(cookie)
		}
		if unread != nil {
			problem(c, asProblem(r, unread))
			return
		}
		if !known {
			c.Header("WWW-Authenticate", `Bearer realm="stockade"`)
			problem(c, &api.Problem{Title: "Not signed in", Status: 401, Type: "urn:stockade:token",
				Detail: "the request has no valid token",
				WayOut: "run stockade login, or set STOCKADE_TOKEN. The token of the first " +
					"warden is in warden.token in the data folder"})
			return
		}
		usedFor(c.Request.Context(), byKnown)
		c.Set("by", by)
		c.Set("least", r.Role)
		if rank[by.account.Role] < rank[r.Role] {
			problem(c, &api.Problem{Title: "Not allowed", Status: 403, Type: "urn:stockade:rights",
				Detail: fmt.Sprintf("%s has the role %s, and this needs the role %s", by.account.Name,
					roleNamed(by.account.Role), roleNamed(r.Role)),
				WayOut: "ask someone with that role"})
		}
	}
}

// address is where a request came from, without the port.
func address(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	return host
}

// ownPage tells whether a call that changes something comes from a page of this service:
// a browser says so of each such call. guard has refused what names another origin.
func ownPage(c *gin.Context) bool {
	switch c.Request.Method {
	case http.MethodGet, http.MethodHead:
		return c.GetHeader("Sec-Fetch-Site") != "same-site"
	}
	return c.GetHeader("Origin") != "" || c.GetHeader("Sec-Fetch-Site") == "same-origin"
}

// roleNamed is a role with its article.
func roleNamed(role string) string {
	if role == api.Operator {
		return "an " + role
	}
	return "a " + role
}

// guesses slows down who tries tokens: ten wrong ones, and a minute's wait.
type guesses struct {
	mu  sync.Mutex
	now func() time.Time
	by  map[string][]time.Time
}

func newGuesses(now func() time.Time) *guesses {
	return &guesses{now: now, by: map[string][]time.Time{}}
}

const (
	guessesMost = 10
	guessesTime = time.Minute
	guessDelay  = 200 * time.Millisecond // for each further wrong one
)

// begin counts a guess as wrong before it is looked at. Where there were too many it is not looked at:
// how long to wait.
func (g *guesses) begin(from string) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	if wait := g.waits(from); wait > 0 {
		return wait
	}
	g.add(from)
	return 0
}

// right takes the last one back: it was none.
func (g *guesses) right(from string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if n := len(g.by[from]); n > 0 {
		g.by[from] = g.by[from][:n-1]
	}
}

func (g *guesses) wrong(from string) {
	g.mu.Lock()
	defer g.mu.Unlock()
	g.add(from)
}

func (g *guesses) add(from string) {
	if len(g.by) > 10_000 {
		clear(g.by)
	}
	g.by[from] = append(g.by[from], g.now())
	if n := len(g.by[from]); n > guessesMost {
		g.by[from] = g.by[from][n-guessesMost:]
	}
}

func (g *guesses) wait(from string) time.Duration {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.waits(from)
}

func (g *guesses) waits(from string) time.Duration {
	list := g.by[from]
	if len(list) < guessesMost {
		return 0
	}
	return max(0, guessesTime-g.now().Sub(list[0]))
}

// knownBy is who asks, and by what they are known.
func knownBy(c *gin.Context) credentialOf {
	got, _ := c.Get("by")
	by, _ := got.(credentialOf)
	return by
}

func who(c *gin.Context) store.Account { return knownBy(c).account }

// handler answers a request with a value or an error; a nil value means that
// it wrote the answer itself.
type handler func(c *gin.Context) (any, error)

func (s *Service) answer(r api.Route, h handler) gin.HandlerFunc {
	return func(c *gin.Context) {
		if c.IsAborted() {
			return
		}
		done, ok := s.computing.begin(c.Request.Context(), who(c).Name, r.Name)
		if !ok {
			c.Header("Retry-After", "10")
			problem(c, &api.Problem{Title: "Too many requests", Status: 429, Type: "urn:stockade:busy",
				Detail: "this account has several expensive requests under way",
				WayOut: "wait until they are done, then try again"})
			return
		}
		defer done()
		out, err := h(c)
		if err != nil {
			problem(c, asProblem(r, err))
			return
		}
		if out != nil {
			c.JSON(http.StatusOK, out)
		}
	}
}

func problem(c *gin.Context, p *api.Problem) {
	c.Abort()
	if _, whole := c.Get("received"); !whole && c.Request.ContentLength != 0 {
		unheard(c.Writer)
	}
	c.Set("why", p.Title+": "+p.Detail) // for the log
	raw, err := json.Marshal(p)
	if err != nil {
		raw = []byte(`{"type":"urn:stockade:internal","title":"Something failed","status":500,"detail":"the answer could not be written"}`)
	}
	c.Data(p.Status, "application/problem+json", raw)
}

// unheard answers without the rest of a body: what comes of it soon is passed over, so that the client
// reads the answer, and nothing more is waited for.
func unheard(w http.ResponseWriter) {
	w.Header().Set("Connection", "close")
	http.NewResponseController(w).SetReadDeadline(time.Now().Add(unheardTime))
}

// refusal carries the findings for which something was refused.
type refusal struct {
	title string
	found finding.List
}

func (r *refusal) Error() string { return r.title }

// asProblem turns any error into a problem, at this one place.
func asProblem(r api.Route, err error) *api.Problem {
	title := api.Rejected
	var p *api.Problem
	var ref *refusal
	var busy *busyError
	var broken *journal.Broken
	var big *http.MaxBytesError
	switch {
	case errors.As(err, &p):
		return p
	case errors.As(err, &ref):
		first := ref.found[0]
		return &api.Problem{Title: ref.title, Status: 422, Type: "urn:stockade:" + string(first.Code),
			Detail: fmt.Sprintf("%d errors were found", ref.found.Count(finding.Error)),
			WayOut: "correct the errors and try again. Nothing was changed", Findings: ref.found}
	case errors.As(err, &broken):
		return &api.Problem{Title: title, Status: 409, Type: "urn:stockade:journal.broken",
			Detail: broken.Error(),
			WayOut: "find out who wrote to the database, and restore a backup whose journal " +
				"verifies. Stockade records nothing until then"}
	case errors.As(err, &busy):
		return &api.Problem{
			Title:  title,
			Status: 409,
			Type:   "urn:stockade:busy",
			Detail: busy.Error(),
			WayOut: fmt.Sprintf("wait for it (stockade job watch %d), or stop it", busy.job.ID),
		}
	case errors.As(err, &big):
		return &api.Problem{
			Title:  title,
			Status: 413,
			Type:   "urn:stockade:content.too-large",
			Detail: fmt.Sprintf("the request is larger than %d bytes", big.Limit),
		}
	case errors.Is(err, store.ErrNotFound):
		return &api.Problem{
			Title:  api.NotFound,
			Status: 404,
			Type:   "urn:stockade:not-found",
			Detail: "the object does not exist",
		}
	}
	f, ok := finding.From(err)
	if !ok {
		f, ok = store.Fault(err)
	}
	if ok {
		status := 422
		switch {
		case f.Code == finding.DefineDanglingReference:
			status, title = 404, api.NotFound
		case f.Code.In("site"): // this machine's doing, not the request's
			status, title = 500, api.Broken
		}
		return &api.Problem{
			Title:    title,
			Status:   status,
			Type:     "urn:stockade:" + string(f.Code),
			Detail:   f.Text,
			Object:   f.Object,
			WayOut:   f.WayOut,
			Findings: finding.List{f},
		}
	}
	return &api.Problem{
		Title:  api.Broken,
		Status: 500,
		Type:   "urn:stockade:internal",
		Detail: err.Error(),
		WayOut: "see the log of the service",
	}
}

func body[T any](c *gin.Context) (T, error) {
	var v T
	d := json.NewDecoder(c.Request.Body)
	d.DisallowUnknownFields()
	if err := d.Decode(&v); err != nil {
		var big *http.MaxBytesError
		if errors.As(err, &big) {
			return v, err
		}
		return v, &api.Problem{
			Title:  "The request could not be read",
			Status: 400,
			Type:   "urn:stockade:request",
			Detail: "its body is not the expected JSON: " + err.Error(),
		}
	}
	return v, nil
}

// optional reads a body that may be left out.
func optional[T any](c *gin.Context) (T, error) {
	if c.Request.ContentLength == 0 {
		var v T
		return v, nil
	}
	return body[T](c)
}

func number(c *gin.Context, name string) (int, error) {
	n, err := strconv.Atoi(c.Param(name))
	if err != nil || n < 0 {
		return 0, &api.Problem{
			Title:  "The request could not be read",
			Status: 400,
			Type:   "urn:stockade:request",
			Detail: fmt.Sprintf("%q is not a number", c.Param(name)),
		}
	}
	return n, nil
}

// pageMost is how many a page has at most, and pageUsual where nobody says.
const pageMost, pageUsual = 1000, 100

// paging gives how many a page has, and where it begins: -1 where nobody says.
func paging(c *gin.Context) (limit int, cursor int64, err error) {
	n, err := queried(c, "limit", pageUsual)
	if err == nil && n == 0 {
		err = badQuery("limit", "0", "a page needs at least one entry")
	}
	if err != nil {
		return 0, 0, err
	}
	cursor, err = queried(c, "cursor", -1)
	return int(min(n, pageMost)), cursor, err
}

// queried reads a number of the query string that may be left out.
func queried(c *gin.Context, name string, otherwise int64) (int64, error) {
	text := c.Query(name)
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.ParseInt(text, 10, 64)
	if err != nil || n < 0 {
		return 0, badQuery(name, text, "it must be a number that is not negative")
	}
	return n, nil
}

func badQuery(name, value, why string) error {
	return &api.Problem{
		Title:  "The request could not be read",
		Status: 400,
		Type:   "urn:stockade:request",
		Detail: fmt.Sprintf("%s is %q: %s", name, value, why),
	}
}

// consoleFiles serves the embedded console; its own addresses all lead to its page.
func (s *Service) consoleFiles() gin.HandlerFunc {
	files, err := fs.Sub(console, "dist")
	if err != nil {
		panic(err)
	}
	server := http.FileServerFS(files)
	return func(c *gin.Context) {
		p := strings.TrimPrefix(path.Clean(c.Request.URL.Path), "/")
		if strings.HasPrefix(p, "api/") || c.Request.Method != http.MethodGet &&
			c.Request.Method != http.MethodHead {
			problem(c, &api.Problem{Title: "Not found", Status: 404,
				Type: "urn:stockade:not-found", Detail: c.Request.Method + " " + c.Request.URL.Path +
					" is not part of the API",
				WayOut: "see " + api.Base + "/openapi.json"})
			return
		}
		if strings.HasPrefix(p, "assets/") {
			c.Header("Cache-Control", "public, max-age=31536000, immutable")
			server.ServeHTTP(c.Writer, c.Request)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			c.Data(http.StatusNotFound, "text/plain; charset=utf-8", []byte(
				"This binary was built without the console. Run make build to include it. The "+
					"API is at "+api.Base+
					".\n"))
			return
		}
		if icon, err := fs.ReadFile(files, p); err == nil && p == "icon.svg" {
			c.Data(http.StatusOK, "image/svg+xml", icon)
			return
		}
		c.Data(http.StatusOK, "text/html; charset=utf-8", page)
	}
}

// page wraps a whole list.
func page[T any](items []T, err error) (any, error) {
	if items == nil {
		items = []T{}
	}
	return api.Page[T]{Items: items}, err
}
