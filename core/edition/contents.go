package edition

import (
	"bufio"
	"bytes"
	"encoding/json"
	"io"
	"maps"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/pool"
)

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
	// Attributes are what its family alone knows of it, such as its module stream.
	Attributes map[string]string `json:"attributes,omitempty"`
	Signer     string            `json:"signer,omitempty"`    // whose signature is on the package itself
	Signature  string            `json:"signature,omitempty"` // SHA-256 of the detached one beside it
	For        string            `json:"for,omitempty"`       // why it is there: a package, or a want
	How        string            `json:"how,omitempty"`       // what For is to it: see HowRecommended
	Wanted     bool              `json:"wanted,omitempty"`
}

// itemLine is a line of the list. Until the format ListBySource, a module stream stood
// beside the other fields.
type itemLine struct {
	Item
	Stream string `json:"stream"`
}

func (l itemLine) item() Item {
	if l.Stream != "" {
		l.Attributes = map[string]string{"stream": l.Stream}
	}
	return l.Item
}

// Items reads the package list.
func (s *Sealed) Items(yield func(Item) error) error {
	return s.ItemsFrom(0, func(it Item, _ int64) error { return yield(it) })
}

// ListDigest is the SHA-256 of the package list: editions with the same one hold the same packages. It is
// empty where the manifest names no list.
func (s *Sealed) ListDigest() string {
	l, _ := s.Manifest.Lines.Find(packagesFile)
	return l.SHA256
}

// ItemsFrom reads the package list from a byte offset on, so that a page far into a
// long list costs no more than the first. yield is told where the line behind each
// package begins.
func (s *Sealed) ItemsFrom(offset int64, yield func(it Item, next int64) error) error {
	f, err := s.listFrom(offset)
	if err != nil {
		return err
	}
	defer f.Close()
	return readLines(f, packagesFile, func(l itemLine, end int64) error {
		return yield(l.item(), offset+end+1)
	})
}

// listFrom opens the package list at the beginning of a line.
func (s *Sealed) listFrom(offset int64) (pool.Blob, error) {
	f, err := s.about(packagesFile)
	if err != nil || offset == 0 {
		return f, err
	}
	var before [1]byte
	if _, err = f.ReadAt(before[:], offset-1); err == nil && before[0] == '\n' {
		if _, err = f.Seek(offset, io.SeekStart); err == nil {
			return f, nil
		}
	}
	f.Close()
	return nil, ErrNoLine
}

// about opens a file that stands beside the sources.
func (s *Sealed) about(path string) (pool.Blob, error) {
	l, ok := s.Manifest.Lines.Find(path)
	if !ok {
		return nil, finding.New(finding.EditionDamaged, "edition "+s.Name(),
			"the manifest does not list %s", path)
	}
	f, err := s.store.Open(l.SHA256)
	return f, s.of(pool.Gone(err, path))
}

// readLines reads a file of one JSON value a line; yield is told where each ends.
func readLines[T any](r io.Reader, path string, yield func(v T, end int64) error) error {
	d := json.NewDecoder(bufio.NewReaderSize(r, 256<<10))
	for {
		var v T
		if err := d.Decode(&v); err == io.EOF {
			return nil
		} else if err != nil {
			if f, ok := finding.Fault(err, "read "+path); ok {
				return f
			}
			return finding.New(finding.EditionDamaged, "", "%s cannot be read: %v", path, err)
		}
		if err := yield(v, d.InputOffset()); err != nil {
			return err
		}
	}
}

// Advisory is an advisory of a source, a line of about/advisories.jsonl.
type Advisory struct {
	Source string `json:"source"`
	archive.Advisory
}

// SecurityKind is the kind of an advisory that is about security.
const SecurityKind = "security"

// ReadAdvisories reads the advisories; there may be none.
func (s *Sealed) ReadAdvisories(yield func(Advisory) error) error {
	if _, ok := s.Manifest.Lines.Find(advisoriesFile); !ok {
		return nil
	}
	f, err := s.about(advisoriesFile)
	if err != nil {
		return err
	}
	defer f.Close()
	return readLines(f, advisoriesFile, func(a Advisory, _ int64) error { return yield(a) })
}

// Advise names the advisories about the new version of each change.
func Advise(changes []Change, all []Advisory) {
	ids := AdvisoryIDs(all)
	security := map[string]bool{} // by source and id
	for _, a := range all {
		if a.Kind == SecurityKind {
			security[a.Source+"\x00"+a.ID] = true
		}
	}
	for i, c := range changes {
		if c.NewVersion == "" {
			continue
		}
		changes[i].Advisories = ids[c.Source+"\x00"+c.Name+"\x00"+c.NewVersion+"\x00"+c.Arch]
		changes[i].Security = slices.ContainsFunc(changes[i].Advisories, func(id string) bool {
			return security[c.Source+"\x00"+id]
		})
	}
}

