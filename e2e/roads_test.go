package e2e

import (
	"bytes"
	"context"
	"crypto"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/made"
	"stockade/internal/must"
)

// as makes the following commands those of a new account, until the test goes back.
func (s *site) as(name, role string) (back func()) {
	s.t.Helper()
	token := strings.TrimSpace(mustOut(s, "account", "add", name, "--role", role))
	s.env["STOCKADE_TOKEN"] = token
	return func() { s.env["STOCKADE_TOKEN"] = s.token }
}

// db opens the records behind the program's back; the service is not running.
func (s *site) db(f func(db *sql.DB)) {
	s.t.Helper()
	s.stop()
	db, err := sql.Open("sqlite", filepath.Join(s.dir, "data/stockade.db"))
	must.Do(s.t, err)
	f(db)
	must.Do(s.t, db.Close())
	s.start()
}

// altered changes the records behind the program's back.
func altered(t *testing.T, db *sql.DB, statement string, args ...any) {
	t.Helper()
	r, err := db.Exec(statement, args...)
	must.Do(t, err)
	if n, _ := r.RowsAffected(); n == 0 {
		t.Fatalf("nothing was changed by %s", statement)
	}
}

func TestASourceDescribedAgainKeepsItsGuardAndNotItsDecisions(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	describe := func(name, url string) string {
		text := "stockade: 1\nsources:\n  " + name +
			":\n    family: deb\n    standing: vendor\n    upstreams: [{url: \"" + url +
			"\"}]\n    release: heron\n    components: [drives]\n    architectures: [amd64]\n    " +
			"signed_by: [kelp-release]\n"
		p := filepath.Join(s.dir, name+".yaml")
		must.Write(t, p, text)
		return p
	}
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	vouch := func(name string) {
		s.cli(0, "key", "vouch", kelp, "--source", name, "--evidence", "compared again")
	}
	s.cli(0, "record", describe("moor", s.scenario.Vendor.URL))
	vouch("moor")
	s.cli(0, "source", "refresh", "moor")
	// The vendor's server is put back to an older publication, validly signed.
	older := s.scenario.Kelp
	older.Date = older.Date.Add(-10 * 24 * time.Hour)
	files, err := older.Publish(s.scenario.KelpKey)
	must.Do(t, err)
	s.scenario.Vendor.Publish(files)
	_, log := s.cli(1, "source", "refresh", "moor")
	if !strings.Contains(log, "source.older-than-accepted") {
		t.Fatal(log)
	}
	// An operator takes the source out and describes it again: under its name with
	// the address spelt otherwise, under another name, by another road to the server.
	back := s.as("ola", "operator")
	s.cli(0, "source", "remove", "moor", "--yes")
	for name, url := range map[string]string{
		"moor":  s.scenario.Vendor.URL + "/",
		"moor2": s.scenario.Vendor.URL,
		"moor3": strings.Replace(s.scenario.Vendor.URL, "127.0.0.1", "localhost", 1),
	} {
		s.cli(0, "record", describe(name, url))
		_, log := s.cli(1, "source", "refresh", name)
		if !strings.Contains(log, "key.unvouched") {
			t.Errorf("%s: the decision of the source that was taken out still counts: %s", name, log)
		}
	}
	back()
	for _, name := range []string{"moor", "moor2", "moor3"} {
		vouch(name)
		_, log := s.cli(1, "source", "refresh", name)
		if !strings.Contains(log, "source.older-than-accepted") {
			t.Errorf("%s: the older root was taken: %s", name, log)
		}
	}
	if out, _ := s.cli(0, "journal", "list", "--search", "key.withdraw"); !strings.Contains(out,
		"the source was removed from the definitions") {
		t.Error(out)
	}
}

