package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"stockade/internal/must"
	"stockade/internal/service"
)

// With two persons, a vouch counts when another warden made it too; no account gets round
// that, on whichever road.
func TestTwoWardensVouch(t *testing.T) {
	t.Parallel()
	lift := false
	s := newSiteWith(t, func(c *service.Config) { c.LiftRules = lift })
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	rules := filepath.Join(s.dir, "rules.yaml")
	write := func(text string) string {
		must.Write(t, rules, "stockade: 1\n"+text)
		return rules
	}
	s.cli(0, "record", filepath.Join(s.dir, "site")) // before the rule: Tarn's words were one person's
	if _, log := s.cli(1, "record", write("rules: {vender: {two_persons: true}}\n")); !strings.Contains(log,
		`did you mean "vendor"`) {
		t.Error(log)
	}
	back := s.as("per", "operator")
	if _, log := s.cli(4, "record", write("rules: {vendor: {two_persons: true}}\n")); !strings.Contains(log,
		"only a warden may") {
		t.Error(log)
	}
	back()
	ola := strings.TrimSpace(mustOut(s, "account", "add", "ola", "--role", "warden"))
	s.cli(0, "record", rules)
	if _, log := s.cli(1, "account", "add", "mara", "--role", "warden"); !strings.Contains(log,
		"account.second-person") || !strings.Contains(log, "--new-warden mara") {
		t.Errorf("one person makes themselves two: %s", log)
	}
	vouch := func(want int, evidence string) string {
		t.Helper()
		_, log := s.cli(want, "key", "vouch", kelp, "--source", "kelp", "--evidence", evidence)
		return log
	}
	if log := vouch(0, "call 1"); !strings.Contains(log, "when a second warden vouches for it too") {
		t.Error(log)
	}
	if log := vouch(1, "call 1 again"); !strings.Contains(log, "key.awaiting-second") {
		t.Errorf("one is both: %s", log)
	}
	if _, log := s.cli(1, "source", "refresh", "kelp"); !strings.Contains(log,
		"waiting for a second warden") {
		t.Error(log)
	}
	if out, _ := s.cli(1, "status"); !strings.Contains(out, "key.awaiting-second") {
		t.Errorf("what waits does not need anybody: %s", out)
	}
	if out, _ := s.cli(0, "key", "show", kelp); !strings.Contains(out, "second warden needed for") ||
		!strings.Contains(out, "call 1") {
		t.Error(out)
	}
	// Roads round it: another standing, the rule taken away, or an older revision.
	for name, args := range map[string][]string{
		"the rule taken away": {"record", write("rules: {vendor: {two_persons: false}}\n")},
		"an older revision":   {"revision", "restore", "1", "--yes"},
		"all without it":      {"record", "--whole", filepath.Join(s.dir, "site"), "--yes"},
	} {
		if _, log := s.cli(4, args...); !strings.Contains(log, "no account may") || !strings.Contains(log,
			"--lift-rules") {
			t.Errorf("%s: %s", name, log)
		}
	}
	site := must.Read(t, filepath.Join(s.dir, "site", "sources.yaml"))
	_, of, _ := strings.Cut(site, "\n  kelp:\n")
	other := write("sources:\n  kelp:\n" + strings.Replace(of, "standing: vendor", "standing: community", 1))
	if _, log := s.cli(4, "record", other); !strings.Contains(log,
		"so that one warden alone could vouch for its") {
		t.Error(log)
	}
	// The second warden, from an account of their own; either can take it back before.
	s.env["STOCKADE_TOKEN"] = ola
	s.cli(0, "key", "withdraw", kelp, "--source", "kelp", "--reason", "not yet")
	if log := vouch(0, "print"); !strings.Contains(log, "when a second") {
		t.Errorf("taken back, and it waited all the same: %s", log)
	}
	s.env["STOCKADE_TOKEN"] = s.token
	// The first is ola now; the console asks the other.
	b := signedIn(t, s, "/keys")
	b.click("second ola")
	b.see("ola vouched for it: print")
	b.typed("#typed", kelp)
	b.typed("#evidence", "call 2")
	b.click("Vouch for key")
	b.run("it is vouched for", chromedp.Poll(`[...document.querySelectorAll("tr")].some(r =>
		r.innerText.includes("Kelp") && r.innerText.includes("vouched")) &&
		!document.body.innerText.includes("May this key")`, nil))
	s.cli(0, "source", "refresh", "kelp")
	if out, _ := s.cli(0, "key", "show", kelp); !strings.Contains(out, "by ola and warden: print; call 2") {
		t.Error(out)
	}
	if out, _ := s.cli(0, "journal", "verify"); !strings.Contains(out, "chain intact") {
		t.Error(out)
	}
	// Who starts the service can lift the rules, and the journal says so.
	s.stop()
	lift = true
	s.start()
	if out := mustOut(s, "describe", "rule"); strings.Contains(out, "two_persons") {
		t.Error(out)
	}
	if out, _ := s.cli(0, "revision", "list"); !strings.Contains(out, "--lift-rules") {
		t.Error(out)
	}
	s.cli(0, "source", "refresh", "kelp")
}
