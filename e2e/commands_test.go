package e2e

import (
	"encoding/json"
	"errors"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"stockade/core/edition"
	"stockade/internal/api"
	"stockade/internal/must"
	"stockade/internal/service"
)

// walked is a site with an edition on a lane, a newer one that is on none, and something
// newer still upstream.
func walked(t *testing.T) *site {
	t.Helper()
	s := newSite(t)
	s.described()
	s.built("steady")
	s.newer("1.5.0-1")
	s.cli(0, "mirror", "build", "barrage")
	s.newer("1.6.0-1")
	return s
}

// What is wrong with a call, and what the exit code of it is.
func TestExitCodesAreThoseOfTheTable(t *testing.T) {
	t.Parallel()
	s := walked(t)
	mistakes := filepath.Join(s.dir, "mistakes.yaml")
	must.Write(t, mistakes, "stockade: 1\nsources: {x: {family: dbe}}\n")
	for _, c := range []struct {
		line string
		code int
		says string
	}{
		{"nonsense", 2, ""},
		{"edition show barrage", 2, ""},
		{"source list -o scroll", 2, ""},
		{"edition retire barrage/2", 2, "--yes"}, // not on a terminal
		{"source shw tarn", 2, "stockade source show"},
		{"source show Tarn", 2, `did you mean "tarn"`},
		{"source show tarm", 2, `did you mean "tarn"`},
		{"source show a/b?c", 2, "not a name of a source"},
		{"source show " + mistakes, 2, "this is a file"},
		{"group show gatehose", 2, `did you mean "gatehouse"`},
		{"edition show barage/1", 2, `did you mean "barrage"`},
		{"edition show barrage/99", 2, "edition list"},
		{"edition diff barrage/2 barrage/1", 2, "edition diff barrage/1 barrage/2"},
		{"account remove wardn --yes", 2, `did you mean "warden"`},
		{"edition list --mirror borrage", 2, `did you mean "barrage"`},
		{"mirror list --source nosuch", 2, `no source is named "nosuch"`},
		{"group list --lane ../x", 2, ""},
		{"job watch 99", 2, "no job has the number 99"},
		{"job watch x", 2, "job list"},
		{"revision show 99", 2, "no revision has the number 99"},
		{"source list --family dbe", 2, "deb"},
		{"source list --severity bad", 2, "warning"},
		{"journal list --since yore", 2, "2d"},
		{"key list --source tarm", 2, `did you mean "tarn"`},
		{"lane move trial pumps/1", 1, "--mirror barrage"},
		{"check " + mistakes, 1, "deb"},
		{"compare " + mistakes, 1, "deb"},
		{"record " + mistakes, 1, "deb"},
		{"check " + filepath.Join(s.dir, "site"), 0, "key.unvouched"}, // what is still to be decided
		{"compare " + filepath.Join(s.dir, "site") + " --same", 0, "no changes"},
		{"edition diff barrage/2 --same", 1, "from barrage/1 to barrage/2"},
		{"mirror preview barrage --same", 1, "1.6.0-1"},
		{"mirror build lamps", 1, "failed (job"},
		{"mirror estimate lamps", 1, "mirror.missing-dependency"},
		{"source list --server ftp://x", 2, "http://HOST:PORT"},
		{"source list --server http://127.0.0.1:1", 3, "stockade serve"},
		{"edition export barrage/1 " + s.dir, 2, "--onto"},
		{"edition export barrage/1 " + s.dir + " --onto", 2, "does not contain an export"},
		{"status", 1, "behind barrage/2"},
		{"status --severity error", 1, "mirror.missing-dependency"},
	} {
		code, out, told := s.try(strings.Fields(c.line)...)
		if code != c.code || !strings.Contains(out+told, c.says) {
			t.Errorf("stockade %s: %d, and %d was meant\n%s%s", c.line, code, c.code, out, told)
		}
	}
}