func TestARevocationIsNotUndoneByAnOlderCopy(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	made := time.Now().Add(-time.Hour)
	cfg := &packet.Config{
		Algorithm:   packet.PubKeyAlgoEdDSA,
		DefaultHash: crypto.SHA512,
		Time:        func() time.Time { return made },
	}
	e, err := openpgp.NewEntity("Kelp desk", "", "desk@kelp.example", cfg)
	must.Do(t, err)
	file := func(name string) string {
		var b bytes.Buffer
		must.Do(t, e.Serialize(&b))
		p := filepath.Join(s.dir, name)
		must.Do(t, os.WriteFile(p, b.Bytes(), 0o644))
		return p
	}
	old := file("old.pgp")
	must.Do(t, e.RevokeKey(packet.KeyCompromised, "the desk was broken into", cfg))
	revoked := file("revoked.pgp")
	// As owners publish it: the statement alone, for a key that is here.
	var statement bytes.Buffer
	must.Do(t, e.Revocations[0].Serialize(&statement))
	alone := filepath.Join(s.dir, "withdrawn.pgp")
	must.Do(t, os.WriteFile(alone, statement.Bytes(), 0o644))
	if _, log := s.cli(1, "key", "add", alone); !strings.Contains(log, "import the certificate first") {
		t.Errorf("of a key that nobody brought in: %s", log)
	}
	s.cli(0, "key", "add", old)
	fingerprint := strings.ToUpper(strings.TrimSpace(mustOut(s, "key", "add", alone, "-o", "ids")))
	if out := mustOut(s, "key", "show", fingerprint); !strings.Contains(out, "the desk was broken into") {
		t.Errorf("the statement alone withdraws nothing: %s", out)
	}
	s.cli(0, "key", "add", revoked)
	shown := func() bool {
		return strings.Contains(mustOut(s, "key", "show", fingerprint, "-o", "json"),
			"the desk was broken into")
	}
	if !shown() {
		t.Fatal("the revocation is not shown at all")
	}
	s.cli(0, "key", "add", old)
	if !shown() {
		t.Error("the older copy took the revocation back")
	}
	raw, err := os.ReadFile(old)
	must.Do(t, err)
	last, err := os.ReadFile(revoked)
	must.Do(t, err)
	both := filepath.Join(s.dir, "both.pgp")
	must.Do(t, os.WriteFile(both, append(last, raw...), 0o644))
	s.cli(0, "key", "add", both)
	if !shown() {
		t.Error("two copies in one file took the revocation back")
	}
	// A newer copy of a known certificate is taken, and that is journalled.
	again := newSite(t)
	again.cli(0, "key", "add", old)
	again.cli(0, "key", "add", revoked)
	if out, _ := again.cli(0, "journal", "list", "--search", "key.merge"); !strings.Contains(out,
		"is revoked") {
		t.Errorf("the journal says\n%s", out)
	}
}

func TestARestoredRevisionPassesTheChecksOfAChange(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	lamp := filepath.Join(s.dir, "site/house/lamp-driver_2.0-1reach1_all.deb")
	id := strings.TrimSpace(mustOut(s, "package", "add", lamp, "--source", "reach-lamps", told, "--why=x",
		"-o", "ids"))
	with := strings.Fields(mustOut(s, "revision", "list", "-o", "ids"))[0]
	s.cli(0, "package", "remove", id, "--yes")
	back := s.as("ola", "operator")
	_, log := s.cli(4, "revision", "restore", with, "--yes")
	if !strings.Contains(log, "Only a warden") {
		t.Error(log)
	}
	back()
	if out := mustOut(s, "package", "list", "-o", "ids"); strings.Contains(out, id) {
		t.Errorf("the package that was withdrawn is back: %s", out)
	}
	s.cli(0, "revision", "restore", with, "--yes")
	if out := mustOut(s, "package", "list", "-o", "ids"); !strings.Contains(out, id) {
		t.Errorf("a warden's restore did not bring it back: %s", out)
	}
}

