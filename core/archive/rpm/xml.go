package rpm

import (
	"bytes"
	"encoding/xml"
	"io"
	"strings"

	"stockade/core/finding"
)

// Limits on the XML of this family.
const (
	maxDepth      = 24
	maxElement    = 64 << 20 // bytes of one package, update or group
	maxAttributes = 64
	maxText       = 16 << 20 // bytes of text in one element
	maxProlog     = 64 << 10
)

func malformed(format string, args ...any) error {
	return finding.New("source.malformed-index", "", format, args...)
}

// node is what a walk is told of an element.
type node struct {
	name  string // with its prefix, such as "rpm:entry"
	attrs []xml.Attr
}

// attr gives an attribute by its local name, or "".
func (n *node) attr(name string) string {
	for _, a := range n.attrs {
		if a.Name.Local == name && a.Name.Space == "" {
			return a.Value
		}
	}
	return ""
}

// walk reads one well-formed XML text. open is called for every start, with the
// names of the elements around it (not valid after the call), and shut for
// every end, with the text directly inside. Document types, entities of one's
// own, other encodings than UTF-8, deep nesting and long texts are refused.
func walk(r io.Reader, open func(path []string, n *node) error, shut func(path []string, text string) error) error {
	d := xml.NewDecoder(r)
	d.Strict = true
	var path []string
	var texts [][]byte
	var n node
	roots := 0
	for {
		t, err := d.RawToken()
		if err == io.EOF {
			break
		}
		if err != nil {
			if _, ok := finding.From(err); ok {
				return err
			}
			return malformed("XML that cannot be read: %v", err)
		}
		switch t := t.(type) {
		case xml.StartElement:
			n.name, n.attrs = qualified(t.Name), t.Attr
			if len(path) >= maxDepth {
				return malformed("XML nested more than %d deep", maxDepth)
			}
			if len(t.Attr) > maxAttributes {
				return malformed("an XML element with more than %d attributes", maxAttributes)
			}
			if len(path) == 0 {
				if roots++; roots > 1 {
					return malformed("XML goes on behind its end")
				}
			}
			path = append(path, n.name)
			if len(texts) < len(path) {
				texts = append(texts, nil)
			}
			texts[len(path)-1] = texts[len(path)-1][:0]
			if open != nil {
				if err := open(path, &n); err != nil {
					return err
				}
			}
		case xml.EndElement:
			if len(path) == 0 || path[len(path)-1] != qualified(t.Name) {
				return malformed("the XML element %q ends where it did not begin", cut(t.Name.Local, 60))
			}
			if shut != nil {
				if err := shut(path, string(texts[len(path)-1])); err != nil {
					return err
				}
			}
			path = path[:len(path)-1]
		case xml.CharData:
			if len(path) == 0 {
				if len(bytes.TrimSpace(t)) > 0 {
					return malformed("text outside the XML elements")
				}
				continue
			}
			at := &texts[len(path)-1]
			if len(*at)+len(t) > maxText {
				return finding.New("content.too-large", "", "an XML text is longer than %d bytes", maxText)
			}
			*at = append(*at, t...)
		case xml.Directive:
			return malformed("the XML has a document type, which no index needs")
		case xml.ProcInst:
			if t.Target != "xml" {
				continue
			}
			if e := strings.ToLower(string(t.Inst)); strings.Contains(e, "encoding") && !strings.Contains(e, "utf-8") {
				return malformed("the XML says that it is not UTF-8")
			}
		}
	}
	if len(path) > 0 || roots == 0 {
		return malformed("the XML ends before its elements do")
	}
	return nil
}

func qualified(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return n.Space + ":" + n.Local
}

// elements cuts the elements of one name, which stand one after the other below
// the root, out of a stream: an index is never held whole. Each is to be
// walked by itself, which finds anything that was cut wrong.
type elements struct {
	r     io.Reader
	buf   []byte
	at    int // what is before was yielded
	eof   bool
	begin []byte // "<package"
	end   []byte // "</package>"
	first bool
	limit int
}

func newElements(r io.Reader, name string) *elements {
	return &elements{r: r, begin: []byte("<" + name), end: []byte("</" + name + ">"), first: true, limit: maxElement}
}

