package solve

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/internal/must"
)

// Packages that need nothing and exclude each other are a conflict, whichever way the exclusion is written,
// and the explanation names the two of them and nothing else.
func TestAConflictOfExclusionsAlone(t *testing.T) {
	for name, c := range map[string]struct {
		packages string
		needs    string // of the package that is wanted
		between  []string
	}{
		"one excludes the other by name": {"a 1 amd64 // Conflicts: b\nb 1 amd64\nx 1 amd64\n", "a, b, x",
			[]string{"a 1", "b 1"}},
		"each excludes the other": {"a 1 amd64 // Conflicts: b\nb 1 amd64 // Conflicts: a\n", "a, b",
			[]string{"a 1", "b 1"}},
		"by what the other provides": {"a 1 amd64 // Conflicts: mail\nb 1 amd64 // Provides: mail\n", "a, b",
			[]string{"a 1", "b 1"}},
		"both provide it and exclude it": {"a 1 amd64 // Provides: mail // Conflicts: mail\n" +
			"b 1 amd64 // Provides: mail // Conflicts: mail\nx 1 amd64\n", "x, a, b", []string{"a 1", "b 1"}},
		"by a version": {"a 1 amd64 // Breaks: b (<< 2)\nb 1 amd64\n", "a, b", []string{"a 1", "b 1"}},
	} {
		u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}},
			c.packages+"all 1 amd64 // Depends: "+c.needs+"\n")
		s := u.selectAll(t, []Want{want(0, "all", "required", 1)})
		if len(s.Conflicts) != 1 || s.Conflicts[0].Wanted.Name != "all" || len(s.Undecided) > 0 {
			t.Errorf("%s: got conflicts %v, undecided %v", name, s.Conflicts, s.Undecided)
			continue
		}
		got := s.Conflicts[0].Between[:]
		for _, of := range c.between {
			if !slices.ContainsFunc(got, func(p string) bool { return strings.HasPrefix(p, of) }) {
				t.Errorf("%s: it is said to be between %q, want %q", name, got, c.between)
			}
		}
		if why := s.Conflicts[0].Because; !strings.Contains(why, "excludes") {
			t.Errorf("%s: because %q", name, why)
		}
		if r := s.Refusals[0]; !r.Minimal {
			t.Errorf("%s: the explanation could be smaller", name)
		}
	}
	// What is excluded in a version that is not taken is no conflict.
	u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}},
		"a 1 amd64 // Conflicts: b (<< 2)\nb 1 amd64\nb 2 amd64\nall 1 amd64 // Depends: a, b\n")
	if s := u.selectAll(t, []Want{want(0, "all", "required", 1)}); len(s.Conflicts) > 0 {
		t.Errorf("a newer version goes with it: %v", s.Conflicts)
	}
}

// When the time for all packages is used up, of those that were not looked at it is said that they were not:
// none of them counts as proved.
func TestTheTimeForAllOfThemIsSaidToBeUsedUp(t *testing.T) {
	u, wants := loft(t, 9)
	s, err := u.Select(t.Context(), wants, []View{u.Everyone()},
		Limits{Each: 200 * time.Millisecond, All: time.Nanosecond})
	must.Do(t, err)
	proved, wanted := 0, 0
	for _, p := range s.Proofs {
		proved, wanted = proved+p.Proved, wanted+p.Wanted
	}
	if len(s.Undecided) == 0 || proved+len(s.Undecided)+len(s.Conflicts) < wanted {
		t.Errorf("of %d wanted %d are proved, %d undecided and %d conflicts", wanted, proved,
			len(s.Undecided), len(s.Conflicts))
	}
	for _, x := range s.Undecided {
		if !strings.Contains(x.Because, "had run out before") && !strings.Contains(x.Because, "given up") {
			t.Errorf("%s: because %q", x.Wanted, x.Because)
		}
	}
}

// So many are explained; of the others it is said that they were not.
func TestSoManyAreExplained(t *testing.T) {
	var b strings.Builder
	var wants []Want
	const many = maxExplained + 7
	for i := range many {
		fmt.Fprintf(&b, "a%[1]d 1 amd64 // Conflicts: b%[1]d\nb%[1]d 1 amd64\n"+
			"all%[1]d 1 amd64 // Depends: a%[1]d, b%[1]d\n", i)
		wants = append(wants, want(0, fmt.Sprintf("all%d", i), "required", 1))
	}
	u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}}, b.String())
	s := u.selectAll(t, wants)
	if len(s.Conflicts) != many || len(s.Refusals) != many {
		t.Fatalf("got %d conflicts and %d explanations, want %d", len(s.Conflicts), len(s.Refusals), many)
	}
	not := 0
	for _, r := range s.Refusals {
		if strings.Contains(r.Because, "not determined, because many others cannot be") {
			not++
		}
	}
	if not != many-maxExplained {
		t.Errorf("of %d it is said that they were not explained, want %d", not, many-maxExplained)
	}
}

// What was taken first is widened: where a need can be met by another version, or by another package, than
// the one that was taken, that way is found among all that machines see.
func TestASelectionIsWidened(t *testing.T) {
	for name, c := range map[string]struct{ packages, want string }{
		"an older version": {"lib 1 amd64\nlib 2 amd64 // Conflicts: tool\ntool 1 amd64\n" +
			"all 1 amd64 // Depends: lib, tool\n", "lib=1"},
		"another provider": {"first 1 amd64 // Provides: mail // Conflicts: tool\n" +
			"second 1 amd64 // Provides: mail\ntool 1 amd64\nall 1 amd64 // Depends: first | mail, tool\n",
			"second=1"},
		"another alternative": {"x 1 amd64 // Conflicts: tool\ny 1 amd64\ntool 1 amd64\n" +
			"all 1 amd64 // Depends: x | y, tool\n", "y=1"},
	} {
		u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}}, c.packages)
		s := u.selectAll(t, []Want{want(0, "all", "required", 1)})
		if len(s.Conflicts)+len(s.Undecided) > 0 || !strings.Contains(" "+names(s)+" ", " "+c.want+" ") {
			t.Errorf("%s: got %q, conflicts %v, want %s among it", name, names(s), s.Conflicts, c.want)
		}
	}
}
