package deb

import (
	"bufio"
	"bytes"
	"io"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// maxStanza bounds one stanza (bytes). The largest seen in the real archives
// are under 100 KiB.
const maxStanza = 4 << 20

// StanzaReader cuts control data (Debian Policy §5.1) into stanzas.
type StanzaReader struct {
	r   *bufio.Reader
	buf []byte
}

// NewStanzaReader reads stanzas from r with bounded memory.
func NewStanzaReader(r io.Reader) *StanzaReader {
	return &StanzaReader{r: bufio.NewReaderSize(r, 256<<10)}
}

// Next gives the next stanza without the blank lines around it, each line
// ended by a line feed. It is valid until the following call. At the end the
// error is io.EOF; a stanza over 4 MiB is content.too-large. A line that looks
// blank and is not, which ends a stanza for one reader and goes on with it for
// another, is content.ambiguous.
func (s *StanzaReader) Next() ([]byte, error) {
	s.buf = s.buf[:0]
	lineStart := true
	for {
		part, err := s.r.ReadSlice('\n')
		if lineStart && len(bytes.TrimRight(part, " \t\r\n")) == 0 && (err == nil || err == io.EOF) {
			if len(bytes.TrimSuffix(part, []byte("\n"))) > 0 {
				return nil, archive.Ambiguous("a line of white space is in or between stanzas. " +
					"Some readers see the end of a stanza there and others do not")
			}
			if len(s.buf) > 0 {
				return s.buf, nil
			}
			if err == io.EOF {
				return nil, io.EOF
			}
			continue
		}
		s.buf = append(s.buf, part...)
		if len(s.buf) > maxStanza {
			return nil, finding.New(finding.ContentTooLarge, "", "a stanza is longer than %d bytes",
				maxStanza)
		}
		switch err {
		case nil:
			lineStart = true
		case bufio.ErrBufferFull:
			lineStart = false
		case io.EOF:
			if len(s.buf) == 0 {
				return nil, io.EOF
			}
			if s.buf[len(s.buf)-1] != '\n' {
				s.buf = append(s.buf, '\n')
			}
			return s.buf, nil
		default:
			return nil, err
		}
	}
}

// maxField bounds the name of a field (bytes), maxFields the fields of a stanza.
const (
	maxField  = 64
	maxFields = 256
)

// fieldReader reads the fields of stanzas. It remembers the names that it met,
// so that it costs no memory for each stanza.
type fieldReader struct {
	seen   map[string]int // a name, to the stanza that it was met in last
	number int
}

// each calls f for every field of a stanza: its name in lower case and its value
// with continuation lines as they stand. What is no field by Debian Policy §5.1
// is refused: a line without a name, a name with a blank or a control character
// in it or before its colon, a name that stands twice, a zero byte.
func (r *fieldReader) each(stanza []byte, f func(name, value []byte) error) error {
	if r.seen == nil {
		r.seen = map[string]int{}
	}
	if bytes.IndexByte(stanza, 0) >= 0 {
		return archive.Ambiguous("a stanza contains a zero byte")
	}
	// Names are few, unless somebody makes them up. Those of this stanza are kept: one that stands twice
	// is found whatever came before it.
	if len(r.seen) > 1<<14 {
		clear(r.seen)
	}
	r.number++
	var folded [maxField]byte
	for n := 1; len(stanza) > 0; n++ {
		end := fieldEnd(stanza)
		field := stanza[:end]
		stanza = stanza[end:]
		line, _, _ := bytes.Cut(field, []byte("\n"))
		colon := bytes.IndexByte(line, ':')
		if colon <= 0 || field[0] == ' ' || field[0] == '\t' {
			return finding.New(finding.SourceMalformedIndex, "", "field %d of a stanza is not "+
				"a field: %q", n,
				text.Cut(line, 80))
		}
		if n > maxFields {
			return finding.New(finding.ContentTooLarge, "", "a stanza has more than %d fields", maxFields)
		}
		name, err := foldName(folded[:0], field[:colon])
		if err != nil {
			return err
		}
		if r.seen[string(name)] == r.number {
			return archive.Ambiguous("the field %q occurs twice in one stanza", name)
		}
		r.seen[string(name)] = r.number
		if err := f(name, bytes.TrimSpace(field[colon+1:])); err != nil {
			return err
		}
	}
	return nil
}

// foldName gives the name of a field in lower case.
func foldName(to, name []byte) ([]byte, error) {
	if len(name) > maxField {
		return nil, archive.Ambiguous("the name of a field is longer than %d bytes: %q", maxField,
			text.Cut(name, 80))
	}
	for i, c := range name {
		switch {
		case c <= ' ' || c >= 0x7f:
			return nil, archive.Ambiguous(
				"the name of a field contains a space or an invalid character before its "+
					"colon: %q",
				text.Cut(name, 80))
		case i == 0 && (c == '#' || c == '-'):
			return nil, archive.Ambiguous(
				"the name of a field begins with %q, which some readers take for a comment", name[:1])
		case c >= 'A' && c <= 'Z':
			c += 'a' - 'A'
		}
		to = append(to, c)
	}
	return to, nil
}

// fieldEnd finds where the first field of a stanza ends, continuation lines included.
func fieldEnd(b []byte) int {
	at := 0
	for {
		i := bytes.IndexByte(b[at:], '\n')
		if i < 0 {
			return len(b)
		}
		at += i + 1
		if at >= len(b) || (b[at] != ' ' && b[at] != '\t') {
			return at
		}
	}
}

// Fields reads one stanza into a map with lower-case names.
func Fields(stanza []byte) (map[string]string, error) {
	m := map[string]string{}
	err := new(fieldReader).each(stanza, func(name, value []byte) error {
		m[string(name)] = string(value)
		return nil
	})
	return m, err
}

// oneStanza gives the only stanza of a text.
func oneStanza(text []byte) ([]byte, error) {
	r := NewStanzaReader(bytes.NewReader(text))
	stanza, err := r.Next()
	if err != nil {
		return nil, err
	}
	stanza = bytes.Clone(stanza)
	if _, err := r.Next(); err == nil {
		return nil, archive.Ambiguous("there is more than one stanza where only one is allowed")
	} else if err != io.EOF {
		return nil, err
	}
	return stanza, nil
}

// withoutFields gives a copy of a stanza that lacks the named fields (lower case).
func withoutFields(stanza []byte, names ...string) []byte {
	out := make([]byte, 0, len(stanza))
	for len(stanza) > 0 {
		end := fieldEnd(stanza)
		field := stanza[:end]
		stanza = stanza[end:]
		name, _, _ := bytes.Cut(field, []byte(":"))
		if !slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(string(name), n) }) {
			out = append(out, field...)
		}
	}
	return out
}
