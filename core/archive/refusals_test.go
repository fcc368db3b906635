package archive

import (
	"bytes"
	"errors"
	"slices"
	"strings"
	"testing"

	"stockade/internal/made/told"
	"stockade/internal/must"
)

func TestEachRefusalOfAPath(t *testing.T) {
	part := strings.Repeat("a", 255)
	long := strings.Repeat("a/", 511) + "ab"
	for _, c := range []struct{ path, says string }{
		{"a", ""}, {"a/b.deb", ""}, {"a b/c", ""}, {part + "/" + part, ""}, {long, ""}, {"...", ""}, {".a",
			""},
		{"", "is empty"}, {long + "c", "longer than 1,024 bytes"}, {"/a", "is absolute"}, {"/",
			"is absolute"},
		{"a//b", "has an empty part, or one of dots only"}, {"a/",
			"has an empty part, or one of dots only"}, {"./a", "has an empty part, or one of dots only"},
		{"a/../b", "has an empty part, or one of dots only"}, {"..",
			"has an empty part, or one of dots only"}, {part + "a/b",
			"longer than 255 bytes"},
		{`a\b`, "control character or a backslash"}, {"a\x00b", "control character"}, {"a\x7fb", "control character"},
		{"a\nb", "control character"}, {"a\xffb", "control character"}, {"a\u202eb", "control character"},
		{"a?b", "contains a character that ends the path of a"}, {"a#b",
			"contains a character that ends the path of a"},
	} {
		code := ""
		if c.says != "" {
			code = "content.unsafe-path"
		}
		told.Refused(t, c.path, CheckPath(c.path), code, c.says)
		told.Refused(t, c.path+" as a link", CheckHref(c.path), map[bool]string{true: "content.unsafe-path",
			false: code}[strings.
			Contains(c.path, " ")], "")
	}
	told.Refused(t, "a blank", CheckHref("a b"), "content.unsafe-path",
		"contains a character that clients interpret in a URL: a space or %")
	told.Refused(t, "a percent", CheckHref("a%2Fb"), "content.unsafe-path",
		"contains a character that clients interpret in a URL: a space or %")
	told.Refused(t, "plain", CheckHref("a/b"), "", "")
}

func TestEachRefusalOfAName(t *testing.T) {
	for _, c := range []struct{ name, says string }{
		{"sluicectl", ""}, {"lib-a.b+c~d_E", ""}, {"@scope", ""}, {"_x", ""}, {"+x", ""}, {"0ad", ""},
		{strings.Repeat("a", 256), ""},
		{"", "is empty"}, {strings.Repeat("a", 257), "longer than 256 bytes"}, {"-a",
			"contains a character that is not allowed in a"},
		{".a", "contains a character that is not allowed in a"}, {"~a",
			"contains a character that is not allowed in a"}, {"a b",
			"contains a character that is not allowed in a"}, {"a/b",
			"contains a character that is not allowed in a"},
		{"a'b", "contains a character that is not allowed in a"}, {"ä",
			"contains a character that is not allowed in a"}, {"a\n",
			"contains a character that is not allowed in a"},
	} {
		code := ""
		if c.says != "" {
			code = "content.bad-name"
		}
		told.Refused(t, c.name, CheckName(c.name), code, c.says)
	}
}

func TestWhatComesOutOfAStreamIsBounded(t *testing.T) {
	for _, z := range []string{"", "gz", "xz", "zst"} {
		packed, err := Compress([]byte("twelve bytes"), z)
		must.Do(t, err)
		for most, code := range map[int64]string{11: "content.too-large", 12: "", 13: ""} {
			r, err := Decompress(bytes.NewReader(packed), z, most)
			must.Do(t, err)
			var got bytes.Buffer
			_, err = got.ReadFrom(r)
			told.Refused(t, z, err, code, "more than 11 bytes")
			if code == "" && got.String() != "twelve bytes" || got.Len() > int(most) {
				t.Errorf("%s: %q", z, got.String())
			}
			if code != "" {
				_, err := r.Read(make([]byte, 9))
				told.Refused(t, z+" once more", err, code, "more than 11 bytes")
			}
			r.Close()
		}
		if z == "" {
			continue
		}
		for name, data := range map[string][]byte{"nothing": nil, "rubbish": []byte("hello, this is plain"),
			"half": packed[:len(packed)-6], "one byte": packed[:1]} {
			r, err := Decompress(bytes.NewReader(data), z, 1<<20)
			if err == nil {
				_, err = new(bytes.Buffer).ReadFrom(r)
			}
			told.Refused(t, z+" of "+name, err, "source.malformed-index", z)
		}
	}
	_, err := Decompress(bytes.NewReader(nil), "rot13", 9)
	told.Refused(t, "another compression", err, "source.malformed-index", `unknown compression "rot13"`)
	if _, err := Compress(nil, "rot13"); err == nil {
		t.Error("it was compressed in a way that nobody knows")
	}
}

func TestEachRefusalOfAnInventory(t *testing.T) {
	id := func(name, version string) Installed {
		return Installed{Identity: Identity{Name: name, Version: version}}
	}
	read := func(text string) ([]Installed, error) {
		return Inventory([]byte(text), func(words []string) (Installed, error) {
			if words[0] == "skip" {
				return Installed{}, nil
			}
			if len(words) < 2 {
				return Installed{}, errors.New("it has one word")
			}
			return id(words[0], words[1]), nil
		})
	}
	got, err := read("tide 1\n# a note\n\nskip\ntide 1\ntide 2\n")
	if err != nil || !slices.Equal(got, []Installed{id("tide", "1"), id("tide", "2")}) {
		t.Errorf("%v %v", got, err)
	}
	long := strings.Repeat("x", 80)
	for _, c := range []struct{ name, text, code, says string }{
		{"one word", "tide 1\n\ntide\n", "define.bad-value",
			`line 3 of the list, "tide", is not an installed package: it has one word`},
		{"a long line", long, "define.bad-value", `"` + long + `", is not`},
		{"a longer line", long + "y", "define.bad-value", `"` + long + `…", is not`},
		{"a name that is none", "-tide 1", "define.bad-value", "-tide"},
		{"as many lines as may be", strings.Repeat("#\n", maxInventoryLines), "", ""},
		{"more lines", strings.Repeat("#\n", maxInventoryLines+1), "content.too-large",
			"more than 200000 lines"},
		{"as long as may be", "#" + strings.Repeat("x", maxInventory-1), "", ""},
		{"longer", "#" + strings.Repeat("x", maxInventory), "content.too-large",
			"bytes long; the limit is 16777216"},
	} {
		_, err := read(c.text)
		told.Refused(t, c.name, err, c.code, c.says)
	}
}
