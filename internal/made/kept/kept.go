// Package kept holds what a test gives against what somebody read once and found right.
package kept

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

// Same asserts that a text is that of testdata/NAME. GOLDEN=write in the environment writes it
// anew, to be read again.
func Same(t *testing.T, name, got string) {
	t.Helper()
	path := filepath.Join("testdata", filepath.FromSlash(name))
	if os.Getenv("GOLDEN") == "write" {
		must.Write(t, path, got)
		return
	}
	is, was := strings.Split(got, "\n"), strings.Split(must.Read(t, path), "\n")
	at := func(lines []string, i int) string {
		if i < len(lines) {
			return lines[i]
		}
		return "(nothing)"
	}
	for i := range max(len(is), len(was)) {
		if at(is, i) != at(was, i) {
			t.Fatalf("%s is another than was kept, from line %d on:\n%s\nand was\n%s", path, i+1, at(is, i),
				at(was, i))
		}
	}
}

// Findings writes all of what findings say.
func Findings(list finding.List) string {
	var b strings.Builder
	for _, f := range list {
		fmt.Fprintf(&b, "%s %s", f.Severity, f.Code)
		for _, part := range []string{f.Cause, f.Object, f.Place.String(), f.Field} {
			if part != "" {
				b.WriteString(", " + part)
			}
		}
		fmt.Fprintf(&b, "\n  %s\n", f.Text)
		if f.WayOut != "" {
			fmt.Fprintf(&b, "  > %s\n", f.WayOut)
		}
		if f.Fix != (finding.Fix{}) {
			fmt.Fprintf(&b, "  fix: %q becomes %q\n", f.Fix.Old, f.Fix.New)
		}
		if f.Way.Does != "" {
			fmt.Fprintf(&b, "  way: %+v\n", f.Way)
		}
		for line := range strings.Lines(f.Excerpt) {
			b.WriteString("  | " + strings.TrimRight(line, "\n") + "\n")
		}
	}
	return b.String()
}
