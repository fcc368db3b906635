package solve

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/must"
)

// pigeons writes packages of which one needs more places than there are: each
// pigeon needs one of the holes, and what is in a hole excludes the others in it.
func pigeons(holes int) string {
	var b strings.Builder
	var all []string
	for p := range holes + 1 {
		var places []string
		for h := range holes {
			name := fmt.Sprintf("p%d-in-%d", p, h)
			places = append(places, name)
			fmt.Fprintf(&b, "%s 1 amd64 // Provides: hole-%d // Conflicts: hole-%d\n", name, h, h)
		}
		fmt.Fprintf(&b, "pigeon%d 1 amd64 // Depends: %s\n", p, strings.Join(places, " | "))
		all = append(all, fmt.Sprintf("pigeon%d", p))
	}
	fmt.Fprintf(&b, "loft 1 amd64 // Depends: %s\n", strings.Join(all, ", "))
	return b.String()
}

// loft is a selection that takes every place of the pigeons.
func loft(t *testing.T, holes int) (*Universe, []Want) {
	u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}}, pigeons(holes))
	return u, []Want{want(0, "loft", "required", 1), want(0, "p*", "required", 1)}
}

func TestASearchThatFindsNoAnswerInTimeSaysSo(t *testing.T) {
	u, wants := loft(t, 11)
	begun := time.Now()
	s, err := u.Select(t.Context(), wants, []View{u.Everyone()},
		Limits{Each: 300 * time.Millisecond, All: 2 * time.Second})
	must.Do(t, err)
	if took := time.Since(begun); took > 30*time.Second {
		t.Errorf("it took %s with a bound of 2 s", took)
	}
	if len(s.Undecided) != 1 || s.Undecided[0].Wanted.Name != "loft" ||
		!strings.Contains(s.Undecided[0].Because, "the search was stopped after") {
		t.Errorf("undecided %+v, conflicts %v", s.Undecided, s.Conflicts)
	}
}

func TestASmallPigeonHoleIsDecided(t *testing.T) {
	u, wants := loft(t, 5)
	s := u.selectAll(t, wants)
	if len(s.Undecided) > 0 || len(s.Conflicts) != 1 || s.Conflicts[0].Wanted.Name != "loft" {
		t.Errorf("undecided %v, conflicts %v", s.Undecided, s.Conflicts)
	}
}

func TestASearchEndsWithItsContext(t *testing.T) {
	u, wants := loft(t, 11)
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	begun := time.Now()
	if _, err := u.Select(ctx, wants, []View{u.Everyone()},
		Limits{Each: time.Hour, All: time.Hour}); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
	if took := time.Since(begun); took > 30*time.Second {
		t.Errorf("it went on for %s", took)
	}
}

// Proofs of different mirrors run side by side in one process: each answer must
// be what it is alone.
func TestProofsSideBySideDoNotDisturbEachOther(t *testing.T) {
	var wait sync.WaitGroup
	for i := range 8 {
		wait.Go(func() {
			for n := range 6 {
				fits := (i+n)%2 == 0
				list := "a 1 amd64 // Depends: b, c | d\nb 1 amd64 // Conflicts: c\nc 1 amd64\n"
				if fits {
					list += "d 1 amd64\n"
				}
				for f := range 150 {
					list += fmt.Sprintf("f%d 1 amd64 // Depends: f%d | f%d // Conflicts: f%d\n", f,
						(f+1)%150, (f+7)%150, (f+2)%150)
				}
				u := universe(t, []Source{{Name: "tarn", Architectures: []string{"amd64"}}}, list)
				s := u.selectAll(t, []Want{want(0, "d", "required", 1), want(0, "a", "required", 1)})
				if refused := len(s.Conflicts) > 0; refused == fits || len(s.Undecided) > 0 {
					t.Errorf("fits %v, conflicts %v, undecided %v", fits, s.Conflicts, s.Undecided)
				}
			}
		})
	}
	wait.Wait()
}

// What a selection costs is in proportion to what it is made of, or it is refused.
func TestHostileUniversesEndWithinTheirBudget(t *testing.T) {
	amd := []Source{{Name: "tarn", Architectures: []string{"amd64"}}}
	many := func(n int, line func(i int) string) string {
		var b strings.Builder
		for i := range n {
			b.WriteString(line(i) + "\n")
		}
		return b.String()
	}
	for _, c := range []struct {
		name, list string
		refused    bool
	}{
		{"everything provides and needs one name", many(6000, func(i int) string {
			return fmt.Sprintf("p%d 1 amd64 // Provides: bus // Depends: bus", i)
		}), false},
		{"everything provides and excludes one name", many(6000, func(i int) string {
			return fmt.Sprintf("p%d 1 amd64 // Provides: bus // Conflicts: bus", i)
		}), false},
		{"many versions of one name", many(6000, func(i int) string {
			return fmt.Sprintf("p %d amd64 // Depends: p (>= 1)", i)
		}), false},
		{"everything provides one name, and needs it in a version of its own",
			many(12000, func(i int) string {
				return fmt.Sprintf("p%d 1 amd64 // Provides: bus (= 9999999) // Depends: bus (>= %d)", i, i)
			}), true},
		{"one package provides what another needs, a hundred thousand times",
			"a 1 amd64 // Depends: " + strings.TrimSuffix(strings.Repeat("b (>= 1), ", 100_000), ", ") +
				"\nc 1 amd64 // Provides: " + strings.TrimSuffix(strings.Repeat("b (= 2), ", 100_000), ", "),
			false},
	} {
		t.Run(c.name, func(t *testing.T) {
			u := universe(t, amd, c.list)
			begun := time.Now()
			_, err := u.Select(t.Context(),
				[]Want{{Relation: want(0, "*", "", 0).Relation, With: "required"}},
				[]View{u.Everyone()}, Limits{})
			f, _ := finding.From(err)
			if refused := f.Code == "content.too-large"; refused != c.refused || err != nil && !refused {
				t.Errorf("%v", err)
			}
			t.Logf("%s", time.Since(begun))
		})
	}
}
