package deb

import (
	"bytes"
	"fmt"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// opWords are the comparisons as Debian Policy §7.1 writes them.
var opWords = map[archive.Op]string{
	archive.Less:           "<<",
	archive.LessOrEqual:    "<=",
	archive.Equal:          "=",
	archive.GreaterOrEqual: ">=",
	archive.Greater:        ">>",
}

func writeRelation(b *strings.Builder, r archive.Relation) {
	b.WriteString(r.Name)
	if r.Qualifier != "" {
		b.WriteString(":" + r.Qualifier)
	}
	if r.Op != archive.Any {
		b.WriteString(" (" + opWords[r.Op] + " " + r.Version + ")")
	}
}

// relationText writes clauses as a relationship field.
func relationText(clauses []archive.Clause) string {
	var b strings.Builder
	for i, c := range clauses {
		if i > 0 {
			b.WriteString(", ")
		}
		for k, r := range c {
			if k > 0 {
				b.WriteString(" | ")
			}
			writeRelation(&b, r)
		}
	}
	return b.String()
}

func provideText(all []archive.Provide) string {
	var b strings.Builder
	for i, p := range all {
		if i > 0 {
			b.WriteString(", ")
		}
		writeRelation(&b, archive.Relation{Name: p.Name, Op: p.Op, Version: p.Version})
	}
	return b.String()
}

// notCarried are fields that a written index does without: digests that nobody
// should rely on, and the name of a translation that is not carried.
var notCarried = map[string]bool{"md5sum": true, "sha1": true, "description-md5": true}

// writer writes the entries of an index.
type writer struct {
	fieldReader
	bytes.Buffer
}

// stanza writes the stanza of a package anew, from what was parsed of it: the
// fields that are interpreted as they were understood, the others in one plain
// form, so that nothing travels on that another reader could understand in
// another way. raw is the stanza as upstream has it.
func (w *writer) stanza(p *archive.Package, raw []byte) error {
	err := w.each(raw, func(name, value []byte) error {
		if notCarried[string(name)] {
			return nil
		}
		text, err := w.understood(p, string(name), value)
		if err != nil {
			return err
		}
		if text == "" && len(value) > 0 {
			text = plainText(value)
		}
		if text != "" {
			fmt.Fprintf(w, "%s: %s\n", spelled(string(name)), text)
		}
		return nil
	})
	w.WriteByte('\n')
	return err
}

// understood gives the value of a field out of what was parsed; empty for a field
// that is not interpreted.
func (w *writer) understood(p *archive.Package, name string, value []byte) (string, error) {
	switch name {
	case "package":
		return p.Name, nil
	case "version":
		return p.Version, nil
	case "architecture":
		return p.Arch, nil
	case "filename":
		return p.Path, nil
	case "size":
		return strconv.FormatInt(p.Size, 10), nil
	case "sha256":
		return p.SHA256, nil
	case "sha512":
		return p.SHA512, nil
	case "provides":
		return provideText(p.Provides), nil
	case "depends", "pre-depends", "recommends", "suggests", "enhances", "conflicts", "breaks", "replaces":
		clauses, err := ParseRelations(string(value))
		return relationText(clauses), err
	}
	return "", nil
}

// plainText writes a value with each further line behind one blank, an empty one
// as a dot (Debian Policy §5.6.13), and nothing in it but text.
func plainText(value []byte) string {
	var b strings.Builder
	for i, line := range strings.Split(string(value), "\n") {
		line = finding.Harmless(strings.ReplaceAll(strings.TrimRight(line, " \t\r"), "\t", " "))
		if i > 0 {
			line = strings.TrimPrefix(line, " ")
			if strings.TrimSpace(line) == "" {
				line = "."
			}
			b.WriteString("\n ")
		}
		b.WriteString(line)
	}
	return b.String()
}

// spelled gives the name of a field as it is usually written.
func spelled(name string) string {
	switch name {
	case "sha256", "sha512":
		return strings.ToUpper(name)
	}
	out := []byte(name)
	for i := range out {
		if (i == 0 || out[i-1] == '-') && out[i] >= 'a' && out[i] <= 'z' {
			out[i] -= 'a' - 'A'
		}
	}
	return string(out)
}
