package definition

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"stockade/core/fetch"
	"stockade/core/finding"
)

// Mended is a document of which something mechanical was mended.
type Mended struct {
	Name          string
	Before, After string
}

// Line is a line that was changed, taken out (New is empty) or put in (Old is).
type Line struct {
	Number   int // in the text before; of one that was put in: behind which
	Old, New string
}

// Mend mends what is mechanical in documents: a word for which a near one is meant, and a
// user with a password in an address, which becomes a credential without its secret. All
// else is a person's. Comments and the order of lines stay. What a finding says is compared
// with what stands in the text: where that is another, nothing is changed.
func Mend(texts []Text, found finding.List) (out []Mended) {
	for _, t := range texts {
		set, _ := Read(t)
		m := mender{set: set, lines: strings.Split(t.Text, "\n")}
		for _, f := range found {
			if f.Place.File == t.Name && f.Place.Line > 0 && f.Place.Line <= len(m.lines) {
				m.fixes = append(m.fixes, f)
			}
		}
		slices.SortStableFunc(m.fixes, func(a, b finding.Finding) int { // from the end, so that places stay
			if a.Place.Line != b.Place.Line {
				return b.Place.Line - a.Place.Line
			}
			return b.Place.Column - a.Place.Column
		})
		for _, f := range m.fixes {
			switch {
			case f.Fix.New != "":
				m.replace(f.Place, f.Fix.Old, f.Fix.New)
			case f.Code == finding.SourceCredentialInURL && strings.HasPrefix(f.Object, "source "):
				m.takeOut(f.Place, strings.TrimPrefix(f.Object, "source "))
			}
		}
		m.describe()
		if after := strings.Join(m.lines, "\n"); after != t.Text {
			out = append(out, Mended{t.Name, t.Text, after})
		}
	}
	return out
}

// Changed gives the lines that were changed, in order.
func (m Mended) Changed() []Line {
	var out []Line
	a, b := strings.Split(m.Before, "\n"), strings.Split(m.After, "\n")
	for i, k := 0, 0; i < len(a) || k < len(b); {
		switch {
		case i < len(a) && k < len(b) && a[i] == b[k]:
			i, k = i+1, k+1
		case k+1 < len(b) && i < len(a) && b[k+1] == a[i]: // one was put in
			out = append(out, Line{i, "", b[k]})
			k++
		case i >= len(a):
			out = append(out, Line{i, "", b[k]})
			k++
		case k >= len(b):
			out = append(out, Line{i + 1, a[i], ""})
			i++
		default:
			out = append(out, Line{i + 1, a[i], b[k]})
			i, k = i+1, k+1
		}
	}
	return slices.DeleteFunc(out, func(l Line) bool { return l.Old == l.New }) // empty ones
}

// mender mends one document. Lines are put in at the end, so that places stay.
type mender struct {
	set         *Set
	lines       []string
	fixes       []finding.Finding
	put         []insertion
	credentials []login // that were made
}

// login is a credential of a source: one user, of one or more of its servers.
type login struct {
	name, user string
	hosts      []string
}

func (l login) line() string {
	return fmt.Sprintf("  %s: {kind: login, user: %q, hosts: [%s]}", l.name, l.user,
		strings.Join(l.hosts, ", "))
}

// insertion is a line that is put in behind another.
type insertion struct {
	behind int // from 0
	text   string
}

// replace puts one word in place of another, where that stands: as it is, or in quotes.
func (m *mender) replace(at finding.Place, old, new string) {
	line := m.lines[at.Line-1]
	from := byteOf(line, at.Column)
	if from < 0 {
		return
	}
	rest := line[from:]
	for _, quote := range []string{"", `"`, "'"} {
		if after, ok := strings.CutPrefix(rest, quote+old+quote); ok && ends(after, quote) {
			m.lines[at.Line-1] = line[:from] + quote + new + quote + after
			return
		}
	}
}

// ends tells whether a word without quotes ends there.
func ends(after, quote string) bool {
	return quote != "" || after == "" || strings.ContainsRune(" \t\r,:]}#", rune(after[0]))
}

