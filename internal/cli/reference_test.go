package cli

import (
	"flag"
	"os"
	"testing"

	"stockade/internal/must"
)

var update = flag.Bool("update", false, "write the generated documents anew")

// docs/commands.md is what the commands say of themselves.
func TestGeneratedDocumentsAreCurrent(t *testing.T) {
	const path = "../../docs/commands.md"
	if *update {
		must.Write(t, path, Reference())
		return
	}
	if have, err := os.ReadFile(path); err != nil || string(have) != Reference() {
		t.Errorf("%s is not current: make documents", path)
	}
}
