package e2e

import (
	"bytes"
	"context"
	"crypto"
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/must"
	"stockade/internal/service"
)

func (s *site) overview() api.Overview {
	s.t.Helper()
	o, err := client.Get[api.Overview](context.Background(), s.client, "/overview")
	must.Do(s.t, err)
	return o
}

// told gives what needs attention.
func (s *site) told() finding.List {
	s.t.Helper()
	told, err := client.Get[api.Told](context.Background(), s.client, "/findings")
	must.Do(s.t, err)
	return told.NeedsYou
}

// saidOf gives what is found of an object, with a code.
func saidOf(found finding.List, object, code string) string {
	for _, f := range found {
		if f.Object == object && string(f.Code) == code {
			return f.Text
		}
	}
	return ""
}

// A source that is taken out and described again, by a document that says nothing
// about keys, has no decision: the words of an earlier document made it once.
func TestWordsThatAreRecordedDecideNothingAgain(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	whole := mustOut(s, "revision", "list", "-o", "ids")
	sources := must.Read(t, filepath.Join(s.dir, "site/sources.yaml"))
	i, j := strings.Index(sources, "  tarn:"), strings.Index(sources, "  tarn-fixes:")
	again := filepath.Join(s.dir, "again.yaml")
	must.Write(t, again, "stockade: 1\nsources:\n"+sources[i:j])
	without := filepath.Join(s.dir, "site/mirrors.yaml")
	mirrors := must.Read(t, without)
	must.Write(t, filepath.Join(s.dir, "site/sources.yaml"), sources[:i]+sources[j:])
	trimmed := strings.NewReplacer("from: [tarn, tarn-fixes,", "from: [tarn-fixes,",
		"      - source: tarn\n        want: everything",
		"      - source: tarn-fixes\n        want: everything").Replace(mirrors)
	must.Write(t, without, trimmed)
	families := filepath.Join(s.dir, "site/families.yaml")
	if err := os.Remove(families); err != nil { // it takes from tarn too
		t.Fatal(err)
	}
	strip := strings.Replace(must.Read(t, filepath.Join(s.dir, "site/sources.yaml")),
		"vouched_for: [tarn, tarn-fixes]", "vouched_for: [tarn-fixes]", 1)
	must.Write(t, filepath.Join(s.dir, "site/sources.yaml"), strip)
	s.cli(0, "record", filepath.Join(s.dir, "site"), "--whole", "--yes")
	s.cli(0, "record", again)
	if out, _ := s.cli(0, "source", "show", "tarn"); !strings.Contains(out, "key.unvouched") {
		t.Errorf("nothing is said of the decision that is missing: %s", out)
	}
	s.cli(1, "source", "refresh", "tarn")
	// Restoring a revision brings its words back, and no decision with them.
	first := strings.Fields(whole)
	s.cli(0, "revision", "restore", first[len(first)-1], "--yes")
	if out, _ := s.cli(0, "source", "show", "tarn"); !strings.Contains(out, "key.unvouched") {
		t.Errorf("after the revision was restored: %s", out)
	}
	// Nor does a document about something else make the decision on the way.
	lane := filepath.Join(s.dir, "lane.yaml")
	must.Write(t, lane, "stockade: 1\nlanes: {more: {mirror: barrage}}\n")
	s.cli(0, "record", lane)
	s.cli(1, "source", "refresh", "tarn")
}

