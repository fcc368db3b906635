package machine

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/must"
)

// laid is an export of an edition with the files of a group, as it lies on a medium.
func laid(t *testing.T, site *trust.SiteKey, edition, text string) string {
	t.Helper()
	dir := t.TempDir()
	put := func(name, text string) {
		t.Helper()
		path := filepath.Join(dir, name)
		must.Do(t, os.MkdirAll(filepath.Dir(path), 0o755))
		must.Do(t, os.WriteFile(path, []byte(text), 0o644))
	}
	mirror, number, _ := strings.Cut(edition, "/")
	record := fmt.Sprintf("{\n  \"mirror\": %q,\n  \"number\": %s,\n"+
		"  \"created\": \"2026-11-0%sT10:00:00Z\",\n  \"basis\": {\n    \"mirror\": \"another\",\n  "+
		"  \"number\": 7\n  }\n}\n", mirror, number, number)
	put("tarn/pool/a.deb", text)
	put("about/edition.json", record)
	manifest := digest([]byte(record)) + "  about/edition.json\n" + digest([]byte(text)) +
		"  tarn/pool/a.deb\n"
	put("manifest", manifest)
	sign := func(text []byte) string {
		signature, err := site.DetachSign(text, true)
		must.Do(t, err)
		return string(signature)
	}
	put("seal.asc", sign([]byte(manifest)))
	b := Beside{Group: "gatehouse", Edition: edition, Site: site.Certificate().Fingerprint,
		Files: []archive.ClientFile{{Path: "etc/apt/x", Mode: 0o644, Data: []byte("for " + edition)}}}
	_, _, err := WriteFiles(filepath.Join(dir, "machines/gatehouse"), []string{"etc"}, b.Files)
	must.Do(t, err)
	put("machines/"+CheckName, string(b.Check()))
	put("machines/gatehouse.sums", string(b.Sums()))
	put("machines/gatehouse.sums.asc", sign(b.Sums()))
	put("machines/site-key.gpg", string(site.Certificate().Binary()))
	return dir
}

// What is checked where an export arrives: its own seal, that of what machines get from it, that both are
// of one edition, and that it is none older than before.
func TestAnExportIsCheckedWhereItArrives(t *testing.T) {
	site, err := made.Key(made.Owner{Name: "Skerry Reach", Address: "stores@reach.example"})
	must.Do(t, err)
	state := t.TempDir()
	check := func(what, dir string, code int, says string, more ...string) {
		t.Helper()
		cmd := exec.Command("sh", append([]string{filepath.Join(dir, "machines", CheckName)}, more...)...)
		cmd.Env = append(os.Environ(), "STOCKADE_STATE="+state)
		out, _ := cmd.CombinedOutput()
		if cmd.ProcessState.ExitCode() != code || !strings.Contains(string(out), says) {
			t.Errorf("%s: got exit code %d, want %d, with %q:\n%s", what, cmd.ProcessState.ExitCode(), code,
				says, out)
		}
	}
	second := laid(t, site, "barrage/2", "second")
	check("a good one", second, 0, "barrage/2, sealed on 2026-11-02T10:00:00Z")
	check("the same again", second, 0, "match the seal for this edition")
	first := laid(t, site, "barrage/1", "first")
	check("an older one", first, 1, "THE EDITION IS OLDER THAN barrage/2")
	check("an older one that is wanted", first, 0, "barrage/1", "--older")
	check("one of another mirror", laid(t, site, "gates/1", "x"), 0, "this is the first edition of gates")
	for what, c := range map[string]struct {
		change func(dir string)
		says   string
	}{
		"machines' files of another edition": {func(dir string) {
			for _, name := range []string{"machines/gatehouse.sums", "machines/gatehouse.sums.asc",
				"machines/gatehouse/etc/apt/x", "machines/gatehouse/" + Written} {
				raw, err := os.ReadFile(filepath.Join(first, name))
				must.Do(t, err)
				must.Do(t, os.WriteFile(filepath.Join(dir, name), raw, 0o644))
			}
		}, "IS FOR barrage/1"},
		"a machine's file": {func(dir string) {
			must.Do(t, os.WriteFile(filepath.Join(dir, "machines/gatehouse/etc/apt/x"), []byte("mine"),
				0o644))
		}, "FILES OF MACHINES DIFFER"},
		"a machine's file with its sum": {func(dir string) {
			name := filepath.Join(dir, "machines/gatehouse.sums")
			raw, err := os.ReadFile(name)
			must.Do(t, err)
			must.Do(t, os.WriteFile(name, append(raw, '\n'), 0o644))
		}, "THE SEAL OF machines/gatehouse.sums IS INVALID"},
		"one more file": {func(dir string) {
			must.Do(t, os.WriteFile(filepath.Join(dir, "machines/gatehouse/etc/apt/y"), nil, 0o644))
		}, "NOT SEALED"},
		"a link": {func(dir string) {
			must.Do(t, os.Symlink("/etc/passwd", filepath.Join(dir, "machines/gatehouse/etc/apt/y")))
		}, "LINKS"},
		"a package": {func(dir string) {
			must.Do(t, os.WriteFile(filepath.Join(dir, "tarn/pool/a.deb"), []byte("mine"), 0o644))
		}, "FILES DIFFER"},
		"the manifest": {func(dir string) {
			must.Do(t, os.WriteFile(filepath.Join(dir, "manifest"), nil, 0o644))
		}, "THE SEAL IS INVALID"},
		"an export that is not whole": {func(dir string) {
			must.Do(t, os.WriteFile(filepath.Join(dir, "being-renewed.txt"), nil, 0o644))
		}, "INCOMPLETE"},
	} {
		dir := laid(t, site, "barrage/3", "third")
		c.change(dir)
		check(what, dir, 1, c.says)
	}
}
