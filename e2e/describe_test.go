package e2e

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"stockade/internal/demo"
	"stockade/internal/must"
)

// In the console alone: a definition is written, told off, mended and recorded; it
// outlives leaving the page; and a machine's own files become one.
func TestTheConsoleDescribes(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	b := signedIn(t, s, "/describe")
	b.see("No objects yet")
	b.write(demo.Mistakes)
	b.click("Findings")
	b.see("define.unknown-field")
	b.see("Errors: cannot be recorded")
	b.click("line 8")
	b.run("the line is shown", chromedp.Poll(`(() => { const f = document.activeElement;
		return f.value?.slice(f.selectionStart, f.selectionEnd).includes("componnents") })()`, nil))
	b.open("/sources") // and back: what was typed is still there
	b.see("No sources yet")
	b.open("/describe")
	b.click("Findings")
	b.see("define.unknown-field")
	// A folder with keys and definitions, as files that are chosen.
	b.click("Start over")
	b.see("No text yet")
	site := filepath.Join(s.dir, "site")
	b.run("choose", chromedp.SetUploadFiles("input[aria-label=Files]", []string{filepath.Join(site,
		"mirrors.yaml"), filepath.Join(site, "sources.yaml")}, chromedp.ByQuery))
	b.see("Read from 2 files")
	b.see("cannot be read") // the keys were not among them
	s.machineFiles()
	b.run("choose the machine's", chromedp.SetUploadFiles("input[aria-label=Files]",
		[]string{filepath.Join(s.dir, "etc.tar.gz")}, chromedp.ByQuery))
	b.see("Read from files of a machine, with 2 sources")
	b.click("Imported files")
	b.see("the machine stays on tide-tables 2.4.1-1")
	b.click("Changes")
	b.see("tarn-heron")
	b.run("open one", chromedp.Evaluate(`document.querySelectorAll("details").forEach(d => d.open = true)`, nil))
	b.see("north.tarn.example/tarn")
	b.shot("import")
	b.typed(`input[aria-label="Summary of the change"]`, "what the test bench has")
	b.click("Record")
	b.see("Recorded as revision 1")
	if out := mustOut(s, "source", "list", "-o", "ids"); out != "deb-heron\ntarn-heron\n" {
		t.Errorf("described are %q", out)
	}
	if out := mustOut(s, "revision", "list", "-o", "json"); !strings.Contains(out,
		"what the test bench has") {
		t.Error(out)
	}
	b.click("Decide about keys")
	b.see("decide")
}

// machineFiles writes an archive of a machine's /etc.
func (s *site) machineFiles() {
	s.t.Helper()
	var data bytes.Buffer
	z := gzip.NewWriter(&data)
	w := tar.NewWriter(z)
	for name, text := range map[string]string{
		"etc/apt/sources.list": "deb [signed-by=/etc/apt/keyrings/tarn.asc] " +
			"https://north.tarn.example/tarn heron core\n" +
			"deb [signed-by=/etc/apt/keyrings/kelp.asc] https://packages.kelp.example/deb heron drives\n",
		"etc/apt/preferences":       "Package: tide-tables\nPin: version 2.4.1-1\nPin-Priority: 1001\n",
		"etc/apt/keyrings/tarn.asc": s.scenario.TarnKey.Certificate().Armoured(),
		"etc/apt/keyrings/kelp.asc": s.scenario.KelpKey.Certificate().Armoured(),
		"etc/hostname":              "bench\n",
		"etc/shadow":                "root:secret:1:::::::\n",
	} {
		must.Do(s.t, w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(text))}))
		if _, err := w.Write([]byte(text)); err != nil {
			s.t.Fatal(err)
		}
	}
	for _, c := range []interface{ Close() error }{w, z} {
		must.Do(s.t, c.Close())
	}
	must.Do(s.t, os.WriteFile(filepath.Join(s.dir, "etc.tar.gz"), data.Bytes(), 0o644))
}

