package deb

import (
	"bufio"
	"bytes"
	"io"
	"strings"

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
// error is io.EOF; a stanza over 4 MiB is content.too-large.
func (s *StanzaReader) Next() ([]byte, error) {
	s.buf = s.buf[:0]
	lineStart := true
	for {
		part, err := s.r.ReadSlice('\n')
		if lineStart && len(bytes.TrimRight(part, " \t\r\n")) == 0 && (err == nil || err == io.EOF) {
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
			return nil, finding.New("content.too-large", "", "a stanza is longer than %d bytes", maxStanza)
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

// eachField calls f for every field of a stanza: its name in lower case and
// its value with continuation lines as they stand. A line that is no field is
// an error with its number in the stanza.
func eachField(stanza []byte, f func(name, value []byte) error) error {
	var folded [64]byte
	number := 0
	for len(stanza) > 0 {
		number++
		end := fieldEnd(stanza)
		field := stanza[:end]
		stanza = stanza[end:]
		colon := bytes.IndexByte(field, ':')
		if colon <= 0 || field[0] == ' ' || field[0] == '\t' {
			line, _, _ := bytes.Cut(field, []byte("\n"))
			return finding.New("source.malformed-index", "", "field %d of a stanza is no field: %q", number, cut(line, 80))
		}
		name := field[:colon]
		if len(name) > len(folded) {
			continue
		}
		for i, c := range name {
			if c >= 'A' && c <= 'Z' {
				c += 'a' - 'A'
			}
			folded[i] = c
		}
		if err := f(folded[:colon], bytes.TrimSpace(field[colon+1:])); err != nil {
			return err
		}
	}
	return nil
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

func cut(b []byte, n int) string {
	if len(b) > n {
		return string(b[:n]) + "…"
	}
	return string(b)
}

// Fields reads one stanza into a map with lower-case names. A field that
// stands twice is an error: readers would differ in which one they believe.
func Fields(stanza []byte) (map[string]string, error) {
	m := map[string]string{}
	err := eachField(stanza, func(name, value []byte) error {
		if _, twice := m[string(name)]; twice {
			return finding.New("source.malformed-index", "", "the field %q stands twice in one stanza", cut(name, 60))
		}
		m[string(name)] = string(value)
		return nil
	})
	return m, err
}

// withoutFields gives a copy of a stanza that lacks the named fields (lower case).
func withoutFields(stanza []byte, names ...string) []byte {
	out := make([]byte, 0, len(stanza))
	for len(stanza) > 0 {
		end := fieldEnd(stanza)
		field := stanza[:end]
		stanza = stanza[end:]
		name, _, _ := bytes.Cut(field, []byte(":"))
		drop := false
		for _, n := range names {
			drop = drop || strings.EqualFold(string(name), n)
		}
		if !drop {
			out = append(out, field...)
		}
	}
	return out
}
