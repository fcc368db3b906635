package service

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/made"
	"stockade/internal/must"
)

// desk is a service with an account of each role.
type desk struct {
	t       *testing.T
	s       *Service
	handler http.Handler
	tokens  map[string]string // by role
}

func newDesk(t *testing.T) *desk {
	t.Helper()
	data := t.TempDir()
	s, err := Open(Config{Data: data, Listen: "127.0.0.1:0", Packages: "127.0.0.1:0",
		Hosts: []string{"stores.reach.example"},
		NewKey: func(name, comment, address string, _ func() time.Time) (*trust.SiteKey, error) {
			return made.Key(made.Owner{Name: name, Comment: comment, Address: address})
		}})
	must.Do(t, err)
	t.Cleanup(func() { s.Close() })
	token, err := os.ReadFile(filepath.Join(data, "warden.token"))
	must.Do(t, err)
	d := &desk{t: t, s: s, handler: s.handler(),
		tokens: map[string]string{api.Warden: strings.TrimSpace(string(token)), "wrong": "sk-wrong"}}
	for _, role := range []string{api.Viewer, api.Operator} {
		var made api.NewToken
		d.must(d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "a-" + role, Role: role}), 200,
			&made)
		d.tokens[role] = made.Token
	}
	return d
}

// ask sends a request with the token of a role; body is bytes as they are, or a value.
func (d *desk) ask(role, method, path string, body any,
	change ...func(r *http.Request)) *httptest.ResponseRecorder {
	d.t.Helper()
	var in io.Reader
	switch b := body.(type) {
	case nil:
	case []byte:
		in = bytes.NewReader(b)
	case io.Reader:
		in = b
	default:
		raw, err := json.Marshal(b)
		must.Do(d.t, err)
		in = bytes.NewReader(raw)
	}
	r := httptest.NewRequest(method, "http://127.0.0.1:8440"+api.Base+path, in)
	if token := d.tokens[role]; token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	for _, c := range change {
		c(r)
	}
	w := httptest.NewRecorder()
	d.handler.ServeHTTP(w, r)
	return w
}

// must asserts the status of an answer, and reads it.
func (d *desk) must(w *httptest.ResponseRecorder, status int, into any) {
	d.t.Helper()
	if w.Code != status {
		d.t.Fatalf("it answered %d: %s", w.Code, w.Body)
	}
	if into != nil {
		if err := json.Unmarshal(w.Body.Bytes(), into); err != nil {
			d.t.Fatalf("%v: %s", err, w.Body)
		}
	}
}

// problemOf asserts that an answer is a problem, whole, and gives its type.
func (d *desk) problemOf(what string, w *httptest.ResponseRecorder) string {
	d.t.Helper()
	var p api.Problem
	if err := json.Unmarshal(w.Body.Bytes(), &p); err != nil {
		d.t.Errorf("%s: %d is no problem: %s", what, w.Code, w.Body)
	}
	if w.Header().Get("Content-Type") != "application/problem+json" || p.Status != w.Code || p.Title == "" ||
		p.Detail == "" || !strings.HasPrefix(p.Type, "urn:stockade:") {
		d.t.Errorf("%s: %d %+v", what, w.Code, p)
	}
	return strings.TrimPrefix(p.Type, "urn:stockade:")
}

// empty is what each call gives where nothing is described yet, to whoever may call it: the
// status, and of a problem the type.
var empty = func() map[string]string {
	all := map[string]string{
		"import": "422 define.bad-value", "addKeys": "422 key.unreadable", "examine": "422 key.unreadable",
		"addAccount": "422 define.bad-value", "where": "422 content.bad-name",
		"pair":          "422 define.bad-value",
		"takeStatement": "422 content.signature-bad",
		// without a reason
		"renewSiteKey": "422 define.missing-field", "retireSiteKey": "422 define.bad-value",
		// who decides types the fingerprint again
		"vouch": "422 define.bad-value", "withdraw": "422 define.bad-value",
		"retireKey": "422 define.bad-value",
		"bar":       "422 define.bad-value",
		// nothing to sign in with; and the account is another's
		"enrol":  "422 define.bad-value",
		"rename": "422 define.bad-value", "amend": "422 define.bad-value",
		"setAside": "404 define.dangling-reference", "takeUp": "404 define.dangling-reference",
		"keepDraft": "200",
		"signIn":    "401 token", "setPassword": "403 rights",
	}
	for kind, names := range map[string]string{
		"200": "search findPackages " +
			"events visit draft about openapi whoami overview findings definitions names " +
			"schema check compare crossings record sources housePackages keys mirrors " +
			"editions lanes groups machines jobs poolUsage sweepPool revisions journal signOut site " +
			"statement verifyJournal journalHead journalSince accounts credentials",
		"404 define.dangling-reference": "source described dependents refresh probe order enable disable " +
			"removeSource addPackage removePackage key mirror estimate preview build prove lane move back " +
			"group groupFiles edition packages why diff advisories manifest file verify " +
			"retire job jobEvents stopJob revision wouldRestore restore removeAccount " +
			"journalProof chain credential giveSecret forgetSecret signed account setRole " +
			"addToken removeToken removePassword endSession laneDifference groupKit machine " +
			"changeMachine removeMachine reportMachine",
	} {
		for _, name := range strings.Fields(names) {
			all[name] = kind
		}
	}
	return all
}()

