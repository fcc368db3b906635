package edition

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"syscall"

	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/core/pool"
)

// ExportedName tells which edition, MIRROR/N, an exported folder says that it is.
// Nothing is verified here.
func ExportedName(dir string) (string, error) {
	medium, err := disk.NewBeneath(dir)
	if err != nil {
		return "", err
	}
	defer medium.Close()
	f, err := plainFile(medium, filepath.Join(medium.Dir(), filepath.FromSlash(recordFile)))
	if err != nil {
		return "", err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, maxRecord))
	if err != nil {
		return "", finding.Doing(err, "read %s", recordFile)
	}
	e, err := ReadRecord(raw)
	if err != nil {
		return "", finding.New(finding.EditionDamaged, "", "%s in %s is not the record of an "+
			"edition", recordFile, dir)
	}
	return e.Name(), nil
}

// Opener opens a file of an edition, wherever it lies.
type Opener func(l Line) (io.ReadCloser, error)

// FromPool opens the files of an edition in a pool.
func FromPool(store pool.Store) Opener {
	return func(l Line) (io.ReadCloser, error) {
		f, err := store.Open(l.SHA256)
		if err != nil {
			return nil, pool.Gone(err, l.Path)
		}
		return f, nil
	}
}

// Export lays an edition out as plain files in dir, which must be empty or not
// there. Every file is checked while it is copied; dir appears whole or not at all.
// Whether the seal holds is for the caller to have checked.
func Export(on disk.System, open Opener, manifest, seal []byte, dir string,
	progress func(files, of int, bytes int64)) error {
	m, err := ReadManifest(bytes.NewReader(manifest))
	if err != nil {
		return err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return err
	}
	if err := Vacant(on, dir); err != nil {
		return err
	}
	x := &exporter{
		on: on, open: open, m: m, part: dir + ".part", progress: progress, grown: map[string]bool{},
	}
	if err := x.clear(); err != nil {
		return err
	}
	err = x.everything(manifest, seal)
	if err == nil {
		err = on.Remove(filepath.Join(x.part, partMark))
	}
	if err == nil {
		if err = on.Remove(dir); errors.Is(err, fs.ErrNotExist) {
			err = nil
		}
	}
	if err == nil {
		err = on.Rename(x.part, dir)
	}
	if err != nil {
		return errors.Join(finding.Doing(err, "export to %s", dir), on.RemoveAll(x.part))
	}
	return finding.Doing(disk.Sync(on, filepath.Dir(dir)), "export to %s", dir)
}

// partMark is in a folder while it is laid out, so that an interrupted export is known by the next one.
const partMark = ".stockade-export"

// clear removes what an interrupted export left, and refuses a folder of that name that is something
// else: nothing is removed here that no export made.
func (x *exporter) clear() error {
	doing := func(err error) error { return finding.Doing(err, "look at %s", x.part) }
	st, err := x.on.Lstat(x.part)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return doing(err)
	}
	made := st.IsDir()
	if made {
		entries, err := x.on.ReadDir(x.part)
		if err != nil {
			return doing(err)
		}
		made = len(entries) == 0 || slices.ContainsFunc(entries, func(e fs.DirEntry) bool {
			return e.Name() == partMark
		})
	}
	if !made {
		return &Occupied{fmt.Sprintf("%s already exists where the export is prepared, and no "+
			"export made it",
			x.part), "move it away, or name another folder"}
	}
	return finding.Doing(x.on.RemoveAll(x.part), "remove %s, which an interrupted export left", x.part)
}

// Occupied is why nothing can be exported to a folder, and what to do.
type Occupied struct{ Why, Way string }

// Error implements error.
func (o *Occupied) Error() string { return o.Why + ": " + o.Way }

