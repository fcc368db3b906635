// Package machine is about what machines see of an edition.
//
// Whatever starts from a group starts from its View: the proof before an edition
// is sealed, the choice of what a mirror takes, and the files that machines get.
// It is worked out here and nowhere else. The package trusts what it is told of
// sources: that was verified or described before. It decides nothing about keys, and
// never asks a machine.
package machine

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
)

// Source is a source of an edition, or of a mirror that is being built, with what
// decides who sees it.
type Source struct {
	archive.ClientSource
	Standing string
}

// View is what the machines of a group see.
type View struct {
	Group         string
	Family        string
	Release       string
	Architectures []string // that its machines have, and a source offers
	Foreign       []string // that they have turned on beside their own, and a source offers
	Sources       []string // names, in the order of the edition
	Pins          []archive.Relation
	Asked         string // what is asked of a proof beyond what they see: roles and a baseline of their own
	Left          []Left // of its family, and not seen, or not on all architectures
	// Client is what the machines' client comes to see with the files that Stockade writes: what
	// is proved, chosen, compared and printed starts from it. Told is what is to be said of it;
	// an error among that means that machines would see something else than the view.
	Client archive.Configuration
	Told   finding.List
}

// Left is a source that a view lacks, or lacks on some architectures.
type Left struct {
	Source string
	Why    string
	Whole  bool // it is not seen at all
}

// See gives the view of a group on sources. An error tells a pin that cannot be
// read.
func See(group string, g definition.Group, families archive.Registry, sources []Source) (View, error) {
	v := View{Group: group, Family: g.Family, Release: g.Release, Asked: asked(g)}
	for _, p := range g.Pins {
		r, err := archive.ParseWant(p)
		if err != nil {
			return v, err
		}
		v.Pins = append(v.Pins, r)
	}
	client := archive.Client{Pins: v.Pins}
	offered := map[string]bool{}
	for _, s := range sources {
		if s.Family != g.Family {
			continue
		}
		if !suits(families[g.Family], s, g.Release) {
			v.Left = append(v.Left, Left{
				Source: s.Name,
				Whole:  true,
				Why: fmt.Sprintf("the source is for the release %s, and the group for %s", s.said(),
					g.Release),
			})
			continue
		}
		var shared, lacking []string
		for _, a := range g.Architectures {
			if slices.Contains(s.Architectures, a) {
				shared = append(shared, a)
			} else {
				lacking = append(lacking, a)
			}
		}
		if len(g.Architectures) == 0 {
			shared = s.Architectures
		}
		beside := slices.ContainsFunc(g.Foreign, func(a string) bool {
			return slices.Contains(s.Architectures, a)
		})
		if len(shared) == 0 && !beside {
			v.Left = append(v.Left, Left{Source: s.Name, Whole: true,
				Why: fmt.Sprintf("the source has packages for %s, and the group is %s",
					strings.Join(s.Architectures,
						", "), strings.Join(g.Architectures, ", "))})
			continue
		}
		if len(lacking) > 0 && len(shared) > 0 {
			v.Left = append(v.Left,
				Left{Source: s.Name, Why: "the source has no packages for " + strings.Join(lacking, ", ")})
		}
		v.Sources = append(v.Sources, s.Name)
		client.Sources = append(client.Sources, s.ClientSource)
		for _, a := range g.Foreign {
			if slices.Contains(s.Architectures, a) && !slices.Contains(v.Foreign, a) {
				v.Foreign = append(v.Foreign, a)
			}
		}
		for _, a := range shared {
			if !offered[a] {
				offered[a] = true
				v.Architectures = append(v.Architectures, a)
			}
		}
	}
	if f, known := families[g.Family]; known && len(client.Sources) > 0 {
		if len(g.Architectures) > 0 {
			client.Architectures = slices.Concat(g.Architectures, v.Foreign)
		}
		v.Client, v.Told = f.Configure(client)
		v.Sources = slices.DeleteFunc(v.Sources, func(name string) bool {
			return !v.Client.Sees(name, "") && slices.ContainsFunc(v.Client.Unseen,
				func(u archive.Unseen) bool { return u.Source == name })
		})
	}
	return v, nil
}

// asked writes what a group asks of a proof by itself.
func asked(g definition.Group) string {
	if len(g.Roles) == 0 && g.Baseline.IsZero() {
		return ""
	}
	text, err := json.Marshal(struct {
		Roles map[string][]string `json:"roles,omitempty"`
		// The views of editions of before have the former name: what a group asks of a proof has not changed.
		Baseline definition.Baseline `json:"footing,omitzero"`
	}{g.Roles, g.Baseline})
	if err != nil {
		panic("machine: plain values do not marshal: " + err.Error())
	}
	return string(text)
}

// said gives all that a source says of its release.
func (s Source) said() string {
	var said []string
	for _, r := range []string{s.Release, s.Codename, s.Suite} {
		if r != "" && !slices.Contains(said, r) {
			said = append(said, r)
		}
	}
	return strings.Join(said, " or ")
}

// suits tells whether a source is for machines of a release. Only sources of the
// distribution itself are: what vendors and the house call a release is their own
// affair.
func suits(f archive.Family, s Source, release string) bool {
	if release == "" || s.Standing != definition.Official {
		return true
	}
	serves := func(said string) bool { return said == release }
	if r, ok := f.(archive.Releases); ok {
		serves = func(said string) bool { return r.ServesRelease(said, release) }
	}
	return slices.ContainsFunc([]string{s.Release, s.Codename, s.Suite}, serves)
}

// Findings tells of the sources that the view lacks, and of what machines would see otherwise.
func (v View) Findings() finding.List {
	out := slices.Clone(v.Told)
	for _, l := range v.Left {
		text := fmt.Sprintf("its machines cannot use the source %s: %s", l.Source, l.Why)
		if !l.Whole {
			text = fmt.Sprintf("its machines can use the source %s only on some of their "+
				"architectures: %s",
				l.Source, l.Why)
		}
		out = append(out, finding.New(finding.SourceReleaseUnsupported, "group "+v.Group, "%s", text))
	}
	return out
}

// Sees tells whether the view has a source.
func (v View) Sees(source string) bool { return slices.Contains(v.Sources, source) }

// PinTexts gives the pins as people write them.
func (v View) PinTexts() (out []string) {
	for _, p := range v.Pins {
		out = append(out, p.String())
	}
	return out
}

// Proved tells whether what an edition proved for the group was proved for this view:
// for the same sources, architectures and pins, and of the same roles on the same baseline of its own.
func (v View) Proved(e *edition.Edition) bool {
	return slices.ContainsFunc(e.Views, func(p edition.View) bool {
		return p.Group == v.Group && p.Asked == v.Asked && slices.Equal(p.Sources, v.Sources) &&
			slices.Equal(p.Architectures, v.Architectures) &&
			slices.Equal(p.Foreign, v.Foreign) && slices.Equal(p.Pins, v.PinTexts())
	})
}
