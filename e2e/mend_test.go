package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stockade/internal/demo"
	"stockade/internal/must"
)

// What is mechanical in definitions is mended after it was shown; each file stays beside
// it as it was; nothing is changed unasked.
func TestAFileIsMendedAndKeptAsItWas(t *testing.T) {
	t.Parallel()
	s := &site{t: t, dir: t.TempDir(), env: map[string]string{}}
	file := filepath.Join(s.dir, "site.yaml")
	text := strings.Replace(demo.Mistakes, "http:", "https:", 1)
	write := func() {
		must.Do(t, os.WriteFile(file, []byte(text), 0o600))
	}
	write()
	_, log := s.cli(2, "check", file, "--fix")
	if must.Read(t, file) != text || !strings.Contains(log, "componnents") ||
		!strings.Contains(log, "--yes") {
		t.Errorf("unasked: %s", log)
	}
	var out string
	for range 2 { // what was kept before stays too
		write()
		out, log = s.cli(1, "check", file, "--fix", "--yes")
	}
	now := must.Read(t, file)
	if strings.Contains(log+now, "pearl") || !strings.Contains(now, "components: [core]") ||
		!strings.Contains(now, "source: tarn,") || !strings.Contains(now, "credentials: [tarn-login]") ||
		!strings.Contains(now, `tarn-login: {kind: login, user: "archivist", hosts: ["north.tarn.example"]}`) {
		t.Errorf("%s\n%s", log, now)
	}
	if !strings.Contains(out, "key.short-id") || strings.Contains(out, "define.unknown-field") {
		t.Errorf("what is left is not told, or what is mended is: %s", log)
	}
	for _, kept := range []string{file + ".before", file + ".before-2"} {
		if must.Read(t, kept) != text {
			t.Errorf("%s is not what it was", kept)
		}
		if st, err := os.Stat(kept); err != nil || st.Mode().Perm() != 0o600 {
			t.Errorf("%s can be read by others: %v", kept, err)
		}
	}
	if _, log = s.cli(1, "check", file, "--fix", "--yes"); !strings.Contains(log,
		"can be corrected automatically") {
		t.Errorf("mended again: %s", log)
	}
	if _, log = s.cli(2, "check", "-", "--fix"); !strings.Contains(log,
		"--fix works for files with definitions") {
		t.Error(log)
	}
	if _, log = s.cli(2, "check", "--root", s.dir, "--fix"); !strings.Contains(log,
		"--fix works for files with definitions") {
		t.Error(log)
	}
}
