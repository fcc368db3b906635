package e2e

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"stockade/internal/demo"
)

// In the console alone: a definition is written, told off, mended and recorded; it
// outlives leaving the page; and a machine's own files become one.
func TestTheConsoleDescribes(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	b := newBrowser(t, s)
	b.open("/describe")
	b.typed("#token", s.token)
	b.click("Sign in")
	b.see("Nothing is written yet")
	b.write(demo.Mistakes)
	b.see("define.unknown-field")
	b.see("It cannot be recorded like this")
	b.click("line 8")
	b.run("the line is shown", chromedp.Poll(`(() => { const f = document.activeElement;
		return f.value?.slice(f.selectionStart, f.selectionEnd).includes("componnents") })()`, nil))
	b.open("/sources") // and back: what was typed is still there
	b.see("No source is described yet")
	b.open("/describe")
	b.see("define.unknown-field")
	// A folder with keys and definitions, as files that are chosen.
	b.click("Begin anew")
	b.see("Nothing is written yet")
	site := filepath.Join(s.dir, "site")
	b.run("choose", chromedp.SetUploadFiles("input[aria-label=Files]", []string{filepath.Join(site,
		"mirrors.yaml"),
		filepath.Join(site, "sources.yaml")}, chromedp.ByQuery))
	b.see("This is made of 2 files")
	b.see("cannot be read") // the keys were not among them
	s.machineFiles()
	b.run("choose the machine's", chromedp.SetUploadFiles("input[aria-label=Files]",
		[]string{filepath.Join(s.dir, "etc.tar.gz")}, chromedp.ByQuery))
	b.see("This is made of a machine's files, with 2 sources")
	b.click("Of the files")
	b.see("the machine stays on tide-tables 2.4.1-1")
	b.click("What recording changes")
	b.see("tarn-heron")
	b.run("open one", chromedp.Evaluate(`document.querySelectorAll("details").forEach(d => d.open = true)`, nil))
	b.see("north.tarn.example/tarn")
	b.shot("describe")
	b.typed("input[placeholder]", "what the test bench has")
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
		if err := w.WriteHeader(&tar.Header{Name: name, Mode: 0o644, Size: int64(len(text))}); err != nil {
			s.t.Fatal(err)
		}
		if _, err := w.Write([]byte(text)); err != nil {
			s.t.Fatal(err)
		}
	}
	for _, c := range []interface{ Close() error }{w, z} {
		if err := c.Close(); err != nil {
			s.t.Fatal(err)
		}
	}
	if err := os.WriteFile(filepath.Join(s.dir, "etc.tar.gz"), data.Bytes(), 0o644); err != nil {
		s.t.Fatal(err)
	}
}
