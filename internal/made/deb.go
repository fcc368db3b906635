package made

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"fmt"
	"maps"
	"path"
	"slices"
	"strings"
	"sync"
	"time"

	"stockade/core/archive"
)

// Deb is a package of a made-up upstream of the deb family.
type Deb struct {
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
func (m Deb) Control() string {
	return fmt.Sprintf("Package: %s\nVersion: %s\nArchitecture: %s\nMaintainer: Tarn release desk "+
		"<desk@tarn.example>\nInstalled-Size: %d\n%sDescription: %s\n",
		m.Name, m.Version, m.Arch, 1+m.installed()/1024, m.Fields, m.Summary)
}

func (m Deb) installed() (n int) {
	for _, f := range m.Files {
		n += len(f.Data)
	}
	return n
}

// Filename is where the package lies, relative to the upstream's base.
func (m Deb) Filename() string {
	version := m.Version
	if i := strings.IndexByte(version, ':'); i >= 0 {
		version = version[i+1:]
	}
	return path.Join("pool", m.Component, m.Name[:1], m.Name, m.Name+"_"+version+"_"+m.Arch+".deb")
}

// debsBefore has the packages that were built, by what they are made from: many repositories
// are published with the same ones.
var debsBefore sync.Map

// built builds a package, once.
func builtDeb(m Deb, packing string) ([]byte, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q", m.Control(), packing)
	for _, f := range m.Files {
		data := sha256.Sum256(f.Data)
		fmt.Fprintf(h, " %q %o %x", f.Path, f.Mode, data)
	}
	key := [sha256.Size]byte(h.Sum(nil))
	if file, ok := debsBefore.Load(key); ok {
		return slices.Clone(file.([]byte)), nil // whoever has it may spoil it
	}
	file, err := BuildDeb(m.Control(), m.Files, packing)
	if err == nil {
		debsBefore.Store(key, file)
	}
	return slices.Clone(file), err
}

// DebRepository is a made-up upstream repository; the demonstration and the tests
// publish with it.
type DebRepository struct {
	Origin, Label, Suite, Codename string
	Date, ValidUntil               time.Time
	Architectures, Components      []string
	ByHash                         bool
	Packages                       []Deb
	Contents                       bool // the files of packages are listed
	Sources                        []DebSource
	// Amend, if not nil, may change index files before they are signed.
	Amend func(files map[string][]byte)
}

// DebSource is a source package of a made-up upstream.
type DebSource struct {
	Component, Name, Version string
	Fields                   string            // further lines of its stanza
	Files                    map[string]string // by name, without the description
	Inside                   string            // the version that its description says; Version if empty
}

// sources puts the source packages of a component and their list in place.
func (r DebRepository) sources(out, indexes map[string][]byte, component string) error {
	var list strings.Builder
	for _, s := range r.Sources {
		if s.Component != component {
			continue
		}
		folder := path.Join("pool", s.Component, s.Name[:1], s.Name)
		version := s.Version[strings.IndexByte(s.Version, ':')+1:]
		files := maps.Clone(s.Files)
		sums := func() (text string) {
			for _, name := range slices.Sorted(maps.Keys(files)) {
				text += fmt.Sprintf("\n %s %d %s", sha256Hex([]byte(files[name])), len(files[name]), name)
			}
			return text
		}
		head := fmt.Sprintf("Binary: %s\nArchitecture: any\nVersion: %s\nMaintainer: Tarn release desk "+
			"<desk@tarn.example>\n%s", s.Name, cmp.Or(s.Inside, s.Version), s.Fields)
		description := "Format: 3.0 (native)\nSource: " + s.Name + "\n" + head + "Checksums-Sha256:" +
			sums() + "\n"
		files[s.Name+"_"+version+".dsc"] = description
		for name, text := range files {
			out[folder+"/"+name] = []byte(text)
		}
		head = strings.Replace(head, "Version: "+cmp.Or(s.Inside, s.Version), "Version: "+s.Version, 1)
		fmt.Fprintf(&list, "Package: %s\nFormat: 3.0 (native)\n%sDirectory: %s\nFiles:\n "+
			"00000000000000000000000000000000 1 x\nChecksums-Sha256:%s\n\n", s.Name, head, folder, sums())
	}
	if list.Len() == 0 {
		return nil
	}
	for _, z := range []string{"", "gz", "xz"} {
		packed, err := archive.Compress([]byte(list.String()), z)
		if err != nil {
			return err
		}
		indexes[strings.TrimSuffix(component+"/source/Sources."+z, ".")] = packed
	}
	return nil
}

// contents lists the files of the packages of one component for one architecture.
func (r DebRepository) contents(component, arch string) []byte {
	have := map[string][]string{}
	for _, p := range r.Packages {
		if p.Component == component && (p.Arch == arch || p.Arch == "all") {
			for _, f := range p.Files {
				have[strings.TrimPrefix(f.Path, "/")] = append(have[strings.TrimPrefix(f.Path, "/")],
					"misc/"+p.Name)
			}
		}
	}
	var b strings.Builder
	for _, file := range slices.Sorted(maps.Keys(have)) {
		fmt.Fprintf(&b, "%-55s %s\n", file, strings.Join(have[file], ","))
	}
	return []byte(b.String())
}

// Publish builds the packages, writes indexes and root, and gives all files by
// their path relative to the base.
func (r DebRepository) Publish(sign archive.SigningKey) (map[string][]byte, error) {
	out := map[string][]byte{}
	indexes := map[string][]byte{}
	for _, c := range r.Components {
		for _, a := range r.Architectures {
			if a == "all" {
				continue
			}
			list, err := r.list(out, c, a)
			if err != nil {
				return nil, err
			}
			for _, z := range []string{"", "gz", "xz"} {
				packed, err := archive.Compress(list, z)
				if err != nil {
					return nil, err
				}
				name := c + "/binary-" + a + "/Packages"
				if z != "" {
					name += "." + z
				}
				indexes[name] = packed
			}
			if r.Contents {
				packed, err := archive.Compress(r.contents(c, a), "gz")
				if err != nil {
					return nil, err
				}
				indexes[c+"/Contents-"+a+".gz"] = packed
			}
		}
	}
	for _, c := range r.Components {
		if err := r.sources(out, indexes, c); err != nil {
			return nil, err
		}
	}
	if r.Amend != nil {
		r.Amend(indexes)
	}
	release := DebRelease{Origin: r.Origin, Label: r.Label, Suite: r.Suite, Codename: r.Codename,
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

// list builds the packages of a component for an architecture into out, and writes their list.
func (r DebRepository) list(out map[string][]byte, component, arch string) ([]byte, error) {
	var text bytes.Buffer
	for _, m := range r.Packages {
		if m.Component != component || m.Arch != arch && m.Arch != "all" {
			continue
		}
		name := m.Filename()
		file, there := out[name]
		if !there {
			var err error
			if file, err = builtDeb(m, cmp.Or(m.Packing, "gz")); err != nil {
				return nil, err
			}
			out[name] = file
		}
		text.WriteString(DebStanza(m.Control(), name, file) + "\n")
	}
	return text.Bytes(), nil
}

// DebRelease is what a made-up upstream says of itself; the demonstration
// and the tests publish with it.
type DebRelease struct {
	Origin, Label, Suite, Codename string
	Date, ValidUntil               time.Time
	Architectures, Components      []string
	ByHash                         bool
}

// Text writes the Release file of an upstream over its index files (by name
// relative to the release's folder).
func (u DebRelease) Text(files map[string][]byte) []byte {
	var b bytes.Buffer
	const layout = "Mon, 02 Jan 2006 15:04:05 UTC"
	for _, f := range [][2]string{{"Origin", u.Origin}, {"Label", u.Label}, {"Suite", u.Suite},
		{"Codename", u.Codename}, {"Date", u.Date.UTC().Format(layout)}} {
		if f[1] != "" {
			fmt.Fprintf(&b, "%s: %s\n", f[0], f[1])
		}
	}
	if !u.ValidUntil.IsZero() {
		fmt.Fprintf(&b, "Valid-Until: %s\n", u.ValidUntil.UTC().Format(layout))
	}
	if u.ByHash {
		b.WriteString("Acquire-By-Hash: yes\n")
	}
	fmt.Fprintf(&b, "Architectures: %s\nComponents: %s\nSHA256:\n", strings.Join(u.Architectures, " "),
		strings.Join(u.Components, " "))
	for _, name := range slices.Sorted(maps.Keys(files)) {
		sum := sha256.Sum256(files[name])
		fmt.Fprintf(&b, " %x %d %s\n", sum, len(files[name]), name)
	}
	return b.Bytes()
}

// DebStanza writes the stanza of an index for a package file whose control
// text is known.
func DebStanza(control, filename string, file []byte) string {
	sum := sha256.Sum256(file)
	return fmt.Sprintf("%s\nFilename: %s\nSize: %d\nSHA256: %x\n", strings.TrimRight(control, "\n"),
		filename, len(file), sum)
}

// BuildDeb makes a binary package file (deb(5)) from a control stanza and the
// files that it installs. It is the writer that the demonstration and the
// tests make their packages with. The result depends on its arguments alone.
func BuildDeb(control string, files []File, compression string) ([]byte, error) {
	if !strings.HasSuffix(control, "\n") {
		control += "\n"
	}
	controlTar, err := debTar([]File{{Path: "/control", Mode: 0o644, Data: []byte(control)}}, compression)
	if err != nil {
		return nil, err
	}
	dataTar, err := debTar(files, compression)
	if err != nil {
		return nil, err
	}
	suffix := ""
	if compression != "" {
		suffix = "." + compression
	}
	out := bytes.NewBufferString("!<arch>\n")
	for _, member := range []struct {
		name string
		data []byte
	}{{"debian-binary", []byte("2.0\n")}, {"control.tar" + suffix, controlTar},
		{"data.tar" + suffix, dataTar}} {
		fmt.Fprintf(out, "%-16s%-12d%-6d%-6d%-8s%-10d`\n", member.name, 0, 0, 0, "100644", len(member.data))
		out.Write(member.data)
		if len(member.data)%2 == 1 {
			out.WriteByte('\n')
		}
	}
	return out.Bytes(), nil
}

func debTar(files []File, compression string) ([]byte, error) {
	w := newTar(time.Time{})
	w.folder("./")
	met := map[string]bool{}
	for _, f := range files {
		for _, dir := range folders(f.Path, met) {
			w.folder("./" + dir + "/")
		}
		w.file("./"+strings.Trim(f.Path, "/"), f.Mode, f.Data)
	}
	return w.packed(compression)
}
