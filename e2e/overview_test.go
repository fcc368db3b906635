package e2e

import (
	"fmt"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"stockade/internal/must"
)

// An empty service shows the way to the first machine, each step with what came of it or what it
// needs, until the first files for machines were taken. What needs somebody is told by the tab,
// and what is alike is one line; a service that is gone is told within seconds.
func TestTheConsoleShowsTheWayAndWhatNeedsSomebody(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	b := signedIn(t, s, "/")
	b.see("Set up the first machine")
	b.see("0 of 10 steps done")
	b.see("needs a group of machines that follow the lane")
	b.shot("first")
	b.click("Continue")
	b.see("Write or paste a definition")
	s.described()
	s.cli(0, "source", "probe", "tarn")
	b.open("/")
	b.see("the keys are vouched for, for brine-drivers, kelp, tarn")
	b.see("needs the time and the disk space")
	s.built("steady")
	b.open("/")
	b.see("9 of 10 steps done")
	b.see("steady shows barrage/1")
	s.cli(0, "group", "files", "gatehouse") // who looks ends nothing
	b.open("/")
	b.see("9 of 10 steps done")
	s.cli(0, "group", "files", "gatehouse", "--out", t.TempDir())
	b.open("/")
	b.see("Needs attention")
	b.run("the way is gone", chromedp.Poll(`!document.body.innerText.includes("Set up the first machine")`, nil))

	var many strings.Builder
	many.WriteString("stockade: 1\nsources:\n")
	for i := range 6 {
		fmt.Fprintf(&many, "  yard-%d: {family: deb, standing: vendor, release: heron, components: [core], "+
			"architectures: [amd64], signed_by: [kelp-release], "+
			"upstreams: [{url: \"https://y%d.yard.example\"}]}\n", i, i)
	}
	path := filepath.Join(s.dir, "many.yaml")
	must.Write(t, path, many.String())
	s.cli(0, "record", path)
	b.open("/")
	b.see("sources yard-0, yard-1, yard-2 and 3 others: 6 alike")
	b.run("the tab counts", chromedp.Poll(`/^\([0-9]+\) Overview · Stockade$/.test(document.title) &&
		document.querySelector("link[rel=icon]").href.startsWith("data:")`, nil))
	// One comparison decides for several of them, each recorded.
	fingerprint := s.scenario.KelpKey.Certificate().Fingerprint
	b.open("/keys/" + fingerprint)
	b.click("Decide")
	b.see("May this key sign yard-")
	b.run("also for another", chromedp.Click(`input[type=checkbox][value=yard-3]`, chromedp.ByQuery))
	b.see("yard-3, and nothing else")
	b.typed("#typed", fingerprint)
	b.typed("#evidence", "read out by the yard")
	b.click("Vouch for key")
	b.run("both are recorded", chromedp.Poll(
		`document.body.innerText.split("read out by the yard").length > 2`, nil))
	b.open("/")
	b.see("4 alike")
	b.click("Show all")
	b.see("source yard-5")
	b.see("connected")
	s.stop()
	b.see("not connected")
}
