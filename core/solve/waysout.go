package solve

import (
	"context"
	"slices"

	"stockade/core/archive"
	"stockade/core/definition"
)

// WayOut is a change with which what was refused can be installed. It was tried.
type WayOut struct {
	definition.Amendment
	// Packages are what comes along that was not taken yet; the mirror grows by these.
	Packages []string `json:"packages,omitempty"`
	Files    int      `json:"files"`
	Bytes    int64    `json:"bytes"`
}

// Ways says where ways out are looked for.
type Ways struct {
	View  View
	Spare []int // sources outside that the view does not have, and could
	Taken func(p *archive.Package) bool
	// Limits are for one trial.
	Limits Limits
}

// AddSource puts another source into the universe, and gives its index.
func (u *Universe) AddSource(s Source) int {
	u.sources = append(u.sources, s)
	u.of = append(u.of, nil)
	return len(u.sources) - 1
}

// maxTried bounds the trials for one refusal, of each kind.
const maxTried = 8

// WaysOut tries changes one by one and gives those with which what was refused can be installed:
// to take what is excepted, to move a pin, to add a source, to take one package out of a set.
func (u *Universe) WaysOut(ctx context.Context, r Refusal, w Ways) (out []WayOut) {
	try := func(way WayOut, v View, packages []*archive.Package) (found []Chosen, ok bool) {
		found, err := u.Installable(ctx, Query{View: v, Arch: r.Arch, Packages: packages, Limits: w.Limits})
		if err != nil || found == nil {
			return nil, false
		}
		for _, c := range found {
			if !w.Taken(c.Package) && (!u.sources[c.Source].Outside || slices.Contains(w.Spare, c.Source)) {
				way.Packages = append(way.Packages, c.String())
				way.Files++
				way.Bytes += c.Size
			}
		}
		out = append(out, way)
		return found, true
	}
	way := func(kind, name string) WayOut {
		return WayOut{Amendment: definition.Amendment{Kind: kind, Name: name}}
	}
	view := w.View
	view.Sources = nil
	for i, s := range u.sources {
		if w.View.Sources == nil && !s.Outside || slices.Contains(w.View.Sources, i) {
			view.Sources = append(view.Sources, i)
		}
	}
	// What lacks something has no way out with which that is still lacking.
	if len(r.packages) > 0 && len(r.absent) == 0 {
		for _, name := range r.excepted() {
			u.lifted = map[string]bool{name: true}
			try(way(definition.LiftExcept, name), view, r.packages)
			u.lifted = nil
		}
		for i, pin := range view.Pins[:min(maxTried, len(view.Pins))] {
			free := view
			free.Pins = slices.Delete(slices.Clone(view.Pins), i, i+1)
			if found, ok := try(way(definition.MovePin, pin.Name), free, r.packages); ok {
				u.moved(&out, found, pin)
			}
		}
		for _, spare := range w.Spare {
			wider := view
			wider.Sources = append(slices.Clone(view.Sources), spare)
			try(way(definition.AddSource, u.sources[spare].Name), wider, r.packages)
		}
	}
	if len(r.packages) > 0 && len(r.absent) == 1 {
		try(way(definition.LeaveOut, r.absent[0]), view, r.packages)
	}
	if len(r.packages) > 1 && len(r.absent) == 0 && r.Set {
		for i, p := range r.packages[:min(maxTried, len(r.packages))] {
			rest := slices.Delete(slices.Clone(r.packages), i, i+1)
			try(way(definition.LeaveOut, p.Name), view, rest)
		}
	}
	return out
}

// moved says which version a pin would name that was left aside; where it was not what stood in
// the way, that is no way out.
func (u *Universe) moved(out *[]WayOut, found []Chosen, pin archive.Relation) {
	at := len(*out) - 1
	for _, c := range found {
		if c.Name == pin.Name && u.family.CompareVersions(c.Version, pin.Version) != 0 {
			(*out)[at].Version = c.Version
			return
		}
	}
	*out = (*out)[:at]
}

// excepted gives the names that would meet a need of the explanation, and are excepted.
func (r Refusal) excepted() (out []string) {
	var walk func(e Explained)
	walk = func(e Explained) {
		for _, n := range e.Needs {
			for _, name := range n.Excepted {
				if !slices.Contains(out, name) && len(out) < maxTried {
					out = append(out, name)
				}
			}
			for _, w := range n.Ways {
				walk(w)
			}
		}
	}
	if r.Why != nil {
		walk(*r.Why)
	}
	return out
}
