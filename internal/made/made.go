// Package made makes repositories and packages that nobody ever published: the demonstration's
// upstreams and the tests' are built with it, in the formats of the families, signed by keys that
// are given. What it writes is written anew here wherever that is short, so that a reader in core
// is not tested with the writer beside it alone.
//
// Nothing of it is part of what Stockade serves, and nothing in it is trusted. Amend and
// AmendPackages are there to make what a hostile or careless upstream would publish, properly
// signed.
package made

import (
	"crypto/sha256"
	"encoding/hex"
)

// File is a file that a package installs.
type File struct {
	Path string // absolute on the machine
	Mode int64
	Data []byte
}

func sha256Hex(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}
