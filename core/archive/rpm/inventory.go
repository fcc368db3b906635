package rpm

import (
	"bytes"
	"errors"
	"strings"

	"stockade/core/archive"
)

// PrintsInventory implements archive.Inventoried.
func (Family) PrintsInventory() string { return `rpm -qa --qf '%{NAME} %{EVR} %{ARCH}\n'` }

// Lacks implements archive.Inventoried: rpm -qa by itself prints no epochs.
func (Family) Lacks(data []byte) string {
	for line := range bytes.Lines(data) {
		words := strings.Fields(string(line))
		if len(words) == 1 && !strings.HasPrefix(words[0], "#") &&
			!strings.HasPrefix(words[0], "gpg-pubkey") && !strings.Contains(words[0], ":") {
			return "the list does not show whether " + words[0] + " has an epoch, which decides what is newer"
		}
	}
	return ""
}

// ReadInventory implements archive.Inventoried: what rpm -qa prints (name-version-release.arch,
// without an epoch), or name, version and architecture with blanks between them. The keys that
// rpm keeps like packages are passed over.
func (Family) ReadInventory(data []byte) ([]archive.Installed, error) {
	return archive.Inventory(data, func(words []string) (archive.Installed, error) {
		if strings.HasPrefix(words[0], "gpg-pubkey") {
			return archive.Installed{}, nil
		}
		var id archive.Identity
		switch len(words) {
		case 1:
			var ok bool
			if id, ok = parseNEVRA(words[0]); !ok {
				return archive.Installed{}, errors.New("the line is not " +
					"name-version-release.arch")
			}
		case 2, 3:
			id = archive.Identity{Name: words[0], Version: strings.TrimPrefix(words[1], "0:")}
			if len(words) == 3 {
				id.Arch = words[2]
			}
		default:
			return archive.Installed{}, errors.New("the line is not name-version-release.arch")
		}
		return archive.Installed{Identity: id}, CheckVersion(id.Version)
	})
}

// parseNEVRA takes name-[epoch:]version-release.arch apart.
func parseNEVRA(s string) (archive.Identity, bool) {
	s, arch, _ := cutLast(s, ".")
	rest, release, ok := cutLast(s, "-")
	name, version, also := cutLast(rest, "-")
	if !ok || !also || name == "" || version == "" || release == "" || arch == "" {
		return archive.Identity{}, false
	}
	return archive.Identity{Name: name, Version: strings.TrimPrefix(version, "0:") + "-" + release,
		Arch: arch}, true
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}
