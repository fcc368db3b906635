package rpm

import (
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Configure implements archive.Configuring. Our priorities are those of dnf and zypper: 1 is
// asked first, and 99 last.
func (f Family) Configure(c archive.Client) (archive.Configuration, finding.List) {
	if err := c.Check(); err != nil {
		return archive.Configuration{}, finding.ListOf(err)
	}
	ordered, unseen, found := c.BestFirst(func(arch, machine string) bool { return rank(arch, machine) >= 0 })
	conf := archive.Configuration{Unseen: unseen, Pins: c.Pins}
	for _, s := range ordered {
		conf.Repositories = append(conf.Repositories,
			archive.Repository{ClientSource: s, Rank: archive.RankOf(s.Priority, 0)})
	}
	return conf, found
}

// Print implements archive.Configuring: one file of repository definitions for dnf
// (dnf.conf(5)) and the same for zypper (zypper(8), whose defaults differ), the keys beside
// them. Both check signatures on the metadata and on packages. What a pin leaves out is
// excluded for dnf and locked for zypper.
func (f Family) Print(c archive.Configuration, lane, at string) ([]archive.ClientFile, error) {
	var files []archive.ClientFile
	var dnf, zypper, locks archive.Text
	for _, t := range []*archive.Text{&dnf, &zypper} {
		t.Line("# Written by Stockade for the lane %s.", lane)
		t.Line("# Changes made here are lost when it writes again.")
	}
	excluded := excludes(c.Pins)
	for _, s := range c.Repositories {
		keys := keyFiles(s.ClientSource)
		files = append(files, keys...)
		for _, t := range []*archive.Text{&dnf, &zypper} {
			section(t, lane, at, s.ClientSource, keys)
		}
		dnf.Line("skip_if_unavailable=0")
		dnf.Line("metadata_expire=60")
		if len(excluded) > 0 {
			dnf.Line("# The pins of the group: all other versions of these packages are excluded.")
			dnf.Line("excludepkgs=%s", strings.Join(excluded, " "))
		}
		for _, line := range []string{"pkg_gpgcheck=1", "autorefresh=1", "type=rpm-md", "keeppackages=0"} {
			zypper.Line("%s", line)
		}
		modules, err := moduleFiles(s.ClientSource)
		if err != nil {
			return nil, err
		}
		files = append(files, modules...)
	}
	if len(c.Pins) > 0 {
		locks.Line("# Written by Stockade for the lane %s", lane)
	}
	for _, p := range c.Pins {
		for _, op := range []string{"<", ">"} {
			locks.Line("type: package")
			locks.Line("match_type: glob")
			locks.Line("case_sensitive: on")
			locks.Line("solvable_name: %s", p.Name)
			locks.Line("version: %s %s", op, p.Version)
			locks.Line("")
		}
	}
	files = append(files, archive.ClientFile{
		Path: "etc/pki/rpm-gpg/" + archive.SetupName,
		Mode: 0o755,
		Data: []byte(strings.NewReplacer("LANE", lane, "UNTRUSTED", strings.Join(c.Untrusted, " ")).
			Replace(setup)),
	})
	for _, t := range []struct {
		path string
		text *archive.Text
	}{{"etc/yum.repos.d/stockade.repo", &dnf}, {"etc/zypp/repos.d/stockade.repo", &zypper},
		{"etc/zypp/locks", &locks}} {
		data, err := t.text.Bytes()
		if err != nil {
			return nil, err
		}
		if !t.text.Empty() {
			files = append(files, archive.ClientFile{Path: t.path, Mode: 0o644, Data: data})
		}
	}
	slices.SortFunc(files, func(a, b archive.ClientFile) int { return strings.Compare(a.Path, b.Path) })
	files = slices.CompactFunc(files, func(a, b archive.ClientFile) bool { return a.Path == b.Path })
	return files, nil
}

// Rules implements archive.Matching. Pins: other versions are excluded for dnf (excludepkgs,
// dnf.conf(5)), and locked for zypper. dnf looks at priorities among what is newer than what is
// installed.
func (Family) Rules() archive.Rules {
	return archive.Rules{NeverBack: true, OneArchitecture: "zypper", Pins: archive.PinExcludes}
}

func keyFiles(s archive.ClientSource) (out []archive.ClientFile) {
	for _, k := range s.Keys {
		out = append(out, archive.ClientFile{
			Path: "etc/pki/rpm-gpg/stockade-" + s.Name + "-" + k.Fingerprint + ".asc",
			Mode: 0o644,
			Data: []byte(k.Armoured),
		})
	}
	return out
}

// section writes what both clients read of one repository.
func section(t *archive.Text, lane, at string, s archive.ClientSource, keys []archive.ClientFile) {
	address := strings.TrimRight(at, "/") + "/" + s.Name + "/"
	if strings.HasPrefix(at, "/") {
		address = "file://" + archive.EscapeFolder(address)
	}
	t.Line("")
	t.Line("[stockade-%s]", s.Name)
	t.Line("name=%s (Stockade, lane %s)", s.Name, lane)
	t.Line("baseurl=%s", address)
	t.Line("enabled=1")
	t.Line("priority=%d", s.Priority)
	t.Line("gpgcheck=1")
	t.Line("repo_gpgcheck=1")
	for i, k := range keys {
		before := "       "
		if i == 0 {
			before = "gpgkey="
		}
		t.Line("%sfile:///%s", before, k.Path)
	}
}

// moduleFiles enables module streams for dnf.
func moduleFiles(s archive.ClientSource) (out []archive.ClientFile, err error) {
	for _, st := range s.Streams {
		module, stream, _ := strings.Cut(st, ":")
		var t archive.Text
		t.Line("[%s]", module)
		t.Line("name=%s", module)
		t.Line("stream=%s", stream)
		t.Line("profiles=")
		t.Line("state=enabled")
		data, err := t.Bytes()
		if err != nil {
			return nil, err
		}
		p := "etc/dnf/modules.d/" + module + ".module"
		if err := archive.CheckPath(p); err != nil {
			return nil, err
		}
		out = append(out, archive.ClientFile{Path: p, Mode: 0o644, Data: data})
	}
	return out, nil
}

// Untrust implements archive.Configuring. rpm names a key by the end of its fingerprint.
func (Family) Untrust(_, fingerprint string) string {
	id := strings.ToLower(fingerprint)
	return "rpm -e --allmatches gpg-pubkey-" + id[max(0, len(id)-8):]
}

// Touched implements archive.Configuring.
func (Family) Touched() []string {
	return []string{"etc/dnf", "etc/pki/rpm-gpg", "etc/yum.repos.d", "etc/zypp"}
}

const setup = `#!/bin/sh
# Written by Stockade for the lane LANE. Makes this machine's rpm know the keys of
# the lane, and takes repositories out of use that were in use before. Keys that an
# earlier run made known and that the lane does not need any more are deleted, and so
# are keys that Stockade knows as barred or retired: rpm has one keyring for all
# repositories, and trusts what is in it whether or not a file names it. It can be
# run again at any time. With a folder as its argument it works on the system
# below that folder.
#
# The way back: rename the files *.before-stockade beside stockade.repo to *.repo.
set -eu
root="${1:-/}"
` + archive.BeneathRoot + `for path in etc/pki/rpm-gpg/stockade-trusted etc/yum.repos.d etc/zypp/repos.d; do
	beneath "$path"
done
for path in "$root"/etc/pki/rpm-gpg/stockade-*.asc "$root"/var/cache/dnf/stockade-*/pubring \
	"$root"/var/cache/libdnf5/stockade-*/pubring; do
	beneath "${path#"$root"/}"
done
before="$root/etc/pki/rpm-gpg/stockade-trusted"
now=
for file in "$root"/etc/pki/rpm-gpg/stockade-*.asc; do
	[ -e "$file" ] || continue
	key=${file##*-}
	now="$now ${key%.asc}"
done
# delete takes a key out of rpm's records. They name it by the end of its fingerprint, in small letters.
delete() {
	rpm --root "$root" -q gpg-pubkey --qf '%{VERSION} %{NAME}-%{VERSION}-%{RELEASE}\n' 2>/dev/null |
		while read -r id package; do
			case "$(echo "$1" | tr A-F a-f)" in
			*"$id")
				rpm --root "$root" -e --allmatches "$package"
				echo "rpm does not trust the key $1 any more"
				;;
			esac
		done
}
gone='UNTRUSTED'
if [ -f "$before" ]; then
	gone="$gone $(cat "$before")"
fi
for key in $gone; do
	case " $now " in *" $key "*) continue ;; esac
	delete "$key"
	# dnf keeps the keys of a repository's metadata beside what it downloaded.
	rm -rf "$root"/var/cache/dnf/stockade-*/pubring "$root"/var/cache/libdnf5/stockade-*/pubring
done
for file in "$root"/etc/pki/rpm-gpg/stockade-*.asc; do
	[ -e "$file" ] || continue
	rpm --root "$root" --import "$file"
done
printf '%s\n' $now >"$before"
for repo in "$root"/etc/yum.repos.d/*.repo "$root"/etc/zypp/repos.d/*.repo; do
	case "$repo" in
	*/stockade.repo | *'*'*) continue ;;
	esac
	to="${repo%.repo}.before-stockade"
	[ ! -e "$to" ] || to="${repo%.repo}.$(date +%s).before-stockade"
	mv "$repo" "$to"
done
`

// excludes gives patterns, as dnf has them, for every version of the pinned packages but the
// one of the pin.
//
// dnf reads a pattern in several forms, one after the other, and takes the first that finds
// anything: NAME-EPOCH:VERSION-RELEASE.ARCH before NAME-EPOCH:VERSION-RELEASE before
// NAME-EPOCH:VERSION. Each pattern here has all the parts that its form needs, so that no other
// form means the pinned version. The epoch keeps a pattern from meaning a package whose name
// only begins alike.
func excludes(pins []archive.Relation) (out []string) {
	for _, p := range pins {
		epoch, version, release := splitEVR(p.Version)
		out = append(out, otherEpochs(p.Name+"-", epoch)...)
		at := p.Name + "-" + epoch + ":"
		for _, other := range otherThan(version) {
			out = append(out, at+other+"-*.*")
		}
		if release == "" {
			continue
		}
		at += version + "-"
		for i := 1; i < len(release); i++ {
			// Without an architecture: as a pattern with one, "1.*" could mean the release 1.el9.
			out = append(out, at+release[:i])
		}
		for _, other := range differing(release) {
			out = append(out, at+other+".*")
		}
	}
	return out
}

// otherThan gives patterns for every text that is not word.
func otherThan(word string) (out []string) {
	for i := 1; i < len(word); i++ {
		out = append(out, word[:i])
	}
	return append(out, differing(word)...)
}

// differing gives patterns for every text that differs from word in a character, or goes on
// behind it.
func differing(word string) (out []string) {
	for i := range word {
		out = append(out, word[:i]+"[!"+word[i:i+1]+"]*")
	}
	return append(out, word+"?*")
}

// maxEpochDigits is how many digits an epoch can have: it is an unsigned number of
// 32 bits.
const maxEpochDigits = 10

// otherEpochs gives patterns for every epoch but one. Each stands for epochs of so
// many digits and nothing else, so that none means a package whose name goes on.
func otherEpochs(prefix, epoch string) (out []string) {
	const digit = "[0-9]"
	for n := 1; n <= maxEpochDigits; n++ {
		if n != len(epoch) {
			out = append(out, prefix+strings.Repeat(digit, n)+":*")
			continue
		}
		for i := range n {
			others := strings.ReplaceAll("0123456789", epoch[i:i+1], "")
			out = append(out, prefix+epoch[:i]+"["+others+"]"+strings.Repeat(digit, n-i-1)+":*")
		}
	}
	return out
}
