package deb

import (
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// ParseRelations reads a relationship field (Debian Policy §7.1): clauses
// separated by commas, alternatives by bars. Architecture restrictions and
// build profiles do not occur in binary indexes and are refused.
func ParseRelations(field string) ([]archive.Clause, error) {
	var clauses []archive.Clause
	parts := strings.Split(field, ",")
	for i, part := range parts {
		if strings.TrimSpace(part) == "" {
			if i == len(parts)-1 {
				continue // a trailing comma is allowed in practice
			}
			return nil, archive.Ambiguous("there is nothing between two commas of the "+
				"relations %q",
				text.Cut(field, 120))
		}
		var clause archive.Clause
		for alt := range strings.SplitSeq(part, "|") {
			r, err := parseRelation(strings.TrimSpace(alt))
			if err != nil {
				return nil, err
			}
			clause = append(clause, r)
		}
		clauses = append(clauses, clause)
	}
	return clauses, nil
}

func parseRelation(s string) (archive.Relation, error) {
	var r archive.Relation
	fail := func(why string) (archive.Relation, error) {
		return r, finding.New(finding.SourceMalformedIndex, "", "the relation %q %s", text.Cut(s, 120),
			why)
	}
	if open := strings.IndexByte(s, '('); open >= 0 {
		inner, rest, ok := strings.Cut(s[open+1:], ")")
		if !ok {
			return fail("has no closing parenthesis")
		}
		if strings.TrimSpace(rest) != "" {
			return fail("has text after its version")
		}
		inner = strings.TrimSpace(inner)
		n := len(inner) - len(strings.TrimLeft(inner, "<>="))
		switch inner[:n] {
		case "<<":
			r.Op = archive.Less
		case "<=", "<": // "<" is the old spelling of "<="
			r.Op = archive.LessOrEqual
		case "=":
			r.Op = archive.Equal
		case ">=", ">":
			r.Op = archive.GreaterOrEqual
		case ">>":
			r.Op = archive.Greater
		default:
			return fail("has an unknown comparison")
		}
		r.Version = strings.TrimSpace(inner[n:])
		if err := CheckVersion(r.Version); err != nil {
			return fail("has an invalid version: " + err.Error())
		}
		s = strings.TrimSpace(s[:open])
	}
	name, qualifier, qualified := strings.Cut(s, ":")
	r.Name, r.Qualifier = name, qualifier
	switch {
	case r.Name == "" || strings.ContainsAny(s, " \t\n[]<>()"):
		return fail("has no valid package name")
	case qualified && !archPattern.MatchString(qualifier):
		return fail("has an invalid architecture qualifier")
	}
	return r, archive.CheckName(r.Name)
}

// ParseProvides reads a Provides field of a package of an architecture: names, each perhaps with
// "= version". A name that is qualified with another architecture, which apt takes as provided for
// that one, is left out: what is proved then is never more than what apt does.
func ParseProvides(field, arch string) ([]archive.Provide, error) {
	clauses, err := ParseRelations(field)
	if err != nil {
		return nil, err
	}
	out := make([]archive.Provide, 0, len(clauses))
	for _, c := range clauses {
		switch r := c[0]; {
		case len(c) > 1:
			return nil, archive.Ambiguous("a Provides entry has alternatives: %q", c.String())
		case r.Op != archive.Any && r.Op != archive.Equal:
			return nil, archive.Ambiguous("a Provides entry has a comparison instead of one "+
				"version: %q",
				r.String())
		case r.Qualifier != "" && r.Qualifier != anyArch && !slices.Contains(architectures, r.Qualifier):
			return nil, archive.Ambiguous("a Provides entry has an invalid architecture "+
				"qualifier: %q",
				r.String())
		case r.Qualifier != "" && r.Qualifier != arch:
		default:
			out = append(out, archive.Provide{Name: r.Name, Op: r.Op, Version: r.Version})
		}
	}
	return out, nil
}

// needs keeps the relationship fields of a stanza as text until they are asked for.
type needs struct {
	owner                                                                  string
	preDepends, depends, recommends, suggests, conflicts, breaks, replaces string
}

// Relations implements archive.RelationSource.
func (n *needs) Relations() (archive.Relations, error) {
	var out archive.Relations
	add := func(field, text string, to *[]archive.Clause) error {
		if text == "" {
			return nil
		}
		c, err := ParseRelations(text)
		if f, ok := finding.From(err); ok {
			f.Object = "package " + n.owner
			f.Text = field + ": " + f.Text
			return f
		}
		*to = append(*to, c...)
		return err
	}
	var against, replaced []archive.Clause
	for _, x := range []struct {
		field, text string
		to          *[]archive.Clause
	}{
		{"Pre-Depends", n.preDepends, &out.Requires}, {"Depends", n.depends, &out.Requires},
		{"Recommends", n.recommends, &out.Recommends}, {"Suggests", n.suggests, &out.Suggests},
		{"Conflicts", n.conflicts, &against}, {"Breaks", n.breaks, &against},
	} {
		if err := add(x.field, x.text, x.to); err != nil {
			return out, err
		}
	}
	for _, c := range against {
		if len(c) > 1 {
			f, _ := finding.From(archive.Ambiguous("a Conflicts or Breaks entry has "+
				"alternatives: %q", c.String()))
			f.Object = "package " + n.owner
			return out, f
		}
		out.Conflicts = append(out.Conflicts, c...)
	}
	if len(against) == 0 {
		return out, nil // what is replaced is then files alone (Debian Policy §7.6)
	}
	if err := add("Replaces", n.replaces, &replaced); err != nil {
		return out, err
	}
	for _, c := range replaced { // with alternatives it says nothing that a machine would act on
		if len(c) == 1 {
			out.Replaces = append(out.Replaces, c...)
		}
	}
	return out, nil
}
