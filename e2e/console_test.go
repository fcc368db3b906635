package e2e

import (
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"stockade/core/archive/deb"
)

// browser is a headless Chromium on the console of a site.
type browser struct {
	t   *testing.T
	s   *site
	ctx context.Context
}

func newBrowser(t *testing.T, s *site) *browser {
	t.Helper()
	path, err := exec.LookPath("chromium")
	if err != nil {
		t.Skip("skipped: chromium is not on this machine (make tools installs it)")
	}
	if code, body, _ := get(t, s.service.APIURL()+"/"); code != 200 || !strings.Contains(body, `id="app"`) {
		t.Skip("skipped: this build has no console (make console builds it)")
	}
	opts := append(chromedp.DefaultExecAllocatorOptions[:], chromedp.ExecPath(path), chromedp.NoSandbox, chromedp.DisableGPU, chromedp.WindowSize(1280, 800),
		chromedp.Flag("disable-background-networking", true), chromedp.Flag("disable-component-update", true), chromedp.Flag("disable-sync", true),
		chromedp.UserDataDir(filepath.Join(s.dir, "browser")))
	alloc, stop := chromedp.NewExecAllocator(context.Background(), opts...)
	t.Cleanup(stop)
	ctx, cancel := chromedp.NewContext(alloc)
	t.Cleanup(cancel)
	ctx, end := context.WithTimeout(ctx, 3*time.Minute)
	t.Cleanup(end)
	if err := chromedp.Run(ctx, chromedp.EmulateViewport(1280, 800)); err != nil { // the browser lives as long as the first context that runs
		t.Fatal(err)
	}
	return &browser{t, s, ctx}
}

func (b *browser) run(what string, actions ...chromedp.Action) {
	b.t.Helper()
	ctx, cancel := context.WithTimeout(b.ctx, 25*time.Second)
	defer cancel()
	if err := chromedp.Run(ctx, actions...); err != nil {
		var text string
		chromedp.Run(b.ctx, chromedp.Text("body", &text, chromedp.ByQuery))
		b.t.Fatalf("%s: %v\nthe page shows:\n%s", what, err, text)
	}
}

func (b *browser) open(path string) {
	b.t.Helper()
	b.run("open "+path, chromedp.Navigate(b.s.service.APIURL()+path), chromedp.WaitVisible("#app > *", chromedp.ByQuery))
}

// see waits until the page shows a text.
func (b *browser) see(text string) {
	b.t.Helper()
	b.run("wait for "+text, chromedp.Poll(`document.body.innerText.includes(`+quoted(text)+`)`, nil, chromedp.WithPollingInterval(100*time.Millisecond), chromedp.WithPollingTimeout(20*time.Second)))
}

func (b *browser) click(text string) {
	b.t.Helper()
	x := `//*[self::button or self::a][contains(normalize-space(.), "` + text + `") and not(@disabled)]`
	b.run("click "+text, chromedp.WaitVisible(x, chromedp.BySearch), chromedp.Click(x, chromedp.BySearch))
}

func (b *browser) typed(selector, text string) {
	b.t.Helper()
	b.run("type into "+selector, chromedp.WaitVisible(selector, chromedp.ByQuery), chromedp.Evaluate(`(() => { const f = document.querySelector(`+quoted(selector)+`); f.focus(); f.select(); })()`, nil), chromedp.SendKeys(selector, text, chromedp.ByQuery))
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
	if err := os.WriteFile(filepath.Join(dir, name+".png"), png, 0o644); err != nil {
		b.t.Fatal(err)
	}
}

func quoted(s string) string {
	return "'" + strings.NewReplacer("\\", "\\\\", "'", "\\'").Replace(s) + "'"
}