// A decision about a key makes the next build look, keeps the key out of machines'
// files at once, and says what rests on it.
func TestADecisionAgainstAKeyIsAnInputOfBuilds(t *testing.T) {
	t.Parallel()
	for name, against := range map[string]func(s *site, key string) (out string){
		"barred": func(s *site, key string) string {
			_, log := s.cli(0, "key", "bar", key, "--reason", "lost with a laptop", "--yes")
			return log
		},
		"taken back": func(s *site, key string) string {
			_, log := s.cli(0, "key", "withdraw", key, "--source", "tarn", "--reason",
				"compared with the wrong sheet")
			return log
		},
	} {
		t.Run(name, func(t *testing.T) {
			s := newSite(t)
			s.described()
			s.cli(0, "mirror", "build", "tarn-whole") // faithful: machines trust upstream's key
			doc := filepath.Join(s.dir, "lane.yaml")
			must.Write(t, doc, "stockade: 1\nlanes: {all: {mirror: tarn-whole}}\ngroups: {tower: "+
				"{family: deb, release: heron, architectures: [amd64], lane: all}}\n")
			s.cli(0, "record", doc)
			s.cli(0, "mirror", "build", "tarn-whole") // now there is a group to prove it for
			newest := strings.Fields(mustOut(s, "edition", "list", "-o", "ids"))
			s.cli(0, "lane", "move", "all", newest[0])
			key := s.scenario.TarnKey.Certificate().Fingerprint
			root := filepath.Join(s.dir, "root")
			s.cli(0, "group", "files", "tower", "--out", root)
			ring := filepath.Join(root, "etc/apt/keyrings/stockade-tarn.gpg")
			if certs, err := trust.ReadCertificates([]byte(must.Read(t, ring))); err != nil ||
				len(certs) != 1 {
				t.Fatal(err)
			}
			log := against(s, key)
			if !strings.Contains(log, newest[0]) || !strings.Contains(log, "all") {
				t.Errorf("what rests on it is not told: %s", log)
			}
			if saidOf(s.told(), "lane all", "key.barred") == "" {
				t.Error("the overview says nothing of the lane that rests on it")
			}
			s.cli(1, "mirror", "build", "tarn-whole")
			s.cli(1, "group", "files", "tower", "--out", root)
			if raw, err := os.ReadFile(ring); err != nil || len(raw) > 0 {
				t.Errorf("the key is still in machines' files: %d bytes, %v", len(raw), err)
			}
		})
	}
}

// A vouch can be taken back for one source; the words that made it do not make it
// again; and a key that decides nothing can be put away, with what was done kept.
func TestAVouchIsTakenBackAndAKeyPutAway(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	key := s.scenario.TarnKey.Certificate().Fingerprint
	s.cli(0, "key", "withdraw", key, "--source", "tarn", "--reason", "a trial")
	s.cli(0, "source", "refresh", "tarn-fixes") // the other source's decision stands
	s.cli(1, "source", "refresh", "tarn")
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	s.cli(1, "source", "refresh", "tarn")
	s.cli(1, "key", "withdraw", key, "--source", "tarn", "--reason", "again")
	s.cli(0, "key", "vouch", key, "--source", "tarn", "--evidence", "compared with the right sheet")
	s.cli(0, "source", "refresh", "tarn")

	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	if _, log := s.cli(1, "key", "retire", kelp, "--reason", "old"); !strings.Contains(log,
		"vouched for kelp") {
		t.Error(log)
	}
	other, err := trust.NewKey("Old desk", "", "old@tarn.example", time.Now)
	must.Do(t, err)
	file := filepath.Join(s.dir, "old.asc")
	must.Write(t, file, other.Certificate().Armoured())
	s.cli(0, "key", "add", file)
	old := other.Certificate().Fingerprint
	s.cli(0, "key", "bar", old, "--reason", "the desk is closed", "--yes")
	s.cli(0, "key", "retire", old, "--reason", "the desk is closed")
	if out := mustOut(s, "key", "list", "-o", "ids"); strings.Contains(out, old) {
		t.Error("it is still in the list")
	}
	if out := mustOut(s, "key", "list", "--retired", "-o", "ids"); !strings.Contains(out, old) {
		t.Error("it is not in the list of all")
	}
	if out := mustOut(s, "key", "show", old); !strings.Contains(out, "the desk is closed") ||
		!strings.Contains(out, "barred") {
		t.Errorf("its history: %s", out)
	}
	s.cli(0, "key", "add", file) // back again, and still barred
	if out := mustOut(s, "key", "list"); !strings.Contains(out, "barred") {
		t.Error(out)
	}
	s.cli(0, "journal", "verify")
}

