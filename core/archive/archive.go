// Package archive is what all families of repository formats share: packages,
// relations, roots, indexes, and the Family interface through which the rest
// of the core knows a family.
//
// It trusts nobody. Whatever is read here came from outside: readers are
// bounded in memory and depth, and paths are checked before they are returned.
// Whether bytes may be believed is decided by the Verifier that is handed in.
package archive

import (
	"fmt"
	"io"
	"path"
	"sort"
	"strings"
	"time"

	"stockade/core/finding"
)

// Op is the comparison in a relation. The empty Op means any version.
type Op string

// The comparisons that relations and wants may use.
const (
	Any            Op = ""
	Less           Op = "<"
	LessOrEqual    Op = "<="
	Equal          Op = "="
	GreaterOrEqual Op = ">="
	Greater        Op = ">"
)

// Holds tells whether a comparison result (negative, zero, positive) satisfies op.
func (op Op) Holds(cmp int) bool {
	switch op {
	case Less:
		return cmp < 0
	case LessOrEqual:
		return cmp <= 0
	case Equal:
		return cmp == 0
	case GreaterOrEqual:
		return cmp >= 0
	case Greater:
		return cmp > 0
	}
	return true
}

// Relation is one alternative of a need: a name, perhaps bound to a version
// and to an architecture qualifier ("any", "native", or an architecture).
type Relation struct {
	Name, Qualifier string
	Op              Op
	Version         string
	Not             bool       // met when nothing that meets the rest is installed
	Real            bool       // met only by a package of that very name, not by one that provides it
	Also            []Relation // the same package must meet (or, with Not, not meet) these too
}

// String writes the relation as people write it: "name:arch >= version".
func (r Relation) String() string {
	s := r.Name
	if r.Not {
		s = "not " + s
	}
	if r.Qualifier != "" {
		s += ":" + r.Qualifier
	}
	if r.Op != Any {
		s += " " + string(r.Op) + " " + r.Version
	}
	for _, a := range r.Also {
		if a.Not {
			a.Not = false
			s += " without " + a.String()
		} else {
			s += " with " + a.String()
		}
	}
	return s
}

// Clause is satisfied when one of its relations is.
type Clause []Relation

// String joins the alternatives with " or ".
func (c Clause) String() string {
	parts := make([]string, len(c))
	for i, r := range c {
		parts[i] = r.String()
	}
	return strings.Join(parts, " or ")
}

// Conditional tells whether the clause asks for something only while something
// else is installed.
func (c Clause) Conditional() bool {
	for _, r := range c {
		if r.Not {
			return true
		}
	}
	return false
}

// Provide is a name that a package also answers to, perhaps in a version. What
// a versioned relation makes of it is the family's to say (Family.Satisfies).
type Provide struct {
	Name    string
	Op      Op
	Version string
}

// Includes tells whether a bound includes its own version.
func (o Op) Includes() bool { return o == Equal || o == LessOrEqual || o == GreaterOrEqual }

// Overlap tells whether some version satisfies both of two bounds, cmp being
// how the first's version compares with the second's.
func Overlap(a Op, cmp int, b Op) bool {
	switch {
	case a == Any || b == Any:
		return true
	case cmp < 0:
		return a == Greater || a == GreaterOrEqual || b == Less || b == LessOrEqual
	case cmp > 0:
		return a == Less || a == LessOrEqual || b == Greater || b == GreaterOrEqual
	}
	down := func(o Op) bool { return o == Less || o == LessOrEqual }
	up := func(o Op) bool { return o == Greater || o == GreaterOrEqual }
	return a.Includes() && b.Includes() || down(a) && down(b) || up(a) && up(b)
}

// Relations are what a package asks of others.
type Relations struct {
	Requires   []Clause // must be there for the package to be installed
	Recommends []Clause
	Suggests   []Clause
	Conflicts  []Relation // may not be there at the same time
	// Supplements and Enhances are recommendations and suggestions backward: the
	// package offers itself when one of these holds (all clauses of it).
	Supplements, Enhances [][]Clause
}

