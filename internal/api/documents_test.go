package api

import (
	"flag"
	"os"
	"reflect"
	"testing"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/must"
)

var update = flag.Bool("update", false, "write the generated documents anew")

// The generated documents in docs/ are what the program says now.
func TestGeneratedDocumentsAreCurrent(t *testing.T) {
	for path, want := range map[string][]byte{
		"../../docs/openapi.json":           OpenAPI("1"),
		"../../docs/findings.md":            []byte(finding.Document()),
		"../../docs/definition.schema.json": definition.Schema(),
	} {
		if *update {
			must.Do(t, os.WriteFile(path, want, 0o644))
			continue
		}
		have, err := os.ReadFile(path)
		if err != nil || string(have) != string(want) {
			t.Errorf("%s is not current: go test ./internal/api -update", path)
		}
	}
}

// Two types that would be called alike in the description are a mistake of ours, and not one type.
func TestTwoTypesOfOneNameAreNotOneInTheDescription(t *testing.T) {
	defer func() {
		if said := recover(); said == nil {
			t.Error("one of them took the place of the other")
		}
	}()
	type Hit struct{ Other int }
	d := &describer{schemas: map[string]any{}, types: map[string]reflect.Type{}}
	d.ref(reflect.TypeFor[Hit]())
	d.ref(ofThePackage)
}

var ofThePackage = reflect.TypeFor[Hit]()
