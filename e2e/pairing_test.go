package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"stockade/core/trust"
	"stockade/internal/demo"
	"stockade/internal/must"
)

// What another site has compared is taken on its word, once a warden has compared the key of
// that site: with evidence that names both, and only for what is the same thing here.
func TestAStatementOfAPairedSiteVouches(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	at := func(name string) string { return filepath.Join(s.dir, name) }
	harbour := demo.NewHarbour()
	made := time.Now().Add(-time.Minute)
	state := func(name string, when time.Time, change func(*trust.Statement)) string {
		t.Helper()
		text, err := harbour.State(s.scenario, when, change)
		if err == nil {
			err = os.WriteFile(at(name), text, 0o644)
		}
		must.Do(t, err)
		return at(name)
	}
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	theirs := harbour.Key.Certificate().Fingerprint
	statement := state("statement.asc", made, nil)
	pair := []string{"site", "pair", "harbour", statement, "--evidence", "read out by Ola", "--fingerprint"}

	if _, err := s.cli(1, "key", "vouch", "--from", statement, "--yes"); !strings.Contains(err,
		"no paired site signed the statement") {
		t.Error(err)
	}
	if _, err := s.cli(1, append(pair, kelp)...); !strings.Contains(err,
		"the file contains "+trust.Spaced(theirs)) {
		t.Error(err)
	}
	s.cli(2, append(pair, theirs[:16])...)
	s.cli(2, "site", "pair", "harbour", statement, "--fingerprint", theirs)
	back := s.as("ola", "operator")
	if _, err := s.cli(4, append(pair, theirs)...); !strings.Contains(err, "warden") {
		t.Error(err)
	}
	back()
	s.cli(0, append(pair, trust.Spaced(theirs))...)
	if out := mustOut(s, "site", "show"); !strings.Contains(out, "harbour: "+trust.Spaced(theirs)) {
		t.Error(out)
	}
	// A pairing lets the other site sign nothing here.
	if out := mustOut(s, "key", "show", theirs); strings.Contains(out, "tarn") {
		t.Error(out)
	}

	// Kelp's key was withdrawn here; the harbour has compared it.
	s.cli(0, "key", "withdraw", kelp, "--source", "kelp", "--reason", "compared with the wrong sheet")
	if _, err := s.cli(2, "key", "vouch", "--from", statement); !strings.Contains(err,
		"This vouches for 1 key on the evidence of harbour") || !strings.Contains(err,
		"vouch for       kelp") ||
		!strings.Contains(err, "already vouched tarn") || !strings.Contains(err,
		"Read out by Kelp's service desk") {
		t.Error(err)
	}
	if out := mustOut(s, "key", "list", "--source", "kelp", "-o", "json"); strings.Contains(out, `"source": "kelp"`) {
		t.Error("to look was to decide")
	}
	if out := mustOut(s, "key", "vouch", "--from", statement, "--yes", "-o", "ids"); out != kelp+"\n" {
		t.Error(out)
	}
	out := mustOut(s, "key", "show", kelp)
	for _, says := range []string{"stated by the site harbour (" + theirs + ")", "per vouched for it on",
		"Read out by Kelp's service desk at the yard"} {
		if !strings.Contains(strings.Join(strings.Fields(out), " "), says) {
			t.Errorf("%q is not in\n%s", says, out)
		}
	}
	s.cli(0, "source", "refresh", "kelp")

	// An older one says nothing any more; one that is another thing here is passed over; a bar is told.
	if _, err := s.cli(1, "key", "vouch", "--from", state("old.asc", made.Add(-time.Hour), nil),
		"--yes"); !strings.Contains(err, "one made on "+made.UTC().Format("2006-01-02 15:04")) {
		t.Error(err)
	}
	other := state("other.asc", made.Add(time.Second), func(st *trust.Statement) {
		st.Vouches[1].Release = "osprey"
		st.Bars = []trust.StatedBar{{Fingerprint: kelp, Reason: "the yard lost it", By: "ola", At: made}}
	})
	_, err := s.cli(0, "key", "vouch", "--from", other, "--yes")
	for _, says := range []string{"skipped         kelp",
		"the source is deb osprey there, and deb heron here",
		"harbour barred this key on", "the yard lost it", "the statement contains nothing new"} {
		if !strings.Contains(err, says) {
			t.Errorf("%q is not in\n%s", says, err)
		}
	}
	if _, err := s.cli(1, "key", "vouch", "--from", state("ahead.asc", time.Now().Add(48*time.Hour), nil),
		"--yes"); !strings.Contains(err, "the clock of this machine says") {
		t.Error(err)
	}

	// What this site states, another takes alike: its own words are read back.
	s.cli(0, "site", "statement", "--out", at("ours.asc"))
	us := siteNow(s).Keys[0].Fingerprint
	ours, e := trust.WhoStates([]byte(must.Read(t, at("ours.asc"))), time.Now)
	if e != nil || ours.Fingerprint != us {
		t.Fatal(e)
	}
	st, e := trust.ReadStatement([]byte(must.Read(t, at("ours.asc"))), trust.NewKeyring("barrage",
		[]trust.Known{{Certificate: ours, VouchedFor: []string{"barrage"}}}, time.Now))
	if e != nil || len(st.Vouches) < 3 {
		t.Fatal(e, st)
	}
	for _, v := range st.Vouches {
		if v.Source == "site/harbour" {
			t.Error("the pairing is stated to others")
		}
	}

	// A pairing is taken back as a vouch is.
	s.cli(0, "key", "withdraw", theirs, "--source", "site/harbour", "--reason", "a trial")
	if _, err := s.cli(1, "key", "vouch", "--from", other, "--yes"); !strings.Contains(err,
		"no paired site") {
		t.Error(err)
	}
	s.cli(0, append(pair, theirs)...)

	// Barred, the other site's word counts no more.
	s.cli(0, "key", "bar", theirs, "--reason", "the harbour was broken into", "--yes")
	if _, err := s.cli(1, "key", "vouch", "--from", state("late.asc", time.Now(), nil),
		"--yes"); !strings.Contains(err, "barred") {
		t.Error(err)
	}
	if out := mustOut(s, "site", "show"); !strings.Contains(out, "barred: the harbour was broken into") {
		t.Error(out)
	}
	if out := mustOut(s, "journal", "verify"); !strings.Contains(out, "chain intact") {
		t.Error(out)
	}
}

// The console shows what a statement comes to before it is taken.
func TestTheConsoleTakesAStatement(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	harbour := demo.NewHarbour()
	must.Do(t, harbour.Write(filepath.Join(s.dir, "harbour"), s.scenario, time.Now()))
	file := filepath.Join(s.dir, "harbour", "statement.asc")
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	s.cli(0, "key", "withdraw", kelp, "--source", "kelp", "--reason", "compared with the wrong sheet")
	b := signedIn(t, s, "/keys")
	b.click("Import statement")
	choose := func() {
		t.Helper()
		b.run("choose the file", chromedp.SetUploadFiles("input[aria-label=Statement]", []string{file},
			chromedp.ByQuery))
	}
	choose()
	b.see("no paired site signed the statement")
	s.cli(0, "site", "pair", "harbour", file, "--fingerprint", harbour.Key.Certificate().Fingerprint,
		"--evidence", "read out")
	choose()
	b.see("Read out by Kelp's service desk")
	b.see("already vouched")
	b.shot("statement")
	b.click("Vouch for 1 key")
	b.see("recorded, with its evidence")
	b.click("Close")
	b.open("/keys/" + kelp)
	b.see("stated by the site harbour")
}