// RelationSource yields the relations of a package when somebody asks, so that
// reading an index of 65,000 packages does not parse what nobody looks at.
type RelationSource interface {
	// Relations parses what the index said. An error names the field.
	Relations() (Relations, error)
}

// Coexistence says how packages of other architectures may use a package.
type Coexistence string

// What the multi-architecture field of an index may say. Families without
// such a field leave it empty.
const (
	Apart   Coexistence = ""
	Foreign Coexistence = "foreign" // satisfies needs of any architecture
	Allowed Coexistence = "allowed" // satisfies needs qualified ":any"
	Same    Coexistence = "same"    // may be installed for several architectures at once
)

// Package is one binary package as an index describes it. Sizes are bytes.
type Package struct {
	Name, Version, Arch string
	Origin              string // the source package it was built from
	Summary             string
	Section             string
	Component           string
	Path                string // relative to the upstream's base URL, or to Base
	Base                string // URL of the folder that it lies in, where its index says that it is another
	Size                int64
	InstalledSize       int64
	SHA256, SHA512      string // lower-case hexadecimal; one of the two is there
	Provides            []Provide
	Coexists            Coexistence
	Essential           bool
	Backward            bool   // it has Supplements or Enhances
	Licence             string //
	Stream              string // the module stream that it is of, as NAME:STREAM; empty: of none
	SignaturePath       string // of the detached signature beside it, where the family has such files
	Signature           []byte // that signature, where the index carries it
	Needs               RelationSource
	Index               int // which index of the source it was read from
	Ordinal             int // its place in that index, from zero
}

// String gives name, version and architecture.
func (p *Package) String() string { return p.Name + " " + p.Version + " (" + p.Arch + ")" }

// Identity is what a package file says of itself inside.
type Identity struct{ Name, Version, Arch string }

// PackageFile is a package file with the signature that came beside it, if any.
type PackageFile struct {
	io.ReadSeeker
	Signature []byte
}

// Inspected is what a package file says of itself, and who signed the package
// itself. A package that nobody signed has a zero Signer.
type Inspected struct {
	Identity
	Signer Signer
}

// Examined is a package file that is taken into a house source: the package as
// an index describes it, with the text of that index.
type Examined struct {
	Package *Package
	Raw     []byte
}

// Source is what a family needs to know about the description of a repository.
type Source struct {
	Name          string   `json:"name"`
	Family        string   `json:"family"`
	Release       string   `json:"release"`
	Components    []string `json:"components"`
	Architectures []string `json:"architectures"`
	Languages     []string `json:"languages"` // of translated descriptions that a faithful copy takes along
}

// Signer is a key that made a signature that counts.
type Signer struct {
	Fingerprint string    `json:"fingerprint"` // of the certificate
	UserID      string    `json:"user_id"`
	At          time.Time `json:"at"`               // when the signature was made
	Others      []string  `json:"others,omitempty"` // ids of further signatures that did not count
}

// Verifier decides whether signed bytes may be believed. It is bound to one
// source. A refusal comes back as a finding.
type Verifier interface {
	// Clearsigned gives exactly the text that was signed.
	Clearsigned(data []byte) (text []byte, by Signer, err error)
	// Detached checks a signature over content.
	Detached(content, signature []byte) (by Signer, err error)
	// Streamed is Detached for content that is too large to hold. It reads from
	// where content stands, and may seek back to there.
	Streamed(content io.ReadSeeker, signature []byte) (by Signer, err error)
}

// SigningKey signs as the site. A family decides which kinds of signature its
// clients want.
type SigningKey interface {
	Clearsign(text []byte) ([]byte, error)
	// DetachSign makes a signature over content, armoured or binary.
	DetachSign(content []byte, armoured bool) ([]byte, error)
	// SignStream makes a binary signature over content that is too large to hold.
	SignStream(content io.Reader) ([]byte, error)
}

