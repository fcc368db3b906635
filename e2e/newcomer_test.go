package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	cdpbrowser "github.com/chromedp/cdproto/browser"
	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"stockade/internal/must"
)

// hand is how somebody works in the console: each call is one thing that they do.
type hand interface {
	press(text string)          // a button or a link with exactly this on it
	into(selector, text string) // a field
	files(label string, paths ...string)
}

// mouse points and clicks.
type mouse struct {
	*browser
	acts int
}

func (m *mouse) press(text string) {
	m.t.Helper()
	m.acts++
	x := `//*[self::button or self::a][(normalize-space(.)="` + text + `" or @aria-label="` + text +
		`") and not(@disabled)]`
	m.run("press "+text, chromedp.WaitVisible(x, chromedp.BySearch), chromedp.Click(x, chromedp.BySearch))
}

func (m *mouse) into(selector, text string) {
	m.t.Helper()
	m.acts++
	m.typed(selector, text)
}

func (m *mouse) files(label string, paths ...string) {
	m.t.Helper()
	m.acts++
	m.run("choose files", chromedp.SetUploadFiles(`input[aria-label="`+label+`"]`, paths, chromedp.ByQuery))
}

// keys goes from one thing to the next with Tab, and does it with Enter.
type keys struct {
	*browser
	acts int
}

// most is how often Tab is pressed for one thing at the most.
const most = 120

// reach presses Tab until what has the focus fits; it may take a while until it is there.
func (k *keys) reach(what, fits string) {
	k.t.Helper()
	end := time.Now().Add(25 * time.Second)
	for time.Now().Before(end) {
		for range most {
			var there bool
			k.run("look at the focus", chromedp.Evaluate(`(() => { const e = document.activeElement;
				return !!e && !e.disabled && (`+fits+`); })()`, &there))
			if there {
				return
			}
			k.run("tab", chromedp.KeyEvent(kb.Tab))
		}
		time.Sleep(200 * time.Millisecond)
	}
	k.t.Fatalf("with Tab alone nobody gets to %s", what)
}

func (k *keys) press(text string) {
	k.t.Helper()
	k.acts++
	k.reach(text, `["A", "BUTTON"].includes(e.tagName) && (e.innerText.trim().replace(/\s+/g, " ") === `+
		quoted(text)+` || e.getAttribute("aria-label") === `+quoted(text)+`)`)
	k.run("press "+text, chromedp.KeyEvent(kb.Enter))
}

func (k *keys) into(selector, text string) {
	k.t.Helper()
	k.acts++
	k.reach(selector, `e.matches(`+quoted(selector)+`)`)
	k.run("type", chromedp.KeyEvent(text))
}

func (k *keys) files(label string, paths ...string) {
	k.t.Helper()
	k.acts++
	k.reach(label, `e.matches(`+quoted(`input[aria-label="`+label+`"]`)+`)`)
	k.run("choose files", chromedp.SetUploadFiles(`input[aria-label="`+label+`"]`, paths, chromedp.ByQuery))
}

// newcomer writes what somebody new has in hand: a definition of the first source with a mirror, a
// lane and a group, and the certificate that signs it.
func (s *site) newcomer() (definition, certificate string) {
	s.t.Helper()
	definition, certificate = filepath.Join(s.dir, "first.yaml"), filepath.Join(s.dir, "tarn-archive.asc")
	text := fmt.Sprintf(`stockade: 1
keys:
  tarn-archive: {file: tarn-archive.asc}
sources:
  tarn:
    family: deb
    standing: official
    upstreams: [{url: "%s"}, {url: "%s"}]
    release: heron
    components: [core, field]
    architectures: [amd64]
    signed_by: [tarn-archive]
    priority: 20
mirrors:
  barrage: {copy: tailored, from: [tarn], want: {packages: [tide-tables]}}
lanes:
  steady: {mirror: barrage}
groups:
  gatehouse: {family: deb, release: heron, architectures: [amd64], lane: steady}
`, s.scenario.North.URL, s.scenario.South.URL)
	for path, data := range map[string]string{definition: text,
		certificate: s.scenario.TarnKey.Certificate().Armoured()} {
		must.Write(s.t, path, data)
	}
	return definition, certificate
}

