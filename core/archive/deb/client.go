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

// Configure implements archive.Configuring. The client gives priorities to what it recognises by
// records of its preferences (apt_preferences(5)); of records about all packages the first that
// fits counts.
func (f Family) Configure(c archive.Client) (archive.Configuration, finding.List) {
	if err := c.Check(); err != nil {
		return archive.Configuration{}, finding.ListOf(err)
	}
	ordered, unseen, found := c.BestFirst(func(arch, machine string) bool { return arch == machine })
	conf := archive.Configuration{Unseen: unseen, Pins: c.Pins}
	records, ambiguous := recognise(ordered)
	for i, s := range ordered {
		conf.Repositories = append(conf.Repositories, archive.Repository{ClientSource: s,
			Rank: archive.RankOf(s.Priority, 0), Recognised: records[i]})
	}
	return conf, append(found, ambiguous...)
}

// Print implements archive.Configuring: source definitions in the deb822 form
// (sources.list(5)), one keyring for each source that nothing else is trusted by, and preferences
// that carry priorities and pins over.
func (f Family) Print(c archive.Configuration, lane, at string) ([]archive.ClientFile, error) {
	var files []archive.ClientFile
	var sources, preferences archive.Text
	sources.Line("# Written by Stockade for the lane %s.", lane)
	sources.Line("# Changes made here are lost when it writes again.")
	preferences.Line("# Written by Stockade for the lane %s: priorities of its sources, best first.", lane)
	for _, s := range c.Repositories {
		keyring := "etc/apt/keyrings/stockade-" + s.Name + ".gpg"
		var ring []byte
		for _, k := range s.Keys {
			ring = append(ring, k.Binary...)
		}
		files = append(files, archive.ClientFile{Path: keyring, Mode: 0o644, Data: ring})
		writeSource(&sources, at, s.ClientSource, keyring)
	}
	prefer(&preferences, c.Repositories, at)
	for _, p := range c.Pins {
		preferences.Line("")
		preferences.Line("Explanation: pin of the group")
		preferences.Line("Package: %s", p.Name+everyArch)
		preferences.Line("Pin: version %s", p.Version)
		preferences.Line("Pin-Priority: 950")
	}
	files = append(files, archive.ClientFile{Path: "etc/apt/" + archive.SetupName, Mode: 0o755,
		Data: []byte(strings.Replace(setup, "LANE", lane, 1))})
	for _, t := range []struct {
		path string
		text *archive.Text
	}{{"etc/apt/sources.list.d/stockade.sources", &sources},
		{"etc/apt/preferences.d/stockade", &preferences}} {
		data, err := t.text.Bytes()
		if err != nil {
			return nil, err
		}
		files = append(files, archive.ClientFile{Path: t.path, Mode: 0o644, Data: data})
	}
	slices.SortFunc(files, func(a, b archive.ClientFile) int { return strings.Compare(a.Path, b.Path) })
	return files, nil
}

// everyArch stands behind a name in preferences that are about its packages of every architecture.
// A name without it is about those of the machine's own alone, and apt takes another version of the
// package for an architecture that is turned on beside it.
const everyArch = ":any"

// Rules implements archive.Matching. NeverBack: apt_preferences(5), a version is not downgraded
// unless its priority exceeds 1000. CandidateOnly: apt-get(8), of each package the candidate
// version is installed. Cosigned: apt-get accepts a Release that one of the keys of Signed-By
// signed, whoever else did. Older: apt-get keeps the Release that it has where the one that is
// served has an older Date, and says nothing of it.
func (Family) Rules() archive.Rules {
	return archive.Rules{NeverBack: true, CandidateOnly: true, Pins: archive.PinPrefers, Cosigned: true,
		Older: "rm -r /var/lib/apt/lists/* && apt-get update; apt-get install --allow-downgrades then " +
			"takes the older version where it is named"}
}

// Untrust implements archive.Configuring: each source has a keyring of its own, and without it apt
// refuses the source.
func (Family) Untrust(source, _ string) string {
	return "rm /etc/apt/keyrings/stockade-" + source + ".gpg"
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
` + archive.BeneathRoot + `beneath etc/apt/sources.list.d
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
func writeSource(t *archive.Text, at string, s archive.ClientSource, keyring string) {
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
	t.Line("Architectures: %s", strings.Join(s.Architectures, " "))
	if s.Tailored || len(s.Languages) == 0 {
		t.Line("Languages: none")
	} else {
		t.Line("Languages: %s", strings.Join(s.Languages, " "))
	}
	// A Release names lists that a copy does not have (of files, of icons). A machine that has
	// programs which ask for these would end apt-get update with an error.
	targets := "Packages Translations"
	if s.SourcePackages {
		targets += " Sources"
	}
	t.Line("Targets: %s", targets)
	t.Line("Signed-By: /%s", keyring)
	if !s.Tailored {
		t.Line("# The edition behind the lane was checked when it was built; how long it serves is " +
			"decided there.")
		t.Line("Check-Valid-Until: no")
	}
}
