package made

import (
	"bytes"
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/rpm"
	"stockade/core/archive/rpm/header"
)

// RPMRepository is a made-up upstream repository; the demonstration and the tests
// publish with it.
type RPMRepository struct {
	Name        string // <repo> of its root
	CPE, Distro string
	Date        time.Time
	Packages    []RPM
	Updates     string // <update> elements
	Groups      string // a whole comps document
	Modules     string // documents of module streams
	Packing     string // of its lists; gz if empty
	Unsigned    bool   // its packages are not signed themselves
	// Files are further packages, as they are, by the name of their file.
	Files map[string][]byte
	// Built keeps packages that were built before, as owners do not sign twice; nil: none.
	Built         map[string][]byte
	AmendPackages func(m RPM, file []byte) []byte
	Amend         func(kind string, text []byte) []byte // changes a list before it is signed for
}

// Publish builds the packages, writes lists and root, and gives all files by
// their path relative to the base.
func (r RPMRepository) Publish(sign archive.SigningKey) (map[string][]byte, error) {
	p := rpmPublication{files: map[string][]byte{}, packing: cmp.Or(r.Packing, "gz")}
	for _, m := range r.Packages {
		by := sign
		if r.Unsigned {
			by = nil
		}
		m.Time = max(m.Time, 1_700_000_000)
		file, err := r.build(m, by)
		if err != nil {
			return nil, err
		}
		if r.AmendPackages != nil {
			file = r.AmendPackages(m, file)
		}
		if err := p.add(m.FileName(), m.Base, file); err != nil {
			return nil, err
		}
	}
	for _, name := range slices.Sorted(maps.Keys(r.Files)) {
		if err := p.add(name, "", r.Files[name]); err != nil {
			return nil, err
		}
	}
	var root strings.Builder
	fmt.Fprintf(&root, "%s<repomd xmlns=\"http://linux.duke.edu/metadata/repo\">\n<revision>%d</revision>\n",
		xmlHead, r.Date.Unix())
	if r.Name != "" || r.CPE != "" {
		fmt.Fprintf(&root, "<tags>\n<repo>%s</repo>\n<distro cpeid=\"%s\">%s</distro>\n</tags>\n", r.Name,
			r.CPE,
			r.Distro)
	}
	for _, l := range p.lists(r) {
		if r.Amend != nil {
			l.text = r.Amend(l.kind, l.text)
		}
		element, err := p.put(l, r.Date)
		if err != nil {
			return nil, err
		}
		root.WriteString(element)
	}
	root.WriteString("</repomd>\n")
	signature, err := sign.DetachSign([]byte(root.String()), true)
	if err != nil {
		return nil, err
	}
	p.files["repodata/repomd.xml"], p.files["repodata/repomd.xml.asc"] = []byte(root.String()), signature
	return p.files, nil
}

const xmlHead = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"

// rpmList is one list of a repository, by the type that the root gives it.
type rpmList struct {
	kind, suffix string
	text         []byte
}

// rpmPublication gathers the files of a repository, and the lists of its packages.
type rpmPublication struct {
	files                    map[string][]byte
	packing                  string
	primary, contents, other strings.Builder
	count                    int
}

// add puts a package file in its place and into the lists.
func (p *rpmPublication) add(name, base string, file []byte) error {
	o, err := header.Open(bytes.NewReader(file))
	if err != nil {
		return err
	}
	d := rpm.Description{
		File:   o,
		Base:   base,
		Path:   "Packages/" + name[:1] + "/" + name,
		SHA256: sha256Hex(file),
		Size:   int64(len(file)),
	}
	p.files[d.Path] = file
	p.count++
	p.primary.WriteString(d.Primary() + "\n")
	p.contents.WriteString(d.FileList() + "\n")
	p.other.WriteString(d.Other() + "\n")
	return nil
}

func (p *rpmPublication) lists(r RPMRepository) []rpmList {
	whole := func(root, spaces string, body *strings.Builder) []byte {
		return fmt.Appendf(nil, "%s<%s %s packages=\"%d\">\n%s</%s>\n", xmlHead, root, spaces, p.count,
			body.String(), root)
	}
	out := []rpmList{
		{"primary", "primary.xml", whole("metadata", `xmlns="http://linux.duke.edu/metadata/common" `+
			`xmlns:rpm="http://linux.duke.edu/metadata/rpm"`, &p.primary)},
		{"filelists", "filelists.xml", whole("filelists", `xmlns="http://linux.duke.edu/metadata/filelists"`,
			&p.contents)},
		{"other", "other.xml", whole("otherdata", `xmlns="http://linux.duke.edu/metadata/other"`, &p.other)},
	}
	if r.Updates != "" {
		out = append(out, rpmList{"updateinfo", "updateinfo.xml",
			[]byte(xmlHead + "<updates>\n" + r.Updates + "</updates>\n")})
	}
	if r.Groups != "" {
		out = append(out, rpmList{"group", "comps.xml", []byte(r.Groups)})
	}
	if r.Modules != "" {
		out = append(out, rpmList{"modules", "modules.yaml", []byte(r.Modules)})
	}
	return out
}

// put packs a list, lays it by its digest, and gives the root's element of it.
func (p *rpmPublication) put(l rpmList, date time.Time) (string, error) {
	data, err := archive.Compress(l.text, p.packing)
	if err != nil {
		return "", err
	}
	at := "repodata/" + sha256Hex(data) + "-" + l.suffix + "." + p.packing
	p.files[at] = data
	return fmt.Sprintf("<data type=\"%s\">\n<checksum type=\"sha256\">%s</checksum>\n<open-checksum "+
		"type=\"sha256\">%s</open-checksum>\n<location href=\"%s\"/>\n<timestamp>%d</timestamp>\n"+
		"<size>%d</size>\n<open-size>%d</open-size>\n</data>\n", l.kind, sha256Hex(data), sha256Hex(l.text),
		at,
		date.Unix(), len(data), len(l.text)), nil
}

func (r RPMRepository) build(m RPM, by archive.SigningKey) ([]byte, error) {
	plain, err := m.Build(nil)
	if err != nil || by == nil {
		return plain, err
	}
	key := sha256Hex(plain)
	if have := r.Built[key]; have != nil {
		return have, nil
	}
	file, err := m.Build(by)
	if err == nil && r.Built != nil {
		r.Built[key] = file
	}
	return file, err
}
