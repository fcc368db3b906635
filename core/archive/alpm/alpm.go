// Package alpm is the alpm family: sync databases, signed detached, and the
// packages that they name, as pacman reads them.
//
// It trusts nothing that it reads. Each database is its own root: it is
// believed only through the Verifier that is handed in. Packages are verified
// by the digests of the database and by signatures of their own, which must
// come from the same Verifier.
package alpm

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
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

// Family implements archive.Family for sync databases.
type Family struct{}

var (
	_ archive.Family       = Family{}
	_ archive.Housed       = Family{}
	_ archive.SignedBeside = Family{}
	_ archive.Listing      = Family{}
)

// sigSuffix is behind the name of what a file is a signature of.
const sigSuffix = ".sig"

// SignatureOf implements archive.SignedBeside.
func (Family) SignatureOf(path string) string { return path + sigSuffix }

// ServerOf implements archive.Listing: the client's own lists have "Server = URL" on
// each line, in which $repo begins what the client fills in (pacman.conf(5)).
func (Family) ServerOf(line string) string {
	if name, value, ok := strings.Cut(line, "="); ok && strings.TrimSpace(name) == "Server" {
		line = strings.TrimSpace(value)
	}
	line, _, _ = strings.Cut(line, "$repo")
	return line
}

// Name implements archive.Family.
func (Family) Name() string { return "alpm" }

// CompareVersions implements archive.Matching.
func (Family) CompareVersions(a, b string) int { return CompareVersions(a, b) }

// CheckVersion implements archive.Matching.
func (Family) CheckVersion(v string) error { return CheckVersion(v) }

// Meets implements archive.Matching: by its own name; and by what it provides, of which
// only one exact version meets a versioned relation. Its own name in another version
// does not count: the client looks at names alone.
func (Family) Meets(p *archive.Package, at int, r archive.Relation) bool {
	if at == archive.Itself {
		return r.Op == archive.Any || r.Op.Holds(CompareVersions(p.Version, r.Version))
	}
	v := p.Provides[at]
	if r.Real || v.Name == p.Name {
		return false
	}
	return r.Op == archive.Any || v.Op == archive.Equal && r.Op.Holds(CompareVersions(v.Version, r.Version))
}

func rank(packageArch, machineArch string) int {
	if packageArch == machineArch || packageArch == "any" {
		return 0
	}
	// Later levels of one architecture run what is made for earlier ones.
	levels := []string{"x86_64", "x86_64_v2", "x86_64_v3", "x86_64_v4"}
	if p, m := slices.Index(levels, packageArch), slices.Index(levels, machineArch); p >= 0 && m > p {
		return m - p
	}
	return -1
}

// Rank implements archive.Matching.
func (Family) Rank(packageArch, machineArch string) int { return rank(packageArch, machineArch) }

// Exclusive implements archive.Matching.
func (Family) Exclusive(a, b *archive.Package) bool { return true }

var (
	namePattern = regexp.MustCompile(`^[A-Za-z0-9@_+][A-Za-z0-9@._+-]{0,254}$`)
	archPattern = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)
)

// folder is where the database and the packages of one component lie, relative
// to the upstream's base: COMPONENT/os/ARCHITECTURE, or what a release that
// ends in a slash says, with $component and $arch in it.
func folder(s archive.Source, component, arch string) string {
	if s.Release == "" {
		return component + "/os/" + arch
	}
	return strings.Trim(strings.TrimPrefix(strings.NewReplacer("$component", component, "$arch",
		arch).Replace(s.Release), "./"), "/")
}

func database(s archive.Source, component, arch string) string {
	return path.Join(folder(s, component, arch), component+".db")
}

