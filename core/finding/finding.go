// Package finding holds what checks say: one Finding per thing that is wrong,
// doubtful or worth knowing, and the one catalogue of codes that they use.
//
// A code is a promise to the people who script against Stockade: it is never
// reused for another meaning. The document docs/findings.md is generated from the
// catalogue. The package trusts nobody and decides nothing: what a finding stops is up to
// who asked for it.
package finding

import (
	"cmp"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
)

// Severity orders findings by what they stop.
type Severity string

// The three severities. An error stops the thing it is about, a warning hurts
// sooner or later, a note is worth knowing.
const (
	Error   Severity = "error"
	Warning Severity = "warning"
	Note    Severity = "note"
)

// Values lists the severities, worst first.
func (Severity) Values() []string { return []string{string(Error), string(Warning), string(Note)} }

func (s Severity) rank() int {
	switch s {
	case Error:
		return 0
	case Warning:
		return 1
	}
	return 2
}

// Place is where in a document a finding was made. Line and Column count from
// one; zero means unknown.
type Place struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// String gives file:line:column, leaving out what is unknown.
func (p Place) String() string {
	if p.File == "" && p.Line == 0 {
		return ""
	}
	name := p.File
	if name == "" {
		name = "document"
	}
	if p.Line == 0 {
		return name
	}
	return fmt.Sprintf("%s:%d:%d", name, p.Line, p.Column)
}

// Finding is one result of a check.
type Finding struct {
	Code     Code     `json:"code"`
	Cause    string   `json:"cause,omitempty"` // which of the things that the code can stand for
	Severity Severity `json:"severity"`
	Object   string   `json:"object,omitempty"` // such as "source tarn"
	Place    Place    `json:"place,omitzero"`
	// Field is the path of the value in a document: "sources.tarn.upstreams.0.url".
	Field string `json:"field,omitempty"`
	// Text says what is wrong, with the actual values, and why that matters or what Stockade did. It
	// follows the object and a colon, so it begins in lower case and has no full stop at its end.
	Text string `json:"text"`
	// WayOut is the fix: an imperative, as the text in lower case without a full stop at its end.
	WayOut  string `json:"way_out,omitempty"`
	Excerpt string `json:"excerpt,omitempty"` // the line, with a caret below it
	// Fix is what would mend it, where that is mechanical: one word for another, at its
	// place. It never has a secret in it.
	Fix Fix `json:"fix,omitzero"`
	// Way is what can be done about it at once.
	Way Way `json:"way,omitzero"`
}

// Fix puts New in place of Old.
type Fix struct {
	Old string `json:"old"`
	New string `json:"new"`
}

// New makes a finding with the severity and the general fix that the
// catalogue has for code. It panics on a code that the catalogue lacks: codes
// are written in the program, never read from outside.
func New(code Code, object, format string, args ...any) Finding {
	entry, ok := catalogue[code]
	if !ok {
		panic("finding: code not in the catalogue: " + string(code))
	}
	text := format
	if len(args) > 0 {
		text = fmt.Sprintf(format, args...)
	}
	return Finding{Code: code, Severity: entry.Severity, Object: object, Text: WithoutUser(text),
		WayOut: entry.WayOut, Way: wayOf(code, object)}
}

// user finds who an address in a text says that it is asked by, also where the password has a
// slash that should have been escaped.
var user = regexp.MustCompile(`://(?:[^/\s"]*|[^/\s"@:]*:[0-9]*[^0-9/\s"][^\s"]*)@`)

// WithoutUser leaves user and password out of the addresses in a text: what was typed where it
// does not belong is not shown, logged or recorded again.
func WithoutUser(text string) string {
	if !strings.Contains(text, "://") {
		return text
	}
	return user.ReplaceAllLiteralString(text, "://…@")
}

// HasUser tells whether there is one in a text.
func HasUser(text string) bool { return user.MatchString(text) }

// At returns f with its place set.
func (f Finding) At(p Place) Finding { f.Place = p; return f }

