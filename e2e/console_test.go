package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/chromedp/cdproto"
	"github.com/chromedp/chromedp"

	"stockade/internal/api"
	"stockade/internal/cli"
	"stockade/internal/made"
	"stockade/internal/must"
)

// browser is a headless Chromium on the console of a site.
type browser struct {
	t       *testing.T
	s       *site
	address string
	ctx     context.Context
}

func newBrowser(t *testing.T, s *site) *browser {
	t.Helper()
	return newBrowserAt(t, s, s.service.APIURL())
}

// signedIn is a browser in which the warden has signed in, at a page.
func signedIn(t *testing.T, s *site, path string) *browser {
	t.Helper()
	return newBrowser(t, s).signIn(path)
}

func (b *browser) signIn(path string) *browser {
	b.t.Helper()
	b.open(path)
	b.typed("#token", b.s.token)
	b.click("Sign in")
	b.see("Sign out")
	return b
}

func newBrowserAt(t *testing.T, s *site, address string) *browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("skipped: chromium is not on this machine (make tools installs it)")
	}
	if code, body, _ := get(t, address+"/"); code != 200 || !strings.Contains(body, `id="app"`) {
		t.Skip("skipped: this build has no console (make console builds it)")
	}
	profile, err := os.MkdirTemp("", "stockade-browser-")
	must.Do(t, err)
	t.Cleanup(func() { os.RemoveAll(profile) }) // as far as the browser lets go of it
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox,
		chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true),
		chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.UserDataDir(profile))
	alloc, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(stop)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(cancel)
	ctx, end := context.WithTimeout(ctx, 20*patience)
	t.Cleanup(end)
	// the browser lives as long as the first context that runs
	must.Do(t, chromedp.Run(ctx, chromedp.EmulateViewport(1280, 800)))
	return &browser{t, s, address, ctx}
}

// patience is how long a state of a page is waited for: it comes within a second on an idle machine, and
// within some fifteen on one whose processors ten others want.
const patience = time.Minute

func (b *browser) run(what string, actions ...chromedp.Action) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, patience+5*time.Second)
	defer cancel()
	err := chromedp.Run(ctx, actions...)
	for drawnAnew(err) && ctx.Err() == nil {
		err = chromedp.Run(ctx, actions...)
	}
	if err != nil {
		var text string
		chromedp.Run(b.ctx, chromedp.Text("body", &text, chromedp.ByQuery))
		b.t.Fatalf("%s: %v\nthe page shows:\n%s", what, err, text)
	}
}

// drawnAnew tells whether what was found on the page had been replaced by
// the page itself before it was acted on: a person would press what is there now.
func drawnAnew(err error) bool {
	var told *cdproto.Error
	return errors.As(err, &told) && strings.Contains(told.Message, "node with given id")
}

func (b *browser) open(path string) {
	b.t.Helper()
	b.run("open "+path, chromedp.Navigate(b.address+path), chromedp.WaitVisible("#app > *",
		chromedp.ByQuery))
}

// see waits until the page shows a text.
func (b *browser) see(text string) {
	b.t.Helper()
	b.run("wait for "+text, chromedp.Poll(`document.body.innerText.includes(`+quoted(text)+`)`, nil,
		chromedp.WithPollingInterval(100*time.Millisecond), chromedp.WithPollingTimeout(patience)))
}

func (b *browser) click(text string) {
	b.t.Helper()
	x := `//*[self::button or self::a][contains(normalize-space(.), "` + text + `") and not(@disabled)]`
	b.run("click "+text, chromedp.WaitVisible(x, chromedp.BySearch), chromedp.Click(x, chromedp.BySearch))
}

func (b *browser) typed(selector, text string) {
	b.t.Helper()
	b.run("type into "+selector, chromedp.WaitVisible(selector, chromedp.ByQuery),
		chromedp.Evaluate(`(() => { const f = document.querySelector(`+quoted(selector)+
			`); f.focus(); f.select(); })()`, nil), chromedp.SendKeys(selector, text, chromedp.ByQuery))
}

// shot keeps a picture of the page when SHOTS names a folder.
func (b *browser) shot(name string) {
	b.t.Helper()
	dir := os.Getenv("SHOTS")
	if dir == "" {
		return
	}
	var png []byte
	b.run("picture "+name, chromedp.Sleep(400*time.Millisecond), chromedp.CaptureScreenshot(&png))
	must.Do(b.t, os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644))
}

func quoted(s string) string {
	return "'" + strings.NewReplacer("\\", "\\\\", "'", "\\'").Replace(s) + "'"
}

