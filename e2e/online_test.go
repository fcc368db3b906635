package e2e

import (
	"bytes"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/internal/cli"
	"stockade/internal/demo"
	"stockade/internal/made"
	"stockade/internal/must"
)

// Documents are checked against what the upstreams serve now, without a service.
func TestDocumentsAreCheckedAgainstWhatUpstreamsServe(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	dir := filepath.Join(s.dir, "site")
	s.stop() // no service is asked
	out, log := s.cli(0, "check", dir, "--online")
	if !strings.Contains(log, "the upstreams of 5 sources as they are now") {
		t.Errorf("%s%s", out, log)
	}
	for _, code := range []string{"source.component-missing", "source.not-asked", "upstreams-disagree",
		"upstream-down"} {
		if strings.Contains(out, code) {
			t.Errorf("%s, and nothing is wrong: %s", code, out)
		}
	}
	// Standard input is read once, for both.
	_, kelp, _ := strings.Cut(must.Read(t, filepath.Join(dir, "sources.yaml")), "\n  kelp:\n")
	var o, e bytes.Buffer
	code := cli.Run(func(string) string { return "" }, []string{"check", "-", "--online"},
		strings.NewReader("stockade: 1\nkeys: {kelp-release: {file: "+filepath.Join(dir,
			"keys/kelp-release.asc")+
			"}}\nsources:\n  kelp:\n"+kelp), &o, &e)
	if code != 0 || !strings.Contains(e.String(), "the upstreams of 1 source as they are now") {
		t.Errorf("standard input: exit code %d\n%s%s", code, o.String(), e.String())
	}
	// What only the live root tells.
	sources := filepath.Join(dir, "sources.yaml")
	edit(t, sources, "components: [drives]", "components: [drivers]")
	must.Do(t, s.scenario.PublishTarn(time.Now(), false, func(*made.DebRepository) {}))
	s.scenario.Fixes.Close()
	out, _ = s.cli(1, "check", dir, "--online")
	for _, want := range []string{"error source.component-missing\n", `"drivers"`, "warning source.upstreams-disagree\n",
		"is behind by ", "error source.upstream-down\n", "sources.yaml:"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	// The key of another does not count, and what needs a secret is left out and told.
	edit(t, sources, "signed_by: [kelp-release]", "signed_by: [tarn-archive]")
	v, shoal := s.closed(demo.ShoalLogin, "kind: login, user: "+demo.ShoalUser)
	out, _ = s.cli(1, "check", dir, shoal, "--online")
	for _, want := range []string{"error content.signature-bad\n", "note source.not-asked\n",
		"it needs a credential"} {
		if !strings.Contains(out, want) {
			t.Errorf("no %q in\n%s", want, out)
		}
	}
	if n := len(v.Hits()); n > 0 {
		t.Errorf("the closed server was asked %d times", n)
	}
	if _, log := s.cli(2, "check", "--root", filepath.Join(s.dir, "site"), "--online"); !strings.Contains(log,
		"import") {
		t.Error(log)
	}
}