func TestResultsAndErrorsComeInTheFormThatWasAskedFor(t *testing.T) {
	t.Parallel()
	s := walked(t)
	ids := func(want string, args ...string) {
		t.Helper()
		if out, _ := s.cli(0, append(args, "-o", "ids")...); strings.Join(strings.Fields(out), " ") != want {
			t.Errorf("stockade %s -o ids: %q", strings.Join(args, " "), out)
		}
	}
	ids("barrage/2", "edition", "show", "barrage/2")
	ids("kelp-drive libkelp7", "edition", "packages", "barrage/2", "--source", "kelp")
	ids("sluicectl sluicectl", "edition", "diff", "barrage/1", "barrage/2")
	ids("barrage/3", "mirror", "build", "barrage")
	ids("barrage/3", "mirror", "build", "barrage") // there is nothing new
	ids("tarn kelp", "source", "show", "tarn", "kelp")
	ids("barrage/3 barrage/2 barrage/1", "edition", "list", "--mirror", "barrage")
	ids("brine-drivers", "source", "list", "--family", "rpm", "--standing", "vendor")
	for _, form := range []string{"json", "yaml"} {
		code, out, told := s.try("source", "show", "tarm", "-o", form)
		var f struct {
			Type   string `json:"type" yaml:"type"`
			Status int    `json:"status" yaml:"status"`
			Exit   int    `json:"exit_code" yaml:"exit_code"`
			Way    string `json:"way_out" yaml:"way_out"`
		}
		err := yaml.Unmarshal([]byte(told), &f) // JSON is YAML
		if err != nil || out != "" || code != 2 || f.Exit != 2 || f.Status != 404 ||
			f.Type != "urn:stockade:define.dangling-reference" || !strings.Contains(f.Way, "tarn") {
			t.Errorf("%s: %d, %v, %q", form, code, err, told)
		}
	}
	out, _ := s.cli(0, "edition", "show", "barrage/1", "-o", "yaml")
	if !regexp.MustCompile(`(?m)^- bytes: [0-9]{6,}$`).MatchString(out) {
		t.Errorf("a size is no integer: %s", out)
	}
	out, _ = s.cli(0, "source", "refresh", "tarn", "kelp", "-o", "json")
	var jobs []map[string]any
	if err := json.Unmarshal([]byte(out), &jobs); err != nil || len(jobs) != 2 {
		t.Errorf("two jobs: %v %s", err, out)
	}
	if out, _ = s.cli(0, "--version"); out != "stockade development\n" {
		t.Errorf("--version: %q", out)
	}
}

// No line is wider than the terminal, and what was left out for that is said.
func TestTablesFitTheTerminal(t *testing.T) {
	t.Parallel()
	s := walked(t)
	s.house()
	lists := []string{"source list", "key list", "mirror list", "edition list", "lane list", "group list",
		"package list", "job list", "journal list", "revision list", "edition packages barrage/2",
		"edition diff barrage/2", "pool usage", "source probe tarn", "key show " +
			s.scenario.KelpKey.Certificate().Fingerprint, "lane show steady", "account list"}
	for _, columns := range []string{"80", "120"} {
		s.env["COLUMNS"] = columns
		for _, line := range lists {
			out, told := s.cli(0, strings.Fields(line)...)
			most := map[string]int{"80": 80, "120": 120}[columns]
			for l := range strings.Lines(out) {
				if n := utf8.RuneCountInString(strings.TrimRight(l, "\n")); n > most {
					t.Errorf("%s at %s columns: %d: %s", line, columns, n, l)
				}
			}
			wide, _ := s.cli(0, append(strings.Fields(line), "--wide")...)
			if strings.Contains(line, "probe") { // what is measured differs each time
				continue
			}
			if cut := len(wide) > len(out); cut != strings.Contains(told, "use --wide to show all") {
				t.Errorf("%s at %s columns: cut %v, and told %q", line, columns, cut, told)
			}
		}
	}
	delete(s.env, "COLUMNS")
	for _, line := range lists[:8] { // into a pipe everything goes
		if out, told := s.cli(0, strings.Fields(line)...); strings.Contains(out, "…") ||
			strings.Contains(told, "--wide") {
			t.Errorf("%s without a terminal: %s", line, told)
		}
	}
}