// byteOf gives where a column (from 1, in characters) begins; -1: the line is shorter.
func byteOf(line string, column int) int {
	at := 0
	for range column - 1 {
		_, n := utf8.DecodeRuneInString(line[at:])
		if n == 0 {
			return -1
		}
		at += n
	}
	return at
}

// userIn finds user and password in an address.
var userIn = regexp.MustCompile(`(https?://)([^/@\s"'{}\[\],]+)@([^/\s"'{}\[\],]+)`)

// takeOut takes user and password out of an address, and has its source name a credential for the
// server, where it is written a field a line.
func (m *mender) takeOut(at finding.Place, source string) {
	line := m.lines[at.Line-1]
	from := byteOf(line, at.Column)
	if from < 0 {
		return
	}
	parts := userIn.FindStringSubmatch(line[from:])
	if parts == nil {
		return
	}
	m.lines[at.Line-1] = line[:from] + strings.Replace(line[from:], parts[0], parts[1]+parts[3], 1)
	user, err := url.PathUnescape(strings.SplitN(parts[2], ":", 2)[0])
	host := strings.ToLower(parts[3])
	name, head := source+"-login", m.set.Places["sources."+source].Line-1
	indent := m.fieldsOf(source, head)
	_, taken := m.set.Credentials[name]
	if err != nil || parts[1] != "https://" || fetch.CheckHost(host) != nil || strings.Contains(host, "$") ||
		indent == "" || !IsName(name) || taken {
		return // the address is mended; the rest is told by the next check
	}
	if i := slices.IndexFunc(m.credentials, func(l login) bool { return l.name == name }); i >= 0 {
		if l := &m.credentials[i]; l.user == user && !slices.Contains(l.hosts, strconv.Quote(host)) {
			l.hosts = slices.Insert(l.hosts, 0, strconv.Quote(host)) // from the end
		}
		return
	}
	for i := head + 1; i < len(m.lines) && strings.HasPrefix(m.lines[i], indent); i++ {
		if strings.HasPrefix(strings.TrimSpace(m.lines[i]), "credentials:") {
			return
		}
	}
	m.put = append(m.put, insertion{head, indent + "credentials: [" + name + "]"})
	m.credentials = append(m.credentials, login{name, user, []string{strconv.Quote(host)}})
}

// fieldsOf tells how the fields of a source are indented that is written a field a line from a
// line on; "" where it is not.
func (m *mender) fieldsOf(source string, head int) string {
	if head < 0 || head+1 >= len(m.lines) {
		return ""
	}
	line, next := m.lines[head], m.lines[head+1]
	indent := next[:len(next)-len(strings.TrimLeft(next, " "))]
	if strings.TrimSpace(strings.SplitN(line, "#", 2)[0]) != source+":" ||
		len(indent) <= len(line)-len(strings.TrimLeft(line, " ")) {
		return ""
	}
	return indent
}

// describe puts the lines in, and the credentials that were made below those that there are, or
// at the end; each ends as the first line does.
func (m *mender) describe() {
	end := ""
	if strings.HasSuffix(m.lines[0], "\r") {
		end = "\r"
	}
	at := slices.IndexFunc(m.lines,
		func(l string) bool { return strings.TrimRight(l, " \r") == "credentials:" })
	var last []string
	for _, l := range m.credentials {
		if at >= 0 {
			m.put = append(m.put, insertion{at, l.line()})
		} else {
			last = append(last, l.line()+end)
		}
	}
	slices.SortStableFunc(m.put, func(a, b insertion) int { return b.behind - a.behind })
	for _, p := range m.put {
		m.lines = slices.Insert(m.lines, p.behind+1, p.text+end)
	}
	if len(last) == 0 {
		return
	}
	for len(m.lines) > 0 && strings.TrimSpace(m.lines[len(m.lines)-1]) == "" {
		m.lines = m.lines[:len(m.lines)-1]
	}
	slices.Reverse(last) // they were made from the end
	m.lines = append(append(append(m.lines, end, "credentials:"+end), last...), "")
}
