package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stockade/internal/must"
)

// A machine whose repository file names no key trusts what stands in rpm's own keyring, which
// the real program made here.
func TestKeysOfRpmsOwnKeyringAreImported(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	root := filepath.Join(t.TempDir(), "machine")
	db := filepath.Join(root, "usr/lib/sysimage/rpm")
	repos := filepath.Join(root, "etc/yum.repos.d")
	for _, dir := range []string{db, repos} {
		must.Do(t, os.MkdirAll(dir, 0o755))
	}
	write := func(path, text string) {
		t.Helper()
		must.Write(t, path, text)
	}
	for _, name := range []string{"pumps", "launch"} {
		write(filepath.Join(repos, name+".repo"), "["+name+"]\nname="+name+
			"\nbaseurl=https://packages.brine.example/"+name+"\ngpgcheck=1\n")
	}
	imported := func(name string, code int) (document, told string) {
		t.Helper()
		dir := filepath.Join(s.dir, name)
		_, told = s.cli(code, "source", "import", "--root", root, "--out", dir, "--arch", "amd64")
		return must.Read(t, filepath.Join(dir, "site.yaml")), told
	}
	if document, _ := imported("without", 0); strings.Contains(document, "machine-keyring") {
		t.Error(document)
	}
	site := filepath.Join(s.dir, "site", "keys")
	for _, name := range []string{"brine-2026.asc", "kelp-release.asc"} {
		out, err := exec.Command("rpmkeys", "--dbpath", db, "--import", filepath.Join(site,
			name)).CombinedOutput()
		if err != nil {
			t.Fatalf("rpmkeys: %v\n%s", err, out)
		}
	}
	document, told := imported("with", 0)
	for _, k := range []string{s.scenario.BrineKey.Certificate().Fingerprint,
		s.scenario.KelpKey.Certificate().Fingerprint} {
		if strings.Count(document, k) != 1 {
			t.Errorf("%s is not in\n%s", k, document)
		}
	}
	if strings.Count(document, "signed_by: [machine-keyring]") != 2 ||
		!strings.Contains(document, "file: keys/machine-keyring.asc") ||
		!strings.Contains(told, "so every key that the machine trusts globally may sign it "+
			"(/usr/lib/sysimage/rpm/rpmdb.sqlite)") {
		t.Errorf("%s\n%s", document, told)
	}
	if out, _ := s.cli(0, "check", filepath.Join(s.dir, "with")); strings.Contains(out, "cannot be read") ||
		strings.Contains(out, "key.missing") {
		t.Error(out)
	}
	// One that is no database is told, and nothing else is lost.
	write(filepath.Join(db, "rpmdb.sqlite"), "rubbish")
	if document, told := imported("damaged", 0); !strings.Contains(told,
		"the machine's global keyring cannot be read") ||
		strings.Contains(document, "machine-keyring") || !strings.Contains(document, "pumps") {
		t.Errorf("%s\n%s", document, told)
	}
}