// fill reads on; what was yielded is let go.
func (e *elements) fill() error {
	if e.at > 0 {
		e.buf = append(e.buf[:0], e.buf[e.at:]...)
		e.at = 0
	}
	if len(e.buf) > e.limit {
		return finding.New("content.too-large", "", "an element of the index is larger than %d bytes", e.limit)
	}
	if cap(e.buf)-len(e.buf) < 256<<10 {
		grown := make([]byte, len(e.buf), 2*cap(e.buf)+512<<10)
		copy(grown, e.buf)
		e.buf = grown
	}
	n, err := e.r.Read(e.buf[len(e.buf):cap(e.buf)])
	e.buf = e.buf[:len(e.buf)+n]
	if err == io.EOF {
		e.eof = true
		return nil
	}
	return err
}

// find gives where sub begins behind the mark, reading on as far as needed.
func (e *elements) find(sub []byte, from int) (int, error) {
	for {
		if i := bytes.Index(e.buf[e.at+from:], sub); i >= 0 {
			return from + i, nil
		}
		if e.eof {
			return -1, nil
		}
		from = max(len(e.buf)-e.at-len(sub), from)
		if err := e.fill(); err != nil {
			return -1, err
		}
	}
}

// next gives the next element as text, valid until the following call. At the
// end the error is io.EOF.
func (e *elements) next() ([]byte, error) {
	for {
		i, err := e.find(e.begin, 0)
		if err != nil {
			return nil, err
		}
		if i < 0 {
			return nil, e.tail()
		}
		// "<packages>" begins like "<package".
		for e.at+i+len(e.begin) >= len(e.buf) && !e.eof {
			if err := e.fill(); err != nil {
				return nil, err
			}
		}
		if e.at+i+len(e.begin) < len(e.buf) {
			if c := e.buf[e.at+i+len(e.begin)]; c != ' ' && c != '>' && c != '\n' && c != '\t' && c != '\r' && c != '/' {
				if !e.first {
					return nil, malformed("something else stands between the elements of an index")
				}
				e.at += i + 1
				continue
			}
		}
		between := e.buf[e.at : e.at+i]
		if e.first {
			if err := prolog(between); err != nil {
				return nil, err
			}
		} else if len(bytes.TrimSpace(between)) > 0 {
			return nil, malformed("something else stands between the elements of an index: %q", cut(string(bytes.TrimSpace(between)), 60))
		}
		e.first = false
		e.at += i
		j, err := e.find(e.end, 0)
		if err != nil {
			return nil, err
		}
		if j < 0 {
			return nil, malformed("the index ends in the middle of an element")
		}
		j += len(e.end)
		out := e.buf[e.at : e.at+j]
		e.at += j
		return out, nil
	}
}

// prolog looks at what stands before the first element: an XML declaration and
// the start of the root.
func prolog(b []byte) error {
	if len(b) > maxProlog {
		return malformed("the index begins with more than %d bytes that are no element", maxProlog)
	}
	if bytes.Contains(b, []byte("<!DOCTYPE")) || bytes.Contains(b, []byte("<!ENTITY")) {
		return malformed("the XML has a document type, which no index needs")
	}
	if i := bytes.Index(b, []byte("?>")); i >= 0 && bytes.Contains(bytes.ToLower(b[:i]), []byte("encoding")) && !bytes.Contains(bytes.ToLower(b[:i]), []byte("utf-8")) {
		return malformed("the XML says that it is not UTF-8")
	}
	return nil
}

// tail looks at what stands behind the last element: the end of the root.
func (e *elements) tail() error {
	rest := bytes.TrimSpace(e.buf[e.at:])
	if e.first {
		if err := prolog(rest); err != nil {
			return err
		}
		if !bytes.Contains(rest, []byte("<")) {
			return malformed("the index is no XML")
		}
		return io.EOF
	}
	if !bytes.HasPrefix(rest, []byte("</")) || !bytes.HasSuffix(rest, []byte(">")) || bytes.Count(rest, []byte("<")) != 1 {
		return malformed("the index ends in something that is not the end of its root: %q", cut(string(rest), 60))
	}
	return io.EOF
}

// escape writes text for XML; characters that XML cannot have are left out.
func escape(s string) string {
	if !strings.ContainsAny(s, "<>&\"'") && strings.IndexFunc(s, badRune) < 0 {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		switch r {
		case '<':
			b.WriteString("&lt;")
		case '>':
			b.WriteString("&gt;")
		case '&':
			b.WriteString("&amp;")
		case '"':
			b.WriteString("&quot;")
		default:
			if !badRune(r) {
				b.WriteRune(r)
			}
		}
	}
	return b.String()
}

func badRune(r rune) bool {
	return r < 0x20 && r != '\n' && r != '\t' || r == 0xFFFE || r == 0xFFFF || r == 0x7f || r == 0xFFFD
}
