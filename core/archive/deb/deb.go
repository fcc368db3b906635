// Package deb is the deb family: Debian-style repositories with a signed
// Release file, Packages indexes and .deb files, met as Debian Policy, deb(5)
// and the repository format describe them.
//
// It trusts nothing that it reads. Roots are believed only through the
// Verifier that is handed in; everything else follows from their digests.
package deb

import (
	"bytes"
	"io"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Family implements archive.Family for deb repositories.
type Family struct{}

var (
	_ archive.Family = Family{}
	_ archive.Housed = Family{}
	_ archive.Bound  = Family{}
)

// Name implements archive.Family.
func (Family) Name() string { return "deb" }

// CompareVersions implements archive.Family.
func (Family) CompareVersions(a, b string) int { return CompareVersions(a, b) }

// CheckVersion implements archive.Family.
func (Family) CheckVersion(v string) error { return CheckVersion(v) }

// Rank implements archive.Matching.
func (Family) Rank(packageArch, machineArch string) int {
	if packageArch == machineArch || packageArch == "all" {
		return 0
	}
	return -1
}

// Meets implements archive.Matching: by its own name, and by what it provides, where an
// unversioned provide meets no versioned relation (Debian Policy §7.5).
func (Family) Meets(p *archive.Package, at int, r archive.Relation) bool {
	version := p.Version
	if at != archive.Itself {
		if version = p.Provides[at].Version; r.Real {
			return false
		}
	}
	return r.Op == archive.Any || version != "" && r.Op.Holds(CompareVersions(version, r.Version))
}

// Exclusive implements archive.Matching: packages that may be installed for several
// architectures at once lie side by side in one version.
func (Family) Exclusive(a, b *archive.Package) bool {
	return a.Arch == b.Arch || coexists(a) != same || coexists(b) != same ||
		CompareVersions(a.Version, b.Version) != 0
}

// SignsPackages implements archive.Family: the root's signature stands for all.
func (Family) SignsPackages() bool { return false }

// flat tells whether the release names a folder instead of a distribution: a
// repository without dists/, written with a closing slash.
func flat(s archive.Source) bool { return strings.HasSuffix(s.Release, "/") }

// base is the folder of the Release file, relative to the upstream's base.
func base(s archive.Source) string {
	if flat(s) {
		return strings.TrimPrefix(strings.TrimPrefix(s.Release, "."), "/")
	}
	return "dists/" + s.Release + "/"
}

var (
	archPattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)
	wordPattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._+/-]*$`)
	// languagePattern is a language as the names of translations have it.
	languagePattern = regexp.MustCompile(`^[A-Za-z]{2,8}([_@.-][A-Za-z0-9]{1,16}){0,4}$`)
)

// plainFolder tells whether the release of a repository without dists/ is a
// folder that can stand in a machine's file.
func plainFolder(release string) bool {
	p := strings.Trim(strings.TrimPrefix(release, "./"), "/")
	return wordPattern.MatchString(p) && archive.CheckPath(p) == nil
}

// CheckSource implements archive.Family.
func (Family) CheckSource(s archive.Source) finding.List {
	var out finding.List
	object := "source " + s.Name
	add := func(field string, code finding.Code, format string, args ...any) {
		f := finding.New(code, object, format, args...)
		f.Field = field
		out = append(out, f)
	}
	switch {
	case s.Release == "":
		add("release", finding.DefineMissingField,
			"a deb source needs a release, such as heron (or a folder that ends in / for a repository "+
				"without dists)")
	case !flat(s) && (!wordPattern.MatchString(s.Release) || archive.CheckPath(s.Release) != nil):
		add("release", finding.DefineBadValue, "the release %q is not a valid path", s.Release)
	case flat(s) && s.Release != "./" && s.Release != "/" && !plainFolder(s.Release):
		add("release", finding.DefineBadValue, "the release %q is not a folder below the upstream", s.Release)
	}
	if flat(s) && len(s.Components) > 0 {
		add("components", finding.DefineBadValue, "the release %q is a folder, and a "+
			"repository of that form has no components",
			s.Release)
	}
	if !flat(s) && s.Release != "" && len(s.Components) == 0 {
		add("components", finding.DefineMissingField, "a deb source needs components, such as [core]")
	}
	if len(s.Architectures) == 0 {
		add("architectures", finding.DefineMissingField, "a deb source needs architectures, such as [amd64]")
	}
	for _, c := range s.Components {
		if !wordPattern.MatchString(c) || archive.CheckPath(c) != nil {
			add("components", finding.DefineBadValue, "the component %q is not a valid path",
				c)
		}
	}
	for _, l := range s.Languages {
		if !languagePattern.MatchString(l) {
			add("languages", finding.DefineBadValue, "%q is not a language such as en or pt_BR", l)
		}
	}
	for _, a := range s.Architectures {
		switch {
		case a == "all" || a == "any" || a == "source":
			add("architectures", finding.DefineBadValue,
				"%q is not an architecture of a machine. Packages for all architectures are "+
					"always included", a)
		case !archPattern.MatchString(a):
			add("architectures", finding.DefineBadValue, "%q is not a deb architecture", a)
		}
	}
	return out
}

// Roots implements archive.Family: the clear-signed root first, then the root
// with a detached signature.
func (Family) Roots(s archive.Source) []archive.RootChoice {
	b := base(s)
	return []archive.RootChoice{
		{{Path: b + "InRelease"}},
		{{Path: b + "Release"}, {Path: b + "Release.gpg", Signs: b + "Release"}},
	}
}

// ReadRoot implements archive.Family.
func (Family) ReadRoot(s archive.Source, choice archive.RootChoice, files map[string][]byte,
	v archive.Verifier) (*archive.Root, error) {
	var text []byte
	var by archive.Signer
	var err error
	if first := choice[0].Path; strings.HasSuffix(first, "InRelease") {
		text, by, err = v.Clearsigned(files[first])
	} else {
		text = files[first]
		by, err = v.Detached(text, files[first+".gpg"])
	}
	if err != nil {
		return nil, err
	}
	r, err := ParseRelease(text, base(s))
	if err != nil {
		return nil, err
	}
	r.Signer = by
	for _, f := range choice {
		r.Paths = append(r.Paths, f.Path)
	}
	r.Alias = r.Suite == s.Release && r.Codename != "" && r.Codename != s.Release
	return r, nil
}

// CheckRoot implements archive.Family.
func (Family) CheckRoot(s archive.Source, r *archive.Root) finding.List {
	var out finding.List
	object := "source " + s.Name
	if !flat(s) && len(r.Names) > 0 && !slices.Contains(r.Names, s.Release) {
		out = append(out, finding.New(finding.SourceReleaseMismatch, object,
			"the release metadata is for %s, but the definition asks for %s",
			strings.Join(r.Names, " or "), s.Release))
	}
	if !flat(s) && len(r.Names) == 0 {
		out = append(out, finding.New(finding.SourceReleaseMismatch, object,
			"the release metadata has neither suite nor codename, so nothing shows that it is "+
				"for %s",
			s.Release).Rated(finding.Warning))
	}
	if r.Alias {
		out = append(out, finding.New(finding.SourceReleaseAlias, object,
			"%s is an alias that currently means %s. Machines would change release when the "+
				"alias moves", s.Release, r.Codename).
			Do("set release: %s", r.Codename))
	}
	if flat(s) {
		return out
	}
	for _, c := range s.Components {
		if !offersComponent(s, r, c) {
			out = append(out, finding.New(finding.SourceComponentMissing, object,
				"the source has no component %q", c).
				Do("choose one of: %s", strings.Join(r.Components, ", ")))
		}
	}
	for _, a := range s.Architectures {
		if len(r.Architectures) > 0 && !slices.Contains(r.Architectures, a) {
			out = append(out, finding.New(finding.SourceArchitectureMissing, object,
				"the source has no packages for the architecture %q", a).
				Do("choose one of: %s", strings.Join(r.Architectures, ", ")))
		}
	}
	return out
}

func offersComponent(s archive.Source, r *archive.Root, c string) bool {
	if slices.Contains(r.Components, c) {
		return true
	}
	// Some roots write components with a folder in front ("updates/main"), and
	// some name none at all: then the indexes themselves tell.
	for _, a := range s.Architectures {
		if len(variants(s, r, c, a)) > 0 {
			return true
		}
	}
	return false
}

var preference = []string{"xz", "zst", "gz", "", "bz2"}

// variants gives the compressions in which the root names one index.
func variants(s archive.Source, r *archive.Root, component, arch string) []archive.IndexFile {
	name := base(s) + "Packages"
	if !flat(s) {
		name = base(s) + component + "/binary-" + arch + "/Packages"
	}
	return compressed(r, name)
}

// compressed gives the compressions in which the root names a file, best first.
func compressed(r *archive.Root, name string) []archive.IndexFile {
	var out []archive.IndexFile
	for _, z := range preference {
		p := name
		if z != "" {
			p += "." + z
		}
		if e, ok := r.Entries[p]; ok {
			out = append(out, archive.IndexFile{Entry: e, Compression: z, Paths: byHash(r, e)})
		}
	}
	return out
}

// byHash gives where a file may be asked for: by its digest where the root
// offers that, which holds while upstream publishes, then by its name.
func byHash(r *archive.Root, e archive.Entry) []string {
	var paths []string
	if r.ByHash && e.SHA256 != "" {
		paths = append(paths, path.Join(path.Dir(e.Path), "by-hash/SHA256", e.SHA256))
	} else if r.ByHash && e.SHA512 != "" {
		paths = append(paths, path.Join(path.Dir(e.Path), "by-hash/SHA512", e.SHA512))
	}
	return append(paths, e.Path)
}

// Indexes implements archive.Family.
func (f Family) Indexes(s archive.Source, r *archive.Root) ([]archive.IndexChoice, error) {
	if flat(s) {
		v := variants(s, r, "", "")
		if len(v) == 0 {
			return nil, finding.New(finding.SourceMalformedIndex, "source "+s.Name,
				"the release metadata lists no Packages index")
		}
		return []archive.IndexChoice{{Files: v}}, nil
	}
	var out []archive.IndexChoice
	for _, c := range s.Components {
		for _, a := range withAll(s, r) {
			v := variants(s, r, c, a)
			if len(v) == 0 {
				if a == "all" {
					continue
				}
				if !slices.Contains(r.Components, c) && !offersComponent(s, r, c) {
					continue // told by CheckRoot
				}
				return nil, finding.New(finding.SourceArchitectureMissing, "source "+s.Name,
					"the release metadata has no index for component %s on %s", c, a).Do(
					"choose one of: %s",
					strings.Join(r.Architectures, ", "))
			}
			out = append(out, archive.IndexChoice{Component: c, Arch: a, Files: v})
		}
	}
	return out, nil
}

// withAll adds "all" where the repository keeps such packages in indexes of
// their own instead of repeating them in every architecture's.
func withAll(s archive.Source, r *archive.Root) []string {
	archs := slices.Clone(s.Architectures)
	if slices.Contains(r.Architectures, "all") &&
		!strings.Contains(r.Fields["no-support-for-architecture-all"], "Packages") {
		archs = append(archs, "all")
	}
	return archs
}

// ReadIndex implements archive.Family.
func (f Family) ReadIndex(s archive.Source, x archive.IndexChoice, plain io.Reader,
	yield func(*archive.Package, []byte) error) error {
	sr := NewStanzaReader(plain)
	in := &reading{names: text.Names{}}
	for n := 0; ; n++ {
		raw, err := sr.Next()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		p, err := parsePackage(raw, in)
		if err != nil {
			if g, ok := finding.From(err); ok && g.Object == "" {
				g.Object = "source " + s.Name
				g.Text = "package " + strconv.Itoa(n+1) + " of the index " + x.Component + "/" + x.Arch +
					": " + g.Text
				return g
			}
			return err
		}
		if p.Arch != "all" && !slices.Contains(s.Architectures, p.Arch) {
			continue // a flat repository lists every architecture in one index
		}
		p.Component, p.Ordinal = x.Component, n
		if err := yield(p, raw); err != nil {
			return err
		}
	}
}

// reading is what the stanzas of one index are read with.
type reading struct {
	fieldReader
	names text.Names
}

// plainNumber reads a number that is written with digits alone.
func plainNumber(field string, value []byte) (int64, error) {
	n, ok := text.Number(value)
	if !ok {
		return 0, finding.New(finding.SourceMalformedIndex, "", "the %s %q is not a number", field,
			text.Cut(value, 40))
	}
	return n, nil
}

// entry is a package that is being read out of a stanza.
type entry struct {
	*archive.Package
	needs
	in       *reading
	provides []byte
	sized    bool
}

// field takes one field of a stanza. A field that some readers would read on
// over its line, or take for another value than ours, is content.ambiguous.
func (p *entry) field(name, value []byte) (err error) {
	oneLine := func() (string, error) {
		if bytes.IndexByte(value, '\n') >= 0 {
			return "", archive.Ambiguous("the field %q continues on a second line: %q", name,
				text.Cut(value, 80))
		}
		return string(value), nil
	}
	switch string(name) {
	case "package":
		p.Name, err = oneLine()
	case "version":
		p.Version, err = oneLine()
	case "architecture":
		p.Arch = p.in.names.Bytes(value)
		_, err = oneLine()
	case "filename":
		p.Path, err = oneLine()
		p.Path = strings.TrimPrefix(p.Path, "./")
	case "size":
		p.Size, err = plainNumber("Size", value)
		p.sized = true
	case "sha256":
		p.SHA256, err = oneLine()
		p.SHA256 = strings.ToLower(p.SHA256)
	case "sha512":
		p.SHA512, err = oneLine()
		p.SHA512 = strings.ToLower(p.SHA512)
	case "installed-size":
		if kib, ok := text.Number(value); ok && kib < 1<<40 {
			p.InstalledSize = kib * 1024
		}
	case "source":
		s, version, _ := strings.Cut(string(value), " ")
		p.Origin = p.in.names.Get(s)
		p.OriginVersion = p.in.names.Get(strings.Trim(version, " ()"))
		_, err = oneLine()
	case "section":
		p.Section = p.in.names.Bytes(value)
		_, err = oneLine()
	case "description":
		line, _, _ := strings.Cut(string(value), "\n")
		p.Summary = line
	case "multi-arch":
		var known bool
		if p.Own, known = coexistences[string(value)]; !known {
			err = archive.Ambiguous("Multi-Arch is %q, which readers interpret differently",
				text.Cut(value, 40))
		}
	case "essential", "important", "protected":
		if v := string(value); v != "yes" && v != "no" {
			err = archive.Ambiguous("%s is %q; it must be yes or no", name, text.Cut(value, 40))
		}
		if string(name) == "essential" && string(value) == "yes" {
			p.Essential = true
			p.Groups = append(p.Groups, archive.Membership{Group: "essential"})
		}
	case "provides":
		p.provides = value
	case "depends":
		p.depends = string(value)
	case "pre-depends":
		p.preDepends = string(value)
	case "recommends":
		p.recommends = string(value)
	case "suggests":
		p.suggests = string(value)
	case "conflicts":
		p.conflicts = string(value)
	case "breaks":
		p.breaks = string(value)
	case "replaces":
		p.replaces = string(value)
	case "priority":
		switch v := string(value); v {
		case "required", "important", "standard":
			p.Groups = append(p.Groups, archive.Membership{Group: v})
		}
	case "task":
		for task := range strings.SplitSeq(string(value), ",") {
			if task = strings.TrimSpace(task); task != "" {
				p.Groups = append(p.Groups, archive.Membership{Group: p.in.names.Get(task)})
			}
		}
	}
	return err
}

func parsePackage(raw []byte, in *reading) (*archive.Package, error) {
	e := &entry{Package: &archive.Package{}, in: in}
	p := e.Package
	if err := in.each(raw, e.field); err != nil {
		return nil, err
	}
	bad := func(format string, args ...any) (*archive.Package, error) {
		return nil, finding.New(finding.SourceMalformedIndex, "", format, args...)
	}
	switch {
	case p.Name == "" || p.Version == "" || p.Arch == "":
		return bad("Package, Version or Architecture is missing")
	case !archPattern.MatchString(p.Arch):
		return bad("%q is not an architecture", text.Cut(p.Arch, 40))
	case p.Path == "":
		return bad("%s has no Filename", p.Name)
	case !strings.HasSuffix(p.Path, ".deb") && !strings.HasSuffix(p.Path, ".udeb"):
		return bad("%s has the Filename %q, which is not the path of a package", p.Name, text.Cut(p.Path, 80))
	case !e.sized:
		return bad("%s has no Size", p.Name)
	case p.SHA256 == "" && p.SHA512 == "":
		return nil, finding.New(finding.ContentWeakDigest, "", "%s has no SHA-256 or SHA-512 "+
			"checksum", p.Name)
	case p.SHA256 != "" && !text.IsHex(p.SHA256, text.SHA256), p.SHA512 != "" &&
		!text.IsHex(p.SHA512, text.SHA512):
		return bad("%s has an invalid checksum", p.Name)
	}
	if err := archive.CheckName(p.Name); err != nil {
		return nil, err
	}
	if strings.ToLower(p.Name) != p.Name {
		return nil, archive.Ambiguous("the name %q has capital letters, which clients write in "+
			"lower case",
			text.Cut(p.Name, 80))
	}
	if err := CheckVersion(p.Version); err != nil {
		return bad("%s: %v", p.Name, err)
	}
	if err := archive.CheckPath(p.Path); err != nil {
		return nil, err
	}
	e.owner = p.Name
	p.Needs = &needs{e.owner, e.preDepends, e.depends, e.recommends, e.suggests, e.conflicts, e.breaks,
		e.replaces}
	if p.Origin == "" {
		p.Origin = p.Name
	}
	if len(e.provides) > 0 {
		var err error
		if p.Provides, err = ParseProvides(string(e.provides), p.Arch); err != nil {
			return nil, err
		}
	}
	return p, nil
}

// Companions implements archive.Family: every compression of the chosen
// indexes, the small Release files beside them, and translated descriptions.
func (f Family) Companions(s archive.Source, r *archive.Root) []archive.Companion {
	var out []archive.Companion
	add := func(e archive.Entry, required bool) {
		out = append(out, archive.Companion{Entry: e, Paths: byHash(r, e),
			Required: required, Places: byHash(r, e)})
	}
	lists, err := f.Indexes(s, r)
	if err != nil {
		return nil
	}
	for _, x := range lists {
		for i, v := range x.Files {
			add(v.Entry, i == 0)
		}
		dir := path.Dir(x.Files[0].Path)
		if e, ok := r.Entries[dir+"/Release"]; ok {
			add(e, false)
		}
	}
	for _, c := range s.Components {
		for _, lang := range s.Languages {
			for _, z := range preference {
				p := base(s) + c + "/i18n/Translation-" + lang
				if z != "" {
					p += "." + z
				}
				if e, ok := r.Entries[p]; ok {
					add(e, false)
				}
			}
		}
	}
	return out
}

// Lasting implements archive.Family. Packages have their version in their name, and so have the
// files of source packages.
func (Family) Lasting(p string) bool {
	return strings.HasSuffix(p, ".deb") || strings.Contains(p, "/by-hash/") || sourceFile.MatchString(p)
}

var sourceFile = regexp.MustCompile(`_[^/]*\.(dsc|tar\.[a-z0-9]+|diff\.gz)(\.asc)?$`)

// Inspect implements archive.Family.
func (Family) Inspect(file archive.PackageFile, _ archive.Verifier) (archive.Inspected, error) {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return archive.Inspected{}, err
	}
	id, err := ReadIdentity(file)
	return archive.Inspected{Identity: id}, err
}

// Identify implements archive.Family.
func (Family) Identify(p *archive.Package) archive.Identity {
	return archive.Identity{Name: p.Name, Version: p.Version, Arch: p.Arch}
}