func TestWhatIsRecordedIsDescribedAndRecordedAgain(t *testing.T) {
	t.Parallel()
	s := walked(t)
	s.house()
	for _, args := range [][]string{{}, {"source", "tarn"}, {"key"}, {"mirror", "barrage", "pumps"},
		{"package"}} {
		doc := filepath.Join(t.TempDir(), "again.yaml")
		out, _ := s.cli(0, append([]string{"describe"}, args...)...)
		must.Write(t, doc, out)
		s.cli(0, "compare", doc, "--same")
	}
	if _, told := s.cli(2, "describe", "source", "tarm"); !strings.Contains(told, `"tarn"`) {
		t.Error(told)
	}
}

func TestAnExportIsBroughtUpToDateAndChecksItself(t *testing.T) {
	t.Parallel()
	s := walked(t)
	dir := filepath.Join(s.dir, "stick")
	check := func(want int, says string) {
		t.Helper()
		out, err := exec.Command("env", "STOCKADE_STATE="+s.dir, "sh",
			filepath.Join(dir, "machines/check.sh")).CombinedOutput()
		if code := exitOf(err); code != want || !strings.Contains(string(out), says) {
			t.Errorf("check.sh: %d\n%s", code, out)
		}
	}
	s.cli(0, "edition", "export", "barrage/1", dir, "--group", "gatehouse", "--at", "/srv/barrage")
	check(0, "match the seal for this edition")
	files := must.Read(t, filepath.Join(dir, "machines/gatehouse/etc/apt/sources.list.d/stockade.sources"))
	if !strings.Contains(files, "file:/srv/barrage/tarn") {
		t.Errorf("a machine's files: %s", files)
	}
	must.Write(t, filepath.Join(dir, "note.txt"), "mine")
	_, told := s.cli(0, "edition", "export", "barrage/2", dir, "--onto", "--group", "gatehouse", "--at",
		"/srv/barrage")
	if !strings.Contains(told, "files were already there") {
		t.Error(told)
	}
	check(0, "match the seal for this edition")
	if must.Read(t, filepath.Join(dir, "note.txt")) != "mine" {
		t.Error("what is not of an edition was touched")
	}
	deb := mustOne(t, filepath.Join(dir, "kelp/pool/*/*/*/*.deb"))
	must.Write(t, deb, "x")
	check(1, "FILES DIFFER FROM THE SEAL")
	s.cli(0, "edition", "export", "barrage/2", dir, "--onto") // mends what is wrong
	check(0, "the seal is valid")
	manifest := filepath.Join(dir, "manifest")
	must.Write(t, manifest, must.Read(t, manifest)+"# \n")
	check(1, "THE SEAL IS INVALID")
	s.cli(2, "edition", "export", "pumps/1", dir, "--onto") // of another mirror
	elsewhere, machines := t.TempDir(), filepath.Join(dir, "machines")
	must.Do(t, errors.Join(os.RemoveAll(machines), os.Symlink(elsewhere, machines)))
	_, told = s.cli(5, "edition", "export", "barrage/2", dir, "--onto", "--group", "gatehouse", "--at",
		"/srv/barrage")
	if left, err := os.ReadDir(elsewhere); !strings.Contains(told, "is a symbolic link") || err != nil ||
		len(left) > 0 {
		t.Errorf("machines' files through a link: %s %v %v", told, left, err)
	}
}

