package rpm

import (
	"bytes"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"stockade/core/archive"
	"stockade/core/archive/text"
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
	return finding.New(finding.SourceMalformedIndex, "", format, args...)
}

// attribute is one of an element, its value with references resolved.
type attribute struct{ name, value []byte }

// node is what a walk is told of an element. It is valid during the call.
type node struct {
	name  string // with its prefix, such as "rpm:entry"
	attrs []attribute
}

// attr gives an attribute by its name, or "".
func (n *node) attr(name string) string {
	for _, a := range n.attrs {
		if string(a.name) == name {
			return string(a.value)
		}
	}
	return ""
}

// has tells whether an attribute is there.
func (n *node) has(name string) bool {
	return slices.ContainsFunc(n.attrs, func(a attribute) bool { return string(a.name) == name })
}

// base gives an attribute xml:base or base, by which a place elsewhere would be
// named.
func (n *node) base() string { return n.attr("xml:base") + n.attr("base") }

// elementNames are those that are met most often, so that no memory is taken
// for each.
var elementNames = func() map[string]string {
	m := map[string]string{}
	for _, n := range strings.Fields(
		`package name arch version checksum summary description packager url time size location format file rpm:license rpm:vendor rpm:group rpm:buildhost
		rpm:sourcerpm rpm:header-range rpm:provides rpm:requires rpm:conflicts rpm:obsoletes rpm:recommends rpm:suggests rpm:supplements rpm:enhances rpm:entry
		changelog update id title issued updated severity release references reference pkglist collection filename data open-checksum open-size timestamp header-size header-checksum
		database_version repomd revision tags repo distro content comps group packagelist packagereq`) {
		m[n] = n
	}
	return m
}()

// walk reads one well-formed XML text (XML 1.0, of which indexes use elements,
// attributes, text, the five entities and character references). open is called
// for every start, with the names of the elements around it, and shut for every
// end, with the text directly inside; what they get is valid during the call.
// Document types, entities of one's own, other encodings than UTF-8, deep
// nesting and long texts are refused.
//
// It is written here and not taken from encoding/xml, because an index has a
// hundred megabytes of it; a test holds it against that package.
func walk(data []byte, open func(path []string, n *node) error,
	shut func(path []string, text []byte) error) error {
	if !utf8.Valid(data) || bytes.Contains(data, []byte("\uFFFE")) || bytes.Contains(data, []byte("\uFFFF")) {
		return malformed("XML that is not UTF-8")
	}
	w := walker{rest: bytes.TrimPrefix(data, []byte("\xef\xbb\xbf"))}
	for len(w.rest) > 0 {
		i := bytes.IndexByte(w.rest, '<')
		if i < 0 {
			i = len(w.rest)
		}
		if err := w.characters(w.rest[:i]); err != nil {
			return err
		}
		if w.rest = w.rest[i:]; len(w.rest) == 0 {
			break
		}
		if err := w.markup(open, shut); err != nil {
			return err
		}
	}
	if len(w.path) > 0 || w.roots == 0 {
		return malformed("the XML cannot be read: it ends before its elements do")
	}
	return nil
}

type walker struct {
	rest  []byte
	path  []string
	texts [][]byte // of the open elements
	n     node
	space [][]byte // memory of attribute values, used again
	roots int
	begun bool
}

// characters takes text that is no markup.
func (w *walker) characters(raw []byte) error {
	if len(raw) == 0 {
		return nil
	}
	if len(w.path) == 0 {
		if len(skipBlank(raw)) > 0 {
			return malformed("there is text outside the XML elements")
		}
		return nil
	}
	if bytes.Contains(raw, []byte("]]>")) {
		return malformed("XML that cannot be read: ]]> in a text")
	}
	return w.text(raw, true)
}

