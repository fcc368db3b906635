package main

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"time"
)

// nobody runs what is changed, where this process may choose: a program from which
// a line was taken must not be able to remove what is others'.
const nobody = 65534

// test is one test, or a part of one, with how long it takes as it is and which changes it
// reaches.
type test struct {
	suite
	name    string // of the whole test
	pattern string // what runs it
	took    time.Duration
	reaches map[int]bool
}

// Outcome is what became of a change.
type Outcome string

// What may become of a change.
const (
	Noticed   Outcome = "noticed"     // a test failed
	Hung      Outcome = "hung"        // a test did not end, which is noticed too
	Unreached Outcome = "not reached" // no test comes where it would make a difference
	Survived  Outcome = "survived"    // every test that comes there passed
	Apart     Outcome = "apart"       // the tests that are to go notice nothing of it
)

// runner runs tests of the changed package.
type runner struct {
	*subject
	work  string
	quick time.Duration
	tests []test
	gone  map[string]bool // the tests that are tried to do without
}

// madeKeys names, in the environment, the folder that keeps made-up keys from one process to
// the next: made.KeyFolder.
const madeKeys = "STOCKADE_MADE_KEYS"

// keys is that folder, which the survey fills.
func (r *runner) keys() string { return filepath.Join(r.work, "keys") }

// run runs tests of one suite with an environment, until one fails, and writes to say what they
// say. failed tells that not all passed.
func (r *runner) run(ctx context.Context, in suite, patterns []string, within time.Duration,
	say io.Writer, env ...string) (failed, late bool, err error) {
	ctx, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	temp, err := os.MkdirTemp(r.work, "run")
	if err != nil {
		return false, false, err
	}
	defer os.RemoveAll(temp)
	// Bounds of memory (KiB) and of one file (blocks of 512 bytes): a changed loop may
	// go on for ever.
	cmd := exec.CommandContext(ctx, "sh", "-c", `ulimit -v 8000000; ulimit -f 2000000; exec "$@"`, "sh", in.binary,
		"-test.run", strings.Join(patterns, "|"), "-test.failfast", "-test.count=1", "-test.v",
		"-test.timeout", (within + time.Minute).String())
	cmd.Dir, cmd.Stdout = in.dir, say
	cmd.Env = append(os.Environ(), append(env, "TMPDIR="+temp, "HOME="+temp, madeKeys+"="+r.keys())...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	if os.Getuid() == 0 {
		if err := os.Chmod(temp, 0o777); err != nil {
			return false, false, err
		}
		cmd.SysProcAttr.Credential = &syscall.Credential{Uid: nobody, Gid: nobody}
	}
	cmd.Cancel = func() error { return syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) }
	cmd.WaitDelay = time.Second
	err = cmd.Run()
	var exit *exec.ExitError
	switch {
	case err == nil:
		return false, false, nil
	case ctx.Err() != nil || errors.Is(err, exec.ErrWaitDelay):
		return true, true, nil
	case errors.As(err, &exit):
		return true, false, nil
	}
	return false, false, err
}

// survey runs each test as the code is, and notes which changes it reaches. The package's
// own come first, and then those of others, the quick ones of each first.
func (r *runner) survey(ctx context.Context) error {
	if err := errors.Join(os.Mkdir(r.keys(), 0o777), os.Chmod(r.keys(), 0o777)); err != nil {
		return err
	}
	for _, in := range r.suites {
		tests, err := r.surveyed(ctx, in)
		if err != nil {
			return err
		}
		slices.SortFunc(tests, func(a, b test) int { return int(a.took - b.took) })
		r.tests = append(r.tests, tests...)
	}
	return os.Chmod(r.keys(), 0o755) // what is changed makes no keys that others would find
}

func (r *runner) surveyed(ctx context.Context, in suite) (tests []test, err error) {
	out, err := exec.CommandContext(ctx, in.binary, "-test.list", "^(Test|Example|Fuzz)").Output()
	if err != nil {
		return nil, fmt.Errorf("list the tests: %w", err)
	}
	for _, name := range strings.Fields(string(out)) {
		var said bytes.Buffer
		t, passed, err := r.reach(ctx, in, test{suite: in, name: name, pattern: "^" + name + "$"}, &said)
		if err != nil {
			return nil, err
		}
		switch {
		case !passed && in == r.suites[0]:
			return nil, fmt.Errorf("%s fails with the code as it is:\n%s", name, said.String())
		case !passed: // it may need more than is granted here
			fmt.Fprintf(os.Stderr, "mutate: %s of %s is omitted: it fails with the code as it is\n", name,
				filepath.Base(in.dir))
			continue
		}
		if slow := in != r.suites[0] && r.quick > 0 && t.took > r.quick; len(t.reaches) == 0 || slow {
			continue
		}
		parts := []test{t}
		if names := partsOf(said.String()); len(names) > 1 && t.took > long {
			if parts, err = r.parts(ctx, t, names); err != nil {
				return nil, err
			}
		}
		tests = append(tests, parts...)
	}
	return tests, nil
}

// long is what a test takes whose parts are run one by one.
const long = 500 * time.Millisecond

