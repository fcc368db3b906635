package deb

import (
	"bytes"
	"errors"
	"io"
	"regexp"
	"slices"
	"strconv"
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
		if len(words) > 0 && isHead(words[0]) {
			continue
		}
		if len(words) == 2 && words[1] != "install" && words[1] != "hold" && words[1] != "deinstall" &&
			words[1] != "purge" && !strings.HasPrefix(words[0], "#") {
			return "the list does not show whether " + words[0] + " is installed, or was " +
				"removed and " +
				"has left its configuration"
		}
	}
	return ""
}

// ReadInventory implements archive.Inventoried: what dpkg-query -W, dpkg -l or dpkg
// --get-selections print, and the status file of dpkg itself (deb822, with a Status field).
func (Family) ReadInventory(data []byte) ([]archive.Installed, error) {
	if bytes.HasPrefix(bytes.TrimLeft(data, "\n"), []byte("Package:")) {
		return readStatus(data)
	}
	return archive.Inventory(data, func(words []string) (archive.Installed, error) {
		switch first := words[0]; {
		case isHead(first):
			return archive.Installed{}, nil
		case len(words) >= 4 && len(first) >= 2 && len(first) <= 3:
			return inTable(first, words)
		case len(words) == 2 && words[1] == "install":
			return installed(first, "", "")
		case len(words) == 2 && words[1] == "hold":
			p, err := installed(first, "", "")
			p.Held = true
			return p, err
		case len(words) == 2 && (words[1] == "deinstall" || words[1] == "purge"):
			return archive.Installed{}, nil
		case len(words) == 1:
			return installed(first, "", "")
		case len(words) == 2:
			return installed(first, words[1], "")
		}
		return archive.Installed{}, errors.New("the line has neither the form of dpkg-query -W " +
			"nor that of dpkg -l")
	})
}

// isHead tells whether a line that begins with a word is of the head of dpkg -l.
func isHead(word string) bool {
	return strings.HasPrefix(word, "Desired=") || strings.HasPrefix(word, "|") ||
		strings.HasPrefix(word, "+++")
}

// unfinished is what dpkg says of packages between unpacked and installed (dpkg-query(1),
// db:Status-Abbrev; dpkg(1), "Package states").
var unfinished = map[string]string{
	"U": "unpacked", "unpacked": "unpacked",
	"F": "half-configured", "half-configured": "half-configured",
	"H": "half-installed", "half-installed": "half-installed",
}

// inTable reads a line that begins with what dpkg abbreviates: what is desired, the state, and R where
// the package must be installed again.
func inTable(state string, words []string) (archive.Installed, error) {
	if !strings.ContainsAny(state[:1], "uihrp") || len(state) == 3 && state[2] != 'R' {
		return archive.Installed{}, errors.New("the line has neither the form of dpkg-query -W " +
			"nor that of dpkg -l")
	}
	switch state[1] {
	case 'n', 'c':
		return archive.Installed{}, nil // not there, or its configuration alone
	case 'i', 'W', 't', 'U', 'F', 'H':
		if state[1] == 'H' && strings.HasPrefix(words[2], "<") {
			return archive.Installed{}, nil // of nothing that was there before
		}
		p, err := installed(words[1], words[2], words[3])
		p.Held, p.Unfinished = state[0] == 'h', unfinished[state[1:2]]
		return p, err
	}
	return archive.Installed{}, errors.New("dpkg has no state " + strconv.Quote(state))
}

// installed is a package as dpkg names it, with its architecture perhaps behind a colon.
func installed(name, version, arch string) (archive.Installed, error) {
	name, of, _ := strings.Cut(name, ":")
	if arch == "" {
		arch = of
	}
	if version != "" {
		if err := CheckVersion(version); err != nil {
			return archive.Installed{}, err
		}
	}
	return archive.Installed{Identity: archive.Identity{Name: name, Version: version, Arch: arch}}, nil
}

func readStatus(data []byte) (out []archive.Installed, err error) {
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
		status := strings.Fields(fields["status"] + " install ok installed")[:3]
		left := unfinished[status[2]]
		if there := left != "" || slices.Contains([]string{"installed", "triggers-awaited",
			"triggers-pending"}, status[2]); !there || fields["version"] == "" && left != "" {
			continue
		}
		if err := archive.CheckName(fields["package"]); err != nil {
			return nil, err
		}
		id, err := installed(fields["package"], fields["version"], fields["architecture"])
		if err != nil {
			return nil, err
		}
		id.Held, id.Unfinished = status[0] == "hold", left
		out = append(out, id)
	}
}

// kernelName is the name of a package of a kernel, as apt recognises those that it keeps several
// of (APT::VersionedKernelPackages, apt.conf.d/01autoremove): linux-image-6.1.0-13-amd64.
var kernelName = regexp.MustCompile(`^(linux-[a-z-]+?)-([0-9][0-9.]*(?:-[0-9][0-9.]*)*)((?:-[a-z][a-z0-9-]*)?)$`)

// VersionInName implements archive.Versioned.
func (Family) VersionInName(name string) (stem, version string) {
	if m := kernelName.FindStringSubmatch(name); m != nil {
		return m[1] + m[3], m[2]
	}
	return name, ""
}
