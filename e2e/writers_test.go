package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"stockade/internal/must"
)

// write puts a text into the field of a definition.
func (b *browser) write(text string) {
	b.run("write", chromedp.WaitVisible("textarea[aria-label=Definition]", chromedp.ByQuery),
		chromedp.Evaluate(`(() => { const f = document.querySelector("textarea[aria-label=Definition]");
			f.value = `+quoted(strings.ReplaceAll(text, "\n", "\\n"))+`.replaceAll("\\n", "\n");
			f.dispatchEvent(new Event("input")) })()`, nil))
}

// written gives what the field of a definition has.
func (b *browser) written() (text string) {
	b.run("read", chromedp.Evaluate(`document.querySelector("textarea[aria-label=Definition]").value`, &text))
	return text
}

// What a person wrote beside a definition stays when something of it is changed by a button,
// shown wherever the definition is, and comes back with a revision.
func TestCommentsStayWhenADefinitionIsRewritten(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	_, of, _ := strings.Cut(must.Read(t, filepath.Join(s.dir, "site", "sources.yaml")), "\n  kelp:\n")
	file := filepath.Join(s.dir, "kelp.yaml")
	must.Write(t, file, "stockade: 1\nsources:\n  # by contract 12\n  kelp:\n    "+
		"max_age: 9d # agreed\n"+of)
	s.cli(0, "record", file)
	kept := func(what, out string) {
		t.Helper()
		if !strings.Contains(out, "  # by contract 12\n  kelp:\n    max_age: 9d # agreed\n") {
			t.Errorf("%s has no comments:\n%s", what, out)
		}
	}
	kept("the source", mustOut(s, "source", "show", "kelp"))
	s.cli(0, "mirror", "list") // the mirror keeps its own words
	site := filepath.Join(s.dir, "site", "mirrors.yaml")
	edit(t, site, "{source: kelp, want: {packages: [kelp-drive]}}", "tarn-fixes")
	edit(t, site, "from: [tarn, tarn-fixes, tarn-fixes]", "from: [tarn, tarn-fixes]")
	s.cli(0, "record", site, "--yes")
	s.cli(0, "source", "disable", "kelp", "--yes")
	out := mustOut(s, "source", "show", "kelp")
	kept("the source, disabled", out)
	if !strings.Contains(out, "disabled: true") {
		t.Error(out)
	}
	kept("the whole description", mustOut(s, "describe"))
	s.cli(0, "source", "enable", "kelp")
	s.cli(0, "revision", "restore", "2", "--yes")
	kept("the revision that was restored", mustOut(s, "describe", "source", "kelp"))
	edit(t, file, "# agreed", "# agreed anew")
	s.cli(0, "record", file) // a comment alone
	if out := mustOut(s, "source", "show", "kelp"); !strings.Contains(out, "max_age: 9d # agreed anew\n") {
		t.Errorf("a comment alone is not recorded:\n%s", out)
	}
	edit(t, file, "# agreed anew", "# agreed")
	s.cli(0, "record", file)
	s.stop()
	s.start()
	kept("the source after a start", mustOut(s, "source", "show", "kelp"))
}

// What somebody is writing is compared with what another recorded meanwhile, as soon as that
// is there: both are shown beside the beginning, nothing typed is lost, and the writer says
// for each object what shall be.
func TestTwoWritersAreShownSideBySide(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	b := signedIn(t, s, "/sources/kelp")
	b.press("Definition")
	before := b.written()
	if !strings.Contains(before, "priority: 40") {
		t.Fatal(before)
	}
	b.write(strings.Replace(before, "heron", "heron # the desk's", 1) + "    max_age: 9d\n")
	b.see("would change: source kelp")

	// Another, elsewhere: two fields of the same source, one of which is being written here.
	others := []string{"ola", "per"}
	elsewhere := func(pairs ...string) {
		t.Helper()
		_, of, _ := strings.Cut(must.Read(t, filepath.Join(s.dir, "site", "sources.yaml")), "\n  kelp:\n")
		file := filepath.Join(s.dir, "kelp.yaml")
		text := "stockade: 1\nsources:\n  kelp:\n" + strings.NewReplacer(pairs...).Replace(of)
		must.Write(t, file, text)
		back := s.as(others[0], "operator")
		others = others[1:]
		s.cli(0, "record", file, "--yes")
		back()
	}
	elsewhere("priority: 40", "priority: 33\n    max_age: 3d")
	b.see("changed by someone else")
	b.see("When you started")
	b.see("Both changed max_age (theirs 3d, yours 9d)")
	b.shot("writers")
	if b.written() == before {
		t.Error("what was typed is lost")
	}
	b.click("Merge")
	b.click("Continue")
	b.run("merged", chromedp.Poll(`(() => { const t = document.querySelector("textarea[aria-label=Definition]").value;
		return t.includes("priority: 33") && t.includes("max_age: 9d") && !document.body.innerText.includes(
		"changed by someone else") })()`, nil))
	b.click("Record")
	b.run("recorded", chromedp.Poll(`document.body.innerText.includes("as recorded")`, nil))
	out := mustOut(s, "source", "show", "kelp")
	if !strings.Contains(out, "priority: 33") || !strings.Contains(out, "max_age: 9d") {
		t.Errorf("what either wrote is not there:\n%s", out)
	}

	// On the page for whole documents: theirs is taken, and what else the document says stays.
	b.open("/describe")
	b.write("stockade: 1\nsources:\n" + before[strings.Index(before, "  kelp:"):] +
		"\nlanes:\n  # for the bench\n  bench: {mirror: barrage}\n")
	b.see("Changes")
	elsewhere("priority: 40", "priority: 34\n    max_age: 4d")
	b.see("changed by someone else")
	b.click("Use theirs")
	b.click("Continue")
	b.run("theirs", chromedp.Poll(`(() => { const t = document.querySelector("textarea[aria-label=Definition]").value;
		return !t.includes("kelp") && t.includes("# for the bench") })()`, nil))
	b.click("Record")
	b.see("Recorded as revision")
	out = mustOut(s, "source", "show", "kelp")
	if !strings.Contains(out, "priority: 34") || !strings.Contains(out, "max_age: 4d") {
		t.Errorf("theirs is not there:\n%s", out)
	}
	if out = mustOut(s, "lane", "list"); !strings.Contains(out, "bench") {
		t.Error(out)
	}
}
