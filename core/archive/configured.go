package archive

import (
	"path"
	"strings"

	"stockade/core/finding"
)

// Reading is implemented by a family that reads what its clients have been configured
// with. It reads as the client does, and believes nothing: what comes out is a
// description to be looked at by a person, checked like any other.
type Reading interface {
	// Configuration gives the files that say where packages come from, as patterns
	// (path.Match) below a machine's root.
	Configuration() []string
	// Keyrings gives the files whose keys count for every source, likewise.
	Keyrings() []string
	// ReadConfiguration reads them, in the order in which the client does.
	ReadConfiguration(files []MachineFile) Configured
	// MachineArchitecture gives the family's name for the architecture of a machine, from
	// that of Go (runtime.GOARCH); as it is, if it does not know it.
	MachineArchitecture(goarch string) string
}

// MachineFile is a file of a machine.
type MachineFile struct {
	Path string // below the root, slash-separated, without a slash before it
	Name string // what people call it: where it was read
	Data []byte
}

// Configured is what a machine's files say.
type Configured struct {
	Sources  []ConfiguredSource
	Findings finding.List
}

// ConfiguredSource is one repository that a machine is configured with.
type ConfiguredSource struct {
	Source                  // without a name; what was left out is empty
	Title     string        // what the machine calls it, if it does
	Place     finding.Place // where it begins
	URLs      []string      // in the order in which they stand
	Lists     []string      // of servers, one a line
	Metalinks []string
	Priority  int // 1, asked first, to 99; 0: it says none
	Disabled  bool
	KeyFiles  []ConfiguredKey // none: the keys that count for every source
	Unchecked finding.Place   // where signature checking is switched off; zero: nowhere
	Switch    string          // what switches it off there, such as trusted=yes
	Findings  finding.List    // what of it is lost or doubtful
}

// ConfiguredKey is a keyring that a source names: a file, or the certificates themselves.
type ConfiguredKey struct {
	Place finding.Place
	Path  string // absolute, on the machine; empty: Data
	Data  []byte
}

// ReadsFile tells whether a path, as people give it, can be one of a family's files: its
// end is that of one of the patterns.
func ReadsFile(f Reading, file string) bool {
	for _, pattern := range f.Configuration() {
		dir, base := path.Split(pattern)
		name := path.Base(file)
		ok, err := path.Match(base, name)
		if err != nil || !ok {
			continue
		}
		// A name that says nothing by its end has to lie where it belongs.
		if strings.HasPrefix(base, "*.") || path.Base(path.Dir(file)) == path.Base(dir) {
			return true
		}
	}
	return false
}
