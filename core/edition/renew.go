package edition

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/finding"
)

// Renewed says what bringing an export up to date came to.
type Renewed struct {
	Kept, Written, Removed int
	Bytes                  int64 // written
}

const (
	// underWay stands in an export while it is brought up to date, and lists what it
	// held before: what is interrupted goes on from it.
	underWay = "being-renewed.txt"
	// beside ends the name of what takes an older file's place at the end.
	beside = ".stockade-renewed"
)

// Renew brings dir, which Export or Renew laid out before, up to date with another
// edition: what it has already is read and kept, only what it lacks or has otherwise
// is written, and what the other edition does not have goes. What is in the folder
// beside that stays.
//
// New files come first, then the manifest and the seal go, what has changed takes its
// place, and the new manifest and seal come last: a folder that says that it is whole
// is so. Interrupted, it says in being-renewed.txt that it is not, and the next Renew
// goes on. Links are not followed: dir may be a medium that was elsewhere.
func Renew(on disk.System, open Opener, manifest, seal []byte, dir string,
	progress func(files, of int, bytes int64)) (Renewed, error) {
	m, err := ReadManifest(bytes.NewReader(manifest))
	if err != nil {
		return Renewed{}, err
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return Renewed{}, err
	}
	r := &renewal{on: on, open: open, m: m, dir: dir, progress: progress, has: map[string]bool{},
		folders: map[string]bool{dir: true}}
	if err = r.everything(manifest, seal); err != nil {
		err = finding.Doing(err, "bring %s up to date", dir)
	}
	return r.out, err
}

type renewal struct {
	on       disk.System
	open     Opener
	m        Manifest
	dir      string
	progress func(files, of int, bytes int64)
	has      map[string]bool // paths of the new edition
	folders  map[string]bool // that are known to be folders, and are to be synced
	changed  []string        // paths whose new file stands beside the old
	files    int
	bytes    int64
	out      Renewed
}

func (r *renewal) at(p string) string { return filepath.Join(r.dir, filepath.FromSlash(p)) }

func (r *renewal) everything(manifest, seal []byte) error {
	before, err := r.before()
	if err != nil {
		return err
	}
	if err := disk.Replace(r.on, r.at(underWay), noteOf(before), 0o644); err != nil {
		return err
	}
	if err := r.all(r.m.Lines); err != nil {
		return err
	}
	for _, p := range r.m.Parts {
		lines, err := r.list(p)
		if err != nil {
			return err
		}
		if err := r.all(lines); err != nil {
			return err
		}
	}
	for _, name := range []string{ManifestName, SealName} {
		if err := r.remove(name); err != nil {
			return err
		}
	}
	if err := r.sync(); err != nil {
		return err
	}
	for _, p := range r.changed {
		if err := r.on.Rename(r.at(p+beside), r.at(p)); err != nil {
			return err
		}
	}
	if err := r.drop(before); err != nil {
		return err
	}
	if err := r.tidy(); err != nil {
		return err
	}
	if err := r.sync(); err != nil {
		return err
	}
	for _, f := range []struct {
		name string
		data []byte
	}{{SealName, seal}, {ManifestName, manifest}} {
		if err := disk.Replace(r.on, r.at(f.name), f.data, 0o644); err != nil {
			return err
		}
	}
	if err := r.remove(underWay); err != nil {
		return err
	}
	return disk.Sync(r.on, r.dir)
}

// noteOf is the text of being-renewed.txt.
func noteOf(before []string) []byte {
	var b bytes.Buffer
	b.WriteString("# This folder is being brought up to date, and is not whole. Export to it again to go " +
		"on.\n# It held:\n")
	for _, p := range before {
		b.WriteString(p + "\n")
	}
	return b.Bytes()
}

// before gives the paths that the export held: as its manifest says, and as an
// interrupted Renew noted.
func (r *renewal) before() ([]string, error) {
	paths := map[string]bool{}
	note, err := plainFile(r.on, r.at(underWay))
	interrupted := err == nil
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if interrupted {
		defer note.Close()
		sc := bufio.NewScanner(note)
		for sc.Scan() {
			// It lies on the medium: it decides about nothing but what an edition can have.
			if p := sc.Text(); !strings.HasPrefix(p, "#") && archive.CheckPath(p) == nil && ofEdition(p) {
				paths[p] = true
			}
		}
		if err := sc.Err(); err != nil {
			return nil, finding.Doing(err, "read %s", r.at(underWay))
		}
	}
	manifest, err := plainFile(r.on, r.at(ManifestName))
	if errors.Is(err, fs.ErrNotExist) && interrupted {
		return slices.Sorted(maps.Keys(paths)), nil
	}
	if errors.Is(err, fs.ErrNotExist) {
		return nil, finding.New(finding.EditionDamaged, "", "%s has no manifest, so it is not "+
			"an export", r.dir).
			Do("export to a folder that does not exist yet")
	}
	if err != nil {
		return nil, err
	}
	defer manifest.Close()
	m, err := ReadManifest(manifest)
	if err != nil {
		return nil, err
	}
	for _, l := range m.Lines {
		paths[l.Path] = true
	}
	for _, p := range m.Parts {
		line, _ := m.Lines.Find(p.path())
		lines, err := r.listed(p, line)
		if _, fault := finding.Fault(err, ""); fault {
			return nil, err
		} else if err != nil {
			continue // what it lists stays: it cannot be told whose it is
		}
		for _, l := range lines {
			paths[l.Path] = true
		}
	}
	return slices.Sorted(maps.Keys(paths)), nil
}

