package edition

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"sort"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Names of what stands beside the sources in an edition.
const (
	ManifestName = "manifest"
	SealName     = "seal.asc"
	recordName   = "edition.json" // beside the manifest, in an edition's own folder

	recordFile     = "about/edition.json"
	packagesFile   = "about/packages.jsonl"
	advisoriesFile = "about/advisories.jsonl"
	sourcesFile    = "about/source-packages.jsonl"
	readmeFile     = "about/README.txt"
	keysFolder     = "about/keys/"
	listsFolder    = "about/files/"
)

// Line is one file of an edition.
type Line struct {
	Path   string `json:"path"`
	Size   int64  `json:"size"` // bytes
	SHA256 string `json:"sha256"`
}

// Lines are files, sorted by path.
type Lines []Line

// Find gives the line of a path.
func (l Lines) Find(path string) (Line, bool) {
	i := sort.Search(len(l), func(i int) bool { return l[i].Path >= path })
	if i < len(l) && l[i].Path == path {
		return l[i], true
	}
	return Line{}, false
}

// Bytes is the size of all files.
func (l Lines) Bytes() (n int64) {
	for _, x := range l {
		n += x.Size
	}
	return n
}

// Part is the list of the files of one source, and how much they are.
type Part struct {
	Source string
	Files  int
	Bytes  int64
}

// path is where the list of a source stands.
func (p Part) path() string { return listsFolder + p.Source }

// Manifest is what the seal is over. It lists the files that are beside the sources,
// among them, for each source, the list of that source's files. Each list is checked
// by sha256sum(1) as it stands. The manifest of an edition of the format OneList lists
// every file itself, and has no parts.
type Manifest struct {
	Format int
	Lines  Lines
	Parts  []Part // by source, sorted
}

// Files is how many files the edition has, those of the parts among them.
func (m Manifest) Files() int {
	n := len(m.Lines)
	for _, p := range m.Parts {
		n += p.Files
	}
	return n
}

// Bytes is the size of all files of the edition.
func (m Manifest) Bytes() int64 {
	n := m.Lines.Bytes()
	for _, p := range m.Parts {
		n += p.Bytes
	}
	return n
}

// part gives the part that a path is in.
func (m Manifest) part(path string) (Part, bool) {
	source, _, _ := strings.Cut(path, "/")
	i := sort.Search(len(m.Parts), func(i int) bool { return m.Parts[i].Source >= source })
	if i < len(m.Parts) && m.Parts[i].Source == source {
		return m.Parts[i], true
	}
	return Part{}, false
}

// The first lines of what is written here.
const (
	manifestOne = "# stockade-manifest 1"
	manifestTwo = "# stockade-manifest 2"
	listOne     = "# stockade-files 1"
)

// text writes lines: for each file a comment with its size in bytes, and a line as
// sha256sum(1) checks it. before may write a comment of its own before that.
func (l Lines) text(b *bytes.Buffer, before func(Line)) {
	for _, x := range l {
		if before != nil {
			before(x)
		}
		fmt.Fprintf(b, "# size %d\n%s  %s\n", x.Size, x.SHA256, x.Path)
	}
}

// Text writes the manifest of an edition.
func (m Manifest) Text(e *Edition) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\n# edition %s\n# created %s\n# files %d\n# bytes %d\n", manifestTwo,
		e.Name(), e.Created.UTC().Format(time.RFC3339), m.Files(), m.Bytes())
	m.Lines.text(&b, func(l Line) {
		for _, p := range m.Parts {
			if p.path() == l.Path {
				fmt.Fprintf(&b, "# part %s files %d bytes %d\n", p.Source, p.Files, p.Bytes)
			}
		}
	})
	return b.Bytes()
}

// listText writes the list of a source's files.
func listText(source string, l Lines) []byte {
	var b bytes.Buffer
	fmt.Fprintf(&b, "%s\n# source %s\n# files %d\n# bytes %d\n", listOne, source, len(l), l.Bytes())
	l.text(&b, nil)
	return b.Bytes()
}

// Bounds of what is read.
const (
	maxLines = 4_000_000 // of one list
	maxParts = 10_000
	maxLine  = 8192 // bytes
	// maxRecord bounds edition.json of a folder that was elsewhere, in bytes.
	maxRecord = 16 << 20
)

// ReadManifest reads what Text wrote, in either format, strictly: sorted, no path
// twice, sizes and digests well formed, every path safe, each part announced and there.
func ReadManifest(r io.Reader) (Manifest, error) {
	d := &reader{what: "manifest", size: -1, files: -1, bytes: -1}
	if err := d.read(r); err != nil {
		return Manifest{}, err
	}
	var m Manifest
	switch d.head {
	case manifestOne:
		m = Manifest{Format: OneList, Lines: d.lines}
		if len(d.parts) > 0 {
			return Manifest{}, d.bad("has parts, which a manifest of that format has not")
		}
	case manifestTwo:
		m = Manifest{Format: ListBySource, Lines: d.lines, Parts: d.parts}
		if err := d.onlyAbout(); err != nil {
			return Manifest{}, err
		}
	default:
		return Manifest{}, d.bad("does not begin as a manifest that this program knows")
	}
	if d.files != m.Files() || d.bytes >= 0 && d.bytes != m.Bytes() {
		return Manifest{}, d.bad("announces %d files, and %d are listed", d.files, m.Files())
	}
	return m, nil
}