// A damaged edition is told as what it is, with the path and what to do.
func TestADamagedEditionIsNotExported(t *testing.T) {
	t.Parallel()
	s := walked(t)
	sum := cliJSON[[]api.Item](s, "edition", "packages", "barrage/1", "--source", "kelp")[0].SHA256
	file := filepath.Join(s.dir, "data/pool", sum[:2], sum[2:])
	must.Do(t, os.Chmod(file, 0o600))
	for _, damage := range []func(){
		func() { must.Write(t, file, strings.Repeat("x", len(must.Read(t, file)))) },
		func() { must.Do(t, os.WriteFile(file, []byte("short"), 0o600)) },
		func() { must.Do(t, os.RemoveAll(file)) },
	} {
		damage()
		dir := filepath.Join(s.dir, "out")
		_, told := s.cli(1, "edition", "export", "barrage/1", dir)
		if !strings.Contains(told, "edition.damaged") || !strings.Contains(told, ".deb") ||
			!strings.Contains(told, "Fix:") {
			t.Errorf("%s", told)
		}
		if _, err := os.Stat(dir); err == nil {
			t.Error("half an export lies there")
		}
	}
}

func TestAKeyIsExaminedBeforeAnythingIsDecided(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	both := filepath.Join(s.dir, "both.asc")
	kelp, tarn := s.scenario.KelpKey.Certificate(), s.scenario.TarnKey.Certificate()
	must.Write(t, both, tarn.Armoured()+kelp.Armoured())
	out, told := s.cli(0, "key", "examine", both, "--source", "kelp")
	if !strings.Contains(told, "1 of 2 certificates signed the release metadata of kelp") ||
		!strings.Contains(out, "stockade key vouch "+kelp.Fingerprint+" --source kelp") {
		t.Errorf("%s%s", out, told)
	}
	if out, _ := s.cli(0, "key", "examine", both, "--source", "tarn", "-o",
		"ids"); out != tarn.Fingerprint+"\n" {
		t.Errorf("who signed tarn: %s", out)
	}
	only := filepath.Join(s.dir, "tarn.asc")
	must.Write(t, only, tarn.Armoured())
	s.cli(1, "key", "examine", only, "--source", "kelp")
	// Nothing of it was believed: kelp is still not accepted.
	if _, told := s.cli(1, "source", "refresh", "kelp"); !strings.Contains(told, "key.unvouched") {
		t.Error(told)
	}
	if left, err := filepath.Glob(filepath.Join(s.dir, "data/tmp/examine*")); err != nil || len(left) > 0 {
		t.Errorf("left behind: %v", left)
	}
	// One comparison, two sources: both or none.
	if _, told := s.cli(2, "key", "vouch", kelp.Fingerprint, "--source", "kelp", "--source", "kalp",
		"--evidence", "x"); !strings.Contains(told, `"kelp"`) {
		t.Error(told)
	}
	s.cli(1, "source", "refresh", "kelp")
	s.cli(0, "key", "vouch", kelp.Fingerprint, "--source", "kelp", "--evidence", "x")
	s.cli(0, "source", "refresh", "kelp")
}

func TestStatusTellsWhatChanged(t *testing.T) {
	t.Parallel()
	s := walked(t)
	out, _ := s.cli(1, "status", "--since", "1h", "-o", "json")
	var st struct {
		Behind  []string
		Needs   []map[string]any `json:"needs_you"`
		Changed []map[string]any
	}
	if err := json.Unmarshal([]byte(out), &st); err != nil || len(st.Behind) != 1 ||
		st.Behind[0] != "steady" || len(st.Changed) < 5 || len(st.Needs) == 0 {
		t.Errorf("%v %s", err, out)
	}
	later := time.Now().Add(time.Hour).Format(time.RFC3339)
	out, _ = s.cli(1, "status", "--since", later, "-o", "json")
	if err := json.Unmarshal([]byte(out), &st); err != nil || len(st.Changed) != 0 {
		t.Errorf("since a time to come: %v %s", err, out)
	}
	// A source that nothing stands on can go, and what stands on another is shown.
	if _, told := s.cli(1, "source", "disable", "tarn", "--yes"); !strings.Contains(told,
		"the mirrors barrage, lamps") || !strings.Contains(told, "the lanes") {
		t.Error(told)
	}
	s.cli(0, "source", "disable", "reach-spares", "--yes")
	if _, told := s.cli(0, "source", "disable", "reach-spares", "--yes"); !strings.Contains(told,
		"it is so already") {
		t.Error(told)
	}
}

