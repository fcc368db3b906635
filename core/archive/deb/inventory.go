package deb

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"stockade/core/archive"
)

// PrintsInventory implements archive.Inventoried.
func (Family) PrintsInventory() string {
	return `dpkg-query -W -f '${db:Status-Abbrev} ${binary:Package} ${Version} ${Architecture}\n'`
}

// Lacks implements archive.Inventoried: dpkg-query -W by itself prints what was taken away, and has
// left files of its configuration, like what is installed.
func (Family) Lacks(data []byte) string {
	if bytes.HasPrefix(bytes.TrimLeft(data, "\n"), []byte("Package:")) {
		return ""
	}
	for line := range bytes.Lines(data) {
		words := strings.Fields(string(line))
		if len(words) == 2 && words[1] != "install" && words[1] != "hold" && words[1] != "deinstall" &&
			words[1] != "purge" && !strings.HasPrefix(words[0], "#") {
			return "the list does not say whether " + words[0] + " is installed, or was taken away and " +
				"has left its configuration"
		}
	}
	return ""
}

// ReadInventory implements archive.Inventoried: what dpkg-query -W, dpkg -l or dpkg
// --get-selections print, and the status file of dpkg itself (deb822, with a Status field).
func (Family) ReadInventory(data []byte) ([]archive.Identity, error) {
	if bytes.HasPrefix(bytes.TrimLeft(data, "\n"), []byte("Package:")) {
		return readStatus(data)
	}
	return archive.Inventory(data, func(words []string) (archive.Identity, error) {
		switch first := words[0]; {
		case strings.HasPrefix(first, "Desired="), strings.HasPrefix(first, "|"),
			strings.HasPrefix(first, "+++"):
			return archive.Identity{}, nil // the head of the table
		case len(first) <= 3 && len(words) >= 4 && len(first) >= 2 && first[1] == 'i' &&
			first == strings.ToLower(first):
			return installed(words[1], words[2], words[3])
		case len(words) == 2 && words[1] == "install", len(words) == 2 && words[1] == "hold":
			return installed(first, "", "")
		case len(words) == 2 && (words[1] == "deinstall" || words[1] == "purge"):
			return archive.Identity{}, nil
		case len(words) == 1:
			return installed(first, "", "")
		case len(words) == 2:
			return installed(first, words[1], "")
		case len(first) <= 3 && len(words) >= 4:
			return archive.Identity{}, nil // in the table, and not installed
		}
		return archive.Identity{}, errors.New("it has neither the form of dpkg-query -W nor that of dpkg -l")
	})
}

// installed is a package as dpkg names it, with its architecture perhaps behind a colon.
func installed(name, version, arch string) (archive.Identity, error) {
	name, of, _ := strings.Cut(name, ":")
	if arch == "" {
		arch = of
	}
	if version != "" {
		if err := CheckVersion(version); err != nil {
			return archive.Identity{}, err
		}
	}
	return archive.Identity{Name: name, Version: version, Arch: arch}, nil
}

func readStatus(data []byte) (out []archive.Identity, err error) {
	stanzas := NewStanzaReader(bytes.NewReader(data))
	for {
		stanza, err := stanzas.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, err
		}
		fields, err := Fields(stanza)
		if err != nil {
			return nil, err
		}
		if state := fields["status"]; state != "" && !strings.HasSuffix(state, " installed") {
			continue
		}
		if err := archive.CheckName(fields["package"]); err != nil {
			return nil, err
		}
		id, err := installed(fields["package"], fields["version"], fields["architecture"])
		if err != nil {
			return nil, err
		}
		out = append(out, id)
	}
}