// CheckSource implements archive.Family.
func (Family) CheckSource(s archive.Source) finding.List {
	var out finding.List
	add := func(field string, code finding.Code, format string, args ...any) {
		f := finding.New(code, "source "+s.Name, format, args...)
		f.Field = field
		out = append(out, f)
	}
	if len(s.Components) == 0 {
		add("components", finding.DefineMissingField,
			"an alpm source needs components, which name its databases, such as [core]")
	}
	if len(s.Architectures) == 0 {
		add("architectures", finding.DefineMissingField,
			"an alpm source needs architectures, such as [x86_64]")
	}
	if s.Release != "" && !strings.HasSuffix(s.Release, "/") {
		add("release", finding.DefineBadValue,
			"the alpm family has no releases. Where the databases are not in "+
				"COMPONENT/os/ARCHITECTURE, release is their folder and ends in a slash, such "+
				"as $component/$arch/")
	}
	for _, c := range s.Components {
		if !namePattern.MatchString(c) || c == "options" || c == "local" {
			add("components", finding.DefineBadValue,
				"the component %q is not a valid name of a database",
				c)
		}
	}
	for _, a := range s.Architectures {
		switch {
		case a == "any":
			add("architectures", finding.DefineBadValue,
				"any is not an architecture of a machine. Packages for all architectures are "+
					"always included")
		case !archPattern.MatchString(a):
			add("architectures", finding.DefineBadValue, "%q is not an alpm architecture", a)
		}
	}
	for _, l := range s.Languages {
		if archive.CheckWord("language", l) != nil {
			add("languages", finding.DefineBadValue, "%q is not a language such as en or pt_BR", l)
		}
	}
	if len(out) == 0 {
		for _, c := range s.Components {
			for _, a := range s.Architectures {
				if p := database(s, c, a); archive.CheckPath(p) != nil ||
					archive.CheckWord("folder", p) != nil {
					add("release", finding.DefineBadValue,
						"the release %q is not a folder below the upstream",
						s.Release)
					return out
				}
			}
		}
	}
	return out
}

// Roots implements archive.Family: every database with its signature.
func (Family) Roots(s archive.Source) []archive.RootChoice {
	var all archive.RootChoice
	seen := map[string]bool{}
	for _, c := range s.Components {
		for _, a := range s.Architectures {
			if p := database(s, c, a); !seen[p] {
				seen[p] = true
				all = append(all, archive.RootFile{Path: p}, archive.RootFile{Path: p + sigSuffix, Signs: p})
			}
		}
	}
	return []archive.RootChoice{all}
}

// ReadRoot implements archive.Family. A database has no date of its own: that
// of its signature is taken, for each one by itself.
func (f Family) ReadRoot(s archive.Source, choice archive.RootChoice, files map[string][]byte,
	v archive.Verifier) (*archive.Root, error) {
	r := &archive.Root{
		Entries:    map[string]archive.Entry{},
		Fields:     map[string]string{},
		Dates:      map[string]time.Time{},
		Components: slices.Clone(s.Components),
	}
	archs := map[string]bool{}
	for _, file := range choice {
		r.Paths = append(r.Paths, file.Path)
		if file.Signs != "" {
			continue
		}
		data := files[file.Path]
		by, err := v.Detached(data, files[file.Path+sigSuffix])
		if err != nil {
			return nil, err
		}
		if by.At.After(r.Date) {
			r.Date, r.Signer = by.At, by
		}
		if r.Oldest.IsZero() || by.At.Before(r.Oldest) {
			r.Oldest, r.OldestPath = by.At, file.Path
		}
		r.Dates[file.Path] = by.At
		sum := sha256.Sum256(data)
		r.Entries[file.Path] = archive.Entry{Path: file.Path, Size: int64(len(data)),
			SHA256: hex.EncodeToString(sum[:])}
		r.Fields["compression:"+file.Path] = archive.Sniff(data)
		plain, err := archive.Decompress(bytes.NewReader(data), archive.Sniff(data), maxPlain)
		if err != nil {
			return nil, err
		}
		err = eachEntry(plain, func(_ string, desc []byte) error {
			if i := bytes.Index(desc, []byte("%ARCH%\n")); i >= 0 {
				word, _, _ := bytes.Cut(desc[i+7:], []byte("\n"))
				if len(archs) < 32 {
					archs[string(word)] = true
				}
			}
			return nil
		})
		plain.Close()
		if err != nil {
			return nil, err
		}
	}
	for a := range archs {
		if a != "any" {
			r.Architectures = append(r.Architectures, a)
		}
	}
	slices.Sort(r.Architectures)
	return r, nil
}

