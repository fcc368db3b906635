package e2e

import (
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/internal/cli"
	"stockade/internal/must"
)

// block is one piece of code of a document.
type block struct {
	document, language, text string
}

// blocksOf gives the code blocks of a document, and its text without them.
func blocksOf(t *testing.T, path string) (blocks []block, text string) {
	t.Helper()
	inside := false
	for l := range strings.Lines(must.Read(t, path)) {
		language, fence := strings.CutPrefix(strings.TrimRight(l, "\n"), "```")
		switch {
		case fence && !inside:
			blocks = append(blocks, block{document: filepath.Base(path), language: language})
			inside = true
		case fence:
			inside = false
		case inside:
			blocks[len(blocks)-1].text += l
		default:
			text += l
		}
	}
	return blocks, text
}

func documents(t *testing.T) []string {
	t.Helper()
	all, err := filepath.Glob("../docs/*.md")
	if err != nil || len(all) < 8 {
		t.Fatalf("the documents: %v, %v", all, err)
	}
	return append(all, "../README.md")
}

// Every piece of code in the documents is what it says: definitions without errors,
// commands that there are, JSON, and shell that a shell can read.
func TestTheCodeInTheDocumentsIsRight(t *testing.T) {
	t.Parallel()
	whole := definition.NewSet()
	blocks, _ := blocksOf(t, "../docs/definition.md")
	for _, b := range blocks {
		if b.language == "yaml" && strings.Contains(b.text, "groups:") {
			set, found := definition.Read(definition.Text{Name: "the whole example", Text: b.text})
			if found.HasErrors() {
				t.Fatal(found)
			}
			whole = set
		}
	}
	if len(whole.Sources) < 7 {
		t.Fatalf("the whole example has %d sources", len(whole.Sources))
	}
	for _, path := range documents(t) {
		blocks, text := blocksOf(t, path)
		for _, b := range blocks {
			switch b.language {
			case "yaml":
				set, found := definition.Read(definition.Text{Name: b.document, Text: b.text})
				around := definition.Surroundings{Families: families.All, Now: time.Now()}
				found = append(found, definition.Check(definition.Overlay(whole, set), around)...)
				if found = definition.Proposed(found); found.HasErrors() {
					t.Errorf("%s: %v\n%s", b.document, found, b.text)
				}
			case "json":
				if !json.Valid([]byte(b.text)) {
					t.Errorf("%s: this is no JSON: %s", b.document, b.text)
				}
			case "sh":
				if out, err := exec.Command("sh", "-n", "-c", b.text).CombinedOutput(); err != nil {
					t.Errorf("%s: %v %s\n%s", b.document, err, out, b.text)
				}
			}
			for _, line := range callsOf(b.text) {
				if err := cli.Check(line); err != nil {
					t.Errorf("%s: stockade %s: %v", b.document, strings.Join(line, " "), err)
				}
			}
		}
		for _, m := range regexp.MustCompile("`(stockade [a-z-][^`]*)`").FindAllStringSubmatch(text, -1) {
			for _, line := range callsOf(m[1]) {
				// In running text what a call is about may be left out.
				if err := cli.Check(line); err != nil && !strings.Contains(err.Error(), "arg(s)") {
					t.Errorf("%s: `%s`: %v", filepath.Base(path), m[1], err)
				}
			}
		}
		for _, m := range regexp.MustCompile(`\]\(([^)#:]+)(?:#[^)]*)?\)`).FindAllStringSubmatch(text, -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(path), m[1])); err != nil {
				t.Errorf("%s leads to %s, which is not there", filepath.Base(path), m[1])
			}
		}
	}
}

// callsOf finds the calls of the program in a piece of shell, as words.
func callsOf(text string) (calls [][]string) {
	text = strings.ReplaceAll(text, "\\\n", " ")
	for line := range strings.Lines(text) {
		var call []string
		word, quote, words := "", rune(0), false
		end := func() {
			if words {
				call = append(call, word)
			}
			word, words = "", false
		}
		done := func() {
			end()
			if len(call) > 0 && (call[0] == "stockade" || strings.HasSuffix(call[0], "/stockade")) {
				calls = append(calls, call[1:])
			}
			call = nil
		}
		for _, r := range strings.TrimSpace(line) + "\n" {
			switch {
			case quote != 0 && r == quote:
				quote = 0
			case quote != 0:
				word += string(r)
			case r == '"' || r == '\'':
				quote, words = r, true
			case r == '#' && !words:
				done()
				goto next // a comment
			case r == ' ':
				end()
			case strings.ContainsRune("|;&<>()\n", r):
				done()
			default:
				word, words = word+string(r), true
			}
		}
	next:
	}
	return calls
}

// The guide can be followed: its commands run in order on the demonstration.
func TestTheGuideIsFollowedOnTheDemonstration(t *testing.T) {
	t.Parallel()
	d := startDemo(t)
	blocks, _ := blocksOf(t, "../docs/guide.md")
	ran := 0
	for _, b := range blocks {
		if b.language != "sh" {
			continue
		}
		for line := range strings.Lines(b.text) {
			line = strings.TrimSpace(line)
			code, said := d.sh(d.places(line))
			if ran++; code != 0 {
				t.Errorf("%s: exit code %d\n%s", line, code, said)
			}
		}
	}
	if ran < 40 {
		t.Errorf("the guide has %d commands that are run", ran)
	}
}