func TestEachRouteWithEachRole(t *testing.T) {
	d := newDesk(t)
	if len(empty) != len(api.Routes) {
		t.Errorf("%d routes, and %d answers", len(api.Routes), len(empty))
	}
	names := strings.NewReplacer("{name}", "none", "{fingerprint}", strings.Repeat("A1", 20), "{mirror}",
		"none", "{kind}", "source", "{number}", "7", "{id}", "99", "{path}", "tarn/x")
	for i, r := range api.Routes {
		if r.Name == "events" {
			continue // it does not end: TestOpenPagesAreToldWhatHappens
		}
		for _, role := range []string{"", "wrong", api.Viewer, api.Operator, api.Warden} {
			what := r.Method + " " + r.Path + " as " + role
			var body any
			if r.Request != nil {
				body = map[string]any{}
				if _, file := r.Request.(api.Octets); file {
					body = []byte("x")
				}
			}
			from := func(r *http.Request) { // who guesses from many places is not slowed down
				r.RemoteAddr = fmt.Sprintf("192.0.2.%d:9", i)
			}
			w := d.ask(role, r.Method, names.Replace(r.Path), body, from)
			switch {
			case r.Role == api.Open || rank[role] >= rank[r.Role]:
				got := fmt.Sprint(w.Code)
				if w.Code != 200 {
					got += " " + d.problemOf(what, w)
				}
				if r.Name == "sweepPool" && w.Code == 200 {
					var job api.Job
					d.must(w, 200, &job)
					d.must(d.ask(api.Viewer, "GET", fmt.Sprintf("/jobs/%d/events", job.ID), nil), 200, nil)
				}
				want := empty[r.Name]
				if strings.HasPrefix(r.Path, "/accounts/{name}") && role != api.Warden {
					want = "403 rights" // it is not this account's own
				}
				if got != want {
					t.Errorf("%s: %s, and %s was meant: %s", what, got, want, w.Body)
				}
			case rank[role] == 0:
				if kind := d.problemOf(what, w); w.Code != 401 || kind != "token" {
					t.Errorf("%s: %d %s", what, w.Code, kind)
				}
			default:
				if kind := d.problemOf(what, w); w.Code != 403 || kind != "rights" {
					t.Errorf("%s: %d %s", what, w.Code, kind)
				}
			}
			for h, want := range map[string]string{"X-Frame-Options": "DENY",
				"X-Content-Type-Options": "nosniff", "Content-Security-Policy": "default-src 'self'; "} {
				if got := w.Header().Get(h); !strings.HasPrefix(got, want) {
					t.Errorf("%s: %s is %q", what, h, got)
				}
			}
		}
	}
}

