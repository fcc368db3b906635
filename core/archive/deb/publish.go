package deb

import (
	"crypto/sha256"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"stockade/core/archive"
)

// Made is a package of a made-up upstream.
type Made struct {
	Component string
	Name      string
	Version   string
	Arch      string
	Summary   string
	Fields    string // further lines of the control stanza, such as "Depends: libtide2\n"
	Files     []File
	Packing   string // compression of the members; "gz" if empty
}

// Control gives the control stanza of the package.
func (m Made) Control() string {
	return fmt.Sprintf("Package: %s\nVersion: %s\nArchitecture: %s\nMaintainer: Tarn release desk "+
		"<desk@tarn.example>\nInstalled-Size: %d\n%sDescription: %s\n",
		m.Name, m.Version, m.Arch, 1+m.installed()/1024, m.Fields, m.Summary)
}

func (m Made) installed() (n int) {
	for _, f := range m.Files {
		n += len(f.Data)
	}
	return n
}

// Filename is where the package lies, relative to the upstream's base.
func (m Made) Filename() string {
	version := m.Version
	if i := strings.IndexByte(version, ':'); i >= 0 {
		version = version[i+1:]
	}
	return path.Join("pool", m.Component, m.Name[:1], m.Name, m.Name+"_"+version+"_"+m.Arch+".deb")
}

// before has the packages that were built, by what they are made from: many repositories
// are published with the same ones.
var before sync.Map

// built builds a package, once.
func built(m Made, packing string) ([]byte, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q", m.Control(), packing)
	for _, f := range m.Files {
		data := sha256.Sum256(f.Data)
		fmt.Fprintf(h, " %q %o %x", f.Path, f.Mode, data)
	}
	key := [sha256.Size]byte(h.Sum(nil))
	if file, ok := before.Load(key); ok {
		return slices.Clone(file.([]byte)), nil // whoever has it may spoil it
	}
	file, err := Build(m.Control(), m.Files, packing)
	if err == nil {
		before.Store(key, file)
	}
	return slices.Clone(file), err
}

// Repository is a made-up upstream repository; the demonstration and the tests
// publish with it.
type Repository struct {
	Origin, Label, Suite, Codename string
	Date, ValidUntil               time.Time
	Architectures, Components      []string
	ByHash                         bool
	Packages                       []Made
	// Amend, if not nil, may change index files before they are signed.
	Amend func(files map[string][]byte)
}

// Publish builds the packages, writes indexes and root, and gives all files by
// their path relative to the base.
func (r Repository) Publish(sign archive.SigningKey) (map[string][]byte, error) {
	out := map[string][]byte{}
	indexes := map[string][]byte{}
	for _, c := range r.Components {
		for _, a := range r.Architectures {
			if a == "all" {
				continue
			}
			var text strings.Builder
			for _, m := range r.Packages {
				if m.Component != c || m.Arch != a && m.Arch != "all" {
					continue
				}
				name := m.Filename()
				file, there := out[name]
				if !there {
					packing := m.Packing
					if packing == "" {
						packing = "gz"
					}
					var err error
					if file, err = built(m, packing); err != nil {
						return nil, err
					}
					out[name] = file
				}
				text.WriteString(IndexStanza(m.Control(), name, file) + "\n")
			}
			for _, z := range []string{"", "gz", "xz"} {
				packed, err := archive.Compress([]byte(text.String()), z)
				if err != nil {
					return nil, err
				}
				name := c + "/binary-" + a + "/Packages"
				if z != "" {
					name += "." + z
				}
				indexes[name] = packed
			}
		}
	}
	if r.Amend != nil {
		r.Amend(indexes)
	}
	release := UpstreamRelease{Origin: r.Origin, Label: r.Label, Suite: r.Suite, Codename: r.Codename,
		Date: r.Date, ValidUntil: r.ValidUntil,
		Architectures: r.Architectures, Components: r.Components, ByHash: r.ByHash}.Text(indexes)
	if slices.Contains(r.Architectures, "all") {
		release = []byte(strings.Replace(string(release), "Components:",
			"No-Support-for-Architecture-all: Packages\nComponents:", 1))
	}
	clear, err := sign.Clearsign(release)
	if err != nil {
		return nil, err
	}
	detached, err := sign.DetachSign(release, true)
	if err != nil {
		return nil, err
	}
	name := r.Codename
	if name == "" {
		name = r.Suite
	}
	dir := "dists/" + name + "/"
	out[dir+"InRelease"], out[dir+"Release"], out[dir+"Release.gpg"] = clear, release, detached
	for n, data := range indexes {
		out[dir+n] = data
		if r.ByHash {
			out[dir+path.Join(path.Dir(n), "by-hash/SHA256", sha256Hex(data))] = data
		}
	}
	return out, nil
}
