package service

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/must"
	"stockade/internal/store"
)

// signIn begins a session and gives a change that puts its cookie on a request of the console.
func (d *desk) signIn(in api.SignIn) (cookie *http.Cookie, asConsole func(*http.Request)) {
	d.t.Helper()
	w := d.ask("", "POST", "/session", in)
	d.must(w, 200, nil)
	cookies := w.Result().Cookies()
	if len(cookies) != 1 || !cookies[0].HttpOnly || cookies[0].SameSite != http.SameSiteStrictMode {
		d.t.Fatalf("cookies: %+v", cookies)
	}
	return cookies[0], func(r *http.Request) {
		r.AddCookie(cookies[0])
		r.Header.Set("Origin", "http://127.0.0.1:8440")
	}
}

func (d *desk) status(want int, what, method, path string, body any, change func(*http.Request)) {
	d.t.Helper()
	if w := d.ask("", method, path, body, change); w.Code != want {
		d.t.Errorf("%s: %d, and %d was meant: %s", what, w.Code, want, w.Body)
	}
}

func TestASessionStandsForItsToken(t *testing.T) {
	d := newDesk(t)
	cookie, asConsole := d.signIn(api.SignIn{Token: d.tokens[api.Operator]})
	var me api.Who
	d.must(d.ask("", "GET", "/whoami", nil, asConsole), 200, &me)
	if me.Account != "a-operator" || me.Role != api.Operator || me.Needs["vouch"] != api.Warden ||
		me.Needs["build"] != "" {
		t.Errorf("%+v", me)
	}
	d.status(200, "a call of the console", "POST", "/pool/sweep", nil, asConsole)
	with := func(name, value string) func(*http.Request) {
		return func(r *http.Request) {
			r.AddCookie(cookie)
			if name != "" {
				r.Header.Set(name, value)
			}
		}
	}
	d.status(403, "nothing says whose page it is", "POST", "/pool/sweep", nil, with("", ""))
	d.status(403, "a page at another port", "POST", "/pool/sweep", nil,
		with("Origin", "http://127.0.0.1:99"))
	d.status(403, "read by a page at another port", "GET", "/sources", nil,
		with("Sec-Fetch-Site", "same-site"))
	d.status(403, "too much for the role", "POST", "/accounts", api.NewAccount{Name: "x", Role: "viewer"},
		asConsole)
	d.status(200, "ask a warden to record it, or remove unsigned", "DELETE", "/session", nil, asConsole)
	d.status(401, "after signing out", "GET", "/whoami", nil, asConsole)
}

func TestWhatEndsASession(t *testing.T) {
	for _, c := range []struct {
		name string
		do   func(t *testing.T, d *desk, hash string)
	}{
		{"its token is taken back", func(t *testing.T, d *desk, _ string) {
			d.must(d.ask(api.Operator, "POST", "/accounts/a-operator/tokens", api.TokenAsked{Name: "other"}),
				200, nil)
			d.must(d.ask(api.Operator, "DELETE", "/accounts/a-operator/tokens/first", nil), 200, nil)
		}},
		{"a warden ends it", func(t *testing.T, d *desk, hash string) {
			d.must(d.ask(api.Warden, "DELETE", "/accounts/a-operator/sessions/"+tokenID(hash), nil), 200,
				nil)
		}},
		{"the account is removed", func(t *testing.T, d *desk, _ string) {
			d.must(d.ask(api.Warden, "DELETE", "/accounts/a-operator", nil), 200, nil)
		}},
		{"nobody used it for long", func(t *testing.T, d *desk, _ string) {
			d.s.now = func() time.Time { return time.Now().Add(sessionIdle + 2*time.Minute) }
		}},
		{"somebody leads its record to a warden", func(t *testing.T, d *desk, hash string) {
			row, err := d.s.db.SessionBy(hash)
			must.Do(t, err)
			row.Account = "warden"
			must.Do(t, d.s.db.EndSession(hash))
			must.Do(t, d.s.db.AddSession(row))
		}},
		{"somebody makes its record younger", func(t *testing.T, d *desk, hash string) {
			row, err := d.s.db.SessionBy(hash)
			must.Do(t, err)
			row.Created = row.Created.Add(time.Hour)
			must.Do(t, d.s.db.EndSession(hash))
			must.Do(t, d.s.db.AddSession(row))
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := newDesk(t)
			cookie, asConsole := d.signIn(api.SignIn{Token: d.tokens[api.Operator]})
			d.status(200, "before", "GET", "/whoami", nil, asConsole)
			c.do(t, d, tokenHash(cookie.Value))
			d.status(401, "after", "GET", "/whoami", nil, asConsole)
		})
	}
}

