// Package rpm is the rpm family: rpm-md repositories (repomd.xml and the lists
// that it names) and rpm package files of the formats 4 and 6, as the clients
// dnf and zypper read them.
//
// It trusts nothing that it reads. The root is believed only through the
// Verifier that is handed in, lists through the digests of the root; packages
// are verified by those and, where they carry signatures of their own, by the
// same Verifier.
package rpm

import (
	"bytes"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Family implements archive.Family for rpm-md repositories.
type Family struct{}

var (
	_ archive.Family   = Family{}
	_ archive.Housed   = Family{}
	_ archive.Filed    = Family{}
	_ archive.Advised  = Family{}
	_ archive.Streamed = Family{}
)

// Name implements archive.Family.
func (Family) Name() string { return "rpm" }

// CompareVersions implements archive.Matching.
func (Family) CompareVersions(a, b string) int { return CompareVersions(a, b) }

// CheckVersion implements archive.Matching.
func (Family) CheckVersion(v string) error { return CheckVersion(v) }

// Meets implements archive.Matching: by its own name, and by what it provides, its own
// name in another version too. Of a relation with further ones (with, without) the same
// package must meet these.
func (f Family) Meets(p *archive.Package, at int, r archive.Relation) bool {
	if at == archive.Itself {
		if r.Op != archive.Any && !satisfies(archive.Provide{Op: archive.Equal, Version: p.Version}, r) {
			return false
		}
	} else if r.Real || !satisfies(p.Provides[at], r) {
		return false
	}
	return !slices.ContainsFunc(r.Also, func(a archive.Relation) bool {
		return f.meetsBesides(p, a) == a.Not
	})
}

// meetsBesides tells whether a package meets a relation by any of its names.
func (f Family) meetsBesides(p *archive.Package, r archive.Relation) bool {
	if p.Name == r.Name && f.Meets(p, archive.Itself, r) {
		return true
	}
	for at, v := range p.Provides {
		if v.Name == r.Name && f.Meets(p, at, r) {
			return true
		}
	}
	return false
}

// satisfies tells whether what is provided meets a relation of that name: bounds that
// overlap, where a provide without a version meets any relation.
func satisfies(p archive.Provide, r archive.Relation) bool {
	if r.Op == archive.Any || p.Op == archive.Any {
		return true
	}
	c, pr, rr := compareBegin(p.Version, r.Version)
	switch {
	case c != 0 || pr == "" && rr == "":
		return archive.Overlap(p.Op, c, r.Op)
	case pr == "" && p.Op.Includes() || rr == "" && r.Op.Includes():
		return true // a release left out stands for any release
	case pr == "" || rr == "":
		return archive.Overlap(p.Op, 0, r.Op)
	}
	return archive.Overlap(p.Op, compareSegments(pr, rr), r.Op)
}

// runsAlso lists, for each architecture of machines, what else runs there,
// best first.
var runsAlso = map[string][]string{
	"x86_64": {"amd64", "ia32e", "i686", "athlon", "i586", "i486", "i386"}, "x86_64_v2": {"x86_64", "i686",
		"i586", "i486", "i386"},
	"x86_64_v3": {"x86_64_v2", "x86_64", "i686", "i586", "i486", "i386"}, "x86_64_v4": {"x86_64_v3",
		"x86_64_v2", "x86_64", "i686", "i586", "i486", "i386"},
	"i686": {"i586", "i486", "i386"}, "i586": {"i486", "i386"}, "i486": {"i386"},
	"armv8hl": {"armv7hnl", "armv7hl", "armv6hl"}, "armv7hnl": {"armv7hl", "armv6hl"},
	"armv7hl": {"armv6hl"},
	"armv7l":  {"armv6l", "armv5tel"},
	"s390x":   {"s390"}, "ppc64": {"ppc"}, "sparc64": {"sparc"}, "mips64el": {"mipsel"}, "mips64": {"mips"},
}

func rank(packageArch, machineArch string) int {
	if packageArch == machineArch || packageArch == "noarch" {
		return 0
	}
	if i := slices.Index(runsAlso[machineArch], packageArch); i >= 0 {
		return i + 1
	}
	return -1
}

// Rank implements archive.Matching.
func (Family) Rank(packageArch, machineArch string) int { return rank(packageArch, machineArch) }

// Exclusive implements archive.Matching: packages of different architectures
// can lie beside each other, but none beside one that is for all of them.
func (Family) Exclusive(a, b *archive.Package) bool {
	return a.Arch == b.Arch || a.Arch == "noarch" || b.Arch == "noarch"
}

var (
	archPattern = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
	foldPattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+/-]*$`)
)

// CheckSource implements archive.Family.
func (Family) CheckSource(s archive.Source) finding.List {
	var out finding.List
	add := func(field string, code finding.Code, format string, args ...any) {
		f := finding.New(code, "source "+s.Name, format, args...)
		f.Field = field
		out = append(out, f)
	}
	if len(s.Components) > 0 {
		add("components", finding.DefineBadValue, "an rpm source has no components: define a "+
			"separate source for each repository")
	}
	if len(s.Architectures) == 0 {
		add("architectures", finding.DefineMissingField,
			"an rpm source needs architectures, such as [x86_64]")
	}
	for _, a := range s.Architectures {
		switch {
		case a == "noarch" || a == "src" || a == "nosrc":
			add("architectures", finding.DefineBadValue,
				"%q is not an architecture of a machine. Packages for all architectures are "+
					"always included", a)
		case !archPattern.MatchString(a):
			add("architectures", finding.DefineBadValue, "%q is not an rpm architecture", a)
		case a == "amd64":
			add("architectures", finding.DefineBadValue, "the rpm family calls the architecture amd64 x86_64")
		case a == "arm64":
			add("architectures", finding.DefineBadValue,
				"the rpm family calls the architecture arm64 aarch64")
		}
	}
	for _, l := range s.Languages {
		if archive.CheckWord("language", l) != nil {
			add("languages", finding.DefineBadValue, "%q is not a language such as en or pt_BR", l)
		}
	}
	if s.Release != "" && !foldPattern.MatchString(s.Release) {
		add("release", finding.DefineBadValue, "the release %q is not a valid path", s.Release)
	}
	return out
}

const (
	rootPath      = "repodata/repomd.xml"
	rootSignature = "repodata/repomd.xml.asc"
)

// Roots implements archive.Family.
func (Family) Roots(archive.Source) []archive.RootChoice {
	return []archive.RootChoice{{{Path: rootPath}, {Path: rootSignature, Signs: rootPath}}}
}

// data is one file that repomd.xml names.
type data struct {
	archive.Entry
	kind string
	base string
	time time.Time
}

// ReadRoot implements archive.Family. The root's date is the newest time that
// it gives for one of its lists, or that of its signature where it gives none.
func (f Family) ReadRoot(s archive.Source, choice archive.RootChoice, files map[string][]byte,
	v archive.Verifier) (*archive.Root, error) {
	signed := files[rootPath]
	by, err := v.Detached(signed, files[rootSignature])
	if err != nil {
		return nil, err
	}
	r, err := ParseRoot(signed)
	if err != nil {
		return nil, err
	}
	r.Signer, r.Paths = by, []string{rootPath, rootSignature}
	if r.Date.IsZero() {
		r.Date = by.At
	}
	r.Architectures = slices.Clone(s.Architectures)
	return r, nil
}

// ParseRoot reads the text of a repomd.xml. Only SHA-256, SHA-384 (which is
// passed over) and SHA-512 are believed.
func ParseRoot(repomd []byte) (*archive.Root, error) {
	r := &archive.Root{Entries: map[string]archive.Entry{}, Fields: map[string]string{}, ByHash: true}
	var now data
	var digest string
	var weak []string
	kinds := map[string]bool{}
	err := walkPlaced(repomd, newPlaced(rootPlaces), func(path []string, n *node) error {
		switch {
		case len(path) == 1 && n.name != "repomd":
			return malformed("the release metadata is a %q, but must be a repomd", text.Cut(n.name, 40))
		case len(path) == 2 && n.name == "data":
			now, digest = data{kind: n.attr("type")}, ""
			now.Size = archive.UnknownSize // old repositories give none
			if kinds[now.kind] {
				return malformed("the release metadata lists two indexes of the kind %q",
					text.Cut(now.kind, 40))
			}
			kinds[now.kind] = true
			if len(kinds) > 200 {
				return finding.New(finding.ContentTooLarge, "", "the release metadata lists "+
					"more than 200 indexes")
			}
		case len(path) == 3 && path[1] == "data" && n.name == "checksum":
			digest = n.attr("type")
		case len(path) == 3 && path[1] == "data" && n.name == "location":
			now.Path = strings.TrimPrefix(n.attr("href"), "./")
			now.base = n.base()
		case len(path) == 3 && path[1] == "tags" && n.name == "distro":
			// cpe:/o:vendor:product:version
			if parts := strings.Split(n.attr("cpeid"), ":"); len(parts) >= 5 {
				r.Origin, r.Label, r.Version = parts[2], parts[3], parts[4]
				r.Names = append(r.Names, parts[4])
			}
		}
		return nil
	}, func(path []string, raw []byte) error {
		value := string(bytes.TrimSpace(raw))
		if name := path[len(path)-1]; name == "checksum" || name == "size" {
			if _, err := exact(name, raw); err != nil {
				return err
			}
		}
		switch {
		case len(path) == 2 && path[1] == "revision":
			r.Fields["revision"] = text.Cut(value, 100)
		case len(path) == 3 && path[1] == "tags" && path[2] == "repo":
			r.Suite = text.Cut(value, 100)
		case len(path) == 3 && path[1] == "tags" && path[2] == "distro":
			r.Codename = text.Cut(value, 100)
		case len(path) == 3 && path[1] == "data":
			switch path[2] {
			case "checksum":
				switch digest {
				case "sha256":
					now.SHA256 = strings.ToLower(value)
				case "sha512":
					now.SHA512 = strings.ToLower(value)
				default:
					weak = append(weak, now.kind)
				}
			case "size":
				size, err := plainNumber(value)
				if err != nil {
					return malformed("the release metadata has the invalid size %q", text.Cut(value, 40))
				}
				now.Size = size
			case "timestamp":
				if sec, err := strconv.ParseFloat(value, 64); err == nil && sec > 0 && sec < 1<<40 {
					now.time = time.Unix(int64(sec), 0).UTC()
				}
			}
		case len(path) == 2 && path[1] == "data":
			return now.into(r)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if _, ok := r.Fields["data:primary"]; !ok {
		if slices.Contains(weak, "primary") {
			return nil, finding.New(finding.ContentWeakDigest, "", "the release metadata has "+
				"only MD5 or SHA-1 checksums")
		}
		return nil, malformed("the release metadata lists no primary index")
	}
	return r, nil
}

func (d data) into(r *archive.Root) error {
	if d.SHA256 == "" && d.SHA512 == "" {
		return nil // told if it is needed
	}
	if d.SHA256 != "" && !text.IsHex(d.SHA256, text.SHA256) || d.SHA512 != "" &&
		!text.IsHex(d.SHA512, text.SHA512) {
		return malformed("the checksum of the %s index in the release metadata is invalid",
			text.Cut(d.kind, 40))
	}
	if d.base != "" {
		return finding.New(finding.ContentUnsafePath, "",
			"the release metadata places its %s index elsewhere, at %q",
			text.Cut(d.kind, 40), text.Cut(d.base, 120))
	}
	if err := archive.CheckHref(d.Path); err != nil {
		return err
	}
	if _, twice := r.Entries[d.Path]; twice {
		return malformed("the release metadata lists %s twice", text.Cut(d.Path, 120))
	}
	if d.time.After(r.Date) {
		r.Date = d.time
	}
	r.Entries[d.Path] = d.Entry
	r.Fields["data:"+d.kind] = d.Path
	return nil
}

// CheckRoot implements archive.Family. An rpm-md root seldom says which release
// it is of; where it does, the definition must agree.
func (Family) CheckRoot(s archive.Source, r *archive.Root) finding.List {
	var out finding.List
	if s.Release != "" && len(r.Names) > 0 && !slices.ContainsFunc(r.Names, func(n string) bool {
		return n == s.Release || majorOf(n) == s.Release || n == majorOf(s.Release)
	}) {
		out = append(out, finding.New(finding.SourceReleaseMismatch, "source "+s.Name,
			"the release metadata is for %s, but the definition asks for %s",
			finding.Harmless(strings.Join(r.Names, " or ")), s.Release))
	}
	return out
}

func majorOf(v string) string {
	m, _, _ := strings.Cut(v, ".")
	return m
}

// fileOf gives the list of one kind that a root names.
func fileOf(r *archive.Root, kind string) (archive.IndexFile, bool) {
	p, ok := r.Fields["data:"+kind]
	e, known := r.Entries[p]
	return archive.IndexFile{Entry: e, Compression: compressionOf(p), Paths: []string{p}}, ok && known
}

func compressionOf(p string) string {
	switch ext := strings.TrimPrefix(path.Ext(p), "."); ext {
	case "gz", "xz", "bz2", "zst":
		return ext
	case "zck":
		return "zck" // clients have another form beside it
	}
	return ""
}

// Indexes implements archive.Family.
func (Family) Indexes(s archive.Source, r *archive.Root) ([]archive.IndexChoice, error) {
	f, ok := fileOf(r, "primary")
	if !ok {
		return nil, malformed("the release metadata lists no primary index")
	}
	return []archive.IndexChoice{{Files: []archive.IndexFile{f}}}, nil
}

// NamesFile implements archive.Filed.
func (Family) NamesFile(r archive.Relation) bool { return strings.HasPrefix(r.Name, "/") }

// NeedsFiles implements archive.Filed.
func (Family) NeedsFiles() bool { return true }

// FileLists implements archive.Filed.
func (Family) FileLists(_ archive.Source, r *archive.Root) []archive.IndexFile {
	if f, ok := fileOf(r, "filelists"); ok {
		return []archive.IndexFile{f}
	}
	return nil
}

// FileKey implements archive.Filed: the digest of the package.
func (Family) FileKey(p *archive.Package) string { return p.SHA256 + p.SHA512 }

// ReadFiles implements archive.Filed.
func (Family) ReadFiles(plain io.Reader, yield func(sha256, path string) error) error {
	return readFiles(plain, yield)
}

// AdvisoryList implements archive.Advised.
func (Family) AdvisoryList(_ archive.Source, r *archive.Root) (archive.IndexFile, bool) {
	return fileOf(r, "updateinfo")
}

// ReadAdvisories implements archive.Advised.
func (Family) ReadAdvisories(plain io.Reader, yield func(a *archive.Advisory) error) error {
	return readAdvisories(plain, yield)
}

// StreamList implements archive.Streamed.
func (Family) StreamList(_ archive.Source, r *archive.Root) (archive.IndexFile, bool) {
	return fileOf(r, "modules")
}

// ReadStreams implements archive.Streamed.
func (Family) ReadStreams(plain io.Reader) (archive.Streams, error) { return readStreams(plain) }

// Activate implements archive.Streamed.
func (Family) Activate(lists []archive.Streams, enabled []string) archive.ActiveStreams {
	var own []*streams
	for _, l := range lists {
		if s, ok := l.(*streams); ok {
			own = append(own, s)
		}
	}
	return activate(own, enabled)
}

// Companions implements archive.Family: every list that the root names.
func (Family) Companions(s archive.Source, r *archive.Root) []archive.Companion {
	var out []archive.Companion
	for p, e := range r.Entries {
		required := false
		for _, kind := range []string{"primary", "filelists", "other", "updateinfo", "group", "modules"} {
			required = required || r.Fields["data:"+kind] == p
		}
		out = append(out, archive.Companion{Entry: e, Paths: []string{p},
			Required: required, Places: []string{p}})
	}
	slices.SortFunc(out, func(a, b archive.Companion) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// SignsPackages implements archive.Family.
func (Family) SignsPackages() bool { return true }

var digestName = regexp.MustCompile(`^repodata/[0-9a-f]{64,128}-`)

// Lasting implements archive.Family.
func (Family) Lasting(p string) bool {
	return strings.HasSuffix(p, ".rpm") || digestName.MatchString(p)
}

// Identify implements archive.Family.
func (Family) Identify(p *archive.Package) archive.Identity {
	return archive.Identity{Name: p.Name, Version: p.Version, Arch: p.Arch}
}