// Search reads the packages that have a text in their name or summary, whatever the case,
// from a byte offset on, as ItemsFrom does. Lines that cannot have it are not read.
func (s *Sealed) Search(text string, offset int64, yield func(it Item, next int64) error) error {
	text = strings.ToLower(text)
	has := func(it Item) bool {
		return strings.Contains(strings.ToLower(it.Name+" "+it.Summary), text)
	}
	if !plain(text) { // it may be written otherwise in the list
		return s.ItemsFrom(offset, func(it Item, next int64) error {
			if !has(it) {
				return nil
			}
			return yield(it, next)
		})
	}
	f, err := s.listFrom(offset)
	if err != nil {
		return err
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 256<<10)
	want, low := []byte(text), []byte(nil)
	for at := offset; ; {
		line, err := r.ReadBytes('\n')
		if len(line) == 0 && err == io.EOF {
			return nil
		}
		if err != nil && err != io.EOF {
			return finding.Doing(err, "read "+packagesFile)
		}
		at += int64(len(line))
		low = append(low[:0], line...)
		for i, c := range low {
			if 'A' <= c && c <= 'Z' {
				low[i] = c + 'a' - 'A'
			}
		}
		if !bytes.Contains(low, want) {
			continue
		}
		var l itemLine
		if err := json.Unmarshal(line, &l); err != nil {
			return unreadable(err)
		}
		if it := l.item(); has(it) {
			if err := yield(it, at); err != nil {
				return err
			}
		}
	}
}

var nameField = []byte(`"name":"`)

// ItemsCalled reads the packages whose name is asked for. Lines of others are not read.
func (s *Sealed) ItemsCalled(asked func(name string) bool, yield func(Item) error) error {
	f, err := s.listFrom(0)
	if err != nil {
		return err
	}
	defer f.Close()
	r := bufio.NewReaderSize(f, 256<<10)
	for {
		line, err := r.ReadBytes('\n')
		if len(line) == 0 && err == io.EOF {
			return nil
		}
		if err != nil && err != io.EOF {
			return finding.Doing(err, "read "+packagesFile)
		}
		if _, rest, ok := bytes.Cut(line, nameField); ok {
			name, _, ok := bytes.Cut(rest, []byte{'"'})
			if ok && !bytes.Contains(name, []byte{'\\'}) && !asked(string(name)) {
				continue
			}
		}
		var l itemLine
		if err := json.Unmarshal(line, &l); err != nil {
			return unreadable(err)
		}
		if it := l.item(); asked(it.Name) {
			if err := yield(it); err != nil {
				return err
			}
		}
	}
}

// plain tells whether a text stands in the list as it is: letters, digits, and signs that JSON
// writes as they are.
func plain(text string) bool {
	return text != "" && !strings.ContainsFunc(text, func(r rune) bool {
		return !('a' <= r && r <= 'z' || '0' <= r && r <= '9' || strings.ContainsRune("-_.+~", r))
	})
}

// AdvisoryIDs names, for each package version of a source, the advisories about
// it, by SOURCE, NAME, VERSION and ARCH with a NUL between.
func AdvisoryIDs(all []Advisory) map[string][]string {
	out := map[string][]string{}
	for _, a := range all {
		for _, p := range a.Packages {
			key := a.Source + "\x00" + p.Name + "\x00" + p.Version + "\x00" + p.Arch
			out[key] = append(out[key], a.ID)
		}
	}
	for _, k := range slices.Collect(maps.Keys(out)) {
		slices.Sort(out[k])
	}
	return out
}

// SourcePackage is a source package in an edition, a line of about/source-packages.jsonl.
type SourcePackage struct {
	Source    string       `json:"source"`
	Name      string       `json:"name"`
	Version   string       `json:"version"`
	Component string       `json:"component,omitempty"`
	Files     []SourceFile `json:"files"`
	Built     []string     `json:"built"` // names of packages of the edition that were built from it
}

// SourceFile is one file of a source package.
type SourceFile struct {
	Path   string `json:"path"` // in the edition
	Size   int64  `json:"size"`
	SHA256 string `json:"sha256"`
}

// SourcePackages reads the list of source packages; none where none came along.
func (s *Sealed) SourcePackages(yield func(SourcePackage) error) error {
	if _, ok := s.Manifest.Lines.Find(sourcesFile); !ok {
		return nil
	}
	f, err := s.about(sourcesFile)
	if err != nil {
		return err
	}
	defer f.Close()
	return readLines(f, sourcesFile, func(p SourcePackage, _ int64) error { return yield(p) })
}