// resolve appends text with its line ends made line feeds (XML 1.0 §2.11) and
// its references resolved.
func resolve(to, raw []byte, references bool) ([]byte, error) {
	for len(raw) > 0 {
		i := 0
		for i < len(raw) && (raw[i] >= 0x20 && raw[i] != '&' || raw[i] == '\n' || raw[i] == '\t' ||
			raw[i] == '&' && !references) {
			i++
		}
		to = append(to, raw[:i]...)
		if raw = raw[i:]; len(raw) == 0 {
			return to, nil
		}
		if raw[0] == '\r' {
			to = append(to, '\n')
			raw = bytes.TrimPrefix(raw[1:], []byte("\n"))
			continue
		}
		if raw[0] != '&' {
			return to, malformed("XML that cannot be read: the character %#x", raw[0])
		}
		var err error
		if to, raw, err = reference(to, raw); err != nil {
			return to, err
		}
	}
	return to, nil
}

// reference appends what the reference stands for that raw begins with (XML 1.0 §4.1, of
// entities those of §4.6), and gives what is behind it.
func reference(to, raw []byte) (longer, rest []byte, err error) {
	end := bytes.IndexByte(raw[:min(len(raw), 16)], ';')
	if end < 0 {
		return to, raw, malformed("XML that cannot be read: a reference has no end")
	}
	name, rest := string(raw[1:end]), raw[end+1:]
	if c, ok := entities[name]; ok {
		return append(to, c), rest, nil
	}
	if !strings.HasPrefix(name, "#") {
		return to, raw, malformed("XML that cannot be read: the entity %q is not one of XML's own",
			text.Cut(name, 20))
	}
	digits, base := name[1:], 10
	if strings.HasPrefix(digits, "x") {
		digits, base = digits[1:], 16
	}
	n, err := strconv.ParseUint(digits, base, 32)
	if err != nil || n > utf8.MaxRune || !character(rune(n)) {
		return to, raw, malformed("XML that cannot be read: the reference %q", text.Cut(name, 20))
	}
	return utf8.AppendRune(to, rune(n)), rest, nil
}

var entities = map[string]byte{"lt": '<', "gt": '>', "amp": '&', "quot": '"', "apos": '\''}

// character tells whether XML can have it (XML 1.0 §2.2).
func character(r rune) bool {
	blank := r == '\n' || r == '\t' || r == '\r'
	return utf8.ValidRune(r) && (r >= 0x20 || blank) && r != 0xFFFE && r != 0xFFFF
}

// markup takes what begins with "<".
func (w *walker) markup(open func([]string, *node) error, shut func([]string, []byte) error) error {
	first := !w.begun
	w.begun = true
	switch {
	case bytes.HasPrefix(w.rest, []byte("<!--")):
		return w.comment()
	case bytes.HasPrefix(w.rest, []byte("<![CDATA[")):
		return w.verbatim()
	case bytes.HasPrefix(w.rest, []byte("<!")):
		return malformed("the XML has a document type, which an index does not need")
	case bytes.HasPrefix(w.rest, []byte("<?")):
		return w.instruction(first)
	case bytes.HasPrefix(w.rest, []byte("</")):
		return w.endTag(shut)
	}
	return w.start(open, shut)
}

// skip passes over what begins and ends so, and gives what is between.
func (w *walker) skip(begin, end string) ([]byte, error) {
	i := bytes.Index(w.rest[len(begin):], []byte(end))
	if i < 0 {
		return nil, malformed("XML that cannot be read: %s has no end", begin)
	}
	inside := w.rest[len(begin) : len(begin)+i]
	w.rest = w.rest[len(begin)+i+len(end):]
	return inside, nil
}

// comment passes over one (XML 1.0 §2.5).
func (w *walker) comment() error {
	inside, err := w.skip("<!--", "-->")
	if err == nil && (bytes.Contains(inside, []byte("--")) || bytes.HasSuffix(inside, []byte("-"))) {
		err = malformed("XML that cannot be read: a comment with two dashes in it")
	}
	return err
}

// verbatim takes a CDATA section (XML 1.0 §2.7) as text of the element around it.
func (w *walker) verbatim() error {
	inside, err := w.skip("<![CDATA[", "]]>")
	if err != nil {
		return err
	}
	if len(w.path) == 0 {
		return malformed("there is text outside the XML elements")
	}
	return w.text(inside, false)
}

