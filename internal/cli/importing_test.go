package cli

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"stockade/internal/made"
	"stockade/internal/must"
)

// imports runs source import in a folder, and gives the exit code with what was written.
func imports(t *testing.T, args ...string) (code int, document, told string) {
	t.Helper()
	var out, err bytes.Buffer
	code = Run(func(string) string { return "" }, append([]string{"source", "import"}, args...),
		strings.NewReader(""), &out, &err)
	return code, out.String(), err.String()
}

// The root of a machine can be named from where somebody stands: the keys that the document names
// are found from wherever it lies then.
func TestARootOfAMachineCanBeRelative(t *testing.T) {
	dir := t.TempDir()
	ring := filepath.Join(dir, "mnt/etc/apt/keyrings/tarn.asc")
	must.Do(t, os.MkdirAll(filepath.Dir(ring), 0o755))
	must.Do(t, os.MkdirAll(filepath.Join(dir, "elsewhere"), 0o755))
	key, err := made.Key(made.Owner{Name: "Tarn archive"})
	must.Do(t, err)
	must.Write(t, ring, key.Certificate().Armoured())
	must.Write(t, filepath.Join(dir, "mnt/etc/apt/sources.list"),
		"deb [signed-by=/etc/apt/keyrings/tarn.asc] https://north.tarn.example/tarn heron core\n")
	for from, root := range map[string]string{".": "mnt", "elsewhere": "../mnt", "mnt": "."} {
		t.Run(root, func(t *testing.T) {
			t.Chdir(filepath.Join(dir, from))
			_, document, told := imports(t, "--root", root)
			if !strings.Contains(document+told, ring) {
				t.Errorf("got %s%s, want the keyring at %s", document, told, ring)
			}
		})
	}
}

// What cannot be taken over is an answer of no, and what can is written all the same.
func TestAnImportWithErrorsSaysNo(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "sources.list.d/tarn.list")
	must.Do(t, os.MkdirAll(filepath.Dir(file), 0o755))
	for text, want := range map[string]int{
		"deb https://north.tarn.example/tarn heron core\n":                  0,
		"deb https://north.tarn.example/tarn heron core\ndeb [arch=amd64\n": 1,
	} {
		must.Write(t, file, text)
		code, document, told := imports(t, file)
		if code != want || !strings.Contains(document, "https://north.tarn.example/tarn") {
			t.Errorf("%q: got exit code %d, want %d\n%s%s", text, code, want, document, told)
		}
	}
}
