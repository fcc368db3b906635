package rpm

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"regexp"
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"stockade/core/archive"
	"stockade/core/archive/rpm/header"
	"stockade/core/archive/text"
)

const (
	xmlHead     = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"
	spaceCommon = "http://linux.duke.edu/metadata/common"
	spaceRPM    = "http://linux.duke.edu/metadata/rpm"
	spaceFiles  = "http://linux.duke.edu/metadata/filelists"
	spaceOther  = "http://linux.duke.edu/metadata/other"
	spaceRepo   = "http://linux.duke.edu/metadata/repo"
)

// list is one list of a repository that is written.
type list struct {
	kind, ext string // "primary", "xml"
	text      []byte
}

// root is what repomd.xml says beside its lists.
type root struct {
	revision, repo string
	cpeid, distro  string
	time           time.Time
	packing        string
	sign           archive.SigningKey
	put            func(path string, data []byte) error
}

// write puts the lists, named by their digests, and the signed root.
func (r root) write(lists []list) error {
	var b bytes.Buffer
	b.WriteString(xmlHead)
	fmt.Fprintf(&b, "<repomd xmlns=\"%s\" xmlns:rpm=\"%s\">\n  <revision>%s</revision>\n", spaceRepo,
		spaceRPM, escape(r.revision))
	if r.repo != "" || r.cpeid != "" {
		b.WriteString("  <tags>\n")
		if r.repo != "" {
			fmt.Fprintf(&b, "    <repo>%s</repo>\n", escape(r.repo))
		}
		if r.cpeid != "" {
			fmt.Fprintf(&b, "    <distro cpeid=\"%s\">%s</distro>\n", escape(r.cpeid), escape(r.distro))
		}
		b.WriteString("  </tags>\n")
	}
	for _, l := range lists {
		packed, err := archive.Compress(l.text, r.packing)
		if err != nil {
			return err
		}
		sum, open := sha256.Sum256(packed), sha256.Sum256(l.text)
		p := "repodata/" + hex.EncodeToString(sum[:]) + "-" + l.kind + "." + l.ext
		if r.packing != "" {
			p += "." + r.packing
		}
		if l.kind == "group" {
			p = strings.Replace(p, "-group.", "-comps.", 1)
		}
		if err := r.put(p, packed); err != nil {
			return err
		}
		fmt.Fprintf(&b, "  <data type=\"%s\">\n    <checksum type=\"sha256\">%x</checksum>\n    "+
			"<open-checksum type=\"sha256\">%x</open-checksum>\n    <location href=\"%s\"/>\n    "+
			"<timestamp>%d</timestamp>\n    <size>%d</size>\n    <open-size>%d</open-size>\n  </data>\n",
			l.kind, sum, open, p, r.time.Unix(), len(packed), len(l.text))
	}
	b.WriteString("</repomd>\n")
	signature, err := r.sign.DetachSign(b.Bytes(), true)
	if err != nil {
		return err
	}
	if err := r.put(rootPath, b.Bytes()); err != nil {
		return err
	}
	return r.put(rootSignature, signature)
}

// packageLists gathers primary, filelists and other.
type packageLists struct {
	primary, files, other bytes.Buffer
	count                 int
}

func (l *packageLists) add(primary string, d Description) {
	l.count++
	l.primary.WriteString(primary)
	l.primary.WriteByte('\n')
	l.files.WriteString(d.FileList() + "\n")
	l.other.WriteString(d.Other() + "\n")
}

func (l *packageLists) lists() []list {
	whole := func(root, space, more string, body []byte) []byte {
		head := fmt.Sprintf("%s<%s xmlns=\"%s\"%s packages=\"%d\">\n", xmlHead, root, space, more, l.count)
		return append(append([]byte(head), body...), "</"+root+">\n"...)
	}
	return []list{
		{"primary", "xml", whole("metadata", spaceCommon, ` xmlns:rpm="`+spaceRPM+`"`, l.primary.Bytes())},
		{"filelists", "xml", whole("filelists", spaceFiles, "", l.files.Bytes())},
		{"other", "xml", whole("otherdata", spaceOther, "", l.other.Bytes())},
	}
}

// Write implements archive.Family. What packages have inside, and what changed
// in them, is written from the packages themselves; advisories, groups and
// module streams are upstream's, as far as they concern what was chosen.
func (f Family) Write(w archive.Writing) error {
	var l packageLists
	reader := newPrimaryReader()
	names := map[string]bool{}  // of chosen packages
	chosen := map[string]bool{} // their names as lists of streams have them
	err := w.Each(func(archive.IndexChoice) bool { return true }, func(*archive.Package) bool { return true },
		func(p *archive.Package, raw []byte) error {
			file, err := w.Package(p)
			if err != nil {
				return err
			}
			defer file.Close()
			o, err := header.Open(file)
			if err != nil {
				return err
			}
			names[p.Name], chosen[artifact(p)] = true, true
			id := p.SHA512 // what the primary list names it by; other lists must do the same
			if id == "" {
				id = p.SHA256
			}
			primary, err := reader.rewrite(p, raw)
			if err != nil {
				return err
			}
			l.add(primary, Description{File: o, Path: p.Path, SHA256: id, Size: p.Size})
			return nil
		})
	if err != nil {
		return err
	}
	r := root{
		revision: fmt.Sprint(w.Time.Unix()),
		repo:     w.Source.Name,
		time:     w.Time,
		packing:  "gz",
		sign:     w.Sign,
		put:      w.Put,
	}
	if w.Root != nil && w.Root.Version != "" {
		r.cpeid, r.distro = "cpe:/o:"+w.Root.Origin+":"+w.Root.Label+":"+w.Root.Version, w.Root.Codename
	}
	lists := l.lists()
	if w.Open != nil {
		more, err := f.carry(w, names, chosen)
		if err != nil {
			return err
		}
		lists = append(lists, more...)
	}
	return r.write(lists)
}

