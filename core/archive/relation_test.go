package archive

import (
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/made/told"
	"stockade/internal/must"
)

func TestRelationsAreWrittenAsPeopleWriteThem(t *testing.T) {
	for _, c := range []struct {
		r    Relation
		want string
	}{
		{Relation{Name: "a"}, "a"},
		{Relation{Name: "a", Qualifier: "any"}, "a:any"},
		{Relation{Name: "a", Op: GreaterOrEqual, Version: "2"}, "a >= 2"},
		{Relation{Name: "a", Not: true}, "not a"},
		{Relation{Name: "a", Also: []Relation{{Name: "b"}, {Name: "c", Not: true}}}, "a with b without c"},
	} {
		if got := c.r.String(); got != c.want {
			t.Errorf("%q, and %q was meant", got, c.want)
		}
	}
	both := Clause{{Name: "a"}, {Name: "b", Not: true}}
	if both.String() != "a or not b" || !both.Conditional() || both[:1].Conditional() {
		t.Errorf("%s", both)
	}
}

func TestWhetherBoundsOverlap(t *testing.T) {
	// Each as what it holds of the versions 0 to 4, where the two bounds are at 1 to 3.
	ops := []Op{Any, Less, LessOrEqual, Equal, GreaterOrEqual, Greater}
	for _, a := range ops {
		if a.Includes() != (a != Any && a.Holds(0)) {
			t.Errorf("%q includes its version: %v", a, a.Includes())
		}
		for _, b := range ops {
			for _, cmp := range []int{-1, 0, 1} {
				both := false
				for v := range 100 { // versions in halves, between which there is always another
					at, bt := 40, 40-20*cmp
					both = both || a.Holds(v-at) && b.Holds(v-bt)
				}
				if got := Overlap(a, cmp, b); got != both {
					t.Errorf("%q and %q, the first's version compared %d: %v", a, b, cmp, got)
				}
			}
		}
	}
}

