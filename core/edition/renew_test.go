package edition

import (
	"bytes"
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/internal/made/faults"
	"stockade/internal/must"
)

// exported lays an older edition out in dir, and gives the newer one that it is to
// become, with its manifest.
func exported(t *testing.T) (lay func(dir string), newer *sealed, manifest []byte) {
	t.Helper()
	text := func(s *sealed) []byte {
		raw, err := os.ReadFile(filepath.Join(s.folder(), ManifestName))
		must.Do(t, err)
		return raw
	}
	older := seal(t)
	before := text(older)
	newer = sealOf(t, map[string]string{
		"tarn/pool/a.deb":    "all of a", // as before
		"tarn/pool/c.deb":    "all of c", // instead of b
		"tarn/dists/Release": "root of another time",
		"kelp/new/drive.deb": "drive",
	})
	return func(dir string) {
		t.Helper()
		must.Do(t, Export(disk.OS, FromPool(older.store), before,
			[]byte("want fewer packages that exclude each other, or"), dir, nil))
	}, newer, text(newer)
}

// whole tells what of a folder is not as an edition has it.
func (s *sealed) whole(dir string) error {
	var wrong []error
	for path, want := range s.files {
		if got, err := os.ReadFile(filepath.Join(dir, path)); err != nil || string(got) != want {
			wrong = append(wrong, errors.Join(errors.New(path+" has "+string(got)), err))
		}
	}
	for _, gone := range []string{"tarn/pool/b.deb", "kelp/drive.deb", underWay, "tarn/dists/Release" +
		beside, "tarn/pool/other.deb" + beside} {
		if _, err := os.Lstat(filepath.Join(dir, gone)); !errors.Is(err, fs.ErrNotExist) {
			wrong = append(wrong, errors.New(gone+" is there"))
		}
	}
	return errors.Join(wrong...)
}

func TestAnExportIsBroughtUpToDate(t *testing.T) {
	lay, newer, manifest := exported(t)
	dir := filepath.Join(t.TempDir(), "out")
	lay(dir)
	mine := filepath.Join(dir, "tarn/pool/mine.txt")
	must.Write(t, mine, "mine")
	// An earlier try to another edition was interrupted.
	must.Write(t, filepath.Join(dir, "tarn/pool/other.deb"+beside), "o")
	opened := map[string]bool{}
	open := func(l Line) (io.ReadCloser, error) {
		opened[l.Path] = true
		return FromPool(newer.store)(l)
	}
	steps, told := 0, int64(0)
	out, err := Renew(disk.OS, open, manifest, []byte("seal"), dir, func(files, _ int, n int64) {
		if steps, told = steps+1, n; files != steps {
			t.Errorf("%d files, it is told, and it is the %dth", files, steps)
		}
	})
	must.Do(t, err)
	m, err := ReadManifest(bytes.NewReader(manifest))
	must.Do(t, err)
	if told != m.Bytes() {
		t.Errorf("%d bytes of %d were compared or written, it is told", told, m.Bytes())
	}
	if err := newer.whole(dir); err != nil {
		t.Error(err)
	}
	if opened["tarn/pool/a.deb"] || !opened["tarn/pool/c.deb"] {
		t.Errorf("what was there already was fetched, or what was not was not: %v", opened)
	}
	if out.Removed != 2 || out.Written != len(opened) || out.Kept+out.Written != steps || out.Bytes == 0 {
		t.Errorf("%+v after %d files, %d of them opened", out, steps, len(opened))
	}
	if got, err := os.ReadFile(mine); err != nil || string(got) != "mine" {
		t.Errorf("what is of no edition: %q %v", got, err)
	}
	// Again there is nothing to write.
	if out, err = Renew(disk.OS, open, manifest, []byte("seal"), dir, nil); err != nil || out.Written != 0 {
		t.Errorf("%+v %v", out, err)
	}
	// What was changed on the medium is mended, also where a link stands in its place.
	outside := filepath.Join(t.TempDir(), "outside")
	for _, spoil := range []func(path string) error{
		func(path string) error { return os.WriteFile(path, []byte("all of C"), 0o644) },
		func(path string) error {
			return errors.Join(os.WriteFile(outside, []byte("keep"), 0o644), os.Remove(path),
				os.Symlink(outside, path))
		},
	} {
		must.Do(t, spoil(filepath.Join(dir, "tarn/pool/c.deb")))
		if _, err := Renew(disk.OS, open, manifest, []byte("seal"), dir, nil); err != nil {
			t.Error(err)
		}
		if err := newer.whole(dir); err != nil {
			t.Error(err)
		}
	}
	if got, err := os.ReadFile(outside); err != nil || string(got) != "keep" {
		t.Errorf("it was written through a link: %q %v", got, err)
	}
}

