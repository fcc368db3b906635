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
func (f Family) ReadInventory(data []byte) ([]archive.Installed, error) {
	return archive.Inventory(data, func(words []string) (archive.Installed, error) {
		if len(words) != 2 {
			return archive.Installed{}, errors.New("the line is not a name and a version")
		}
		id := archive.Identity{Name: words[0], Version: words[1]}
		return archive.Installed{Identity: id}, f.CheckVersion(words[1])
	})
}
