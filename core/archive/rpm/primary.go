package rpm

import (
	"bytes"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// maxRelations bounds the relations and provided names of one package.
const maxRelations = 200_000

var entryKinds = map[string]byte{"rpm:requires": kindRequires, "rpm:conflicts": kindConflicts,
	"rpm:obsoletes":  kindObsoletes,
	"rpm:recommends": kindRecommends, "rpm:suggests": kindSuggests, "rpm:supplements": kindSupplements,
	"rpm:enhances": kindEnhances}

var xmlOps = map[string]archive.Op{
	"":   archive.Any,
	"LT": archive.Less,
	"LE": archive.LessOrEqual,
	"EQ": archive.Equal,
	"GE": archive.GreaterOrEqual,
	"GT": archive.Greater,
}

// primaryReader reads the package elements of a primary list, one after the
// other. It is used by one goroutine.
type primaryReader struct {
	*placed
	names text.Names

	p       *archive.Package
	packed  []byte // relations
	digest  string // the kind of the checksum
	entries int
	rest    *remainder // what is not interpreted; nil: passed over
}

// remainder is what an element says beside what is interpreted, for writing it
// anew.
type remainder struct {
	texts    map[string]string // by element
	numbers  map[string]int64  // by ELEMENT.ATTRIBUTE
	files    []pathOf
	provided []archive.Provide
}

// pathOf is a file of a package with its kind: "", dir or ghost.
type pathOf struct{ path, kind string }

func newPrimaryReader() *primaryReader {
	return &primaryReader{placed: newPlaced(primaryPlaces), names: text.Names{}}
}

// read reads one element.
func (r *primaryReader) read(raw []byte) (*archive.Package, error) {
	r.p, r.packed, r.digest, r.entries = &archive.Package{Size: archive.UnknownSize}, r.packed[:0], "", 0
	if err := walkPlaced(raw, r.placed, r.start, r.end); err != nil {
		return nil, err
	}
	p := r.p
	switch sum := p.SHA256; r.digest {
	case "sha256":
		if !text.IsHex(sum, text.SHA256) {
			return nil, malformed("%s has an invalid checksum", text.Cut(p.Name, 80))
		}
	case "sha512":
		p.SHA512, p.SHA256 = sum, ""
		if !text.IsHex(sum, text.SHA512) {
			return nil, malformed("%s has an invalid checksum", text.Cut(p.Name, 80))
		}
	default:
		return nil, finding.New(finding.ContentWeakDigest, "", "%s has only a %q checksum",
			text.Cut(p.Name, 80), text.Cut(r.digest, 20))
	}
	if err := checkNames(p); err != nil {
		return nil, err
	}
	if p.Size == archive.UnknownSize {
		return nil, malformed("%s has no size", p.Name)
	}
	if err := archive.CheckHref(p.Path); err != nil {
		return nil, err
	}
	if strings.HasPrefix(p.Path, "repodata/") {
		return nil, finding.New(finding.ContentUnsafePath, "", "%s is placed among the indexes", p.Name)
	}
	if p.Origin == "" {
		p.Origin = p.Name
	}
	p.Needs = &needs{owner: p.Name, text: string(r.packed)}
	return p, nil
}

// elsewhere reads the base of a package's address, xml:base: the URL of a folder,
// perhaps on another host. Whether that one may be asked is for others to decide.
func elsewhere(base string) (string, error) {
	if base == "" {
		return "", nil
	}
	u, err := url.Parse(base)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https":
		return "", finding.New(finding.ContentUnsafePath, "",
			"a package is placed at %q, which is not an http or https URL", text.Cut(base, 120))
	case u.User != nil || u.RawQuery != "" || u.Fragment != "" || finding.Harmless(base) != base:
		return "", finding.New(finding.ContentUnsafePath, "",
			"a package is placed at %q, which is more than the URL of a folder", text.Cut(base, 120))
	}
	return strings.TrimRight(base, "/"), nil
}

// start takes the start of an element with its attributes.
func (r *primaryReader) start(path []string, e *node) error {
	p := r.p
	switch e.name {
	case "package":
		if e.attr("type") != "rpm" {
			return archive.Ambiguous("a package has the type %q, which clients skip",
				text.Cut(e.attr("type"), 40))
		}
	case "version":
		v, err := evrOf(e)
		p.Version = r.names.Get(v)
		return err
	case "checksum":
		r.digest = e.attr("type")
	case "location":
		p.Path = strings.TrimPrefix(e.attr("href"), "./")
		var err error
		p.Base, err = elsewhere(e.base())
		return err
	case "size":
		var err error
		if p.Size, err = plainNumber(e.attr("package")); err != nil {
			return malformed("the size %q is not a number", text.Cut(e.attr("package"), 40))
		}
		p.InstalledSize, _ = plainNumber(e.attr("installed"))
		r.number(e, "archive")
	case "time":
		p.Built, _ = plainNumber(e.attr("build")) // for people alone
		r.number(e, "file")
		r.number(e, "build")
	case "rpm:header-range":
		r.number(e, "start")
		r.number(e, "end")
	case "file":
		if kind := e.attr("type"); r.rest != nil {
			if kind != "dir" && kind != "ghost" {
				kind = ""
			}
			r.rest.files = append(r.rest.files, pathOf{kind: kind})
		}
	case "rpm:entry":
		return r.entry(path[2], e)
	}
	return nil
}

