// Package tidy holds the project's own text to its rules: Go as gofmt writes it, and no
// line longer than a reader takes in at once.
package tidy

import (
	"bytes"
	"go/ast"
	"go/format"
	"go/parser"
	"go/scanner"
	"go/token"
	"go/types"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"

	"stockade/core/finding"
	"stockade/internal/must"
)

const (
	goColumns  = 110 // a tab counts as four
	vueColumns = 140
)

// files gives what stands in the tree with one of the endings, leaving out what is
// fetched or generated.
func files(t *testing.T, endings ...string) (names []string) {
	t.Helper()
	root := filepath.Join("..", "..")
	if _, err := os.Stat(filepath.Join(root, "go.mod")); err != nil {
		t.Fatal(err)
	}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || d.Name() == "dist" || d.Name() == ".git"):
			return filepath.SkipDir
		case d.Name() == "api.d.ts" || d.IsDir():
			return nil
		}
		for _, e := range endings {
			if strings.HasSuffix(path, e) {
				names = append(names, path)
			}
		}
		return nil
	})
	must.Do(t, err)
	if len(names) < 10 {
		t.Fatalf("only %d files end in %v: is this the whole tree?", len(names), endings)
	}
	return names
}

func columns(line string) int {
	return utf8.RuneCountInString(strings.ReplaceAll(line, "\t", "    "))
}

// raw tells on which lines a raw string stands, which cannot be broken without another
// meaning: the tag of a field, a document in a test.
func raw(name string, source []byte) map[int]bool {
	set := token.NewFileSet()
	file := set.AddFile(name, set.Base(), len(source))
	var s scanner.Scanner
	s.Init(file, source, nil, 0)
	lines := map[int]bool{}
	for {
		pos, tok, text := s.Scan()
		if tok == token.EOF {
			return lines
		}
		if tok == token.STRING && text[0] == '`' {
			first := set.Position(pos).Line
			for i := range strings.Count(text, "\n") + 1 {
				lines[first+i] = true
			}
		}
	}
}

func TestGoIsFormattedAndItsLinesEnd(t *testing.T) {
	for _, name := range files(t, ".go") {
		source, err := os.ReadFile(name)
		must.Do(t, err)
		formatted, err := format.Source(source)
		must.Do(t, err)
		if !bytes.Equal(source, formatted) {
			t.Errorf("%s is not as gofmt writes it", name)
		}
		unbroken := raw(name, source)
		for i, line := range strings.Split(string(source), "\n") {
			if n := columns(line); n > goColumns && !unbroken[i+1] {
				t.Errorf("%s:%d: %d columns, and %d are read at once", name, i+1, n, goColumns)
			}
		}
	}
}

func TestTheLinesOfTheConsoleEnd(t *testing.T) {
	for _, name := range files(t, ".vue", ".ts") {
		source, err := os.ReadFile(name)
		must.Do(t, err)
		for i, line := range strings.Split(string(source), "\n") {
			if n := columns(line); n > vueColumns {
				t.Errorf("%s:%d: %d columns, and %d are read at once", name, i+1, n, vueColumns)
			}
		}
	}
}

var named = regexp.MustCompile("`((?:core|internal)/[a-z/_]+\\.go)`((?:,? `[A-Za-z]+`)+)")

// The document for newcomers leads to functions that are where it says.
func TestTheArchitectureNamesWhatIsThere(t *testing.T) {
	text, err := os.ReadFile(filepath.Join("..", "..", "docs", "architecture.md"))
	must.Do(t, err)
	found := named.FindAllStringSubmatch(string(text), -1)
	if len(found) < 15 {
		t.Fatalf("only %d places are named", len(found))
	}
	for _, m := range found {
		source, err := os.ReadFile(filepath.Join("..", "..", filepath.FromSlash(m[1])))
		if err != nil {
			t.Error(err)
			continue
		}
		for _, f := range strings.Fields(strings.NewReplacer(",", "", "`", "").Replace(m[2])) {
			if !regexp.MustCompile(`(?m)^func (\([^)]*\) )?` + f + `\(`).Match(source) {
				t.Errorf("%s has no function %s", m[1], f)
			}
		}
	}
}

