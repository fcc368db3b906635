package main

import (
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"sort"
	"strings"
)

// Kind is what sort of change is made.
type Kind string

// The kinds of change.
const (
	Refusal   Kind = "refusal"   // a condition under which an error is made never holds
	Passing   Kind = "passing"   // an error that came back is not passed on
	Condition Kind = "condition" // a condition never holds, or always
	Operand   Kind = "operand"   // one side of && or || is left out
	Boundary  Kind = "boundary"  // < becomes <=, and the like
	Statement Kind = "statement" // a statement is left out
	Case      Kind = "case"      // a case does nothing
	Result    Kind = "result"    // an error that is returned is nil, a truth its contrary
)

// Change is one small change to the code, which a switch turns on as the program runs.
type Change struct {
	ID     int
	Kind   Kind
	File   string
	Line   int
	Column int
	Text   string // what is changed, and into what
	within string // the function
}

// String tells where it is and what it does.
func (c Change) String() string {
	return fmt.Sprintf("%s:%d:%d: %s: %s", c.File, c.Line, c.Column, c.Kind, c.Text)
}

// insertion is text that is put into a file. None has a line's end, so that each line
// keeps its number.
type insertion struct {
	at   int
	text string
}

// changer finds what can be changed in one file, and writes the file with a switch for
// each change. The switch of a condition is asked only where turning it would make the
// condition another: a test that never sees this reaches the change no more than one that
// does not come there.
type changer struct {
	set     *token.FileSet
	name    string
	source  []byte
	next    func(Change) (id int, ok bool)
	edits   []insertion
	results []*ast.FieldList // of the functions around
	within  string
}

// changed gives a file with a switch for each change that next gives a number.
func changed(name string, source []byte, next func(Change) (int, bool)) ([]byte, error) {
	set := token.NewFileSet()
	file, err := parser.ParseFile(set, name, source, parser.ParseComments|parser.SkipObjectResolution)
	if err != nil {
		return nil, err
	}
	c := &changer{set: set, name: name, source: source, next: next}
	for _, d := range file.Decls {
		switch d := d.(type) {
		case *ast.FuncDecl:
			c.within = d.Name.Name
			if d.Body != nil {
				c.function(d.Type, d.Body)
			}
		case *ast.GenDecl:
			c.within = ""
			if d.Tok == token.VAR {
				c.literals(d)
			}
		}
	}
	sort.SliceStable(c.edits, func(i, j int) bool { return c.edits[i].at < c.edits[j].at })
	var out []byte
	from := 0
	for _, e := range c.edits {
		out = append(append(out, source[from:e.at]...), e.text...)
		from = e.at
	}
	return append(out, source[from:]...), nil
}

func (c *changer) offset(p token.Pos) int { return c.set.Position(p).Offset }

func (c *changer) text(n ast.Node) string {
	return string(c.source[c.offset(n.Pos()):c.offset(n.End())])
}

func (c *changer) put(p token.Pos, format string, args ...any) {
	c.edits = append(c.edits, insertion{c.offset(p), fmt.Sprintf(format, args...)})
}

// ask numbers a change at a node.
func (c *changer) ask(kind Kind, at ast.Node, format string, args ...any) (int, bool) {
	p := c.set.Position(at.Pos())
	text := strings.Join(strings.Fields(fmt.Sprintf(format, args...)), " ")
	if len(text) > 120 {
		text = text[:117] + "..."
	}
	return c.next(Change{Kind: kind, File: c.name, Line: p.Line, Column: p.Column, Text: text,
		within: c.within})
}

func (c *changer) function(t *ast.FuncType, body *ast.BlockStmt) {
	c.results = append(c.results, t.Results)
	c.statements(body.List)
	c.results = c.results[:len(c.results)-1]
}

// literals looks for functions inside a node that is no statement.
func (c *changer) literals(n ast.Node) {
	ast.Inspect(n, func(n ast.Node) bool {
		if f, ok := n.(*ast.FuncLit); ok {
			c.function(f.Type, f.Body)
			return false
		}
		return true
	})
}

func (c *changer) statements(list []ast.Stmt) {
	for _, s := range list {
		c.statement(s)
	}
}

