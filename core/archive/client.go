package archive

import (
	"fmt"
	"net"
	"net/url"
	"regexp"
	"strings"
	"unicode/utf8"

	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Text is a file for a client that is being written, line by line. What comes
// from outside cannot end a line or hide in it: a control character, a
// right-to-left mark or the like makes the whole file fail.
type Text struct {
	b   strings.Builder
	err error
}

// Line writes one line.
func (t *Text) Line(format string, args ...any) {
	line := fmt.Sprintf(format, args...)
	if t.err == nil && (finding.Harmless(line) != line || !utf8.ValidString(line)) {
		t.err = finding.New(finding.DefineBadValue, "",
			"a line of a machine's file would contain a control character: %q", text.Cut(line, 160)).
			Do("correct the value in the definition. No file was written")
	}
	t.b.WriteString(line)
	t.b.WriteByte('\n')
}

// Bytes gives the file, or why it cannot be written.
func (t *Text) Bytes() ([]byte, error) { return []byte(t.b.String()), t.err }

// Empty tells whether nothing was written yet.
func (t *Text) Empty() bool { return t.b.Len() == 0 }

var word = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+~^@:/-]*$`)

// CheckWord refuses a value that is not one plain word: letters, digits and
// ". _ + ~ ^ @ : / -", beginning with a letter or digit. Whatever clients take for
// one word of a line, or for part of a path, must be one. what names the value.
func CheckWord(what, value string) error {
	if len(value) > 256 || !word.MatchString(value) {
		return finding.New(finding.DefineBadValue, "",
			"the %s %q is not a single plain word, which machines' files need", what, text.Cut(value, 80))
	}
	return nil
}

// CheckWords is CheckWord for each of several.
func CheckWords(what string, values ...string) error {
	for _, v := range values {
		if err := CheckWord(what, v); err != nil {
			return err
		}
	}
	return nil
}

// Check refuses a client whose values cannot stand in the files of machines.
// Every family asks it first: what was sealed or recorded long ago may have been
// checked by other rules.
func (c Client) Check() error {
	for _, s := range c.Sources {
		if err := s.check(); err != nil {
			if f, ok := finding.From(err); ok {
				f.Object = "source " + s.Name
				return f
			}
			return err
		}
	}
	for _, p := range c.Pins {
		if p.Op != Equal {
			return finding.New(finding.DefineBadValue, "", "the pin %q does not have the form "+
				"NAME = VERSION", p.String())
		}
		if err := CheckName(p.Name); err != nil {
			return err
		}
		if err := CheckWord("version", p.Version); err != nil {
			return err
		}
	}
	return CheckWords("architecture", c.Architectures...)
}

func (s ClientSource) check() error {
	if err := CheckWords("source", s.Name); err != nil {
		return err
	}
	if r := strings.TrimPrefix(s.Release, "./"); r != "" && r != "/" {
		if err := CheckWord("release", r); err != nil {
			return err
		}
	}
	for _, k := range s.Keys {
		if err := CheckWord("fingerprint", k.Fingerprint); err != nil {
			return err
		}
	}
	for _, list := range []struct {
		what   string
		values []string
	}{{"component", s.Components}, {"architecture", s.Architectures}, {"language", s.Languages}, {
		"module stream", s.Streams}} {
		if err := CheckWords(list.what, list.values...); err != nil {
			return err
		}
	}
	return nil
}

// CheckAddress refuses where packages are to be found when it is neither an
// absolute folder nor an http or https URL that can stand in a machine's file.
func CheckAddress(at string) error {
	bad := func(why string) error {
		return finding.New(finding.DefineBadValue, "", "the address %q %s", text.Cut(at, 120),
			why).
			Do("enter a URL such as http://stock.reach.example:8441/lane/steady, or an " +
				"absolute folder")
	}
	if finding.Harmless(at) != at || !utf8.ValidString(at) {
		return bad("contains control characters")
	}
	if strings.HasPrefix(at, "/") {
		return nil
	}
	u, err := url.Parse(at)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		return bad("is neither a URL nor an absolute folder")
	case u.User != nil || u.RawQuery != "" || u.Fragment != "" ||
		strings.ContainsAny(withoutLiteral(at, u), " \t$\"'\\<>[]{}`|^"):
		return bad("contains a character that clients interpret")
	}
	return nil
}

// withoutLiteral gives an address without the brackets of an IPv6 literal (RFC 3986, 3.2.2), the only
// place where they mean themselves.
func withoutLiteral(at string, u *url.URL) string {
	if ip := net.ParseIP(u.Hostname()); ip != nil && strings.HasPrefix(u.Host, "[") {
		return strings.Replace(at, "["+u.Hostname()+"]", u.Hostname(), 1)
	}
	return at
}

// EscapeFolder writes a folder for a file: URL: whatever a client could take for
// something else than part of a path becomes its number (RFC 3986 §2.1).
func EscapeFolder(p string) string {
	var b strings.Builder
	for i := range len(p) {
		c := p[i]
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(
			"/._~-+@:", c) >= 0 {
			b.WriteByte(c)
		} else {
			fmt.Fprintf(&b, "%%%02x", c)
		}
	}
	return b.String()
}

// ClientFile is one file as it lies under the machine's root.
type ClientFile struct {
	Path string // relative, slash-separated
	Mode uint32
	Data []byte
}
