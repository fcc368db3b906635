package deb

import (
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
	if err := c.Check(); err != nil {
		return nil, nil, err
	}
	var files []archive.ClientFile
	var notes finding.List
	var sources, preferences archive.Text
	sources.Line("# Written by Stockade for the lane %s.", c.Lane)
	sources.Line("# Changes made here are lost when it writes again.")
	preferences.Line("# Written by Stockade for the lane %s: priorities of its sources, best first.", c.Lane)

	ordered := slices.Clone(c.Sources)
	slices.SortStableFunc(ordered, func(a, b archive.ClientSource) int { return a.Priority - b.Priority })
	if err := toldApart(ordered); err != nil {
		return nil, nil, err
	}
	for _, s := range ordered {
		archs := s.Architectures
		if len(c.Architectures) > 0 {
			archs = slices.DeleteFunc(slices.Clone(archs), func(a string) bool {
				return !slices.Contains(c.Architectures, a)
			})
			if len(archs) == 0 {
				notes = append(notes, finding.New("source.architecture-missing", "source "+s.Name,
					"it has nothing for %s, and is left out of the files",
					strings.Join(c.Architectures, ", ")).Rated(finding.Warning))
				continue
			}
		}
		keyring := "etc/apt/keyrings/stockade-" + s.Name + ".gpg"
		var ring []byte
		for _, k := range s.Keys {
			ring = append(ring, k.Binary...)
		}
		files = append(files, archive.ClientFile{Path: keyring, Mode: 0o644, Data: ring})
		writeSource(&sources, c.At, s, archs, keyring)
		preferences.Line("")
		preferences.Line("Explanation: source %s, priority %d", s.Name, s.Priority)
		preferences.Line("Package: *")
		preferences.Line("Pin: release %s", pinMatch(s))
		preferences.Line("Pin-Priority: %d", basePin-s.Priority)
	}
	for _, p := range c.Pins {
		preferences.Line("")
		preferences.Line("Explanation: pin of the group")
		preferences.Line("Package: %s", p.Name)
		preferences.Line("Pin: version %s", p.Version)
		preferences.Line("Pin-Priority: 950")
	}
	files = append(files, archive.ClientFile{Path: "etc/apt/" + archive.SetupName, Mode: 0o755,
		Data: []byte(strings.Replace(setup, "LANE", c.Lane, 1))})
	for _, t := range []struct {
		path string
		text *archive.Text
	}{{"etc/apt/sources.list.d/stockade.sources", &sources},
		{"etc/apt/preferences.d/stockade", &preferences}} {
		data, err := t.text.Bytes()
		if err != nil {
			return nil, nil, err
		}
		files = append(files, archive.ClientFile{Path: t.path, Mode: 0o644, Data: data})
	}
	slices.SortFunc(files, func(a, b archive.ClientFile) int { return strings.Compare(a.Path, b.Path) })
	return files, notes, nil
}

// Touched implements archive.Configuring.
func (Family) Touched() []string { return []string{"etc/apt"} }

// setup is run where a machine is to take packages from its lane alone. The names that
// it gives are such as the client passes over in silence (Dir::Ignore-Files-Silently,
// apt.conf(5)).
const setup = `#!/bin/sh
# Written by Stockade for the lane LANE. Takes package sources out of use that this
# machine had before: apt-get then takes packages from the lane alone. It can be run
# again at any time. With a folder as its argument it works on the system below that
# folder.
#
# The way back: take .before-stockade.disabled off the names of these files.
set -eu
root="${1:-}"
for list in "$root"/etc/apt/sources.list "$root"/etc/apt/sources.list.d/*.list \
	"$root"/etc/apt/sources.list.d/*.sources; do
	case "$list" in
	*/stockade.sources) continue ;;
	esac
	[ -e "$list" ] || continue
	to="$list.before-stockade.disabled"
	[ ! -e "$to" ] || to="$list.$(date +%s).before-stockade.disabled"
	mv "$list" "$to"
done
`