// readList reads the list of a source's files: all of them lie below its folder, and
// are as many as the manifest says.
func readList(r io.Reader, p Part) (Lines, error) {
	d := &reader{what: "list of the files of " + p.Source, size: -1, files: -1, bytes: -1}
	if err := d.read(r); err != nil {
		return nil, err
	}
	if d.head != listOne || len(d.parts) > 0 {
		return nil, d.bad("does not begin as a list of files that this program knows")
	}
	for _, l := range d.lines {
		if !strings.HasPrefix(l.Path, p.Source+"/") {
			return nil, d.bad("names %s, which is not of that source", l.Path)
		}
	}
	if len(d.lines) != p.Files || d.lines.Bytes() != p.Bytes || d.files != p.Files {
		return nil, d.bad("has %d files of %d bytes, and the manifest says %d of %d", len(d.lines),
			d.lines.Bytes(), p.Files, p.Bytes)
	}
	return d.lines, nil
}

// reader reads the lines of a manifest or of a list.
type reader struct {
	what  string
	head  string // the first line
	lines Lines
	parts []Part
	files int   // as announced; -1: not
	bytes int64 // as announced; -1: not
	n     int   // the line that is read, from 1
	size  int64 // of the file on the next line; -1: none was given
	part  *Part // that the next line is the list of
}

func (d *reader) bad(format string, args ...any) error {
	return finding.New(finding.EditionSealBad, "", "the %s %s", d.what, fmt.Sprintf(format, args...))
}

// here is bad at the line that is read.
func (d *reader) here(format string, args ...any) error {
	return finding.New(finding.EditionSealBad, "", "the %s's line %d %s", d.what, d.n,
		fmt.Sprintf(format, args...))
}

func (d *reader) read(r io.Reader) error {
	sc := bufio.NewScanner(r)
	sc.Buffer(make([]byte, 0, 4096), maxLine)
	for d.n = 1; sc.Scan(); d.n++ {
		line := sc.Text()
		var err error
		switch {
		case d.n == 1:
			d.head = line
		case strings.HasPrefix(line, "# "):
			err = d.comment(line[2:])
		case strings.HasPrefix(line, "#"):
		default:
			err = d.file(line)
		}
		if err != nil {
			return err
		}
	}
	if err := sc.Err(); err != nil {
		if f, ok := finding.Fault(err, "read the "+d.what); ok {
			return f
		}
		return d.here("cannot be read: %v", err)
	}
	if d.size >= 0 || d.part != nil {
		return d.bad("ends where a file is announced")
	}
	return nil
}

// comment reads what a comment says of the whole, or of the file on the next line.
func (d *reader) comment(text string) (err error) {
	word, rest, _ := strings.Cut(text, " ")
	switch word {
	case "size":
		if d.size >= 0 {
			return d.here("gives no size that fits")
		}
		d.size, err = d.count(rest)
	case "files":
		var n int64
		n, err = d.count(rest)
		d.files = int(n)
	case "bytes":
		d.bytes, err = d.count(rest)
	case "part":
		err = d.announce(rest)
	}
	return err
}

// count reads a number that is not negative.
func (d *reader) count(value string) (int64, error) {
	n, ok := text.Number(value)
	if !ok {
		return 0, d.here("gives no number that fits")
	}
	return n, nil
}

// announce reads that the next file is the list of a source.
func (d *reader) announce(text string) error {
	fields := strings.Fields(text)
	if len(fields) != 5 || fields[1] != "files" || fields[3] != "bytes" || d.part != nil ||
		len(d.parts) >= maxParts {
		return d.here("announces no part that fits")
	}
	files, err := d.count(fields[2])
	if err != nil {
		return err
	}
	bytes, err := d.count(fields[4])
	if err != nil {
		return err
	}
	if files > maxLines {
		return d.here("announces %d files, and a list may have %d", files, maxLines)
	}
	d.part = &Part{Source: fields[0], Files: int(files), Bytes: bytes}
	return nil
}

// file reads the line of a file.
func (d *reader) file(line string) error {
	sum, path, ok := strings.Cut(line, "  ")
	if !ok || !text.IsHex(sum, text.SHA256) || d.size < 0 {
		return d.here("is not a digest and a path with a size before it")
	}
	if err := archive.CheckPath(path); err != nil {
		return err
	}
	if len(d.lines) > 0 && d.lines[len(d.lines)-1].Path >= path {
		return d.here("is out of order or twice")
	}
	if d.lines = append(d.lines, Line{path, d.size, sum}); len(d.lines) > maxLines {
		return d.here("is one too many")
	}
	d.size = -1
	if d.part != nil {
		if d.part.path() != path {
			return d.here("is not the list of %s, which is announced", d.part.Source)
		}
		d.parts, d.part = append(d.parts, *d.part), nil
	}
	return nil
}

// onlyAbout refuses a manifest by source that lists anything but what stands beside
// the sources, or a list that is announced by nothing.
func (d *reader) onlyAbout() error {
	announced := map[string]bool{}
	for _, p := range d.parts {
		announced[p.path()] = true
	}
	for _, l := range d.lines {
		if !strings.HasPrefix(l.Path, "about/") {
			return d.bad("lists %s itself, which belongs into the list of a source", l.Path)
		}
		if strings.HasPrefix(l.Path, listsFolder) && !announced[l.Path] {
			return d.bad("has the list %s, and does not say what is in it", l.Path)
		}
	}
	return nil
}
