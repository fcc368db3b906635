package archive

import (
	"bytes"
	"strings"

	"stockade/core/finding"
)

// An inventory is bounded: a machine has some thousands of packages.
const (
	maxInventory      = 16 << 20 // bytes
	maxInventoryLines = 200_000
)

// Installed is a package that a machine has, as its own programs list it.
type Installed struct {
	Identity
	// Held: the machine itself keeps it at its version, whatever its group says.
	Held bool
	// Unfinished says what is left to do where its installation came to no end; empty: nothing.
	Unfinished string
}

// Inventory reads a list of what is installed, a package a line. entry gives what the words of a
// line say; a zero Installed passes the line over, and an error tells why it is none.
func Inventory(data []byte, entry func(words []string) (Installed, error)) ([]Installed, error) {
	if len(data) > maxInventory {
		return nil, finding.New(finding.ContentTooLarge, "",
			"the list is %d bytes long; the limit is %d",
			len(data), maxInventory)
	}
	var out []Installed
	seen := map[Identity]bool{}
	n := 0
	for line := range bytes.Lines(data) {
		if n++; n > maxInventoryLines {
			return nil, finding.New(finding.ContentTooLarge, "", "the list has more than %d lines",
				maxInventoryLines)
		}
		words := strings.Fields(string(line))
		if len(words) == 0 || strings.HasPrefix(words[0], "#") {
			continue
		}
		id, err := entry(words)
		if err == nil && id.Name != "" {
			err = CheckName(id.Name)
		}
		if err != nil {
			return nil, badLine(n, string(line), err)
		}
		if id.Name != "" && !seen[id.Identity] {
			seen[id.Identity] = true
			out = append(out, id)
		}
	}
	return out, nil
}

func badLine(n int, line string, err error) error {
	line = strings.TrimSpace(line)
	if len(line) > 80 {
		line = line[:80] + "…"
	}
	why := err.Error()
	if f, ok := finding.From(err); ok {
		why = f.Text
	}
	return finding.New(finding.DefineBadValue, "",
		"line %d of the list, %q, is not an installed package: %s", n,
		line, why)
}
