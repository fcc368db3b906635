package main

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"
)

// A small program with a test that notices some changes and not others.
const program = `package gate

import "errors"

var errHigh = errors.New("too high")

// Open tells whether a gate may open at a level (metres).
func Open(level int, locked bool) (bool, error) {
	if level < 0 {
		return false, errors.New("below the sill")
	}
	if level > 9 {
		return false, errHigh
	}
	for i := 0; i < level; i++ {
		count++
	}
	switch level {
	case 7:
		count += 7
	}
	return level >= 3 && !locked, nil
}

var count int

// Never is called by nobody.
func Never() error {
	if err := errHigh; err != nil {
		return err
	}
	return nil
}
`

const programsTest = `package gate

import "testing"

func TestOpen(t *testing.T) {
	for level, want := range map[int]bool{2: false, 3: true, 5: true} {
		if got, err := Open(level, false); got != want || err != nil {
			t.Errorf("%d: %v %v", level, got, err)
		}
	}
	if _, err := Open(10, false); err == nil {
		t.Error("it opens at 10")
	}
}

func TestOnlyTheBound(t *testing.T) {
	if _, err := Open(10, false); err == nil {
		t.Error("it opens at 10")
	}
}
`

func TestItTellsWhatTheTestsNotice(t *testing.T) {
	if _, err := exec.LookPath("go"); err != nil {
		t.Skip("skipped: go is not on this machine's path")
	}
	dir := t.TempDir()
	for name, text := range map[string]string{"go.mod": "module gate\n\ngo 1.26\n", "gate.go": program,
		"gate_test.go": programsTest} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	for d := dir; d != os.TempDir() && d != "/"; d = filepath.Dir(d) {
		if err := os.Chmod(d, 0o755); err != nil { // who runs what is changed must get there
			t.Fatal(err)
		}
	}
	t.Chdir(dir)
	var out bytes.Buffer
	score, err := measure(&out, ".", manner{within: time.Minute, seed: 1})
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		// No test comes where the condition would be another.
		"not reached  gate.go:9:5: refusal: level < 0 never holds",
		"not reached  gate.go:9:5: boundary: level < 0 with <=",
		"not reached  gate.go:12:5: boundary: level > 9 with >=",
		"survived     gate.go:16:3: statement: without count++", // nothing looks at the count
		"not reached  gate.go:20:3: statement: without count += 7",
		"not reached  gate.go:22:23: operand: without !locked",
		"not reached  gate.go:29:21: passing: err != nil never holds",
	} {
		if !strings.Contains(out.String(), want+"\n") {
			t.Errorf("it does not tell %q:\n%s", want, out.String())
		}
	}
	for _, not := range []string{"level > 9 never holds", "with >\n", "the contrary of",
		"nil in place of errHigh"} {
		for line := range strings.Lines(out.String()) {
			if strings.Contains(line, not) && !strings.Contains(line, "not reached") {
				t.Errorf("a test notices it: %s", line)
			}
		}
	}
	if score < 15 || score > 50 || !strings.Contains(out.String(), fmt.Sprintf(" %d %%; tried", score)) {
		t.Errorf("%d %%:\n%s", score, out.String())
	}
	// The tests of a package that uses it notice what its own do not.
	if err := os.Mkdir(filepath.Join(dir, "dam"), 0o755); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "dam", "dam_test.go"), []byte(`package dam

import (
	"testing"

	"gate"
)

func TestDam(t *testing.T) {
	if open, _ := gate.Open(5, true); open {
		t.Error("a locked gate opens")
	}
}

func TestWithoutThis(t *testing.T) { t.Error("it fails as the code is, and is left out") }
`), 0o644); err != nil {
		t.Fatal(err)
	}
	out.Reset()
	more, err := measure(&out, ".", manner{with: []string{"./dam"}, within: time.Minute, seed: 1})
	if err != nil || more <= score || strings.Contains(out.String(), "without !locked") {
		t.Errorf("%d %% with more tests, and %d %% without: %v\n%s", more, score, err, out.String())
	}
	slow := manner{with: []string{"./dam"}, quick: time.Nanosecond, within: time.Minute, seed: 1}
	if own, err := measure(&out, ".", slow); err != nil || own != score {
		t.Errorf("without what takes longer %d %%, and %d %% by its own: %v", own, score, err)
	}
	refusals := which{kinds: []string{"refusal"}}
	only, err := measure(&out, ".", manner{only: refusals, within: time.Minute, seed: 1})
	if err != nil || only != 50 {
		t.Errorf("of refusals alone %d %%, %v", only, err)
	}
	out.Reset()
	// What the one test notices the other does, but for what is not about the bound.
	for name, want := range map[string]string{"TestOnlyTheBound": " 100 %; tried",
		"TestOpen": "not reached "} {
		out.Reset()
		_, err := measure(&out, ".", manner{without: []string{name}, within: time.Minute, seed: 1})
		if err != nil || !strings.Contains(out.String(), want) {
			t.Errorf("without %s: %v\n%s", name, err, out.String())
		}
	}
	unknown := manner{without: []string{"TestOpn"}, within: time.Minute, seed: 1}
	if _, err := measure(&out, ".", unknown); err == nil || !strings.Contains(err.Error(), "TestOpn") {
		t.Errorf("without a test that is none: %v", err)
	}
	none := manner{only: which{files: []string{"none.go"}}, within: time.Minute, seed: 1}
	if _, err := measure(&out, ".", none); err == nil &&
		!strings.Contains(out.String(), "of 0") && !strings.Contains(out.String(), "0 of") {
		t.Errorf("of a file that is not there: %s", out.String())
	}
	if _, err := measure(&out, "./nowhere", manner{within: time.Minute, seed: 1}); err == nil {
		t.Error("a package that is not there is measured")
	}
}

// A change that does not compile is left out, and told.
func TestWhatDoesNotCompileIsLeftOut(t *testing.T) {
	next := 0
	text, err := changed("gate.go", []byte(`package gate

func kind(n int) string {
	switch n {
	case 1:
		return "one"
	default:
		return "many"
	}
}
`), func(c Change) (int, bool) { next++; return next, true })
	if err != nil || !bytes.Contains(text, []byte("case 1: if mutateAt(1) { break };")) {
		t.Errorf("%v\n%s", err, text)
	}
	if n := bytes.Count(text, []byte("\n")); n != 10 {
		t.Errorf("the lines have moved: %d", n)
	}
	f := failure{file: "./gate.go", line: 10, text: "missing return"}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "gate.go"),
		[]byte("package gate\n\nfunc a() {\n}\n\n\nfunc kind() {\n\n\n}\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	for line, want := range map[int]bool{3: false, 7: true, 9: true} {
		if got := f.hits(Change{File: "gate.go", Line: line}, dir); got != want {
			t.Errorf("line %d: %v", line, got)
		}
	}
	if f.hits(Change{File: "other.go", Line: 9}, dir) {
		t.Error("an error of another file is this one's")
	}
	if _, err := changed("gate.go", []byte("no Go"), nil); err == nil {
		t.Error("what is no Go is changed")
	}
}
