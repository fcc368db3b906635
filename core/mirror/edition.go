package mirror

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"time"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/core/pool"
	"stockade/core/solve"
	"stockade/core/trust"
)

// Edition is one sealed, immutable result of building a mirror.
type Edition struct {
	Format   int             `json:"stockade_edition"` // 1
	Mirror   string          `json:"mirror"`
	Number   int             `json:"number"`
	Created  time.Time       `json:"created"`
	Copy     string          `json:"copy"`
	SiteKey  string          `json:"site_key"` // fingerprint
	Inputs   string          `json:"inputs"`   // digest over definition and roots
	Content  string          `json:"content"`  // digest over what machines would see
	Sources  []EditionSource `json:"sources"`
	Packages int             `json:"packages"`
	// Journal is the signed head of the site's journal when the edition was made:
	// a journal that was put back to an earlier state contradicts it.
	Journal string `json:"journal,omitempty"`
	// Advisories is how many of upstream's are about packages in the edition.
	Advisories int          `json:"advisories,omitempty"`
	Findings   finding.List `json:"findings"`
	// Views are those of the groups that followed the mirror, and Proofs what was
	// proved, for them and for what no group sees.
	Views  []EditionView `json:"views,omitempty"`
	Proofs []solve.Proof `json:"proofs,omitempty"`
}

// Name gives MIRROR/NUMBER.
func (e *Edition) Name() string { return e.Mirror + "/" + strconv.Itoa(e.Number) }

// EditionSource is what an edition says of one of its sources.
type EditionSource struct {
	archive.Source
	Standing   string         `json:"standing"`
	Priority   int            `json:"priority"`
	Tailored   bool           `json:"tailored"`
	Origin     string         `json:"origin"`
	Label      string         `json:"label"` // upstream's; a tailored copy's is the source's name
	Suite      string         `json:"suite"`
	Codename   string         `json:"codename"`
	RootDate   time.Time      `json:"root_date"`
	RootDigest string         `json:"root_digest"`
	Signer     archive.Signer `json:"signer"`
	Upstream   string         `json:"upstream"`
	Streams    []string       `json:"streams,omitempty"` // module streams that were wanted
	Keys       []string       `json:"keys"`              // fingerprints that machines must trust for it
	Indexes    []EditionIndex `json:"indexes"`
	Packages   int            `json:"packages"`
}

// EditionIndex is an index of upstream's that the edition was made from.
type EditionIndex struct {
	Path   string `json:"path"`
	SHA256 string `json:"sha256"`
}

// Item is one package in an edition, a line of about/packages.jsonl.
type Item struct {
	Source    string `json:"source"`
	Name      string `json:"name"`
	Version   string `json:"version"`
	Arch      string `json:"arch"`
	Component string `json:"component,omitempty"`
	Size      int64  `json:"size"`
	SHA256    string `json:"sha256"`
	SHA512    string `json:"sha512,omitempty"` // where upstream names it by that alone
	Path      string `json:"path"`             // in the edition
	Origin    string `json:"origin,omitempty"`
	Summary   string `json:"summary,omitempty"`
	Licence   string `json:"licence,omitempty"`
	Stream    string `json:"stream,omitempty"`    // module stream
	Signer    string `json:"signer,omitempty"`    // whose signature is on the package itself
	Signature string `json:"signature,omitempty"` // SHA-256 of the detached one beside it
	For       string `json:"for,omitempty"`       // why it is there
	Wanted    bool   `json:"wanted,omitempty"`
}

