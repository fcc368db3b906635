package alpm

import (
	"archive/tar"
	"bytes"
	"encoding/base64"
	"io"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Limits on a database.
const (
	maxEntry   = 4 << 20 // bytes of one package's description
	maxPlain   = 2 << 30 // bytes of a whole database, decompressed
	maxEntries = 2_000_000
)

func malformed(format string, args ...any) error {
	return finding.New(finding.SourceMalformedIndex, "", format, args...)
}

// eachEntry reads a plain database: a tar with one folder for each package, in
// it a file desc (and, in old databases, a file depends beside it). What a client
// could take otherwise is content.ambiguous: a file twice, a package whose files
// do not stand together, a name in more than one spelling.
func eachEntry(plain io.Reader, yield func(folder string, desc []byte) error) error {
	t := tar.NewReader(plain)
	e := &entries{yield: yield, seen: map[string]bool{}}
	for n := 0; ; n++ {
		h, err := t.Next()
		if err == io.EOF {
			if err := e.flush(); err != nil {
				return err
			}
			return behind(plain)
		}
		if err != nil {
			if f, ok := finding.From(err); ok {
				return f
			}
			return malformed("the database is not a readable tar file: %v", err)
		}
		if n > maxEntries {
			return finding.New(finding.ContentTooLarge, "", "the database has more than %d entries",
				maxEntries)
		}
		if err := e.take(h, t); err != nil {
			return err
		}
	}
}

// entries gathers the files of one package after the other.
type entries struct {
	yield   func(folder string, desc []byte) error
	seen    map[string]bool // folders that were met
	folder  string
	files   map[string]bool // of that folder
	desc    []byte
	current bool
}

func (e *entries) take(h *tar.Header, data io.Reader) error {
	name := h.Name
	if h.Typeflag != tar.TypeReg && h.Typeflag != tar.TypeDir {
		return malformed("the database contains %q, which is not a regular file", text.Cut(name, 120))
	}
	if h.Typeflag == tar.TypeDir {
		name = strings.TrimSuffix(name, "/")
	}
	dir, file, below := strings.Cut(name, "/")
	if archive.CheckPath(name) != nil || strings.Contains(file, "/") ||
		below == (h.Typeflag == tar.TypeDir) {
		return archive.Ambiguous(
			"the database contains %q, which is not the folder or the file of a package",
			text.Cut(h.Name, 120))
	}
	if dir != e.folder || !e.current {
		if err := e.begin(dir); err != nil {
			return err
		}
	}
	if h.Typeflag == tar.TypeDir {
		return nil
	}
	if e.files[file] {
		return archive.Ambiguous("the database contains the file %q twice", text.Cut(name, 120))
	}
	e.files[file] = true
	if file != "desc" && file != "depends" {
		if file != "files" && file != "deltas" {
			return archive.Ambiguous("the database contains an unexpected file %q", text.Cut(name, 120))
		}
		return nil
	}
	if h.Size > maxEntry {
		return finding.New(finding.ContentTooLarge, "", "the description of %s is larger than %d bytes",
			text.Cut(dir, 120), maxEntry)
	}
	content, err := io.ReadAll(data)
	if err != nil {
		if f, ok := finding.From(err); ok {
			return f
		}
		return malformed("the database is truncated in %s: %v", text.Cut(dir, 120), err)
	}
	if len(e.desc) > 0 && !bytes.HasSuffix(e.desc, []byte("\n")) {
		e.desc = append(e.desc, '\n')
	}
	e.desc = append(append(e.desc, content...), '\n')
	return nil
}

func (e *entries) begin(dir string) error {
	if err := e.flush(); err != nil {
		return err
	}
	if e.seen[dir] {
		return archive.Ambiguous("the database has %q in two places", text.Cut(dir, 120))
	}
	e.seen[dir] = true
	e.folder, e.files, e.desc, e.current = dir, map[string]bool{}, nil, true
	return nil
}

func (e *entries) flush() error {
	if !e.current {
		return nil
	}
	e.current = false
	if !e.files["desc"] {
		return archive.Ambiguous("the database has the folder %q without a description",
			text.Cut(e.folder, 120))
	}
	return e.yield(e.folder, e.desc)
}

// behind refuses what stands behind the end of a tar, which some readers read.
func behind(plain io.Reader) error {
	buf := make([]byte, 32<<10)
	for {
		n, err := plain.Read(buf)
		if len(bytes.Trim(buf[:n], "\x00")) > 0 {
			return archive.Ambiguous("the database has data after its end")
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}

// fieldKind is how many values a field has.
type fieldKind int

const (
	oneValue fieldKind = iota + 1
	manyValues
)

// fields are those that clients know. Others are passed over.
var fields = func() map[string]fieldKind {
	m := map[string]fieldKind{}
	for _, n := range strings.Fields(
		"FILENAME NAME BASE VERSION DESC ARCH CSIZE ISIZE SHA256SUM MD5SUM PGPSIG URL BUILDDATE PACKAGER " +
			"INSTALLDATE REASON VALIDATION SIZE") {
		m[n] = oneValue
	}
	for _, n := range strings.Fields(
		"LICENSE GROUPS PROVIDES DEPENDS OPTDEPENDS MAKEDEPENDS CHECKDEPENDS CONFLICTS REPLACES XDATA") {
		m[n] = manyValues
	}
	return m
}()

// eachField calls f for the fields of a description that clients know: %NAME% on
// a line of its own, values on the lines behind it, a blank line at the end.
// What readers could understand in two ways is content.ambiguous: a field twice,
// a second value where one belongs, a value that looks like a field, white space
// around a name or a value, a field without a value.
func eachField(desc []byte, f func(name string, values []string) error) error {
	name, inside := "", false
	var values []string
	seen := map[string]bool{}
	ended := func() error {
		switch kind := fields[name]; {
		case len(values) == 0:
			return archive.Ambiguous("the field %s has no value", text.Cut(name, 40))
		case kind == oneValue && len(values) > 1:
			return archive.Ambiguous("the field %s has %d values, but only one is allowed", name, len(values))
		case kind != 0:
			return f(name, values)
		}
		return nil
	}
	for len(desc) > 0 {
		line := desc
		if i := bytes.IndexByte(desc, '\n'); i >= 0 {
			line, desc = desc[:i], desc[i+1:]
		} else {
			desc = nil
		}
		n := len(line)
		looksLikeField := n > 2 && line[0] == '%' && line[n-1] == '%'
		switch {
		case n == 0:
			if inside {
				if err := ended(); err != nil {
					return err
				}
			}
			name, inside, values = "", false, nil
		case len(bytes.TrimSpace(line)) != n:
			return archive.Ambiguous("a line of a description begins or ends with white space: "+
				"%q",
				text.Cut(line, 80))
		case !inside && looksLikeField:
			name, inside = string(line[1:n-1]), true
			if seen[name] {
				return archive.Ambiguous("the field %s occurs twice", text.Cut(name, 40))
			}
			if seen[name] = true; len(seen) > 256 {
				return finding.New(finding.ContentTooLarge, "", "a description has more than 256 fields")
			}
		case !inside:
			return malformed("a line of a description does not belong to a field: %q", text.Cut(line, 80))
		case looksLikeField:
			return archive.Ambiguous("the field %s has a value that looks like a field: %q",
				text.Cut(name, 40), text.Cut(line, 80))
		default:
			for _, c := range line {
				if c < 0x20 && c != '\t' || c == 0x7f {
					return malformed("a field of a description has a control character")
				}
			}
			values = append(values, string(line))
		}
	}
	if inside {
		return ended()
	}
	return nil
}

// ReadDescription reads what a database says of one package; dir is where its
// file lies, relative to the upstream's base.
func ReadDescription(desc []byte, dir string) (*archive.Package, error) {
	d := &description{p: &archive.Package{}, needs: &needs{}, dir: dir}
	if err := eachField(desc, d.field); err != nil {
		return nil, err
	}
	if err := d.whole(); err != nil {
		return nil, err
	}
	return d.p, nil
}

// description reads one package of a database, field by field.
type description struct {
	p     *archive.Package
	needs *needs
	dir   string
	weak  bool // it has an MD5 digest
	sized bool
}

// field reads one field, which has at least one value.
func (d *description) field(name string, values []string) error {
	p, first := d.p, values[0]
	switch name {
	case "FILENAME":
		return d.fileName(first)
	case "NAME":
		p.Name = first
	case "BASE":
		p.Origin = first
	case "VERSION":
		p.Version = first
	case "DESC":
		p.Summary = first
	case "ARCH":
		p.Arch = first
	case "LICENSE":
		p.Licence = strings.Join(values, " AND ")
	case "GROUPS":
		p.Section = strings.Join(values, " ")
		for _, g := range values {
			p.Groups = append(p.Groups, archive.Membership{Group: g})
		}
	case "BUILDDATE":
		p.Built, _ = text.Number(first) // for people alone
	case "CSIZE":
		return d.size(first)
	case "ISIZE":
		p.InstalledSize, _ = text.Number(first) // for people alone
	case "SHA256SUM":
		p.SHA256 = strings.ToLower(first)
	case "MD5SUM":
		d.weak = true
	case "PGPSIG":
		return d.signature(values)
	case "PROVIDES":
		return d.provides(values)
	case "DEPENDS":
		d.needs.requires = values
	case "OPTDEPENDS":
		d.needs.suggests = values
	case "CONFLICTS":
		d.needs.conflicts = values
	case "REPLACES":
		d.needs.replaces = values
	}
	return nil
}

func (d *description) fileName(name string) error {
	if strings.Contains(name, "/") {
		return finding.New(finding.ContentUnsafePath, "", "the file name %q leads out of its folder",
			text.Cut(name, 120))
	}
	d.p.Path = path.Join(d.dir, name)
	return nil
}

func (d *description) size(value string) error {
	n, ok := text.Number(value)
	if !ok {
		return malformed("the size %q is not a number", text.Cut(value, 40))
	}
	d.p.Size, d.sized = n, true
	return nil
}

func (d *description) signature(values []string) error {
	raw, err := base64.StdEncoding.DecodeString(strings.Join(values, ""))
	if err != nil {
		return malformed("the signature of a package is not base64")
	}
	d.p.Signature = raw
	return nil
}

func (d *description) provides(values []string) error {
	for _, v := range values {
		r, err := parseRelation(v)
		if err != nil {
			return err
		}
		d.p.Provides = append(d.p.Provides, archive.Provide{Name: r.Name, Op: r.Op, Version: r.Version})
	}
	return nil
}

// whole checks the package when all of its fields were read.
func (d *description) whole() error {
	p := d.p
	switch {
	case p.Name == "" || p.Version == "" || p.Arch == "":
		return malformed("name, version or architecture of a package is missing")
	case !archPattern.MatchString(p.Arch):
		return malformed("%q is not an architecture", text.Cut(p.Arch, 40))
	case p.Path == "" || !strings.Contains(path.Base(p.Path), ".pkg.tar"):
		return malformed("%s has no valid file name", p.Name)
	case !d.sized:
		return malformed("%s has no size", p.Name)
	case p.SHA256 == "" && d.weak:
		return finding.New(finding.ContentWeakDigest, "", "%s has only an MD5 checksum", p.Name)
	case !text.IsHex(p.SHA256, text.SHA256):
		return malformed("%s has an invalid checksum", p.Name)
	}
	if err := archive.CheckName(p.Name); err != nil {
		return err
	}
	if err := CheckVersion(p.Version); err != nil {
		return malformed("%s: %v", p.Name, err)
	}
	if err := archive.CheckHref(p.Path); err != nil {
		return err
	}
	if p.Origin == "" {
		p.Origin = p.Name
	}
	d.needs.owner = p.Name
	p.Needs = d.needs
	return nil
}

// parseRelation reads "name", "name>=version" and so on.
func parseRelation(s string) (archive.Relation, error) {
	r := archive.Relation{Name: s}
	if i := strings.IndexAny(s, "<>="); i >= 0 {
		n := len(s[i:]) - len(strings.TrimLeft(s[i:], "<>="))
		op := archive.Op(s[i : i+n])
		switch op {
		case archive.Less, archive.LessOrEqual, archive.Equal, archive.GreaterOrEqual, archive.Greater:
		default:
			return r, malformed("the relation %q has an unknown comparison", text.Cut(s, 120))
		}
		r.Name, r.Op, r.Version = s[:i], op, s[i+n:]
		if r.Version == "" {
			return r, malformed("the relation %q has no version", text.Cut(s, 120))
		}
	}
	if r.Name == "" || strings.ContainsAny(s, " \t") {
		return r, malformed("the relation %q has no valid name", text.Cut(s, 120))
	}
	if r.Op != archive.Any && finding.Harmless(r.Version) != r.Version {
		return r, malformed("the relation %q has an invalid version", text.Cut(s, 120))
	}
	return r, nil
}

// needs keeps the relations of a package as they stand until they are asked for.
type needs struct {
	owner                                   string
	requires, suggests, conflicts, replaces []string
}

// Relations implements archive.RelationSource. Optional needs are suggestions;
// what a package replaces excludes nothing.
func (n *needs) Relations() (archive.Relations, error) {
	var out archive.Relations
	add := func(list []string, to func(archive.Relation)) error {
		for _, s := range list {
			r, err := parseRelation(s)
			if f, ok := finding.From(err); ok {
				f.Object = "package " + n.owner
				return f
			}
			to(r)
		}
		return nil
	}
	if err := add(n.requires, func(r archive.Relation) {
		out.Requires = append(out.Requires, archive.Clause{r})
	}); err != nil {
		return out, err
	}
	if err := add(n.conflicts, func(r archive.Relation) { out.Conflicts = append(out.Conflicts, r) }); err !=
		nil {
		return out, err
	}
	if err := add(n.replaces, func(r archive.Relation) {
		out.Replaces = append(out.Replaces,
			r)
	}); err != nil {
		return out, err
	}
	optional := slices.Clone(n.suggests)
	for i, s := range optional {
		optional[i], _, _ = strings.Cut(s, ": ") // the reason stands behind it
		optional[i] = strings.TrimSuffix(strings.TrimSpace(optional[i]), ":")
	}
	err := add(optional, func(r archive.Relation) { out.Suggests = append(out.Suggests, archive.Clause{r}) })
	return out, err
}
