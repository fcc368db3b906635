package rpm

import (
	"fmt"
	"strings"
)

// CompareVersions orders two versions, [EPOCH:]VERSION[-RELEASE], as the
// clients of the family do: by epoch (none is 0), version and release, each by
// segments of digits or letters; a tilde sorts before everything, even the end,
// a caret after the end and before everything else. The result is negative,
// zero or positive.
func CompareVersions(a, b string) int {
	c, ar, br := compareBegin(a, b)
	if c != 0 {
		return c
	}
	return compareSegments(ar, br)
}

// compareBegin compares epochs and versions, and gives the releases.
func compareBegin(a, b string) (c int, ar, br string) {
	ae, av, ar := splitEVR(a)
	be, bv, br := splitEVR(b)
	if c := compareSegments(ae, be); c != 0 {
		return c, ar, br
	}
	return compareSegments(av, bv), ar, br
}

// splitEVR takes a version apart; an epoch left out is "0".
func splitEVR(s string) (epoch, version, release string) {
	epoch = "0"
	if i := strings.IndexByte(s, ':'); i >= 0 && strings.Trim(s[:i], "0123456789") == "" {
		if i > 0 {
			epoch = s[:i]
		}
		s = s[i+1:]
	}
	if i := strings.LastIndexByte(s, '-'); i >= 0 {
		return epoch, s[:i], s[i+1:]
	}
	return epoch, s, ""
}

// joinEVR writes a version; an epoch of 0 is left out.
func joinEVR(epoch, version, release string) string {
	s := version
	if release != "" {
		s += "-" + release
	}
	if epoch != "" && strings.Trim(epoch, "0") != "" {
		s = strings.TrimLeft(epoch, "0") + ":" + s
	}
	return s
}

func isDigit(c byte) bool { return c >= '0' && c <= '9' }
func isAlpha(c byte) bool { return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' }

// skipSeparators passes over what is neither letter, digit, tilde nor caret.
func skipSeparators(s string) string {
	for s != "" && !isDigit(s[0]) && !isAlpha(s[0]) && s[0] != '~' && s[0] != '^' {
		s = s[1:]
	}
	return s
}

// run takes the characters at the beginning that are of one kind.
func run(s string, kind func(byte) bool) (head, rest string) {
	i := 0
	for i < len(s) && kind(s[i]) {
		i++
	}
	return s[:i], s[i:]
}

func compareSegments(a, b string) int {
	if a == b {
		return 0
	}
	for a != "" || b != "" {
		a, b = skipSeparators(a), skipSeparators(b)
		at, bt := strings.HasPrefix(a, "~"), strings.HasPrefix(b, "~")
		if at || bt {
			switch {
			case !at:
				return 1
			case !bt:
				return -1
			}
			a, b = a[1:], b[1:]
			continue
		}
		ac, bc := strings.HasPrefix(a, "^"), strings.HasPrefix(b, "^")
		if ac || bc {
			switch {
			case a == "":
				return -1
			case b == "":
				return 1
			case !ac:
				return 1
			case !bc:
				return -1
			}
			a, b = a[1:], b[1:]
			continue
		}
		if a == "" || b == "" {
			break
		}
		kind, numeric := isAlpha, isDigit(a[0])
		if numeric {
			kind = isDigit
		}
		var x, y string
		x, a = run(a, kind)
		y, b = run(b, kind)
		if y == "" { // segments of different kinds: digits are newer
			if numeric {
				return 1
			}
			return -1
		}
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
	case a != "":
		return 1
	}
	return -1
}

// CheckVersion tells why v is no version of the family, or nil.
func CheckVersion(v string) error {
	epoch, version, release := splitEVR(v)
	switch {
	case version == "":
		return fmt.Errorf("%q has no version in it", v)
	case len(epoch) > 10:
		return fmt.Errorf("%q has too large an epoch", v)
	case len(v) > 512:
		return fmt.Errorf("a version is longer than 512 bytes")
	}
	for _, part := range []string{version, release} {
		for i := range len(part) {
			if c := part[i]; !isDigit(c) && !isAlpha(c) && !strings.ContainsRune("._+~^-", rune(c)) ||
				c == '-' && part == release {
				return fmt.Errorf("%q contains %q, which is not allowed in a version", v, c)
			}
		}
	}
	if strings.Contains(version, "-") {
		return fmt.Errorf("%q has more than one dash", v)
	}
	return nil
}