func TestNothingIsWrittenThroughAFolderThatIsALink(t *testing.T) {
	lay, newer, manifest := exported(t)
	for _, link := range []string{"tarn/pool", "kelp", "about"} {
		dir, outside := filepath.Join(t.TempDir(), "out"), t.TempDir()
		lay(dir)
		victim := filepath.Join(outside, "b.deb")
		err := errors.Join(os.WriteFile(victim, []byte("keep"), 0o644), os.RemoveAll(filepath.Join(dir,
			link)), os.Symlink(outside, filepath.Join(dir, link)))
		must.Do(t, err)
		if _, err := Renew(disk.OS, FromPool(newer.store), manifest, []byte("seal"), dir, nil); err == nil ||
			!strings.Contains(err.Error(), "is not a folder") {
			t.Errorf("%s: %v", link, err)
		}
		entries, err := os.ReadDir(outside)
		if err != nil || len(entries) != 1 {
			t.Errorf("%s: outside there is %v, %v", link, entries, err)
		}
	}
	empty := t.TempDir()
	_, err := Renew(disk.OS, FromPool(newer.store), manifest, nil, empty, nil)
	if f, _ := finding.From(err); f.Code != "edition.damaged" || !strings.Contains(f.Text, "no manifest") {
		t.Errorf("a folder that is no export: %v", err)
	}
}

// What an interrupted export noted is of a medium that was elsewhere: nothing outside of it goes.
func TestANoteOnAMediumLeadsNowhereElse(t *testing.T) {
	lay, newer, manifest := exported(t)
	dir := filepath.Join(t.TempDir(), "out")
	lay(dir)
	victim, mine := filepath.Join(filepath.Dir(dir), "letter"), filepath.Join(dir, "tarn/pool/old.deb")
	must.Write(t, victim, "keep")
	must.Write(t, mine, "of an edition that was under way")
	must.Write(t, filepath.Join(dir, underWay),
		"# what was there\n../letter\n"+victim+"\ntarn/pool/old.deb\n")
	out, err := Renew(disk.OS, FromPool(newer.store), manifest, []byte("seal"), dir, nil)
	must.Do(t, err)
	if must.Read(t, victim) != "keep" || out.Removed != 3 {
		t.Errorf("%+v", out)
	}
	if _, err := os.Stat(mine); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what was under way is still there: %v", err)
	}
}

// A medium that was elsewhere may have a pipe or a link to a device where a file belongs.
func TestOnlyPlainFilesOfAnExportAreRead(t *testing.T) {
	lay, newer, manifest := exported(t)
	for _, name := range []string{ManifestName, underWay, recordFile} {
		for what, put := range map[string]func(string) error{
			"a link": func(at string) error { return os.Symlink("/dev/zero", at) },
			"a pipe": func(at string) error { return syscall.Mkfifo(at, 0o644) },
		} {
			dir := filepath.Join(t.TempDir(), "out")
			lay(dir)
			at := filepath.Join(dir, name)
			must.Do(t, os.RemoveAll(at))
			must.Do(t, put(at))
			var err error
			if name == recordFile {
				_, err = ExportedName(dir)
			} else {
				_, err = Renew(disk.OS, FromPool(newer.store), manifest, []byte("seal"), dir, nil)
			}
			if f, _ := finding.From(err); f.Code != "edition.damaged" ||
				!strings.Contains(f.Text, "is not a regular file") {
				t.Errorf("%s is %s: %v", name, what, err)
			}
		}
	}
}