// TestTheConsoleDrivesTheWholeWay does in the browser what the command line
// does in the demonstration.
func TestTheConsoleDrivesTheWholeWay(t *testing.T) {
	s := newSite(t)
	b := newBrowser(t, s)
	b.open("/")
	b.see("Token")
	b.typed("#token", "wrong")
	b.click("Sign in")
	b.see("Not signed in")
	b.typed("#token", s.token)
	b.click("Sign in")
	b.see("Nothing is described yet")
	b.shot("empty")

	s.cli(0, "apply", filepath.Join(s.dir, "site"))
	b.open("/keys")
	b.see("Kelp Drives release")
	b.click("decide")
	b.see("May this key sign kelp?")
	kelp, tarn := s.scenario.KelpKey.Certificate().Fingerprint, s.scenario.TarnKey.Certificate().Fingerprint
	b.typed("#typed", tarn)
	b.see("do not vouch for it")
	b.typed("#typed", kelp[:20])
	b.see("20 of 40 digits")
	b.shot("vouch")
	b.typed("#typed", kelp)
	b.see("it is this key's fingerprint")
	b.typed("#evidence", "compared on paper with Kelp's field engineer")
	b.click("Vouch for it")
	b.run("the decision shows in the matrix", chromedp.Poll(`document.querySelectorAll('table .text-moss').length >= 2 && !document.body.innerText.includes('May this key')`, nil))
	b.shot("keys")

	b.open("/mirrors/barrage")
	b.click("Estimate")
	b.see("Time to fetch")
	b.click("Build")
	b.see("sealed barrage/1")
	b.shot("mirror")

	b.open("/editions/barrage/1")
	b.see("the seal holds")
	b.see("libtide2")
	b.click("Verify now")
	b.see("are what was sealed")
	b.shot("edition")

	b.open("/lanes")
	b.see("barrage/1")
	b.click("Move here")
	b.typed("#reason", "first edition")
	b.click("Move the lane")
	b.see("here")
	if out, _ := s.cli(0, "lane", "list"); !strings.Contains(out, "barrage/1") {
		t.Errorf("the lane was not moved:\n%s", out)
	}

	// Upstream publishes, and the change is told before the lane moves.
	if err := s.scenario.PublishTarn(time.Now().Add(-time.Minute), true, func(r *deb.Repository) {
		for i := range r.Packages {
			if r.Packages[i].Name == "sluicectl" {
				r.Packages[i].Version = "1.5.0-1"
			}
		}
	}); err != nil {
		t.Fatal(err)
	}
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/1", "--reason", "first edition")
	b.open("/lanes")
	b.see("barrage/2")
	b.run("ask to move steady", chromedp.Click(`(//tr[contains(., "barrage/2")]//button)[1]`, chromedp.BySearch))
	b.see("1.5.0-1")
	b.shot("lane-move")
	b.click("Leave it")
	b.shot("lanes")
	b.open("/editions/barrage/2?tab=1")
	b.see("changed")
	b.shot("difference")

	// The definition as text, with live findings at the line.
	s.cli(0, "source", "probe", "tarn")
	b.open("/sources/tarn")
	b.see("Accepted root")
	b.shot("source")
	b.click("Definition")
	b.run("wait for the text", chromedp.Poll(`document.querySelector('textarea')?.value.includes('heron')`, nil))
	b.run("misspell a field", chromedp.Evaluate(`(() => { const t = document.querySelector('textarea'); t.value = t.value.replace('components:', 'componnents:'); t.dispatchEvent(new Event('input')); })()`, nil))
	b.see(`perhaps "components" is meant`)
	b.shot("definition")

	b.open("/jobs")
	b.see("build")
	b.shot("jobs")
	b.open("/machines")
	b.click("Files")
	b.see("Signed-By")
	b.shot("machines")
	b.open("/sources")
	b.see("official")
	b.shot("sources")
	b.open("/journal")
	b.click("Verify")
	b.see("whole and unchanged")
	b.shot("journal")
	b.open("/")
	b.see("Needs you")
	b.see("tarn")
	b.shot("overview")
	b.run("search", chromedp.Evaluate(`document.dispatchEvent(new KeyboardEvent("keydown", {key: "/", bubbles: true}))`, nil), chromedp.WaitVisible(`input[placeholder^="Name, fingerprint"]`, chromedp.ByQuery))
	b.run("type", chromedp.SendKeys(`input[placeholder^="Name, fingerprint"]`, "barrage/2", chromedp.ByQuery))
	b.see("edition")
	b.shot("search")
	b.run("go", chromedp.SendKeys(`input[placeholder^="Name, fingerprint"]`, "\r", chromedp.ByQuery))
	b.see("the seal holds")
	b.run("dark", chromedp.Click(`button[aria-label="Use the dark shade"]`, chromedp.ByQuery))
	b.shot("edition-dark")
	b.click("Sign out")
	b.see("Token")
}
