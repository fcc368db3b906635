package archive

import "io"

// What only some families can do. Whoever uses one of these asks whether the family has
// it, and says so where it has not.

// Bound is implemented by a family whose relations are about packages of the
// architecture of the package that has them, where machines can have packages of
// several.
type Bound interface {
	// Within gives the architecture that a relation of a package of one architecture
	// is about, on a machine of another.
	Within(r Relation, packageArch, machineArch string) string
	// About tells whether a relation is about a package, on a machine: whether the
	// package is of an architecture that can meet it, or that a conflict is with.
	About(p *Package, r Relation, on Machine) bool
}

// Machine is where a relation is looked for.
type Machine struct {
	Within   string // as Bound gave it
	Conflict bool   // the relation is one
	// Takes tells whether the machine could have the package for an architecture; ""
	// for any that it has.
	Takes func(arch string) bool
}

// Releases is implemented by a family whose repositories of one release go by
// several names.
type Releases interface {
	// ServesRelease tells whether a repository that is of one release by its own
	// words is for machines of another.
	ServesRelease(said, release string) bool
}

// Housed is implemented by a family of which packages can be taken in by hand.
type Housed interface {
	// Examine reads a package file for a house source, whole: what an index of
	// the source says of it, with its path there, size and digest.
	Examine(s Source, file io.ReadSeeker) (Examined, error)
	// Endorse gives what makes clients take a package for signed by the site: the
	// file itself, written anew around the same content, or a detached signature
	// beside it, or neither where indexes alone are signed.
	Endorse(file io.ReadSeeker, sign SigningKey, to io.Writer) (changed bool, signature []byte, err error)
}

// SignedBeside is implemented by a family whose packages have their signatures in
// files beside them.
type SignedBeside interface {
	// SignatureOf gives the path of the signature on a package, from that of the
	// package.
	SignatureOf(path string) string
}

// SignatureOf gives the path of the signature beside a package; "" where the family has
// no such files.
func SignatureOf(f Family, path string) string {
	if b, ok := f.(SignedBeside); ok {
		return b.SignatureOf(path)
	}
	return ""
}

// Filed is implemented by a family whose packages can need a file by its path, and
// whose repositories list the files of packages apart from the packages.
type Filed interface {
	// NamesFile tells whether a relation is about a file.
	NamesFile(r Relation) bool
	// NeedsFiles tells whether needs of packages may be about files. Where they never are, people
	// may ask for files all the same.
	NeedsFiles() bool
	// FileLists gives the lists of files; they are read only when a need names one
	// that nothing is known to have.
	FileLists(s Source, r *Root) []IndexFile
	// ReadFiles reads a plain list of files and yields each, with the key of the packages that
	// have it.
	ReadFiles(plain io.Reader, yield func(key, path string) error) error
	// FileKey gives what such lists name a package by.
	FileKey(p *Package) string
}

// Advised is implemented by a family whose repositories say why packages were
// published.
type Advised interface {
	// AdvisoryList gives the list of advisories, where the root names one.
	AdvisoryList(s Source, r *Root) (IndexFile, bool)
	// ReadAdvisories reads a plain list of advisories.
	ReadAdvisories(plain io.Reader, yield func(a *Advisory) error) error
}

// Streamed is implemented by a family whose repositories have module streams: sets of
// packages that a machine has on or off.
type Streamed interface {
	// StreamList gives the list of module streams, where the root names one.
	StreamList(s Source, r *Root) (IndexFile, bool)
	// ReadStreams reads a plain list of module streams.
	ReadStreams(plain io.Reader) (Streams, error)
	// Activate works out which streams a machine has on that sees these lists, where
	// some are enabled by name. The lists are of the family's own making.
	Activate(lists []Streams, enabled []string) ActiveStreams
}

// Streams is what one list of module streams says.
type Streams interface {
	// Names gives the streams, as MODULE:STREAM, sorted.
	Names() []string
	// Of gives a stream that a package is of; "" where it is of none.
	Of(p *Package) string
}

// ActiveStreams is which module streams a machine has on, and what it sees for that.
type ActiveStreams interface {
	// Of gives the stream that is on and that a package is of; "" where it is of none.
	Of(p *Package) string
	// Sees tells whether a machine sees a package.
	Sees(p *Package) bool
	// Doubts tells what could not be had, or not be known.
	Doubts() StreamDoubts
}

// StreamDoubts is what could not be had, or not be known, of module streams.
type StreamDoubts struct {
	Off []OffStream // enabled, and cannot be on
	// Open are streams of which builds that need different modules could be on, and
	// none that needs nothing: which of them a machine has on cannot be told from here.
	Open []string
	// GaveUp tells that working it out would cost out of proportion to the lists: what
	// is on is not known then.
	GaveUp bool
}

// OffStream is a stream that was asked for and cannot be on.
type OffStream struct{ Stream, Why string }

// Listing is implemented by a family whose clients have lists of servers in a form of
// their own.
type Listing interface {
	// ServerOf gives the base address that a line of such a list names.
	ServerOf(line string) string
}

// Grouped is implemented by a family whose repositories list sets of packages apart from the
// packages.
type Grouped interface {
	// GroupList gives that list, where the root names one.
	GroupList(s Source, r *Root) (IndexFile, bool)
	// ReadGroups reads a plain list: the sets that packages belong to, by the names of these.
	ReadGroups(plain io.Reader) (map[string][]Membership, error)
}

// Inventoried is implemented by a family that reads what a machine has installed, as its own
// programs print it.
type Inventoried interface {
	// ReadInventory gives name, version and architecture (empty where it is not said) of each
	// package. An error names the line.
	ReadInventory(data []byte) ([]Installed, error)
	// PrintsInventory is the command that prints such a list on a machine, in a form that lacks
	// nothing.
	PrintsInventory() string
	// Lacks tells what a list does not say of what is installed in which version, so that it cannot
	// be compared with what is offered; empty: nothing, or versions are left out altogether.
	Lacks(data []byte) string
}

// Versioned is implemented by a family in which packages that are installed side by side in several
// versions carry the version in their name.
type Versioned interface {
	// VersionInName gives the name without the version, and the version; empty where the name
	// has none.
	VersionInName(name string) (stem, version string)
}

// Sourced is implemented by a family whose repositories list the source packages that their
// packages were built from.
type Sourced interface {
	// SourceLists gives the lists, where the root names some, each with its component.
	SourceLists(s Source, r *Root) []IndexChoice
	// ReadSources reads a plain list and yields the source packages that are asked for.
	ReadSources(x IndexChoice, plain io.Reader, asked func(name, version string) bool,
		yield func(p *SourcePackage) error) error
	// SourceOf gives name and version of the source package that a package was built from.
	SourceOf(p *Package) (name, version string)
	// InspectSource compares what a source package's description says inside with its list.
	InspectSource(p *SourcePackage, description io.Reader) error
}

// SourcePackage is a source package as a list describes it.
type SourcePackage struct {
	Name, Version, Component string
	Files                    []Entry // relative to the upstream's base URL; the first is its description
	Text                     []byte  // what the list says, written anew
}
