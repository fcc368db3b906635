// Command mutate tests the tests of a package: it makes small changes to the code, one
// at a time, and tells which of them no test notices.
//
// All changes are compiled into one test binary, each behind a switch, so that trying
// one costs no more than the tests that reach it. A change is noticed when a test fails
// or does not end. The changed program runs as an ordinary user where this one is root,
// with bounds on its memory and files. Its exit code is 1 where the score is below what
// -least asks for.
//
// It trusts the package: its tests are run. It does not judge whether a change that
// survives is harmless; docs/testing.md does that for those it names.
package main

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"
)

func main() {
	within := flag.Duration("within", 15*time.Minute, "how long changes are tried, for each package")
	kinds := flag.String("kinds", "", "the kinds of change, with commas (default: all)")
	files := flag.String("files", "", "the files that are changed, with commas (default: all of the package)")
	seed := flag.Int64("seed", 1, "what the order is drawn with")
	with := flag.String("with", "", "further packages whose tests are run, with commas")
	least := flag.Int("least", 0, "the score that is asked for, in percent")
	twice := flag.Bool("twice", false, "run each test that reaches a change, and tell which tests could go")
	flag.Usage = func() {
		fmt.Fprintln(os.Stderr, "mutate [flags] PACKAGE...")
		flag.PrintDefaults()
	}
	flag.Parse()
	if flag.NArg() == 0 {
		flag.Usage()
		os.Exit(2)
	}
	code := 0
	for _, pkg := range flag.Args() {
		score, err := measure(os.Stdout, pkg, manner{with: split(*with),
			only: which{split(*kinds), split(*files)}, within: *within, seed: *seed, twice: *twice})
		if err != nil {
			fmt.Fprintf(os.Stderr, "mutate: %s: %v\n", pkg, err)
			os.Exit(2)
		}
		if score < *least {
			code = 1
		}
	}
	os.Exit(code)
}

func split(list string) []string {
	return strings.FieldsFunc(list, func(r rune) bool { return r == ',' })
}

// manner is how a package is measured.
type manner struct {
	with   []string // further packages whose tests are run
	only   which
	within time.Duration
	seed   int64
	twice  bool // what is tested twice is looked for, too
}

// measure tries the changes of a package, tells which survive, and gives the score in
// percent, rounded down.
func measure(to io.Writer, pkg string, how manner) (int, error) {
	work, err := os.MkdirTemp("", "mutate")
	if err != nil {
		return 0, err
	}
	defer os.RemoveAll(work)
	if err := os.Chmod(work, 0o755); err != nil {
		return 0, err
	}
	s, err := build(pkg, how.with, work, how.only)
	if err != nil {
		return 0, err
	}
	r := &runner{subject: s, work: work, every: how.twice}
	if err := r.survey(context.Background()); err != nil {
		return 0, err
	}
	ctx, cancel := context.WithTimeout(context.Background(), how.within)
	defer cancel()
	outcomes, err := r.all(ctx, how.seed)
	if err != nil {
		return 0, err
	}
	if how.twice {
		reportTwice(to, r.tests, outcomes)
	}
	return report(to, pkg, s, outcomes), nil
}

// reportTwice tells of each test how many changes it notices, and how many it alone; and
// of those that could all go together without one change less being noticed, that they
// could: the slowest first. What a test says that no change of these kinds shows (a
// format that is met, an attack as it would come) is not weighed.
func reportTwice(to io.Writer, tests []test, outcomes map[int]result) {
	by := map[string]int{} // how many changes a test notices
	for _, o := range outcomes {
		for _, name := range o.by {
			by[name]++
		}
	}
	left := map[int]int{} // how many tests notice a change, those that could go not counted
	for id, o := range outcomes {
		left[id] = len(o.by)
	}
	alone := func(name string) (n int) {
		for id, o := range outcomes {
			if left[id] == 1 && slices.Contains(o.by, name) {
				n++
			}
		}
		return n
	}
	slowest := slices.SortedFunc(slices.Values(tests), func(a, b test) int { return int(b.took - a.took) })
	firmly := map[string]int{}
	for _, t := range slowest {
		firmly[t.name] = alone(t.name)
	}
	for _, t := range slowest {
		word := ""
		if alone(t.name) == 0 {
			word = ", could go"
			for id, o := range outcomes {
				if slices.Contains(o.by, t.name) {
					left[id]--
				}
			}
		}
		fmt.Fprintf(to, "test %s: %.2f s, notices %d, alone %d%s\n", t.name, t.took.Seconds(), by[t.name],
			firmly[t.name], word)
	}
}

func report(to io.Writer, pkg string, s *subject, outcomes map[int]result) int {
	type tally struct{ noticed, tried int }
	byKind := map[Kind]*tally{}
	var whole tally
	for _, c := range s.changes {
		o, tried := outcomes[c.ID]
		if !tried {
			continue
		}
		k := byKind[c.Kind]
		if k == nil {
			k = &tally{}
			byKind[c.Kind] = k
		}
		k.tried++
		whole.tried++
		if o.Outcome == Noticed || o.Outcome == Hung {
			k.noticed++
			whole.noticed++
			continue
		}
		fmt.Fprintf(to, "%-11s  %s\n", o.Outcome, c)
	}
	percent := func(t tally) int { return 100 * t.noticed / max(t.tried, 1) }
	var kinds []Kind
	for k := range byKind {
		kinds = append(kinds, k)
	}
	slices.Sort(kinds)
	for _, k := range kinds {
		fmt.Fprintf(to, "  %-10s %4d of %4d noticed, %3d %%\n", k, byKind[k].noticed, byKind[k].tried,
			percent(*byKind[k]))
	}
	fmt.Fprintf(to, "%s: %d of %d changes noticed, %d %%; tried %d of %d; %d more do not compile\n", pkg,
		whole.noticed, whole.tried, percent(whole), whole.tried, len(s.changes), s.dropped)
	return percent(whole)
}
