package edition

import (
	"path"
	"slices"
	"strings"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Collection gathers the files of an edition while it is made.
type Collection struct {
	lines   map[string]Line
	folded  map[string]string // folded paths of files
	folders map[string]string // folded paths of the folders around them, with a file in each
	caser   cases.Caser
}

// NewCollection gives an empty one.
func NewCollection() *Collection {
	return &Collection{map[string]Line{}, map[string]string{}, map[string]string{}, cases.Fold()}
}

// fold gives what file systems that know no case, or write letters in one form,
// make of a path.
func (c *Collection) fold(p string) string { return c.caser.String(norm.NFKC.String(p)) }

// Add puts a file in. Two files of one path, of paths that differ only by case or
// by how their letters are composed, or a file where another has a folder, cannot
// lie beside each other on every file system: they are refused.
func (c *Collection) Add(l Line) error {
	if err := archive.CheckPath(l.Path); err != nil {
		return err
	}
	if old, twice := c.lines[l.Path]; twice {
		if old.SHA256 != l.SHA256 {
			return finding.New(finding.ContentUnsafePath, "", "two different files have the path %s", l.Path)
		}
		return nil
	}
	f := c.fold(l.Path)
	if other, twice := c.folded[f]; twice {
		return finding.New(finding.ContentUnsafePath, "",
			"the paths %s and %s differ only in case or in the composition of characters", other, l.Path)
	}
	inTheWay := func(file, needs string) error {
		return finding.New(finding.ContentUnsafePath, "", "%s cannot be a file, because %s "+
			"needs a folder of that name", file,
			needs)
	}
	if other, taken := c.folders[f]; taken {
		return inTheWay(l.Path, other)
	}
	for dir := path.Dir(f); dir != "."; dir = path.Dir(dir) {
		if other, taken := c.folded[dir]; taken {
			return inTheWay(other, l.Path)
		}
		c.folders[dir] = l.Path
	}
	c.folded[f] = l.Path
	c.lines[l.Path] = l
	return nil
}

// sorted gives the files below a folder; "" gives all.
func (c *Collection) sorted(below string) Lines {
	var out Lines
	for p, l := range c.lines {
		if strings.HasPrefix(p, below) {
			out = append(out, l)
		}
	}
	slices.SortFunc(out, func(a, b Line) int { return strings.Compare(a.Path, b.Path) })
	return out
}

// Manifest gives the manifest of what was gathered. The list of each source's files is
// handed to put, which stores it and gives its SHA-256; it becomes a file of the
// edition itself.
func (c *Collection) Manifest(put func(list []byte) (sha256 string, err error)) (Manifest, error) {
	m := Manifest{Format: ListBySource}
	bySource := map[string]Lines{}
	for _, l := range c.sorted("") {
		source, _, _ := strings.Cut(l.Path, "/")
		if source == "about" {
			m.Lines = append(m.Lines, l)
		} else {
			bySource[source] = append(bySource[source], l)
		}
	}
	for source, lines := range bySource {
		text := listText(source, lines)
		sum, err := put(text)
		if err != nil {
			return m, err
		}
		p := Part{Source: source, Files: len(lines), Bytes: lines.Bytes()}
		m.Parts = append(m.Parts, p)
		m.Lines = append(m.Lines, Line{p.path(), int64(len(text)), sum})
	}
	slices.SortFunc(m.Parts, func(a, b Part) int { return strings.Compare(a.Source, b.Source) })
	slices.SortFunc(m.Lines, func(a, b Line) int { return strings.Compare(a.Path, b.Path) })
	return m, nil
}
