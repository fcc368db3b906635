package families_test

import (
	"fmt"
	"strings"

	"stockade/core/archive"
	"stockade/core/families"
)

// An index is read as a stream, package by package. What one needs is parsed when
// somebody asks.
func Example() {
	const index = `Package: sluicectl
Version: 1.4-1
Architecture: amd64
Depends: libtide2 (>= 2), tide-data | tide-tables
Filename: pool/core/s/sluicectl_1.4-1_amd64.deb
Size: 5
SHA256: aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa
`
	deb := families.All["deb"]
	source := archive.Source{Name: "tarn", Release: "heron", Components: []string{"core"},
		Architectures: []string{"amd64"}}
	err := deb.ReadIndex(source, archive.IndexChoice{Component: "core", Arch: "amd64"},
		strings.NewReader(index), func(p *archive.Package, _ []byte) error {
			needs, err := p.Needs.Relations()
			if err != nil {
				return err
			}
			fmt.Println(p, "needs", needs.Requires[0], "and", needs.Requires[1])
			return nil
		})
	if err != nil {
		fmt.Println(err)
	}
	fmt.Println(deb.CompareVersions("1.4~rc1-1", "1.4-1") < 0)
	// Output:
	// sluicectl 1.4-1 (amd64) needs libtide2 >= 2 and tide-data or tide-tables
	// true
}
