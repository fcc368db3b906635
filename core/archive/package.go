package archive

import "io"

// Package is one binary package as an index describes it. Sizes are bytes.
type Package struct {
	Name, Version, Arch string
	Origin              string // the source package it was built from
	OriginVersion       string // of that, where it is another than the package's own
	Summary             string
	Section             string
	Groups              []Membership // sets that its repository counts it among
	Component           string
	Path                string // relative to the upstream's base URL, or to Base
	Base                string // URL of the folder that it lies in, where its index says that it is another
	Size                int64
	InstalledSize       int64
	Built               int64  // seconds since 1970; 0: its index does not say when it was built
	SHA256, SHA512      string // lower-case hexadecimal; one of the two is there
	Provides            []Provide
	Essential           bool
	Backward            bool   // it has Supplements or Enhances
	Licence             string //
	Signature           []byte // the detached one on it, where the index carries it
	Needs               RelationSource
	Index               int // which index of the source it was read from
	Ordinal             int // its place in that index, from zero
	Own                 any // what its family alone knows of it
}

// Membership is a set of packages that a package belongs to.
type Membership struct {
	Group    string
	Optional bool // it comes along only when that is asked for
}

// String gives name, version and architecture.
func (p *Package) String() string { return p.Name + " " + p.Version + " (" + p.Arch + ")" }

// Identity is what a package file says of itself inside.
type Identity struct{ Name, Version, Arch string }

// PackageFile is a package file with the signature that came beside it, if any.
type PackageFile struct {
	io.ReadSeeker
	Signature []byte // the detached one on it, where the index carries it
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
