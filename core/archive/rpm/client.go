package rpm

import (
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// ClientFiles implements archive.Family: one file of repository definitions for
// dnf (dnf.conf(5)) and the same for zypper (zypper(8), whose defaults differ),
// the keys beside them. Both check signatures on the root and on packages. Our
// priorities are theirs: 1 is asked first, and 99 last. What a pin leaves out
// is excluded for dnf and locked for zypper.
func (f Family) ClientFiles(c archive.Client) ([]archive.ClientFile, finding.List, error) {
	var files []archive.ClientFile
	var notes finding.List
	var dnf, zypper strings.Builder
	head := "# Written by Stockade for the lane " + c.Lane + ".\n# Changes made here are lost when it writes again.\n"
	dnf.WriteString(head)
	zypper.WriteString(head)
	excluded := excludes(c.Pins)
	ordered := slices.Clone(c.Sources)
	slices.SortStableFunc(ordered, func(a, b archive.ClientSource) int { return a.Priority - b.Priority })
	for _, s := range ordered {
		if len(c.Architectures) > 0 && !slices.ContainsFunc(s.Architectures, func(a string) bool {
			return slices.ContainsFunc(c.Architectures, func(m string) bool { return rank(a, m) >= 0 })
		}) {
			notes = append(notes, finding.New("source.architecture-missing", "source "+s.Name,
				"it has nothing for %s, and is left out of the files", strings.Join(c.Architectures, ", ")).Rated(finding.Warning))
			continue
		}
		var urls []string
		for _, k := range s.Keys {
			name := "etc/pki/rpm-gpg/stockade-" + s.Name + "-" + k.Fingerprint + ".asc"
			files = append(files, archive.ClientFile{Path: name, Mode: 0o644, Data: []byte(k.Armoured)})
			urls = append(urls, "file:///"+name)
		}
		address := strings.TrimRight(c.At, "/") + "/" + s.Name + "/"
		if strings.HasPrefix(c.At, "/") {
			address = "file://" + strings.NewReplacer("%", "%25", " ", "%20", "#", "%23").Replace(address)
		}
		section := fmt.Sprintf("\n[stockade-%s]\nname=%s (Stockade, lane %s)\nbaseurl=%s\nenabled=1\npriority=%d\ngpgcheck=1\nrepo_gpgcheck=1\ngpgkey=%s\n",
			s.Name, s.Name, c.Lane, address, s.Priority, strings.Join(urls, "\n       "))
		dnf.WriteString(section + "skip_if_unavailable=0\nmetadata_expire=60\n")
		if len(excluded) > 0 {
			dnf.WriteString("# The group's pins: every other version of these packages is left out.\nexcludepkgs=" + strings.Join(excluded, " ") + "\n")
		}
		zypper.WriteString(section + "pkg_gpgcheck=1\nautorefresh=1\ntype=rpm-md\nkeeppackages=0\n")
	}
	for _, s := range ordered {
		for _, st := range s.Streams {
			module, stream, _ := strings.Cut(st, ":")
			files = append(files, archive.ClientFile{Path: "etc/dnf/modules.d/" + module + ".module", Mode: 0o644,
				Data: []byte(fmt.Sprintf("[%s]\nname=%s\nstream=%s\nprofiles=\nstate=enabled\n", module, module, stream))})
		}
	}
	files = append(files, archive.ClientFile{Path: "etc/pki/rpm-gpg/stockade-setup", Mode: 0o755, Data: []byte(fmt.Sprintf(setup, c.Lane))})
	var locks strings.Builder
	for _, p := range c.Pins {
		if p.Op != archive.Equal {
			return nil, nil, finding.New("define.bad-value", "", "the pin %q is not NAME = VERSION", p.String())
		}
		for _, op := range []string{"<", ">"} {
			fmt.Fprintf(&locks, "type: package\nmatch_type: glob\ncase_sensitive: on\nsolvable_name: %s\nversion: %s %s\n\n", p.Name, op, p.Version)
		}
	}
	files = append(files,
		archive.ClientFile{Path: "etc/yum.repos.d/stockade.repo", Mode: 0o644, Data: []byte(dnf.String())},
		archive.ClientFile{Path: "etc/zypp/repos.d/stockade.repo", Mode: 0o644, Data: []byte(zypper.String())})
	if locks.Len() > 0 {
		files = append(files, archive.ClientFile{Path: "etc/zypp/locks", Mode: 0o644, Data: []byte(locks.String())})
	}
	slices.SortFunc(files, func(a, b archive.ClientFile) int { return strings.Compare(a.Path, b.Path) })
	files = slices.CompactFunc(files, func(a, b archive.ClientFile) bool { return a.Path == b.Path })
	return files, notes, nil
}

const setup = `#!/bin/sh
# Written by Stockade for the lane %s. Makes this machine's rpm know the keys of
# the lane, and takes repositories out of use that were in use before. It can be
# run again at any time. With a folder as its argument it works on the system
# below that folder.
#
# The way back: rename the files *.before-stockade beside stockade.repo to *.repo.
set -eu
root="${1:-/}"
for key in "$root"/etc/pki/rpm-gpg/stockade-*.asc; do
	rpm --root "$root" --import "$key"
done
for repo in "$root"/etc/yum.repos.d/*.repo "$root"/etc/zypp/repos.d/*.repo; do
	case "$repo" in
	*/stockade.repo | *'*'*) ;;
	*) mv "$repo" "${repo%%.repo}.before-stockade" ;;
	esac
done
`

// excludes gives patterns, as dnf has them, for every version of the pinned
// packages but the one of the pin. The epoch in each pattern keeps it from
// meaning a package whose name only begins alike.
func excludes(pins []archive.Relation) (out []string) {
	for _, p := range pins {
		epoch, version, release := splitEVR(p.Version)
		for e := range 10 {
			if s := itoa(int64(e)); s != epoch {
				out = append(out, p.Name+"-"+s+":*")
			}
		}
		at := p.Name + "-" + epoch + ":"
		// What goes on where the release begins is no other version, and what goes on
		// with one more dot before the architecture is another release.
		out = append(out, otherThan(at, version, "-")...)
		if release != "" {
			out = append(out, otherThan(at+version+"-", release, ".")...)
			out = append(out, at+version+"-"+release+".*.*")
		}
	}
	return out
}

// otherThan gives patterns for every text behind prefix that is not word, with
// end behind it.
func otherThan(prefix, word, end string) (out []string) {
	for i := range word {
		out = append(out, prefix+word[:i]+"[!"+word[i:i+1]+"]*")
	}
	return append(out, prefix+word+"[!"+end+"]*")
}
