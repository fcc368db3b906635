package rpm

import (
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Limits on boolean requirements. The longest that the real archives were seen
// to have is under 2,000 bytes.
const (
	maxRichText     = 16 << 10 // bytes
	maxRichDepth    = 16
	maxRichOperands = 512
	maxRichClauses  = 1024   // that one requirement becomes
	maxRichLiterals = 16_384 // in all of them
)

// expression is a boolean requirement, or (with no operator) one relation.
type expression struct {
	op   string // "", and, or, if, unless, with, without
	leaf archive.Relation
	// args are as many as are chained for and, or, with; two for the others, and
	// a third one behind else.
	args []*expression
}

// ParseRich reads a boolean requirement, "(A if (B and C))" (rpm's boolean
// dependencies), into clauses that must all hold. Where negate is set, the
// clauses say that it does not hold, which is what a conflict asks.
func ParseRich(s string, negate bool) ([]archive.Clause, error) {
	p := &richParser{rest: strings.TrimSpace(s), whole: s}
	if len(s) > maxRichText {
		return nil, p.tooLarge("is longer than %d bytes", maxRichText)
	}
	e, err := p.group(0)
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(p.rest) != "" {
		return nil, p.bad("has text after its end")
	}
	return p.clauses(e, negate)
}

// ParseRequirement reads a boolean requirement of a package of that name into clauses that must all hold.
//
// What it requires not to be there can be the package itself, "(A unless self)", which is there
// whenever the requirement is asked: such a requirement is met by nothing. A conflict of a package
// with itself, on the other hand, means nothing, and is for ParseRich.
func ParseRequirement(s, owner string) ([]archive.Clause, error) {
	all, err := ParseRich(s, false)
	if err != nil {
		return nil, err
	}
	for i, c := range all {
		if slices.ContainsFunc(c, func(r archive.Relation) bool { return !r.Not }) {
			continue
		}
		rest := slices.DeleteFunc(slices.Clone(c), func(r archive.Relation) bool {
			return r.Name == owner && r.Op == archive.Any
		})
		if len(rest) == 0 {
			rest = archive.Clause{{Name: s}} // a name that nothing has
		}
		all[i] = rest
	}
	return all, nil
}

type richParser struct {
	rest, whole string
	operands    int
}

func (p *richParser) tooLarge(format string, args ...any) error {
	return finding.New(finding.ContentTooLarge, "", "the requirement %q "+format,
		append([]any{text.Cut(p.whole, 120)}, args...)...)
}

func (p *richParser) bad(why string) error {
	return finding.New(finding.SourceMalformedIndex, "", "the requirement %q %s", text.Cut(p.whole, 120), why)
}

func (p *richParser) space() { p.rest = strings.TrimLeft(p.rest, " \t") }

func (p *richParser) group(depth int) (*expression, error) {
	if depth > maxRichDepth {
		return nil, p.bad("is nested too deep")
	}
	if !strings.HasPrefix(p.rest, "(") {
		return nil, p.bad("does not begin with a parenthesis")
	}
	p.rest = p.rest[1:]
	left, err := p.operand(depth)
	if err != nil {
		return nil, err
	}
	chain := ""
	for n := 0; ; n++ {
		p.space()
		if rest, ok := strings.CutPrefix(p.rest, ")"); ok {
			p.rest = rest
			return left, nil
		}
		op := p.word()
		switch op {
		case "and", "or", "with":
		case "if", "unless", "without":
			if n > 0 {
				return nil, p.bad("chains " + op)
			}
		default:
			return nil, p.bad("has an unknown operator")
		}
		if chain != "" && chain != op {
			return nil, p.bad("mixes operators without parentheses")
		}
		chain = op
		p.space()
		right, err := p.operand(depth)
		if err != nil {
			return nil, err
		}
		if n > 0 { // a chain of one operator is one expression
			left.args = append(left.args, right)
			continue
		}
		e := &expression{op: op, args: []*expression{left, right}}
		if op == "if" || op == "unless" {
			p.space()
			if strings.HasPrefix(p.rest, "else ") || strings.HasPrefix(p.rest, "else(") {
				p.rest = p.rest[len("else"):]
				p.space()
				other, err := p.operand(depth)
				if err != nil {
					return nil, err
				}
				e.args = append(e.args, other)
			}
		}
		left = e
	}
}

func (p *richParser) word() string {
	i := 0
	for i < len(p.rest) && isAlpha(p.rest[i]) {
		i++
	}
	w := p.rest[:i]
	p.rest = p.rest[i:]
	return w
}

// token takes what goes to the next blank, or to a parenthesis that closes more
// than the token opened: names may have parentheses in them.
func (p *richParser) token() string {
	open := 0
	for i := 0; i < len(p.rest); i++ {
		switch p.rest[i] {
		case ' ', '\t':
			t := p.rest[:i]
			p.rest = p.rest[i:]
			return t
		case '(':
			open++
		case ')':
			if open == 0 {
				t := p.rest[:i]
				p.rest = p.rest[i:]
				return t
			}
			open--
		}
	}
	t := p.rest
	p.rest = ""
	return t
}

func (p *richParser) operand(depth int) (*expression, error) {
	if p.operands++; p.operands > maxRichOperands {
		return nil, p.tooLarge("has more than %d operands", maxRichOperands)
	}
	p.space()
	if strings.HasPrefix(p.rest, "(") {
		return p.group(depth + 1)
	}
	r := archive.Relation{Name: p.token()}
	if r.Name == "" {
		return nil, p.bad("lacks a name")
	}
	p.space()
	if n := len(p.rest) - len(strings.TrimLeft(p.rest, "<>=")); n > 0 {
		op, ok := operators[p.rest[:n]]
		if !ok {
			return nil, p.bad("has an unknown comparison")
		}
		p.rest = p.rest[n:]
		p.space()
		if r.Op, r.Version = op, p.token(); r.Version == "" {
			return nil, p.bad("lacks a version")
		}
	}
	return &expression{leaf: r}, nil
}

var operators = map[string]archive.Op{
	"<":  archive.Less,
	"<=": archive.LessOrEqual,
	"=":  archive.Equal,
	"==": archive.Equal,
	">=": archive.GreaterOrEqual,
	">":  archive.Greater,
}

// clauses writes an expression as clauses, or its negation. How deep it calls
// itself is how deep the requirement is nested.
func (p *richParser) clauses(e *expression, negate bool) ([]archive.Clause, error) {
	both := func(a, b *expression, na, nb, all bool) ([]archive.Clause, error) {
		x, err := p.clauses(a, na)
		if err != nil {
			return nil, err
		}
		y, err := p.clauses(b, nb)
		if err != nil {
			return nil, err
		}
		if all {
			return p.bounded(append(x, y...))
		}
		return p.either(x, y)
	}
	switch e.op {
	case "":
		r := e.leaf
		r.Not = negate
		return []archive.Clause{{r}}, nil
	case "with", "without":
		return p.together(e, negate)
	case "and", "or":
		return p.chained(e.args, negate, (e.op == "and") != negate)
	case "if": // B → A; with else also ¬B → C
		a, b := e.args[0], e.args[1]
		if len(e.args) == 2 {
			return both(a, b, negate, !negate, negate)
		}
		c := e.args[2]
		if !negate {
			x, err := both(a, b, false, true, false)
			if err != nil {
				return nil, err
			}
			y, err := both(c, b, false, false, false) // what stands behind else is meant first
			return append(x, y...), err
		}
		// not ((¬B ∨ A) ∧ (B ∨ C)) is (B ∧ ¬A) ∨ (¬B ∧ ¬C)
		return p.eitherOf(
			func() ([]archive.Clause, error) { return both(b, a, false, true, true) },
			func() ([]archive.Clause, error) { return both(b, c, true, true, true) })
	case "unless": // A ∧ ¬B; with else that, or C ∧ B
		a, b := e.args[0], e.args[1]
		if len(e.args) == 2 {
			return both(a, b, negate, !negate, !negate)
		}
		c := e.args[2]
		if !negate {
			return p.eitherOf(
				func() ([]archive.Clause, error) { return both(a, b, false, true, true) },
				func() ([]archive.Clause, error) { return both(c, b, false, false, true) })
		}
		x, err := both(a, b, true, false, false)
		if err != nil {
			return nil, err
		}
		y, err := both(c, b, true, true, false)
		return append(x, y...), err
	}
	return nil, p.bad("has an unknown operator")
}

func (p *richParser) eitherOf(f, g func() ([]archive.Clause, error)) ([]archive.Clause, error) {
	x, err := f()
	if err != nil {
		return nil, err
	}
	y, err := g()
	if err != nil {
		return nil, err
	}
	return p.either(x, y)
}

// chained gives the clauses of all that are chained, or of any of them.
func (p *richParser) chained(args []*expression, negate, all bool) ([]archive.Clause, error) {
	var out []archive.Clause
	var plain archive.Clause // relations that are alternatives to each other
	for _, a := range args {
		x, err := p.clauses(a, negate)
		switch {
		case err != nil:
			return nil, err
		case all:
			out = append(out, x...)
			if _, err = p.bounded(out); err != nil {
				return nil, err
			}
		case len(x) == 1:
			plain = append(plain, x[0]...)
		case out == nil:
			out = x
		default:
			if out, err = p.either(out, x); err != nil {
				return nil, err
			}
		}
	}
	switch {
	case all || plain == nil:
		return out, nil
	case out == nil:
		return p.bounded([]archive.Clause{plain})
	}
	return p.either(out, []archive.Clause{plain})
}

// either gives the clauses of x or y.
func (p *richParser) either(x, y []archive.Clause) ([]archive.Clause, error) {
	if len(x)*len(y) > maxRichClauses || literals(x)*len(y)+literals(y)*len(x) > maxRichLiterals {
		return nil, p.tooLarge("has too many cases")
	}
	var out []archive.Clause
	for _, a := range x {
		for _, b := range y {
			out = append(out, slices.Concat(a, b))
		}
	}
	return out, nil
}

func literals(all []archive.Clause) (n int) {
	for _, c := range all {
		n += len(c)
	}
	return n
}

func (p *richParser) bounded(all []archive.Clause) ([]archive.Clause, error) {
	if len(all) > maxRichClauses || literals(all) > maxRichLiterals {
		return nil, p.tooLarge("has too many cases")
	}
	return all, nil
}

// together reads "with" and "without", which are about one package: each way in
// which the first side holds, with all that the others ask of the same package.
func (p *richParser) together(e *expression, negate bool) ([]archive.Clause, error) {
	sides := make([]archive.Clause, len(e.args))
	for i, a := range e.args {
		x, err := p.clauses(a, false)
		if err != nil {
			return nil, err
		}
		if len(x) != 1 {
			return nil, p.bad("has a condition that two packages could satisfy, where one must")
		}
		if x[0].Conditional() {
			return nil, p.bad("has a condition inside with")
		}
		sides[i] = x[0]
	}
	out := sides[0]
	for _, side := range sides[1:] {
		if e.op == "without" {
			out = without(out, side)
		} else {
			out = with(out, side)
		}
		total := len(out)
		for _, r := range out {
			total += len(r.Also)
		}
		if total > maxRichLiterals {
			return nil, p.tooLarge("has too many cases")
		}
	}
	if !negate {
		return []archive.Clause{out}, nil
	}
	var none []archive.Clause
	for _, r := range out {
		r.Not = true
		none = append(none, archive.Clause{r})
	}
	return none, nil
}

// with gives each of the one side together with each of the other.
func with(left, right archive.Clause) (out archive.Clause) {
	for _, l := range left {
		for _, r := range right {
			w := l
			w.Also = append(slices.Clone(l.Also), r)
			out = append(out, w)
		}
	}
	return out
}

// without gives each of the one side together with none of the other.
func without(left, right archive.Clause) (out archive.Clause) {
	for _, l := range left {
		l.Also = slices.Clone(l.Also)
		for _, r := range right {
			r.Not = true
			l.Also = append(l.Also, r)
		}
		out = append(out, l)
	}
	return out
}

// kinds of entries in needs.
const (
	kindRequires    = 'r'
	kindBefore      = 'b' // required already while the package is being installed
	kindConflicts   = 'c'
	kindObsoletes   = 'o'
	kindRecommends  = 'w'
	kindSuggests    = 's'
	kindSupplements = 'S'
	kindEnhances    = 'E'
)

// needs keeps the relations of a package as one compact text until they are
// asked for: for each a kind, a comparison, the name, and behind a unit
// separator the version; each ended by a line feed.
type needs struct {
	owner string
	text  string
}

var opLetters = map[archive.Op]byte{
	archive.Any:            ' ',
	archive.Less:           '<',
	archive.LessOrEqual:    'l',
	archive.Equal:          '=',
	archive.GreaterOrEqual: 'g',
	archive.Greater:        '>',
}
var letterOps = map[byte]archive.Op{
	' ': archive.Any,
	'<': archive.Less,
	'l': archive.LessOrEqual,
	'=': archive.Equal,
	'g': archive.GreaterOrEqual,
	'>': archive.Greater,
}

func pack(to []byte, kind byte, r archive.Relation) []byte {
	to = append(to, kind, opLetters[r.Op])
	to = append(to, r.Name...)
	if r.Op != archive.Any {
		to = append(to, 0x1f)
		to = append(to, r.Version...)
	}
	return append(to, '\n')
}

func unpackLine(line string) (kind byte, r archive.Relation, ok bool) {
	if len(line) < 3 {
		return 0, r, false
	}
	r.Op = letterOps[line[1]]
	r.Name, r.Version, _ = strings.Cut(line[2:], "\x1f")
	return line[0], r, true
}

// Relations implements archive.RelationSource.
func (n *needs) Relations() (archive.Relations, error) {
	var out archive.Relations
	for line := range strings.SplitSeq(n.text, "\n") {
		kind, r, ok := unpackLine(line)
		if !ok {
			continue
		}
		all := []archive.Clause{{r}}
		rich := strings.HasPrefix(r.Name, "(")
		if rich {
			var err error
			if kind == kindRequires || kind == kindBefore {
				all, err = ParseRequirement(r.Name, n.owner)
			} else {
				all, err = ParseRich(r.Name, kind == kindConflicts)
			}
			if err != nil {
				f, _ := finding.From(err)
				f.Object = "package " + n.owner
				return out, f
			}
		}
		switch kind {
		case kindRequires, kindBefore:
			out.Requires = append(out.Requires, all...)
		case kindRecommends:
			out.Recommends = append(out.Recommends, all...)
		case kindSuggests:
			out.Suggests = append(out.Suggests, all...)
		case kindSupplements:
			out.Supplements = append(out.Supplements, all)
		case kindEnhances:
			out.Enhances = append(out.Enhances, all)
		case kindConflicts:
			if rich {
				out.Requires = append(out.Requires, all...)
			} else {
				out.Conflicts = append(out.Conflicts, r)
			}
		case kindObsoletes:
			// What is obsoleted cannot stay beside; only real names are meant.
			r.Real = true
			out.Conflicts = append(out.Conflicts, r)
			out.Replaces = append(out.Replaces, r)
		}
	}
	return out, nil
}