func TestEachProblemHasItsType(t *testing.T) {
	d := newDesk(t)
	header := func(name, value string) func(r *http.Request) {
		return func(r *http.Request) { r.Header.Set(name, value) }
	}
	host := func(name string) func(r *http.Request) { return func(r *http.Request) { r.Host = name } }
	for _, c := range []struct {
		name         string
		role         string
		method, path string
		body         any
		change       func(r *http.Request)
		status       int
		kind         string
	}{
		{"from the same site", api.Viewer, "GET", "/sources", nil, header("Origin",
			"http://127.0.0.1:8440"), 200, ""},
		{"from another site", api.Viewer, "GET", "/sources", nil, header("Origin",
			"https://elsewhere.example"), 403, "cross-site"},
		{"from a site that ends the same", api.Viewer, "GET", "/sources", nil, header("Origin",
			"https://a127.0.0.1:8440"), 403, "cross-site"},
		{"sent by another site", api.Operator, "POST", "/pool/sweep", nil, header("Sec-Fetch-Site",
			"cross-site"), 403, "cross-site"},
		{"followed from another site", api.Viewer, "GET", "/sources", nil, header("Sec-Fetch-Site",
			"cross-site"), 200, ""},
		{"a token in the URL", api.Viewer, "GET", "/sources?token=x", nil, nil, 400, "token-in-url"},
		{"by another name", api.Viewer, "GET", "/sources", nil, host("elsewhere.example"), 421, "host"},
		{"by its own name", api.Viewer, "GET", "/sources", nil, host("Stores.reach.example.:8440"), 200, ""},
		{"as localhost", api.Viewer, "GET", "/sources", nil, host("localhost"), 200, ""},
		{"by an address", api.Viewer, "GET", "/sources", nil, host("[::1]:8440"), 200, ""},
		{"by no name", api.Viewer, "GET", "/sources", nil, host(""), 421, "host"},
		{"no JSON", api.Viewer, "POST", "/definitions/check", []byte("hello"), nil, 400, "request"},
		{"no body", api.Viewer, "POST", "/definitions/check", nil, nil, 400, "request"},
		{"a field that nobody knows", api.Viewer, "POST", "/definitions/check", []byte(`{"document": []}`), nil, 400,
			"request"},
		{"a field of another kind", api.Viewer, "POST", "/definitions/check", []byte(`{"documents": 7}`), nil, 400, "request"},
		{"too large", api.Viewer, "POST", "/definitions/check",
			[]byte(`{"documents": [{"name": "x", "text": "` + strings.Repeat("x", bodyLong) + `"}]}`), nil, 413, "content.too-large"},
		{"a number that is none", api.Viewer, "GET", "/editions/barrage/seven", nil, nil, 400, "request"},
		{"a number below zero", api.Viewer, "GET", "/editions/barrage/-1", nil, nil, 400, "request"},
		{"a job that is none", api.Viewer, "GET", "/jobs/x", nil, nil, 400, "request"},
		{"a limit that is none", api.Viewer, "GET", "/jobs?limit=x", nil, nil, 400, "request"},
		{"a limit of nothing", api.Viewer, "GET", "/jobs?limit=0", nil, nil, 400, "request"},
		{"a cursor that is none", api.Viewer, "GET", "/jobs?cursor=x", nil, nil, 400, "request"},
		{"a state that is none", api.Viewer, "GET", "/jobs?state=asleep", nil, nil, 400, "request"},
		{"a group that is none", api.Viewer, "GET", "/machines?group=nope", nil, nil, 404,
			"define.dangling-reference"},
		{"a mirror that is none", api.Viewer, "GET", "/editions?mirror=nope", nil, nil, 404,
			"define.dangling-reference"},
		{"a comparison with what is no number", api.Viewer, "GET", "/editions/barrage/2/diff?against=x",
			nil, nil, 400, "request"},
		{"a call that is none", api.Viewer, "GET", "/nowhere", nil, nil, 404, "not-found"},
		{"a role that is none", api.Warden, "POST", "/accounts", api.NewAccount{Name: "x", Role: "king"},
			nil, 422, "define.bad-value"},
		{"a name that is none", api.Warden, "POST", "/accounts", api.NewAccount{Name: "X x",
			Role: api.Viewer}, nil, 422, "define.bad-value"},
		{"a name that is taken", api.Warden, "POST", "/accounts", api.NewAccount{Name: "a-viewer",
			Role: api.Viewer}, nil, 422, "define.duplicate-name"},
		{"no certificate", api.Operator, "POST", "/keys", api.KeyData{Data: []byte("hello")}, nil, 422,
			"key.unreadable"},
	} {
		t.Run(c.name, func(t *testing.T) {
			d.t = t
			change := c.change
			if change == nil {
				change = func(*http.Request) {}
			}
			w := d.ask(c.role, c.method, c.path, c.body, change)
			kind := ""
			if w.Code != 200 {
				kind = d.problemOf(c.name, w)
			}
			if w.Code != c.status || kind != c.kind {
				t.Errorf("%d %s, and %d %s was meant: %s", w.Code, kind, c.status, c.kind, w.Body)
			}
		})
	}
}

// Whoever tries tokens is slowed down; a right one works at once.
func TestWhoGuessesTokensIsSlowedDown(t *testing.T) {
	d := newDesk(t)
	for i := range guessesMost + 2 {
		w := d.ask("wrong", "GET", "/whoami", nil)
		late := i >= guessesMost-1
		if kind := d.problemOf("wrong", w); late != (w.Code == 429 && kind == "guessing") ||
			late != (w.Header().Get(
				"Retry-After") != "") || !late && w.Header().Get("WWW-Authenticate") == "" {
			t.Errorf("try %d: %d %s", i, w.Code, kind)
		}
	}
	d.must(d.ask(api.Viewer, "GET", "/whoami", nil), 200, nil)
	other := func(r *http.Request) { r.RemoteAddr = "192.0.2.9:1234" }
	if w := d.ask("wrong", "GET", "/whoami", nil, other); w.Code != 401 {
		t.Errorf("from another address: %d", w.Code)
	}
	now := time.Now()
	g := newGuesses(func() time.Time { return now })
	for range guessesMost {
		if g.wait("x") != 0 {
			t.Error("it waits too early")
		}
		g.wrong("x")
	}
	if got := g.wait("x"); got != guessesTime {
		t.Errorf("%s", got)
	}
	now = now.Add(guessesTime)
	if got := g.wait("x"); got != 0 {
		t.Errorf("%s after a minute", got)
	}
}