var partEnded = regexp.MustCompile(`(?m)^    --- PASS: [^/\s]+/(\S+) \(`)

// partsOf reads the names of a test's parts from what it said.
func partsOf(said string) (names []string) {
	for _, m := range partEnded.FindAllStringSubmatch(said, -1) {
		names = append(names, m[1])
	}
	return names
}

// parts are those of a test in place of the whole, where each can be run without the others.
func (r *runner) parts(ctx context.Context, whole test, names []string) (parts []test, err error) {
	left := maps.Clone(whole.reaches)
	for _, name := range names {
		part := test{suite: whole.suite, name: whole.name,
			pattern: whole.pattern + "/^" + regexp.QuoteMeta(name) + "$"}
		part, passed, err := r.reach(ctx, whole.suite, part, io.Discard)
		if err != nil {
			return nil, err
		}
		if !passed {
			return []test{whole}, nil
		}
		for id := range part.reaches {
			delete(left, id)
		}
		if len(part.reaches) > 0 {
			parts = append(parts, part)
		}
	}
	if len(left) > 0 { // by what the parts have done together
		whole.reaches = left
		parts = append(parts, whole)
	}
	return parts, nil
}

// reach runs a test as the code is, and notes which changes it reaches.
func (r *runner) reach(ctx context.Context, in suite, t test, say io.Writer) (_ test, passed bool,
	err error) {
	f, err := os.CreateTemp(r.work, "reached")
	if err != nil {
		return t, false, err
	}
	defer os.Remove(f.Name())
	if err := errors.Join(f.Close(), os.Chmod(f.Name(), 0o666)); err != nil {
		return t, false, err
	}
	begun := time.Now()
	failed, _, err := r.run(ctx, in, []string{t.pattern}, 5*time.Minute, say, "MUTATE_REACHED="+f.Name())
	if err != nil || failed {
		return t, false, err
	}
	t.took, t.reaches = time.Since(begun), map[int]bool{}
	data, err := os.ReadFile(f.Name())
	if err != nil {
		return t, false, err
	}
	for line := range strings.Lines(string(data)) {
		if id, err := strconv.Atoi(strings.TrimSpace(line)); err == nil {
			t.reaches[id] = true
		}
	}
	return t, true, nil
}

// try turns one change on and runs the tests that reach it, the quick ones first, until
// one fails. Where it is tried to do without some, they are run first, and the others only
// at what these notice.
func (r *runner) try(ctx context.Context, c Change) (Outcome, error) {
	if len(r.gone) > 0 {
		o, err := r.under(ctx, c, func(t test) bool { return r.gone[t.name] })
		if err != nil || o != Noticed && o != Hung {
			return Apart, err
		}
	}
	return r.under(ctx, c, func(t test) bool { return !r.gone[t.name] })
}

func (r *runner) under(ctx context.Context, c Change, counts func(test) bool) (Outcome, error) {
	reach := slices.DeleteFunc(slices.Clone(r.tests), func(t test) bool {
		return !t.reaches[c.ID] || !counts(t)
	})
	if len(reach) == 0 {
		return Unreached, nil
	}
	for len(reach) > 0 {
		n, took := together(reach)
		var patterns []string
		for _, t := range reach[:n] {
			patterns = append(patterns, t.pattern)
		}
		failed, late, err := r.run(ctx, reach[0].suite, patterns, 10*time.Second+10*took, io.Discard,
			"MUTATE="+strconv.Itoa(c.ID))
		switch {
		case err != nil:
			return "", err
		case ctx.Err() != nil:
			return "", ctx.Err()
		case late:
			return Hung, nil
		case failed:
			return Noticed, nil
		}
		reach = reach[n:]
	}
	return Survived, nil
}

// together tells how many of the tests run in one process, and how long they take as the code
// is: of one suite, and with the quick ones as many as cost less than processes of their own.
func together(tests []test) (n int, took time.Duration) {
	for _, t := range tests {
		if n > 0 && (t.suite != tests[0].suite || took+t.took > time.Second) {
			break
		}
		n, took = n+1, took+t.took
	}
	return n, took
}

// all tries the changes in an order that is drawn, so that those which are tried within
// the time stand for all.
func (r *runner) all(ctx context.Context, seed int64) (map[int]Outcome, error) {
	order := rand.New(rand.NewSource(seed)).Perm(len(r.changes))
	out := map[int]Outcome{}
	var mu sync.Mutex
	var first error
	var wg sync.WaitGroup
	for range runtime.NumCPU() {
		wg.Go(func() {
			for {
				mu.Lock()
				if len(order) == 0 || ctx.Err() != nil || first != nil {
					mu.Unlock()
					return
				}
				c := r.changes[order[0]]
				order = order[1:]
				mu.Unlock()
				o, err := r.try(ctx, c)
				mu.Lock()
				if err == nil {
					if out[c.ID] = o; o == Survived || o == Unreached {
						fmt.Fprintf(os.Stderr, "%4d tried: %-11s  %s\n", len(out), o, c)
					}
				} else if ctx.Err() == nil {
					first = err
				}
				mu.Unlock()
			}
		})
	}
	wg.Wait()
	return out, first
}
