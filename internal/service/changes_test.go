package service

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/made"
	"stockade/internal/must"
)

// waiting sends requests that all wait for the lock, and gives their answers once first has been done
// with it: what each is allowed is decided when it has the lock.
func (d *desk) waiting(requests ...func() *httptest.ResponseRecorder) (answers []*httptest.ResponseRecorder) {
	d.t.Helper()
	d.s.writing.Lock()
	answers = make([]*httptest.ResponseRecorder, len(requests))
	var done sync.WaitGroup
	for i, ask := range requests {
		done.Go(func() { answers[i] = ask() })
	}
	// By now they wait. One that is slower is refused by the check of the request: that holds too.
	time.Sleep(300 * time.Millisecond)
	d.s.writing.Unlock()
	done.Wait()
	return answers
}

func TestRightsAreReadAgainWhenAChangeHasTheLock(t *testing.T) {
	d := newDesk(t)
	var ines api.NewToken
	d.must(d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "ines", Role: api.Warden}), 200, &ines)
	d.tokens["ines"] = ines.Token

	// Two wardens remove each other: one of them does.
	answers := d.waiting(
		func() *httptest.ResponseRecorder { return d.ask(api.Warden, "DELETE", "/accounts/ines", nil) },
		func() *httptest.ResponseRecorder { return d.ask("ines", "DELETE", "/accounts/warden", nil) })
	left, err := d.s.db.Accounts()
	must.Do(t, err)
	wardens := 0
	for _, a := range left {
		if a.Role == api.Warden {
			wardens++
		}
	}
	if wardens != 1 || (answers[0].Code == 200) == (answers[1].Code == 200) {
		t.Fatalf("two wardens removed each other: %d are left; %d %s, %d %s", wardens, answers[0].Code,
			answers[0].Body, answers[1].Code, answers[1].Body)
	}
}

func TestAChangeOfARemovedAccountIsNotMade(t *testing.T) {
	for what, take := range map[string]func(d *desk){
		"removed": func(d *desk) {
			d.must(d.ask(api.Warden, "DELETE", "/accounts/a-operator", nil), 200, nil)
		},
		"given a lesser role": func(d *desk) {
			d.must(d.ask(api.Warden, "PUT", "/accounts/a-operator/role", api.RoleGiven{Role: api.Viewer}),
				200, nil)
		},
		"whose token was taken back": func(d *desk) {
			d.must(d.ask(api.Warden, "POST", "/accounts/a-operator/tokens", api.TokenAsked{Name: "second"}),
				200, nil)
			d.must(d.ask(api.Warden, "DELETE", "/accounts/a-operator/tokens/first", nil), 200, nil)
		},
	} {
		t.Run(what, func(t *testing.T) {
			d := newDesk(t)
			by, known, err := d.s.byToken(d.tokens[api.Operator])
			if err != nil || !known {
				t.Fatal(known, err)
			}
			asked := actor{name: "a-operator", known: by, least: api.Operator}
			ch, err := d.s.begin(asked)
			must.Do(t, err)
			ch.end()
			take(d)
			var p *api.Problem
			if _, err = d.s.begin(asked); !errors.As(err, &p) || p.Status != 403 {
				t.Errorf("a change of an account %s: %v", what, err)
			}
			if !d.s.writing.TryLock() {
				t.Fatal("the refused change holds the lock")
			}
			d.s.writing.Unlock()
			// A job outlasts its session, and not its account.
			_, err = d.s.begin(asked.forJob())
			if refused := errors.As(err, &p); refused == strings.HasPrefix(what, "whose token") {
				t.Errorf("a job of an account %s: %v", what, err)
			}
			if err == nil {
				d.s.writing.Unlock()
			}
		})
	}
}

// One warden does not become two: by no road does an account come by the token of another one that may
// vouch, while two have to.
func TestOnePersonDoesNotBecomeTwoWardens(t *testing.T) {
	d := newDesk(t)
	var ines api.NewToken
	d.must(d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "ines", Role: api.Warden}), 200, &ines)
	d.tokens["ines"] = ines.Token
	d.must(d.ask(api.Warden, "POST", "/definitions/record", api.Documents{Documents: []definition.Text{{
		Name: "site.yaml", Text: "stockade: 1\nrules: {official: {two_persons: true}}\n"}}}), 200, nil)

	var made api.NewToken
	d.must(d.ask(api.Warden, "PUT", "/accounts/ines/role", api.RoleGiven{Role: api.Operator}), 200, &made)
	d.tokens["made for her"] = made.Token
	d.must(d.ask(api.Warden, "POST", "/accounts/ines/tokens", api.TokenAsked{Name: "mine"}), 200, &made)
	w := d.ask(api.Warden, "PUT", "/accounts/ines/role", api.RoleGiven{Role: api.Warden})
	if kind := d.problemOf("up again", w); kind != "account.second-person" {
		t.Errorf("an operator is made a warden again: %d %s", w.Code, kind)
	}
	w = d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "second", Role: api.Warden})
	if kind := d.problemOf("another", w); kind != "account.second-person" {
		t.Errorf("a second warden is made: %d %s", w.Code, kind)
	}
	if w := d.ask("ines", "GET", "/whoami", nil); w.Code != 401 {
		t.Errorf("her own token of before: %d", w.Code)
	}
	d.must(d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "third", Role: api.Operator}), 200,
		nil)
}

