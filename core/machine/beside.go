package machine

import (
	"bytes"
	_ "embed"
	"fmt"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
)

// Beside is what lies beside an export for the machines of a group, in machines/: their files below
// GROUP/, and a script that checks the export where it arrives. It has a seal of its own, which says for
// which edition it is: newer machines' files over an older edition, or those of another mirror, are told
// by it.
type Beside struct {
	Group   string
	Edition string // MIRROR/N
	Site    string // fingerprint of the site key
	Files   []archive.ClientFile
}

//go:embed kit/check.sh
var checkScript string

// CheckName is what the script is called, below machines/.
const CheckName = "check.sh"

// Check is the script for sh(1).
func (b Beside) Check() []byte { return []byte(strings.ReplaceAll(checkScript, "SITE_KEY", b.Site)) }

// Sums is what the seal is over: the edition, then every file by its path in the export, as sha256sum(1)
// has it.
func (b Beside) Sums() []byte {
	sums := map[string]string{}
	for _, f := range b.Files {
		sums[f.Path] = digest(f.Data)
	}
	lines := []string{digest(b.Check()) + "  machines/" + CheckName + "\n",
		digest(writtenList(sums)) + "  " + path.Join("machines", b.Group, Written) + "\n"}
	for _, f := range b.Files {
		lines = append(lines, digest(f.Data)+"  "+path.Join("machines", b.Group, f.Path)+"\n")
	}
	slices.SortFunc(lines, func(x, y string) int { return strings.Compare(x[64:], y[64:]) })
	var out bytes.Buffer
	fmt.Fprintf(&out, "# edition %s\n", b.Edition)
	for _, l := range lines {
		out.WriteString(l)
	}
	return out.Bytes()
}
