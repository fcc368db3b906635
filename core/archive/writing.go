package archive

import (
	"io"
	"time"
)

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
	// Sources are the source packages that come along; nil: none shall.
	Sources []*SourcePackage
	// Package opens the file of a chosen package.
	Package func(p *Package) (io.ReadSeekCloser, error)
	Sign    SigningKey
	// Put stores one file of the repository, at a path relative to its base.
	Put func(path string, data []byte) error
}
