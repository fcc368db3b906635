package text_test

import (
	"fmt"

	"stockade/core/archive/text"
)

// A number is decimal digits and nothing else: a client that reads "+7" or "0x7" otherwise is not followed.
func ExampleNumber() {
	for _, s := range []string{"226300", "+7", "0x7", " 7", ""} {
		n, ok := text.Number(s)
		fmt.Printf("%q %d %v\n", s, n, ok)
	}
	// Output:
	// "226300" 226300 true
	// "+7" 0 false
	// "0x7" 0 false
	// " 7" 0 false
	// "" 0 false
}
