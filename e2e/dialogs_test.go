package e2e

import (
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"stockade/internal/must"
)

// focusOn puts the focus on the first button or link that is called so, and remembers it; "" where
// there is none that can be pressed.
const focusOn = `(() => {
	const all = [...document.querySelectorAll("button, a, [role=button]")].filter(e => e.offsetParent && !e.disabled)
	const named = e => (e.getAttribute("aria-label") || e.textContent).trim()
	const e = all.find(e => named(e) === %[1]q) || all.find(e => named(e).startsWith(%[1]q))
	if (!e) return ""
	e.focus()
	window.opener_ = e
	return named(e)
})()`

// where says what has the focus: "dialog" in one, "opener" on what opened it, else what it is.
const where = `(() => {
	const at = document.activeElement
	if (at?.closest("[role=dialog]")) return "dialog"
	if (document.querySelector("[role=dialog]")) return "behind the dialog: " + at?.outerHTML.slice(0, 120)
	return at === window.opener_ ? "opener" : "neither: " + at?.outerHTML.slice(0, 120)
})()`

// Every question is opened by Enter and takes the focus; Escape ends it without anything being done,
// and the focus is where it was.
func TestEscapeEndsAQuestionAndTheFocusReturns(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.drives()
	login := filepath.Join(s.dir, "login.yaml")
	must.Write(t, login, "stockade: 1\ncredentials:\n  shoal-login: {kind: token, "+
		"hosts: [shoal.example]}\n")
	s.cli(0, "record", login)
	s.built("steady")
	s.cli(0, "source", "probe", "tarn")
	s.enrolled("gatehouse", "gate-south")
	b := signedIn(t, s, "/")
	before := mustOut(s, "journal", "list", "-o", "ids")
	kelp := "/keys/" + s.scenario.KelpKey.Certificate().Fingerprint
	for _, d := range []struct{ path, first, press string }{
		{"/", "", "Snooze"},
		{"/sources/kelp", "", "Disable"},
		{"/sources/tarn", "", "Sort by score"},
		{"/sources/tarn?tab=1", "", "Rename everywhere"},
		{"/sources/tarn?tab=2", "", "Restore…"},
		{"/sources/reach-pumps", "", "Add package"},
		{"/keys", "", "Import key"},
		{"/keys", "", "Import statement"},
		{kelp, "", "Withdraw"},
		{kelp, "", "Bar this key"},
		{"/credentials", "", "Add secret"},
		{"/mirrors/drives", "Prove", "Apply this fix"},
		{"/mirrors/drives", "Prove", "Add tarn to it"},
		{"/editions/barrage/1", "", "Retire"},
		{"/editions/barrage/1", "", "libtide2"},
		{"/lanes", "", "Move here"},
		{"/machines?tab=1", "", "Enrol machines"},
		{"/machines/gate-south", "", "Change"},
		{"/machines/gate-south", "", "Remove"},
		{"/journal", "", "Entry 1, "},
		{"/accounts", "", "New account"},
		{"/accounts/warden", "", "New token"},
		{"/accounts/warden", "", "Set password"},
		{"/accounts/warden", "", "Revoke"},
	} {
		at := d.path + ", " + d.press
		b.open(d.path)
		if d.first != "" {
			b.press(d.first)
		}
		b.until(at, fmt.Sprintf(focusOn, d.press)+` !== ""`)
		b.run(at, chromedp.KeyEvent("\r"))
		b.until(at+" takes the focus", where+` === "dialog"`)
		b.run(at, chromedp.KeyEvent("\x1b"))
		b.until(at+" gives the focus back", where+` === "opener"`)
	}
	// What was typed is not lost without a word, neither by Escape nor by a click beside the question.
	open := `document.querySelector("[role=dialog] input, [role=dialog] textarea")?.value.endsWith("rook")`
	lost := `!!document.querySelector("[role=dialog] [role=alert]")?.textContent.includes("Your input was not saved")`
	b.open("/accounts")
	b.press("New account")
	b.until("a new account", where+` === "dialog"`)
	b.run("beside", chromedp.MouseClickXY(8, 400))
	b.until("nothing was typed", `!document.querySelector("[role=dialog]")`)
	for _, by := range []struct {
		name string
		end  chromedp.Action
	}{{"Escape", chromedp.KeyEvent("\x1b")}, {"beside", chromedp.MouseClickXY(8, 400)}} {
		b.press("New account")
		b.until("a new account", where+` === "dialog"`)
		b.run(by.name, chromedp.SendKeys(`[role=dialog] input`, "rook", chromedp.ByQuery))
		b.run(by.name, by.end)
		b.until(by.name+" tells what would be lost", open+"&&"+lost)
		b.press("Continue editing")
		b.until(by.name+" goes on", open+"&& !"+lost)
		b.run(by.name, chromedp.KeyEvent("\x1b"))
		b.until(by.name, lost)
		b.run(by.name, chromedp.KeyEvent("\x1b"))
		b.until(by.name+" twice", `!document.querySelector("[role=dialog]")`)
	}
	if after := mustOut(s, "journal", "list", "-o", "ids"); after != before {
		t.Errorf("questions that were ended did something: %s and then %s", before, after)
	}
}

// until waits for what a script says.
func (b *browser) until(what, script string) {
	b.t.Helper()
	var ok bool
	for end := time.Now().Add(10 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) {
		if b.run(what, chromedp.Evaluate(script, &ok)); ok {
			return
		}
	}
	var at string
	b.run(what, chromedp.Evaluate(where, &at))
	b.t.Errorf("%s: not so; the focus is on %s", what, at)
}
