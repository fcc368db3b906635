// Package must is for tests: what they prepare either comes to be, or ends them. A test
// that went on without would test something else than it says.
package must

import (
	"os"
	"path/filepath"
	"testing"
)

// Do ends the test where something that it needs failed.
func Do(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// Read gives the text of a file.
func Read(t testing.TB, path string) string {
	t.Helper()
	raw, err := os.ReadFile(path)
	Do(t, err)
	return string(raw)
}

// Write writes a file (0644, as the umask leaves it), with the folders above it.
func Write(t testing.TB, path, text string) {
	t.Helper()
	Do(t, os.MkdirAll(filepath.Dir(path), 0o755))
	Do(t, os.WriteFile(path, []byte(text), 0o644))
}
