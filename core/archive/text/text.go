// Package text has the strict readers of single values that more than one format wants:
// numbers, hexadecimal digests, strings that come again and again, and long ones in messages.
//
// It trusts nothing: what two readers could take for two things is no value. It knows no
// format; what a value means, and which one is out of range, is for the caller to say.
package text

import (
	"strings"
	"unicode/utf8"
)

const (
	decimal = "0123456789"
	lower   = decimal + "abcdef"
)

// mostDigits is how many digits a number may have: all of these fit into 63 bits.
const mostDigits = 18

// Number reads a number that is written with decimal digits alone, 1 to 18 of them: no
// sign, no blanks, no other base.
func Number[T ~string | ~[]byte](s T) (n int64, ok bool) {
	if len(s) == 0 || len(s) > mostDigits {
		return 0, false
	}
	for i := range len(s) {
		c := s[i]
		if c < '0' || c > '9' {
			return 0, false
		}
		n = n*10 + int64(c-'0')
	}
	return n, true
}

// Cut gives at most n bytes of a text, for a message: "…" stands for what was left out. No character is cut
// in two.
func Cut[T ~string | ~[]byte](s T, n int) string {
	if len(s) <= n {
		return string(s)
	}
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return string(s[:n]) + "…"
}

// IsHex tells whether s is so many lower-case hexadecimal digits, and nothing else.
func IsHex(s string, digits int) bool { return len(s) == digits && strings.Trim(s, lower) == "" }

// Digits that the digests of repositories have in hexadecimal.
const (
	SHA256 = 64
	SHA512 = 128
)

// Names holds strings once that come again and again in a list, as names, versions and
// sections do. What a hostile list could make it hold is bounded.
type Names map[string]string

// mostNames is how many different ones are held.
const mostNames = 1 << 18

// Get gives the string that is held, and holds it if there is room.
func (n Names) Get(s string) string {
	if have, ok := n[s]; ok {
		return have
	}
	if len(n) < mostNames {
		s = strings.Clone(s)
		n[s] = s
	}
	return s
}

// Bytes is Get for a string that is still part of a buffer, without a copy of one that
// is held.
func (n Names) Bytes(b []byte) string {
	if have, ok := n[string(b)]; ok {
		return have
	}
	return n.Get(string(b))
}