func TestASessionThatIsUsedLastsUntilItsEnd(t *testing.T) {
	d := newDesk(t)
	_, asConsole := d.signIn(api.SignIn{Token: d.tokens[api.Viewer]})
	start := time.Now()
	for at := time.Duration(0); at < sessionMost; at += sessionIdle / 2 {
		d.s.now = func() time.Time { return start.Add(at) }
		d.status(200, at.String(), "GET", "/whoami", nil, asConsole)
	}
	d.s.now = func() time.Time { return start.Add(sessionMost + time.Minute) }
	d.status(401, "after its end", "GET", "/whoami", nil, asConsole)
}

func TestAPasswordSignsIn(t *testing.T) {
	d := newDesk(t)
	const word, other = "gate seven at slack water", "a lantern under the quay"
	path := "/accounts/a-operator/password"
	for _, c := range []struct {
		name, role, word string
		status           int
	}{
		{"too short", api.Operator, "tide 4", 422},
		{"one letter", api.Operator, strings.Repeat("o", 20), 422},
		{"longer than is looked at", api.Operator, strings.Repeat("tide ", 300), 422},
		{"that of another", api.Warden, word, 403},
		{"that of another, by a viewer", api.Viewer, word, 403},
		{"right", api.Operator, word, 200},
	} {
		if w := d.ask(c.role, "PUT", path, api.PasswordGiven{Password: c.word}); w.Code != c.status {
			t.Errorf("%s: %d %s", c.name, w.Code, w.Body)
		}
	}
	for _, wrong := range []api.SignIn{{Account: "a-operator", Password: other}, {Account: "a-operator"},
		{Account: "a-viewer"}, {Account: "nobody", Password: word}, {}} {
		w := d.ask("", "POST", "/session", wrong)
		if kind := d.problemOf("wrong", w); w.Code != 401 || kind != "token" ||
			len(w.Result().Cookies()) > 0 {
			t.Errorf("%+v: %d %s", wrong, w.Code, kind)
		}
	}
	_, first := d.signIn(api.SignIn{Account: "a-operator", Password: word})
	_, second := d.signIn(api.SignIn{Account: "a-operator", Password: word})
	d.status(422, "without the one before", "PUT", path, api.PasswordGiven{Password: other}, first)
	d.status(200, "changed", "PUT", path, api.PasswordGiven{Before: word, Password: other}, first)
	d.status(200, "the session that changed it", "GET", "/whoami", nil, first)
	d.status(401, "the other session", "GET", "/whoami", nil, second)
	var me api.Account
	d.must(d.ask(api.Operator, "GET", "/accounts/a-operator", nil), 200, &me)
	if len(me.Sessions) != 1 {
		t.Errorf("%d sessions are told of, and one counts", len(me.Sessions))
	}
	d.status(401, "the old password", "POST", "/session", api.SignIn{Account: "a-operator",
		Password: word}, func(*http.Request) {})
	d.must(d.ask(api.Warden, "DELETE", path, nil), 200, nil)
	d.status(401, "after it was forgotten", "GET", "/whoami", nil, first)
}

// Whoever guesses a password is refused for a while, whether right or wrong; a token of the
// account still signs in.
func TestWhoGuessesPasswordsWaits(t *testing.T) {
	d := newDesk(t)
	const word = "gate seven at slack water"
	d.must(d.ask(api.Operator, "PUT", "/accounts/a-operator/password", api.PasswordGiven{Password: word}),
		200, nil)
	for range guessesMost {
		d.ask("", "POST", "/session", api.SignIn{Account: "a-operator", Password: "not this one, no"})
	}
	w := d.ask("", "POST", "/session", api.SignIn{Account: "a-operator", Password: word})
	if kind := d.problemOf("guessing", w); w.Code != 429 || kind != "guessing" {
		t.Errorf("%d %s", w.Code, kind)
	}
	d.signIn(api.SignIn{Token: d.tokens[api.Operator]})
}