func (c *changer) statement(s ast.Stmt) {
	switch s := s.(type) {
	case *ast.BlockStmt:
		c.statements(s.List)
	case *ast.LabeledStmt:
		c.inside(s.Stmt)
	case *ast.IfStmt:
		c.branch(s)
	case *ast.ReturnStmt:
		c.result(s)
	case *ast.ExprStmt, *ast.IncDecStmt, *ast.SendStmt, *ast.BranchStmt, *ast.AssignStmt, *ast.DeferStmt,
		*ast.GoStmt:
		c.removable(s)
	default:
		c.inside(s)
	}
}

// removable leaves a statement out. One that declares something cannot be; and a file
// that is closed late does no harm that a test could see.
func (c *changer) removable(s ast.Stmt) {
	assign, _ := s.(*ast.AssignStmt)
	if assign != nil && assign.Tok == token.DEFINE {
		for _, e := range assign.Rhs {
			c.truth(e)
		}
		return
	}
	if strings.HasSuffix(c.text(s), ".Close()") {
		return
	}
	if b, ok := s.(*ast.BranchStmt); ok && b.Tok == token.FALLTHROUGH {
		return
	}
	id, ok := c.ask(Statement, s, "without %s", c.text(s))
	if ok {
		c.put(s.Pos(), "if !mutateAt(%d) { ", id)
	}
	if assign != nil {
		for _, e := range assign.Rhs {
			c.truth(e)
		}
	} else {
		c.literals(s)
	}
	if ok {
		c.put(s.End(), " }")
	}
}

// inside looks at what a statement is made of.
func (c *changer) inside(s ast.Stmt) {
	switch s := s.(type) {
	case *ast.ForStmt:
		if s.Cond != nil {
			c.condition(Condition, s.Cond, false)
		}
		c.statements(s.Body.List)
	case *ast.RangeStmt:
		c.literals(s.X)
		c.statements(s.Body.List)
	case *ast.SwitchStmt:
		for _, clause := range s.Body.List {
			c.clause(clause.(*ast.CaseClause), s.Tag == nil)
		}
	case *ast.TypeSwitchStmt:
		for _, clause := range s.Body.List {
			c.clause(clause.(*ast.CaseClause), false)
		}
	case *ast.SelectStmt:
		for _, clause := range s.Body.List {
			c.statements(clause.(*ast.CommClause).Body)
		}
	case *ast.DeclStmt:
		c.literals(s)
	default:
		c.statement(s)
	}
}

// clause changes one case of a switch: its condition, or that it does something.
func (c *changer) clause(s *ast.CaseClause, conditions bool) {
	if conditions {
		for _, e := range s.List {
			c.condition(c.kind(s.Body, e), e, true)
		}
	} else if len(s.Body) > 0 && len(s.List) > 0 {
		if id, ok := c.ask(Case, s, "case %s does nothing", c.text(s.List[0])); ok {
			c.put(s.Colon+1, " if mutateAt(%d) { break };", id)
		}
	}
	c.statements(s.Body)
}

func (c *changer) branch(s *ast.IfStmt) {
	if s.Init != nil {
		c.literals(s.Init)
	}
	kind := c.kind(s.Body.List, s.Cond)
	c.condition(kind, s.Cond, kind != Passing)
	c.statements(s.Body.List)
	switch e := s.Else.(type) {
	case *ast.BlockStmt:
		c.statements(e.List)
	case *ast.IfStmt:
		c.branch(e)
	}
}

// kind tells what a condition is for by what is done where it holds.
func (c *changer) kind(body []ast.Stmt, cond ast.Expr) Kind {
	if len(body) == 0 {
		return Condition
	}
	r, ok := body[len(body)-1].(*ast.ReturnStmt)
	if !ok || !c.fails() || len(r.Results) == 0 {
		return Condition
	}
	last := c.text(r.Results[len(r.Results)-1])
	switch {
	case last == "nil":
		return Condition
	case strings.HasPrefix(c.text(cond), "err != nil") || strings.HasPrefix(c.text(cond), "err == nil"):
		return Passing
	}
	return Refusal
}

