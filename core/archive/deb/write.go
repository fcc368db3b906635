package deb

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Write implements archive.Family: Packages in plain, gz and xz with copies by
// digest, Release with its SHA-256 table, InRelease and Release.gpg. Suite,
// codename and origin stay upstream's, so that what machines ask for goes on
// to fit; the label is the source's name, by which preferences tell sources of
// one origin apart.
func (f Family) Write(w archive.Writing) error {
	s := w.Source
	b := base(s)
	sums := map[string][]byte{}
	components := s.Components
	if flat(s) {
		components = []string{""}
	}
	for _, c := range components {
		archs := s.Architectures
		if flat(s) {
			archs = []string{""}
		}
		for _, a := range archs {
			var text writer
			emit := text.stanza
			own := func(x archive.IndexChoice) bool {
				return x.Component == c && (x.Arch == a || x.Arch == "")
			}
			if err := w.Each(own, func(p *archive.Package) bool { return flat(s) || p.Arch == a },
				emit); err != nil {
				return err
			}
			if !flat(s) { // packages for all architectures stand in each list
				if err := w.Each(func(x archive.IndexChoice) bool { return x.Component == c },
					func(p *archive.Package) bool { return p.Arch == "all" }, emit); err != nil {
					return err
				}
			}
			name := "Packages"
			if !flat(s) {
				name = c + "/binary-" + a + "/Packages"
			}
			for _, z := range []string{"", "gz", "xz"} {
				packed, err := archive.Compress(text.Bytes(), z)
				if err != nil {
					return err
				}
				n := name
				if z != "" {
					n += "." + z
				}
				sums[n] = packed
			}
		}
	}
	if err := sourceLists(w, components, sums); err != nil {
		return err
	}
	release := releaseText(w, sums)
	put := func(name string, data []byte) error { return w.Put(b+name, data) }
	for _, name := range slices.Sorted(maps.Keys(sums)) {
		data := sums[name]
		if err := put(name, data); err != nil {
			return err
		}
		if err := put(path.Join(path.Dir(name), "by-hash/SHA256", sha256Hex(data)), data); err != nil {
			return err
		}
	}
	inRelease, err := w.Sign.Clearsign(release)
	if err != nil {
		return err
	}
	detached, err := w.Sign.DetachSign(release, true)
	if err != nil {
		return err
	}
	for name, data := range map[string][]byte{"Release": release, "Release.gpg": detached,
		"InRelease": inRelease} {
		if err := put(name, data); err != nil {
			return err
		}
	}
	return nil
}

// sourceLists writes the lists of source packages, where some come along.
func sourceLists(w archive.Writing, components []string, sums map[string][]byte) error {
	if w.Sources == nil {
		return nil
	}
	for _, c := range components {
		var text bytes.Buffer
		for _, p := range w.Sources {
			if p.Component == c {
				text.Write(p.Text)
			}
		}
		name := "Sources"
		if c != "" {
			name = c + "/source/Sources"
		}
		for _, z := range []string{"", "gz", "xz"} {
			packed, err := archive.Compress(text.Bytes(), z)
			if err != nil {
				return err
			}
			sums[strings.TrimSuffix(name+"."+z, ".")] = packed
		}
	}
	return nil
}

func releaseText(w archive.Writing, files map[string][]byte) []byte {
	var b bytes.Buffer
	field := func(name, value string) {
		if value != "" {
			fmt.Fprintf(&b, "%s: %s\n", name, oneLine(value))
		}
	}
	r := w.Root
	suite, codename := r.Suite, r.Codename
	if suite == "" && codename == "" && !flat(w.Source) {
		codename = w.Source.Release
	}
	field("Origin", r.Origin)
	field("Label", w.Source.Name)
	field("Suite", suite)
	field("Codename", codename)
	field("Version", r.Version)
	field("Date", w.Time.UTC().Format("Mon, 02 Jan 2006 15:04:05 UTC"))
	field("Acquire-By-Hash", "yes")
	if !flat(w.Source) {
		field("No-Support-for-Architecture-all", "Packages")
		field("Architectures", strings.Join(append([]string{"all"}, w.Source.Architectures...), " "))
		field("Components", strings.Join(w.Source.Components, " "))
	}
	field("Description", "Stockade edition "+w.Note)
	b.WriteString("SHA256:\n")
	for _, name := range slices.Sorted(maps.Keys(files)) {
		sum := sha256.Sum256(files[name])
		fmt.Fprintf(&b, " %x %d %s\n", sum, len(files[name]), name)
	}
	return b.Bytes()
}

func sha256Hex(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

func oneLine(s string) string { return finding.Harmless(strings.Join(strings.Fields(s), " ")) }