// The computation stands on its own, and what is made up stays out of what is shipped, but for
// the demonstration.
func TestImportsRunOneWay(t *testing.T) {
	for _, name := range files(t, ".go") {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		rel, err := filepath.Rel(filepath.Join("..", ".."), name)
		must.Do(t, err)
		f, err := parser.ParseFile(token.NewFileSet(), name, nil, parser.ImportsOnly)
		must.Do(t, err)
		for _, i := range f.Imports {
			switch path := strings.Trim(i.Path.Value, `"`); {
			case strings.HasPrefix(rel, "core/") && strings.HasPrefix(path, "stockade/internal/"):
				t.Errorf("%s: core imports %s", rel, path)
			case strings.HasPrefix(path, "stockade/internal/made") && !strings.HasPrefix(rel,
				"internal/demo/"):
				t.Errorf("%s imports what is made up", rel)
			case path == "stockade/internal/must" && !strings.HasPrefix(rel, "internal/made/"):
				t.Errorf("%s imports what is for tests", rel)
			}
		}
	}
}

// prepares are the calls of which a test that dropped the error would test something else than
// it says.
var prepares = regexp.MustCompile(`^(os\.(WriteFile|Chmod|Mkdir|MkdirAll|Rename|Symlink|Link|Truncate|Chtimes)|` +
	`filepath\.(Walk|WalkDir)|json\.Unmarshal|db\.Exec)$`)

// gives are the calls of which it would go on with nothing.
var gives = regexp.MustCompile(`^(os\.(ReadFile|ReadDir|Readlink)|filepath\.Glob|json\.Marshal)$`)

func TestWhatATestPreparesIsNotDropped(t *testing.T) {
	called := func(e ast.Expr) string {
		if c, ok := e.(*ast.CallExpr); ok {
			return types.ExprString(c.Fun)
		}
		return ""
	}
	seen := 0
	for _, name := range files(t, "_test.go") {
		set := token.NewFileSet()
		f, err := parser.ParseFile(set, name, nil, 0)
		must.Do(t, err)
		ast.Inspect(f, func(n ast.Node) bool {
			switch s := n.(type) {
			case *ast.CallExpr:
				seen++
			case *ast.ExprStmt:
				if prepares.MatchString(called(s.X)) {
					t.Errorf("%s: the error of %s is dropped: must.Do", set.Position(s.Pos()), called(s.X))
				}
			case *ast.AssignStmt:
				last, ok := s.Lhs[len(s.Lhs)-1].(*ast.Ident)
				if ok && last.Name == "_" && gives.MatchString(called(s.Rhs[0])) {
					t.Errorf("%s: the error of %s is dropped", set.Position(s.Pos()), called(s.Rhs[0]))
				}
			}
			return true
		})
	}
	if seen < 10_000 {
		t.Errorf("only %d calls were looked at", seen)
	}
}

// Each step that progress is told of has words on the command line and in the console.
func TestEachStepOfProgressHasWords(t *testing.T) {
	step := regexp.MustCompile(`(?:mirror\.|\b)Event\{\s*Step: *"([a-z ]+)"|\.progress\("([a-z ]+)"`)
	cli := must.Read(t, "../cli/progress.go")
	console := strings.ReplaceAll(must.Read(t, "../../console/src/parts/JobRun.vue"), "'", "")
	n := 0
	for _, name := range files(t, ".go") {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		for _, m := range step.FindAllStringSubmatch(must.Read(t, name), -1) {
			n++
			word := m[1] + m[2]
			onlyHere := word == "copy" // an export, which the command line does by itself
			if !strings.Contains(cli, `"`+word+`": `) || !onlyHere && !strings.Contains(console, "  "+word+": ") {
				t.Errorf("%s tells of %q, and there are no words for it", name, word)
			}
		}
	}
	if n < 12 {
		t.Errorf("%d steps were found", n)
	}
}

// A code of a finding is named by its constant, which a misspelling does not compile with. Tests write it
// out: what it is to people must not change unseen.
func TestCodesOfFindingsAreNamed(t *testing.T) {
	constants := regexp.MustCompile(`(?m)^\t\w+ +Code = "([a-z.-]+)"$`)
	var codes []string
	for _, m := range constants.FindAllStringSubmatch(must.Read(t, "../../core/finding/codes.go"), -1) {
		codes = append(codes, regexp.QuoteMeta(m[1]))
		if _, known := finding.Known(finding.Code(m[1])); !known {
			t.Errorf("%s is in no entry of the catalogue", m[1])
		}
	}
	if len(codes) < 130 {
		t.Fatalf("got %d codes", len(codes))
	}
	literal := regexp.MustCompile(`"(` + strings.Join(codes, "|") + `)"`)
	for _, name := range files(t, ".go") {
		if strings.HasSuffix(name, "_test.go") || strings.HasSuffix(name, "core/finding/codes.go") ||
			strings.Contains(name, "internal/mutate/") {
			continue
		}
		for i, line := range strings.Split(must.Read(t, name), "\n") {
			if m := literal.FindString(line); m != "" {
				t.Errorf("%s:%d: %s is written out: core/finding/codes.go has its name", name, i+1, m)
			}
		}
	}
}
