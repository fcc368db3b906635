package alpm

import (
	"fmt"
	"strings"
)

// CompareVersions orders two versions, [EPOCH:]VERSION[-RELEASE], as the
// family's client does: epoch, version and release by segments of digits or
// letters; a rest of letters is older than none, any other rest is newer. A
// release is compared only where both have one. The result is negative, zero or
// positive.
func CompareVersions(a, b string) int {
	ae, av, ar := splitVersion(a)
	be, bv, br := splitVersion(b)
	if c := compareSegments(ae, be); c != 0 {
		return c
	}
	if c := compareSegments(av, bv); c != 0 {
		return c
	}
	if ar == "" || br == "" {
		return 0
	}
	return compareSegments(ar, br)
}

func splitVersion(v string) (epoch, version, release string) {
	epoch = "0"
	if i := strings.IndexByte(v, ':'); i >= 0 && strings.Trim(v[:i], "0123456789") == "" {
		if i > 0 {
			epoch = v[:i]
		}
		v = v[i+1:]
	}
	if i := strings.LastIndexByte(v, '-'); i >= 0 {
		return epoch, v[:i], v[i+1:]
	}
	return epoch, v, ""
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
func isAlpha(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

func compareSegments(a, b string) int {
	if a == b {
		return 0
	}
	other := func(c byte) bool { return !isDigit(c) && !isAlpha(c) }
	span := func(s string, kind func(byte) bool) int {
		i := 0
		for i < len(s) && kind(s[i]) {
			i++
		}
		return i
	}
	for a != "" && b != "" {
		i, j := span(a, other), span(b, other)
		a, b = a[i:], b[j:]
		if a == "" || b == "" {
			break
		}
		if i != j { // the one with more between its segments is newer
			return i - j
		}
		kind, numeric := isAlpha, isDigit(a[0])
		if numeric {
			kind = isDigit
		}
		i, j = span(a, kind), span(b, kind)
		if j == 0 { // of different kinds: digits are newer
			if numeric {
				return 1
			}
			return -1
		}
		x, y := a[:i], b[:j]
		a, b = a[i:], b[j:]
		if numeric {
			x, y = strings.TrimLeft(x, "0"), strings.TrimLeft(y, "0")
			if len(x) != len(y) {
				return len(x) - len(y)
			}
		}
		if c := strings.Compare(x, y); c != 0 {
			return c
		}
	}
	switch {
	case a == "" && b == "":
		return 0
	case a == "" && !isAlpha(b[0]), a != "" && isAlpha(a[0]):
		return -1
	}
	return 1
}

// CheckVersion tells why v is no version of the family, or nil.
func CheckVersion(v string) error {
	_, version, release := splitVersion(v)
	switch {
	case version == "":
		return fmt.Errorf("%q has no version in it", v)
	case len(v) > 512:
		return fmt.Errorf("a version is longer than 512 bytes")
	case strings.Contains(version, "-"):
		return fmt.Errorf("%q has more than one dash", v)
	}
	for _, part := range []string{version, release} {
		for i := range len(part) {
			if c := part[i]; !isDigit(c) && !isAlpha(c) && strings.IndexByte("._+~^@", c) < 0 &&
				(c != '-' || i >= 0 && part == release) {
				return fmt.Errorf("%q contains %q, which is not allowed in a version", v, c)
			}
		}
	}
	return nil
}