func TestAWantIsReadAsItIsWritten(t *testing.T) {
	for text, want := range map[string]string{
		"a": "a", "tide-*": "tide-*", "a >= 2": "a >= 2", "a < 2": "a < 2", "a <= 2": "a <= 2",
		"a = 2": "a = 2", "a > 2": "a > 2",
		" a  =  2 ": "a = 2",
	} {
		if r, err := ParseWant(text); err != nil || r.String() != want {
			t.Errorf("%q: %s %v", text, r, err)
		}
	}
	for text, says := range map[string]string{
		"a>=2": `as in "a >= 2"`, "a ~ 2": `the comparison "~"`, "": "is not NAME", "a 2": "is not NAME",
		"a = 2 3": "is not NAME", "a =< 2": `the comparison "=<"`,
	} {
		if _, err := ParseWant(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func TestWhatCanStandInTheFilesOfMachines(t *testing.T) {
	good := func() served {
		return served{At: "http://stock.reach.example:8441/lane/steady", Lane: "steady", Client: Client{
			Architectures: []string{"amd64"},
			Pins:          []Relation{{Name: "tide-tables", Op: Equal, Version: "2.4-1"}},
			Sources: []ClientSource{{Source: Source{Name: "tarn", Release: "heron",
				Components:    []string{"core"},
				Architectures: []string{"amd64"}, Languages: []string{"en"}}, Streams: []string{"drive:1"},
				Keys: []ClientKey{{Fingerprint: "ABC"}}}}}}
	}
	for _, c := range []struct {
		name   string
		change func(c *served)
		says   string
		object string
	}{
		{"as it is", func(*served) {}, "", ""},
		{"a folder", func(c *served) { c.At = "/mnt/usb stick" }, "", ""},
		{"a flat release", func(c *served) { c.Sources[0].Release = "./" }, "", ""},
		{"the root as a release", func(c *served) { c.Sources[0].Release = "/" }, "", ""},
		{"no release", func(c *served) { c.Sources[0].Release = "" }, "", ""},
		{"no address", func(c *served) { c.At = "" }, "neither a URL nor an absolute folder", ""},
		{"an IPv6 literal", func(c *served) { c.At = "http://[2001:db8::1]:8441/lane/steady" }, "", ""},
		{"a zone of an IPv6 literal", func(c *served) { c.At = "http://[fe80::1%25eth0]/lane" },
			"contains a character that clients interpret", ""},
		{"brackets elsewhere", func(c *served) { c.At = "http://[::1]/[x]" },
			"contains a character that clients interpret", ""},
		{"a relative folder", func(c *served) { c.At = "mnt/usb" }, "neither a URL nor an absolute folder",
			""},
		{"another scheme", func(c *served) { c.At = "ftp://a.example/" },
			"neither a URL nor an absolute folder", ""},
		{"an address that is none", func(c *served) { c.At = "http://[::1" },
			"neither a URL nor an absolute folder", ""},
		{"no host", func(c *served) { c.At = "http:///x" }, "neither a URL nor an absolute folder", ""},
		{"a user", func(c *served) { c.At = "http://m:p@a.example/" },
			"contains a character that clients interpret", ""},
		{"a query", func(c *served) { c.At = "http://a.example/?x" },
			"contains a character that clients interpret", ""},
		{"a fragment", func(c *served) { c.At = "http://a.example/#x" },
			"contains a character that clients interpret", ""},
		{"a shell's sign", func(c *served) { c.At = "http://a.example/$x" },
			"contains a character that clients interpret", ""},
		{"a control character", func(c *served) { c.At = "/mnt\n/x" }, "control characters", ""},
		{"no text", func(c *served) { c.At = "/mnt/\xff" }, "control characters", ""},
		{"a lane of two words", func(c *served) { c.Lane = "steady x" }, `the lane "steady x"`, ""},
		{"a long lane", func(c *served) { c.Lane = strings.Repeat("a", 257) }, "the lane", ""},
		{"an architecture of two words", func(c *served) { c.Architectures[0] = "amd 64" },
			"the architecture", ""},
		{"a pin that is a bound", func(c *served) { c.Pins[0].Op = Less },
			"does not have the form NAME = VERSION", ""},
		{"a pin of a name that is none", func(c *served) { c.Pins[0].Name = "-a" },
			"contains a character that is not allowed in a", ""},
		{"a pin of a version of two words", func(c *served) { c.Pins[0].Version = "1 2" }, "the version", ""},
		{"a source of two words", func(c *served) { c.Sources[0].Name = "a b" }, "the source", "source a b"},
		{"a release of two words", func(c *served) { c.Sources[0].Release = "a b" }, "the release",
			"source tarn"},
		{"a component of two words", func(c *served) { c.Sources[0].Components[0] = "a b" },
			"the component", "source tarn"},
		{"an architecture of a source", func(c *served) { c.Sources[0].Source.Architectures[0] = "a]" },
			"the architecture", "source tarn"},
		{"a language of two words", func(c *served) { c.Sources[0].Languages[0] = "e n" }, "the language",
			"source tarn"},
		{"a stream of two words", func(c *served) { c.Sources[0].Streams[0] = "a b" }, "the module stream",
			"source tarn"},
		{"a fingerprint of two words", func(c *served) { c.Sources[0].Keys[0].Fingerprint = "A B" },
			"the fingerprint", "source tarn"},
	} {
		client := good()
		c.change(&client)
		code := "define.bad-value"
		if c.says == "" {
			code = ""
		} else if strings.Contains(c.says, "contains a character that is not allowed in a") {
			code = "content.bad-name"
		}
		err := client.check()
		told.Refused(t, c.name, err, finding.Code(code), c.says)
		if f, _ := finding.From(err); f.Object != c.object {
			t.Errorf("%s: it is told of %q", c.name, f.Object)
		}
	}
	for folder, want := range map[string]string{"/mnt/usb": "/mnt/usb", "/a b": "/a%20b", "/ä": "/%c3%a4",
		"/a%b": "/a%25b", "/Az09._~-+@:": "/Az09._~-+@:", "/a#?": "/a%23%3f"} {
		if got := EscapeFolder(folder); got != want {
			t.Errorf("%s: %s", folder, got)
		}
	}
}

func TestWhatAStreamIsPackedWith(t *testing.T) {
	for _, z := range []string{"gz", "xz", "zst"} {
		packed, err := Compress([]byte("twelve bytes"), z)
		must.Do(t, err)
		if got := Sniff(packed); got != z {
			t.Errorf("%s: %q", z, got)
		}
	}
	for data, want := range map[string]string{"": "", "hello": "", "BZh9": "bz2"} {
		if got := Sniff([]byte(data)); got != want {
			t.Errorf("%q: %q", data, got)
		}
	}
}