// In the console alone, with forms: what is typed in the form shows in the text and the other
// way round, what is wrong is told at its field, and what the form is not about stays as it
// was written.
func TestTheConsoleDescribesWithForms(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	b := signedIn(t, s, "/sources")
	b.see("No sources yet")
	b.click("New source")
	b.named("tarn")
	b.see("has no family")
	b.choose("#field-sources-tarn-family", "deb")
	b.see("a deb source needs architectures")
	b.choose("#field-sources-tarn-standing", "official")
	b.press("Add upstream")
	url := s.scenario.North.URL
	b.fill("#field-sources-tarn-upstreams-0-url", "north.tarn.example")
	b.see(`"north.tarn.example" has the scheme ""`)
	b.fill("#field-sources-tarn-upstreams-0-url", url)
	b.fill("#field-sources-tarn-release", "heron")
	b.see("a deb source needs components")
	b.words("#field-sources-tarn-components", "core", "field")
	b.words("#field-sources-tarn-architectures", "amd64")
	b.words("#field-sources-tarn-signed_by", "tarn-archive")
	b.see(`no key is named "tarn-archive"`)
	b.fill("#field-sources-tarn-priority", "120")
	b.see("must be from 1 to 99")
	b.fill("#field-sources-tarn-priority", "20")
	b.text("stockade: 1\nsources:\n  tarn:\n    family: deb\n    standing: official\n    upstreams:\n" +
		"      - url: " + url + "\n    release: heron\n    components: [core, field]\n" +
		"    architectures: [amd64]\n    signed_by: [tarn-archive]\n    priority: 20\n")

	// A key from its file, by another road to a new thing: the menu of the form.
	b.new("key", "tarn-archive")
	b.run("choose the file", chromedp.SetUploadFiles(`input[aria-label="The file of file"]`,
		[]string{filepath.Join(s.dir, "site", "keys", "tarn-archive.asc")}, chromedp.ByQuery))
	b.see("Ready to record")

	// What the text says shows in the form, and a comment that somebody writes stays.
	text := b.value("textarea")
	text = strings.Replace(text, "    priority: 20\n",
		"    priority: 20    # as for all of Tarn\n    max_age: 1w\n", 1)
	b.write(text)
	b.choose(`select[aria-label="Object to edit"]`, "source tarn")
	b.run("the form shows it", chromedp.Poll(`document.querySelector("#field-sources-tarn-max_age")?.value === "1w"`, nil))
	b.choose(`select[aria-label="Object to edit"]`, "key tarn-archive")
	b.fill("#object-name", "tarn-key")
	b.run("leave the field", chromedp.SendKeys("#object-name", "\t", chromedp.ByQuery))
	b.see("key tarn-key")
	if got := b.value("textarea"); !strings.Contains(got, "    priority: 20 # as for all of Tarn\n") ||
		!strings.Contains(got, "signed_by: [tarn-key]") || !strings.Contains(got,
		"  tarn-key:\n    file: keys/tarn-archive.asc\n") {
		t.Errorf("after the key was called another way:\n%s", got)
	}

	// A mirror, a lane and a group, each of what was described before it.
	b.new("mirror", "barrage")
	b.choose("#field-mirrors-barrage-copy", "tailored")
	b.press("Add a source")
	b.fill("#field-mirrors-barrage-from-0", "tarn")
	b.choose("#field-mirrors-barrage-want", "selection")
	b.words("#field-mirrors-barrage-want-packages", "sluicectl", "tide-tables >= 2")
	b.new("lane", "steady")
	b.fill("#field-lanes-steady-mirror", "barrage")
	b.new("group", "gatehouse")
	b.choose("#field-groups-gatehouse-family", "deb")
	b.fill("#field-groups-gatehouse-lane", "stedy")
	b.see(`did you mean "steady"?`)
	b.fill("#field-groups-gatehouse-lane", "steady")
	b.fill("#field-groups-gatehouse-release", "heron")
	b.words("#field-groups-gatehouse-architectures", "amd64")
	b.see("Ready to record")
	b.shot("describe")
	b.click("Record")
	b.see("Recorded as revision 1")
	for kind, name := range map[string]string{"source": "tarn", "mirror": "barrage", "lane": "steady",
		"group": "gatehouse"} {
		if out := mustOut(s, kind, "list", "-o", "ids"); out != name+"\n" {
			t.Errorf("%s: %q", kind, out)
		}
	}

	// Edit leads from a page to the form of what is recorded, with its comments.
	b.open("/machines")
	b.run("edit", chromedp.Click(`a[aria-label="Edit group gatehouse"]`, chromedp.ByQuery))
	b.fill("#field-groups-gatehouse-pins", "")
	b.words("#field-groups-gatehouse-pins", "tide-tables = 2.4.1-1")
	b.see("Ready to record")
	b.click("Record")
	b.see("Recorded as revision 2")
	b.open("/sources/tarn?tab=1")
	b.run("the comment", chromedp.Poll(`document.querySelector("textarea")?.value.includes("# as for all of Tarn")`, nil))
	b.fill("#field-sources-tarn-priority", "21")
	b.see("would change: source tarn")
	b.click("Record")
	b.click("Revisions")
	b.see("edit source tarn")
	if out := mustOut(s, "source", "show", "tarn", "-o", "json"); !strings.Contains(out, `"priority": 21`) {
		t.Error(out)
	}
}

