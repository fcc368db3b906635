package alpm

import (
	"io"
	"strings"

	"stockade/core/archive"
)

var _ archive.KeyPackages = Family{}

// BringsKeys implements archive.KeyPackages.
func (Family) BringsKeys(p *archive.Package) bool { return strings.HasSuffix(p.Name, "keyring") }

// ReadKeys implements archive.KeyPackages (pacman-key(8): NAME.gpg in a folder of its own;
// the lists of trust beside it are not read).
func (Family) ReadKeys(file io.ReadSeeker, yield func(path string, data []byte)) error {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	t, plain, err := openTar(file, archive.MaxKeyPackage)
	if err != nil {
		return err
	}
	defer plain.Close()
	return archive.Keyrings(t, []string{"/usr/share/pacman/keyrings"}, func(path string, data []byte) {
		if strings.HasSuffix(path, ".gpg") {
			yield(path, data)
		}
	})
}
