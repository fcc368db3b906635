package finding_test

import (
	"fmt"

	"stockade/core/finding"
)

// A finding is an error with a code, the object that it is about, and what to do. It stays one however it is
// wrapped.
func ExampleNew() {
	var err error = finding.New(finding.KeyMissing, "source tarn", "its key %s was never imported",
		"tarn-archive").
		Do("stockade key add FILE")
	err = fmt.Errorf("build barrage: %w", err)
	f, ok := finding.From(err)
	fmt.Println(ok, f.Code, f.Severity, f.Object)
	fmt.Println(f.Text)
	fmt.Println(f.WayOut)
	// Output:
	// true key.missing error source tarn
	// its key tarn-archive was never imported
	// stockade key add FILE
}