// number keeps a number that is only carried.
func (r *primaryReader) number(e *node, attribute string) {
	if r.rest == nil {
		return
	}
	n, _ := plainNumber(e.attr(attribute))
	r.rest.numbers[e.name+"."+attribute] = n
}

// entry takes one relation of the list that it stands in.
func (r *primaryReader) entry(list string, e *node) error {
	name := e.attr("name")
	op, ok := xmlOps[e.attr("flags")]
	if !ok || name == "" || finding.Harmless(name) != name {
		return malformed("a relation %q %q cannot be parsed", text.Cut(name, 80),
			text.Cut(e.attr("flags"), 10))
	}
	if r.entries++; r.entries > maxRelations {
		return finding.New(finding.ContentTooLarge, "", "a package has more than %d relations", maxRelations)
	}
	rel := archive.Relation{Name: name, Op: op}
	if op != archive.Any {
		var err error
		if rel.Version, err = evrOf(e); err != nil {
			return err
		}
		if rel.Version == "" {
			return archive.Ambiguous("the relation %q has a comparison, but no version", text.Cut(name, 80))
		}
	}
	if list == "rpm:provides" {
		provide := archive.Provide{Name: r.names.Get(name), Op: op, Version: r.names.Get(rel.Version)}
		r.p.Provides = append(r.p.Provides, provide)
		if r.rest != nil {
			r.rest.provided = append(r.rest.provided, provide)
		}
		return nil
	}
	kind := entryKinds[list]
	if kind == kindRequires && e.attr("pre") == "1" {
		kind = kindBefore
	}
	if !strings.HasPrefix(name, "rpmlib(") {
		r.packed = pack(r.packed, kind, rel)
		r.p.Backward = r.p.Backward || kind == kindSupplements || kind == kindEnhances
	}
	return nil
}

// end takes the text of an element.
func (r *primaryReader) end(path []string, content []byte) (err error) {
	p, name := r.p, path[len(path)-1]
	switch name {
	case "name":
		p.Name, err = exact(name, content)
	case "arch":
		p.Arch = r.names.Bytes(content)
		_, err = exact(name, content)
	case "checksum":
		p.SHA256, err = exact(name, content)
		p.SHA256 = strings.ToLower(p.SHA256)
	case "summary":
		line, _, _ := bytes.Cut(content, []byte("\n"))
		p.Summary = string(line)
		r.text(name, content)
	case "rpm:license":
		p.Licence = r.names.Bytes(content)
	case "rpm:group":
		p.Section = r.names.Bytes(content)
	case "rpm:sourcerpm":
		p.Origin = r.names.Get(sourceName(string(content)))
		r.text(name, content)
	case "description", "packager", "url", "rpm:vendor", "rpm:buildhost":
		r.text(name, content)
	case "file":
		if len(content) == 0 || content[0] != '/' || finding.Harmless(string(content)) != string(content) {
			return archive.Ambiguous("a file of a package is %q, which is not a path", text.Cut(content, 80))
		}
		p.Provides = append(p.Provides, archive.Provide{Name: string(content)})
		if r.entries++; r.entries > maxRelations {
			return finding.New(finding.ContentTooLarge, "", "a package has more than %d relations",
				maxRelations)
		}
		if r.rest != nil {
			r.rest.files[len(r.rest.files)-1].path = string(content)
		}
	}
	return err
}

func (r *primaryReader) text(name string, text []byte) {
	if r.rest != nil {
		r.rest.texts[name] = string(text)
	}
}

// evrOf gives the version that an element's attributes say. The parts must be
// what they are called: a dash or a colon inside one could move its borders.
func evrOf(e *node) (string, error) {
	epoch, version, release := e.attr("epoch"), e.attr("ver"), e.attr("rel")
	zeros := len(epoch) > 1 && epoch[0] == '0'
	empty := version == "" && e.has("ver") || release == "" && e.has("rel") || epoch == "" && e.has("epoch")
	if strings.Trim(epoch, "0123456789") != "" || len(epoch) > 10 || zeros || empty ||
		strings.ContainsAny(version+release, ":-") ||
		strings.ContainsFunc(version+release, func(r rune) bool { return r <= ' ' || r >= 0x7f }) {
		return "", archive.Ambiguous("the version %q %q %q can be split in two ways",
			text.Cut(epoch, 40),
			text.Cut(version, 40), text.Cut(release, 40))
	}
	return joinEVR(epoch, version, release), nil
}

// plainNumber reads a number that is written with digits alone.
func plainNumber(s string) (int64, error) {
	n, ok := text.Number(s)
	if !ok {
		return 0, strconv.ErrSyntax
	}
	return n, nil
}

