package alpm

import (
	"fmt"
	"math/rand"
	"os/exec"
	"strings"
	"testing"
)

func TestVersionsOrder(t *testing.T) {
	// Each is smaller than the next.
	ascending := []string{"1.0a", "1.0alpha", "1.0b", "1.0beta", "1.0rc", "1.0", "1.0.a", "1.0.1", "1.1",
		"1.9", "1.10", "2", "1:0", "1:0.1", "12:0"}
	for i := range ascending {
		for j := range ascending {
			got := CompareVersions(ascending[i], ascending[j])
			if (i < j) != (got < 0) || (i > j) != (got > 0) {
				t.Errorf("%s against %s: %d", ascending[i], ascending[j], got)
			}
		}
	}
	for _, same := range [][2]string{{"1.0", "0:1.0"}, {"1.0", "1.00"}, {"1.0-3", "1.0"}, {"1:2", "1:2-9"}} {
		if CompareVersions(same[0], same[1]) != 0 {
			t.Errorf("%s and %s are the same", same[0], same[1])
		}
	}
}

// The real client's comparison is the measure.
func TestVersionsOrderAsTheRealClientDoes(t *testing.T) {
	tool, err := exec.LookPath("vercmp")
	if err != nil {
		t.Skip("skipped: vercmp is not on this machine")
	}
	set := []string{"1.0", "1.0-1", "1.0rc1-1", "1.0.rc1-1", "1.0a", "1.0.a", "1a1", "1.01", "1.1", "2a",
		"2.0.1", "10", "9", "0:1.0", "1:0.9", "1.0+r3+gabc-1", "1.0_1-1", "1..0", "1.0.", "1:", "1.0-1.1"}
	r := rand.New(rand.NewSource(7))
	words := []string{"0", "1", "2", "10", "007", "a", "b", "rc1", "r3", "gabc", "beta"}
	for range 12 {
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
		}
		set = append(set, s)
	}
	pairs := 0
	for i, a := range set {
		for _, b := range set[i:] {
			pairs++
			out, err := exec.Command(tool, a, b).Output()
			if err != nil {
				t.Fatalf("vercmp %s %s: %v", a, b, err)
			}
			sign := "0"
			if c := CompareVersions(a, b); c < 0 {
				sign = "-1"
			} else if c > 0 {
				sign = "1"
			}
			if got := strings.TrimSpace(string(out)); got != sign {
				t.Errorf("%s against %s: %s, and the real client says %s", a, b, sign, got)
			}
		}
	}
	if pairs < 300 {
		t.Errorf("only %d pairs were compared", pairs)
	}
}
