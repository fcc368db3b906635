package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"stockade/internal/api"
	"stockade/internal/must"
)

// A second window is signed in, no script can read what it is signed in with, and a session that
// was ended is told in words, with what was typed still there.
func TestASessionIsForTheWholeBrowser(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	b := newBrowser(t, s)
	b.open("/")
	b.typed("#token", "wrong")
	b.click("Sign in")
	b.see("no account has this token")
	b.typed("#token", s.token)
	b.click("Sign in")
	b.see("Sign out")
	var cookie, kept string
	b.run("what scripts see", chromedp.Evaluate(`document.cookie`, &cookie),
		chromedp.Evaluate(`JSON.stringify([{...localStorage}, {...sessionStorage}])`, &kept))
	if cookie != "" || strings.Contains(kept, s.token) {
		t.Errorf("a script reads %q, and %s", cookie, kept)
	}

	// Another window: signed in, and what is being described is there.
	b.open("/describe")
	b.write("stockade: 1\nsources: {}\n")
	b.see("kept for you")
	ctx, close := chromedp.NewContext(b.ctx)
	t.Cleanup(close)
	if err := chromedp.Run(ctx, chromedp.EmulateViewport(1280, 800)); err != nil { // it lives as long as ctx
		t.Fatal(err)
	}
	second := &browser{t, s, b.address, ctx}
	second.open("/describe")
	waitFor(t, "the draft in another window", func() bool {
		return strings.Contains(second.written(), "sources: {}")
	})
	second.write("stockade: 1\nsources: {}\nmirrors: {}\n")
	second.see("kept for you")
	b.write("stockade: 1\nsources: {}\nlanes: {}\n")
	b.see("changed in another window")
	b.click("Keep this one")
	b.run("one goes on", chromedp.Poll(`!document.body.innerText.includes("changed in another window")`, nil,
		chromedp.WithPollingInterval(100*time.Millisecond)))

	close()
	b.run("look at it again", page.BringToFront())

	// A password, with which somebody signs in by name.
	b.open("/accounts/warden")
	b.click("Set password")
	b.typed("#word", "gate seven at slack water")
	b.typed("#again", "gate seven at slack water")
	b.click("Save password")
	b.see("Change password")
	s.cli(0, "account", "end-sessions", "warden")
	b.see("Your session has ended")
	b.click("A password")
	b.typed("#account", "warden")
	b.typed("#password", "gate seven at slack water")
	b.click("Sign in")
	b.run("the page is there again", chromedp.Poll(
		`!document.querySelector("#password") && !document.body.innerText.includes("Not signed in") &&
		[...document.querySelectorAll("td")].some(d => d.innerText === "password")`, nil))
	b.shot("accounts")

	// What is pressed twice before it was answered is done once.
	b.click("New token")
	b.typed("#token-name", "desk")
	b.run("press twice", chromedp.Evaluate(`(() => { const [make] = [...document.querySelectorAll("button")]
		.filter(b => b.innerText === "Create token"); make.click(); make.click(); })()`, nil))
	b.see("desk")
	b.run("the dialog is gone", chromedp.Poll(`!document.querySelector("#token-name")`, nil))
	account := cliJSON[api.Account](s, "account", "show", "warden")
	made := 0
	for _, token := range account.Tokens {
		if token.Name == "desk" {
			made++
		}
	}
	if made != 1 {
		t.Errorf("%d tokens were made: %+v", made, account.Tokens)
	}
}