// text appends to that of the innermost element.
func (w *walker) text(raw []byte, references bool) (err error) {
	at := &w.texts[len(w.path)-1]
	if len(*at)+len(raw) > maxText {
		return finding.New(finding.ContentTooLarge, "", "an XML text is longer than %d bytes", maxText)
	}
	*at, err = resolve(*at, raw, references)
	return err
}

// instruction passes over one (XML 1.0 §2.6), and reads the declaration (§2.8), which is
// the first thing or nowhere.
func (w *walker) instruction(first bool) error {
	inside, err := w.skip("<?", "?>")
	if err != nil {
		return err
	}
	target, _ := takeName(inside)
	switch {
	case len(target) == 0:
		return malformed("XML that cannot be read: a <? that begins nothing")
	case !strings.EqualFold(string(target), "xml"):
		return nil
	case !first:
		return malformed("XML that cannot be read: its declaration does not stand at the beginning")
	}
	return declaration(inside)
}

// endTag takes the end of the innermost element.
func (w *walker) endTag(shut func([]string, []byte) error) error {
	inside, err := w.skip("</", ">")
	if err != nil {
		return err
	}
	name := bytes.TrimRight(inside, " \t\r\n")
	if len(w.path) == 0 || string(name) != w.path[len(w.path)-1] {
		return malformed("the XML element %q ends where it did not begin", text.Cut(name, 60))
	}
	return w.end(shut)
}

func declaration(inside []byte) error {
	if !plainDeclaration.Match(inside) {
		return malformed("the XML says that it is not version 1.0 in UTF-8")
	}
	return nil
}

var plainDeclaration = regexp.MustCompile(
	`^xml\s+version\s*=\s*["']1\.0["'](\s+encoding\s*=\s*["'](?i:utf-8)["'])?(\s+standalone\s*=\s*["'](yes|no)["'])?\s*$`)

func nameByte(c byte) bool {
	return isAlpha(c) || isDigit(c) || c == '_' || c == ':' || c == '-' || c == '.'
}

// skipBlank passes over white space.
func skipBlank(b []byte) []byte {
	for len(b) > 0 && (b[0] == ' ' || b[0] == '\n' || b[0] == '\t' || b[0] == '\r') {
		b = b[1:]
	}
	return b
}

// plainText tells whether text has no references and no control characters.
func plainText(b []byte) bool {
	for _, c := range b {
		if c == '&' || c < 0x20 {
			return false
		}
	}
	return true
}

// takeName takes a name off the front: letters of ASCII, as all indexes have
// them, with one colon at the most. An empty name is none.
func takeName(b []byte) (name, rest []byte) {
	i := 0
	for i < len(b) && nameByte(b[i]) {
		i++
	}
	if name = b[:i]; i > 0 && (isDigit(b[0]) || b[0] == '-' || b[0] == '.' ||
		bytes.Count(name, []byte(":")) > 1) {
		return nil, b
	}
	return name, b[i:]
}

func (w *walker) end(shut func([]string, []byte) error) error {
	depth := len(w.path) - 1
	if shut != nil {
		if err := shut(w.path, w.texts[depth]); err != nil {
			return err
		}
	}
	w.path = w.path[:depth]
	return nil
}

// start takes the start of an element with its attributes.
func (w *walker) start(open func([]string, *node) error, shut func([]string, []byte) error) error {
	name, b := takeName(w.rest[1:])
	if len(name) == 0 {
		return malformed("XML that cannot be read: a < that begins nothing")
	}
	if len(w.path) >= maxDepth {
		return malformed("XML nested more than %d deep", maxDepth)
	}
	if len(w.path) == 0 {
		if w.roots++; w.roots > 1 {
			return malformed("there is data after the end of the XML")
		}
	}
	known, ok := elementNames[string(name)]
	if !ok {
		known = string(name)
	}
	w.n.name, w.n.attrs = known, w.n.attrs[:0]
	rest, empty, err := w.attributes(b)
	if err != nil {
		return err
	}
	w.rest = rest
	w.path = append(w.path, known)
	if len(w.texts) < len(w.path) {
		w.texts = append(w.texts, nil)
	}
	w.texts[len(w.path)-1] = w.texts[len(w.path)-1][:0]
	if open != nil {
		if err := open(w.path, &w.n); err != nil {
			return err
		}
	}
	if empty {
		return w.end(shut)
	}
	return nil
}

