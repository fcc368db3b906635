package archive

import (
	"bytes"
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
	// KeyFolders gives the files, likewise, where keyrings lie that a source can name.
	KeyFolders() []string
	// ReadConfiguration reads them, in the order in which the client does.
	ReadConfiguration(files []MachineFile) Configured
	// MachineArchitecture gives the family's name for the architecture of a machine, from
	// that of Go (runtime.GOARCH); as it is, if it does not know it.
	MachineArchitecture(goarch string) string
}

// KeyDatabase is implemented by a family whose clients keep the keys that count for every
// source in a database (SQLite 3).
type KeyDatabase interface {
	// KeyDatabases gives the files, as patterns below a machine's root.
	KeyDatabases() []string
	// KeyRows gives the query for the rows that have keys, of one column.
	KeyRows() string
	// KeysOf gives the certificates of such a row, binary.
	KeysOf(row []byte) ([]byte, error)
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

// MachineReader is what each family's reader of a machine's files begins with. The zero
// value is ready.
type MachineReader struct {
	File string // which is being read, as it is called
	// Marks is what the client thinks of a byte order mark at the beginning of a file.
	Marks string
	Read  Configured

	parts int  // of the sources that were taken
	over  bool // some were left out
	more  int  // findings that were left out
}

// Limits on what is read of a machine: bytes of one file; of all files together sources, and what they
// are made of (addresses, each with each component, and architectures). One entry of a file can stand
// for many sources,
// so that neither is bounded by the size of the files.
const (
	maxMachineFile       = 1 << 20
	maxConfiguredSources = 1_000
	maxConfiguredParts   = 20_000
)

// Full tells whether no further source is taken.
func (r *MachineReader) Full() bool {
	return r.over || len(r.Read.Sources) >= maxConfiguredSources || r.parts >= maxConfiguredParts
}

// Take takes a source that was read. What is beyond the bounds is left out, and Done tells of it.
func (r *MachineReader) Take(s ConfiguredSource) {
	parts := len(s.URLs)*max(len(s.Components), 1) + len(s.Lists) + len(s.Metalinks) + len(s.Architectures)
	if r.Full() || parts > maxConfiguredParts {
		r.over = true
		return
	}
	r.parts += parts
	r.Read.Sources = append(r.Read.Sources, s)
}

// byteOrderMark is what some editors put before the text of a file (Unicode, 2.13).
const byteOrderMark = "\ufeff"

// Unmarked takes a byte order mark off the beginning of a file, and tells whether there was one.
func (f *MachineFile) Unmarked() bool {
	rest, marked := bytes.CutPrefix(f.Data, []byte(byteOrderMark))
	f.Data = rest
	return marked
}

// Marked is told of a file with a byte order mark, of which the client thinks something.
func Marked(thinks string) finding.Finding {
	return finding.New(finding.DefineSyntax, "", "the file begins with a byte order mark: %s", thinks).
		Rated(finding.Warning).Do("save the file as UTF-8 without a byte order mark")
}

// Begin turns to a file, and tells whether it can be read.
func (r *MachineReader) Begin(f *MachineFile) bool {
	r.File = f.Name
	if f.Unmarked() {
		r.Tell(Marked(r.Marks), 1)
	}
	if len(f.Data) > maxMachineFile {
		r.Tell(finding.New(finding.ContentTooLarge, "", "the file is %d bytes long; the limit "+
			"is %d",
			len(f.Data), maxMachineFile), 0)
		return false
	}
	return true
}

// Place is a line of the file; 0: the file.
func (r *MachineReader) Place(line int) finding.Place {
	if line == 0 {
		return finding.Place{File: r.File}
	}
	return finding.Place{File: r.File, Line: line, Column: 1}
}

// Tell tells of a line of the file of which no source comes.
func (r *MachineReader) Tell(f finding.Finding, line int) {
	if len(r.Read.Findings) >= finding.Most {
		r.more++
		return
	}
	r.Read.Findings = append(r.Read.Findings, f.At(r.Place(line)))
}

// Done gives what was read.
func (r *MachineReader) Done() Configured {
	if r.over {
		r.Read.Findings = append(r.Read.Findings, finding.New(finding.ContentTooLarge, "",
			"there are more than %d sources, or %d addresses and components of them. The "+
				"others were left out", maxConfiguredSources, maxConfiguredParts).At(r.Place(0)))
	}
	if r.more > 0 {
		r.Read.Findings = append(r.Read.Findings, finding.New(finding.DefineTooMany, "",
			"there are %s beside the first %d, which are shown", finding.Count(r.more, "thing"),
			finding.Most).At(r.Place(0)))
	}
	return r.Read
}

// ConfiguredReach is how the servers of a source are reached, beside their addresses. Paths
// are absolute, on the machine. No secret is ever read.
type ConfiguredReach struct {
	User        string // who the machine says it is, by a login
	UserPlace   finding.Place
	Certificate string // the client certificate that it shows, or its key: a path
	Authority   string // who certifies them: a path
	Proxy       string // the address of a proxy
	ProxyUser   string
	Place       finding.Place // of what was said last
}

// ConfiguredSource is one repository that a machine is configured with.
type ConfiguredSource struct {
	Source               // without a name; what was left out is empty
	Title  string        // what the machine calls it, if it does
	Place  finding.Place // where it begins
	URLs   []string      // in the order in which they stand
	// OwnArchitecture tells that the machine's own architecture is one of them, beside those named.
	OwnArchitecture bool
	Lists           []string // of servers, one a line
	Metalinks       []string
	Priority        int // 1, asked first, to 99; 0: it says none
	Disabled        bool
	KeyFiles        []ConfiguredKey // none: the keys that count for every source
	Unchecked       finding.Place   // where signature checking is switched off; zero: nowhere
	Switch          string          // what switches it off there, such as trusted=yes
	Reach           ConfiguredReach
	Findings        finding.List // what of it is lost or doubtful
}

// ConfiguredKey is a keyring that a source names: a file, or the certificates themselves.
type ConfiguredKey struct {
	Place finding.Place
	Path  string // absolute, on the machine; empty: Data
	Data  []byte
}

// Reads tells whether a file of a machine, by its path below the root, is one that a family
// reads, or a keyring.
func (r Registry) Reads(file string) bool {
	for _, f := range r {
		reading, ok := f.(Reading)
		if !ok {
			continue
		}
		for _, patterns := range [][]string{reading.Configuration(), reading.Keyrings(),
			reading.KeyFolders()} {
			for _, p := range patterns {
				if ok, err := path.Match(p, file); ok && err == nil {
					return true
				}
			}
		}
	}
	return false
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
		if strings.HasPrefix(base, "*.") && base != "*.conf" || path.Base(path.Dir(file)) == path.Base(dir) {
			return true
		}
	}
	return false
}