// writeSource writes one stanza of sources.list(5).
func writeSource(t *archive.Text, at string, s archive.ClientSource, archs []string, keyring string) {
	uri := strings.TrimRight(at, "/") + "/" + s.Name
	if strings.HasPrefix(at, "/") {
		uri = "file:" + archive.EscapeFolder(uri)
	}
	t.Line("")
	if s.SourcePackages {
		t.Line("Types: deb deb-src")
	} else {
		t.Line("Types: deb")
	}
	t.Line("URIs: %s", uri)
	t.Line("Suites: %s", s.Release)
	if len(s.Components) > 0 {
		t.Line("Components: %s", strings.Join(s.Components, " "))
	}
	t.Line("Architectures: %s", strings.Join(archs, " "))
	if s.Tailored || len(s.Languages) == 0 {
		t.Line("Languages: none")
	} else {
		t.Line("Languages: %s", strings.Join(s.Languages, " "))
	}
	t.Line("Signed-By: /%s", keyring)
	if !s.Tailored {
		t.Line("# The edition behind the lane was checked when it was built; how long it serves is " +
			"decided there.")
		t.Line("Check-Valid-Until: no")
	}
}

// pinLetters are what preferences may ask of a Release file (apt_preferences(5)),
// of a source.
func pinLetters(s archive.ClientSource) [][2]string {
	label := s.Label
	if s.Tailored {
		label = s.Name
	}
	return [][2]string{{"o", s.Origin}, {"l", label}, {"n", s.Codename}, {"a", s.Suite}}
}

// pinMatch is how preferences recognise the source's Release file. A value that
// the client would take for a pattern, or that would end where it has a comma,
// is not asked for.
func pinMatch(s archive.ClientSource) string {
	var parts []string
	for _, l := range pinLetters(s) {
		if plainPin(l[1]) {
			parts = append(parts, l[0]+"="+l[1])
		}
	}
	if len(parts) == 0 {
		return "c=" + strings.Join(s.Components, " ")
	}
	return strings.Join(parts, ",")
}

func plainPin(v string) bool {
	return v != "" && len(v) <= 200 && finding.Harmless(v) == v && strings.TrimSpace(v) == v &&
		!strings.ContainsAny(v, ",*?[]\\/\"'")
}

// matches tells whether the preferences of s would take the Release file of
// other for its own: the client compares without regard to case, and only what
// is asked for.
func matches(s, other archive.ClientSource) bool {
	theirs := pinLetters(other)
	asked := false
	for i, l := range pinLetters(s) {
		if !plainPin(l[1]) {
			continue
		}
		asked = true
		if !strings.EqualFold(l[1], theirs[i][1]) {
			return false
		}
	}
	return asked || slices.ContainsFunc(s.Components, func(c string) bool {
		return slices.Contains(other.Components, c)
	})
}

// toldApart refuses sources of different priorities of which the client would
// take one for the other: the lesser could borrow the better's name.
func toldApart(all []archive.ClientSource) error {
	for i, s := range all {
		for k, other := range all {
			if i != k && s.Priority != other.Priority && matches(s, other) {
				return finding.New("priority.ambiguous", "source "+other.Name,
					"machines would take it for %s, whose priority is %d and not %d: "+
						"both are recognised by %q", s.Name, s.Priority, other.Priority, pinMatch(s))
			}
		}
	}
	return nil
}

// TakesCosigned implements archive.Cosigned: apt-get takes a Release that one of the keys
// of Signed-By signed, whoever else did.
func (Family) TakesCosigned() {}

// PassesOlder implements archive.NeverBack (apt_preferences(5): a version is not downgraded
// unless its priority exceeds 1000).
func (Family) PassesOlder() {}

// TakesFirstAlone implements archive.FirstAlone (apt-get(8): of each package the candidate version
// is what is installed).
func (Family) TakesFirstAlone() {}

// SeeOlder implements archive.ForwardOnly: apt-get keeps the Release that it has where
// the one that is served has an older Date, and says nothing of it.
func (Family) SeeOlder() string {
	return "rm -r /var/lib/apt/lists/* && apt-get update; apt-get install --allow-downgrades then takes " +
		"the older version where it is named"
}
