package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"stockade/core/trust"
	"stockade/internal/must"
	"stockade/internal/service"
)

// A rule about algorithms is a warden's, holds at once for what is built, and is weakened on
// no road but where the service is started. A statement by which an owner withdraws a key is
// taken alone.
func TestARuleAboutAlgorithms(t *testing.T) {
	t.Parallel()
	lift := false
	s := newSiteWith(t, func(c *service.Config) { c.LiftRules = lift })
	s.described()
	s.cli(0, "source", "refresh", "kelp")
	rules := filepath.Join(s.dir, "rules.yaml")
	write := func(text string) string {
		must.Write(t, rules, "stockade: 1\nrules: "+text+"\n")
		return rules
	}
	if out, _ := s.cli(1, "check", write("{vendor: {refuse: [SHA1]}}")); !strings.Contains(out,
		`did you mean "SHA-1"?`) {
		t.Error(out)
	}
	back := s.as("per", "operator")
	if _, log := s.cli(4, "record", write("{vendor: {rsa_bits: 4096}}")); !strings.Contains(log,
		"only a warden may") {
		t.Error(log)
	}
	back()
	_, log := s.cli(0, "record", rules)
	if !strings.Contains(log, "warning key.weak") || !strings.Contains(log, "asks for 4096 bits") {
		t.Errorf("whom it stops is not told: %s", log)
	}
	if _, log = s.cli(1, "source", "refresh", "kelp"); !strings.Contains(log, "error key.weak") {
		t.Errorf("nothing upstream changed, and the rule counts for nothing: %s", log)
	}
	if out, _ := s.cli(1, "status"); !strings.Contains(out, "key.weak") {
		t.Errorf("what needs somebody: %s", out)
	}
	s.cli(0, "source", "refresh", "tarn") // of another standing
	for name, args := range map[string][]string{
		"lower":             {"record", write("{vendor: {rsa_bits: 3072}}")},
		"an older revision": {"revision", "restore", "1", "--yes"},
	} {
		if _, log := s.cli(4, args...); !strings.Contains(log, "no account may") ||
			!strings.Contains(log, "it lowers the RSA key length that the rule for") {
			t.Errorf("%s: %s", name, log)
		}
	}
	_, of, _ := strings.Cut(must.Read(t, filepath.Join(s.dir, "site", "sources.yaml")), "\n  kelp:\n")
	other := filepath.Join(s.dir, "kelp.yaml")
	must.Write(t, other, "stockade: 1\nsources:\n  kelp:\n"+strings.Replace(of,
		"standing: vendor", "standing: community", 1))
	if _, log = s.cli(4, "record", other, "--yes"); !strings.Contains(log,
		"algorithms count that are refused") {
		t.Errorf("by another standing: %s", log)
	}
	s.stop()
	lift = true
	s.start()
	s.cli(0, "source", "refresh", "kelp")
	// Of the whole site, each key is told once, by its fingerprint.
	s.cli(0, "record", write("{site: {rsa_bits: 4096}}"))
	out, _ := s.cli(1, "status")
	for _, k := range []*trust.SiteKey{s.scenario.KelpKey, s.scenario.TarnKey} {
		if n := strings.Count(out,
			"key "+k.Certificate().Fingerprint+": the key is RSA with 3072 bits"); n != 1 {
			t.Errorf("a key is told %d times:\n%s", n, out)
		}
	}
	if strings.Contains(out, "key kelp-release") || strings.Contains(out, "signs nothing") {
		t.Errorf("told twice:\n%s", out)
	}
}
