package finding

import "fmt"

// Count says how many there are of a thing: "1 other", "7 others".
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %ss", n, one)
}