// named gives the thing that a form has just begun its name.
func (b *browser) named(name string) {
	b.t.Helper()
	b.typed("#new-name", name)
	b.run("add "+name, chromedp.SendKeys("#new-name", "\r", chromedp.ByQuery),
		chromedp.WaitNotPresent("#new-name", chromedp.ByQuery))
}

// new begins a thing by the menu of the form.
func (b *browser) new(kind, name string) {
	b.t.Helper()
	b.click("New …")
	x := `//*[@role="menuitem"][normalize-space(.)="` + kind + `"]`
	b.run("new "+kind, chromedp.WaitVisible(x, chromedp.BySearch), chromedp.Click(x, chromedp.BySearch))
	b.named(name)
}

// press presses a button of a form, wherever what is told above it has moved it to.
func (b *browser) press(text string) {
	b.t.Helper()
	x := `//button[normalize-space(.)="` + text + `"]`
	b.run("press "+text, chromedp.WaitVisible(x, chromedp.BySearch), chromedp.Focus(x, chromedp.BySearch),
		chromedp.KeyEvent(" "))
}

// fill puts a text in place of what a field has, as keys are pressed.
func (b *browser) fill(selector, text string) {
	b.t.Helper()
	b.run("empty "+selector, chromedp.WaitVisible(selector, chromedp.ByQuery), chromedp.Evaluate(
		`(() => { const f = document.querySelector(`+quoted(selector)+`); f.focus(); f.value = "";
			f.dispatchEvent(new Event("input", {bubbles: true})); })()`, nil))
	b.run("fill "+selector, chromedp.SendKeys(selector, text, chromedp.ByQuery))
}

// words adds words to a list.
func (b *browser) words(selector string, words ...string) {
	b.t.Helper()
	for _, w := range words {
		b.run("add "+w+" to "+selector, chromedp.WaitVisible(selector, chromedp.ByQuery),
			chromedp.SendKeys(selector, w+"\r", chromedp.ByQuery))
	}
}

// choose takes what a list of choices shows as text.
func (b *browser) choose(selector, text string) {
	b.t.Helper()
	var ok bool
	b.run("choose "+text+" of "+selector, chromedp.WaitVisible(selector, chromedp.ByQuery),
		chromedp.Evaluate(`(() => { const f = document.querySelector(`+quoted(selector)+`);
			const o = [...f.options].find((o) => o.text.trim().startsWith(`+quoted(text)+`));
			if (!o) return false; f.value = o.value;
			f.dispatchEvent(new Event("change", {bubbles: true})); return true; })()`, &ok))
	if !ok {
		b.t.Fatalf("%s does not offer %s", selector, text)
	}
}

func (b *browser) value(selector string) (out string) {
	b.t.Helper()
	b.run("value of "+selector,
		chromedp.Value(selector, &out, chromedp.ByQuery))
	return out
}

// text waits until the document is this, and tells what it is where it is not.
func (b *browser) text(want string) {
	b.t.Helper()
	ctx, end := context.WithTimeout(b.ctx, 5*time.Second)
	defer end()
	if err := chromedp.Run(ctx, chromedp.Poll(`document.querySelector("textarea").value === `+
		strconv.Quote(want), nil)); err != nil {
		b.t.Errorf("the text is\n%s\nand not\n%s", b.value("textarea"), want)
	}
}