func TestWhatATokenThatEndsMakesEndsToo(t *testing.T) {
	d := newDesk(t)
	at := time.Now().Add(48 * time.Hour)
	var short, made api.NewToken
	d.must(d.ask(api.Warden, "POST", "/accounts/warden/tokens", api.TokenAsked{Name: "short", Ends: &at}),
		200,
		&short)
	d.tokens["short"] = short.Token
	d.must(d.ask("short", "POST", "/accounts", api.NewAccount{Name: "mara", Role: api.Warden}), 200, &made)
	d.tokens["of an account"] = made.Token
	d.must(d.ask("short", "PUT", "/accounts/a-viewer/role", api.RoleGiven{Role: api.Operator}), 200, &made)
	d.tokens["of a role"] = made.Token
	if w := d.ask("short", "POST", "/accounts/a-operator/tokens",
		api.TokenAsked{Name: "for ever"}); w.Code != 422 {
		t.Errorf("a token for another account outlasts the one that made it: %d %s", w.Code, w.Body)
	}
	d.must(d.ask("of an account", "GET", "/whoami", nil), 200, nil)
	d.must(d.ask("of a role", "GET", "/whoami", nil), 200, nil)
	d.s.now = func() time.Time { return at.Add(time.Hour) }
	for _, token := range []string{"of an account", "of a role"} {
		if w := d.ask(token, "GET", "/whoami", nil); w.Code != 401 {
			t.Errorf("the token %s outlasts the one that made it: %d", token, w.Code)
		}
	}
}

// Everything that writes the journal does so one after the other.
func TestEntriesThatAreWrittenAtOnceAllHold(t *testing.T) {
	d := newDesk(t)
	const each = 20
	var all sync.WaitGroup
	for i := range each {
		all.Go(func() { d.must(d.ask(api.Warden, "POST", "/site/statement", nil), 200, nil) })
		all.Go(func() {
			d.must(d.ask(api.Warden, "POST", "/accounts",
				api.NewAccount{Name: fmt.Sprintf("mara-%d", i), Role: api.Viewer}), 200, nil)
		})
	}
	all.Wait()
	r, err := journal.Verify(d.s.db.Journal(), d.s.keys)
	if err != nil || !r.Holds {
		t.Errorf("the journal: %+v %v", r, err)
	}
	if rows, err := d.s.db.JournalPage(-1, 1000, "site.state", time.Time{}); err != nil || len(rows) != each {
		t.Errorf("got %d entries of statements, want %d; %v", len(rows), each, err)
	}
}

// What was verified before a bar is not kept after it.
func TestWhatWasVerifiedBeforeABarIsNotKept(t *testing.T) {
	d := newDesk(t)
	key, err := made.Key(made.Owner{Name: "Tarn", Address: "archive@tarn.example"})
	must.Do(t, err)
	fingerprint := key.Certificate().Fingerprint
	d.must(d.ask(api.Warden, "POST", "/keys", api.KeyData{Data: []byte(key.Certificate().Armoured())}), 200,
		nil)
	p := &upstream.Publication{Source: &upstream.Source{Name: "tarn"}, Judged: true,
		Accepted: upstream.Accepted{
			Source: "tarn", Date: time.Now(), Signer: archive.Signer{Fingerprint: fingerprint}}}
	must.Do(t, d.s.keepAccepted(p))
	d.must(d.ask(api.Warden, "POST", "/keys/"+fingerprint+"/bar", api.Decision{Fingerprint: fingerprint,
		Reason: "lost"}), 200, nil)
	p.Accepted.Date = p.Accepted.Date.Add(time.Hour)
	f, ok := finding.From(d.s.keepAccepted(p))
	var kept upstream.Accepted
	_, _, err = d.s.db.Kept("accepted", "tarn", &kept)
	if !ok || f.Code != "key.barred" || err != nil || kept.Date.Equal(p.Accepted.Date) {
		t.Errorf("got %+v, kept %v, %v", f, kept.Date, err)
	}
}

// What a client asked for who left is not worked out to its end, and nothing of it is recorded.
func TestACallEndsWhenItsClientLeaves(t *testing.T) {
	d := newDesk(t)
	left, leave := context.WithCancel(t.Context())
	leave()
	gone := func(r *http.Request) { *r = *r.WithContext(left) }
	in := documents("stockade: 1\nlanes: {steady: {mirror: barrage}}\n" +
		"mirrors: {barrage: {copy: tailored, from: [tarn], want: {packages: [x]}}}\n" +
		"sources: {tarn: {family: deb, standing: official, release: heron, components: [core], " +
		"architectures: [amd64], upstreams: [{url: \"https://north.tarn.example/tarn\"}], " +
		"signed_by: [7C1B22E05A90D4417F039E6AB2C871D0453FF1A9]}}\n")
	for _, call := range []string{"/definitions/check", "/definitions/compare", "/definitions/record"} {
		if w := d.ask(api.Operator, "POST", call, in, gone); w.Code == 200 {
			t.Errorf("%s: got an answer, for nobody: %s", call, w.Body)
		}
	}
	set, err := d.s.db.Described()
	must.Do(t, err)
	if len(set.Sources) != 0 {
		t.Error("it was recorded")
	}
	d.must(d.ask(api.Operator, "POST", "/definitions/record", in), 200, nil)
}
