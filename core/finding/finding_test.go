package finding

import (
	"strings"
	"testing"
)

func TestTextFromOutsideIsMadeHarmless(t *testing.T) {
	for in, want := range map[string]string{
		"sluicectl, tide tables – größer": "sluicectl, tide tables – größer",
		"a\x1b[2Jb":                       `a\u{1b}[2Jb`,
		"title\x07":                       `title\u{7}`,
		"left\u202eright":                 `left\u{202e}right`,
		"zero\u200bwidth":                 `zero\u{200b}width`,
		"line\nbreak":                     `line\u{a}break`,
		"c1\u0085":                        `c1\u{85}`,
	} {
		if got := Harmless(in); got != want {
			t.Errorf("%q became %q", in, got)
		}
	}
}

func TestTheCatalogueIsWhole(t *testing.T) {
	for _, e := range Catalogue() {
		if e.When == "" || e.WayOut == "" || !strings.Contains(e.Code, ".") ||
			e.Severity.rank() == 2 && e.Severity != Note {
			t.Errorf("%+v", e)
		}
	}
	f := New("source.stale", "source tarn", "%d days", 12).At(Place{"site.yaml", 3, 5})
	if s := f.Error(); !strings.HasPrefix(s, "site.yaml:3:5: source tarn: 12 days (") {
		t.Error(s)
	}
	l := List{New("source.plain-http", "b", "x"), New("source.stale", "a", "x"), New("source.bad-url", "c",
		"x")}
	l.Sort()
	if l[0].Severity != Error || l[2].Severity != Note || !l.HasErrors() || l.Count(Warning) != 1 {
		t.Error(l)
	}
}

func FuzzHarmless(f *testing.F) {
	f.Add("a\x1bb\u202e\xff")
	f.Fuzz(func(t *testing.T, s string) {
		out := Harmless(s)
		for _, r := range out {
			if r < 0x20 || r >= 0x7f && r < 0xa0 || r == 0x202e || r == 0xFFFD {
				t.Errorf("%q became %q", s, out)
			}
		}
		if Harmless(out) != out {
			t.Errorf("%q is changed twice", s)
		}
	})
}