// Line is one file of a manifest.
type Line struct {
	Path   string `json:"path"`
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// Manifest is the sorted list of an edition's files.
type Manifest []Line

// Names of what stands beside the sources in an edition.
const (
	ManifestName   = "manifest"
	SealName       = "seal.asc"
	editionFile    = "about/edition.json"
	packagesFile   = "about/packages.jsonl"
	advisoriesFile = "about/advisories.jsonl"
	readmeFile     = "about/README.txt"
)

// Text writes the manifest: for each file a comment with its size in bytes and
// a line as sha256sum(1) checks it.
func (m Manifest) Text(e *Edition) []byte {
	var b bytes.Buffer
	var total int64
	for _, l := range m {
		total += l.Size
	}
	fmt.Fprintf(&b, "# stockade-manifest 1\n# edition %s\n# created %s\n# files %d\n# bytes %d\n",
		e.Name(), e.Created.UTC().Format(time.RFC3339), len(m), total)
	for _, l := range m {
		fmt.Fprintf(&b, "# size %d\n%s  %s\n", l.Size, l.SHA256, l.Path)
	}
	return b.Bytes()
}

// maxManifest bounds the lines of one manifest.
const maxManifest = 4_000_000

// ReadManifest reads what Text wrote, strictly: sorted, no path twice, sizes
// and digests well formed, every path safe.
func ReadManifest(r io.Reader) (Manifest, error) {
	bad := func(n int, format string, args ...any) error {
		return finding.New("edition.seal-bad", "", "the manifest's line %d %s", n,
			fmt.Sprintf(format, args...))
	}
	sc := bufio.NewScanner(r)
	sc.Buffer(make([]byte, 0, 4096), 8192)
	var m Manifest
	size := int64(-1)
	files := -1
	for n := 1; sc.Scan(); n++ {
		line := sc.Text()
		if n == 1 {
			if line != "# stockade-manifest 1" {
				return nil, bad(n, "is not the beginning of a manifest")
			}
			continue
		}
		if rest, ok := strings.CutPrefix(line, "# size "); ok {
			v, err := strconv.ParseInt(rest, 10, 64)
			if err != nil || v < 0 || size >= 0 {
				return nil, bad(n, "gives no size that fits")
			}
			size = v
			continue
		}
		if rest, ok := strings.CutPrefix(line, "# files "); ok {
			files, _ = strconv.Atoi(rest)
			continue
		}
		if strings.HasPrefix(line, "#") {
			continue
		}
		sum, path, ok := strings.Cut(line, "  ")
		if !ok || len(sum) != 64 || strings.Trim(sum, "0123456789abcdef") != "" || size < 0 {
			return nil, bad(n, "is not a digest and a path with a size before it")
		}
		if err := archive.CheckPath(path); err != nil {
			return nil, err
		}
		if len(m) > 0 && m[len(m)-1].Path >= path {
			return nil, bad(n, "is out of order or twice")
		}
		if m = append(m, Line{path, size, sum}); len(m) > maxManifest {
			return nil, bad(n, "is one too many")
		}
		size = -1
	}
	if err := sc.Err(); err != nil {
		return nil, bad(len(m), "cannot be read: %v", err)
	}
	if files != len(m) || size >= 0 {
		return nil, bad(len(m), "is the last, and %d files are announced", files)
	}
	return m, nil
}

// Find gives the line of a path.
func (m Manifest) Find(path string) (Line, bool) {
	i := sort.Search(len(m), func(i int) bool { return m[i].Path >= path })
	if i < len(m) && m[i].Path == path {
		return m[i], true
	}
	return Line{}, false
}

// Bytes is the size of all files.
func (m Manifest) Bytes() (n int64) {
	for _, l := range m {
		n += l.Size
	}
	return n
}

// collect gathers the files of an edition while it is made.
type collect struct {
	lines   map[string]Line
	folded  map[string]string // folded paths of files
	folders map[string]string // folded paths of the folders around them, with a file in each
	caser   cases.Caser
}

func newCollect() *collect {
	return &collect{map[string]Line{}, map[string]string{}, map[string]string{}, cases.Fold()}
}

// fold gives what file systems that know no case, or write letters in one form,
// make of a path.
func (c *collect) fold(p string) string { return c.caser.String(norm.NFKC.String(p)) }

// add puts a file in. Two files of one path, of paths that differ only by case or
// by how their letters are composed, or a file where another has a folder, cannot
// lie beside each other on every file system: they are refused.
func (c *collect) add(l Line) error {
	if err := archive.CheckPath(l.Path); err != nil {
		return err
	}
	if old, twice := c.lines[l.Path]; twice {
		if old.SHA256 != l.SHA256 {
			return finding.New("content.unsafe-path", "", "two different files have the path %s", l.Path)
		}
		return nil
	}
	f := c.fold(l.Path)
	if other, twice := c.folded[f]; twice {
		return finding.New("content.unsafe-path", "",
			"the paths %s and %s differ only by case, or by how their letters are composed", other, l.Path)
	}
	if other, taken := c.folders[f]; taken {
		return finding.New("content.unsafe-path", "", "%s would be a file where %s needs a folder", l.Path,
			other)
	}
	for dir := path.Dir(f); dir != "."; dir = path.Dir(dir) {
		if other, taken := c.folded[dir]; taken {
			return finding.New("content.unsafe-path", "", "%s would be a file where %s needs a folder", other,
				l.Path)
		}
		c.folders[dir] = l.Path
	}
	c.folded[f] = l.Path
	c.lines[l.Path] = l
	return nil
}

func (c *collect) manifest() Manifest {
	m := make(Manifest, 0, len(c.lines))
	for _, l := range c.lines {
		m = append(m, l)
	}
	sort.Slice(m, func(i, j int) bool { return m[i].Path < m[j].Path })
	return m
}

// Folder is where an edition's own files lie.
func Folder(editions, mirror string, number int) string {
	return filepath.Join(editions, mirror, strconv.Itoa(number))
}

// seal writes manifest, edition.json and seal durably; the folder appears whole.
func (b *Builder) seal(e *Edition, m Manifest, about []byte) error {
	text := m.Text(e)
	signature, err := b.Site.DetachSign(text, true)
	if err != nil {
		return finding.Doing(err, "seal %s", e.Name())
	}
	final := Folder(b.Editions, e.Mirror, e.Number)
	tmp := final + ".new"
	if err := os.RemoveAll(tmp); err != nil {
		return err
	}
	if err := os.MkdirAll(tmp, 0o755); err != nil {
		return finding.Doing(err, "seal %s", e.Name())
	}
	for _, f := range []struct {
		name string
		data []byte
	}{{ManifestName, text}, {"edition.json", about}, {SealName, signature}} {
		if err := writeSynced(filepath.Join(tmp, f.name), f.data, 0o444); err != nil {
			return finding.Doing(err, "seal %s", e.Name())
		}
	}
	if err := pool.SyncDir(tmp); err != nil {
		return err
	}
	// A folder of that number without a record was left by a build that was
	// killed before its commit.
	if err := os.RemoveAll(final); err != nil {
		return err
	}
	if err := os.Rename(tmp, final); err != nil {
		return finding.Doing(err, "seal %s", e.Name())
	}
	// The folder of the mirror may be as new as the edition in it.
	return errors.Join(pool.SyncDir(filepath.Dir(final)), pool.SyncDir(b.Editions))
}

func writeSynced(path string, data []byte, mode os.FileMode) error {
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, mode)
	if err != nil {
		return err
	}
	if _, err := f.Write(data); err != nil {
		f.Close()
		return err
	}
	if err := f.Sync(); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

// ExportedName tells which edition, MIRROR/N, an exported folder says that it is.
// Nothing is verified here.
func ExportedName(dir string) (string, error) {
	raw, err := os.ReadFile(filepath.Join(dir, filepath.FromSlash(editionFile)))
	if err != nil {
		return "", err
	}
	var e Edition
	if err := json.Unmarshal(raw, &e); err != nil || e.Mirror == "" {
		return "", finding.New("edition.damaged", "", "%s in %s says no edition", editionFile, dir)
	}
	return e.Name(), nil
}

// OpenEdition reads an edition's own files and checks its seal with the site
// keys that may have made it.
func OpenEdition(dir string, keys []*trust.Certificate) (*Edition, Manifest, error) {
	unreadable := func(code, what string, err error) (*Edition, Manifest, error) {
		if f, ok := finding.Fault(err, "read "+what); ok {
			return nil, nil, f
		}
		return nil, nil, finding.New(code, "", "%s cannot be read: %v", what, err)
	}
	text, err := os.ReadFile(filepath.Join(dir, ManifestName))
	if err != nil {
		return unreadable("edition.damaged", "the manifest", err)
	}
	signature, err := os.ReadFile(filepath.Join(dir, SealName))
	if err != nil {
		return unreadable("edition.seal-bad", "the seal", err)
	}
	if _, err := sealKeyring(keys).Detached(text, signature); err != nil {
		f, _ := finding.From(err)
		return nil, nil, finding.New("edition.seal-bad", "", "the seal does not hold: %s", f.Text)
	}
	m, err := ReadManifest(bytes.NewReader(text))
	if err != nil {
		return nil, nil, err
	}
	raw, err := os.ReadFile(filepath.Join(dir, "edition.json"))
	if err != nil {
		return unreadable("edition.damaged", "edition.json", err)
	}
	l, ok := m.Find(editionFile)
	if sum := sha256.Sum256(raw); !ok || hex.EncodeToString(sum[:]) != l.SHA256 {
		return nil, nil, finding.New("edition.damaged", "", "edition.json is not what was sealed")
	}
	var e Edition
	if err := json.Unmarshal(raw, &e); err != nil {
		return nil, nil, finding.New("edition.damaged", "", "edition.json cannot be read: %v", err)
	}
	return &e, m, nil
}

func sealKeyring(keys []*trust.Certificate) *trust.Keyring {
	var known []trust.Known
	for _, k := range keys {
		known = append(known, trust.Known{Certificate: k, VouchedFor: []string{"seal"}})
	}
	return trust.NewKeyring("seal", known, nil)
}

// ReadItems reads the package list of an edition.
func ReadItems(store pool.Store, m Manifest, yield func(Item) error) error {
	return ReadItemsFrom(store, m, 0, func(it Item, _ int64) error { return yield(it) })
}

// ErrNoLine is returned for an offset at which no line of a list begins.
var ErrNoLine = errors.New("no line of the package list begins there")

// ReadItemsFrom reads the package list from a byte offset on, so that a page
// far into a long list costs no more than the first. yield is told where the
// line behind each package begins.
func ReadItemsFrom(store pool.Store, m Manifest, offset int64, yield func(it Item, next int64) error) error {
	l, ok := m.Find(packagesFile)
	if !ok {
		return finding.New("edition.damaged", "", "the manifest names no %s", packagesFile)
	}
	f, err := store.Open(l.SHA256)
	if err != nil {
		return gone(err, packagesFile)
	}
	defer f.Close()
	if offset > 0 {
		var before [1]byte
		if _, err := f.ReadAt(before[:], offset-1); err != nil || before[0] != '\n' {
			return ErrNoLine
		}
		if _, err := f.Seek(offset, io.SeekStart); err != nil {
			return ErrNoLine
		}
	}
	d := json.NewDecoder(bufio.NewReaderSize(f, 256<<10))
	for {
		var it Item
		if err := d.Decode(&it); err == io.EOF {
			return nil
		} else if err != nil {
			return finding.New("edition.damaged", "", "%s cannot be read: %v", packagesFile, err)
		}
		if err := yield(it, offset+d.InputOffset()+1); err != nil {
			return err
		}
	}
}

// maxFaults bounds the files that could not be read before a check ends.
const maxFaults = 20

// Verify reads every file of an edition and compares size and digest. progress
// may be nil. The findings name what is damaged: read whole, and something else
// than was sealed, or not there. Such a file is set aside: the next build fetches
// it anew, and meanwhile it is not served. A file that this machine could not
// read is told as that (site.fault) and stays where it is.
func Verify(store pool.Store, name string, m Manifest, stop <-chan struct{},
	progress func(files int, bytes int64)) finding.List {
	var out finding.List
	checked := map[string]bool{}
	var bytes int64
	faults := 0
	for i, l := range m {
		select {
		case <-stop:
			return append(out, finding.New("edition.damaged", "edition "+name,
				"the check was stopped after %d of %d files", i, len(m)))
		default:
		}
		if !checked[l.SHA256] {
			checked[l.SHA256] = true
			f, ok := verifyFile(store, l)
			if f.Object = "edition " + name; !ok {
				out = append(out, f)
			}
			if f.Code == finding.FaultCode {
				if faults++; faults == maxFaults {
					return append(out, finding.New(finding.FaultCode, "edition "+name,
						"the check was given up after %d of %d files: this machine could not read %d of them",
						i+1, len(m), faults))
				}
			}
		}
		bytes += l.Size
		if progress != nil {
			progress(i+1, bytes)
		}
	}
	return out
}

// verifyFile looks at one file. What is not what its name says is set aside.
func verifyFile(store pool.Store, l Line) (finding.Finding, bool) {
	damaged := func(format string, args ...any) (finding.Finding, bool) {
		return finding.New("edition.damaged", "", l.Path+": "+format, args...), false
	}
	f, err := store.Open(l.SHA256)
	if fault, ok := finding.Fault(err, "open "+l.Path); ok {
		return fault, false
	}
	if err != nil {
		return damaged("it is gone from the pool")
	}
	defer f.Close()
	h := sha256.New()
	n, err := io.Copy(h, f)
	if err != nil {
		fault, ok := finding.Fault(err, "read "+l.Path)
		if !ok {
			fault = finding.New(finding.FaultCode, "", "read %s: %v", l.Path, err)
		}
		return fault, false
	}
	sum := hex.EncodeToString(h.Sum(nil))
	if n == l.Size && sum == l.SHA256 {
		return finding.Finding{}, true
	}
	if err := store.SetAside(l.SHA256); err != nil {
		return damaged("it was changed, and cannot be set aside: %v", err)
	}
	if n != l.Size {
		return damaged("it has %d bytes, and the manifest says %d; it was set aside", n, l.Size)
	}
	return damaged("it was changed: its SHA-256 is %s; it was set aside", sum)
}

// Opener opens a file of an edition, wherever it lies.
type Opener func(l Line) (io.ReadCloser, error)

// FromPool opens the files of an edition in a pool.
func FromPool(store pool.Store) Opener {
	return func(l Line) (io.ReadCloser, error) {
		f, err := store.Open(l.SHA256)
		if err != nil {
			return nil, gone(err, l.Path)
		}
		return f, nil
	}
}

// Export lays an edition out as plain files in dir, which must be empty or not
// there. Every file is checked while it is copied; dir appears whole or not at all.
func Export(open Opener, manifest, seal []byte, m Manifest, dir string,
	progress func(files int, bytes int64)) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	if entries, err := os.ReadDir(dir); err == nil && len(entries) > 0 {
		return fmt.Errorf("%s is there and not empty: give a folder that does not exist yet", dir)
	}
	part := dir + ".part"
	if err := os.RemoveAll(part); err != nil {
		return err
	}
	if err := machine.MakeFolder(part); err != nil {
		return err
	}
	done := false
	defer func() {
		if !done {
			os.RemoveAll(part)
		}
	}()
	var bytes int64
	for i, l := range m {
		if err := exportFile(open, l, filepath.Join(part, filepath.FromSlash(l.Path))); err != nil {
			return err
		}
		bytes += l.Size
		if progress != nil {
			progress(i+1, bytes)
		}
	}
	for name, data := range map[string][]byte{ManifestName: manifest, SealName: seal} {
		to := filepath.Join(part, name)
		if err := errors.Join(writeSynced(to, data, 0o644), os.Chmod(to, 0o644)); err != nil {
			return err
		}
	}
	if err := os.Remove(dir); err != nil && !os.IsNotExist(err) {
		return err
	}
	if err := os.Rename(part, dir); err != nil {
		return err
	}
	done = true
	return pool.SyncDir(filepath.Dir(dir))
}

