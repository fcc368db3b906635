package archive

import "time"

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