// ofEdition tells whether a path is one that an edition can have: below the name of a source, or about/.
func ofEdition(p string) bool {
	first, _, below := strings.Cut(p, "/")
	return below && (first == "about" || definition.IsName(first) &&
		!slices.Contains(definition.Reserved, first))
}

// plainFile opens a file of a medium that was elsewhere: a link there may lead to a
// device, and a pipe has no end.
func plainFile(on disk.System, name string) (disk.File, error) {
	st, err := on.Lstat(name)
	if err != nil {
		return nil, err
	}
	if !st.Mode().IsRegular() {
		return nil, finding.New(finding.EditionDamaged, "", "%s is not a regular file", name).
			Do("check what it is, or export to a folder that does not exist yet")
	}
	return disk.Open(on, name)
}

// listed reads the list of a source of the export as it was.
func (r *renewal) listed(p Part, line Line) (Lines, error) {
	f, err := plainFile(r.on, r.at(p.path()))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return checkedList(f, line, p)
}

func (r *renewal) all(lines Lines) error {
	for _, l := range lines {
		if err := r.one(l); err != nil {
			return err
		}
		r.files++
		r.bytes += l.Size
		if r.progress != nil {
			r.progress(r.files, r.m.Files(), r.bytes)
		}
	}
	return nil
}

// list reads the list of a source that was compared or written already.
func (r *renewal) list(p Part) (Lines, error) {
	at := r.at(p.path())
	if slices.Contains(r.changed, p.path()) {
		at += beside
	}
	f, err := disk.Open(r.on, at)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	line, _ := r.m.Lines.Find(p.path())
	return checkedList(f, line, p)
}

// one keeps a file that is what it should be, or writes it.
func (r *renewal) one(l Line) error {
	r.has[l.Path] = true
	if err := r.folder(path.Dir(l.Path)); err != nil {
		return err
	}
	at := r.at(l.Path)
	st, err := r.on.Lstat(at)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	there := err == nil
	if there && st.Mode().IsRegular() && st.Size() == l.Size {
		same, err := r.same(l)
		if err != nil {
			return err
		}
		if same {
			r.out.Kept++
			return nil
		}
	}
	if there && st.IsDir() {
		return fmt.Errorf("%s is a folder, but a file belongs there: remove the folder", at)
	}
	to := at + beside
	if err := r.on.Remove(to); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := lay(r.on, r.open, l, to); err != nil {
		return errors.Join(err, r.on.Remove(to))
	}
	r.out.Written++
	r.out.Bytes += l.Size
	if there {
		r.changed = append(r.changed, l.Path)
		return nil
	}
	return r.on.Rename(to, at)
}

// same tells whether a file is what a line says.
func (r *renewal) same(l Line) (bool, error) {
	f, err := disk.Open(r.on, r.at(l.Path))
	if err != nil {
		return false, err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return false, finding.Doing(err, "read %s", l.Path)
	}
	return hex.EncodeToString(h.Sum(nil)) == l.SHA256, nil
}

// folder makes a folder below dir, and refuses what is none, a link to one included.
func (r *renewal) folder(p string) error {
	at := r.dir
	for part := range strings.SplitSeq(p, "/") {
		if part == "." {
			continue
		}
		above := at
		at = filepath.Join(at, part)
		if r.folders[at] {
			continue
		}
		st, err := r.on.Lstat(at)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			if err := r.on.Mkdir(at, 0o755); err != nil {
				return err
			}
			r.folders[above] = true
		case err != nil:
			return err
		case !st.IsDir():
			return fmt.Errorf("%s is not a folder, so Stockade writes nothing through it: "+
				"remove it", at)
		}
		r.folders[at] = true
	}
	return nil
}

// drop removes what the export held and the new edition does not have, and folders
// that are empty after that.
func (r *renewal) drop(before []string) error {
	emptied := map[string]bool{}
	for _, p := range before {
		if r.has[p] || p == ManifestName || p == SealName {
			continue
		}
		real, err := r.real(path.Dir(p))
		if err != nil {
			return err
		}
		if !real {
			continue
		}
		if err := r.remove(p); err != nil {
			return err
		}
		r.out.Removed++
		emptied[path.Dir(p)] = true
	}
	for p := range emptied {
		for ; p != "."; p = path.Dir(p) {
			if entries, err := r.on.ReadDir(r.at(p)); err != nil || len(entries) > 0 {
				break
			}
			if err := r.on.Remove(r.at(p)); err != nil {
				return err
			}
			delete(r.folders, r.at(p))
		}
	}
	return nil
}

// tidy removes what a Renew that was interrupted left beside files.
func (r *renewal) tidy() error {
	for folder := range r.folders {
		entries, err := r.on.ReadDir(folder)
		if err != nil {
			return err
		}
		for _, e := range entries {
			if strings.HasSuffix(e.Name(), beside) {
				if err := r.on.Remove(filepath.Join(folder, e.Name())); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// real tells whether every part of a path is a folder, and no link to one.
func (r *renewal) real(p string) (bool, error) {
	at := r.dir
	for part := range strings.SplitSeq(p, "/") {
		at = filepath.Join(at, part)
		st, err := r.on.Lstat(at)
		if errors.Is(err, fs.ErrNotExist) {
			return false, nil
		}
		if err != nil || !st.IsDir() {
			return false, finding.Doing(err, "look at %s", at)
		}
	}
	return true, nil
}

func (r *renewal) remove(p string) error {
	if err := r.on.Remove(r.at(p)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return nil
}

// sync makes what came and went durable.
func (r *renewal) sync() error {
	for _, f := range slices.Sorted(maps.Keys(r.folders)) {
		if err := disk.Sync(r.on, f); err != nil {
			return err
		}
	}
	return nil
}
