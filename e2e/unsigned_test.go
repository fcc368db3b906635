package e2e

import (
	"bytes"
	"net/http"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/internal/demo"
)

// A source that nobody signs is used when a warden says so, with a reason and an end: its
// first root is pinned, another one is refused until a person accepts it, and the chain
// behind a package says on what it stands.
func TestASourceThatNobodySigns(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	v, dir := s.closed(demo.ShoalLogin, "kind: login, user: "+demo.ShoalUser)
	v.Fault(func(w http.ResponseWriter, r *http.Request) bool {
		gone := strings.HasSuffix(r.URL.Path, "InRelease") || strings.HasSuffix(r.URL.Path, ".gpg")
		if gone {
			http.NotFound(w, r)
		}
		return gone
	})
	file := filepath.Join(dir, "shoal.yaml")
	edit(t, file, "    signed_by: [shoal-sonar]\n", "", "    credentials: [shoal-login]\n", "",
		"    vouched_for: [shoal]\n", "")
	if _, log := s.cli(1, "record", dir); !strings.Contains(log, "error source.unsigned") ||
		!strings.Contains(log, "a warden can accept that under unsigned") {
		t.Errorf("without a word: %s", log)
	}
	until := time.Now().UTC().AddDate(0, 3, 0).Format(time.DateOnly)
	edit(t, file, "    authority: shoal-roots\n",
		"    authority: shoal-roots\n    unsigned: {reason: \"their desk has no key, call 12\", until: "+
			""+until+"}\n")
	back := s.as("per", "operator")
	if _, log := s.cli(4, "record", dir); !strings.Contains(log, "only a warden may") {
		t.Errorf("by an operator: %s", log)
	}
	back()
	_, log := s.cli(0, "record", dir)
	if !strings.Contains(log, "warning source.unsigned") || !strings.Contains(log, "until "+until) {
		t.Errorf("recorded: %s", log)
	}
	out, _ := s.cli(0, "journal", "list")
	if !strings.Contains(out, "source.acknowledge-unsigned") {
		t.Errorf("the journal: %s", out)
	}
	back = s.as("ivo", "operator")
	edit(t, file, v.URL, strings.Replace(v.URL, "127.0.0.1", "localhost", 1))
	if _, log := s.cli(4, "record", dir, "--yes"); !strings.Contains(log, "only a warden may") {
		t.Errorf("another server for it, by an operator: %s", log)
	}
	edit(t, file, strings.Replace(v.URL, "127.0.0.1", "localhost", 1), v.URL, "priority: 40", "priority: 41")
	s.cli(0, "record", dir)
	back()
	_, log = s.cli(0, "mirror", "build", "sounders")
	if !strings.Contains(log, "source.unsigned-changed") ||
		!strings.Contains(log, "the first release metadata of this unsigned") {
		t.Errorf("the first root: %s", log)
	}
	s.cli(0, "edition", "verify", "sounders/1")
	out, _ = s.cli(0, "package", "show", "echo-sounder", "--edition", "sounders/1", "--chain")
	for _, want := range []string{"served it, without a signature", "their desk has no key, call 12",
		"by warden, ",
		"upstream does not sign its metadata"} {
		if !strings.Contains(out, want) {
			t.Errorf("the chain has no %q:\n%s", want, out)
		}
	}
	if out, _ = s.cli(0, "edition", "show", "sounders/1"); !strings.Contains(out, "nobody") {
		t.Errorf("the edition:\n%s", out)
	}
	if out, _ = s.cli(0, "source", "show", "shoal"); !strings.Contains(out, "nobody") {
		t.Errorf("the source:\n%s", out)
	}
	files := v.Files()
	const root = "dists/heron/Release"
	files[root] = bytes.Replace(files[root], []byte("Codename:"), []byte("Version: 2\nCodename:"), 1)
	v.Publish(files)
	if _, log = s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log,
		"error source.unsigned-changed") || !strings.Contains(log, "--accept-once") {
		t.Errorf("another root: %s", log)
	}
	if out, _ = s.cli(1, "status"); !strings.Contains(out, "source.unsigned-changed") {
		t.Errorf("what needs somebody: %s", out)
	}
	back = s.as("ida", "operator")
	s.cli(4, "source", "refresh", "shoal", "--accept-once", "I like it")
	back()
	s.cli(0, "source", "refresh", "shoal", "--accept-once", "their desk says so, call 13")
	out, _ = s.cli(0, "source", "refresh", "shoal")
	if strings.Contains(out, "unsigned-changed") {
		t.Errorf("what a person accepted is told again: %s", out)
	}
}