// attributes reads those of the element that begins, to behind its >. empty tells that
// it ends there.
func (w *walker) attributes(b []byte) (rest []byte, empty bool, err error) {
	for {
		before := len(b)
		b = skipBlank(b)
		if len(b) == 0 {
			return nil, false, w.broken("it ends inside %s")
		}
		if b[0] == '>' {
			return b[1:], false, nil
		}
		if b[0] == '/' && len(b) > 1 && b[1] == '>' {
			return b[2:], true, nil
		}
		if len(b) == before {
			return nil, false, w.broken("attributes of %s without a space between")
		}
		if len(w.n.attrs) == maxAttributes {
			return nil, false, malformed("an XML element with more than %d attributes", maxAttributes)
		}
		if b, err = w.attribute(b); err != nil {
			return nil, false, err
		}
	}
}

// attribute reads one.
func (w *walker) attribute(b []byte) ([]byte, error) {
	var a attribute
	if a.name, b = takeName(b); len(a.name) == 0 {
		return nil, w.broken("an attribute of %s has no name")
	}
	b = skipBlank(b)
	if len(b) == 0 || b[0] != '=' {
		return nil, w.broken("an attribute of %s has no value")
	}
	if b = skipBlank(b[1:]); len(b) == 0 || b[0] != '"' && b[0] != '\'' {
		return nil, w.broken("an attribute of %s has no quotes")
	}
	end := bytes.IndexByte(b[1:], b[0])
	if end < 0 {
		return nil, w.broken("an attribute of %s has no end")
	}
	raw, rest := b[1:1+end], b[end+2:]
	if bytes.IndexByte(raw, '<') >= 0 {
		return nil, w.broken("a < in an attribute of %s")
	}
	if a.value = raw; !plainText(raw) {
		i := len(w.n.attrs)
		for len(w.space) <= i {
			w.space = append(w.space, nil)
		}
		var err error
		if w.space[i], err = resolve(w.space[i][:0], raw, true); err != nil {
			return nil, err
		}
		a.value = w.space[i]
	}
	for _, other := range w.n.attrs {
		if string(other.name) == string(a.name) {
			return nil, malformed("XML that cannot be read: %s has the attribute %q twice",
				text.Cut(w.n.name, 60), text.Cut(a.name, 60))
		}
	}
	w.n.attrs = append(w.n.attrs, a)
	return rest, nil
}

// broken tells what is wrong in the start of the element that is read.
func (w *walker) broken(format string) error {
	return malformed("XML that cannot be read: "+format, text.Cut(w.n.name, 60))
}

// elements cuts the elements of one name, which stand one after the other below
// the root, out of a stream: an index is never held whole. Nothing but white
// space may stand between them, and nothing but the XML declaration and the
// start of the root before. Each is to be walked by itself, which finds anything
// that was cut wrong.
type elements struct {
	r     io.Reader
	buf   []byte
	at    int // what is before was yielded
	eof   bool
	root  string // such as "metadata"
	begin []byte // "<package"
	end   []byte // "</package>"
	state elementsState
	limit int
}

type elementsState int

const (
	beforeRoot elementsState = iota
	insideRoot
	behindRoot
)

func newElements(r io.Reader, root, name string) *elements {
	return &elements{
		r:     r,
		root:  root,
		begin: []byte("<" + name),
		end:   []byte("</" + name + ">"),
		limit: maxElement,
	}
}