func TestAVouchThatNoEntryExplainsDoesNotCount(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.cli(0, "record", filepath.Join(s.dir, "site")) // nobody vouched for kelp's key
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	s.db(func(db *sql.DB) {
		altered(t, db,
			"INSERT INTO decisions (act, fingerprint, source, why, `by`, at) VALUES ('vouch', ?, 'kelp', "+
				"'put there', 'warden', ?)", kelp, time.Now().UTC())
	})
	_, log := s.cli(1, "source", "refresh", "kelp")
	if !strings.Contains(log, "key.unvouched") {
		t.Error(log)
	}
	out, _ := s.cli(1, "journal", "verify")
	if !strings.Contains(out, kelp) || !strings.Contains(out, "the journal has no such entry") {
		t.Error(out)
	}
}

func TestABarWhoseRecordIsGoneStillBars(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	s.cli(0, "key", "bar", kelp, "--reason", "stolen", "--yes")
	s.db(func(db *sql.DB) { altered(t, db, "DELETE FROM decisions WHERE act = 'bar'") })
	_, log := s.cli(1, "source", "refresh", "kelp")
	if !strings.Contains(log, "key.barred") {
		t.Error(log)
	}
	s.cli(1, "journal", "verify")
}

// Old rows put back: the journal is whole in itself, and the seal of an edition
// that was made meanwhile carries a head that it contradicts.
func TestAJournalThatWasPutBackIsFoundOut(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	tables := []string{"journal_entries", "journal_hashes", "journal_heads"}
	s.db(func(db *sql.DB) {
		for _, table := range tables {
			if _, err := db.Exec("CREATE TABLE kept_" + table + " AS SELECT * FROM " + table); err != nil {
				t.Fatal(err)
			}
		}
	})
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	s.cli(0, "key", "bar", kelp, "--reason", "stolen", "--yes")
	must.Do(t, s.scenario.PublishTarn(time.Now(), true, func(r *made.DebRepository) {
		r.Packages[0].Version = "9.9-1"
	}))
	head := filepath.Join(s.dir, "head")
	r, err := client.Post[api.Report](context.Background(), s.client, "/journal/verify", nil)
	if err != nil || !r.Holds {
		t.Fatalf("%+v %v", r, err)
	}
	edition := strings.TrimSpace(mustOut(s, "mirror", "build", "tarn-whole"))
	s.cli(0, "journal", "verify", "--against", edition)
	s.db(func(db *sql.DB) {
		var signed string
		must.Do(t, db.QueryRow("SELECT text FROM journal_heads").Scan(&signed))
		must.Write(t, head, signed)
		for _, table := range tables {
			altered(t, db, "DELETE FROM "+table)
			altered(t, db, "INSERT INTO "+table+" SELECT * FROM kept_"+table)
		}
		altered(t, db, "DELETE FROM decisions WHERE act = 'bar'")
	})
	if out, _ := s.cli(1, "journal", "verify"); !strings.Contains(out, edition) {
		t.Errorf("the seals were not asked: %s", out)
	}
	if out, _ := s.cli(1, "journal", "verify", "--against", head); !strings.Contains(out, "counts") {
		t.Errorf("the head that was kept: %s", out)
	}
}

// What does not fit is not signed over.
func TestNothingIsWrittenBehindAJournalThatDoesNotHold(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.db(func(db *sql.DB) {
		altered(t, db, "DELETE FROM journal_entries WHERE number = (SELECT max(number) FROM journal_entries)")
	})
	_, log := s.cli(1, "account", "add", "ola", "--role", "viewer")
	if !strings.Contains(log, "journal") {
		t.Error(log)
	}
	if out, _ := s.cli(1, "journal", "verify"); !strings.Contains(out, "missing") {
		t.Errorf("it was signed over: %s", out)
	}
	_, log = s.cli(5, "mirror", "build", "barrage")
	if !strings.Contains(log, "journal") {
		t.Error(log)
	}
}

