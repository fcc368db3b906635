package deb

import (
	"archive/tar"
	"errors"
	"io"
	"strings"

	"stockade/core/archive"
)

var _ archive.KeyPackages = Family{}

// keyringDirs are where the client looks for keyrings (apt-key(8), sources.list(5)).
var keyringDirs = []string{"/usr/share/keyrings", "/etc/apt/trusted.gpg.d", "/etc/apt/keyrings"}

// BringsKeys implements archive.KeyPackages.
func (Family) BringsKeys(p *archive.Package) bool { return strings.HasSuffix(p.Name, "keyring") }

// ReadKeys implements archive.KeyPackages: of data.tar, which Inspect does not read.
func (Family) ReadKeys(file io.ReadSeeker, yield func(path string, data []byte)) error {
	if _, err := file.Seek(8, io.SeekStart); err != nil {
		return err
	}
	for {
		name, size, err := arMember(file)
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		if ext, ok := strings.CutPrefix(name, "data.tar"); ok {
			plain, err := archive.Decompress(io.LimitReader(file, size), strings.TrimPrefix(ext, "."),
				archive.MaxKeyPackage)
			if err != nil {
				return err
			}
			defer plain.Close()
			return archive.Keyrings(tar.NewReader(plain), keyringDirs, yield)
		}
		if _, err := file.Seek(size+size%2, io.SeekCurrent); err != nil {
			return err
		}
	}
}
