package tidy

import (
	"encoding/json"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"stockade/internal/must"
)

// word is an entry of the glossary, which the console and the documents share.
type word struct {
	ID   string   `json:"id"`
	Word string   `json:"word"`
	Also []string `json:"also"`
	Own  bool     `json:"own"`
	Text string   `json:"text"`
}

const glossaryHead = `# Glossary

<!-- written from console/src/glossary.json; make documents writes it anew -->

The console shows these explanations beside the words. Words in italics are Stockade's own; the others have their usual
meaning, and stand here because they have one meaning in Stockade.

| word | meaning |
|---|---|
`

// The glossary of the documents is that of the console, and each term that the console explains has an entry.
func TestTheGlossaryIsOne(t *testing.T) {
	var words []word
	must.Do(t, json.Unmarshal([]byte(must.Read(t, "../../console/src/glossary.json")), &words))
	slices.SortStableFunc(words, func(a, b word) int { return strings.Compare(a.Word, b.Word) })
	text := glossaryHead
	known := map[string]bool{}
	for _, w := range words {
		if known[w.ID] || w.Text == "" || !strings.HasSuffix(w.Text, ".") {
			t.Errorf("%+v: got twice, without a text or without a full stop", w)
		}
		known[w.ID] = true
		name := w.Word
		if w.Own {
			name = "*" + name + "*"
		}
		text += "| " + name + " | " + w.Text + " |\n"
	}
	const document = "../../docs/glossary.md"
	if os.Getenv("GOLDEN") == "write" {
		must.Write(t, document, text)
	}
	if must.Read(t, document) != text {
		t.Errorf("%s is not current: make documents", document)
	}
	used := regexp.MustCompile(`<Term of="([^"]+)"|\bterm: '([^']+)'`)
	shown := 0
	for _, name := range files(t, ".vue", ".ts") {
		for _, m := range used.FindAllStringSubmatch(must.Read(t, name), -1) {
			shown++
			if id := m[1] + m[2]; !known[id] {
				t.Errorf("%s: got the term %q, want one of the glossary", name, id)
			}
		}
	}
	if shown < 20 {
		t.Errorf("got %d terms in the console, want at least 20", shown)
	}
}

// mostWords is how long a sentence of a document may be.
const mostWords = 40

// sentences gives the sentences of a document, by line: paragraphs, points of lists and cells of tables. Code
// and headings are left out.
func sentences(text string) (out []sentence) {
	var open sentence
	inCode := false
	end := func() {
		if open.text != "" {
			for _, s := range sentenceEnd.Split(open.text, -1) {
				out = append(out, sentence{open.line, strings.TrimSpace(s)})
			}
		}
		open = sentence{}
	}
	for i, line := range strings.Split(text, "\n") {
		line = strings.TrimSpace(line)
		switch {
		case strings.HasPrefix(line, "```"):
			end()
			inCode = !inCode
		case inCode:
		case line == "", strings.HasPrefix(line, "#"), strings.HasPrefix(line, "<!--"):
			end()
		case strings.HasPrefix(line, "|"):
			end()
			for _, cell := range strings.Split(line, "|") {
				open = sentence{i + 1, cell}
				end()
			}
		default:
			if listItem.MatchString(line) {
				end()
			}
			if open.text == "" {
				open.line = i + 1
			}
			open.text += " " + line
		}
	}
	end()
	return out
}

type sentence struct {
	line int
	text string
}

var (
	sentenceEnd = regexp.MustCompile(`[.?!:][)*"”]*(\s+|$)`)
	listItem    = regexp.MustCompile(`^([-*]|[0-9]+\.) `)
	inCode      = regexp.MustCompile("`[^`]*`|\\]\\([^)]*\\)")
)

// Sentences of the documents are short enough to be understood at the first reading.
func TestSentencesOfDocumentsAreShort(t *testing.T) {
	looked := 0
	for _, name := range files(t, ".md") {
		for _, s := range sentences(must.Read(t, name)) {
			looked++
			if n := len(strings.Fields(inCode.ReplaceAllString(s.text, "code"))); n > mostWords {
				t.Errorf("%s:%d: got a sentence of %d words, want %d at most: %.60s…", name, s.line, n,
					mostWords,
					s.text)
			}
		}
	}
	if looked < 500 {
		t.Errorf("got %d sentences, want those of all documents", looked)
	}
}

func TestSentencesAreFound(t *testing.T) {
	got := sentences("# A heading. Of two.\n\nOne\ngoes on. Two?\n- three\n- four\n\n```sh\nnot. " +
		"this\n```\n| a. b | c |\n")
	var texts []string
	for _, s := range got {
		if s.text != "" {
			texts = append(texts, s.text)
		}
	}
	if want := []string{"One goes on", "Two", "- three", "- four", "a", "b", "c"}; !slices.Equal(texts,
		want) {
		t.Errorf("got %q, want %q", texts, want)
	}
}
