package deb

import (
	"bytes"
	"fmt"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// maxEntries bounds the files that one Release may name.
const maxEntries = 500_000

// ParseRelease reads the text of a Release file, as the repository format
// describes it ("Release" files, deb-repository). Paths in Entries are made
// relative to the upstream's base by prefix ("dists/heron/", or a flat
// repository's folder). Only SHA-256 and SHA-512 are believed; a Release that
// has nothing better than SHA-1 is content.weak-digest.
func ParseRelease(text []byte, prefix string) (*archive.Root, error) {
	stanza, err := releaseStanza(text)
	if err != nil {
		return nil, err
	}
	fields, err := Fields(stanza)
	if err != nil {
		return nil, err
	}
	r := &archive.Root{
		Origin: fields["origin"], Label: fields["label"], Suite: fields["suite"],
		Codename: fields["codename"], Version: fields["version"],
		Components:    strings.Fields(fields["components"]),
		Architectures: strings.Fields(fields["architectures"]),
		ByHash:        fields["acquire-by-hash"] == "yes", Entries: map[string]archive.Entry{},
		Fields: map[string]string{},
	}
	for _, name := range []string{"no-support-for-architecture-all", "description", "notautomatic",
		"butautomaticupgrades"} {
		if v := fields[name]; v != "" {
			r.Fields[name] = v
		}
	}
	for _, n := range []string{r.Codename, r.Suite} {
		if n != "" && !slices.Contains(r.Names, n) {
			r.Names = append(r.Names, n)
		}
	}
	if r.Date, err = parseDate(fields["date"]); err != nil {
		return nil, finding.New(finding.SourceMalformedIndex, "",
			"the Date of the Release file cannot be parsed: %v",
			err)
	}
	if v := fields["valid-until"]; v != "" {
		if r.Expires, err = parseDate(v); err != nil {
			return nil, finding.New(finding.SourceMalformedIndex, "",
				"the Valid-Until of the Release file cannot be parsed: %v", err)
		}
	}
	for _, table := range []struct {
		field  string
		digits int
	}{{"sha256", 64}, {"sha512", 128}} {
		if err := readTable(fields[table.field], table.digits, prefix, r.Entries); err != nil {
			return nil, err
		}
	}
	if len(r.Entries) == 0 && (fields["md5sum"] != "" || fields["sha1"] != "") {
		return nil, finding.New(finding.ContentWeakDigest, "",
			"the Release file has only MD5 or SHA-1 checksums")
	}
	return r, nil
}

// releaseStanza gives the one stanza of a Release file, which may be far larger
// than any other: its caller has bounded the text already.
func releaseStanza(text []byte) ([]byte, error) {
	stanza := bytes.TrimLeft(text, "\n")
	if len(stanza) == 0 {
		return nil, finding.New(finding.SourceMalformedIndex, "", "the Release file is empty")
	}
	if i := bytes.Index(stanza, []byte("\n\n")); i >= 0 {
		if len(bytes.Trim(stanza[i:], "\n")) > 0 {
			return nil, archive.Ambiguous("the Release file has more than one stanza")
		}
		stanza = stanza[:i+1]
	}
	for line := range bytes.Lines(stanza) {
		if len(bytes.TrimSpace(line)) == 0 {
			return nil, archive.Ambiguous("a line of white space is in the Release file. Some " +
				"readers see its end there and others do not")
		}
	}
	return stanza, nil
}

func readTable(table string, digits int, prefix string, into map[string]archive.Entry) error {
	for line := range strings.Lines(table) {
		f := strings.Fields(line)
		if len(f) == 0 {
			continue
		}
		if len(f) != 3 || !text.IsHex(strings.ToLower(f[0]), digits) {
			return finding.New(finding.SourceMalformedIndex, "",
				"a line in the checksum table of the Release file cannot be parsed: %q", text.Cut(line, 120))
		}
		size, ok := text.Number(f[1])
		if !ok {
			return finding.New(finding.SourceMalformedIndex, "",
				"a size in the Release file is not a number: %q",
				text.Cut(f[1], 60))
		}
		name := strings.TrimPrefix(f[2], "./")
		if err := archive.CheckPath(name); err != nil {
			return err
		}
		p := prefix + name
		e, seen := into[p]
		if seen && e.Size != size {
			return finding.New(finding.SourceMalformedIndex, "", "the Release file has two "+
				"sizes for %s",
				name)
		}
		e.Path, e.Size = p, size
		sum := strings.ToLower(f[0])
		if digits == 64 {
			if e.SHA256 != "" && e.SHA256 != sum {
				return finding.New(finding.SourceMalformedIndex, "",
					"the Release file has two checksums for %s",
					name)
			}
			e.SHA256 = sum
		} else {
			e.SHA512 = sum
		}
		into[p] = e
		if len(into) > maxEntries {
			return finding.New(finding.ContentTooLarge, "", "the Release file lists more than "+
				"%d files",
				maxEntries)
		}
	}
	return nil
}

func parseDate(s string) (time.Time, error) {
	if s == "" {
		return time.Time{}, fmt.Errorf("it is missing")
	}
	for _, layout := range []string{time.RFC1123, "Mon, _2 Jan 2006 15:04:05 MST", time.RFC1123Z,
		"Mon, _2 Jan 2006 15:04:05 -0700"} {
		if t, err := time.Parse(layout, s); err == nil {
			// "+0000" can be read as a name too.
			if name, off := t.Zone(); off == 0 && name != "UTC" && name != "GMT" && name != "Z" &&
				strings.Trim(name, "+-0") != "" {
				return time.Time{}, fmt.Errorf("%q is not in UTC", s)
			}
			return t.UTC(), nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is not a date as in RFC 5322", text.Cut(s, 60))
}
