package deb_test

import (
	"fmt"

	"stockade/core/archive/deb"
)

// Versions are ordered as the clients of the family order them.
func ExampleFamily_CompareVersions() {
	for _, of := range [][2]string{
		{"1.0~rc1-1", "1.0-1"},
		{"2:1.0", "10.0"},
		{"1.0-1", "1.0-1"},
	} {
		sign := map[int]string{-1: "<", 0: "=", 1: ">"}[deb.Family{}.CompareVersions(of[0], of[1])]
		fmt.Println(of[0], sign, of[1])
	}
	// Output:
	// 1.0~rc1-1 < 1.0-1
	// 2:1.0 > 10.0
	// 1.0-1 = 1.0-1
}