// fails tells whether the innermost function gives an error as its last result.
func (c *changer) fails() bool {
	r := c.results[len(c.results)-1]
	if r == nil || len(r.List) == 0 {
		return false
	}
	t := c.text(r.List[len(r.List)-1].Type)
	return t == "error" || t == "*finding.Finding" || t == "finding.List"
}

// condition lets one never hold, and always.
func (c *changer) condition(kind Kind, e ast.Expr, always bool) {
	never, ok := c.ask(kind, e, "%s never holds", c.text(e))
	if ok {
		c.put(e.Pos(), "(")
	}
	holds, also := 0, false
	if always && kind == Condition {
		if holds, also = c.ask(kind, e, "%s always holds", c.text(e)); also {
			c.put(e.Pos(), "(")
		}
	}
	c.truth(e)
	if also {
		c.put(e.End(), ") || mutateAt(%d)", holds)
	}
	if ok {
		c.put(e.End(), ") && !mutateAt(%d)", never)
	}
}

var closer = map[token.Token]token.Token{
	token.LSS: token.LEQ, token.LEQ: token.LSS, token.GTR: token.GEQ, token.GEQ: token.GTR,
}

// truth changes what a truth is made of.
func (c *changer) truth(e ast.Expr) {
	switch e := e.(type) {
	case *ast.ParenExpr:
		c.truth(e.X)
	case *ast.UnaryExpr:
		c.truth(e.X)
	case *ast.BinaryExpr:
		switch e.Op {
		case token.LAND, token.LOR:
			c.operand(e.Op, e.X)
			c.operand(e.Op, e.Y)
		case token.LSS, token.LEQ, token.GTR, token.GEQ:
			c.boundary(e)
		default:
			c.literals(e)
		}
	default:
		c.literals(e)
	}
}

func (c *changer) operand(op token.Token, e ast.Expr) {
	id, ok := c.ask(Operand, e, "without %s", c.text(e))
	if ok {
		c.put(e.Pos(), "((")
	}
	c.truth(e)
	if ok && op == token.LAND {
		c.put(e.End(), ") || mutateAt(%d))", id)
	} else if ok {
		c.put(e.End(), ") && !mutateAt(%d))", id)
	}
}

func (c *changer) boundary(e *ast.BinaryExpr) {
	id, ok := c.ask(Boundary, e, "%s with %s", c.text(e), closer[e.Op])
	if ok {
		c.put(e.Pos(), "(")
	}
	c.literals(e)
	if !ok {
		return
	}
	flat := func(n ast.Node) string { return strings.Join(strings.Fields(c.text(n)), " ") }
	same := fmt.Sprintf("%s == %s && mutateAt(%d)", flat(e.X), flat(e.Y), id)
	if e.Op == token.LSS || e.Op == token.GTR {
		c.put(e.End(), " || %s)", same)
	} else {
		c.put(e.End(), " && !(%s))", same)
	}
}

// result changes what is returned: an error into none, a truth into its contrary.
func (c *changer) result(s *ast.ReturnStmt) {
	r := c.results[len(c.results)-1]
	if len(s.Results) == 0 || r == nil {
		return
	}
	last := s.Results[len(s.Results)-1]
	kind := c.text(r.List[len(r.List)-1].Type)
	switch {
	case kind == "bool":
		if id, ok := c.ask(Result, s, "the contrary of %s", c.text(last)); ok {
			c.put(last.Pos(), "mutateAt(%d) != (", id)
			c.truth(last)
			c.put(last.End(), ")")
			return
		}
	case kind == "error" && len(s.Results) == r.NumFields() && c.text(last) != "nil" && c.text(last) != "err":
		id, ok := c.ask(Result, s, "nil in place of %s", c.text(last))
		if ok {
			var before []string
			for _, e := range s.Results[:len(s.Results)-1] {
				before = append(before, strings.Join(strings.Fields(c.text(e)), " "))
			}
			c.put(s.Pos(), "if mutateAt(%d) { return %s }; ", id, strings.Join(append(before, "nil"), ", "))
		}
	}
	for _, e := range s.Results {
		c.truth(e)
	}
}
