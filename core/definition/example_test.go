package definition_test

import (
	"fmt"

	"stockade/core/definition"
)

// A finding says what is wrong, where, and what to do.
func ExampleRead() {
	_, found := definition.Read(definition.Text{Name: "reach.yaml", Text: `stockade: 1
sources:
  tarn:
    famly: deb
`})
	for _, f := range found {
		fmt.Printf("%s:%d: %s [%s]\n  %s\n", f.Place.File, f.Place.Line, f.Text, f.Code, f.WayOut)
	}
	// Output:
	// reach.yaml:3: the source tarn has no family [define.missing-field]
	//   add the field
	// reach.yaml:4: no field is named "famly" in sources.tarn [define.unknown-field]
	//   did you mean "family"?
}
