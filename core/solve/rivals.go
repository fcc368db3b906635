package solve

import (
	"context"
	"slices"
	"strings"

	"stockade/core/archive"
)

// Rivals says what two sources of a view that have packages of the same names come to for
// machines: whose are taken, and whose are not.
type Rivals struct {
	Arch      string
	Taken, Of int // sources: whose packages are taken, of the other
	Names     int // how many
	// First is the first of these packages by its name, and Instead of what it is taken.
	First, Instead *archive.Package
}

// Rivalry is what the sources of a view come to beside each other.
type Rivalry struct {
	Rivals []Rivals
	// Never are sources of which nothing is taken, with how many packages they have.
	Never map[int]int
}

// Rivalry tells of each name that several sources of a view have whose package machines take
// that have none yet. Pins are left aside. It costs about one look at each package.
func (u *Universe) Rivalry(ctx context.Context, v View) (Rivalry, error) {
	out := Rivalry{Never: map[int]int{}}
	v.Pins = nil
	s := u.selector(ctx, Limits{})
	wins := map[int]int{}
	most := map[int]int{} // names that a source has on one architecture, where it has the most
	for _, arch := range v.Architectures {
		s.begin(v, arch)
		has := map[int]int{}
		pairs := map[[2]int]*Rivals{}
		for name := range u.names {
			if !s.spend(1 + len(u.names[name].real)) {
				return out, s.err
			}
			taken, first := s.contenders(name)
			for _, o := range first {
				has[o.source]++
				most[o.source] = max(most[o.source], has[o.source])
			}
			if taken.Package == nil {
				continue
			}
			wins[taken.source]++
			for _, o := range first {
				if o.source == taken.source {
					continue
				}
				pair := pairs[[2]int{taken.source, o.source}]
				if pair == nil {
					pair = &Rivals{Arch: arch, Taken: taken.source, Of: o.source}
					pairs[[2]int{taken.source, o.source}] = pair
				}
				if pair.Names++; pair.First == nil || name < pair.First.Name {
					pair.First, pair.Instead = taken.Package, o.Package
				}
			}
		}
		for _, p := range pairs {
			out.Rivals = append(out.Rivals, *p)
		}
	}
	for source, n := range most {
		if wins[source] == 0 {
			out.Never[source] = n
		}
	}
	slices.SortFunc(out.Rivals, func(a, b Rivals) int {
		if a.Taken != b.Taken || a.Of != b.Of {
			return (a.Taken-b.Taken)<<16 + a.Of - b.Of
		}
		return strings.Compare(a.Arch, b.Arch)
	})
	return out, ctx.Err()
}

// contenders gives the package of a name that machines take, and the best of each source.
func (s *selector) contenders(name string) (taken offer, best []offer) {
	offered := s.offered(Want{Source: AllSources, Versions: 1}, name)
	if len(offered) == 0 {
		return taken, nil
	}
	suiting := s.suiting(offered, s.arch)
	better := func(a, b offer) bool { // of one priority
		if d := suiting(a) - suiting(b); d != 0 {
			return d < 0
		}
		return s.family.CompareVersions(a.Version, b.Version) > 0
	}
	at := map[int]int{}
	for _, o := range offered {
		i, seen := at[o.source]
		switch {
		case !seen:
			at[o.source] = len(best)
			best = append(best, o)
		case better(o, best[i]):
			best[i] = o
		}
	}
	for _, o := range best {
		d := 0
		if taken.Package != nil {
			d = s.order(o) - s.order(taken)
		}
		if taken.Package == nil || d < 0 || d == 0 && better(o, taken) {
			taken = o
		}
	}
	return taken, best
}

// Waiting is a newer version that machines would take if it were not for a pin.
type Waiting struct {
	Pinned, Newer *archive.Package
	Source        int // of the newer one
	Arch          string
}

// Behind gives what waits behind the pins of a view.
func (u *Universe) Behind(ctx context.Context, v View) (out []Waiting) {
	free := v
	free.Pins = nil
	s := u.selector(ctx, Limits{})
	for _, arch := range v.Architectures {
		for _, pin := range v.Pins {
			s.begin(v, arch)
			held, _ := s.contenders(pin.Name)
			s.begin(free, arch)
			newest, _ := s.contenders(pin.Name)
			if held.Package != nil && newest.Package != nil &&
				u.family.CompareVersions(held.Version, pin.Version) == 0 &&
				u.family.CompareVersions(newest.Version, held.Version) > 0 {
				out = append(out, Waiting{held.Package, newest.Package, newest.source, arch})
			}
		}
	}
	return out
}
