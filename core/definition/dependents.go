package definition

import (
	"maps"
	"slices"

	"stockade/core/trust"
)

// Dependents are the described things that stand on one of them, by name.
type Dependents struct {
	Proxies []string `json:"proxies"`
	Sources []string `json:"sources"`
	// Alone are those of the sources that have nothing else of the kind: no other key, no
	// other upstream.
	Alone   []string `json:"alone"`
	Mirrors []string `json:"mirrors"` // take from these sources
	Lanes   []string `json:"lanes"`   // of these mirrors
	Groups  []string `json:"groups"`  // follow these lanes
	// Machines is how many machines are enrolled in a group, where that is known.
	Machines int `json:"machines,omitempty"`
}

// None tells whether nothing stands on it.
func (d Dependents) None() bool {
	return len(d.Proxies)+len(d.Sources)+len(d.Mirrors)+len(d.Lanes)+len(d.Groups)+d.Machines == 0
}

// Dependents gives what stands on a thing. Kind is one of Kinds; a key is given by its name
// or its fingerprint.
func (s *Set) Dependents(kind, name string) Dependents {
	var proxies, sources, alone []string
	switch kind {
	case "authority":
		proxies = where(s.Proxies, func(p Proxy) bool { return p.Authority == name })
		sources = where(s.Sources, func(src Source) bool { return src.Authority == name })
	case "credential":
		proxies = where(s.Proxies, func(p Proxy) bool { return p.Credential == name })
		sources = where(s.Sources, func(src Source) bool { return slices.Contains(src.Credentials, name) })
	case "proxy":
		sources = where(s.Sources, func(src Source) bool { return src.Proxy == name })
	case "key":
		sources, alone = s.signedBy(name)
	case "source":
		standing := where(s.Mirrors, func(m Mirror) bool { return slices.Contains(m.Baseline.Sources, name) })
		d := s.below(nil, nil, nil, append(s.UsersOf(name), standing...))
		d.Groups = append(d.Groups, where(s.Groups, func(g Group) bool {
			return slices.Contains(g.Baseline.Sources, name)
		})...)
		return d.Whole()
	case "list":
		d := s.below(nil, nil, nil, where(s.Mirrors, func(m Mirror) bool { return m.uses(name) }))
		d.Groups = append(d.Groups, where(s.Groups, func(g Group) bool { return g.Baseline.List == name })...)
		return d.Whole()
	case "mirror":
		d := s.below(nil, nil, nil, []string{name})
		d.Mirrors = []string{} // it does not stand on itself
		return d
	case "lane":
		return Dependents{Groups: where(s.Groups, func(g Group) bool { return g.Lane == name })}.Whole()
	}
	for _, p := range proxies {
		sources = append(sources, where(s.Sources, func(src Source) bool { return src.Proxy == p })...)
	}
	return s.below(proxies, sources, alone, nil)
}

// StandingOn gives what stands on several sources.
func (s *Set) StandingOn(sources []string) Dependents { return s.below(nil, sources, nil, nil) }

// signedBy gives the sources that name a key, and those that name no other.
func (s *Set) signedBy(name string) (sources, alone []string) {
	of := s.Keys[name].All()
	if f, err := trust.ParseFingerprint(name); err == nil {
		of = []string{f}
	}
	for _, src := range slices.Sorted(maps.Keys(s.Sources)) {
		signers := s.Signers(src)
		others := slices.DeleteFunc(slices.Clone(signers), func(f string) bool {
			return slices.ContainsFunc(of, func(k string) bool {
				g, err := trust.ParseFingerprint(k)
				return err == nil && g == f
			})
		})
		if len(others) == len(signers) && !slices.Contains(s.Sources[src].SignedBy, name) {
			continue
		}
		sources = append(sources, src)
		if len(others) == 0 {
			alone = append(alone, src)
		}
	}
	return sources, alone
}

// below gives what stands on sources or mirrors.
func (s *Set) below(proxies, sources, alone, mirrors []string) Dependents {
	for _, src := range sources {
		mirrors = append(mirrors, s.UsersOf(src)...)
	}
	d := Dependents{Proxies: proxies, Sources: sources, Alone: alone, Mirrors: mirrors}
	d.Lanes = where(s.Lanes, func(l Lane) bool { return slices.Contains(mirrors, l.Mirror) })
	d.Groups = where(s.Groups, func(g Group) bool { return slices.Contains(d.Lanes, g.Lane) })
	return d.Whole()
}

// Whole sorts the names, and leaves no list out.
func (d Dependents) Whole() Dependents {
	for _, names := range []*[]string{&d.Proxies, &d.Sources, &d.Alone, &d.Mirrors, &d.Lanes, &d.Groups} {
		slices.Sort(*names)
		*names = append([]string{}, slices.Compact(*names)...)
	}
	return d
}

// where gives the names of the things that are like that, sorted.
func where[T any](all map[string]T, is func(T) bool) (out []string) {
	for _, name := range slices.Sorted(maps.Keys(all)) {
		if is(all[name]) {
			out = append(out, name)
		}
	}
	return out
}

// Loss is a thing that a change takes away or out of use, with what stood on it.
type Loss struct {
	Kind string `json:"kind"`
	Name string `json:"name"` // of an upstream: its address
	// How it is lost: removed or disabled; of an upstream the source says which.
	How string `json:"how"`
	Dependents
	Left int `json:"left"` // upstreams that the source has then; of an upstream alone
}

// How a thing is lost.
const (
	Removed  = "removed"
	Disabled = "disabled"
)

// Losses gives what a change from one set to another takes away that something stands on.
func Losses(from, to *Set) []Loss {
	out := []Loss{}
	for _, kind := range Kinds {
		if kind == "rule" || kind == "package" || kind == "group" {
			continue // nothing stands on one of them
		}
		for _, name := range from.Names(kind) {
			if !slices.Contains(to.Names(kind), name) {
				out = append(out, Loss{Kind: kind, Name: name, How: Removed,
					Dependents: from.Dependents(kind, name)})
			}
		}
	}
	for _, name := range from.Names("source") {
		was := from.Sources[name]
		now, is := to.Sources[name]
		if !is {
			continue
		}
		if now.Disabled && !was.Disabled {
			out = append(out, Loss{Kind: "source", Name: name, How: Disabled,
				Dependents: from.Dependents("source", name)})
		}
		out = append(out, from.lostUpstreams(name, was, now)...)
	}
	return slices.DeleteFunc(out, func(l Loss) bool { return l.None() })
}

func (s *Set) lostUpstreams(name string, was, now Source) (out []Loss) {
	for _, u := range was.Upstreams {
		address, _ := u.Address()
		if slices.ContainsFunc(now.Upstreams, func(v Upstream) bool {
			a, _ := v.Address()
			return a == address
		}) {
			continue
		}
		var alone []string
		if len(now.Upstreams) == 0 {
			alone = []string{name}
		}
		out = append(out, Loss{Kind: "upstream", Name: address, How: Removed, Left: len(now.Upstreams),
			Dependents: s.below(nil, []string{name}, alone, nil)})
	}
	return out
}
