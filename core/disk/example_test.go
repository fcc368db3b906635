package disk_test

import (
	"fmt"
	"os"
	"path/filepath"

	"stockade/core/disk"
)

// A file that is replaced is there whole, as it was or as it is now, whenever the machine stops.
func ExampleReplace() {
	dir, err := os.MkdirTemp("", "example-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	name := filepath.Join(dir, "label")
	for _, text := range []string{"barrage/1", "barrage/2"} {
		if err := disk.Replace(disk.OS, name, []byte(text), 0o644); err != nil {
			panic(err)
		}
	}
	now, err := disk.ReadMost(disk.OS, name, 100)
	if err != nil {
		panic(err)
	}
	left, err := os.ReadDir(dir)
	fmt.Println(string(now), len(left), err)
	// Output:
	// barrage/2 1 <nil>
}
