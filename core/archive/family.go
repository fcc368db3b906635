package archive

import (
	"io"
	"sort"

	"stockade/core/finding"
)

// Family is a repository format: the sum of what each must be able to do. What only
// some can do is an interface of its own (optional.go), which the others do not
// implement. Every method is safe for concurrent use. docs/families.md tells what the
// seam asks of a new one.
type Family interface {
	Describing
	Roots
	Indexes
	Matching
	Packages
	Writer
	Configuring
}

// Describing is about the description of a source.
type Describing interface {
	Name() string
	// CheckSource gives the findings that the family has about a description,
	// before anything is fetched; each with the field of the description that it is about.
	CheckSource(s Source) finding.List
}

// Roots is about the signed beginning of a repository.
type Roots interface {
	// Roots gives the ways to get the root, best first.
	Roots(s Source) []RootChoice
	// ReadRoot verifies and reads the root out of fetched files (by path).
	ReadRoot(s Source, choice RootChoice, files map[string][]byte, v Verifier) (*Root, error)
	// CheckRoot compares a root with what the description asks of it.
	CheckRoot(s Source, r *Root) finding.List
	// Companions gives the further files that a faithful copy takes along:
	// files that the root names and that machines may ask for.
	Companions(s Source, r *Root) []Companion
}

// Indexes is about lists of packages.
type Indexes interface {
	// Indexes gives the lists of packages that the description selects.
	Indexes(s Source, r *Root) ([]IndexChoice, error)
	// ReadIndex reads a plain (decompressed) list of packages. The package
	// handed to yield is new each time; raw is valid only during the call.
	ReadIndex(s Source, x IndexChoice, plain io.Reader, yield func(p *Package, raw []byte) error) error
}

// Itself stands for a package's own name among the places at which it can meet a
// relation.
const Itself = -1

// Matching is how a family orders versions and matches relations: all that
// selection needs to know of it.
type Matching interface {
	// CompareVersions orders versions as the family's clients do.
	CompareVersions(a, b string) int
	// CheckVersion tells why v is no version of this family, or nil.
	CheckVersion(v string) error
	// Meets tells whether a package meets a relation of the name that it has at a
	// place: its own (Itself), or that of one of its Provides, by number. Which
	// machine it is for is not looked at (see Bound and Rank).
	Meets(p *Package, at int, r Relation) bool
	// Rank tells how well a package of one architecture suits a machine of
	// another: 0 best (its own, or one that stands for all), more is worse,
	// negative not at all.
	Rank(packageArch, machineArch string) int
	// Exclusive tells whether two packages of one name cannot be installed at
	// the same time.
	Exclusive(a, b *Package) bool
	// Rules is how the family's clients choose among the packages that they see.
	Rules() Rules
}

// Packages is about package files.
type Packages interface {
	// Inspect reads what a package file says of itself, and verifies a signature
	// on the package itself. A signature that is there and does not count is an
	// error; v may be nil, then signatures are passed over.
	Inspect(file PackageFile, v Verifier) (Inspected, error)
	// Identify gives what the file of p should say of itself inside.
	Identify(p *Package) Identity
	// SignsPackages tells whether machines check signatures on packages
	// themselves, and so need upstream's keys even for a tailored mirror.
	SignsPackages() bool
}

// Writer writes repositories.
type Writer interface {
	// Write writes the repository of a tailored mirror or of a house source.
	Write(w Writing) error
	// Lasting tells whether a path, relative to the base, names content that
	// never changes: a package, or an index named by its digest. What lasts stays
	// reachable for a client that began before a lane moved.
	Lasting(path string) bool
}

// Configuring is about a machine's own package client.
type Configuring interface {
	// Configure gives what the client comes to see. Findings of severity error tell why it would
	// see something else than what is asked for; no files are printed then.
	Configure(c Client) (Configuration, finding.List)
	// Print writes the client's files for a lane whose packages are found at an address, both
	// checked. A file called SetupName is a script for sh(1) that takes a machine's other package
	// sources out of use.
	Print(c Configuration, lane, at string) ([]ClientFile, error)
	// Untrust is the command that makes a machine stop trusting a key for a source, where it does
	// not get new files.
	Untrust(source, fingerprint string) string
	// Touched gives the files and folders, relative to a machine's root, that its files and
	// that script change: with them as they were, the client is as it was.
	Touched() []string
}

// BeneathRoot is a function of sh(1) for scripts that work on the system below the folder $root: it ends
// the script where a path would lead out of it, or is neither a file nor a folder. What lies below the
// folder may be somebody else's disk. On the machine itself, links are its own.
const BeneathRoot = `beneath() {
	case "$root" in '' | /) return 0 ;; esac
	at=$root
	rest=$1
	while [ -n "$rest" ]; do
		at="$at/${rest%%/*}"
		case "$rest" in */*) rest=${rest#*/} ;; *) rest='' ;; esac
		if [ -L "$at" ] || [ "${at##*/}" = .. ]; then
			echo "$at is a link, and may lead out of $root: nothing is done through it" >&2
			exit 1
		fi
		if [ -e "$at" ] && [ ! -f "$at" ] && [ ! -d "$at" ]; then
			echo "$at is neither a file nor a folder: it is not touched" >&2
			exit 1
		fi
	done
}
`

// SetupName is what that script is called.
const SetupName = "stockade-setup"

// Registry knows the families by name.
type Registry map[string]Family

// NewRegistry makes a registry; a family twice is a mistake of the program.
func NewRegistry(families ...Family) Registry {
	r := Registry{}
	for _, f := range families {
		if _, twice := r[f.Name()]; twice {
			panic("archive: family registered twice: " + f.Name())
		}
		r[f.Name()] = f
	}
	return r
}

// Names gives the known families in order.
func (r Registry) Names() []string {
	names := make([]string, 0, len(r))
	for n := range r {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}