func TestTokensEnd(t *testing.T) {
	d := newDesk(t)
	in := func(days int) *time.Time { at := time.Now().Add(time.Duration(days) * 24 * time.Hour); return &at }
	make := func(role, of, name string, ends *time.Time, status int) string {
		t.Helper()
		var made api.NewToken
		w := d.ask(role, "POST", "/accounts/"+of+"/tokens", api.TokenAsked{Name: name, Ends: ends})
		if w.Code != status {
			t.Errorf("%s for %s: %d %s", role, of, w.Code, w.Body)
		}
		if w.Code == 200 {
			d.must(w, 200, &made)
		}
		return made.Token
	}
	make(api.Operator, "a-operator", "past", in(-1), 422)
	make(api.Operator, "a-operator", "", nil, 422)
	make(api.Operator, "a-operator", "first", nil, 422)
	make(api.Operator, "a-viewer", "night", nil, 403)
	make(api.Warden, "a-viewer", "night", nil, 200)
	d.must(d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "ines", Role: api.Warden}), 200, nil)
	make(api.Warden, "ines", "night", nil, 403) // two wardens stay two
	d.tokens["short"] = make(api.Operator, "a-operator", "short", in(2), 200)
	make("short", "a-operator", "longer", in(3), 422)
	make("short", "a-operator", "for ever", nil, 422)
	make("short", "a-operator", "as long", in(1), 200)
	if w := d.ask("short", "PUT", "/accounts/a-operator/password",
		api.PasswordGiven{Password: "gate seven at slack water"}); w.Code != 422 {
		t.Errorf("a password outlasts the token: %d", w.Code)
	}
	_, asConsole := d.signIn(api.SignIn{Token: d.tokens["short"]})
	d.must(d.ask("short", "GET", "/whoami", nil), 200, nil)

	d.s.now = func() time.Time { return time.Now().Add(49 * time.Hour) }
	d.status(401, "a session of a token that ended", "GET", "/whoami", nil, asConsole)
	if w := d.ask("short", "GET", "/whoami", nil); w.Code != 401 {
		t.Errorf("a token that ended: %d", w.Code)
	}
	// who writes the records makes it last longer
	row, err := d.s.db.TokenBy(tokenHash(d.tokens["short"]))
	must.Do(t, err)
	row.Ends = nil
	must.Do(t, d.s.db.AddToken(row))
	if w := d.ask("short", "GET", "/whoami", nil); w.Code != 401 {
		t.Errorf("a token whose end somebody took away: %d", w.Code)
	}
}

func TestAnAccountsRoleIsWhatItsEntrySays(t *testing.T) {
	d := newDesk(t)
	const word = "gate seven at slack water"
	d.must(d.ask(api.Operator, "PUT", "/accounts/a-operator/password", api.PasswordGiven{Password: word}),
		200,
		nil)
	_, asConsole := d.signIn(api.SignIn{Account: "a-operator", Password: word})
	var lower, higher api.NewToken
	d.must(d.ask(api.Warden, "PUT", "/accounts/a-operator/role", api.RoleGiven{Role: api.Viewer}), 200,
		&lower)
	if w := d.ask(api.Operator, "GET", "/whoami", nil); w.Code != 401 {
		t.Errorf("a token of before the role changed: got %d, want 401", w.Code)
	}
	d.status(401, "a session of before the role changed", "GET", "/whoami", nil, asConsole)
	d.status(401, "the password of before the role changed", "POST", "/session",
		api.SignIn{Account: "a-operator", Password: word}, func(*http.Request) {})
	d.tokens["lower"] = lower.Token
	if w := d.ask("lower", "POST", "/pool/sweep", nil); w.Code != 403 {
		t.Errorf("the new token of a viewer: got %d, want 403", w.Code)
	}
	d.must(d.ask(api.Warden, "PUT", "/accounts/a-operator/role", api.RoleGiven{Role: api.Operator}), 200,
		&higher)
	if w := d.ask("lower", "GET", "/whoami", nil); w.Code != 401 {
		t.Errorf("a token of the lower role: got %d, want 401", w.Code)
	}
	d.tokens[api.Operator] = higher.Token
	d.must(d.ask(api.Operator, "POST", "/pool/sweep", nil), 200, nil)
	for what, w := range map[string]int{
		"a role that is none": d.ask(api.Warden, "PUT", "/accounts/a-viewer/role",
			api.RoleGiven{Role: "king"}).Code,
		"one's own": d.ask(api.Warden, "PUT", "/accounts/warden/role", api.RoleGiven{Role: api.Viewer}).Code,
		"the last thing to sign in with": d.ask(api.Viewer, "DELETE", "/accounts/a-viewer/tokens/first",
			nil).Code,
		"a password that there is not": d.ask(api.Viewer, "DELETE", "/accounts/a-viewer/password",
			nil).Code - 404 + 422,
	} {
		if w != 422 {
			t.Errorf("%s: %d", what, w)
		}
	}
	// what no entry says does not count
	a, err := d.s.db.AccountBy("a-viewer")
	must.Do(t, err)
	a.Password = passwordRecord("gate seven at slack water")
	must.Do(t, d.s.db.SaveAccount(a))
	d.status(401, "a password from elsewhere", "POST", "/session",
		api.SignIn{Account: "a-viewer", Password: "gate seven at slack water"}, func(*http.Request) {})
	found, err := d.s.contradictions()
	if err != nil || len(found) != 1 || !strings.Contains(found[0].Text,
		"a password for the account a-viewer") {
		t.Errorf("%v %v", found, err)
	}
}

