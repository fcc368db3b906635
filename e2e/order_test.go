package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"stockade/internal/api"
	"stockade/internal/must"
)

// In the console: servers of a file are measured beside those that are described, and the best
// of a region are kept once it was shown what that changes.
func TestTheConsoleKeepsTheBestServers(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	b := signedIn(t, s, "/sources/tarn")
	b.see("not probed yet")
	bad := filepath.Join(s.dir, "bad.txt")
	must.Write(t, bad, "file:///srv/tarn\n")
	choose := func(path string) {
		b.run("choose", chromedp.SetUploadFiles(`input[aria-label="File with further servers"]`, []string{path},
			chromedp.ByQuery))
	}
	choose(bad)
	b.see("is not an address that a source can have")
	choose(filepath.Join(s.dir, "site", "servers.txt"))
	b.see("candidate, not used by builds")
	b.click("Sort by score")
	b.see("all of them")
	selected := func(label, value string) {
		b.run(label, chromedp.WaitVisible(`select[aria-label="`+label+`"]`, chromedp.ByQuery),
			chromedp.SetValue(`select[aria-label="`+label+`"]`, value, chromedp.ByQuery),
			chromedp.Evaluate(`document.querySelector('select[aria-label="`+label+
				`"]').dispatchEvent(new Event("change"))`, nil))
	}
	selected("How many to keep", "3")
	selected("Region", "west")
	b.see("keeps 1 upstream")
	b.shot("order")
	if got := cliJSON[api.Source](s, "source", "show", "tarn").Upstreams; len(got) != 2 {
		t.Errorf("shown, and done already: %+v", got)
	}
	b.press("Sort")
	b.run("done", chromedp.Poll(`!document.body.innerText.includes("all of them")`, nil))
	if got := cliJSON[api.Source](s, "source", "show", "tarn").Upstreams; len(got) != 1 ||
		got[0].URL != s.scenario.West.URL || got[0].Region != "west" {
		t.Errorf("%+v", got)
	}
	if out := mustOut(s, "revision", "list"); !strings.Contains(out,
		"put the upstreams of tarn in the order") {
		t.Error(out)
	}
}