// TestTheConsoleDrivesTheWholeWay does in the browser what the command line
// does in the demonstration.
func TestTheConsoleDrivesTheWholeWay(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	b := newBrowser(t, s)
	b.open("/")
	b.see("Token")
	b.typed("#token", "wrong")
	b.click("Sign in")
	b.see("Not signed in")
	b.typed("#token", s.token)
	b.click("Sign in")
	b.see("Nothing is defined yet")

	s.cli(0, "record", filepath.Join(s.dir, "site"))
	b.open("/keys")
	b.see("Kelp Drives release")
	b.click("decide")
	b.see("May this key sign kelp?")
	b.run("nothing on the page says what it should be", chromedp.Poll(
		`!document.body.innerText.replace(/\s/g, "").includes("`+
			s.scenario.KelpKey.Certificate().Fingerprint[:12]+`") && !document.title.includes("`+
			s.scenario.KelpKey.Certificate().Fingerprint[:12]+`")`, nil))
	kelp, tarn := s.scenario.KelpKey.Certificate().Fingerprint, s.scenario.TarnKey.Certificate().Fingerprint
	b.typed("#typed", tarn)
	b.see("do not vouch for this key")
	b.typed("#typed", kelp[:20])
	b.see("20 of 40 digits")
	b.shot("vouch")
	b.typed("#typed", kelp)
	b.see("matches the fingerprint of this key")
	b.typed("#evidence", "compared on paper with Kelp's field engineer")
	b.click("Vouch for key")
	b.run("the decision shows in the matrix",
		chromedp.Poll(`document.querySelectorAll('table .text-moss').length >= 2 && !document.body.innerText.includes('May this key')`, nil))

	// A vouch is taken back for its source, with a reason, and given again.
	b.open("/keys/" + kelp)
	b.click("Withdraw")
	b.typed("#why", "compared with the wrong sheet")
	b.click("Withdraw vouch")
	b.see("key.withdraw")
	b.see("none yet")
	s.cli(0, "key", "vouch", kelp, "--source", "kelp", "--evidence", "compared with the right sheet")

	b.open("/mirrors/barrage")
	b.click("Estimate")
	b.see("Download time")
	looked := make(chan struct{}) // the last package waits until the page was looked at
	waits := func(w http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "/sluicectl_") {
			select {
			case <-looked:
			case <-r.Context().Done():
			}
		}
		return false
	}
	s.scenario.North.Fault(waits)
	s.scenario.South.Fault(waits)
	b.click("Build")
	b.see("Downloading packages")
	b.run("bytes by upstream",
		chromedp.Poll(`document.querySelector('[role=progressbar]')?.getAttribute('aria-valuenow') > 5`, nil))
	b.shot("building")
	close(looked)
	b.see("sealed barrage/1")
	s.scenario.North.Fault(nil)
	s.scenario.South.Fault(nil)

	b.open("/editions/barrage/1")
	b.see("seal valid")
	b.see("libtide2")
	b.click("Verify now")
	b.see("files match it")

	b.open("/lanes")
	b.see("barrage/1")
	b.click("Move here")
	b.typed("#reason", "first edition")
	b.click("Move lane")
	b.run("the lane shows it",
		chromedp.Poll(`[...document.querySelectorAll('tr')].some(r => r.innerText.includes('barrage/1') && [...r.querySelectorAll('.text-moss')].some(m => m.innerText.trim() === 'here'))`, nil))
	if out, _ := s.cli(0, "lane", "list"); !strings.Contains(out, "barrage/1") {
		t.Errorf("the lane was not moved:\n%s", out)
	}

	// Upstream publishes, and the change is told before the lane moves.
	s.newer("1.5.0-1")
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/1", "--reason", "again") // where it is already
	if steps := cliJSON[api.Lane](s, "lane", "show", "steady").History; len(steps) != 1 {
		t.Errorf("a step to where it was is one: %+v", steps)
	}
	b.open("/lanes")
	b.see("barrage/2")
	b.run("ask to move steady",
		chromedp.Click(`(//tr[contains(., "barrage/2")]//button)[1]`, chromedp.BySearch))
	b.see("1 newer")
	b.click("Show")
	b.see("1.5.0-1")
	b.shot("lane-move")
	b.click("Cancel")
	b.open("/editions/barrage/2?tab=1")
	b.see("1.5.0-1")

	// The definition as text, with live findings at the line.
	s.cli(0, "source", "probe", "tarn")
	b.open("/sources/tarn")
	b.see("Accepted release metadata")
	b.press("Definition")
	b.run("wait for the text", chromedp.Poll(`document.querySelector('textarea')?.value.includes('heron')`,
		nil))
	b.run("misspell a field", chromedp.Evaluate(
		`(() => { const t = document.querySelector('textarea'); t.value = t.value.replace('components:', 'componnents:'); t.dispatchEvent(new Event('input')); })()`, nil))
	b.see(`did you mean "components"`)

	// Going back shows what it would change first, and asks.
	b.open("/sources/tarn")
	b.click("Revisions")
	b.click("Restore…")
	b.see("No changes: the definitions")
	b.click("All definitions")
	b.see("Decisions about keys do not change")
	b.click("Cancel")

	b.open("/mirrors/barrage")
	b.run("compare with what machines of steady have", chromedp.SetValue(`select[aria-label="Edition to compare with"]`,
		"steady", chromedp.ByQuery))
	b.click("Preview")
	b.see("building now, compared with barrage/1")
	b.see("1.5.0-1")
	b.click("Prove")
	b.see("the groups gatehouse and test-bench")
	// Before a source is disabled, what stands on it is shown.
	b.open("/sources/kelp")
	b.click("Disable")
	b.see("Groups that follow them")
	b.see("gatehouse, test-bench")
	b.click("Cancel")
	b.open("/jobs")
	b.see("mirror barrage")
	b.open("/machines")
	b.click("Files")
	b.see("Download kit")
	b.open("/sources")
	b.see("official")
	b.open("/journal")
	b.click("Verify")
	b.see("chain intact")
	b.open("/")
	b.see("Needs attention")
	b.see("tarn")
	b.run("search",
		chromedp.Evaluate(`document.dispatchEvent(new KeyboardEvent("keydown", {key: "/", bubbles: true}))`,
			nil), chromedp.WaitVisible(`input[placeholder^="A page, a source"]`, chromedp.ByQuery))
	b.run("type", chromedp.SendKeys(`input[placeholder^="A page, a source"]`, "barrage/2", chromedp.ByQuery))
	b.run("the edition is offered",
		chromedp.Poll(`[...document.querySelectorAll('[role=option]')].some(o => o.innerText.includes('barrage/2'))`, nil))
	b.run("go", chromedp.SendKeys(`input[placeholder^="A page, a source"]`, "\r", chromedp.ByQuery))
	b.see("seal valid")
	b.run("dark", chromedp.Click(`button[aria-label="Use dark colours"]`, chromedp.ByQuery))
	b.click("Sign out")
	b.see("Token")
}