// Whatever a viewer's role does not let them do is shown and cannot be pressed, on every page;
// what the page says of it is what the table of calls says.
func TestAViewerIsOfferedNothingThatIsRefused(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "source", "probe", "tarn")
	back := s.as("ola", api.Viewer)
	viewer := s.env["STOCKADE_TOKEN"]
	back()
	b := newBrowser(t, s)
	b.open("/")
	b.typed("#token", viewer)
	b.click("Sign in")
	b.see("Sign out")
	needs := map[string]string{}
	for _, r := range api.Routes {
		needs[r.Name] = r.Role
	}
	seen := map[string]bool{}
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	for _, p := range []struct{ path, see string }{{"/", "Needs attention"}, {"/describe", "Write or paste"},
		{"/sources", "official"}, {"/sources/tarn", "Accepted release metadata"}, {"/sources/tarn?tab=2",
			"Restore"},
		{"/sources/reach-pumps", "No packages yet"}, {"/keys", "Kelp Drives release"},
		{"/keys/" + kelp, "compared on paper"}, {"/credentials", "Credentials"},
		{"/mirrors/barrage", "barrage/1"},
		{"/editions/barrage/1", "libtide2"}, {"/lanes", "steady"}, {"/packages?name=tide-tables",
			"tide-tables"},
		{"/machines", "gatehouse"}, {"/machines?tab=1",
			"Enrol machines"}, {"/jobs", "build"},
		{"/storage", "unused"},
		{"/journal", "lane.move"}, {"/accounts", "ola"}} {
		b.open(p.path)
		b.see(p.see)
		var raw string
		b.run("the buttons", chromedp.Evaluate(`JSON.stringify([...document.querySelectorAll("[data-does]")].
			map(e => [e.dataset.does, e.disabled, e.innerText]))`, &raw))
		var buttons [][3]any
		must.Do(t, json.Unmarshal([]byte(raw), &buttons))
		for _, x := range buttons {
			does, disabled, text := x[0].(string), x[1].(bool), x[2].(string)
			role, known := needs[does]
			seen[does] = true
			if lacks := role == api.Operator || role == api.Warden; !known || lacks != disabled && lacks ||
				lacks && !strings.Contains(text, "needs "+role) {
				t.Errorf("%s: %q does %s, which needs %q: disabled %v", p.path, text, does, role, disabled)
			}
		}
	}
	for _, does := range []string{"record", "disable", "probe", "refresh", "restore", "addPackage",
		"takeStatement", "addKeys", "bar", "withdraw", "estimate", "build", "preview", "verify", "retire",
		"move", "where", "addAccount"} {
		if !seen[does] {
			t.Errorf("nothing on these pages does %s", does)
		}
	}
}

// Each call that the console makes and a role may lack has a button that says so.
func TestEachActionOfTheConsoleIsAnAct(t *testing.T) {
	sources := filepath.Join("..", "console", "src")
	var all strings.Builder
	must.Do(t, filepath.WalkDir(sources, func(path string, d os.DirEntry, err error) error {
		if err == nil && (strings.HasSuffix(path, ".vue") || strings.HasSuffix(path, ".ts")) &&
			!strings.HasSuffix(path, ".d.ts") {
			raw, rerr := os.ReadFile(path)
			all.Write(raw)
			return rerr
		}
		return err
	}))
	known := map[string]string{}
	for _, r := range api.Routes {
		known[r.Name] = r.Role
	}
	var named []string
	for _, m := range regexp.MustCompile(`[^:-]does="([A-Za-z]+)"`).FindAllStringSubmatch(all.String(), -1) {
		if _, ok := known[m[1]]; !ok {
			t.Errorf("a button does %s, and no call has that name", m[1])
		}
		named = append(named, m[1])
	}
	for _, does := range []string{"record", "build", "estimate", "prove", "preview", "move", "back",
		"vouch", "bar",
		"withdraw", "retireKey", "refresh", "probe", "order", "disable", "verify", "retire", "restore",
		"addKeys",
		"takeStatement", "addPackage", "removePackage", "giveSecret", "forgetSecret", "renewSiteKey",
		"retireSiteKey", "where", "setAside", "takeUp", "stopJob", "addAccount", "removeAccount"} {
		if !slices.Contains(named, does) {
			t.Errorf("no button of the console says that it does %s", does)
		}
	}
}
