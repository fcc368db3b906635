package edition

import (
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/internal/must"
)

func sum(digit string) string { return strings.Repeat(digit, 64) }

// one is a manifest as an earlier version wrote it.
func one() string {
	return "# stockade-manifest 1\n# edition barrage/1\n# files 2\n# bytes 3\n" +
		"# size 1\n" + sum("a") + "  a\n# size 2\n" + sum("b") + "  b/c\n"
}

func two() string {
	m := Manifest{Format: ListBySource, Parts: []Part{{"kelp", 1, 5}, {"tarn", 2, 3}}, Lines: Lines{
		{"about/edition.json", 7, sum("e")}, {"about/files/kelp", 10, sum("c")},
		{"about/files/tarn", 11, sum("d")}}}
	return string(m.Text(&Edition{Mirror: "barrage", Number: 1}))
}

func TestManifestsAreReadStrictly(t *testing.T) {
	m, err := ReadManifest(strings.NewReader(one()))
	if err != nil || m.Files() != 2 || m.Bytes() != 3 || m.Format != OneList {
		t.Fatalf("%v %v", m, err)
	}
	m, err = ReadManifest(strings.NewReader(two()))
	if err != nil || m.Files() != 6 || m.Bytes() != 36 || m.Format != ListBySource || len(m.Parts) != 2 {
		t.Fatalf("%v %v", m, err)
	}
	for name, c := range map[string]struct{ base, old, now, text string }{
		"out of order":            {one(), "  a\n", "  z\n", "out of order"},
		"twice":                   {one(), "b/c", "a", "out of order or twice"},
		"a digest cut short":      {one(), "bbbb", "bb", "not a digest and a path"},
		"a digest in capitals":    {one(), "bbbb", "BBBB", "not a digest and a path"},
		"one blank":               {one(), "  b/c", " b/c", "not a digest and a path"},
		"no size":                 {one(), "# size 2\n", "", "with a size before it"},
		"a negative size":         {one(), "# size 2", "# size -2", "no number"},
		"a size that is none":     {one(), "# size 2", "# size two", "no number"},
		"two sizes":               {one(), "# size 2", "# size 2\n# size 3", "no size that fits"},
		"fewer than said":         {one(), "# files 2", "# files 3", "announces 3 files"},
		"other bytes than said":   {one(), "# bytes 3", "# bytes 4", "announces"},
		"another beginning":       {one(), "stockade-manifest 1", "stockade-manifest 9", "does not begin"},
		"a size without file":     {one(), "b/c\n", "b/c\n# size 4\n", "ends where a file"},
		"parts in the old format": {two(), "stockade-manifest 2", "stockade-manifest 1", "has parts"},
		"a part not announced":    {two(), "# part kelp files 1 bytes 5\n", "", "does not say what is in it"},
		"a part of another file":  {two(), "# part kelp", "# part moor", "is not the list of moor"},
		"a part cut short": {two(), "# part kelp files 1 bytes 5", "# part kelp files 1",
			"no part that fits"},
		"two parts announced": {two(), "# part kelp files 1 bytes 5\n", "# part kelp files 1 bytes 5\n" +
			"# part moor files 1 bytes 5\n", "no part that fits"},
		"a part in other words":  {two(), "# part kelp files 1", "# part kelp fyles 1", "no part that fits"},
		"a part of no number":    {two(), "# part kelp files 1", "# part kelp files x", "no number"},
		"a part without end":     {two(), "files 1 bytes", "files 5000000 bytes", "a list may have"},
		"a source's file itself": {two(), "about/edition.json", "a/edition.json", "belongs into the list"},
		"nothing":                {one(), one(), "", "does not begin"},
	} {
		text := strings.Replace(c.base, c.old, c.now, 1)
		if text == c.base {
			t.Fatalf("%s: nothing is changed", name)
		}
		_, err := ReadManifest(strings.NewReader(text))
		if f, _ := finding.From(err); f.Code != "edition.seal-bad" || !strings.Contains(f.Text, c.text) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, path := range []string{"../c", "/c", "b//c", "b\\c"} {
		_, err := ReadManifest(strings.NewReader(strings.Replace(one(), "b/c", path, 1)))
		if f, _ := finding.From(err); f.Code != "content.unsafe-path" {
			t.Errorf("%s: %v", path, err)
		}
	}
}

func TestListsAreReadStrictly(t *testing.T) {
	p := Part{"tarn", 2, 3}
	good := string(listText("tarn", Lines{{"tarn/a", 1, sum("a")}, {"tarn/b", 2, sum("b")}}))
	if l, err := readList(strings.NewReader(good), p); err != nil || len(l) != 2 {
		t.Fatalf("%v %v", l, err)
	}
	for name, c := range map[string]struct{ old, now, text string }{
		"of another source":   {"  tarn/b", "  tarn2/b", "which is not of that source"},
		"a file too few":      {"# size 1\n" + sum("a") + "  tarn/a\n", "", "has 1 files"},
		"another size":        {"# size 2", "# size 3", "has 2 files of 4 bytes"},
		"a manifest instead":  {listOne, manifestTwo, "does not begin"},
		"a count that is not": {"# files 2", "# files 1", "and the manifest says"},
	} {
		_, err := readList(strings.NewReader(strings.Replace(good, c.old, c.now, 1)), p)
		if f, _ := finding.From(err); f.Code != "edition.seal-bad" || !strings.Contains(f.Text, c.text) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestPathsThatDifferOnlyByCaseAreRefused(t *testing.T) {
	c := NewCollection()
	for _, p := range []string{"pool/a", "größe/weiß", "a/b/c"} {
		must.Do(t, c.Add(Line{p, 1, "x"}))
	}
	if err := c.Add(Line{"pool/a", 1, "x"}); err != nil {
		t.Errorf("the same file once more: %v", err)
	}
	for _, p := range []string{"pool/a", "pool/A", "../a", "pool//a", "a\\b", "nul\x00", "gro\u0308ße/weiß",
		"GRÖSSE/WEISS", "pool/a/b", "pool", "POOL", "a/b", "a/b/c/d", "a/B/C/d"} {
		err := c.Add(Line{p, 1, "y"})
		if f, _ := finding.From(err); f.Code != "content.unsafe-path" {
			t.Errorf("%q: %v", p, err)
		}
	}
}

func FuzzManifest(f *testing.F) {
	f.Add(one())
	f.Add(two())
	f.Add("# stockade-manifest 1\n# files 0\n")
	f.Fuzz(func(t *testing.T, text string) {
		m, err := ReadManifest(strings.NewReader(text))
		if err != nil {
			return
		}
		last := ""
		for _, l := range m.Lines {
			if archive.CheckPath(l.Path) != nil || l.Size < 0 || len(l.SHA256) != 64 || l.Path <= last {
				t.Errorf("an unsafe line came out: %+v", l)
			}
			last = l.Path
		}
		for _, p := range m.Parts {
			if _, ok := m.Lines.Find(p.path()); !ok || p.Files < 0 || p.Bytes < 0 {
				t.Errorf("a part without a list came out: %+v", p)
			}
		}
	})
}
