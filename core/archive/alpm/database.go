package alpm

import (
	"archive/tar"
	"bytes"
	"encoding/base64"
	"io"
	"path"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Limits on a database.
const (
	maxEntry   = 4 << 20 // bytes of one package's description
	maxPlain   = 2 << 30 // bytes of a whole database, decompressed
	maxEntries = 2_000_000
)

func malformed(format string, args ...any) error {
	return finding.New("source.malformed-index", "", format, args...)
}

// eachEntry reads a plain database: a tar with one folder for each package, in
// it a file desc (and, in old databases, a file depends beside it).
func eachEntry(plain io.Reader, yield func(folder string, desc []byte) error) error {
	t := tar.NewReader(plain)
	var folder string
	var desc []byte
	seen := map[string]bool{}
	flush := func() error {
		if desc == nil {
			return nil
		}
		if seen[folder] {
			return malformed("the database has %q twice", cut(folder, 120))
		}
		seen[folder] = true
		d := desc
		desc = nil
		return yield(folder, d)
	}
	for n := 0; ; n++ {
		h, err := t.Next()
		if err == io.EOF {
			return flush()
		}
		if err != nil {
			if f, ok := finding.From(err); ok {
				return f
			}
			return malformed("the database is no readable tar: %v", err)
		}
		if n > maxEntries {
			return finding.New("content.too-large", "", "the database has more than %d entries", maxEntries)
		}
		name := strings.TrimPrefix(h.Name, "./")
		if h.Typeflag == tar.TypeDir {
			continue
		}
		if h.Typeflag != tar.TypeReg {
			return malformed("the database has %q, which is no plain file", cut(name, 120))
		}
		dir, file, ok := strings.Cut(name, "/")
		if !ok || archive.CheckPath(name) != nil || strings.Contains(file, "/") {
			return malformed("the database has a file %q", cut(name, 120))
		}
		if file != "desc" && file != "depends" {
			continue
		}
		if h.Size > maxEntry {
			return finding.New("content.too-large", "", "the description of %s is larger than %d bytes", cut(dir, 120), maxEntry)
		}
		if dir != folder {
			if err := flush(); err != nil {
				return err
			}
			folder = dir
		}
		data, err := io.ReadAll(t)
		if err != nil {
			if f, ok := finding.From(err); ok {
				return f
			}
			return malformed("the database ends in the middle of %s: %v", cut(dir, 120), err)
		}
		if desc == nil {
			desc = make([]byte, 0, len(data)+1)
		}
		desc = append(append(desc, data...), '\n')
	}
}

// fields are those of a description that are read; the others are passed over.
var fields = func() map[string]string {
	m := map[string]string{}
	for _, n := range strings.Fields("FILENAME NAME BASE VERSION DESC ARCH LICENSE GROUPS CSIZE ISIZE SHA256SUM MD5SUM PGPSIG PROVIDES DEPENDS OPTDEPENDS CONFLICTS REPLACES") {
		m[n] = n
	}
	return m
}()

// eachField calls f for the known fields of a description: %NAME% on a line of
// its own, values on the lines behind it, a blank line at the end.
func eachField(desc []byte, f func(name string, values []string) error) error {
	name, inside := "", false
	var values []string
	for len(desc) > 0 {
		line := desc
		if i := bytes.IndexByte(desc, '\n'); i >= 0 {
			line, desc = desc[:i], desc[i+1:]
		} else {
			desc = nil
		}
		line = bytes.TrimSuffix(line, []byte("\r"))
		switch n := len(line); {
		case n == 0:
			if name != "" {
				if err := f(name, values); err != nil {
					return err
				}
			}
			name, inside, values = "", false, nil
		case !inside && n > 2 && line[0] == '%' && line[n-1] == '%':
			name, inside = fields[string(line[1:n-1])], true
		case !inside:
			return malformed("a line of a description belongs to no field: %q", cut(string(line), 80))
		default:
			for _, c := range line {
				if c < 0x20 && c != '\t' || c == 0x7f {
					return malformed("a field of a description has a control character")
				}
			}
			if name != "" {
				values = append(values, string(line))
			}
		}
	}
	if name != "" {
		return f(name, values)
	}
	return nil
}

func cut(s string, n int) string {
	if len(s) > n {
		return s[:n] + "…"
	}
	return s
}

func isHex(s string) bool { return strings.Trim(s, "0123456789abcdef") == "" }

// ReadDescription reads what a database says of one package; dir is where its
// file lies, relative to the upstream's base.
func ReadDescription(desc []byte, dir string) (*archive.Package, error) {
	p := &archive.Package{}
	n := &needs{}
	seen := map[string]bool{}
	err := eachField(desc, func(name string, values []string) error {
		if len(values) == 0 {
			return nil
		}
		if seen[name] {
			return malformed("the field %s stands twice", cut(name, 40))
		}
		seen[name] = true
		number := func() int64 {
			v, err := strconv.ParseInt(values[0], 10, 64)
			if err != nil || v < 0 {
				return -1
			}
			return v
		}
		switch name {
		case "FILENAME":
			if strings.Contains(values[0], "/") {
				return finding.New("content.unsafe-path", "", "the file name %q leads out of its folder", cut(values[0], 120))
			}
			p.Path = path.Join(dir, values[0])
		case "NAME":
			p.Name = values[0]
		case "BASE":
			p.Origin = values[0]
		case "VERSION":
			p.Version = values[0]
		case "DESC":
			p.Summary = values[0]
		case "ARCH":
			p.Arch = values[0]
		case "LICENSE":
			p.Licence = strings.Join(values, " AND ")
		case "GROUPS":
			p.Section = strings.Join(values, " ")
		case "CSIZE":
			if p.Size = number(); p.Size < 0 {
				return malformed("the size %q is no number", cut(values[0], 40))
			}
		case "ISIZE":
			p.InstalledSize = max(number(), 0)
		case "SHA256SUM":
			p.SHA256 = strings.ToLower(values[0])
		case "PGPSIG":
			raw, err := base64.StdEncoding.DecodeString(strings.Join(values, ""))
			if err != nil {
				return malformed("the signature of a package is not base64")
			}
			p.Signature = raw
		case "PROVIDES":
			for _, v := range values {
				r, err := parseRelation(v)
				if err != nil {
					return err
				}
				p.Provides = append(p.Provides, archive.Provide{Name: r.Name, Op: r.Op, Version: r.Version})
			}
		case "DEPENDS":
			n.requires = values
		case "OPTDEPENDS":
			n.suggests = values
		case "CONFLICTS":
			n.conflicts = values
		case "REPLACES":
			n.replaces = values
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	switch {
	case p.Name == "" || p.Version == "" || p.Arch == "":
		return nil, malformed("name, version or architecture of a package is missing")
	case !namePattern.MatchString(p.Name) || !archPattern.MatchString(p.Arch):
		return nil, malformed("the name %q (%q) is not a package's", cut(p.Name, 80), cut(p.Arch, 40))
	case p.Path == "" || !strings.Contains(path.Base(p.Path), ".pkg.tar"):
		return nil, malformed("%s has no file name that fits", p.Name)
	case p.SHA256 == "" && seen["MD5SUM"]:
		return nil, finding.New("content.weak-digest", "", "%s has only an MD5 digest", p.Name)
	case len(p.SHA256) != 64 || !isHex(p.SHA256):
		return nil, malformed("%s has a digest that is none", p.Name)
	}
	if err := CheckVersion(p.Version); err != nil {
		return nil, malformed("%s: %v", p.Name, err)
	}
	if err := archive.CheckPath(p.Path); err != nil {
		return nil, err
	}
	if p.Origin == "" {
		p.Origin = p.Name
	}
	n.owner = p.Name
	p.Needs = n
	p.SignaturePath = p.Path + ".sig"
	return p, nil
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
			return r, malformed("the relation %q has a comparison that does not exist", cut(s, 120))
		}
		r.Name, r.Op, r.Version = s[:i], op, s[i+n:]
		if r.Version == "" {
			return r, malformed("the relation %q has no version", cut(s, 120))
		}
	}
	if r.Name == "" || strings.ContainsAny(s, " \t") {
		return r, malformed("the relation %q has no plain name", cut(s, 120))
	}
	return r, nil
}

// needs keeps the relations of a package as they stand until they are asked for.
type needs struct {
	owner                                   string
	requires, suggests, conflicts, replaces []string
}

// Relations implements archive.RelationSource. Optional needs are suggestions;
// what a package replaces is advice for updates and excludes nothing.
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
	if err := add(n.requires, func(r archive.Relation) { out.Requires = append(out.Requires, archive.Clause{r}) }); err != nil {
		return out, err
	}
	if err := add(n.conflicts, func(r archive.Relation) { out.Conflicts = append(out.Conflicts, r) }); err != nil {
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