// CheckRoot implements archive.Family.
func (Family) CheckRoot(s archive.Source, r *archive.Root) finding.List {
	var out finding.List
	for _, a := range s.Architectures {
		if len(r.Architectures) > 0 && !slices.ContainsFunc(r.Architectures, func(p string) bool {
			return rank(p, a) >= 0
		}) {
			out = append(out, finding.New(finding.SourceArchitectureMissing, "source "+s.Name,
				"the databases have no packages for the architecture %q", a).
				Do("choose one of these architectures: %s",
					finding.Harmless(strings.Join(r.Architectures, ", "))))
		}
	}
	return out
}

// Indexes implements archive.Family: the databases themselves.
func (Family) Indexes(s archive.Source, r *archive.Root) ([]archive.IndexChoice, error) {
	var out []archive.IndexChoice
	seen := map[string]bool{}
	for _, c := range s.Components {
		for _, a := range s.Architectures {
			p := database(s, c, a)
			e, ok := r.Entries[p]
			if !ok {
				return nil, malformed("the database %s is missing", p)
			}
			if !seen[p] {
				seen[p] = true
				out = append(out, archive.IndexChoice{
					Component: c,
					Arch:      a,
					Files: []archive.IndexFile{{Entry: e, Compression: r.Fields["compression:"+p],
						Paths: []string{p}}},
				})
			}
		}
	}
	return out, nil
}

// ReadIndex implements archive.Family. raw is the package's description.
func (Family) ReadIndex(s archive.Source, x archive.IndexChoice, plain io.Reader,
	yield func(*archive.Package, []byte) error) error {
	n := 0
	return eachEntry(plain, func(dir string, desc []byte) error {
		p, err := ReadDescription(desc, folder(s, x.Component, x.Arch))
		if err != nil {
			if g, ok := finding.From(err); ok && g.Object == "" {
				g.Object = "source " + s.Name
				g.Text = "package " + strconv.Itoa(n+1) + " of the database " + x.Component + ": " + g.Text
				return g
			}
			return err
		}
		if dir != p.Name+"-"+p.Version {
			return malformed("the database has %s %s in the folder %q", p.Name, p.Version, text.Cut(dir, 120))
		}
		p.Component, p.Ordinal = x.Component, n
		n++
		if !slices.ContainsFunc(s.Architectures, func(a string) bool { return rank(p.Arch, a) >= 0 }) {
			return nil
		}
		return yield(p, desc)
	})
}

// Companions implements archive.Family: the databases with lists of files.
func (Family) Companions(s archive.Source, r *archive.Root) []archive.Companion {
	var out []archive.Companion
	for _, p := range slices.Sorted(func(yield func(string) bool) {
		for p := range r.Entries {
			if !yield(p) {
				return
			}
		}
	}) {
		files := strings.TrimSuffix(p, ".db") + ".files"
		out = append(out, archive.Companion{
			Entry:     archive.Entry{Path: files},
			Paths:     []string{files},
			Places:    []string{files},
			Signature: files + sigSuffix,
		})
	}
	return out
}

// SignsPackages implements archive.Family.
func (Family) SignsPackages() bool { return true }

// Lasting implements archive.Family.
func (Family) Lasting(p string) bool { return strings.Contains(path.Base(p), ".pkg.tar") }

// Identify implements archive.Family.
func (Family) Identify(p *archive.Package) archive.Identity {
	return archive.Identity{Name: p.Name, Version: p.Version, Arch: p.Arch}
}
