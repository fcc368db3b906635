package solve_test

import (
	"context"
	"fmt"

	"stockade/core/archive"
	"stockade/core/families"
	"stockade/core/solve"
)

type needs []archive.Clause

func (n needs) Relations() (archive.Relations, error) { return archive.Relations{Requires: n}, nil }

// Everything that a wanted package needs comes along, and it is proved that machines
// can install it from what was taken.
func ExampleUniverse_Select() {
	sources := []solve.Source{{Name: "tarn", Priority: 20, Architectures: []string{"amd64"}}}
	u := solve.NewUniverse(families.All["deb"], sources)
	for i, p := range []*archive.Package{
		{Name: "sluicectl", Version: "1.4-1", Arch: "amd64", SHA256: "a",
			Needs: needs{{{Name: "libtide2", Op: archive.GreaterOrEqual, Version: "2"}}}},
		{Name: "libtide2", Version: "1.9-1", Arch: "amd64", SHA256: "b"},
		{Name: "libtide2", Version: "2.1-1", Arch: "amd64", SHA256: "c"},
	} {
		p.Ordinal = i // its place in the index
		u.Add(0, p)
	}
	wants := []solve.Want{{Source: solve.AllSources, Relation: archive.Relation{Name: "sluicectl"},
		With: "required", Versions: 1, As: "sluicectl"}}
	s, err := u.Select(context.Background(), wants, []solve.View{u.Everyone()}, solve.Limits{})
	if err != nil {
		panic(err)
	}
	for _, c := range s.Chosen {
		fmt.Println(c.Name, c.Version, "for", c.For)
	}
	fmt.Println(s.Proofs[0])
	// Output:
	// sluicectl 1.4-1 for sluicectl
	// libtide2 2.1-1 for sluicectl
	// 1 of 1 wanted can be installed by machines of no group on amd64
}