// TestTheConsoleAddsAPackageToTheHouse hands a file in by the browser, looks at
// what is told of it, and takes it out again.
func TestTheConsoleAddsAPackageToTheHouse(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	b := signedIn(t, s, "/")
	b.run("a house in which nothing is",
		chromedp.Poll(`[...document.querySelectorAll("tr")].some(r => r.innerText.includes("reach-pumps") && r.innerText.includes("not refreshed"))`, nil))
	b.open("/sources/reach-pumps")
	b.see("No packages yet")
	b.click("Add package")
	b.run("choose the file", chromedp.WaitVisible("#house-file", chromedp.ByQuery), chromedp.SetUploadFiles(
		"#house-file", []string{filepath.Join(s.dir, "site/house/lamp-driver_2.0-1reach1_all.deb")},
		chromedp.ByQuery))
	b.typed("#house-from", "built from recipe 9")
	b.typed("#house-why", "old pumps <script>alert(1)</script>")
	b.press("Add")
	b.see("not a readable rpm package") // what was typed is still there
	b.run("choose another file", chromedp.SetUploadFiles("#house-file",
		[]string{filepath.Join(s.dir, "site/house/pump-relay-1.1-1.reach.x86_64.rpm")}, chromedp.ByQuery))
	b.press("Add")
	b.see("added pump-relay 1.1-1.reach, as revision")
	b.see("built from recipe 9")
	if all := cliJSON[[]api.HousePackage](s, "package", "list"); len(all) != 1 ||
		all[0].Why != "old pumps <script>alert(1)</script>" {
		t.Errorf("%+v", all)
	}
	b.press("Remove")
	b.see("Restoring a revision brings it back")
	b.press("Remove package")
	b.see("No packages yet")
}