// records makes a number of revisions and journal entries.
func (d *desk) records(n int) {
	d.t.Helper()
	for i := range n {
		text := fmt.Sprintf("stockade: 1\nproxies:\n  gate:\n    url: http://proxy-%d.reach.example:3128\n",
			i)
		d.must(d.ask(api.Operator, "POST", "/definitions/record", api.Documents{
			Documents: []definition.Text{{Name: "reach.yaml", Text: text}},
			Summary:   fmt.Sprint("change ", i),
		}), 200, nil)
	}
}

// Pages follow one another: everything once, newest first, and an end.
func TestPagesFollowOneAnother(t *testing.T) {
	d := newDesk(t)
	const n = 23
	d.records(n)
	walk := func(path string, limit int) (ids []int64, pages int) {
		next := ""
		for {
			var page struct {
				Items []map[string]any `json:"items"`
				Next  string           `json:"next"`
			}
			d.must(d.ask(api.Viewer, "GET", fmt.Sprintf("%s?limit=%d&cursor=%s", path, limit, next), nil),
				200, &page)
			pages++
			if len(page.Items) > limit {
				t.Fatalf("%s: %d of at most %d", path, len(page.Items), limit)
			}
			for _, it := range page.Items {
				id, ok := it["id"].(float64)
				if !ok {
					id, ok = it["number"].(float64)
				}
				if !ok {
					t.Fatalf("%s: %v has no number", path, it)
				}
				ids = append(ids, int64(id))
			}
			if next = page.Next; next == "" {
				return ids, pages
			}
			if pages > 100 {
				t.Fatal("the pages have no end")
			}
		}
	}
	for _, path := range []string{"/revisions", "/journal"} {
		whole, pages := walk(path, 1000)
		if pages != 1 || len(whole) < n || !slices.IsSortedFunc(whole,
			func(a, b int64) int { return int(b - a) }) {
			t.Errorf("%s: %d pages of %v", path, pages, whole)
		}
		for _, limit := range []int{1, 5, len(whole) - 1, len(whole)} {
			got, pages := walk(path, limit)
			if !slices.Equal(got, whole) || pages < (len(whole)+limit-1)/limit {
				t.Errorf("%s by %d: %d pages, %d of %d", path, limit, pages, len(got), len(whole))
			}
		}
	}
	// What comes while somebody reads does not move what was before it.
	var first struct{ Next string }
	d.must(d.ask(api.Viewer, "GET", "/revisions?limit=5", nil), 200, &first)
	before, _ := walk("/revisions", 1000)
	d.records(3)
	var second struct{ Items []api.Revision }
	d.must(d.ask(api.Viewer, "GET", "/revisions?limit=5&cursor="+first.Next, nil), 200, &second)
	if len(second.Items) != 5 || int64(second.Items[0].ID) != before[5] {
		t.Errorf("the second page begins with %+v, and was to begin with %d", second.Items[0], before[5])
	}
}

// The events of a job end when it does, and the last one tells how.
func TestEventsEnd(t *testing.T) {
	d := newDesk(t)
	server := httptest.NewServer(d.handler)
	defer server.Close()
	var job api.Job
	d.must(d.ask(api.Operator, "POST", "/pool/sweep", nil), 200, &job)
	for range 2 { // while it runs, perhaps, and when it has ended
		r, err := http.NewRequestWithContext(t.Context(), "GET", fmt.Sprintf("%s%s/jobs/%d/events",
			server.URL, api.Base, job.ID), nil)
		must.Do(t, err)
		r.Header.Set("Authorization", "Bearer "+d.tokens[api.Viewer])
		res, err := http.DefaultClient.Do(r)
		must.Do(t, err)
		if got := res.Header.Get("Content-Type"); !strings.HasPrefix(got, "text/event-stream") {
			t.Errorf("%q", got)
		}
		last := ""
		lines := bufio.NewScanner(res.Body)
		for lines.Scan() {
			if data, ok := strings.CutPrefix(lines.Text(), "data:"); ok {
				last = data
			}
		}
		res.Body.Close()
		var ended api.JobEvent
		if err := json.Unmarshal([]byte(last), &ended); err != nil || ended.Job == nil ||
			ended.Job.ID != job.ID || ended.Job.State != api.Done {
			t.Errorf("%v: %s", err, last)
		}
	}
}
