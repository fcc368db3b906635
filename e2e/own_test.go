package e2e

import (
	"encoding/json"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/internal/must"
)

// What this machine's own package client is configured with is imported, a key that really
// signs each source is vouched for, a mirror is built from the real archive, and the machine's
// own client installs from it the versions that it would take from the archive itself.
func TestThisMachinesOwnSourcesAreImportedAndMirrored(t *testing.T) {
	t.Parallel()
	imported := filepath.Join(t.TempDir(), "imported")
	s := newSite(t)
	m := newMachine(t, s.dir)
	s.cli(0, "source", "import", "--root", "/", "--out", imported)
	document := filepath.Join(imported, "site.yaml")
	raw, err := os.ReadFile(document)
	must.Do(t, err)
	// Importing twice changes nothing.
	again := filepath.Join(t.TempDir(), "again")
	s.cli(0, "source", "import", "--root", "/", "--out", again)
	if second := must.Read(t, filepath.Join(again, "site.yaml")); second != string(raw) {
		t.Errorf("imported twice, it is another document:\n%s\n%s", raw, second)
	}
	set, found := definition.Read(definition.Text{Name: document, Text: string(raw)})
	if found.HasErrors() {
		t.Fatal(found)
	}
	release := strings.TrimSpace(mustSh(t, `. /etc/os-release && echo "$VERSION_CODENAME"`))
	var from []string
	for _, name := range slices.Sorted(maps.Keys(set.Sources)) {
		src := set.Sources[name]
		if src.Family == "deb" && src.Standing != "house" && strings.HasPrefix(src.Release, release) &&
			len(src.SignedBy) > 0 && answers(src.Upstreams[0].URL+"/dists/"+src.Release+"/InRelease") {
			from = append(from, name)
		}
	}
	if len(from) == 0 {
		t.Skip("skipped: this machine has no signed sources of its release that answer")
	}
	// What is always there, by what this machine says of itself.
	names := strings.Fields(mustSh(t,
		`dpkg-query -W -f '${Installed-Size} ${Essential} ${db:Status-Abbrev} ${Package}\n' | `+
			`awk '$2 == "yes" && $3 == "ii" {print $1, $4}' | sort -n | awk '{print $2}' | head -4`))
	if len(names) < 2 {
		t.Fatalf("the essential packages of this machine: %q", names)
	}
	text, err := json.Marshal(map[string]any{"stockade": 1,
		"mirrors": map[string]any{"own": map[string]any{"copy": "tailored", "from": from,
			"want": map[string]any{"packages": names, "with": "required"}}},
		"lanes": map[string]any{"own": map[string]any{"mirror": "own"}},
		"groups": map[string]any{"here": map[string]any{"family": "deb", "release": release,
			"architectures": []string{"amd64"}, "lane": "own"}}})
	must.Do(t, err)
	must.Do(t, os.WriteFile(filepath.Join(imported, "mirror.yaml"), text, 0o644))
	s.cli(0, "record", imported)
	s.cli(1, "mirror", "build", "own") // nobody vouched for anything yet
	for _, name := range from {
		src := set.Sources[name]
		out, _ := s.cli(0, "key", "examine", set.Keys[src.SignedBy[0]].File, "--source", name, "-o", "ids")
		signers := strings.Fields(out)
		if len(signers) == 0 {
			t.Fatalf("none of the keyring signed %s", name)
		}
		s.cli(0, "key", "vouch", signers[0], "--source", name, "--evidence", "this machine trusts it already")
	}
	if out, _ := s.try3("status"); strings.Contains(out, "error ") {
		t.Errorf("with a key vouched for at each, something is an error: %s", out)
	}
	s.cli(0, "mirror", "build", "own")
	s.cli(0, "edition", "verify", "own/1")
	s.cli(0, "lane", "move", "own", "own/1")
	s.cli(0, "group", "files", "here", "--out", m.root)
	m.must(false, "update")
	// The same client, with the machine's own configuration, and with ours.
	theirs := newMachine(t, s.dir)
	mustSh(t, "cp -a /etc/apt/. "+theirs.root+"/etc/apt/")
	if out, err := theirs.apt(false, "update"); err != nil {
		t.Skipf("skipped: the machine's own client cannot reach its archive: %s", out)
	}
	install := append([]string{"install", "-s", "--no-install-recommends"}, names...)
	want, _ := theirs.apt(false, install...)
	if got := taken(m.must(false, install...)); got == "" || got != taken(want) {
		t.Errorf("from the mirror the client takes\n%s\nand from the archive\n%s", got, taken(want))
	}
	m.must(false, append([]string{"install", "--download-only", "--no-install-recommends"}, names...)...)
}

// taken gives what a simulated installation would install, in order of names.
func taken(out string) string {
	var lines []string
	for _, m := range regexp.MustCompile(`(?m)^Inst (\S+) \((\S+) `).FindAllStringSubmatch(out, -1) {
		lines = append(lines, m[1]+" "+m[2])
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n")
}

// try3 runs a command whatever it answers.
func (s *site) try3(args ...string) (out, log string) {
	s.t.Helper()
	_, out, log = s.try(args...)
	return out, log
}

// mustSh gives what a line of shell prints.
func mustSh(t *testing.T, line string) string {
	t.Helper()
	c := exec.Command("sh", "-c", line)
	c.Env = append(os.Environ(), "LC_ALL=C")
	out, err := c.Output()
	if err != nil {
		t.Fatalf("%s: %v", line, err)
	}
	return string(out)
}

// answers tells whether an address can be had now.
func answers(url string) bool {
	c := http.Client{Timeout: 20 * time.Second}
	r, err := c.Head(url)
	if err != nil {
		return false
	}
	r.Body.Close()
	return r.StatusCode == http.StatusOK
}
