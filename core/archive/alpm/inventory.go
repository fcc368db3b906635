package alpm

import (
	"errors"

	"stockade/core/archive"
)

// PrintsInventory implements archive.Inventoried.
func (Family) PrintsInventory() string { return "pacman -Q" }

// Lacks implements archive.Inventoried: versions are printed whole.
func (Family) Lacks([]byte) string { return "" }

// ReadInventory implements archive.Inventoried: what pacman -Q prints, a name and a version.
func (f Family) ReadInventory(data []byte) ([]archive.Identity, error) {
	return archive.Inventory(data, func(words []string) (archive.Identity, error) {
		if len(words) != 2 {
			return archive.Identity{}, errors.New("it is not a name and a version")
		}
		return archive.Identity{Name: words[0], Version: words[1]}, f.CheckVersion(words[1])
	})
}