func exportFile(open Opener, l Line, to string) error {
	in, err := open(l)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := machine.MakeFolder(filepath.Dir(to)); err != nil {
		return err
	}
	out, err := os.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if err := out.Chmod(0o644); err != nil { // who serves it must be able to read it, whatever the umask is
		out.Close()
		return err
	}
	h := sha256.New()
	n, err := io.Copy(io.MultiWriter(out, h), in)
	if err == nil {
		err = out.Sync()
	}
	if cerr := out.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		return finding.Doing(err, "export %s", l.Path)
	}
	if n != l.Size || hex.EncodeToString(h.Sum(nil)) != l.SHA256 {
		return finding.New("edition.damaged", "", "%s was changed in the pool; the export was given up",
			l.Path)
	}
	return nil
}

// Change is one difference between two editions.
type Change struct {
	Action     string `json:"action"` // added, removed or changed
	Source     string `json:"source"`
	Name       string `json:"name"`
	Arch       string `json:"arch"`
	OldVersion string `json:"old_version,omitempty"`
	NewVersion string `json:"new_version,omitempty"`
	OldSize    int64  `json:"old_size,omitempty"` // bytes
	NewSize    int64  `json:"new_size,omitempty"`
	// Advisories are the ids of those that are about the new version.
	Advisories []string `json:"advisories,omitempty"`
}

