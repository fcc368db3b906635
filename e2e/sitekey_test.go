package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/service"
)

// inTurn hands the keys out of which a site is to have one after the other.
func inTurn(owners ...string) func(*service.Config) {
	turn := 0
	return func(cfg *service.Config) {
		cfg.NewKey = func(_, _, _ string, now func() time.Time) (*trust.SiteKey, error) {
			k, err := made.Key(made.Owner{Name: "Stockade site key", Comment: owners[turn]})
			turn++
			if err != nil {
				return nil, err
			}
			return k.At(now), nil
		}
	}
}

func siteNow(s *site) api.Site { return cliJSON[api.Site](s, "site", "show") }

// A site gets a new key while machines go on: at no time is a machine refused that has the
// files of before, until the old key is retired; and one that got its files meanwhile goes
// on after that.
func TestTheSiteKeyIsRenewed(t *testing.T) {
	t.Parallel()
	s := newSiteWith(t, inTurn("renewed", "renewed next"))
	s.described()
	s.house()
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/1")
	at := filepath.Join(s.dir, "carried")
	s.cli(0, "edition", "export", "barrage/1", at)
	before := newMachine(t, s.dir)
	s.cli(0, "group", "files", "gatehouse", "--at", at, "--out", before.root)
	before.must(true, "update")

	old := siteNow(s).Keys[0].Fingerprint
	if _, err := s.cli(2, "site", "renew-key", "--reason", "five years old"); !strings.Contains(err,
		"Every machine must get new files") {
		t.Error("it was not asked:", err)
	}
	s.cli(1, "site", "renew-key", "--yes") // no reason
	s.cli(1, "site", "renew-key", "--yes", "--reason=x", "--for=soon")
	s.cli(0, "site", "renew-key", "--yes", "--reason", "five years old", "--for", "30d")
	now := siteNow(s)
	if len(now.Keys) != 2 || now.Keys[0].Fingerprint != old || now.Keys[0].State != api.SiteKeySigns ||
		now.Keys[1].State != api.SiteKeyNext || now.Renewal == nil ||
		now.Renewal.Reason != "five years old" ||
		now.Renewal.Until.Sub(now.Renewal.Since).Round(time.Hour) != 30*24*time.Hour {
		t.Fatalf("%+v", now)
	}
	next := now.Keys[1].Fingerprint
	if len(now.Resting) != 1 || now.Resting[0].Lane != "steady" || !slices.Contains(now.Resting[0].Sources,
		"tarn") || !slices.Equal(now.Resting[0].Groups, []string{"gatehouse"}) {
		t.Errorf("what rests on the old key: %+v", now.Resting)
	}
	if _, err := s.cli(5, "site", "renew-key", "--yes", "--reason", "again"); !strings.Contains(err,
		"the site key is already being renewed") {
		t.Error(err)
	}

	// The new key is certified by the old one, and the seal of what is there is by both:
	// gpg says so.
	home := t.TempDir()
	must.Do(t, os.Chmod(home, 0o700))
	gpg := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("gpg", append([]string{"--homedir", home, "--batch", "--status-fd=1"},
			args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("gpg %v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	for _, f := range []string{old, next} {
		_, out, _ := get(t, s.service.PackagesURL()+"/key/"+f)
		must.Do(t, os.WriteFile(filepath.Join(home, f), []byte(out), 0o600))
		gpg("--import", filepath.Join(home, f))
	}
	if out := gpg("--check-signatures", next); strings.Count(out, "sig!") != 2 ||
		!strings.Contains(out, old[24:]) {
		t.Errorf("who certified the new key: %s", out)
	}
	sealed := func(edition string, want ...string) {
		t.Helper()
		dir := filepath.Join(s.dir, "data/editions", edition)
		out := gpg("--verify", filepath.Join(dir, "seal.asc"), filepath.Join(dir, "manifest"))
		for _, f := range []string{old, next} {
			if got := strings.Contains(out, "VALIDSIG "+f); got != slices.Contains(want, f) {
				t.Errorf("the seal of %s holds by %s: %v", edition, f, got)
			}
		}
	}
	sealed("barrage/1", old, next)

	// The build is not "unchanged": what machines check is signed by both now.
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/2")
	s.cli(0, "edition", "export", "barrage/2", at, "--onto")
	sealed("barrage/2", old, next)
	if got := siteNow(s).Resting; len(got) != 0 {
		t.Errorf("after a build for a family that takes two signatures: %+v", got)
	}
	before.must(true, "update") // has the files of before
	before.must(true, "install", "sluicectl")
	during := newMachine(t, s.dir)
	s.cli(0, "group", "files", "gatehouse", "--at", at, "--out", during.root)

	// A restart changes nothing.
	s.stop()
	s.start()
	if got := siteNow(s); len(got.Keys) != 2 || got.Keys[1].Fingerprint != next || got.Renewal == nil {
		t.Fatalf("after a restart: %+v", got)
	}
	s.cli(0, "journal", "verify")

	if _, err := s.cli(2, "site", "retire-key", next, "--yes", "--reason", "done"); !strings.Contains(err,
		"is not the older key of the site") {
		t.Error(err)
	}
	if _, err := s.cli(2, "site", "retire-key", old, "--reason", "done"); !strings.Contains(err,
		"rejects what is built from now on") || !strings.Contains(err, "house sources have") {
		t.Error(err)
	}
	s.cli(0, "site", "retire-key", old, "--yes", "--reason", "all machines have their files")
	after := siteNow(s)
	if len(after.Keys) != 2 || after.Keys[0].Fingerprint != next || after.Keys[0].State != api.SiteKeySigns ||
		after.Keys[1].Fingerprint != old || after.Keys[1].State != api.SiteKeyFormer || after.Renewal != nil {
		t.Fatalf("%+v", after)
	}
	for _, e := range []string{"barrage/1", "barrage/2"} {
		s.cli(0, "edition", "verify", e)
	}
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/3")
	s.cli(0, "edition", "export", "barrage/3", at, "--onto")
	sealed("barrage/3", next)
	during.must(true, "update")
	during.must(true, "install", "sluicectl")
	if out, err := before.apt(true, "update"); err == nil && !strings.Contains(out, "NO_PUBKEY") &&
		!strings.Contains(out, "not signed") {
		t.Errorf("a machine that knows the old key alone took what the new one signed: %s", out)
	}

	// What the journal, the credentials' vault and the files rest on stood through it.
	s.stop()
	s.start()
	s.cli(0, "journal", "verify")
	if got := siteNow(s); got.Keys[0].Fingerprint != next {
		t.Errorf("%+v", got)
	}
	if _, err := os.Stat(filepath.Join(s.dir, "data/site/next.pgp")); err == nil {
		t.Error("the next key's file is still there")
	}
	// The key of before can be barred now, and then machines' files do not carry it.
	s.cli(0, "key", "bar", old, "--reason", "its disk was sold", "--yes")
	_, err := s.cli(1, "group", "files", "gatehouse", "--edition", "barrage/2", "--out",
		filepath.Join(s.dir, "barred"))
	if !strings.Contains(err, "key.barred") {
		t.Error("the files of what the barred key signed:", err)
	}
	if _, err := s.cli(1, "key", "bar", next, "--reason", "x", "--yes"); !strings.Contains(err,
		"the site's own key") {
		t.Error(err)
	}
}

// The clients of the other families refuse, or ask, where a key signed beside that they do
// not know: there the old key signs alone until it is retired.
func TestTheSiteKeyIsRenewedForTheClientsOfTheOtherFamilies(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		client              packageClient
		mirror, lane, group string
		install             string
	}{
		{dnf, "pumps", "pump-house", "pump-house", "pump-relay"},
		{zypper, "pumps", "pump-house", "pump-house", "pump-relay"},
		{pacman, "launch", "survey", "survey-launch", "buoy-log"},
	} {
		t.Run(c.client.name, func(t *testing.T) {
			t.Parallel()
			s := newSiteWith(t, inTurn("others", "others next"))
			s.described()
			s.house()
			s.exported(c.mirror, c.lane)
			at := filepath.Join(s.dir, "carried")
			carry := func() {
				t.Helper()
				args := []string{"edition", "export", cliJSON[api.Lane](s, "lane", "show", c.lane).Edition,
					at}
				if _, err := os.Stat(at); err == nil {
					args = append(args, "--onto")
				}
				s.cli(0, args...)
			}
			built := func() {
				t.Helper()
				out, _ := s.cli(0, "mirror", "build", c.mirror)
				s.cli(0, "lane", "move", c.lane, strings.TrimSpace(out))
				carry()
			}
			carry()
			before := newBox(t, s, c.client, c.group, at)
			before.must(c.client.refresh...)
			old := siteNow(s).Keys[0].Fingerprint
			s.cli(0, "site", "renew-key", "--yes", "--reason", "five years old")
			built()
			before.must(c.client.refresh...) // it knows the old key alone
			during := newBox(t, s, c.client, c.group, at)
			if got := siteNow(s).Resting; len(got) == 0 {
				t.Error("nothing is told to rest on the old key, which alone signs here")
			}
			s.cli(0, "site", "retire-key", old, "--yes", "--reason", "all have their files")
			told := cliJSON[api.Lane](s, "lane", "show", c.lane)
			if !has(told.Findings, "lane.former-key") {
				t.Errorf("the lane says nothing of the former key: %+v", told.Findings)
			}
			built()
			told = cliJSON[api.Lane](s, "lane", "show", c.lane)
			if has(told.Findings, "lane.former-key") {
				t.Errorf("after a build: %+v", told.Findings)
			}
			during.must(c.client.refresh...)
			during.must(append(c.client.install, c.install)...)
			if !strings.Contains(during.run, "dnf") && during.installed(during.root, c.install) == "" {
				t.Errorf("%s is not installed", c.install)
			}
			// One that has the files of now alone knows the new key alone.
			fresh := newBox(t, s, c.client, c.group, at)
			fresh.must(c.client.refresh...)
			fresh.must(append(c.client.install, c.install)...)
			s.cli(0, "journal", "verify")
		})
	}
}

// A renewal or a retirement that is cut short is none, or is gone through with.
func TestARenewalOfTheSiteKeyThatIsCutShort(t *testing.T) {
	t.Parallel()
	s := newSiteWith(t, inTurn("cut", "cut next"))
	s.described()
	s.built("steady")
	old := siteNow(s).Keys[0].Fingerprint
	key, next := filepath.Join(s.dir, "data/site/key.pgp"), filepath.Join(s.dir, "data/site/next.pgp")

	// A next key that no entry tells of.
	raw, err := os.ReadFile(key)
	must.Do(t, err)
	s.stop()
	must.Do(t, os.WriteFile(next, raw, 0o600))
	s.start()
	if got := siteNow(s); len(got.Keys) != 1 {
		t.Fatalf("a key that no entry tells of signs: %+v", got.Keys)
	}
	if _, err := os.Stat(next); err == nil {
		t.Error("and it is still there")
	}

	// Killed between the entry and the seals: they are countersigned at the start.
	seal := filepath.Join(s.dir, "data/editions/barrage/1/seal.asc")
	alone := must.Read(t, seal)
	s.cli(0, "site", "renew-key", "--yes", "--reason", "x")
	both := must.Read(t, seal)
	m := siteNow(s)
	s.stop()
	renewedKey, err := os.ReadFile(next)
	must.Do(t, err)
	must.Do(t, os.Remove(seal))
	must.Do(t, os.WriteFile(seal, []byte(alone), 0o444))
	s.start()
	if got := must.Read(t, seal); len(got) != len(both) {
		t.Errorf("the seal has %d bytes, and by both keys it had %d", len(got), len(both))
	}
	s.stop()
	both = must.Read(t, seal)
	s.start()
	if must.Read(t, seal) != both {
		t.Error("a seal that both keys made was made anew")
	}
	s.cli(0, "site", "retire-key", old, "--yes", "--reason", "x")

	// Killed after the entry, before the file was put in its place.
	s.stop()
	must.Do(t, os.WriteFile(key, raw, 0o600))
	must.Do(t, os.WriteFile(next, renewedKey, 0o600))
	s.start()
	got := siteNow(s)
	if got.Keys[0].Fingerprint != m.Keys[1].Fingerprint || len(got.Keys) != 2 {
		t.Errorf("%+v", got.Keys)
	}
	if _, err := os.Stat(next); err == nil {
		t.Error("the next key's file is still there")
	}
	s.cli(0, "journal", "verify")
	s.cli(0, "edition", "verify", "barrage/1")
	var f finding.List = siteNow(s).Findings
	if len(f) != 0 {
		t.Error(f)
	}
}
