package main

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// rounds is how often a build is tried: each drops the changes that do not compile.
const rounds = 12

// subject is a package with all its changes compiled into one test binary.
type subject struct {
	dir     string // of the package
	suites  []suite
	changes []Change
	dropped int // changes that do not compile
}

// suite is the tests of one package, with the changes in them.
type suite struct{ dir, binary string }

// switches is the file that turns one change on, and tells which are reached.
const switches = `package %s

import (
	"fmt"
	"os"
	"strconv"
	"sync/atomic"
)

var mutateOne, _ = strconv.Atoi(os.Getenv("MUTATE"))

var mutateReached = func() *os.File {
	if name := os.Getenv("MUTATE_REACHED"); name != "" {
		if f, err := os.OpenFile(name, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o666); err == nil {
			return f
		}
	}
	return nil
}()

var mutateSeen [%d]atomic.Bool

// small enough to stand in loops without a call
func mutateAt(id int) bool {
	return id == mutateOne || mutateReached != nil && mutateNote(id)
}

func mutateNote(id int) bool {
	if !mutateSeen[id].Load() && !mutateSeen[id].Swap(true) {
		fmt.Fprintln(mutateReached, id)
	}
	return false
}
`

// listing is what go tells of a package.
type listing struct {
	Dir, Name string
	GoFiles   []string
}

func list(pkg string) (l listing, err error) {
	out, err := exec.Command("go", "list", "-json=Dir,Name,GoFiles", pkg).Output()
	if err != nil {
		return l, fmt.Errorf("%s is no package that can be listed: %w", pkg, err)
	}
	return l, json.Unmarshal(out, &l)
}

// which are the changes that are tried; what is empty leaves all.
type which struct{ kinds, files []string }

func (w which) has(c Change) bool {
	return (len(w.kinds) == 0 || slices.Contains(w.kinds, string(c.Kind))) &&
		(len(w.files) == 0 || slices.Contains(w.files, c.File))
}

// build compiles the tests of a package, and of others that use it, with all changes of the
// kinds in it.
func build(pkg string, others []string, work string, only which) (*subject, error) {
	listed, err := list(pkg)
	if err != nil {
		return nil, err
	}
	s := &subject{dir: listed.Dir, suites: []suite{{listed.Dir, filepath.Join(work, "changed.test")}}}
	not := map[string]bool{} // by file, place and kind
	key := func(c Change) string { return fmt.Sprint(c.File, c.Line, c.Column, c.Kind, c.Text) }
	for range rounds {
		s.changes = nil
		overlay := map[string]string{}
		for _, name := range listed.GoFiles {
			source, err := os.ReadFile(filepath.Join(listed.Dir, name))
			if err != nil {
				return nil, err
			}
			text, err := changed(name, source, func(c Change) (int, bool) {
				if !only.has(c) || not[key(c)] {
					return 0, false
				}
				c.ID = len(s.changes) + 1
				s.changes = append(s.changes, c)
				return c.ID, true
			})
			if err != nil {
				return nil, err
			}
			if err := overlaid(overlay, filepath.Join(listed.Dir, name), work, text); err != nil {
				return nil, err
			}
		}
		text := fmt.Appendf(nil, switches, listed.Name, len(s.changes)+1)
		if err := overlaid(overlay, filepath.Join(listed.Dir, "zz_mutate.go"), work, text); err != nil {
			return nil, err
		}
		failed, err := compile(pkg, work, s.suites[0].binary, overlay)
		if err != nil {
			return nil, err
		}
		if len(failed) == 0 {
			return s, s.more(others, work, overlay)
		}
		before := len(not)
		for _, c := range s.changes {
			for _, f := range failed {
				if f.hits(c, listed.Dir) {
					not[key(c)] = true
				}
			}
		}
		s.dropped = len(not)
		if len(not) == before {
			return nil, fmt.Errorf("the changed package does not compile, and no change explains it: %v",
				failed)
		}
	}
	return nil, errors.New("the changed package does not compile")
}

// more compiles the tests of other packages with the same changes.
func (s *subject) more(others []string, work string, overlay map[string]string) error {
	for i, pkg := range others {
		l, err := list(pkg)
		if err != nil {
			return err
		}
		x := suite{l.Dir, filepath.Join(work, fmt.Sprintf("other-%d.test", i))}
		failed, err := compile(pkg, work, x.binary, overlay)
		if err == nil && len(failed) > 0 {
			err = fmt.Errorf("%s does not compile with the changes: %v", pkg, failed)
		}
		if err != nil {
			return err
		}
		s.suites = append(s.suites, x)
	}
	return nil
}

func overlaid(overlay map[string]string, path, work string, text []byte) error {
	to := filepath.Join(work, filepath.Base(path))
	overlay[path] = to
	return os.WriteFile(to, text, 0o644)
}

// failure is an error of the compiler.
type failure struct {
	file string
	line int
	text string
}

var compilerError = regexp.MustCompile(`(?m)^(\S+\.go):(\d+):\d+: (.*)$`)

// hits tells whether a change may be what does not compile.
func (f failure) hits(c Change, dir string) bool {
	if filepath.Base(f.file) != c.File {
		return false
	}
	if strings.Contains(f.text, "missing return") {
		return ends(filepath.Join(dir, c.File), c.Line, f.line)
	}
	return c.Line == f.line
}

// ends tells whether the function that ends on one line has the other in it.
func ends(file string, line, end int) bool {
	data, err := os.ReadFile(file)
	if err != nil {
		return false
	}
	lines := strings.Split(string(data), "\n")
	for i := end - 1; i > 0 && i <= len(lines); i-- {
		if strings.HasPrefix(lines[i-1], "func ") {
			return line >= i && line <= end
		}
	}
	return false
}

func compile(pkg, work, binary string, overlay map[string]string) ([]failure, error) {
	text, err := json.Marshal(map[string]any{"Replace": overlay})
	if err != nil {
		return nil, err
	}
	file := filepath.Join(work, "overlay.json")
	if err := os.WriteFile(file, text, 0o644); err != nil {
		return nil, err
	}
	cmd := exec.Command("go", "test", "-c", "-vet=off", "-gcflags=-e", "-overlay", file, "-o", binary, pkg)
	out, err := cmd.CombinedOutput()
	if err == nil {
		return nil, nil
	}
	var failed []failure
	for _, m := range compilerError.FindAllSubmatch(out, -1) {
		line, _ := strconv.Atoi(string(m[2]))
		failed = append(failed, failure{string(m[1]), line, string(m[3])})
	}
	if len(failed) == 0 {
		return nil, fmt.Errorf("go test -c: %w\n%s", err, bytes.TrimSpace(out))
	}
	return failed, nil
}
