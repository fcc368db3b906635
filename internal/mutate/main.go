// Command mutate tests the tests of a package: it makes small changes to the code, one
// at a time, and tells which of them no test notices.
//
// All changes are compiled into one test binary, each behind a switch, so that trying one
// costs no more than the tests that reach it; made-up keys are made once for all. A change is
// noticed when a test fails or does not end. The changed program runs as an ordinary user where
// this one is root, with bounds on its memory and files. Its exit code is 1 where the score is
// below what -least asks for. Changes that survive are told on standard error as they are found;
// an interrupt ends the trying, and what was tried is reported.
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
	"os/signal"
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
	quick := flag.Duration("quick", 0, "leave out tests of further packages that take longer (0: none)")
	without := flag.String("without", "", "tests, with commas: what they notice is tried without them")
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
		score, err := measure(os.Stdout, pkg, manner{with: split(*with), without: split(*without),
			only: which{split(*kinds), split(*files)}, within: *within, quick: *quick, seed: *seed})
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
	quick  time.Duration // what a test of a further package may take; 0: as long as it does
	seed   int64
	// Tests that are tried to do without: tried are the changes that they notice, and what
	// the others then do not notice survives.
	without []string
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
	r := &runner{subject: s, work: work, quick: how.quick, gone: map[string]bool{}}
	for _, name := range how.without {
		r.gone[name] = true
	}
	if err := r.survey(context.Background()); err != nil {
		return 0, err
	}
	for _, name := range how.without {
		if !slices.ContainsFunc(r.tests, func(t test) bool { return t.name == name }) {
			return 0, fmt.Errorf("no test %s reaches what is changed", name)
		}
	}
	ctx, cancel := signal.NotifyContext(context.Background(), os.Interrupt)
	defer cancel()
	ctx, late := context.WithTimeout(ctx, how.within)
	defer late()
	outcomes, err := r.all(ctx, how.seed)
	if err != nil {
		return 0, err
	}
	return report(to, pkg, s, outcomes), nil
}

func report(to io.Writer, pkg string, s *subject, outcomes map[int]Outcome) int {
	type tally struct{ noticed, tried int }
	byKind := map[Kind]*tally{}
	var whole tally
	for _, c := range s.changes {
		o, tried := outcomes[c.ID]
		if !tried || o == Apart {
			continue
		}
		k := byKind[c.Kind]
		if k == nil {
			k = &tally{}
			byKind[c.Kind] = k
		}
		k.tried++
		whole.tried++
		if o == Noticed || o == Hung {
			k.noticed++
			whole.noticed++
			continue
		}
		fmt.Fprintf(to, "%-11s  %s\n", o, c)
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