// Whatever fails, a folder with a manifest is whole, and the next try ends it.
func TestEachFaultOfTheDiskWhileRenewing(t *testing.T) {
	lay, newer, manifest := exported(t)
	laid := map[string]bool{}
	calls := eachFault(t, func(on *faults.Disk, root string) error {
		dir := filepath.Join(root, "out")
		if !laid[root] {
			lay(dir)
			laid[root] = true
		}
		_, err := Renew(on, FromPool(newer.store), manifest, []byte("seal"), dir, nil)
		return err
	}, func(root, call string, err error) {
		dir := filepath.Join(root, "out")
		has, rerr := os.ReadFile(filepath.Join(dir, ManifestName))
		if rerr == nil && string(has) == string(manifest) {
			if wrong := newer.whole(dir); wrong != nil && err == nil {
				t.Errorf("%s: the folder says that it is whole: %v", call, wrong)
			}
		} else if err == nil {
			t.Errorf("%s: it is said to be up to date, and is not: %v", call, rerr)
		}
	})
	inOrder(t, calls, "sync out/tarn/pool/c.deb"+beside, "rename out/tarn/pool/c.deb"+beside+
		" out/tarn/pool/c.deb", "remove out/"+ManifestName, "sync out/tarn/pool",
		"rename out/tarn/dists/Release"+
			beside+" out/tarn/dists/Release", "remove out/tarn/pool/b.deb",
		"rename out/"+SealName+".stockade-new out/"+SealName,
		"rename out/"+ManifestName+".stockade-new out/"+ManifestName, "remove out/"+underWay)
}

// A folder where a file belongs is somebody's: it is named, and nothing in it is touched.
func TestAFolderInThePlaceOfAFileStays(t *testing.T) {
	lay, newer, manifest := exported(t)
	dir := filepath.Join(t.TempDir(), "out")
	lay(dir)
	place := filepath.Join(dir, "tarn", "dists", "Release")
	must.Do(t, os.Remove(place))
	must.Do(t, os.MkdirAll(place, 0o755))
	must.Write(t, filepath.Join(place, "theirs"), "notes")
	_, err := Renew(disk.OS, FromPool(newer.store), manifest, []byte("seal"), dir, nil)
	if err == nil ||
		!strings.Contains(err.Error(), "Release is a folder, but a file belongs there: remove the folder") {
		t.Errorf("%v", err)
	}
	if got, err := os.ReadFile(filepath.Join(place, "theirs")); err != nil || string(got) != "notes" {
		t.Errorf("what lay in it: %q %v", got, err)
	}
	must.Do(t, os.RemoveAll(place))
	if _, err := Renew(disk.OS, FromPool(newer.store), manifest, []byte("seal"), dir, nil); err != nil {
		t.Fatal(err)
	}
	if err := newer.whole(dir); err != nil {
		t.Error(err)
	}
}

// Nothing is removed that no export made: not what lies where one is put together, and not what a list on
// the medium names beside an edition.
func TestOnlyWhatAnExportMadeIsRemoved(t *testing.T) {
	lay, newer, manifest := exported(t)
	dir := filepath.Join(t.TempDir(), "out")
	kept := filepath.Join(dir+".part", "notes.txt")
	must.Do(t, os.Mkdir(dir+".part", 0o755))
	must.Do(t, os.WriteFile(kept, []byte("mine"), 0o644))
	err := Export(disk.OS, FromPool(newer.store), manifest, []byte("seal"), dir, nil)
	var occupied *Occupied
	if !errors.As(err, &occupied) {
		t.Errorf("an export goes over a folder of somebody else's: %v", err)
	}
	if _, err := os.Stat(kept); err != nil {
		t.Errorf("what lay there is gone: %v", err)
	}
	// One that an export left is taken away by the next one.
	must.Do(t, os.WriteFile(filepath.Join(dir+".part", partMark), nil, 0o644))
	lay(dir)
	if _, err := os.Lstat(dir + ".part"); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what an interrupted export left is there: %v", err)
	}
	if _, err := os.Lstat(filepath.Join(dir, partMark)); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("the mark is in the export: %v", err)
	}
	// A note on the medium that names more than an edition has.
	mine := []string{"photos.tar", "machines/gatehouse/etc/apt/x", "Letters/a.txt"}
	for _, p := range mine {
		must.Do(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, p)), 0o755))
		must.Do(t, os.WriteFile(filepath.Join(dir, p), []byte("mine"), 0o644))
	}
	must.Do(t, os.WriteFile(filepath.Join(dir, underWay), noteOf(mine), 0o644))
	_, err = Renew(disk.OS, FromPool(newer.store), manifest, []byte("seal"), dir, nil)
	must.Do(t, err)
	for _, p := range mine {
		if _, err := os.Stat(filepath.Join(dir, p)); err != nil {
			t.Errorf("a note on the medium had %s removed: %v", p, err)
		}
	}
	for _, name := range []string{ManifestName, SealName, underWay, "about", "machines"} {
		if !slices.Contains(definition.Reserved, name) {
			t.Errorf("a source can be called %s", name)
		}
	}
}
