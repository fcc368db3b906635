package machine

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"unicode"

	"stockade/core/archive"
	"stockade/core/edition"
	"stockade/core/solve"
)

// Offered is what an edition has of some names, and what is told of them.
type Offered struct {
	edition  *edition.Edition
	items    []edition.Item
	advised  map[string][]string // advisories, by package: see edition.AdvisoryIDs
	security map[string]bool     // by source and id
	advises  map[string]bool     // sources of which advisories are known
}

// Offer is what an edition offers, where its packages are at hand and nothing is known of advisories.
func Offer(e *edition.Edition, items []edition.Item) *Offered {
	return &Offered{edition: e, items: items}
}

// Read reads what an edition has of the names that are asked for.
func Read(e *edition.Sealed, asked func(name string) bool) (*Offered, error) {
	o := &Offered{edition: e.Edition, security: map[string]bool{}, advises: map[string]bool{}}
	if err := e.ItemsCalled(asked, func(it edition.Item) error {
		o.items = append(o.items, it)
		return nil
	}); err != nil {
		return nil, err
	}
	var told []edition.Advisory
	if err := e.ReadAdvisories(func(a edition.Advisory) error {
		told = append(told, a)
		o.security[a.Source+"\x00"+a.ID] = a.Kind == edition.SecurityKind
		o.advises[a.Source] = true
		return nil
	}); err != nil {
		return nil, err
	}
	o.advised = edition.AdvisoryIDs(told)
	return o, nil
}

// Offering is what machines of a view see of that.
type Offering struct {
	*Offered
	view     View
	family   archive.Family
	universe *solve.Universe
	seen     solve.View
	sources  []string
	apart    map[string]bool // names of which more decides than priority and version
	answers  map[askedOf]InstalledPackage
	// sources of security fixes; and those of which it is known what is about security: from advisories, or
	// since their publisher has a source of its own for fixes
	fixes, told map[string]bool
}

// ofFixes tells whether a source is one of security fixes, as its description, its release or what it calls
// itself says: heron-security, heron/updates-security, Tarn-Security.
func ofFixes(src edition.Source) bool {
	if src.SecurityFixes {
		return true
	}
	for _, text := range []string{src.Release, src.Suite, src.Codename, src.Label} {
		words := strings.FieldsFunc(strings.ToLower(text), func(r rune) bool {
			return !unicode.IsLetter(r)
		})
		if slices.Contains(words, "security") {
			return true
		}
	}
	return false
}

type askedOf struct {
	archive.Identity
	arch string
}

// Unknown: more than priority and version decides which of its packages machines see, such as
// module streams.
const Unknown solve.InstalledState = "unknown"

// InstalledPackage is a package that a machine has, beside what comes first of its name in its view.
type InstalledPackage struct {
	Name    string               `json:"name"`
	Version string               `json:"version"`
	Arch    string               `json:"arch,omitempty"` // empty: its list does not say it
	State   solve.InstalledState `json:"state"`
	// Offered is the version that comes first, and From its source; empty where there is none.
	Offered    string   `json:"offered,omitempty"`
	From       string   `json:"from,omitempty"`
	Size       int64    `json:"size,omitempty"` // bytes to be downloaded, of what machines would take
	Advisories []string `json:"advisories,omitempty"`
	// Security tells that one of these is about security, or that it comes from a source of security
	// fixes. Unsure: its source tells neither, so that nobody knows.
	Security bool `json:"security,omitempty"`
	Unsure   bool `json:"security_unknown,omitempty"`
	// Hold tells that the machine itself holds it back, and not a pin of its group.
	Hold bool `json:"hold,omitempty"`
	// Unfinished says what is left to do where its installation came to no end.
	Unfinished string `json:"unfinished,omitempty"`
}

// Comparison is what a machine has installed beside what its view offers.
type Comparison struct {
	Installed int   `json:"installed"`
	Current   int   `json:"current"`
	Behind    int   `json:"behind"`
	Security  int   `json:"security"`         // of those behind or held
	Unsure    int   `json:"security_unknown"` // of those behind or held: nothing tells whether they are
	Ahead     int   `json:"ahead"`
	Held      int   `json:"held"`
	Stranded  int   `json:"stranded"`
	Unknown   int   `json:"unknown"`
	Bytes     int64 `json:"bytes"` // of what it would take
	// Items are the packages that are not current, what matters first.
	Items []InstalledPackage `json:"items"`
}

// To gives what machines of a view see.
func (o *Offered) To(v View, f archive.Family) *Offering {
	out := &Offering{Offered: o, view: v, family: f, apart: map[string]bool{},
		answers: map[askedOf]InstalledPackage{},
		seen: solve.View{Name: v.Group, Architectures: v.Architectures, Foreign: v.Foreign,
			Pins: v.Pins}}
	var sources []solve.Source
	at := map[string]int{}
	out.fixes, out.told = map[string]bool{}, map[string]bool{}
	fixed := map[string]bool{} // publishers that have a source of security fixes
	for _, src := range o.edition.Sources {
		if v.Sees(src.Name) && ofFixes(src) {
			out.fixes[src.Name], fixed[src.Origin] = true, true
		}
	}
	for _, src := range o.edition.Sources {
		if v.Sees(src.Name) {
			out.told[src.Name] = o.advises[src.Name] || src.Origin != "" && fixed[src.Origin]
			at[src.Name] = len(sources)
			sources = append(sources, solve.Source{Name: src.Name, Priority: src.Priority,
				Architectures: src.Architectures})
			out.sources = append(out.sources, src.Name)
		}
	}
	out.seen.Ranks = solve.RanksOf(v.Client, func(source string) (int, bool) {
		k, ok := at[source]
		return k, ok
	})
	out.universe = solve.NewUniverse(f, sources)
	for n, it := range o.items {
		k, ok := at[it.Source]
		if !ok {
			continue
		}
		if len(it.Attributes) > 0 {
			out.apart[it.Name] = true
		}
		out.universe.Add(k, &archive.Package{Name: it.Name, Version: it.Version, Arch: it.Arch,
			Component: it.Component, Size: it.Size, Ordinal: n})
	}
	return out
}