// Do returns f with a fix that is more exact than the one of the catalogue.
func (f Finding) Do(format string, args ...any) Finding {
	f.WayOut = WithoutUser(fmt.Sprintf(format, args...))
	return f
}

// Rated returns f with another severity.
func (f Finding) Rated(s Severity) Finding { f.Severity = s; return f }

// Error makes a Finding usable as an error: place, object, text and fix in one line.
func (f Finding) Error() string {
	var b strings.Builder
	if p := f.Place.String(); p != "" {
		b.WriteString(p + ": ")
	}
	if f.Object != "" {
		b.WriteString(f.Object + ": ")
	}
	b.WriteString(f.Text)
	if f.WayOut != "" {
		b.WriteString(Stop(f.Text) + " Fix: " + f.WayOut)
	}
	return b.String()
}

// Stop gives the full stop that ends a text, where the text does not end in a mark of its own.
func Stop(text string) string {
	if text == "" || strings.ContainsRune(".!?:…", []rune(text)[len([]rune(text))-1]) {
		return ""
	}
	return "."
}

// From takes the finding out of an error chain.
func From(err error) (Finding, bool) {
	var f Finding
	ok := errors.As(err, &f)
	return f, ok
}

// ListOf gives the finding in an error chain as a list. An error without one is a fault.
func ListOf(err error) List {
	f, ok := From(err)
	if !ok {
		f = New(FaultCode, "", "%v", err)
	}
	return List{f}
}

// List is a number of findings.
type List []Finding

// HasErrors tells whether any finding is an error.
func (l List) HasErrors() bool {
	return slices.ContainsFunc(l, func(f Finding) bool { return f.Severity == Error })
}

// Count gives the number of findings of one severity.
func (l List) Count(s Severity) (n int) {
	for _, f := range l {
		if f.Severity == s {
			n++
		}
	}
	return n
}

// With gives those findings that have code.
func (l List) With(code Code) (out List) {
	for _, f := range l {
		if f.Code == code {
			out = append(out, f)
		}
	}
	return out
}

// Sort orders by severity, then place, then object, then code.
func (l List) Sort() {
	slices.SortStableFunc(l, func(a, b Finding) int {
		return cmp.Or(a.Severity.rank()-b.Severity.rank(), cmp.Compare(a.Place.File, b.Place.File),
			a.Place.Line-b.Place.Line,
			a.Place.Column-b.Place.Column, cmp.Compare(a.Object, b.Object), cmp.Compare(a.Code, b.Code))
	})
}

// Error joins the findings, so that a List can be returned as an error.
func (l List) Error() string {
	parts := make([]string, 0, len(l))
	for _, f := range l {
		parts = append(parts, f.Error())
	}
	return strings.Join(parts, "\n")
}

// HarmlessLines is Harmless for a text of several lines, whose ends and tabs stay.
func HarmlessLines(s string) string {
	lines := strings.Split(s, "\n")
	for i, line := range lines {
		cells := strings.Split(line, "\t")
		for n, cell := range cells {
			cells[n] = Harmless(cell)
		}
		lines[i] = strings.Join(cells, "\t")
	}
	return strings.Join(lines, "\n")
}

// Harmless makes text from outside safe for terminals, logs and files written
// for machines: control characters, terminal escapes, right-to-left marks and
// other invisible characters become visible escapes.
func Harmless(s string) string {
	safe := func(r rune) bool {
		switch {
		case r == 0xFFFD, r < 0x20, r >= 0x7f && r < 0xa0:
			return false
		case r >= 0x200b && r <= 0x200f, r >= 0x2028 && r <= 0x202e, r >= 0x2060 && r <= 0x206f,
			r == 0x061c, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe007f:
			return false
		}
		return true
	}
	clean := true
	for _, r := range s {
		if !safe(r) {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if safe(r) {
			b.WriteRune(r)
		} else {
			fmt.Fprintf(&b, "\\u{%x}", r)
		}
	}
	return b.String()
}
