package edition_test

import (
	"fmt"
	"os"

	"stockade/core/edition"
	"stockade/core/pool"
	"stockade/core/trust"
)

// Whoever has an edition's folder and the site's certificate can tell what was sealed.
func ExampleOpen() {
	raw, err := os.ReadFile("testdata/format-1/site.asc")
	if err != nil {
		panic(err)
	}
	site, err := trust.ReadCertificates(raw)
	if err != nil {
		panic(err)
	}
	dir, err := os.MkdirTemp("", "example-")
	if err != nil {
		panic(err)
	}
	defer os.RemoveAll(dir)
	store, err := pool.Open(dir+"/pool", dir+"/tmp")
	if err != nil {
		panic(err)
	}
	e, err := edition.Open("testdata/format-1/own", site, store)
	if err != nil {
		panic(err)
	}
	line, ok, err := e.Find("tarn/dists/heron/InRelease")
	fmt.Println(e.Name(), e.Manifest.Files(), "files;", line.Size, "bytes", ok, err)
	missing, err := e.Missing() // the pool is empty
	fmt.Println("first of those that are not here:", missing, err)
	// Output:
	// barrage/1 23 files; 1646 bytes true <nil>
	// first of those that are not here: about/README.txt <nil>
}
