package archive

import (
	"archive/tar"
	"io"
	"path"
	"strings"
)

// KeysBeside is implemented by a family whose upstreams may lay their certificates beside
// the roots of their repositories. Nothing vouches for what lies there.
type KeysBeside interface {
	// KeysBeside gives the paths, relative to the base.
	KeysBeside(s Source) []string
}

// KeyPackages is implemented by a family of which a package can be read for the keyrings
// that it brings to machines. What it brings is the word of who signed the source, and
// decides nothing here.
type KeyPackages interface {
	// BringsKeys tells whether a package is one of those, as far as its name says it.
	BringsKeys(p *Package) bool
	// ReadKeys yields each keyring in a package file, with its path on a machine.
	ReadKeys(file io.ReadSeeker, yield func(path string, data []byte)) error
}

// Limits on the keyrings of one package.
const (
	MaxKeyring    = 4 << 20 // bytes of one
	MaxKeyrings   = 16      // in one package
	MaxKeyPackage = 64 << 20
)

// Keyrings yields those files of a tar that lie where a client has its keyrings.
func Keyrings(t *tar.Reader, where []string, yield func(path string, data []byte)) error {
	for n := 0; n < MaxKeyrings; {
		h, err := t.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		at, inside := Inside(h.Name, where)
		if !inside || h.Typeflag != tar.TypeReg || h.Size > MaxKeyring {
			continue
		}
		data, err := io.ReadAll(t)
		if err != nil {
			return err
		}
		n++
		yield(at, data)
	}
	return nil
}

// Inside gives the path of a file in a package on the machine, without a slash before it, and
// whether that lies in one of some folders.
func Inside(name string, folders []string) (at string, inside bool) {
	whole := path.Clean("/" + name)
	for _, dir := range folders {
		inside = inside || strings.HasPrefix(whole, dir+"/")
	}
	return strings.TrimPrefix(whole, "/"), inside
}