// fill reads on; what was yielded is let go.
func (e *elements) fill() error {
	if e.at > 0 {
		e.buf = append(e.buf[:0], e.buf[e.at:]...)
		e.at = 0
	}
	if len(e.buf) > e.limit {
		return finding.New(finding.ContentTooLarge, "", "an element of the index is larger than %d bytes",
			e.limit)
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

// need reads on until n bytes stand behind the mark, or there are no more.
func (e *elements) need(n int) error {
	for len(e.buf)-e.at < n && !e.eof {
		if err := e.fill(); err != nil {
			return err
		}
	}
	return nil
}

// blank passes over white space.
func (e *elements) blank() error {
	for {
		rest := skipBlank(e.buf[e.at:])
		e.at = len(e.buf) - len(rest)
		if len(rest) > 0 || e.eof {
			return nil
		}
		if err := e.fill(); err != nil {
			return err
		}
	}
}

// prolog takes the XML declaration and the start of the root.
func (e *elements) prolog() error {
	if err := e.need(3); err != nil {
		return err
	}
	if bytes.HasPrefix(e.buf[e.at:], []byte("\xef\xbb\xbf")) {
		e.at += 3
	}
	if err := e.need(len("<?xml ")); err != nil {
		return err
	}
	if bytes.HasPrefix(e.buf[e.at:], []byte("<?xml")) {
		if err := e.need(maxProlog); err != nil {
			return err
		}
		i := bytes.Index(e.buf[e.at:min(len(e.buf), e.at+maxProlog)], []byte("?>"))
		if i < 0 {
			return malformed("XML that cannot be read: its declaration has no end")
		}
		if err := declaration(e.buf[e.at+2 : e.at+i]); err != nil {
			return err
		}
		e.at += i + 2
	}
	if err := e.blank(); err != nil {
		return err
	}
	if err := e.need(maxProlog); err != nil {
		return err
	}
	head := e.buf[e.at:min(len(e.buf), e.at+maxProlog)]
	if bytes.HasPrefix(head, []byte("<!DOCTYPE")) || bytes.HasPrefix(head, []byte("<!ENTITY")) {
		return malformed("the XML has a document type, which an index does not need")
	}
	i := bytes.IndexByte(head, '>')
	if i < 0 {
		return malformed("the index does not begin with an XML element: %q", text.Cut(head, 60))
	}
	w := walker{rest: append(bytes.Clone(head[:i+1]), "</"+e.root+">"...)}
	name, _ := takeName(bytes.TrimPrefix(w.rest, []byte("<")))
	switch {
	case bytes.HasPrefix(head, []byte("<!--")), bytes.HasPrefix(head, []byte("<?")):
		return archive.Ambiguous(
			"the index begins with something other than its first element, which some readers "+
				"take for an element: %q",
			text.Cut(head, 60))
	case string(name) != e.root:
		return malformed("the index begins with %q, but %s is expected", text.Cut(name, 40), e.root)
	}
	if err := w.start(nil, nil); err != nil {
		return err
	}
	e.at += i + 1
	if e.state = insideRoot; head[i-1] == '/' {
		e.state = behindRoot
	}
	return nil
}

// next gives the next element as text, valid until the following call. At the
// end the error is io.EOF.
func (e *elements) next() ([]byte, error) {
	if e.state == beforeRoot {
		if err := e.prolog(); err != nil {
			return nil, err
		}
	}
	if err := e.blank(); err != nil {
		return nil, err
	}
	if err := e.need(len(e.begin) + 1); err != nil {
		return nil, err
	}
	if err := e.need(len(e.root) + len("</>")); err != nil {
		return nil, err
	}
	rest := e.buf[e.at:]
	if end := []byte("</" + e.root + ">"); e.state == insideRoot && bytes.HasPrefix(rest, end) {
		e.at += len(end)
		e.state = behindRoot
		if err := e.blank(); err != nil {
			return nil, err
		}
		rest = e.buf[e.at:]
	}
	switch {
	case e.state == behindRoot && len(rest) == 0:
		return nil, io.EOF
	case e.state == behindRoot:
		return nil, archive.Ambiguous("the index has data after its end: %q", text.Cut(rest, 60))
	case len(rest) == 0:
		return nil, malformed("the index ends before its first element does")
	}
	if len(rest) <= len(e.begin) || !bytes.HasPrefix(rest, e.begin) || bytes.IndexByte([]byte(" >\n\t\r/"),
		rest[len(e.begin)]) < 0 {
		return nil, archive.Ambiguous("something other than an element is between the elements "+
			"of an index: %q",
			text.Cut(rest, 60))
	}
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