// Vacant tells whether a folder that appears whole can appear as dir, which must be empty or not
// there: an *Occupied says why not.
func Vacant(on disk.System, dir string) error {
	info, err := on.Lstat(dir)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	doing := func(err error) error { return finding.Doing(err, "look whether %s is empty", dir) }
	if err != nil {
		return doing(err)
	}
	if !info.IsDir() {
		what := "not a folder"
		if info.Mode()&fs.ModeSymlink != 0 {
			what = "a link"
		}
		return &Occupied{fmt.Sprintf("%s already exists and is %s", dir, what),
			"name a folder that does not exist yet"}
	}
	entries, err := on.ReadDir(dir)
	if err != nil {
		return doing(err)
	}
	if len(entries) > 0 {
		return &Occupied{fmt.Sprintf("%s already exists and is not empty", dir), "name a folder that " +
			"does not exist yet. To update an earlier export, use --onto"}
	}
	above, err := on.Stat(filepath.Dir(dir))
	if err != nil {
		return doing(err)
	}
	in, ok := info.Sys().(*syscall.Stat_t)
	around, too := above.Sys().(*syscall.Stat_t)
	if ok && too && in.Dev != around.Dev {
		return &Occupied{fmt.Sprintf("a file system is mounted at %s", dir),
			"name a folder inside it"}
	}
	return nil
}

// exporter lays out one edition.
type exporter struct {
	on       disk.System
	grown    map[string]bool // folders with new entries
	open     Opener
	m        Manifest
	part     string // the folder until it is whole
	progress func(files, of int, bytes int64)
	files    int
	bytes    int64
}

func (x *exporter) everything(manifest, seal []byte) error {
	above, err := disk.MakeFolder(x.on, x.part)
	if err != nil {
		return err
	}
	for _, folder := range above { // now: a next try would take what is there as it is
		if err := disk.Sync(x.on, folder); err != nil {
			return err
		}
	}
	if err := disk.WriteNew(x.on, filepath.Join(x.part, partMark), nil, 0o644); err != nil {
		return err
	}
	if err := x.all(x.m.Lines); err != nil {
		return err
	}
	for _, p := range x.m.Parts {
		lines, err := x.list(p)
		if err != nil {
			return err
		}
		if err := x.all(lines); err != nil {
			return err
		}
	}
	x.grown[x.part] = true
	for _, f := range []struct {
		name string
		data []byte
	}{{ManifestName, manifest}, {SealName, seal}} {
		if err := disk.WriteNew(x.on, filepath.Join(x.part, f.name), f.data, 0o644); err != nil {
			return err
		}
	}
	for _, folder := range slices.Sorted(maps.Keys(x.grown)) {
		if err := disk.Sync(x.on, folder); err != nil {
			return err
		}
	}
	return nil
}

// folder makes one, and notes which have to be made durable for it.
func (x *exporter) folder(path string) error {
	grown, err := disk.MakeFolder(x.on, path)
	for _, g := range grown {
		x.grown[g] = true
	}
	x.grown[path] = true // files come into it
	return err
}

// list reads the list of a source that was laid out, and so checked, already.
func (x *exporter) list(p Part) (Lines, error) {
	f, err := disk.Open(x.on, filepath.Join(x.part, filepath.FromSlash(p.path())))
	if err != nil {
		return nil, err
	}
	defer f.Close()
	line, _ := x.m.Lines.Find(p.path())
	return checkedList(f, line, p)
}

func (x *exporter) all(lines Lines) error {
	for _, l := range lines {
		if err := x.one(l); err != nil {
			return err
		}
		x.files++
		x.bytes += l.Size
		if x.progress != nil {
			x.progress(x.files, x.m.Files(), x.bytes)
		}
	}
	return nil
}

func (x *exporter) one(l Line) error {
	to := filepath.Join(x.part, filepath.FromSlash(l.Path))
	if err := x.folder(filepath.Dir(to)); err != nil {
		return err
	}
	return lay(x.on, x.open, l, to)
}

// lay copies a file of an edition to where none is yet, and compares it on the way.
func lay(on disk.System, open Opener, l Line, to string) error {
	in, err := open(l)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := on.OpenFile(to, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if err != nil {
		return finding.Doing(err, "export %s", l.Path)
	}
	h := sha256.New()
	var n int64
	if err = out.Chmod(0o644); err == nil { // who serves it must be able to read it, whatever the umask is
		n, err = io.Copy(io.MultiWriter(out, h), in)
	}
	if err == nil {
		err = out.Sync()
	}
	if err = errors.Join(err, out.Close()); err != nil {
		return finding.Doing(err, "export %s", l.Path)
	}
	if n != l.Size || hex.EncodeToString(h.Sum(nil)) != l.SHA256 {
		return finding.New(finding.EditionDamaged, "", "%s was changed in the pool, so the "+
			"export was stopped",
			l.Path)
	}
	return nil
}
