package machine

import (
	"slices"

	"stockade/core/archive"
	"stockade/core/edition"
	"stockade/core/finding"
)

// SeenChange is a change of an edition that the machines of a group see.
type SeenChange struct {
	edition.Change
	// Pin is what the group stays on, where the new version is another: machines see the new one
	// and do not take it.
	Pin string `json:"pin,omitempty"`
}

// Difference gives of the changes between two editions those that the machines of a view see,
// in the order in which they matter: of sources in either of its views, for their
// architectures. before is the view of the same group on the older edition.
func Difference(before, after View, f archive.Family, changes []edition.Change) []SeenChange {
	var seen []edition.Change
	for _, c := range changes {
		if (before.Sees(c.Source) || after.Sees(c.Source)) && (before.runs(f, c.Arch) ||
			after.runs(f, c.Arch)) {
			seen = append(seen, c)
		}
	}
	edition.MattersFirst(seen)
	out := make([]SeenChange, 0, len(seen))
	for _, c := range seen {
		s := SeenChange{Change: c}
		for _, p := range after.Pins {
			if p.Name == c.Name && c.NewVersion != "" &&
				!p.Op.Holds(f.CompareVersions(c.NewVersion, p.Version)) {
				s.Pin = p.String()
			}
		}
		out = append(out, s)
	}
	return out
}

// runs tells whether packages of an architecture are for the machines of the view.
func (v View) runs(f archive.Family, arch string) bool {
	return slices.ContainsFunc(slices.Concat(v.Architectures, v.Foreign), func(of string) bool {
		return f.Rank(arch, of) >= 0
	})
}

// Summarise counts changes that machines see.
func Summarise(seen []SeenChange) edition.Summary {
	changes := make([]edition.Change, len(seen))
	for i, s := range seen {
		changes[i] = s.Change
	}
	return edition.Summarise(changes)
}

// Removals tells of packages that the machines of a group see on an edition, and of which they see no
// version on the one that comes after it. seen is what changes for them; whether they have the packages
// installed is not looked at.
func Removals(group string, from, to *edition.Edition, seen []SeenChange) finding.List {
	var gone []string
	for _, c := range seen {
		if c.Action == edition.Removed && !slices.Contains(gone, c.Name) {
			gone = append(gone, c.Name)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	return finding.List{finding.New(finding.LaneRemoves, "group "+group,
		"%s has no version of %s, which machines of the group have as a candidate on %s. Where "+
			"these are installed, they stay and get no updates", to.Name(), finding.Names(gone,
			3), from.Name()).
		Do("run stockade machine list --group %s --state stranded after the move to see the "+
			"machines. stockade lane back reverts the move", group)}
}
