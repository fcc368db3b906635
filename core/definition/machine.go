package definition

import (
	"archive/tar"
	"bytes"
	"cmp"
	"errors"
	"io"
	"maps"
	"net/url"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
)

// MachineFiles are the files of one machine, wherever they lie.
type MachineFiles interface {
	// Of gives those that a family reads, in the order of its patterns.
	Of(r archive.Reading) ([]archive.MachineFile, error)
	// Find gives the paths that fit patterns, below the machine's root.
	Find(patterns []string) ([]string, error)
	// Read reads one by its path on the machine.
	Read(path string) ([]byte, error)
}

// ReadMachine reads what a machine is configured with, of every family that reads it. root
// is where the description will find its files; arch is the architecture of sources that
// name none, that of this machine if empty.
func ReadMachine(known archive.Registry, files MachineFiles, root, arch string) (*Imported, error) {
	var all []Machine
	room := maxConfiguration
	for _, name := range known.Names() {
		r, ok := known[name].(archive.Reading)
		if !ok {
			continue
		}
		of, err := files.Of(r)
		if err != nil {
			return nil, err
		}
		if len(of) == 0 {
			continue
		}
		for _, file := range of {
			if room -= len(file.Data); room < 0 {
				return nil, finding.New(finding.ContentTooLarge, "",
					"the configuration files of the package client are larger than %d MiB "+
						"together", maxConfiguration>>20).
					Do("supply only the files that define package sources")
			}
		}
		m := Machine{Runs: runs(files), Family: known[name], Configured: r.ReadConfiguration(of), Root: root,
			ReadKey:      files.Read,
			Architecture: r.MachineArchitecture(cmp.Or(arch, runtime.GOARCH))}
		if m.Global, err = files.Find(r.Keyrings()); err != nil {
			return nil, err
		}
		if m.Keyrings, err = files.Find(r.KeyFolders()); err != nil {
			return nil, err
		}
		if err := m.databases(files); err != nil {
			return nil, err
		}
		all = append(all, m)
	}
	return Import(all...), nil
}

// Rows is implemented by files of a machine of which databases can be read (SQLite 3).
type Rows interface {
	// Rows gives the first column of what a query finds in a database, by its path on the
	// machine.
	Rows(path, query string) ([][]byte, error)
}

// databases reads the keys that a client keeps in a database.
func (m *Machine) databases(files MachineFiles) error {
	kept, ok := m.Family.(archive.KeyDatabase)
	from, readable := files.(Rows)
	if !ok || !readable {
		return nil
	}
	paths, err := files.Find(kept.KeyDatabases())
	if err != nil {
		return err
	}
	m.Databases = map[string][]byte{}
	for _, path := range paths {
		rows, err := from.Rows(path, kept.KeyRows())
		for _, row := range rows {
			var certs []byte
			if certs, err = kept.KeysOf(row); err != nil {
				break
			}
			m.Databases[path] = append(m.Databases[path], certs...)
		}
		if err != nil {
			delete(m.Databases, path)
			m.Configured.Findings = append(m.Configured.Findings, finding.New(finding.ImportToDecide, "",
				"the machine's global keyring cannot be read: %v", err).At(finding.Place{File: path}).
				Do("import the keys as files: stockade key add FILE"))
		}
	}
	return nil
}

// maxReleaseFile bounds os-release (bytes).
const maxReleaseFile = 64 << 10

// runs gives the release that a machine runs, by the name that os-release(5) has for it.
func runs(files MachineFiles) string {
	for _, path := range []string{"/etc/os-release", "/usr/lib/os-release"} {
		data, err := files.Read(path)
		if err != nil || len(data) > maxReleaseFile {
			continue
		}
		for line := range bytes.Lines(data) {
			if v, ok := bytes.CutPrefix(bytes.TrimSpace(line), []byte("VERSION_CODENAME=")); ok {
				return strings.Trim(string(v), `"'`)
			}
		}
	}
	return ""
}