// RootFile is a file that makes up a root.
type RootFile struct {
	Path string // relative to the upstream's base URL
	// Signs is the path of the file that this one is a signature of. Such a file
	// follows the one it signs: it is fetched when that one has changed.
	Signs string
}

// RootChoice is one way to get the root of a source. A family whose roots are
// several files (one for each architecture, say) names them all, each before
// the signature on it.
type RootChoice []RootFile

// UnknownSize is the size of a file whose root names only its digest.
const UnknownSize = -1

// Entry is one file that a root names.
type Entry struct {
	Path           string // relative to the upstream's base URL
	Size           int64  // bytes, or UnknownSize
	SHA256, SHA512 string
}

// Fits tells whether a file of that many bytes may be the entry's.
func (e Entry) Fits(size int64) bool { return e.Size == size || e.Size == UnknownSize }

// Root is the signed beginning of a repository, read and verified.
type Root struct {
	Paths         []string // the files it was read from, relative to the base
	Names         []string // the releases it says it is
	Alias         bool     // the definition uses a name that moves
	Origin, Label string
	Suite         string
	Codename      string
	Version       string
	Date          time.Time
	Dates         map[string]time.Time // of single files, where a root is several that move apart
	Expires       time.Time            // zero: it does not say
	// Oldest is the date of the oldest file of a root that is several, and which
	// one that is: one that is held back is as old as that. Zero: the root is one.
	Oldest        time.Time
	OldestPath    string
	Components    []string
	Architectures []string
	ByHash        bool
	Entries       map[string]Entry // by path relative to the base
	Fields        map[string]string
	Signer        Signer
}

// IndexChoice is one list of packages, with the files in which upstream offers
// it, best first.
type IndexChoice struct {
	Component, Arch string
	Files           []IndexFile
}

// IndexFile is an index in one compression.
type IndexFile struct {
	Entry
	Compression string   // "", "gz", "xz", "zst", "bz2"
	Paths       []string // where to ask, best first (by digest where offered)
}

// Family is a repository format. Every method is safe for concurrent use.
// docs/families.md tells what the seam asks of a new one.
type Family interface {
	Name() string
	Versions
	// CheckSource gives the findings that the family has about a description,
	// before anything is fetched.
	CheckSource(s Source) finding.List
	// Roots gives the ways to get the root, best first.
	Roots(s Source) []RootChoice
	// ReadRoot verifies and reads the root out of fetched files (by path).
	ReadRoot(s Source, choice RootChoice, files map[string][]byte, v Verifier) (*Root, error)
	// CheckRoot compares a root with what the description asks of it.
	CheckRoot(s Source, r *Root) finding.List
	// Indexes gives the lists of packages that the description selects.
	Indexes(s Source, r *Root) ([]IndexChoice, error)
	// ReadIndex reads a plain (decompressed) list of packages. The package
	// handed to yield is new each time; raw is valid only during the call.
	ReadIndex(s Source, x IndexChoice, plain io.Reader, yield func(p *Package, raw []byte) error) error
	// Lore gives the further indexes that the root names and that say more about
	// packages: files, module streams, advisories.
	Lore(s Source, r *Root) Lore
	// Companions gives the further files that a faithful copy takes along:
	// files that the root names and that machines may ask for.
	Companions(s Source, r *Root) []Companion
	// Inspect reads what a package file says of itself, and verifies a signature
	// on the package itself. A signature that is there and does not count is an
	// error; v may be nil, then signatures are passed over.
	Inspect(file PackageFile, v Verifier) (Inspected, error)
	// SignsPackages tells whether machines check signatures on packages
	// themselves, and so need upstream's keys even for a tailored mirror.
	SignsPackages() bool
	// Lasting tells whether a path, relative to the base, names content that
	// never changes: a package, or an index named by its digest. What lasts stays
	// reachable for a client that began before a lane moved.
	Lasting(path string) bool
	// Identify gives what the file of p should say of itself inside.
	Identify(p *Package) Identity
	// Write writes the repository of a tailored mirror or of a house source.
	Write(w Writing) error
	// Examine reads a package file for a house source, whole: what an index of
	// the source says of it, with its path there, size and digest.
	Examine(s Source, file io.ReadSeeker) (Examined, error)
	// Endorse gives what makes clients take a package for signed by the site: the
	// file itself, written anew around the same content, or a detached signature
	// beside it, or neither where indexes alone are signed.
	Endorse(file io.ReadSeeker, sign SigningKey, to io.Writer) (changed bool, signature []byte, err error)
	// ClientFiles writes what a machine's own package client needs.
	ClientFiles(c Client) ([]ClientFile, finding.List, error)
}

