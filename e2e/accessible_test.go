package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

// audit is what an accessibility check of a page says of one rule.
type audit struct {
	ID, Impact, Help string
	Nodes            []struct {
		Target []string
		HTML   string
	}
}

// serious gives what an accessibility check finds serious, or worse, of the page that is open in a shade.
// What the page is made of is the same in both, and is checked in the light one; colours are checked in
// each.
func (b *browser) serious(script, shade string) (out []audit) {
	b.t.Helper()
	rules := ""
	if shade != "light" {
		rules = `runOnly: ["color-contrast", "link-in-text-block"], `
	}
	b.run("check the page", chromedp.Evaluate(`document.documentElement.dataset.shade = "`+shade+`";
		window.axe === undefined`, nil), chromedp.Evaluate(script, nil), chromedp.Evaluate(
		`axe.run(document, {`+rules+`resultTypes: ["violations"]}).then(r => r.violations
			.filter(v => ["serious", "critical"].includes(v.impact))
			.map(v => ({id: v.id, impact: v.impact, help: v.help,
				nodes: v.nodes.map(n => ({target: n.target.map(String), html: n.html}))})))`, &out,
		func(p *runtime.EvaluateParams) *runtime.EvaluateParams { return p.WithAwaitPromise(true) }))
	return out
}

// fits looks at the page in the narrowest window that it is made for: nothing is wider than its
// place, but for matrices, whose first column stays, and texts that scroll by themselves.
func (b *browser) fits(page string) {
	b.t.Helper()
	var wide []string
	b.run("narrow", chromedp.EmulateViewport(1024, 768), chromedp.Sleep(100*time.Millisecond),
		chromedp.Evaluate(`[...document.querySelectorAll("body *")].filter(e =>
			e.scrollWidth > e.clientWidth + 1 && e.clientWidth > 0 &&
			!["visible", "clip"].includes(getComputedStyle(e).overflowX) &&
			getComputedStyle(e).textOverflow !== "ellipsis" && !e.classList.contains("sr-only") &&
			!e.querySelector("table.matrix") && !e.closest("pre, textarea, input, select, .cm-editor"))
			.map(e => e.tagName + "." + e.className + ": " + e.scrollWidth + " in " + e.clientWidth)`, &wide),
		chromedp.EmulateViewport(1280, 800))
	for _, w := range wide {
		b.t.Errorf("%s at 1024 pixels: %s", page, w)
	}
}

// No page has anything that keeps people from it who see little, or use a keyboard or a screen reader:
// nothing that the check calls serious, in both shades.
func TestPagesOfTheConsoleAreAccessible(t *testing.T) {
	t.Parallel()
	raw, err := os.ReadFile("../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Skip("skipped: the check is not installed (make lint installs it)")
	}
	s := newSite(t)
	s.described()
	s.drives()
	s.built("steady")
	s.cli(0, "source", "probe", "tarn")
	s.enrolled("gatehouse", "gate-south")
	s.cli(0, "package", "add", filepath.Join(s.dir, "site/house/lamp-driver_2.0-1reach1_all.deb"), "--source",
		"reach-lamps", told, "--why=two of the old lamps are older than their maker's drivers")
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	b := newBrowser(t, s)
	check := func(page string) {
		t.Helper()
		for _, shade := range []string{"light", "dark"} {
			for _, a := range b.serious(string(raw), shade) {
				var at []string
				for _, n := range a.Nodes[:min(3, len(a.Nodes))] {
					at = append(at, fmt.Sprint(n.Target, " ", n.HTML))
				}
				t.Errorf("%s, %s: %s (%s), %d places:\n\t%s", page, shade, a.Help, a.ID, len(a.Nodes),
					strings.Join(at, "\n\t"))
			}
		}
	}
	b.open("/")
	b.see("Token")
	check("signing in")
	b.typed("#token", s.token)
	b.click("Sign in")
	b.see("Sign out")
	for _, p := range []struct{ path, see string }{
		{"/", "Needs attention"}, {"/describe", "Write or paste"},
		{"/describe?edit=source/tarn", "The format of the repository"}, {"/sources", "official"},
		{"/sources/tarn", "Accepted release metadata"}, {"/sources/tarn?tab=1", "as recorded"},
		{"/sources/reach-pumps", "No packages yet"},
		{"/sources/reach-lamps", "lamp-driver"}, {"/keys", "Kelp Drives release"},
		{"/keys/" + kelp, "compared on paper"}, {"/credentials", "Credentials"},
		{"/mirrors", "barrage"}, {"/mirrors/barrage", "barrage/1"},
		{"/editions/barrage/1", "libtide2"},
		{"/editions/barrage/1?tab=2", "Proof at the build"},
		{"/lanes", "steady"},
		{"/packages", "Type part of a name"}, {"/machines", "gatehouse"},
		{"/machines?tab=1", "gate-south"}, {"/machines/gate-south", "not in any source"},
		{"/machines/gate-south?tab=1", "Import report"}, {"/jobs", "build"},
		{"/storage", "unused"},
		{"/journal", "lane.move"}, {"/accounts", "viewer can read"}, {"/accounts/warden", "first start"},
		{"/nowhere", "Overview"},
	} {
		b.open(p.path)
		b.see(p.see)
		check(p.path)
		b.fits(p.path)
	}
	for _, d := range []struct{ path, press, see string }{
		{"/keys/" + kelp, "Withdraw", "Withdraw vouch"}, {"/lanes", "Move here", "Move lane"},
		{"/sources/kelp", "Disable", "Cancel"}, {"/machines", "Files", "Download kit"},
		{"/machines?tab=1", "Enrol machines",
			"Names, separated"},
		{"/machines/gate-south", "Change", "Save"}, {"/machines/gate-south", "Remove",
			"Cancel"},
		{"/mirrors/drives", "Prove", "Possible fixes"},
	} {
		b.open(d.path)
		b.click(d.press)
		b.see(d.see)
		check(d.path + ", " + d.press)
	}
	b.open("/")
	b.run("search", chromedp.Evaluate(
		`document.dispatchEvent(new KeyboardEvent("keydown", {key: "/", bubbles: true}))`, nil),
		chromedp.WaitVisible(`input[placeholder^="A page, a source"]`, chromedp.ByQuery))
	check("the search")
}