// This machine's own package sources are read, judged, and become a description that can
// be recorded.
func TestTheMachinesOwnSourcesAreReadAndRecorded(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	code, out, told := s.try("check", "--root", "/", "-o", "json")
	if code == 2 {
		t.Skipf("skipped: nothing that is read lies on this machine: %s", told)
	}
	var found []map[string]any
	if err := json.Unmarshal([]byte(out), &found); err != nil || code > 1 {
		t.Fatalf("%d %v %s", code, err, told)
	}
	dir := filepath.Join(s.dir, "imported")
	s.cli(0, "source", "import", "--root", "/", "--out", dir, "-q")
	site := filepath.Join(dir, "site.yaml")
	first := must.Read(t, site)
	s.cli(0, "source", "import", "--root", "/", "--out", dir, "--yes", "-q")
	if first != must.Read(t, site) {
		t.Error("the same files give another document")
	}
	if code != 0 {
		t.Skip("skipped: this machine's sources have errors of their own")
	}
	s.cli(0, "record", site)
	if out, _ := s.cli(0, "source", "list", "-o", "ids"); out == "" {
		t.Error("no source came of it")
	}
	// What the demonstration's machines are given is judged as it lies there, without fault.
	s.described()
	s.built("steady")
	root := filepath.Join(s.dir, "machine")
	s.cli(0, "group", "files", "gatehouse", "--out", root)
	if out, _ := s.cli(0, "check", "--root", root); strings.Contains(out, "warning") {
		t.Errorf("what was written for machines: %s", out)
	}
}

func exitOf(err error) int {
	if e, ok := err.(*exec.ExitError); ok {
		return e.ExitCode()
	}
	return 0
}

// mustOne gives one file of a pattern.
func mustOne(t *testing.T, pattern string) string {
	t.Helper()
	all, err := filepath.Glob(pattern)
	if err != nil || len(all) == 0 {
		t.Fatalf("nothing matches %s: %v", pattern, err)
	}
	return all[0]
}

// A pool that is lost, or a part of it, is told of at once, and machines are told to try again.
func TestALostPoolIsTold(t *testing.T) {
	t.Parallel()
	s := walked(t)
	item := cliJSON[[]api.Item](s, "edition", "packages", "barrage/2", "--source", "kelp")[0]
	file := filepath.Join(s.dir, "data/pool", item.SHA256[:2], item.SHA256[2:])
	kept := must.Read(t, file)
	must.Do(t, os.Remove(file))
	address := s.service.PackagesURL() + "/edition/barrage/2/" + item.Path
	if code, _, head := get(t, address); code != http.StatusServiceUnavailable ||
		head.Get("Retry-After") == "" {
		t.Errorf("a file that is gone: %d %v", code, head)
	}
	told := ""
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
		code, out, log := s.try("status")
		if told = out + log; code == 1 && strings.Contains(told,
			"is missing or damaged in the pool, perhaps with") {
			break
		}
	}
	if !strings.Contains(told, "is missing or damaged in the pool, perhaps with") {
		t.Errorf("status does not tell of it:\n%s", told)
	}
	must.Write(t, file, kept)
	if code, body, _ := get(t, address); code != http.StatusOK || body != kept {
		t.Errorf("the file is back: %d", code)
	}
}