// Two certificates of one file, each under its name; a document about something
// else; and a renewed copy, whose news are told.
func TestSeveralCertificatesOfOneFile(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	file := filepath.Join(s.dir, "both.asc")
	tarn, kelp := s.scenario.TarnKey.Certificate(), s.scenario.KelpKey.Certificate()
	must.Do(t, os.WriteFile(file, append(tarn.Binary(), kelp.Binary()...), 0o644))
	doc := filepath.Join(s.dir, "keys.yaml")
	must.Write(t, doc, "stockade: 1\nkeys:\n  one: {file: both.asc, fingerprint: "+tarn.Fingerprint+
		"}\n  two: {file: both.asc, fingerprint: "+kelp.Fingerprint+
		"}\n  ring: {file: both.asc, fingerprints: ["+tarn.Fingerprint+", "+kelp.Fingerprint+"]}\n")
	s.cli(0, "record", doc)
	lane := filepath.Join(s.dir, "lane.yaml")
	must.Write(t, lane, "stockade: 1\nlanes: {more: {mirror: barrage}}\n")
	s.cli(0, "record", lane) // a document that says nothing of the keys
	if out := mustOut(s, "key", "show", kelp.Fingerprint); !strings.Contains(out, "ring") ||
		!strings.Contains(out, "two") {
		t.Error(out)
	}
	// A renewed copy: what is new in it is told before it is recorded, and after.
	cfg := &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, DefaultHash: crypto.SHA512,
		KeyLifetimeSecs: 86400 * 40}
	e, err := openpgp.NewEntity("Lamp desk", "", "desk@lamp.example", cfg)
	must.Do(t, err)
	serialize := func() {
		t.Helper()
		var b bytes.Buffer
		must.Do(t, e.Serialize(&b))
		must.Do(t, os.WriteFile(filepath.Join(s.dir, "lamp.pgp"), b.Bytes(), 0o644))
	}
	serialize()
	lamp := filepath.Join(s.dir, "lamp.yaml")
	must.Write(t, lamp, "stockade: 1\nkeys:\n  lamp: {file: lamp.pgp}\n")
	s.cli(0, "record", lamp)
	must.Do(t, e.AddUserId("Lamp desk", "second", "second@lamp.example", cfg))
	serialize()
	if out, _ := s.cli(0, "compare", lamp); !strings.Contains(out, "renew") || !strings.Contains(out,
		"second@lamp.example") {
		t.Errorf("compared with its renewed copy: %s", out)
	}
	if _, log := s.cli(0, "record", lamp); !strings.Contains(log, "renewed") {
		t.Errorf("recorded with its renewed copy: %s", log)
	}
	if out, _ := s.cli(0, "compare", lamp); strings.Contains(out, "renew") {
		t.Errorf("once more: %s", out)
	}
	must.Write(t, doc, "stockade: 1\nkeys:\n  ring: {file: both.asc}\n")
	if _, log := s.cli(1, "record", doc); !strings.Contains(log,
		"set fingerprint to one of them, or fingerprints") {
		t.Error(log)
	}
}

// A clock that is behind a seal is told, and does not take editions from machines.
func TestAClockBehindTheSealIsToldAndServesOn(t *testing.T) {
	t.Parallel()
	var behind time.Duration
	s := newSiteWith(t, func(cfg *service.Config) {
		cfg.Now = func() time.Time { return time.Now().Add(-behind) }
	})
	s.described()
	s.built("steady")
	s.stop()
	behind = 3 * time.Hour
	s.start()
	if code, _, _ := get(t, s.service.PackagesURL()+"/lane/steady/tarn/dists/heron/InRelease"); code != 200 {
		t.Errorf("the lane answers %d", code)
	}
	if saidOf(s.told(), "site", "site.clock") == "" {
		t.Error("the clock is not told")
	}
}

// What a build was refused for is journalled, whatever the number of findings; a
// later build that finds nothing wrong clears it; and what was found in an edition
// goes with the edition.
func TestWhatWasFoundIsTheNewestThatIsKnown(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	site := filepath.Join(s.dir, "site/mirrors.yaml")
	good := must.Read(t, site)
	must.Write(t, site, strings.Replace(good, "packages: [sluicectl,",
		"packages: [sluicectl, no-such-thing, nor-this,", 1))
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	s.cli(1, "mirror", "build", "barrage")
	if out := mustOut(s, "journal", "list", "--search", "mirror.refused"); !strings.Contains(out,
		"further: 1") || !strings.Contains(out, "no-such-thing") {
		t.Errorf("the journal: %s", out)
	}
	if saidOf(s.told(), "mirror barrage", "mirror.want-no-match") == "" {
		t.Error("the refusal is not told")
	}
	must.Write(t, site, good)
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	if _, log := s.cli(0, "mirror", "build", "barrage"); !strings.Contains(log, "no edition was made") {
		t.Error(log)
	}
	if text := saidOf(s.told(), "mirror barrage", "mirror.want-no-match"); text != "" {
		t.Errorf("still told: %s", text)
	}
	// A second edition is damaged, verified, and retired.
	s.published(at("tide-tables", "2.4.2-1"))
	out, _ := s.cli(0, "mirror", "build", "barrage")
	edition := strings.TrimSpace(out)
	s.db(func(db *sql.DB) {
		list, err := json.Marshal(map[string]any{"findings": finding.List{finding.New("edition.damaged",
			"edition "+edition, "a file is gone")}})
		must.Do(t, err)
		altered(t, db, "INSERT INTO kepts (kind, name, at, body) VALUES ('verify', ?, ?, ?)", edition,
			time.Now().UTC(), string(list))
	})
	if saidOf(s.told(), "edition "+edition, "edition.damaged") == "" {
		t.Error("what was found in the edition is not told")
	}
	s.cli(0, "edition", "retire", edition, "--yes")
	if text := saidOf(s.told(), "edition "+edition, "edition.damaged"); text != "" {
		t.Errorf("told of an edition that is retired: %s", text)
	}
}