// Bound is implemented by a family whose relations are about packages of the
// architecture of the package that has them, where machines can have packages of
// several.
type Bound interface {
	// Within gives the architecture that relations of a package of one architecture
	// are about, on a machine of another.
	Within(packageArch, machineArch string) string
}

// Ordered is implemented by a family whose clients take a package from the first
// repository that has its name, whatever versions others of the same priority have.
type Ordered interface{ FirstWins() bool }

// Releases is implemented by a family whose repositories of one release go by
// several names.
type Releases interface {
	// ServesRelease tells whether a repository that is of one release by its own
	// words is for machines of another.
	ServesRelease(said, release string) bool
}

// Versions is how a family orders versions and matches relations: all that
// selection needs to know of it.
type Versions interface {
	// CompareVersions orders versions as the family's clients do.
	CompareVersions(a, b string) int
	// CheckVersion tells why v is no version of this family, or nil.
	CheckVersion(v string) error
	// Satisfies tells whether something that is provided meets a relation of the
	// same name.
	Satisfies(p Provide, r Relation) bool
	// Rank tells how well a package of one architecture suits a machine of
	// another: 0 best (its own, or one that stands for all), more is worse,
	// negative not at all.
	Rank(packageArch, machineArch string) int
	// OwnName tells whether a package that provides its own name in another version
	// meets relations by that too.
	OwnName() bool
	// Exclusive tells whether two packages of one name cannot be installed at
	// the same time.
	Exclusive(a, b *Package) bool
}

// Lore is what a root names beside the lists of packages.
type Lore struct {
	Files      []IndexChoice // which package has which files; read only when a need names a file
	Streams    *IndexFile    // module streams
	Advisories *IndexFile
	// ReadFiles reads a plain list of files and yields each with the digest of its
	// package.
	ReadFiles func(plain io.Reader, yield func(sha256, path string) error) error
	// ReadStreams reads the plain list of module streams.
	ReadStreams func(plain io.Reader) (*Streams, error)
	// ReadAdvisories reads a plain list of advisories.
	ReadAdvisories func(plain io.Reader, yield func(a *Advisory) error) error
}

// Advisory is what upstream says about why packages were published.
type Advisory struct {
	ID         string            `json:"id"`
	Kind       string            `json:"kind"` // security, bugfix, enhancement, newpackage
	Severity   string            `json:"severity,omitempty"`
	Title      string            `json:"title"`
	Issued     time.Time         `json:"issued,omitzero"`
	References []string          `json:"references,omitempty"`
	Packages   []AdvisoryPackage `json:"packages"`
}

// AdvisoryPackage is a package version that an advisory is about.
type AdvisoryPackage struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Arch    string `json:"arch"`
}

// Companion is a file of a faithful copy beside roots, indexes and packages.
type Companion struct {
	Entry
	Paths    []string // where to ask, best first
	Required bool     // false: upstream names such files and may not have them
	Places   []string // where the copy must have it
	// Signature is the path of a detached signature on it. Such a file is taken
	// only when that verifies; the root then says nothing of its digest.
	Signature string
}