// TestTheDemonstrationStaysUpWithItsConsole runs the real binary's demonstration,
// reads what it prints, and looks at every page of its console.
func TestTheDemonstrationStaysUpWithItsConsole(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	bin, err := binary()
	must.Do(t, err)
	c := exec.Command(bin, "demo")
	c.Dir = dir
	var out safeBuffer
	c.Stdout, c.Stderr = &out, &out
	must.Do(t, c.Start())
	ended := make(chan error, 1)
	go func() { ended <- c.Wait() }()
	t.Cleanup(func() { c.Process.Kill() })
	// The walk itself lists the editions too: the end is what stands behind the token.
	ready := func() bool {
		_, rest, ok := strings.Cut(out.String(), "\n  token ")
		return ok && strings.Contains(rest, "stockade edition list\n")
	}
	for begun := time.Now(); !ready(); time.Sleep(100 * time.Millisecond) {
		select {
		case err := <-ended:
			t.Fatalf("the demonstration ended: %v\n%s", err, out.String())
		default:
		}
		if time.Since(begun) > 2*time.Minute {
			t.Fatalf("the demonstration does not come to its end:\n%s", out.String())
		}
	}
	word := func(after string) string {
		_, rest, _ := strings.Cut(out.String(), after)
		return strings.Fields(rest)[0]
	}
	for _, want := range []string{"define.unknown-field", "key.unvouched", "barrage/1", "The seal is valid",
		"source.upstreams-disagree", "content.digest-mismatch", "barrage/2", "1.5.0-1",
		"no edition was made", "tarn-whole/1", "chain intact"} {
		if !strings.Contains(out.String(), want) {
			t.Errorf("the demonstration does not show %q", want)
		}
	}
	s := &site{t: t, dir: dir, token: word("\n  token ")}
	address := word("\n  console ")
	if code, body, _ := get(t, address+"/"); code != 200 || !strings.Contains(body, `id="app"`) {
		t.Skip("skipped: this build has no console (make console builds it)")
	}
	b := newBrowserAt(t, s, address).signIn("/")
	for _, p := range []struct{ path, see, name string }{
		{"/", "Needs attention", "overview"}, {"/sources", "official", "sources"}, {"/sources/tarn",
			"Accepted release metadata", "source"}, {"/keys", "Kelp Drives release", "keys"},
		{"/mirrors/pumps", "pumps/2", ""}, {"/editions/barrage/2", "libtide2", "edition"}, {
			"/editions/pumps/2?tab=1", "BRINE-2026-0021", "difference"},
		{"/sources/reach-lamps", "recipe 12", ""}, {"/credentials", "login of skerry-reach", "credentials"},
		{"/sources/wrack", "mirrors.txt", ""}, {
			"/editions/barrage/2?tab=1", "1.5.0-1", ""},
		{"/editions/pumps/2?tab=2", "it signed the packages", ""},
		{"/editions/launch/1", "echo-plot", ""}, {"/lanes", "first edition", ""},
		{"/jobs", "failed", "jobs"},
		{"/journal", "lane.move", "journal"}, {"/mirrors", "faithful", ""}, {"/keys/none",
			"no key is named", ""},
	} {
		b.open(p.path)
		b.see(p.see)
		if p.name != "" {
			b.shot(p.name)
		}
	}
	b.open("/machines")
	b.run("files of the gatehouse", chromedp.WaitVisible("tbody button", chromedp.ByQuery), chromedp.Click(
		"tbody button", chromedp.ByQuery))
	b.see("Download kit")
	b.run("look into a file", chromedp.Click(`//summary[contains(., "stockade.sources")]`, chromedp.BySearch))
	b.see("Signed-By")
	b.shot("machines")
	b.open("/editions/pumps/2?tab=3")
	b.see("bounded too")
	b.run("dark", chromedp.Click(`button[aria-label="Use dark colours"]`, chromedp.ByQuery))
	b.open("/editions/barrage/2")
	b.click("kelp-drive")
	b.see("8 of 9 steps verified now")
	b.see("Compared on paper with Kelp's field engineer")
	b.click("about/roots/kelp/dists/heron/InRelease")
	b.see("BEGIN PGP SIGNED MESSAGE")
	b.click("about/roots/kelp/dists/heron/InRelease")
	b.shot("chain")
	c.Process.Signal(os.Interrupt)
	select {
	case err := <-ended:
		if err != nil {
			t.Errorf("ended with %v", err)
		}
	case <-time.After(20 * time.Second):
		t.Error("it does not end when it is asked to")
	}
}

// A folder that somebody has something in is not taken for the demonstration's own.
func TestTheDemonstrationTouchesNoFolderOfOthers(t *testing.T) {
	var out bytes.Buffer
	dir := t.TempDir()
	must.Write(t, filepath.Join(dir, "letter"), "mine")
	code := cli.Main([]string{"demo", "--once", "--data", dir}, strings.NewReader(""), &out, &out)
	if code == 0 {
		t.Error(out.String())
	}
	if must.Read(t, filepath.Join(dir, "letter")) != "mine" {
		t.Error("what lay there is gone")
	}
}