// A description, or an account, that was written into the records by somebody
// else does not count.
func TestRecordsThatNoEntryExplainsDoNotCount(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.db(func(db *sql.DB) {
		altered(t, db, "UPDATE records SET body = replace(body, '\"priority\":20', '\"priority\":1') WHERE "+
			"kind = 'source' AND name = 'tarn'")
		altered(t, db, "INSERT INTO accounts (name, role, created) VALUES ('eve', 'warden', ?)",
			time.Now().UTC())
		sum := sha256.Sum256([]byte("stockade token guessable"))
		altered(t, db, "INSERT INTO tokens (hash, account, label, created) VALUES (?, 'eve', 'x', ?)",
			hex.EncodeToString(sum[:]), time.Now().UTC())
		sum = sha256.Sum256([]byte("stockade token second"))
		altered(t, db, "INSERT INTO tokens (hash, account, label, created) "+
			"VALUES (?, 'warden', 'put there', ?)", hex.EncodeToString(sum[:]), time.Now().UTC())
	})
	_, log := s.cli(5, "mirror", "build", "barrage")
	if !strings.Contains(log, "the definitions differ from what their last") {
		t.Error(log)
	}
	out, _ := s.cli(1, "journal", "verify")
	if !strings.Contains(out, "the definitions differ") || !strings.Contains(out, "the account eve") ||
		!strings.Contains(out, "a record has a token for the account warden (put there, created") {
		t.Error(out)
	}
	if code, _, _ := get(t, s.service.APIURL()+"/api/v1/whoami", "Authorization",
		"Bearer guessable"); code != 401 {
		t.Errorf("an account that was put there is let in: %d", code)
	}
	if code, _, _ := get(t, s.service.APIURL()+"/api/v1/whoami", "Authorization",
		"Bearer second"); code != 401 {
		t.Errorf("a token that was put there for an account that exists is let in: %d", code)
	}
	// Nothing is recorded over it, as if it were right.
	if _, log := s.cli(1, "source", "disable", "kelp", "--yes"); !strings.Contains(log, "journal") {
		t.Error(log)
	}
	// The way back: what a revision says is recorded again.
	newest := strings.Fields(mustOut(s, "revision", "list", "-o", "ids"))[0]
	s.cli(0, "revision", "restore", newest, "--yes")
	s.cli(0, "mirror", "build", "barrage")
}

// Machines get the edition that entries lead a lane to, whatever was written into
// the records of its steps.
func TestAStepOfALaneThatNoEntryExplainsIsNotServed(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/1")
	seal := func() string {
		t.Helper()
		code, body, _ := get(t, s.service.PackagesURL()+"/lane/steady/about/edition.json")
		if code != 200 {
			t.Fatalf("the lane serves nothing: %d %s", code, body)
		}
		return string(body)
	}
	before := seal()
	s.published(at("tide-tables", "2026.4"))
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/2")
	after := seal()
	if before == after {
		t.Fatal("both editions are served with one seal")
	}
	s.db(func(db *sql.DB) {
		altered(t, db, "INSERT INTO moves (lane, mirror, edition, at, `by`, reason, back) VALUES ('steady', "+
			"'barrage', 1, ?, 'warden', 'put there', 0)", time.Now().UTC())
	})
	if seal() != after {
		t.Error("a step that was put into the records is served")
	}
	if out, _ := s.cli(1, "journal", "verify"); !strings.Contains(out, "steady") || !strings.Contains(out,
		"The record does not count") {
		t.Error(out)
	}
	if found := s.told(); !slices.ContainsFunc(found, func(f finding.Finding) bool {
		return f.Code == "journal.broken" && strings.Contains(f.Text, "steady")
	}) {
		t.Errorf("the findings do not tell it: %v", found)
	}
	s.db(func(db *sql.DB) { altered(t, db, "DELETE FROM moves") })
	if seal() != after {
		t.Error("a step whose record is gone is not served")
	}
	if out := mustOut(s, "lane", "list"); !strings.Contains(out, "barrage/2") {
		t.Error(out)
	}
}
