package machine_test

import (
	"fmt"

	"stockade/core/families"
	"stockade/core/machine"
)

// A machine's list of what it has is read as its own programs print it.
func ExampleReadReport() {
	list := "ii  sluicectl 1.4-1 amd64\nhi  tide-tables 2.4.1-1 all\n"
	all, err := machine.ReadReport(families.All, "deb", []byte(list))
	for _, p := range all {
		fmt.Println(p.Name, p.Version, p.Arch, p.Held)
	}
	fmt.Println(err)
	// Output:
	// sluicectl 1.4-1 amd64 false
	// tide-tables 2.4.1-1 all true
	// <nil>
}
