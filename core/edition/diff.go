package edition

import (
	"cmp"
	"slices"
)

// Change is one difference between two editions.
type Change struct {
	Action     string `json:"action"` // Added, Removed or Changed
	Source     string `json:"source"`
	Name       string `json:"name"`
	Arch       string `json:"arch"`
	OldVersion string `json:"old_version,omitempty"`
	NewVersion string `json:"new_version,omitempty"`
	OldSize    int64  `json:"old_size,omitempty"` // bytes
	NewSize    int64  `json:"new_size,omitempty"`
	// Advisories are the ids of those that are about the new version.
	Advisories []string `json:"advisories,omitempty"`
}

// What can become of a package.
const (
	Added   = "added"
	Removed = "removed"
	Changed = "changed"
)

// held is what an edition holds several versions of.
type held struct{ source, name, arch string }

func bySource(items []Item) map[held][]Item {
	m := map[held][]Item{}
	for _, it := range items {
		k := held{it.Source, it.Name, it.Arch}
		m[k] = append(m[k], it)
	}
	return m
}

// without gives the items whose files are not among others.
func without(items, others []Item) (out []Item) {
	for _, x := range items {
		if !slices.ContainsFunc(others, func(y Item) bool { return x.SHA256 == y.SHA256 }) {
			out = append(out, x)
		}
	}
	return out
}

// Diff compares the packages of two editions, by source, name and architecture;
// compare orders versions within a source. Where several versions of a package
// are held, each that is only on one side is told.
func Diff(from, to []Item, compare func(source, a, b string) int) []Change {
	old, now := bySource(from), bySource(to)
	keys := map[held]bool{}
	for k := range old {
		keys[k] = true
	}
	for k := range now {
		keys[k] = true
	}
	out := []Change{}
	for k := range keys {
		gone, come := without(old[k], now[k]), without(now[k], old[k])
		for _, items := range [][]Item{gone, come} {
			slices.SortFunc(items, func(a, b Item) int { return compare(k.source, a.Version, b.Version) })
		}
		for i := range max(len(gone), len(come)) {
			c := Change{Source: k.source, Name: k.name, Arch: k.arch}
			if i < len(gone) {
				c.OldVersion, c.OldSize, c.Action = gone[i].Version, gone[i].Size, Removed
			}
			if i < len(come) {
				c.NewVersion, c.NewSize = come[i].Version, come[i].Size
				if c.Action == Removed {
					c.Action = Changed
				} else {
					c.Action = Added
				}
			}
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b Change) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Arch, b.Arch),
			cmp.Compare(a.Source, b.Source), cmp.Compare(a.OldVersion, b.OldVersion),
			cmp.Compare(a.NewVersion, b.NewVersion))
	})
	return out
}
