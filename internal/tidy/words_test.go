package tidy

import (
	"go/scanner"
	"go/token"
	"os"
	"regexp"
	"strings"
	"testing"

	"stockade/internal/must"
)

// replaced reads the words that texts must not have from the first table of docs/style.md. A cell holds one
// or more of them, each in backquotes.
func replaced(t *testing.T) (words []string) {
	t.Helper()
	text, err := os.ReadFile("../../docs/style.md")
	must.Do(t, err)
	_, table, _ := strings.Cut(string(text), "|---|---|\n")
	table, _, _ = strings.Cut(table, "\n\n")
	quoted := regexp.MustCompile("`([^`]+)`")
	for row := range strings.Lines(table) {
		cells := strings.Split(row, "|")
		for _, m := range quoted.FindAllStringSubmatch(cells[1], -1) {
			words = append(words, m[1])
		}
	}
	if len(words) < 20 {
		t.Fatalf("got %d words, want the table of docs/style.md", len(words))
	}
	return words
}

// texts gives the text literals of a Go file, by line. Comments are no texts that the program shows.
func texts(source []byte) map[int]string {
	set := token.NewFileSet()
	file := set.AddFile("x.go", set.Base(), len(source))
	var s scanner.Scanner
	s.Init(file, source, nil, 0)
	out := map[int]string{}
	for {
		pos, tok, text := s.Scan()
		switch tok {
		case token.EOF:
			return out
		case token.STRING:
			out[set.Position(pos).Line] += text
		}
	}
}

// What a person reads has none of the words that docs/style.md replaces: texts of the program, and the
// console.
func TestTextsHaveNoReplacedWords(t *testing.T) {
	words := replaced(t)
	judge := func(name string, line int, text string) {
		for _, w := range words {
			if strings.Contains(text, w) {
				t.Errorf("%s:%d: %q: docs/style.md says what to write instead", name, line, w)
			}
		}
	}
	for _, name := range files(t, ".go") {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		source, err := os.ReadFile(name)
		must.Do(t, err)
		for line, text := range texts(source) {
			judge(name, line, text)
		}
	}
	for _, name := range files(t, ".vue", ".ts") {
		source, err := os.ReadFile(name)
		must.Do(t, err)
		for i, line := range strings.Split(string(source), "\n") {
			if !strings.HasPrefix(strings.TrimSpace(line), "//") {
				judge(name, i+1, line)
			}
		}
	}
}