// walk goes from an empty service to the files for a machine, in the console alone.
func (s *site) walk(b *browser, h hand) {
	definition, certificate := s.newcomer()
	b.open("/")
	h.into("#token", s.token)
	h.press("Sign in")
	b.see("0 of 10 steps done")
	h.press("Continue")
	b.see("Write or paste a definition")
	h.files("Files", definition, certificate)
	b.see("Ready to record")
	h.press("Record")
	b.see("Recorded as revision 1")
	h.press("Decide about keys")
	b.see("May this key sign tarn")
	h.into("#typed", s.scenario.TarnKey.Certificate().Fingerprint)
	h.into("#evidence", "read out by the Tarn release desk")
	h.press("Vouch for key")
	b.see("The decision for tarn is recorded")
	h.press("Continue with tarn")
	h.press("Probe upstreams")
	b.run("it is probed", chromedp.Poll(`!document.body.innerText.includes("not probed yet")`, nil))
	h.press("Refresh")
	b.run("it is refreshed", chromedp.Poll(`!document.body.innerText.includes("Nothing accepted yet")`, nil))
	h.press("barrage")
	h.press("Estimate")
	b.see("Download time")
	h.press("Build")
	b.see("sealed barrage/1")
	h.press("Move steady to it")
	b.see("From nothing to barrage/1")
	h.press("Move lane")
	b.see("on lane steady")
	h.press("Files of gatehouse")
	b.see("keyrings included")
	h.press("Download kit")
}

// From an empty service to a machine that installs, in the console alone: by mouse, and again by
// keyboard. The kit that was taken is applied, and the real apt-get installs from the lane.
func TestSomebodyNewGetsToAMachineThatInstalls(t *testing.T) {
	for _, by := range []string{"mouse", "keys"} {
		t.Run(by, func(t *testing.T) {
			t.Parallel()
			s := newSite(t)
			b := newBrowser(t, s)
			taken := t.TempDir()
			allow := cdpbrowser.SetDownloadBehavior(cdpbrowser.SetDownloadBehaviorBehaviorAllow)
			b.run("where files go", allow.WithDownloadPath(taken))
			start := time.Now()
			acts := 0
			if by == "mouse" {
				m := &mouse{browser: b}
				s.walk(b, m)
				acts = m.acts
			} else {
				k := &keys{browser: b}
				s.walk(b, k)
				acts = k.acts
			}
			t.Logf("%d things to do, %s", acts, time.Since(start).Round(time.Second))
			if acts > 20 {
				t.Errorf("it takes %d things to do", acts)
			}
			kit := filepath.Join(taken, "stockade-gatehouse-barrage-1.tar.gz")
			waitFor(t, "the kit", func() bool { _, err := os.Stat(kit); return err == nil })
			b.open("/")
			b.run("the way is gone", chromedp.Poll(
				`document.body.innerText.includes("Needs attention") &&
				!document.body.innerText.includes("Set up the first machine")`, nil))

			m := newMachine(t, s.dir)
			for _, c := range [][]string{{"tar", "-C", m.root, "-xzf", kit},
				{"sh", filepath.Join(m.root, "stockade-gatehouse-barrage-1", "apply"), "--alone", m.root}} {
				if out, err := exec.Command(c[0], c[1:]...).CombinedOutput(); err != nil {
					t.Fatalf("%s: %v\n%s", strings.Join(c, " "), err, out)
				}
			}
			m.must(false, "update")
			m.must(false, "install", "tide-tables")
			if m.installed("tide-tables") == "" {
				t.Error("it was not installed")
			}
		})
	}
}

// waitFor waits until something is so.
func waitFor(t *testing.T, what string, so func() bool) {
	t.Helper()
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		if so() {
			return
		}
	}
	t.Fatalf("%s: it did not come to be", what)
}
