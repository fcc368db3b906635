package archive

import (
	"fmt"
	"path"
	"regexp"
	"strings"
)

// Op is the comparison in a relation. The empty Op means any version.
type Op string

// The comparisons that relations and wants may use.
const (
	Any            Op = ""
	Less           Op = "<"
	LessOrEqual    Op = "<="
	Equal          Op = "="
	GreaterOrEqual Op = ">="
	Greater        Op = ">"
)

// Holds tells whether a comparison result (negative, zero, positive) satisfies op.
func (op Op) Holds(cmp int) bool {
	switch op {
	case Less:
		return cmp < 0
	case LessOrEqual:
		return cmp <= 0
	case Equal:
		return cmp == 0
	case GreaterOrEqual:
		return cmp >= 0
	case Greater:
		return cmp > 0
	}
	return true
}

// Relation is one alternative of a need: a name, perhaps bound to a version
// and to an architecture qualifier ("any", "native", or an architecture).
type Relation struct {
	Name, Qualifier string
	Op              Op
	Version         string
	Not             bool       // met when nothing that meets the rest is installed
	Real            bool       // met only by a package of that very name, not by one that provides it
	Also            []Relation // the same package must meet (or, with Not, not meet) these too
}

// String writes the relation as people write it: "name:arch >= version".
func (r Relation) String() string {
	s := r.Name
	if r.Not {
		s = "not " + s
	}
	if r.Qualifier != "" {
		s += ":" + r.Qualifier
	}
	if r.Op != Any {
		s += " " + string(r.Op) + " " + r.Version
	}
	for _, a := range r.Also {
		if a.Not {
			a.Not = false
			s += " without " + a.String()
		} else {
			s += " with " + a.String()
		}
	}
	return s
}

// Clause is satisfied when one of its relations is.
type Clause []Relation

// String joins the alternatives with " or ".
func (c Clause) String() string {
	parts := make([]string, len(c))
	for i, r := range c {
		parts[i] = r.String()
	}
	return strings.Join(parts, " or ")
}

// Conditional tells whether the clause asks for something only while something
// else is installed.
func (c Clause) Conditional() bool {
	for _, r := range c {
		if r.Not {
			return true
		}
	}
	return false
}

// Provide is a name that a package also answers to, perhaps in a version. What
// a versioned relation makes of it is the family's to say (Matching.Meets).
type Provide struct {
	Name    string
	Op      Op
	Version string
}

// Includes tells whether a bound includes its own version.
func (o Op) Includes() bool { return o == Equal || o == LessOrEqual || o == GreaterOrEqual }

// Overlap tells whether some version satisfies both of two bounds, cmp being
// how the first's version compares with the second's.
func Overlap(a Op, cmp int, b Op) bool {
	switch {
	case a == Any || b == Any:
		return true
	case cmp < 0:
		return a == Greater || a == GreaterOrEqual || b == Less || b == LessOrEqual
	case cmp > 0:
		return a == Less || a == LessOrEqual || b == Greater || b == GreaterOrEqual
	}
	down := func(o Op) bool { return o == Less || o == LessOrEqual }
	up := func(o Op) bool { return o == Greater || o == GreaterOrEqual }
	return a.Includes() && b.Includes() || down(a) && down(b) || up(a) && up(b)
}

// Relations are what a package asks of others.
type Relations struct {
	Requires   []Clause // must be there for the package to be installed
	Recommends []Clause
	Suggests   []Clause
	Conflicts  []Relation // may not be there at the same time
	Replaces   []Relation // may be taken away, where they are installed, for the package's sake
	// Supplements and Enhances are recommendations and suggestions backward: the
	// package offers itself when one of these holds (all clauses of it).
	Supplements, Enhances [][]Clause
}

// RelationSource yields the relations of a package when somebody asks, so that
// reading an index of 65,000 packages does not parse what nobody looks at.
type RelationSource interface {
	// Relations parses what the index said. An error names the field.
	Relations() (Relations, error)
}

var comparison = regexp.MustCompile(`^(.*?)([<>=]+)(.*)$`)

// ParseWant reads "name", "name >= version" or a pattern with * and ?.
func ParseWant(s string) (Relation, error) {
	f := strings.Fields(s)
	switch len(f) {
	case 1:
		if strings.ContainsAny(f[0], "<>=") {
			return Relation{}, fmt.Errorf("%q: put spaces around the comparison, as in %q", s,
				strings.TrimSpace(comparison.ReplaceAllString(f[0], "$1 $2 $3")))
		}
		return Relation{Name: f[0]}, nil
	case 3:
		op := Op(f[1])
		switch op {
		case Less, LessOrEqual, Equal, GreaterOrEqual, Greater:
			return Relation{Name: f[0], Op: op, Version: f[2]}, nil
		}
		return Relation{}, fmt.Errorf("%q: the comparison %q is not one of < <= = >= >", s, f[1])
	}
	return Relation{}, fmt.Errorf("%q is not NAME or NAME COMPARISON VERSION", s)
}

// Matches tells whether a name is one that a pattern of a definition is about: itself, or what *, ?
// and [ stand for. A pattern that cannot be read is about nothing.
func Matches(pattern, name string) bool {
	ok, err := path.Match(pattern, name)
	return err == nil && ok
}