// A pool that is lost is filled again by building: what upstreams have is fetched, and what only the site
// wrote, or was added by hand, is kept beside the pool. What no upstream has any more is told.
func TestALostPoolIsFilledAgain(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	s.newer("1.5.0-1") // upstream has the version of before no more
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "package", "add", filepath.Join(s.dir, "site/house/lamp-driver_2.0-1reach1_all.deb"), "--source",
		"reach-lamps", told, "--why=the old lamps")
	s.cli(0, "mirror", "build", "lamps")
	editions := strings.Fields(mustOut(s, "edition", "list", "-o", "ids"))
	kept := func() bool { // beside the pool, within moments of the builds
		for _, e := range editions {
			if _, err := os.Stat(filepath.Join(s.dir, "data/editions", e, "own")); err != nil {
				return false
			}
		}
		return true
	}
	for until := time.Now().Add(time.Minute); !kept() && time.Now().Before(until); {
		time.Sleep(100 * time.Millisecond)
	}
	s.stop()
	must.Do(t, os.RemoveAll(filepath.Join(s.dir, "data/pool")))
	s.start()
	for _, e := range editions {
		s.cli(1, "edition", "verify", e)
	}
	_, log := s.cli(0, "mirror", "build", "barrage", "lamps")
	if !strings.Contains(log, "edition barrage/1: 2 files of the edition could not be restored to the pool: "+
		"tarn/pool/core/s/sluicectl/sluicectl_1.4.2-1_a") {
		t.Errorf("what is gone for good is not told: %s", log)
	}
	if now := strings.Fields(mustOut(s, "edition", "list", "-o", "ids")); !slices.Equal(now, editions) {
		t.Errorf("got editions %v, want %v: nothing changed but the pool", now, editions)
	}
	s.cli(0, "edition", "verify", "barrage/2")
	s.cli(0, "edition", "verify", "lamps/1")
	if _, log := s.cli(1, "edition", "verify", "barrage/1"); strings.Count(log, "edition.damaged") != 2 {
		t.Errorf("more of it is lost than what upstream dropped: %s", log)
	}
	out := mustOut(s, "journal", "list", "--search", "pool.refill")
	if !strings.Contains(out, "mirror lamps") {
		t.Errorf("the journal does not tell of it: %s", out)
	}
}

// An edition that is retired after a lane left it is given to machines that began with it, for the time of
// grace, and no sweep takes it away before. What is said of a seal is checked when it is said.
func TestAnEditionStaysForItsGrace(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	s.newer("1.5.0-1")
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/2")
	s.cli(0, "edition", "retire", "barrage/1", "--yes")
	s.cli(0, "pool", "sweep", "--yes")
	former := s.service.PackagesURL() + "/lane/steady/tarn/pool/core/s/sluicectl/sluicectl_1.4.2-1_amd64.deb"
	if code, body, _ := get(t, former); code != 200 || body == "" {
		t.Errorf("a client that began with the edition before gets %d", code)
	}
	if code, _, _ := get(t, s.service.PackagesURL()+"/edition/barrage/1/manifest"); code != 404 {
		t.Errorf("by its own address a retired edition gives %d", code)
	}
	if out := mustOut(s, "pool", "usage"); !strings.Contains(out, "retired; kept until ") {
		t.Errorf("what it keeps is not said: %s", out)
	}
	if out := mustOut(s, "edition", "show", "barrage/2"); !strings.Contains(out, "valid, by ") {
		t.Error(out)
	}
	manifest := filepath.Join(s.dir, "data/editions/barrage/2", edition.ManifestName)
	good := must.Read(t, manifest)
	must.Write(t, manifest, good+"\n")
	if out := mustOut(s, "edition", "show", "barrage/2"); !strings.Contains(out, "BROKEN: ") {
		t.Errorf("of a manifest that was changed: %s", out)
	}
	must.Write(t, manifest, good)
	if out := mustOut(s, "edition", "show", "barrage/2"); !strings.Contains(out, "valid, by ") {
		t.Error(out)
	}
	s.stop()
	s.configure = func(c *service.Config) {
		c.Now = func() time.Time { return time.Now().Add(25 * time.Hour) }
	}
	s.start()
	s.cli(0, "pool", "sweep", "--yes")
	if out := mustOut(s, "pool", "usage"); strings.Contains(out, "barrage/1") {
		t.Errorf("it is kept when the grace is over: %s", out)
	}
	if _, err := os.Stat(filepath.Join(s.dir, "data/editions/barrage/1")); !os.IsNotExist(err) {
		t.Errorf("its folder is there still: %v", err)
	}
}
