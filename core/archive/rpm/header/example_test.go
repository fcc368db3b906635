package header_test

import (
	"bytes"
	"fmt"

	"stockade/core/archive/rpm/header"
)

// A header is read back as it was written, and one that is longer than the limit is refused.
func ExampleRead() {
	const tagName, tagVersion, region = 1000, 1001, 63
	w := header.NewWriter(region)
	w.Text(tagName, "pumpctl")
	w.Text(tagVersion, "3.2.1")
	h, err := header.Read(bytes.NewReader(w.Bytes()), 1<<10)
	if err != nil {
		panic(err)
	}
	fmt.Println(h.Text(tagName), h.Text(tagVersion))
	_, err = header.Read(bytes.NewReader(w.Bytes()), 16)
	fmt.Println(err != nil)
	// Output:
	// pumpctl 3.2.1
	// true
}
