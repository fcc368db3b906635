package deb

import (
	"fmt"
	"strings"
)

// CompareVersions orders two versions by the rules of Debian Policy §5.6.12:
// epoch, then upstream version, then revision, where a tilde sorts before
// everything, even the end. The result is negative, zero or positive.
func CompareVersions(a, b string) int {
	ae, au, ar := splitVersion(a)
	be, bu, br := splitVersion(b)
	if c := compareDigits(ae, be); c != 0 {
		return c
	}
	if c := comparePart(au, bu); c != 0 {
		return c
	}
	return comparePart(ar, br)
}

func splitVersion(v string) (epoch, upstream, revision string) {
	epoch = "0"
	if i := strings.IndexByte(v, ':'); i >= 0 {
		epoch, v = v[:i], v[i+1:]
	}
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		return epoch, v[:i], v[i+1:]
	}
	return epoch, v, ""
}

// order gives the weight of a non-digit: tilde, end, letters, all others.
func order(s string, i int) int {
	if i >= len(s) {
		return 0
	}
	switch c := s[i]; {
	case c >= '0' && c <= '9':
		return 0
	case c >= 'A' && c <= 'Z', c >= 'a' && c <= 'z':
		return int(c)
	case c == '~':
		return -1
	default:
		return int(c) + 256
	}
}

func digit(s string, i int) bool { return i < len(s) && s[i] >= '0' && s[i] <= '9' }

func comparePart(a, b string) int {
	i, j := 0, 0
	for i < len(a) || j < len(b) {
		for (i < len(a) && !digit(a, i)) || (j < len(b) && !digit(b, j)) {
			if d := order(a, i) - order(b, j); d != 0 {
				return d
			}
			i++
			j++
		}
		si := i
		for digit(a, i) {
			i++
		}
		sj := j
		for digit(b, j) {
			j++
		}
		if c := compareDigits(a[si:i], b[sj:j]); c != 0 {
			return c
		}
	}
	return 0
}

// compareDigits orders runs of digits of any length as numbers.
func compareDigits(a, b string) int {
	a, b = strings.TrimLeft(a, "0"), strings.TrimLeft(b, "0")
	if len(a) != len(b) {
		return len(a) - len(b)
	}
	return strings.Compare(a, b)
}

// CheckVersion tells why v is not a version by Debian Policy §5.6.12.
func CheckVersion(v string) error {
	switch {
	case v == "":
		return fmt.Errorf("the version is empty")
	case len(v) > 512:
		return fmt.Errorf("the version is longer than 512 bytes")
	}
	rest := v
	if i := strings.IndexByte(v, ':'); i >= 0 {
		if i == 0 || strings.Trim(v[:i], "0123456789") != "" {
			return fmt.Errorf("version %q: the epoch before the colon is not a number", v)
		}
		rest = v[i+1:]
	}
	if rest == "" {
		return fmt.Errorf("version %q: nothing follows the epoch", v)
	}
	for _, c := range rest {
		switch {
		case c >= '0' && c <= '9', c >= 'A' && c <= 'Z', c >= 'a' && c <= 'z':
		case strings.ContainsRune(".+-~:", c):
		default:
			return fmt.Errorf("version %q contains %q, which is not allowed", v, c)
		}
	}
	return nil
}
