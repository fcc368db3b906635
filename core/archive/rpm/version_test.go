package rpm

import (
	"fmt"
	"math/rand"
	"os/exec"
	"strings"
	"testing"

	"stockade/core/archive"
)

func TestVersionsOrder(t *testing.T) {
	// Each is smaller than the next.
	ascending := []string{"1.0~~", "1.0~rc1", "1.0~rc2", "1.0", "1.0^", "1.0^git1", "1.0^20260901", "1.0.1~",
		"1.0.1", "1.1", "1.9", "1.10", "2", "1:0", "1:0.1", "12:0"}
	for i := range ascending {
		for j := range ascending {
			got := CompareVersions(ascending[i], ascending[j])
			if (i < j) != (got < 0) || (i > j) != (got > 0) {
				t.Errorf("%s against %s: %d", ascending[i], ascending[j], got)
			}
		}
	}
	for _, same := range [][2]string{{"1.0", "0:1.0"}, {"1.0", "1.00"}, {"1.0", "1_0"}} {
		if CompareVersions(same[0], same[1]) != 0 {
			t.Errorf("%s and %s are the same", same[0], same[1])
		}
	}
	for _, met := range [][2]string{{"1.0-3", "1.0"}, {"1:2", "1:2-9.el9"}} {
		if !satisfies(archive.Provide{Name: "b", Op: archive.Equal, Version: met[0]},
			archive.Relation{Name: "b", Op: archive.Equal, Version: met[1]}) {
			t.Errorf("%s and %s do not differ for a relation", met[0], met[1])
		}
	}
}

// madeVersions gives versions made of what versions are made of, the same each time.
func madeVersions(n int, words []string) []string {
	r := rand.New(rand.NewSource(7))
	var out []string
	for range n {
		s := ""
		if r.Intn(5) == 0 {
			s = fmt.Sprintf("%d:", r.Intn(3))
		}
		for k := range 1 + r.Intn(4) {
			if k > 0 {
				s += []string{".", ".", "_", "+", "", ".."}[r.Intn(6)]
			}
			s += words[r.Intn(len(words))]
		}
		if r.Intn(2) == 0 {
			s += fmt.Sprintf("-%d", r.Intn(12))
			if r.Intn(2) == 0 {
				s += words[r.Intn(len(words))]
			}
		}
		out = append(out, s)
	}
	return out
}

// The real client's comparison is the measure.
func TestVersionsOrderAsTheRealClientDoes(t *testing.T) {
	tool, err := exec.LookPath("rpm")
	if err != nil {
		t.Skip("skipped: rpm is not on this machine")
	}
	set := append([]string{"1.0", "1.0-1", "1.0~rc1-1", "1.0^20260901-1", "1.0^-1", "1.0~-1", "1.0a", "1.0.a",
		"1a1", "1z", "1Z", "1.z", "1.Z1", "Z", "z", "zA", "Za", "1z2",
		"1Z2", "1.01", "1.1", "2a", "2.0.1", "10", "9", "0:1.0", "1:0.9", "1.0-1.el9", "1.0-1.el9_2",
		"1.0-1.el10", "1.0^git3~b-1", "1.0~rc1^b-1"},
		madeVersions(20, []string{"0", "1", "2", "10", "007", "a", "b", "rc1", "el9", "~rc", "~", "^",
			"^git2", "beta"})...)
	var lua strings.Builder
	var pairs [][2]string
	for i, a := range set {
		for _, b := range set[i:] {
			pairs = append(pairs, [2]string{a, b})
			fmt.Fprintf(&lua, "print(rpm.vercmp(%q, %q) .. ' ') ", a, b)
		}
	}
	if len(pairs) < 300 {
		t.Fatalf("only %d pairs", len(pairs))
	}
	// In portions: the words of a command are bounded.
	var answers []string
	for chunk := lua.String(); chunk != ""; {
		end := len(chunk)
		if end > 20_000 {
			end = strings.LastIndex(chunk[:20_000], "print(")
		}
		out, err := exec.Command(tool, "--eval", "%{lua: "+chunk[:end]+"}").CombinedOutput()
		if err != nil {
			t.Fatalf("rpm: %v\n%s", err, out)
		}
		answers = append(answers, strings.Fields(string(out))...)
		chunk = chunk[end:]
	}
	if len(answers) != len(pairs) {
		t.Fatalf("%d answers to %d pairs", len(answers), len(pairs))
	}
	for i, p := range pairs {
		sign := "0"
		if c := CompareVersions(p[0], p[1]); c < 0 {
			sign = "-1"
		} else if c > 0 {
			sign = "1"
		}
		if sign != answers[i] {
			t.Errorf("%s against %s: %s, and the real client says %s", p[0], p[1], sign, answers[i])
		}
	}
}

// A release that is left out stands for any release, where the bound without it
// includes its version; else both bounds go their own way from there.
func TestAReleaseLeftOutStandsForAnyRelease(t *testing.T) {
	ops := []archive.Op{archive.Less, archive.LessOrEqual, archive.Equal,
		archive.GreaterOrEqual, archive.Greater}
	// By the operator of the side without a release, for each operator of the other.
	want := map[archive.Op][5]bool{
		archive.Less:           {true, true, false, false, false},
		archive.LessOrEqual:    {true, true, true, true, true},
		archive.Equal:          {true, true, true, true, true},
		archive.GreaterOrEqual: {true, true, true, true, true},
		archive.Greater:        {false, false, false, true, true},
	}
	for without, row := range want {
		for i, with := range ops {
			need := archive.Relation{Name: "bus", Op: with, Version: "1.2-3"}
			if got := satisfies(archive.Provide{Name: "bus", Op: without, Version: "1.2"},
				need); got != row[i] {
				t.Errorf("bus %s 1.2 meets bus %s 1.2-3: %v", without, with, got)
			}
			need = archive.Relation{Name: "bus", Op: without, Version: "1.2"}
			if got := satisfies(archive.Provide{Name: "bus", Op: with, Version: "1.2-3"},
				need); got != row[i] {
				t.Errorf("bus %s 1.2-3 meets bus %s 1.2: %v", with, without, got)
			}
		}
	}
}

func TestWhatCannotLieSideBySide(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{{"x86_64", "x86_64", true}, {"noarch", "noarch", true}, {"noarch", "x86_64", true},
		{"i686", "noarch", true}, {"x86_64", "i686", false}} {
		if got := (Family{}).Exclusive(&archive.Package{Arch: c.a},
			&archive.Package{Arch: c.b}); got != c.want {
			t.Errorf("%s beside %s: exclusive is %v", c.a, c.b, got)
		}
	}
	for machine, runs := range map[string]map[string]bool{"x86_64": {"x86_64_v2": false, "x86_64_v3": false,
		"i686": true, "noarch": true},
		"x86_64_v3": {"x86_64_v2": true, "x86_64": true, "x86_64_v4": false, "i686": true}} {
		for arch, want := range runs {
			if got := rank(arch, machine) >= 0; got != want {
				t.Errorf("%s on %s: %v", arch, machine, got)
			}
		}
	}
}