// What was never looked at is not said to be good, and what a killed service left
// unfinished is told until it was done.
func TestTheOverviewSaysWhatIsNotKnown(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	o := s.told()
	if saidOf(o, "source tarn", "source.never-accepted") == "" ||
		saidOf(o, "lane steady", "lane.empty") == "" {
		t.Errorf("of a site on which nothing was built yet it says: %v", o)
	}
	for _, f := range o {
		if f.Code == "source.never-accepted" &&
			!strings.Contains(f.WayOut, strings.TrimPrefix(f.Object, "source ")) {
			t.Errorf("what to do about %s: %s", f.Object, f.WayOut)
		}
	}
	if !s.overview().Looked.Sources.IsZero() {
		t.Error("sources that were never asked are said to have been")
	}
	s.built("steady")
	s.cli(0, "lane", "move", "trial", "barrage/1")
	s.db(func(db *sql.DB) {
		altered(t, db, "UPDATE jobs SET state = 'running', ended = NULL "+
			"WHERE id = (SELECT max(id) FROM jobs)")
		altered(t, db, "INSERT INTO jobs (kind, object, state, `by`, started, problem) SELECT 'verify', "+
			"'edition barrage/9', 'interrupted', `by`, started, 'x' FROM jobs LIMIT 1")
	})
	o = s.told()
	if saidOf(o, "edition barrage/9", "job.failed") != "" {
		t.Error("work on an edition that is gone is told, and nobody could mend it")
	}
	if saidOf(o, "mirror barrage", "job.failed") == "" || saidOf(o, "lane steady", "lane.empty") != "" {
		t.Errorf("after a build was cut off: %v", o)
	}
	if out := mustOut(s, "mirror", "list"); !strings.Contains(out, "1 warning") {
		t.Errorf("the list of mirrors says less than the overview: %s", out)
	}
	s.cli(0, "mirror", "build", "barrage")
	if text := saidOf(s.told(), "mirror barrage", "job.failed"); text != "" {
		t.Errorf("still told after a build went through: %s", text)
	}
}

// One object goes back to an earlier revision, and the rest stays as it is.
func TestOneObjectIsRestoredAlone(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	first := strings.TrimSpace(mustOut(s, "revision", "list", "-o", "ids"))
	path := filepath.Join(s.dir, "site/sources.yaml")
	text := must.Read(t, path)
	must.Write(t, path, strings.NewReplacer("priority: 20\n    max_age: 10d", "priority: 21\n    max_age: 9d",
		"priority: 40", "priority: 41").Replace(text))
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	if _, log := s.cli(2, "revision", "restore", first, "--only", "source/tarn"); !strings.Contains(log,
		"max_age: 9d → 10d") || strings.Contains(log, "kelp") {
		t.Errorf("what it would change: %s", log)
	}
	if out := mustOut(s, "source", "show", "tarn"); !strings.Contains(out, "priority: 21") {
		t.Error("it was changed without being asked for")
	}
	s.cli(0, "revision", "restore", first, "--only", "source/tarn", "--yes")
	if out := mustOut(s, "source", "show", "tarn"); !strings.Contains(out, "priority: 20") {
		t.Error(out)
	}
	if out := mustOut(s, "source", "show", "kelp"); !strings.Contains(out, "priority: 41") {
		t.Error("another object was changed too")
	}
	s.cli(2, "revision", "restore", first, "--only", "source/nowhere", "--yes")
	s.cli(0, "revision", "restore", first, "--yes")
	if out := mustOut(s, "source", "show", "kelp"); !strings.Contains(out, "priority: 40") {
		t.Error(out)
	}
}
