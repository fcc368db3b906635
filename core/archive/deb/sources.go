package deb

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"io"
	"path"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// maxSourceFiles bounds the files of one source package, and maxDescription its description (bytes).
const (
	maxSourceFiles = 256
	maxDescription = 4 << 20
)

// SourceLists implements archive.Sourced: the Sources indexes of the components.
func (Family) SourceLists(s archive.Source, r *archive.Root) (out []archive.IndexChoice) {
	if flat(s) {
		if v := compressed(r, base(s)+"Sources"); len(v) > 0 {
			out = append(out, archive.IndexChoice{Files: v})
		}
		return out
	}
	for _, c := range s.Components {
		if v := compressed(r, base(s)+c+"/source/Sources"); len(v) > 0 {
			out = append(out, archive.IndexChoice{Component: c, Arch: "source", Files: v})
		}
	}
	return out
}

// SourceOf implements archive.Sourced: the Source field says it where it differs from the package's
// own name and version (Debian Policy §5.6.1).
func (Family) SourceOf(p *archive.Package) (name, version string) {
	return cmp.Or(p.Origin, p.Name), cmp.Or(p.OriginVersion, p.Version)
}

// ReadSources implements archive.Sourced.
func (Family) ReadSources(x archive.IndexChoice, plain io.Reader, asked func(name, version string) bool,
	yield func(*archive.SourcePackage) error) error {
	stanzas := NewStanzaReader(plain)
	var w writer
	for {
		raw, err := stanzas.Next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		p, err := w.source(raw, asked)
		if err != nil {
			return err
		}
		if p == nil {
			continue
		}
		p.Component = x.Component
		if err := yield(p); err != nil {
			return err
		}
	}
}

// source reads the stanza of a source package (Debian Policy §5.4); nil where it is not asked for.
// What is written for clients are its fields in one plain form, those that are interpreted as they
// were understood, and no digests that nobody should rely on.
func (w *writer) source(raw []byte, asked func(name, version string) bool) (*archive.SourcePackage, error) {
	p := &archive.SourcePackage{}
	var folder, sums string
	if err := w.each(raw, func(name, value []byte) error {
		switch string(name) {
		case "package":
			p.Name = string(value)
		case "version":
			p.Version = string(value)
		case "directory":
			folder = string(value)
		case "checksums-sha256":
			sums = string(value)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	if !asked(p.Name, p.Version) {
		return nil, nil
	}
	if err := archive.CheckName(p.Name); err != nil {
		return nil, err
	}
	if err := CheckVersion(p.Version); err != nil {
		return nil, finding.New(finding.SourceMalformedIndex, "", "the source package %s: %v", p.Name, err)
	}
	if err := list(p, folder, sums); err != nil {
		return nil, err
	}
	return p, w.rewritten(p, raw, folder)
}

// list reads the files of a source package, its description first.
func list(p *archive.SourcePackage, folder, sums string) error {
	bad := func(format string, args ...any) error {
		return finding.New(finding.SourceMalformedIndex, "", "the source package %s %s", p.Name,
			fmt.Sprintf(format, args...))
	}
	if strings.TrimSpace(sums) == "" {
		return finding.New(finding.ContentWeakDigest, "", "the source package %s has no "+
			"SHA-256 checksums",
			p.Name)
	}
	description := -1
	for line := range strings.Lines(sums) {
		words := strings.Fields(line)
		if len(words) == 0 {
			continue
		}
		if len(words) != 3 || !text.IsHex(words[0], text.SHA256) {
			return bad("has an invalid checksum")
		}
		size, ok := text.Number([]byte(words[1]))
		if !ok {
			return bad("has an invalid size")
		}
		at := path.Join(folder, words[2])
		if strings.ContainsAny(words[2], "/\\") || at != folder+"/"+words[2] && folder != "." {
			return finding.New(finding.ContentUnsafePath, "", "the source package %s has the file %q in %q",
				p.Name,
				words[2], folder)
		}
		if err := archive.CheckPath(at); err != nil {
			return err
		}
		if strings.HasSuffix(at, ".dsc") {
			if description >= 0 {
				return bad("has two descriptions")
			}
			description = len(p.Files)
		}
		if p.Files = append(p.Files, archive.Entry{Path: at, Size: size, SHA256: words[0]}); len(p.Files) >
			maxSourceFiles {
			return bad("has more than %d files", maxSourceFiles)
		}
	}
	if description < 0 {
		return bad("has no description (.dsc)")
	}
	p.Files[0], p.Files[description] = p.Files[description], p.Files[0]
	return nil
}

// notOfSources are fields of source packages that a written list does without.
var notOfSources = map[string]bool{"files": true, "checksums-sha1": true, "checksums-sha512": true}

func (w *writer) rewritten(p *archive.SourcePackage, raw []byte, folder string) error {
	var b bytes.Buffer
	err := w.each(raw, func(name, value []byte) error {
		n := string(name)
		if notOfSources[n] {
			return nil
		}
		said := plainText(value)
		switch n {
		case "package":
			said = p.Name
		case "version":
			said = p.Version
		case "directory":
			said = folder
		case "checksums-sha256":
			said = ""
			for _, f := range p.Files {
				said += "\n " + f.SHA256 + " " + strconv.FormatInt(f.Size, 10) + " " + path.Base(f.Path)
			}
		}
		if said != "" {
			fmt.Fprintf(&b, "%s:%s%s\n", spelled(n), blankBefore(said), said)
		}
		return nil
	})
	b.WriteByte('\n')
	p.Text = b.Bytes()
	return err
}

func blankBefore(said string) string {
	if strings.HasPrefix(said, "\n") {
		return ""
	}
	return " "
}

// InspectSource implements archive.Sourced: the description (dsc(5)) says the same name and version.
// It may be clear-signed by who made the package; machines do not look at that, nor is it
// verified here: its digest stands in the list.
func (Family) InspectSource(p *archive.SourcePackage, description io.Reader) error {
	data, err := io.ReadAll(io.LimitReader(description, maxDescription+1))
	if err != nil {
		return err
	}
	if len(data) > maxDescription {
		return finding.New(finding.ContentTooLarge, "", "%s is longer than %d bytes", p.Files[0].Path,
			maxDescription)
	}
	said := string(data)
	if rest, signed := strings.CutPrefix(said, "-----BEGIN PGP SIGNED MESSAGE-----"); signed {
		_, rest, _ = strings.Cut(rest, "\n\n")
		said, _, _ = strings.Cut(rest, "\n-----BEGIN PGP SIGNATURE-----")
	}
	fields, err := Fields([]byte(strings.TrimSpace(said) + "\n"))
	if err != nil {
		return err
	}
	if fields["source"] != p.Name || fields["version"] != p.Version {
		return finding.New(finding.ContentIdentityMismatch, "",
			"%s contains %s %s, but the index says %s %s", p.Files[0].Path,
			finding.Harmless(fields["source"]),
			finding.Harmless(fields["version"]),
			p.Name, p.Version)
	}
	return nil
}