// safeBuffer is written by a process and read by the test.
type safeBuffer struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (s *safeBuffer) Write(p []byte) (int, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.Write(p)
}

func (s *safeBuffer) String() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.b.String()
}

// TestTheConsoleWithALargeEdition looks at an edition of many packages;
// STOCKADE_SCALE=65000 makes it as large as a whole distribution.
func TestTheConsoleWithALargeEdition(t *testing.T) {
	t.Parallel()
	n := 300
	if v, err := strconv.Atoi(os.Getenv("STOCKADE_SCALE")); err == nil {
		n = v
	}
	s := newSite(t)
	must.Do(t, s.scenario.PublishTarn(time.Now().Add(-time.Hour), true, func(r *made.DebRepository) {
		for i := range n {
			r.Packages = append(r.Packages, made.Deb{Component: "field", Name: fmt.Sprintf("gauge-%05d", i),
				Version: "1.0-1", Arch: "amd64", Summary: fmt.Sprintf("tide gauge %d", i),
				Fields: "Depends: tide-data\n", Packing: "gz"})
		}
	}))
	path := filepath.Join(s.dir, "site/mirrors.yaml")
	must.Write(t, path, strings.ReplaceAll(must.Read(t, path), "[sluicectl,", "[sluicectl, \"gauge-*\","))
	s.described()
	begun := time.Now()
	s.built("steady")
	t.Logf("%d packages: built in %s", n, time.Since(begun).Round(time.Millisecond))
	begun = time.Now()
	s.cli(0, "edition", "verify", "barrage/1")
	t.Logf("verified in %s", time.Since(begun).Round(time.Millisecond))
	begun = time.Now()
	if out, _ := s.cli(0, "mirror", "build", "barrage"); out != "" {
		t.Errorf("an edition was made: %s", out)
	}
	t.Logf("nothing changed, told in %s", time.Since(begun).Round(time.Millisecond))
	b := signedIn(t, s, "/")
	b.open("/editions/barrage/1")
	b.see("200 shown, there are more")
	b.typed(`input[aria-label="Search in this edition"]`, fmt.Sprintf("gauge-%05d\r", n-1))
	b.see("1 shown")
	b.see(fmt.Sprintf("tide gauge %d", n-1))
	b.open("/")
	b.see("Needs attention")
}

// A journal that does not hold is an error on every page.
func TestTheConsoleShowsABrokenJournalOnEveryPage(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.db(func(db *sql.DB) {
		altered(t, db,
			`UPDATE journal_entries SET text = replace(text, 'compared on paper', 'compared with care') WHERE action = 'key.vouch'`)
	})
	b := signedIn(t, s, "/")
	for _, page := range []string{"/sources", "/machines", "/jobs"} {
		b.open(page)
		b.run("the error stands above "+page,
			chromedp.Poll(`document.querySelector('main [role=alert]')?.innerText.includes('journal.broken')`,
				nil))
	}
}

// A page that follows a build says when the service is gone, and how the build ended
// once it is back.
func TestAPageThatFollowsABuildOutlivesAKilledService(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	must.Do(t, err)
	s := newSite(t)
	s.described()
	s.stop()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	must.Do(t, err)
	address := l.Addr().String()
	l.Close()
	serve := func() *exec.Cmd {
		t.Helper()
		c := exec.Command(bin, "serve", "--data", filepath.Join(s.dir, "data"), "--listen", address,
			"--packages", "127.0.0.1:0")
		out := &lines{c: make(chan string, 16)}
		c.Stdout = out
		must.Do(t, c.Start())
		t.Cleanup(func() { c.Process.Kill() })
		select {
		case <-out.c:
		case <-time.After(30 * time.Second):
			t.Fatal("the service did not start")
		}
		return c
	}
	running := serve()
	ended := make(chan struct{})
	defer close(ended)
	hold := func(w http.ResponseWriter, r *http.Request) bool {
		if strings.HasSuffix(r.URL.Path, ".deb") {
			select {
			case <-ended:
			case <-r.Context().Done():
			}
		}
		return false
	}
	s.scenario.North.Fault(hold)
	s.scenario.South.Fault(hold)
	b := newBrowserAt(t, s, "http://"+address).signIn("/")
	b.open("/mirrors/barrage")
	b.click("Build")
	b.see("Downloading packages")
	running.Process.Kill()
	running.Wait()
	b.see("the service does not answer")
	serve()
	b.see("build interrupted")
}