// Compare tells of each package that a machine has installed whether its view has something else.
// Each is looked at by itself: what would have to be installed or taken away with it, and what
// replaces it under another name, is not.
//
// Versions that a client keeps beside a newer one count as current: it installs updates of such
// packages beside the newest, and leaves the older ones as they are.
func (o *Offering) Compare(ctx context.Context, installed []archive.Installed) (Comparison, error) {
	out := Comparison{Installed: len(installed), Items: []InstalledPackage{}}
	older := o.superseded(installed)
	for _, have := range installed {
		if err := ctx.Err(); err != nil {
			return out, err
		}
		x := o.beside(ctx, have.Identity)
		if older[have.Identity] && (x.State != solve.Behind || o.sideBySide(have.Name)) {
			x = InstalledPackage{Name: have.Name, Version: have.Version, Arch: have.Arch,
				State: solve.Current}
		}
		if have.Held && x.State == solve.Behind {
			x.State, x.Hold = solve.Held, true
		}
		x.Unfinished = have.Unfinished
		if x.Security {
			out.Security++
		}
		if x.Unsure {
			out.Unsure++
		}
		switch x.State {
		case solve.Current:
			if out.Current++; x.Unfinished == "" {
				continue
			}
		case solve.Behind:
			out.Behind++
			out.Bytes += x.Size
		case solve.Ahead:
			out.Ahead++
		case solve.Held:
			out.Held++
		case solve.Stranded:
			out.Stranded++
		case Unknown:
			out.Unknown++
		default:
			return out, fmt.Errorf("machine: %q is no state of %s", x.State, have.Name)
		}
		out.Items = append(out.Items, x)
	}
	slices.SortFunc(out.Items, func(a, b InstalledPackage) int {
		if c := cmp.Or(matters(a)-matters(b), strings.Compare(a.Name, b.Name),
			strings.Compare(a.Arch, b.Arch)); c != 0 {
			return c
		}
		return o.family.CompareVersions(a.Version, b.Version) // which takes longer than the others
	})
	return out, nil
}

// superseded gives what a machine has installed of which it has a newer version too: several
// versions of one name, or packages that carry their version in their name.
func (o *Offering) superseded(installed []archive.Installed) map[archive.Identity]bool {
	type version struct {
		archive.Identity
		of string // the version to compare by
	}
	newest := make(map[archive.Identity]version, len(installed)) // by what is the same of all versions
	out := map[archive.Identity]bool{}
	for _, have := range installed {
		kind, now := archive.Identity{Name: have.Name, Arch: have.Arch}, version{have.Identity, have.Version}
		if v, ok := o.family.(archive.Versioned); ok {
			if stem, in := v.VersionInName(have.Name); in != "" {
				kind.Name, now.of = stem, in
			}
		}
		best, seen := newest[kind]
		switch {
		case !seen:
			newest[kind] = now
		case o.family.CompareVersions(best.of, now.of) >= 0:
			out[now.Identity] = true
		default:
			out[best.Identity] = true
			newest[kind] = now
		}
	}
	return out
}

// sideBySide tells whether a client keeps several versions of a package under one name: it does not
// update the older ones. Under names of their own it does.
func (o *Offering) sideBySide(name string) bool {
	v, ok := o.family.(archive.Versioned)
	if !ok {
		return true
	}
	_, version := v.VersionInName(name)
	return version == ""
}

// matters orders what is told of a machine.
func matters(x InstalledPackage) int {
	if x.Security {
		return 0
	}
	return 1 + slices.Index([]solve.InstalledState{solve.Stranded, solve.Held, solve.Behind, solve.Ahead,
		Unknown}, x.State)
}

// beside gives a package beside what comes first of its name, worked out once for all machines
// that have it.
func (o *Offering) beside(ctx context.Context, have archive.Identity) InstalledPackage {
	arches := o.view.Architectures
	if slices.Contains(arches, have.Arch) {
		arches = []string{have.Arch}
	}
	// Where machines of several architectures share a group, what suits one of them counts.
	best := InstalledPackage{Name: have.Name, Version: have.Version, Arch: have.Arch, State: solve.Stranded}
	for i, arch := range arches {
		key := askedOf{have, arch}
		x, known := o.answers[key]
		if !known {
			x = o.ask(ctx, have, arch)
			o.answers[key] = x
		}
		if i == 0 || best.State == solve.Stranded {
			best = x
		}
	}
	return best
}

func (o *Offering) ask(ctx context.Context, have archive.Identity, arch string) InstalledPackage {
	x := InstalledPackage{Name: have.Name, Version: have.Version, Arch: have.Arch, State: Unknown}
	if o.apart[have.Name] {
		return x
	}
	s := o.universe.Successor(ctx, o.seen, arch, have)
	x.State = s.State
	p := s.Offer.Package
	if p == nil {
		return x
	}
	x.Offered, x.From = p.Version, o.sources[s.Offer.Source]
	if x.State != solve.Behind && x.State != solve.Held {
		return x
	}
	x.Size = p.Size
	x.Advisories = o.advised[x.From+"\x00"+p.Name+"\x00"+p.Version+"\x00"+p.Arch]
	x.Security = o.fixes[x.From] || slices.ContainsFunc(x.Advisories, func(id string) bool {
		return o.security[x.From+"\x00"+id]
	})
	x.Unsure = !x.Security && !o.told[x.From]
	return x
}
