package archive_test

import (
	"bytes"
	"fmt"
	"io"

	"stockade/core/archive"
	"stockade/core/finding"
)

// What is decompressed is bounded: a small file may unpack to more than a machine has.
func ExampleDecompress() {
	bomb, err := archive.Compress(bytes.Repeat([]byte("tide "), 1000), "zst")
	if err != nil {
		panic(err)
	}
	plain, err := archive.Decompress(bytes.NewReader(bomb), "zst", 100)
	if err != nil {
		panic(err)
	}
	defer plain.Close()
	_, err = io.ReadAll(plain)
	f, _ := finding.From(err)
	fmt.Println(len(bomb), "bytes:", f.Code, f.Text)
	// Output:
	// 27 bytes: content.too-large more than 100 bytes come out of this zst stream
}

// A path of an index never leads out of the folder that it is relative to.
func ExampleCheckPath() {
	for _, p := range []string{"pool/s/sluicectl_1.4-1_amd64.deb", "../etc/passwd", "/etc/passwd"} {
		fmt.Println(archive.CheckPath(p))
	}
	// Output:
	// <nil>
	// the path "../etc/passwd" has an empty part, or one of dots only. Fix: tell the owner of the upstream
	// the path "/etc/passwd" is absolute. Fix: tell the owner of the upstream
}