// Writing is what a family needs to write a tailored repository.
type Writing struct {
	Source Source
	Root   *Root // upstream's, for the names that machines know; of a house source empty
	Time   time.Time
	Note   string // goes into the description, such as "barrage/14"
	// Each calls f for every chosen package that want takes, of the lists that
	// list takes, in the order of the indexes and with the raw index text. A
	// package that stands in several of the lists comes once.
	Each func(list func(x IndexChoice) bool, want func(p *Package) bool,
		f func(p *Package, raw []byte) error) error
	// Open opens a file that upstream's root names, verified and decompressed.
	// Nil for a house source.
	Open func(f IndexFile) (io.ReadCloser, error)
	// Package opens the file of a chosen package.
	Package func(p *Package) (io.ReadSeekCloser, error)
	Sign    SigningKey
	// Put stores one file of the repository, at a path relative to its base.
	Put func(path string, data []byte) error
}

// Client is what is known when a machine's configuration is written.
type Client struct {
	Lane          string
	At            string // URL or absolute directory below which the sources lie
	Architectures []string
	Sources       []ClientSource
	Pins          []Relation
}

// ClientSource is one source as the machine will see it.
type ClientSource struct {
	Source
	Priority int
	// Tailored tells that the site key signs; otherwise upstream's keys do.
	Tailored                       bool
	Streams                        []string // module streams that the mirror was made for
	Origin, Label, Suite, Codename string   // as the served root says
	Keys                           []ClientKey
}

// ClientKey is a certificate that the client must trust for one source.
type ClientKey struct {
	Fingerprint string
	Binary      []byte
	Armoured    string
}

// ClientFile is one file as it lies under the machine's root.
type ClientFile struct {
	Path string // relative, slash-separated
	Mode uint32
	Data []byte
}

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

// CheckPath refuses a path from outside that is not a plain relative path: no
// empty or dot segments, no backslash, no control or invisible characters, none
// at which a URL's path would end ("?", "#"), at most 1,024 bytes. The finding is
// content.unsafe-path.
func CheckPath(p string) error {
	bad := func(why string) error {
		return finding.New("content.unsafe-path", "", "the path %q %s", p, why)
	}
	switch {
	case p == "":
		return bad("is empty")
	case len(p) > 1024:
		return bad("is longer than 1,024 bytes")
	case p[0] == '/':
		return bad("is absolute")
	case strings.ContainsFunc(p, func(r rune) bool {
		return r < 0x20 || r == 0x7f || r == '\\' || r == 0xFFFD
	}), finding.Harmless(p) != p:
		return bad("has a control character or a backslash")
	case strings.ContainsAny(p, "?#"):
		return bad("has a character at which the path of a URL ends: ? #")
	}
	for _, seg := range strings.Split(p, "/") {
		switch {
		case seg == "" || seg == "." || seg == "..":
			return bad("has an empty or dotted part")
		case len(seg) > 255:
			return bad("has a part longer than 255 bytes")
		}
	}
	if path.Clean(p) != p {
		return bad("is not in its shortest form")
	}
	return nil
}

// CheckHref is CheckPath for families whose clients put paths into URLs as they
// stand: there a "%" or a blank would mean something else than itself.
func CheckHref(p string) error {
	if strings.ContainsAny(p, "% ") {
		return finding.New("content.unsafe-path", "",
			"the path %q has a character that clients take for something else in a URL: a blank or %%", p)
	}
	return CheckPath(p)
}

// ParseWant reads "name", "name >= version" or a pattern with * and ?.
func ParseWant(s string) (Relation, error) {
	f := strings.Fields(s)
	switch len(f) {
	case 1:
		if strings.ContainsAny(f[0], "<>=") {
			return Relation{}, fmt.Errorf("%q: put spaces around the comparison, as in %q", s,
				"tide-tables >= 2")
		}
		return Relation{Name: f[0]}, nil
	case 3:
		op := Op(f[1])
		switch op {
		case Less, LessOrEqual, Equal, GreaterOrEqual, Greater:
			return Relation{Name: f[0], Op: op, Version: f[2]}, nil
		}
		return Relation{}, fmt.Errorf("%q: the comparison %q is not one of < <= = >= >", s, f[1])
	}
	return Relation{}, fmt.Errorf("%q is not NAME or NAME COMPARISON VERSION", s)
}
