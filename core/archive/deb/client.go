package deb

import (
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// basePin is the client's pin number of a source of priority 0. A priority of
// 1 to 99 becomes 899 to 801: above the 500 of anything that Stockade did not
// write, each priority apart, and below the 1000 from which the client would
// go back to older versions (apt_preferences(5)).
const basePin = 900

// ClientFiles implements archive.Family: source definitions in the
// deb822 form (sources.list(5)), one keyring for each source
// that nothing else is trusted by, and preferences that carry priorities and
// pins over.
func (f Family) ClientFiles(c archive.Client) ([]archive.ClientFile, finding.List, error) {
	var files []archive.ClientFile
	var notes finding.List
	var sources, preferences strings.Builder
	fmt.Fprintf(&sources, "# Written by Stockade for the lane %s.\n# Changes made here are lost when it writes again.\n", c.Lane)
	fmt.Fprintf(&preferences, "# Written by Stockade for the lane %s: priorities of its sources, best first.\n", c.Lane)

	seen := map[string]string{}
	ordered := slices.Clone(c.Sources)
	slices.SortStableFunc(ordered, func(a, b archive.ClientSource) int { return a.Priority - b.Priority })
	for _, s := range ordered {
		keyring := "etc/apt/keyrings/stockade-" + s.Name + ".gpg"
		var ring []byte
		for _, k := range s.Keys {
			ring = append(ring, k.Binary...)
		}
		files = append(files, archive.ClientFile{Path: keyring, Mode: 0o644, Data: ring})

		uri := strings.TrimRight(c.At, "/") + "/" + s.Name
		if strings.HasPrefix(c.At, "/") {
			uri = "file:" + escapePath(uri)
		}
		archs := s.Architectures
		if len(c.Architectures) > 0 {
			archs = nil
			for _, a := range s.Architectures {
				if slices.Contains(c.Architectures, a) {
					archs = append(archs, a)
				}
			}
			if len(archs) == 0 {
				notes = append(notes, finding.New("source.architecture-missing", "source "+s.Name,
					"it has nothing for %s, and is left out of the files", strings.Join(c.Architectures, ", ")).Rated(finding.Warning))
				files = files[:len(files)-1]
				continue
			}
		}
		fmt.Fprintf(&sources, "\nTypes: deb\nURIs: %s\nSuites: %s\n", uri, s.Release)
		if len(s.Components) > 0 {
			fmt.Fprintf(&sources, "Components: %s\n", strings.Join(s.Components, " "))
		}
		fmt.Fprintf(&sources, "Architectures: %s\n", strings.Join(archs, " "))
		if s.Tailored || len(s.Languages) == 0 {
			sources.WriteString("Languages: none\n")
		} else {
			fmt.Fprintf(&sources, "Languages: %s\n", strings.Join(s.Languages, " "))
		}
		fmt.Fprintf(&sources, "Signed-By: /%s\n", keyring)
		if !s.Tailored {
			sources.WriteString("# The edition behind the lane was checked when it was built; how long it serves is decided there.\nCheck-Valid-Until: no\n")
		}

		match := pinMatch(s)
		if other, twice := seen[match]; twice {
			notes = append(notes, finding.New("lane.pin-ambiguous", "source "+s.Name,
				"the client cannot tell %s from %s: both say %q", s.Name, other, match))
		}
		seen[match] = s.Name
		fmt.Fprintf(&preferences, "\nExplanation: source %s, priority %d\nPackage: *\nPin: release %s\nPin-Priority: %d\n",
			s.Name, s.Priority, match, basePin-s.Priority)
	}
	for _, p := range c.Pins {
		if p.Op != archive.Equal {
			return nil, nil, finding.New("define.bad-value", "", "the pin %q is not NAME = VERSION", p.String())
		}
		fmt.Fprintf(&preferences, "\nExplanation: pin of the group\nPackage: %s\nPin: version %s\nPin-Priority: 950\n", p.Name, p.Version)
	}
	files = append(files,
		archive.ClientFile{Path: "etc/apt/sources.list.d/stockade.sources", Mode: 0o644, Data: []byte(sources.String())},
		archive.ClientFile{Path: "etc/apt/preferences.d/stockade", Mode: 0o644, Data: []byte(preferences.String())})
	slices.SortFunc(files, func(a, b archive.ClientFile) int { return strings.Compare(a.Path, b.Path) })
	return files, notes, nil
}

// pinMatch is how preferences recognise the source's Release file.
func pinMatch(s archive.ClientSource) string {
	var parts []string
	add := func(letter, value string) {
		// A comma would end the value in apt_preferences(5).
		if value != "" && !strings.Contains(value, ",") {
			parts = append(parts, letter+"="+oneLine(value))
		}
	}
	add("o", s.Origin)
	if s.Tailored {
		add("l", s.Name)
	} else {
		add("l", s.Label)
	}
	add("n", s.Codename)
	add("a", s.Suite)
	if len(parts) == 0 {
		return "c=" + strings.Join(s.Components, " ")
	}
	return strings.Join(parts, ",")
}

func escapePath(p string) string {
	return strings.NewReplacer("%", "%25", " ", "%20", "#", "%23", "[", "%5b", "]", "%5d").Replace(p)
}