// groupsType is the document type that lists of groups are often written with.
// It defines nothing, and is left out.
var groupsType = regexp.MustCompile(`<!DOCTYPE\s+comps\s+[^\[\]<>]*>\s*`)

// carry takes over what upstream says about chosen packages.
func (f Family) carry(w archive.Writing, names, chosen map[string]bool) (out []list, err error) {
	with := func(kind string, use func(plain io.Reader) error) error {
		file, ok := fileOf(w.Root, kind)
		if !ok || file.Compression == "zck" {
			return nil
		}
		plain, err := w.Open(file)
		if err != nil {
			return err
		}
		defer plain.Close()
		return use(plain)
	}
	if err := with("updateinfo", func(plain io.Reader) error {
		text, n, err := concerning(plain, chosen)
		if err == nil && n > 0 {
			out = append(out, list{"updateinfo", "xml", text})
		}
		return err
	}); err != nil {
		return nil, err
	}
	if err := with("group", func(plain io.Reader) error {
		text, concerns, err := groups(plain, names)
		if err == nil && concerns {
			out = append(out, list{"group", "xml", text})
		}
		return err
	}); err != nil {
		return nil, err
	}
	err = with("modules", func(plain io.Reader) error {
		text, err := modules(plain)
		if err == nil && len(text) > 0 {
			out = append(out, list{"modules", "yaml", text})
		}
		return err
	})
	return out, err
}

// concerning gives the advisories about chosen packages, written anew, and how
// many they are.
func concerning(plain io.Reader, chosen map[string]bool) ([]byte, int, error) {
	var b bytes.Buffer
	b.WriteString(xmlHead + "<updates>\n")
	e, places, n := newElements(plain, "updates", "update"), newPlaced(updatePlaces), 0
	for {
		raw, err := e.next()
		if err == io.EOF {
			b.WriteString("</updates>\n")
			return b.Bytes(), n, nil
		}
		if err != nil {
			return nil, 0, err
		}
		concerns := false
		text, err := rewriteXML(raw, places, func(path []string, x *node) {
			if x.name == "package" {
				key := x.attr("name") + "-" + cmp.Or(x.attr("epoch"), "0") + ":" + x.attr("version") + "-" +
					x.attr("release") + "." + x.attr("arch")
				concerns = concerns || chosen[key]
			}
		}, nil)
		if err != nil {
			return nil, 0, err
		}
		if concerns {
			n++
			b.WriteString(text)
		}
	}
}

// groups gives a list of groups, written anew, and whether it concerns any of
// the packages.
func groups(plain io.Reader, names map[string]bool) (list []byte, concerns bool, err error) {
	data, err := io.ReadAll(plain)
	if err != nil {
		return nil, false, err
	}
	data = groupsType.ReplaceAll(data, nil)
	body, err := rewriteXML(data, newPlaced(groupPlaces), nil, func(path []string, content []byte) {
		concerns = concerns || path[len(path)-1] == "packagereq" && names[string(content)]
	})
	if err == nil && !strings.HasPrefix(body, "<comps") {
		err = malformed("the file of groups begins with %q", text.Cut(body, 40))
	}
	return []byte(xmlHead + body), concerns, err
}

// modules gives the documents of module streams, written anew. All of them stay,
// also those that no chosen package is of: which streams are on, and what is hidden
// for that, follows from what they need and from the names in them.
func modules(plain io.Reader) ([]byte, error) {
	var b bytes.Buffer
	if err := eachModule(plain, func(d *moduleDocument) error {
		text, err := yaml.Marshal(&d.node)
		fmt.Fprintf(&b, "---\n%s...\n", text)
		return err
	}); err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}

// rewriteXML writes an element anew with the elements, attributes and texts that
// are in it, and nothing else. open and shut are told of each; they may be nil.
func rewriteXML(raw []byte, places *placed, open func(path []string, n *node),
	shut func(path []string, text []byte)) (string, error) {
	var b strings.Builder
	holds := []bool{false} // an element stands inside
	err := walkPlaced(raw, places, func(path []string, n *node) error {
		if open != nil {
			open(path, n)
		}
		if !holds[len(holds)-1] && len(path) > 1 {
			b.WriteByte('\n')
		}
		holds[len(holds)-1] = true
		holds = append(holds, false)
		b.WriteString("<" + n.name)
		for _, a := range n.attrs {
			fmt.Fprintf(&b, ` %s="%s"`, a.name, escape(string(a.value)))
		}
		b.WriteByte('>')
		return nil
	}, func(path []string, text []byte) error {
		if shut != nil {
			shut(path, text)
		}
		if !holds[len(holds)-1] {
			b.WriteString(escape(string(text)))
		}
		holds = holds[:len(holds)-1]
		b.WriteString("</" + path[len(path)-1] + ">\n")
		return nil
	})
	return b.String(), err
}