// otherReleases tells of sources of another release than the machine runs. What vendors call
// a release is theirs: compared are those that come from a server that has the machine's
// release too.
func (i *Imported) otherReleases(m Machine) {
	family, ok := m.Family.(archive.Releases)
	if !ok || m.Runs == "" {
		return
	}
	hosts := func(src Source) (out []string) {
		for _, u := range src.Upstreams {
			address, _ := u.Address()
			if parsed, err := url.Parse(address); err == nil && parsed.Host != "" {
				out = append(out, strings.ToLower(parsed.Host))
			}
		}
		return out
	}
	serving := map[string]bool{}
	for _, src := range i.Set.Sources {
		if src.Family == m.Family.Name() && family.ServesRelease(src.Release, m.Runs) {
			for _, h := range hosts(src) {
				serving[h] = true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(i.Set.Sources)) {
		src := i.Set.Sources[name]
		if src.Family != m.Family.Name() || src.Disabled || strings.HasSuffix(src.Release, "/") ||
			family.ServesRelease(src.Release, m.Runs) ||
			!slices.ContainsFunc(hosts(src), func(h string) bool { return serving[h] }) {
			continue
		}
		i.Findings = append(i.Findings, finding.New(finding.SourceReleaseUnsupported, "source "+name,
			"the machine runs %s, but this source is for %s", finding.Harmless(m.Runs),
			finding.Harmless(src.Release)).
			At(i.Set.Places["sources."+name]).
			Do("remove the source, or change it to the machine's release if the line was "+
				"forgotten at an upgrade"))
	}
}

// Judge gives what is told of a machine's own files as they are: what reading them told, and
// what is told of any such description. read reads files that the description names. What a
// person has yet to decide is no matter of a machine's files.
func (i *Imported) Judge(known archive.Registry, now time.Time, read func(path string) ([]byte,
	error)) finding.List {
	checked := Check(i.Set, Surroundings{Families: known, Now: now, ReadFile: func(path string) ([]byte,
		error) {
		for name, raw := range i.Keys { // that stand in the files themselves
			if strings.HasSuffix(filepath.ToSlash(path), "/"+name) {
				return raw, nil
			}
		}
		return read(path)
	}})
	found := append(slices.Clone(i.Findings), slices.DeleteFunc(checked, func(f finding.Finding) bool {
		return f.Code == finding.KeyUnvouched ||
			f.Code == finding.KeyMissing // keyrings that lack are told already
	})...)
	for n, f := range found { // nothing protects what such a source sends
		if f.Code == finding.SourcePlainHTTP && i.unchecked[strings.TrimPrefix(f.Object, "source ")] {
			f.Text += ", and the machine accepts it without checking who signed it"
			found[n] = f.Rated(finding.Error).Do("make the machine check the signature, and " +
				"use https")
		}
	}
	found.Sort()
	return found
}

// Unpacked are files of a machine in memory, by their paths below its root, or by their
// names alone.
type Unpacked map[string][]byte

// Unpacking gathers a machine's files out of archives and files, with bounds over all of them.
type Unpacking struct {
	Files   Unpacked
	total   int64 // bytes of Files
	read    int64 // bytes that came out of archives
	members int
}

// NewUnpacking begins without files.
func NewUnpacking() *Unpacking { return &Unpacking{Files: Unpacked{}} }

// Add adds one under the path that somebody gave it: what stands before etc/ or usr/ is
// where a copy lay.
func (u *Unpacking) Add(name string, data []byte) error {
	if u.total += int64(len(data)); u.total > maxUnpacked {
		return finding.New(finding.ContentTooLarge, "", "the files are larger than %d MiB together",
			maxUnpacked>>20).Do("supply only the configuration files of the package client")
	}
	u.Files[below(name)] = data
	return nil
}

// Limits on a machine's files.
const (
	maxConfiguration = 4 << 20  // bytes, of all that package clients are configured with
	maxUnpacked      = 16 << 20 // bytes, of all that are read, out of all archives
	maxUnpackedFile  = 4 << 20
	maxUnpackedFiles = 20_000    // members that are looked at
	maxPacked        = 256 << 20 // bytes, unpacked, of the whole archive
)

// IsPacked tells whether a file is called as archives are.
func IsPacked(name string) bool {
	base := strings.ToLower(path.Base(name))
	return strings.HasSuffix(base, ".tar") || strings.Contains(base, ".tar.") || strings.HasSuffix(base,
		".tgz") || strings.HasSuffix(base, ".txz")
}

// Unpack adds what an archive has of a machine's root, or of its /etc: tar, as it is or compressed
// with gzip, xz or zstd. Taken are plain files that a family could read, and what looks like a keyring;
// links and devices are not followed. The bounds are for all archives together.
func (u *Unpacking) Unpack(known archive.Registry, data []byte) error {
	plain, err := archive.Decompress(bytes.NewReader(data), packing(data), max(maxPacked-u.read, 1))
	if err != nil {
		return finding.New(finding.DefineSyntax, "", "the archive cannot be read: %v", err)
	}
	defer plain.Close()
	counted := &counter{r: plain}
	defer func() { u.read += counted.n }()
	for t := tar.NewReader(counted); ; {
		h, err := t.Next()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return finding.New(finding.DefineSyntax, "", "the archive cannot be read: %v", err).
				Do("make the archive with tar: tar -czf etc.tar.gz -C / etc")
		}
		if u.members++; u.members > maxUnpackedFiles {
			return finding.New(finding.ContentTooLarge, "", "the archives have more than %d members",
				maxUnpackedFiles).Do("pack only /etc")
		}
		name := below(h.Name)
		if h.Typeflag != tar.TypeReg || h.Size > maxUnpackedFile {
			continue
		}
		if !known.Reads(name) {
			if name = "etc/" + name; !known.Reads(name) { // it may have been packed within /etc
				continue
			}
		}
		if u.total += h.Size; u.total > maxUnpacked {
			return finding.New(finding.ContentTooLarge, "",
				"the files in the archives are larger than %d MiB",
				maxUnpacked>>20).Do("pack only /etc")
		}
		if u.Files[name], err = io.ReadAll(io.LimitReader(t, maxUnpackedFile)); err != nil {
			return finding.New(finding.DefineSyntax, "", "the archive is truncated in %s",
				finding.Harmless(name))
		}
	}
	return nil
}

// counter counts what is read.
type counter struct {
	r io.Reader
	n int64
}

// Read implements io.Reader.
func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

// packing tells by its first bytes how an archive is compressed.
func packing(data []byte) string {
	for magic, name := range map[string]string{"\x1f\x8b": "gz", "\xfd7zXZ": "xz",
		"\x28\xb5\x2f\xfd": "zst"} {
		if bytes.HasPrefix(data, []byte(magic)) {
			return name
		}
	}
	return ""
}

// below gives the path on the machine: what stands before etc/ or usr/ is where somebody
// laid the copy.
func below(name string) string {
	name = strings.TrimPrefix(path.Clean("/"+name), "/")
	for _, top := range []string{"etc/", "usr/"} {
		if i := strings.Index("/"+name, "/"+top); i >= 0 {
			return name[i:]
		}
	}
	return name
}

// Of implements MachineFiles.
func (u Unpacked) Of(r archive.Reading) (out []archive.MachineFile, err error) {
	paths, err := u.Find(r.Configuration()) // in the order of the patterns
	if err != nil {
		return nil, err
	}
	for _, name := range slices.Sorted(maps.Keys(u)) {
		if !strings.Contains(name, "/") && archive.ReadsFile(r, name) {
			paths = append(paths, "/"+name)
		}
	}
	for _, file := range paths {
		name := strings.TrimPrefix(file, "/")
		out = append(out, archive.MachineFile{Path: name, Name: name, Data: u[name]})
	}
	return out, nil
}

// Find implements MachineFiles.
func (u Unpacked) Find(patterns []string) (out []string, err error) {
	names := slices.Sorted(maps.Keys(u))
	for _, pattern := range patterns {
		for _, name := range names {
			if ok, err := path.Match(pattern, name); ok && err == nil && !slices.Contains(out, "/"+name) {
				out = append(out, "/"+name)
			}
		}
	}
	return out, nil
}

// Read implements MachineFiles.
func (u Unpacked) Read(file string) ([]byte, error) {
	if data, ok := u[below(file)]; ok {
		return data, nil
	}
	return nil, errors.New("the file is not among those that were supplied")
}