// When something was used is kept, without counting as a change of the records.
func TestWhenTokensAreUsedIsKept(t *testing.T) {
	d := newDesk(t)
	d.must(d.ask(api.Viewer, "GET", "/sources", nil), 200, nil)
	before := d.s.db.Changes()
	hash := tokenHash(d.tokens[api.Viewer])
	at := time.Now().UTC().Truncate(time.Minute)
	must.Do(t, d.s.db.Used(map[string]time.Time{hash: at}, nil))
	row, err := d.s.db.TokenBy(hash)
	if err != nil || row.Used == nil || !row.Used.Equal(at) || d.s.db.Changes() != before {
		t.Errorf("%+v %v", row, err)
	}
	var me api.Account
	d.must(d.ask(api.Viewer, "GET", "/accounts/a-viewer", nil), 200, &me)
	if len(me.Tokens) != 1 || me.Tokens[0].Used == nil || me.Tokens[0].Name != "first" {
		t.Errorf("%+v", me)
	}
	var sessions []store.Session
	for range sessionsOf + 3 {
		d.signIn(api.SignIn{Token: d.tokens[api.Viewer]})
	}
	if sessions, err = d.s.db.Sessions("a-viewer"); err != nil || len(sessions) != sessionsOf {
		t.Errorf("%d sessions: %v", len(sessions), err)
	}
}

// An open page is told of what is recorded, and its stream ends with what it is signed in with.
func TestOpenPagesAreToldWhatHappens(t *testing.T) {
	d := newDesk(t)
	n, leave := d.s.live.join("a-viewer")
	defer leave()
	d.must(d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "mara", Role: api.Viewer}), 200, nil)
	select {
	case <-n.changed:
	default:
		t.Error("an account was made, and nothing told of it")
	}
	var job api.Job
	d.must(d.ask(api.Operator, "POST", "/pool/sweep", nil), 200, &job)
	begun := <-n.news
	if begun.ID != job.ID || begun.Job == nil || begun.Job.State != api.Running {
		t.Errorf("the job began: %+v", begun)
	}
	for ended := range n.news {
		if ended.Job != nil {
			if ended.Job.State != api.Done || ended.Job.Result != nil {
				t.Errorf("the job ended: %+v", ended.Job)
			}
			break
		}
	}
	for range cap(n.news) + 5 { // a page that does not read holds nothing up
		d.s.live.tell(api.News{ID: 1})
	}
	select {
	case <-n.changed:
	default:
		t.Error("what a page missed was not made up for")
	}

	known := func(by credentialOf) bool {
		is, err := d.s.knownNow(by)
		must.Do(t, err)
		return is
	}
	by, ok, _ := d.s.byToken(d.tokens[api.Viewer])
	if !ok || !known(by) {
		t.Fatal("a token counts")
	}
	d.must(d.ask(api.Warden, "DELETE", "/accounts/a-viewer", nil), 200, nil)
	if known(by) {
		t.Error("its account was removed, and the stream goes on")
	}
}