// Diff compares the packages of two editions, by source, name and architecture;
// compare orders versions within a source. Where several versions of a package
// are held, each that is only on one side is told.
func Diff(from, to []Item, compare func(source, a, b string) int) []Change {
	type id struct{ source, name, arch string }
	group := func(items []Item) map[id][]Item {
		m := map[id][]Item{}
		for _, it := range items {
			k := id{it.Source, it.Name, it.Arch}
			m[k] = append(m[k], it)
		}
		return m
	}
	only := func(a, b []Item) (out []Item) {
		for _, x := range a {
			found := false
			for _, y := range b {
				found = found || x.SHA256 == y.SHA256
			}
			if !found {
				out = append(out, x)
			}
		}
		return out
	}
	old, now := group(from), group(to)
	keys := map[id]bool{}
	for k := range old {
		keys[k] = true
	}
	for k := range now {
		keys[k] = true
	}
	out := []Change{}
	for k := range keys {
		gone, come := only(old[k], now[k]), only(now[k], old[k])
		order := func(items []Item) {
			sort.Slice(items, func(i, j int) bool {
				return compare(k.source, items[i].Version, items[j].Version) < 0
			})
		}
		order(gone)
		order(come)
		for i := range max(len(gone), len(come)) {
			c := Change{Source: k.source, Name: k.name, Arch: k.arch}
			if i < len(gone) {
				c.OldVersion, c.OldSize, c.Action = gone[i].Version, gone[i].Size, "removed"
			}
			if i < len(come) {
				c.NewVersion, c.NewSize = come[i].Version, come[i].Size
				if c.Action == "removed" {
					c.Action = "changed"
				} else {
					c.Action = "added"
				}
			}
			out = append(out, c)
		}
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := out[i], out[j]
		if a.Name != b.Name {
			return a.Name < b.Name
		}
		if a.Arch != b.Arch {
			return a.Arch < b.Arch
		}
		return a.Source < b.Source
	})
	return out
}

// Sweep removes from the pool every file that none of the kept manifests
// names. The caller sees to it that no build runs meanwhile.
func Sweep(ctx context.Context, store pool.Store, keep func(sha256 string) bool) (files int,
	bytes int64, err error) {
	type dead struct {
		sum  string
		size int64
	}
	var all []dead
	if err := store.Each(func(sum string, size int64) error {
		if !keep(sum) {
			all = append(all, dead{sum, size})
		}
		return nil
	}); err != nil {
		return 0, 0, err
	}
	for _, d := range all {
		if err := ctx.Err(); err != nil {
			return files, bytes, err
		}
		if err := store.Remove(d.sum); err != nil {
			return files, bytes, err
		}
		files++
		bytes += d.size
	}
	return files, bytes, nil
}
