package machine

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/disk"
	"stockade/core/finding"
)

// Written is where a machine keeps what was written for it, below its root, as
// sha256sum(1) has it: with it, what is no longer needed is taken away again.
const Written = "var/lib/stockade/written"

// before is what is behind the name of a file that was there before ours.
const before = ".before-stockade"

// WriteFiles writes files below a machine's root, each whole or not at all, with
// the modes that the machine's programs need whatever the umask is. A file of
// somebody else's that is there and differs is kept beside it, once. What was
// written by an earlier call and is not among the files is taken away, unless
// somebody changed it meanwhile; what stood there before comes back.
//
// The root may be somebody else's, such as a mounted disk: no link is followed out of it, and what its
// own list says was written decides only about files below touched (see archive.Configuring): another
// list would have anything removed. On the root of this machine, "/", links are the machine's own.
//
// It gives the paths that were taken away and those that were left because
// somebody changed them.
func WriteFiles(root string, touched []string, files []archive.ClientFile) (gone, left []string,
	err error) {
	if filepath.Clean(root) == "/" {
		return WriteFilesOn(disk.OS, "/", touched, files)
	}
	root, err = filepath.Abs(root)
	if err == nil {
		_, err = disk.MakeFolder(disk.OS, root)
	}
	if err != nil {
		return nil, nil, finding.Doing(err, "write the files of the machine")
	}
	below, err := disk.NewBeneath(root)
	if err != nil {
		return nil, nil, err
	}
	defer below.Close()
	return WriteFilesOn(below, root, touched, files)
}

// maxThere bounds a file that is read where one of ours goes (bytes).
const maxThere = 16 << 20

// WriteFilesOn is WriteFiles on a file system that is handed in.
func WriteFilesOn(on disk.System, root string, touched []string, files []archive.ClientFile) (gone,
	left []string, err error) {
	w := writer{on, filepath.Clean(root), touched, map[string]bool{}}
	old, err := w.written()
	if err != nil {
		return nil, nil, err
	}
	now := map[string]string{}
	for _, f := range files {
		if err := archive.CheckPath(f.Path); err != nil {
			return nil, nil, err
		}
		if err := w.keep(f, old[f.Path]); err != nil {
			return nil, nil, err
		}
		if err := w.write(w.at(f.Path), f.Data, os.FileMode(f.Mode)); err != nil {
			return nil, nil, err
		}
		now[f.Path] = digest(f.Data)
	}
	for _, path := range slices.Sorted(maps.Keys(old)) {
		if now[path] != "" {
			continue
		}
		took, err := w.takeAway(w.at(path), old[path])
		if err != nil {
			return gone, left, err
		}
		if took {
			gone = append(gone, path)
		} else {
			left = append(left, path)
		}
	}
	// What the list says is so before the list says it.
	if err := w.durable(); err != nil {
		return gone, left, err
	}
	err = w.write(w.at(Written), writtenList(now), 0o644)
	if err == nil {
		err = w.durable()
	}
	return gone, left, err
}

// writtenList is the text of Written, from check sums by path.
func writtenList(sums map[string]string) []byte {
	var list bytes.Buffer
	for _, path := range slices.Sorted(maps.Keys(sums)) {
		list.WriteString(sums[path] + "  " + path + "\n")
	}
	return list.Bytes()
}

func digest(data []byte) string {
	sum := sha256.Sum256(data)
	return hex.EncodeToString(sum[:])
}

// writer writes below the root of a machine.
type writer struct {
	on      disk.System
	root    string
	touched []string        // below which a list of what was written decides
	changed map[string]bool // folders whose entries are not durable
}

func (w writer) at(path string) string { return filepath.Join(w.root, filepath.FromSlash(path)) }

// written reads what an earlier call wrote, by path.
func (w writer) written() (map[string]string, error) {
	out := map[string]string{}
	data, err := disk.ReadMost(w.on, w.at(Written), maxThere)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	if err != nil {
		return nil, finding.Doing(err, "read what was written for the machine before")
	}
	for lines := bufio.NewScanner(bytes.NewReader(data)); lines.Scan(); {
		sum, path, ok := strings.Cut(lines.Text(), "  ")
		if ok && len(sum) == 64 && archive.CheckPath(path) == nil && w.ours(path) {
			out[path] = sum
		}
	}
	return out, nil
}

// ours tells whether a path is one where files of ours can lie.
func (w writer) ours(path string) bool {
	return slices.ContainsFunc(w.touched, func(below string) bool {
		return path == below || strings.HasPrefix(path, below+"/")
	})
}

// keep puts a file of somebody else's beside ours, once, with the mode that it has.
func (w writer) keep(f archive.ClientFile, ours string) error {
	path := w.at(f.Path)
	old, err := disk.ReadMost(w.on, path, maxThere)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return finding.Doing(err, "read the file that is there")
	}
	byUs := digest(old) == ours || bytes.Contains(old, []byte("Written by Stockade"))
	if byUs || bytes.Equal(old, f.Data) || strings.HasSuffix(path, ".gpg") {
		return nil
	}
	if there, err := w.there(path + before); there || err != nil {
		return err
	}
	info, err := w.on.Lstat(path)
	if err != nil {
		return finding.Doing(err, "look at the file that is there")
	}
	return w.write(path+before, old, info.Mode().Perm())
}

// there tells whether something lies at a path. What cannot be looked at is not taken for nothing:
// what stood on the machine before would be lost.
func (w writer) there(path string) (bool, error) {
	_, err := w.on.Lstat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil, finding.Doing(err, "look at %s", path)
}

// takeAway removes a file that is as we wrote it, and puts back what stood there.
func (w writer) takeAway(path, ours string) (bool, error) {
	w.changed[filepath.Dir(path)] = true // also what an earlier try took away
	data, err := disk.ReadMost(w.on, path, maxThere)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	if err != nil {
		return false, finding.Doing(err, "read a file that is no longer needed")
	}
	if digest(data) != ours {
		return false, nil
	}
	kept, err := w.there(path + before)
	if err != nil {
		return false, err
	}
	if kept {
		return true, finding.Doing(w.on.Rename(path+before, path), "put back what stood there before")
	}
	return true, finding.Doing(w.on.Remove(path), "take away a file that is no longer needed")
}

// write writes a file whole, with exactly that mode: what a machine starts with must not be
// half of it after the power failed. That it has the file at all is so when the folders
// above it are durable: an earlier try may have made them.
func (w writer) write(path string, data []byte, mode os.FileMode) error {
	grown, err := disk.MakeFolder(w.on, filepath.Dir(path))
	for _, folder := range grown {
		w.changed[folder] = true
	}
	if err != nil {
		return err
	}
	for folder := filepath.Dir(path); folder != w.root; {
		folder = filepath.Dir(folder)
		w.changed[folder] = true
	}
	return finding.Doing(disk.Replace(w.on, path, data, mode), "write a file for the machine")
}

// durable makes the entries of folders durable that have others than before.
func (w writer) durable() error {
	for _, folder := range slices.Sorted(maps.Keys(w.changed)) {
		if err := disk.Sync(w.on, folder); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return finding.Doing(err, "make the files of the machine durable")
		}
		delete(w.changed, folder)
	}
	return nil
}
