package alpm

import (
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

const clientConf = "etc/pacman.d/stockade.conf"

// Configure implements archive.Configuring. The client has a repository for each component, called
// as the component is, and asks them in the order in which they stand: that of our priorities.
// Two databases of one name are one for the client, so the second is an error: machines would not
// see its packages. A pin keeps the installed version where it is.
func (f Family) Configure(c archive.Client) (archive.Configuration, finding.List) {
	if err := filledIn(c).Check(); err != nil {
		return archive.Configuration{}, finding.ListOf(err)
	}
	ordered, unseen, found := c.BestFirst(func(arch, machine string) bool { return rank(arch, machine) >= 0 })
	conf := archive.Configuration{Unseen: unseen, Pins: c.Pins}
	taken := map[string]string{}
	for _, s := range ordered {
		for _, component := range s.Components {
			if other, twice := taken[component]; twice {
				why := fmt.Sprintf("pacman identifies databases by name only, and %s also has "+
					"one named %s",
					other, component)
				conf.Unseen = append(conf.Unseen, archive.Unseen{Source: s.Name, Component: component,
					Why: why})
				found = append(found, finding.New(finding.LaneNameTaken, "source "+s.Name,
					"%s: machines would use only that one", why))
				continue
			}
			taken[component] = s.Name
			r := archive.Repository{ClientSource: s, Component: component,
				Rank: archive.RankOf(s.Priority, len(conf.Repositories))}
			r.Components = []string{component}
			conf.Repositories = append(conf.Repositories, r)
		}
	}
	for _, p := range c.Pins {
		found = append(found, finding.New(finding.PinInstalledOnly, "",
			"pacman cannot pin a version: %s stays at the version that is installed, and a "+
				"machine without it installs the edition's", p.Name))
	}
	return conf, found
}

// Print implements archive.Configuring: a file that pacman.conf(5) includes, the keys, and a
// script that makes the machine trust them and use the file.
func (f Family) Print(c archive.Configuration, lane, at string) ([]archive.ClientFile, error) {
	var files []archive.ClientFile
	var conf archive.Text
	var trusted []string
	conf.Line("# Written by Stockade for the lane %s.", lane)
	conf.Line("# Changes made here are lost when it writes again.")
	for _, p := range c.Pins {
		conf.Line("# pin of the group: %s", p.String())
		conf.Line("IgnorePkg = %s", p.Name)
	}
	added := map[string]bool{}
	for _, s := range c.Repositories {
		address := strings.TrimRight(at, "/") + "/" + s.Name
		if strings.HasPrefix(at, "/") {
			address = "file://" + archive.EscapeFolder(address)
		}
		if dir := folder(s.Source, s.Component, s.Architectures[0]); dir != "" {
			address += "/" + dir
		}
		conf.Line("")
		conf.Line("# source %s, priority %d", s.Name, s.Priority)
		conf.Line("[%s]", s.Component)
		conf.Line("SigLevel = Required TrustedOnly")
		conf.Line("Usage = All")
		conf.Line("Server = %s", address)
		for _, k := range s.Keys {
			if added[k.Fingerprint] {
				continue
			}
			added[k.Fingerprint] = true
			files = append(files, archive.ClientFile{
				Path: "etc/pacman.d/stockade-keys/" + k.Fingerprint + ".asc",
				Mode: 0o644,
				Data: []byte(k.Armoured),
			})
			trusted = append(trusted, k.Fingerprint)
		}
	}
	text, err := conf.Bytes()
	if err != nil {
		return nil, err
	}
	files = append(files,
		archive.ClientFile{Path: clientConf, Mode: 0o644, Data: text},
		archive.ClientFile{
			Path: "etc/pacman.d/" + archive.SetupName,
			Mode: 0o755,
			Data: []byte(strings.NewReplacer("LANE", lane, "TRUSTED", strings.Join(trusted, " "),
				"UNTRUSTED", strings.Join(c.Untrusted, " ")).Replace(setup)),
		})
	slices.SortFunc(files, func(a, b archive.ClientFile) int { return strings.Compare(a.Path, b.Path) })
	return files, nil
}

// Rules implements archive.Matching. The order of repositories: pacman.conf(5), "Repository
// Sections". Pins: IgnorePkg (pacman.conf(5)).
func (Family) Rules() archive.Rules {
	return archive.Rules{InOrder: true, FirstProvider: true, Pins: archive.PinHolds}
}

// Untrust implements archive.Configuring.
func (Family) Untrust(_, fingerprint string) string { return "pacman-key --delete " + fingerprint }

// Touched implements archive.Configuring.
func (Family) Touched() []string {
	return []string{"etc/pacman.conf", "etc/pacman.conf.before-stockade", "etc/pacman.d"}
}

const setup = `#!/bin/sh
# Written by Stockade for the lane LANE. Makes this machine's pacman trust the
# keys of the lane and take packages from it alone. Keys that an earlier run made it
# trust and that the lane does not need any more are deleted, and so are keys that
# Stockade knows as barred or retired: pacman has one keyring for all repositories,
# and trusts what is in it whether or not a file names it. It can be run again at any
# time. With a folder as its argument it works on the system below that folder.
#
# The way back: copy etc/pacman.conf.before-stockade over etc/pacman.conf.
set -eu
root="${1:-}"
gnupg="$root/etc/pacman.d/gnupg"
conf="$root/etc/pacman.conf"
include="Include = $root/etc/pacman.d/stockade.conf"
` + archive.BeneathRoot + `for path in etc/pacman.d/gnupg/trustdb.gpg etc/pacman.d/stockade-trusted etc/pacman.d/stockade-keys \
	etc/pacman.conf etc/pacman.conf.stockade etc/pacman.conf.before-stockade; do
	beneath "$path"
done

if [ ! -s "$gnupg/trustdb.gpg" ]; then
	mkdir -p "$gnupg"
	pacman-key --gpgdir "$gnupg" --init
fi
before="$root/etc/pacman.d/stockade-trusted"
now='TRUSTED'
gone='UNTRUSTED'
if [ -f "$before" ]; then
	gone="$gone $(cat "$before")"
fi
for key in $gone; do
	case " $now " in *" $key "*) continue ;; esac
	if gpg --homedir "$gnupg" --no-permission-warning --list-keys "$key" >/dev/null 2>&1; then
		pacman-key --gpgdir "$gnupg" --delete "$key"
		echo "pacman does not trust the key $key any more"
	fi
done
for key in $now; do
	pacman-key --gpgdir "$gnupg" --add "$root/etc/pacman.d/stockade-keys/$key.asc"
	pacman-key --gpgdir "$gnupg" --lsign-key "$key"
done
printf '%s\n' $now >"$before"

# The options of the machine stay; repositories that were in use go.
if [ -e "$conf" ] && ! grep -qxF "$include" "$conf"; then
	[ -e "$conf.before-stockade" ] || cp -p "$conf" "$conf.before-stockade"
fi
[ -e "$conf" ] || printf '[options]\nArchitecture = auto\n' >"$conf"
awk -v include="$include" '/^[ \t]*\[/ { keep = ($0 ~ /^[ \t]*\[options\]/) } keep && $0 != include { print } END { print include }' "$conf" >"$conf.stockade"
cat "$conf.stockade" >"$conf"
rm -f "$conf.stockade"
`

// filledIn is the client with words in place of what stands for components and
// architectures in a release, so that the rest can be checked.
func filledIn(c archive.Client) archive.Client {
	words := strings.NewReplacer("$component", "component", "$arch", "arch")
	c.Sources = slices.Clone(c.Sources)
	for i := range c.Sources {
		c.Sources[i].Release = words.Replace(c.Sources[i].Release)
	}
	return c
}