func checkNames(p *archive.Package) error {
	switch {
	case p.Name == "" || p.Version == "" || p.Arch == "":
		return malformed("name, version or architecture of a package is missing")
	case !archPattern.MatchString(p.Arch):
		return malformed("%q is not an architecture", text.Cut(p.Arch, 40))
	}
	if err := archive.CheckName(p.Name); err != nil {
		return err
	}
	if err := CheckVersion(p.Version); err != nil {
		return malformed("%s: %v", p.Name, err)
	}
	return nil
}

// rewrite writes the element of a package anew from what is read of it, so that
// nothing travels on that another reader could understand in another way. Files
// that others were found to need by path are added: some clients look for files
// nowhere else.
func (r *primaryReader) rewrite(p *archive.Package, raw []byte) (string, error) {
	r.rest = &remainder{texts: map[string]string{}, numbers: map[string]int64{}}
	defer func() { r.rest = nil }()
	q, err := r.read(raw)
	if err != nil {
		return "", err
	}
	rest := r.rest
	var b strings.Builder
	line := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	element := func(indent, name, text string) { line("%s<%s>%s</%s>", indent, name, escape(text), name) }
	line(`<package type="rpm">`)
	element("  ", "name", p.Name)
	element("  ", "arch", p.Arch)
	line("  <version%s/>", versionAttributes(p.Version))
	if p.SHA512 != "" && q.SHA512 != "" {
		line(`  <checksum type="sha512" pkgid="YES">%s</checksum>`, p.SHA512)
	} else {
		line(`  <checksum type="sha256" pkgid="YES">%s</checksum>`, p.SHA256)
	}
	for _, n := range []string{"summary", "description", "packager", "url"} {
		element("  ", n, rest.texts[n])
	}
	line(`  <time file="%d" build="%d"/>`, rest.numbers["time.file"], rest.numbers["time.build"])
	line(`  <size package="%d" installed="%d" archive="%d"/>`, p.Size, q.InstalledSize,
		rest.numbers["size.archive"])
	line(`  <location href="%s"/>`, escape(p.Path))
	line("  <format>")
	element("    ", "rpm:license", q.Licence)
	element("    ", "rpm:vendor", rest.texts["rpm:vendor"])
	element("    ", "rpm:group", q.Section)
	element("    ", "rpm:buildhost", rest.texts["rpm:buildhost"])
	element("    ", "rpm:sourcerpm", rest.texts["rpm:sourcerpm"])
	line(`    <rpm:header-range start="%d" end="%d"/>`, rest.numbers["rpm:header-range.start"],
		rest.numbers["rpm:header-range.end"])
	var provides []archive.Relation
	for _, v := range rest.provided {
		provides = append(provides, archive.Relation{Name: v.Name, Op: v.Op, Version: v.Version})
	}
	writeEntries(&b, "rpm:provides", provides, nil)
	lists, before := unpack(string(r.packed))
	for _, list := range relationLists[1:] {
		writeEntries(&b, list, lists[list], before)
	}
	has := map[string]bool{}
	for _, f := range rest.files {
		has[f.path] = true
		b.WriteString(fileElement(f.path, f.kind))
	}
	for _, v := range p.Provides {
		if strings.HasPrefix(v.Name, "/") && v.Op == archive.Any && !has[v.Name] {
			has[v.Name] = true
			b.WriteString(fileElement(v.Name, ""))
		}
	}
	b.WriteString("  </format>\n</package>")
	return b.String(), nil
}

var opFlags = map[archive.Op]string{
	archive.Less:           "LT",
	archive.LessOrEqual:    "LE",
	archive.Equal:          "EQ",
	archive.GreaterOrEqual: "GE",
	archive.Greater:        "GT",
}

// writeEntries writes one list of relations; before are those that are needed
// already while a package is being installed.
func writeEntries(b *strings.Builder, list string, all []archive.Relation, before map[int]bool) {
	if len(all) == 0 {
		return
	}
	fmt.Fprintf(b, "    <%s>\n", list)
	for i, r := range all {
		fmt.Fprintf(b, `      <rpm:entry name="%s"`, escape(r.Name))
		if r.Op != archive.Any {
			fmt.Fprintf(b, ` flags="%s"%s`, opFlags[r.Op], versionAttributes(r.Version))
		}
		if list == "rpm:requires" && before[i] {
			b.WriteString(` pre="1"`)
		}
		b.WriteString("/>\n")
	}
	fmt.Fprintf(b, "    </%s>\n", list)
}

// unpack gives packed relations by the lists that they stand in, and which of
// the required ones are needed already while a package is being installed.
func unpack(text string) (lists map[string][]archive.Relation, before map[int]bool) {
	lists, before = map[string][]archive.Relation{}, map[int]bool{}
	for line := range strings.SplitSeq(text, "\n") {
		kind, r, ok := unpackLine(line)
		if !ok {
			continue
		}
		for list, k := range entryKinds {
			if k == kind || k == kindRequires && kind == kindBefore {
				if kind == kindBefore {
					before[len(lists[list])] = true
				}
				lists[list] = append(lists[list], r)
			}
		}
	}
	return lists, before
}
