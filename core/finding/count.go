package finding

import (
	"fmt"
	"strings"
)

// Count says how many there are of a thing: "1 other", "7 others".
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Names names the first of some things, most of them at the most, and counts the others: "a, b and
// c", "a, b and 7 others".
func Names(names []string, most int) string {
	n := len(names)
	switch {
	case n > most:
		return strings.Join(names[:most], ", ") + " and " + Count(n-most, "other")
	case n < 2:
		return strings.Join(names, "")
	}
	return strings.Join(names[:n-1], ", ") + " and " + names[n-1]
}
