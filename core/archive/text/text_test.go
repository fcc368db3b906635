package text

import (
	"fmt"
	"strconv"
	"strings"
	"testing"
)

func TestNumbersAreDigitsAndNothingElse(t *testing.T) {
	for s, want := range map[string]int64{"0": 0, "7": 7, "007": 7, "1048576": 1 << 20,
		"999999999999999999": 999_999_999_999_999_999} {
		if n, ok := Number(s); !ok || n != want {
			t.Errorf("%q is read as %d, %v", s, n, ok)
		}
		if n, ok := Number([]byte(s)); !ok || n != want {
			t.Errorf("the bytes of %q are read as %d, %v", s, n, ok)
		}
	}
	for _, s := range []string{"", " ", "+5", "-5", "-0", "5 ", " 5", "0x10", "5.0", "1e3", "1_000", "٣",
		"5\x00", "1000000000000000000", "99999999999999999999"} {
		if n, ok := Number(s); ok {
			t.Errorf("%q is a number: %d", s, n)
		}
	}
}

func TestHexadecimalIsInSmallLettersAndWhole(t *testing.T) {
	good := strings.Repeat("0af", 21) + "9"
	if !IsHex(good, SHA256) || !IsHex("", 0) {
		t.Error("a digest is none")
	}
	for _, s := range []string{good[1:], good + "0", strings.ToUpper(good), good[:63] + "g", good[:63] + " ",
		good[:63] + "\n"} {
		if IsHex(s, SHA256) {
			t.Errorf("%q is a digest", s)
		}
	}
}

func TestNamesAreHeldOnceAndNotWithoutEnd(t *testing.T) {
	n := Names{}
	buffer := []byte("libtide2")
	first := n.Bytes(buffer)
	buffer[0] = 'x'
	if first != "libtide2" || n.Get("libtide2") != first || len(n) != 1 {
		t.Errorf("%q, and %d are held", first, len(n))
	}
	for i := range mostNames + 10 {
		n.Get(strconv.Itoa(i))
	}
	if len(n) != mostNames {
		t.Errorf("%d are held", len(n))
	}
	if got := n.Get("one more"); got != "one more" {
		t.Errorf("%q", got)
	}
}

func FuzzNumber(f *testing.F) {
	f.Add("12")
	f.Add("+1")
	f.Fuzz(func(t *testing.T, s string) {
		n, ok := Number(s)
		if ok && (n < 0 || strings.TrimLeft(s, "0") != strings.TrimLeft(fmt.Sprint(n), "0")) {
			t.Errorf("%q is read as %d", s, n)
		}
	})
}

func TestTextsAreCutBetweenCharacters(t *testing.T) {
	for _, c := range []struct {
		text string
		n    int
		want string
	}{{"tide", 4, "tide"}, {"tides", 4, "tide…"}, {"", 0, ""}, {"tide", 0, "…"}, {"größe", 3, "gr…"},
		{"größe", 4, "grö…"}, {"\xff\xfe\xfd", 2, "\xff\xfe…"}, {"\x80\x80\x80", 2, "…"}} {
		if got := Cut(c.text, c.n); got != c.want {
			t.Errorf("%q in %d bytes: got %q, want %q", c.text, c.n, got, c.want)
		}
		if got := Cut([]byte(c.text), c.n); got != c.want {
			t.Errorf("the bytes %q: got %q, want %q", c.text, got, c.want)
		}
	}
}
