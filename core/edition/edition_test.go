package edition

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/must"
)

// site is the key of the made-up site. Making one takes a while: there is one.
var site = sync.OnceValue(func() *trust.SiteKey {
	k, err := trust.NewKey("Skerry Reach", "", "reach@skerry.example", time.Now)
	if err != nil {
		panic(err)
	}
	return k
})

func newPool(t *testing.T) *pool.Dir {
	t.Helper()
	dir := t.TempDir()
	p, err := pool.Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	return p
}

// sealed is an edition of two sources that was sealed and is durable.
type sealed struct {
	t     *testing.T
	store *pool.Dir
	dir   string // of all editions
	files map[string]string
}

const packages = `{"source":"kelp","name":"drive","version":"1","arch":"amd64","size":5,"sha256":"d","stream":"drive:1"}
{"source":"tarn","name":"sluicectl","version":"1.4-1","arch":"amd64","size":9,"sha256":"s"}
`

func seal(t *testing.T) *sealed {
	t.Helper()
	return sealOf(t, map[string]string{
		"tarn/pool/a.deb":    "all of a",
		"tarn/pool/b.deb":    "all of b",
		"tarn/dists/Release": "root",
		"kelp/drive.deb":     "drive",
	})
}

func sealOf(t *testing.T, of map[string]string) *sealed {
	t.Helper()
	return sealWith(t, of, packages, "")
}

// sealWith seals files under lists of packages and advisories.
func sealWith(t *testing.T, of map[string]string, list, advisories string) *sealed {
	t.Helper()
	s := &sealed{t: t, store: newPool(t), dir: filepath.Join(t.TempDir(), "editions"), files: of}
	files := NewCollection()
	for path, text := range s.files {
		sum, err := s.store.Add([]byte(text))
		must.Do(t, err)
		must.Do(t, files.Add(Line{path, int64(len(text)), sum}))
	}
	e := &Edition{Format: ListBySource, Mirror: "barrage", Number: 3, Created: time.Now().UTC(),
		SiteKey: site().Certificate().Fingerprint,
		Sources: []Source{{Source: archive.Source{Name: "tarn"}}, {Source: archive.Source{Name: "kelp"}}}}
	record, err := About(e, []*trust.Certificate{site().Certificate()}, []byte(list), []byte(advisories),
		nil, files, s.store.Add)
	must.Do(t, err)
	m, err := files.Manifest(s.store.Add)
	must.Do(t, err)
	must.Do(t, s.store.Flush())
	must.Do(t, Seal(disk.OS, s.dir, e, m, record, site()))
	return s
}

func (s *sealed) folder() string { return Folder(s.dir, ID{Mirror: "barrage", Number: 3}) }

func (s *sealed) open() *Sealed {
	s.t.Helper()
	e, err := Open(s.folder(), []*trust.Certificate{site().Certificate()}, s.store)
	must.Do(s.t, err)
	return e
}

// spoil writes other bytes where a file of the pool lies.
func (s *sealed) spoil(sum, text string) {
	s.t.Helper()
	path := s.store.Path(sum)
	must.Do(s.t, errors.Join(os.Chmod(path, 0o644), os.WriteFile(path, []byte(text), 0o644)))
}

func (s *sealed) find(e *Sealed, path string) Line {
	s.t.Helper()
	l, ok, err := e.Find(path)
	if err != nil || !ok {
		s.t.Fatalf("%s: %v %v", path, ok, err)
	}
	return l
}

func TestAnEditionOpensByWhatIsAskedFor(t *testing.T) {
	s := seal(t)
	e := s.open()
	if e.ID().Site != site().Certificate().Fingerprint || e.Name() != "barrage/3" {
		t.Errorf("%+v", e.ID())
	}
	if _, ok, err := e.Find("tarn/pool/none.deb"); ok || err != nil {
		t.Errorf("%v %v", ok, err)
	}
	if _, ok, err := e.Find("moor/a.deb"); ok || err != nil {
		t.Errorf("of a source that is not in it: %v %v", ok, err)
	}
	if l := s.find(e, "tarn/pool/b.deb"); l.Size != 8 {
		t.Errorf("%+v", l)
	}
	if len(e.lists) != 1 {
		t.Errorf("%d lists were read for one source", len(e.lists))
	}
	var names []string
	if err := e.Items(func(i Item) error {
		names = append(names, i.Name+i.Attributes["stream"])
		return nil
	}); err != nil || strings.Join(names, " ") != "drivedrive:1 sluicectl" {
		t.Errorf("%v %v", names, err)
	}
	n := 0
	var size int64
	for l, err := range e.Files() {
		must.Do(t, err)
		n, size = n+1, size+l.Size
	}
	if n != e.Manifest.Files() || size != e.Manifest.Bytes() || n != len(s.files)+6 {
		t.Errorf("%d files of %d bytes, and the manifest says %d of %d", n, size, e.Manifest.Files(),
			e.Manifest.Bytes())
	}
	if found := e.Verify(nil, nil); len(found) > 0 {
		t.Errorf("%v", found)
	}
	if missing, err := e.Missing(); missing != "" || err != nil {
		t.Errorf("%q %v", missing, err)
	}
}

func TestPagesOfThePackageListBeginAtLines(t *testing.T) {
	e := seal(t).open()
	var ends []int64
	all := func(from int64) (names []string) {
		t.Helper()
		ends = nil
		must.Do(t, e.ItemsFrom(from, func(i Item, next int64) error {
			names, ends = append(names, i.Name), append(ends, next)
			return nil
		}))
		return names
	}
	if got := all(0); len(got) != 2 {
		t.Fatalf("%v", got)
	}
	if got := all(ends[0]); len(got) != 1 || got[0] != "sluicectl" {
		t.Errorf("%v", got)
	}
	for _, offset := range []int64{1, 7, 1 << 40} {
		if err := e.ItemsFrom(offset, nil); !errors.Is(err, ErrNoLine) {
			t.Errorf("%d: %v", offset, err)
		}
	}
}

// Everything that an edition is stands on the seal: what is changed on disk is found.
func TestWhatIsNotSealedIsNoEdition(t *testing.T) {
	change := func(name, old, now string) func(*sealed) {
		return func(s *sealed) {
			path := filepath.Join(s.folder(), name)
			text, err := os.ReadFile(path)
			if err != nil || !bytes.Contains(text, []byte(old)) {
				s.t.Fatalf("%v, or nothing to change", err)
			}
			err = errors.Join(os.Chmod(path, 0o644),
				os.WriteFile(path, bytes.Replace(text, []byte(old), []byte(now), 1), 0o644))
			must.Do(s.t, err)
		}
	}
	for _, c := range []struct {
		name, code, text string
		attack           func(*sealed)
	}{
		{"a manifest changed", "edition.seal-bad", "the seal is not valid",
			change(ManifestName, "files", "Files")},
		{"a seal that is none", "edition.seal-bad", "the seal is not valid", change(SealName, "BEGIN PGP",
			"BEGUN PGP")},
		{"a record changed", "edition.damaged", "was changed after the edition was sealed",
			change(recordName, "barrage",
				"barrier")},
		{"no manifest", "edition.damaged", "the manifest cannot be read",
			func(s *sealed) { must.Do(t, os.Remove(filepath.Join(s.folder(), ManifestName))) }},
		{"no seal", "edition.seal-bad", "the seal cannot be read",
			func(s *sealed) { must.Do(t, os.Remove(filepath.Join(s.folder(), SealName))) }},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := seal(t)
			c.attack(s)
			_, err := Open(s.folder(), []*trust.Certificate{site().Certificate()}, s.store)
			if f, _ := finding.From(err); string(f.Code) != c.code || !strings.Contains(f.Text, c.text) {
				t.Errorf("%v", err)
			}
		})
	}
	if _, err := Open(seal(t).folder(), nil, newPool(t)); err == nil {
		t.Error("it opens for who knows no key")
	}
}

func TestAListThatIsNotWhatWasSealedIsNotRead(t *testing.T) {
	s := seal(t)
	e := s.open()
	list := s.find(e, "about/files/tarn")
	text, err := os.ReadFile(s.store.Path(list.SHA256))
	must.Do(t, err)
	s.spoil(list.SHA256, strings.Replace(string(text), "pool/a.deb", "pool/A.deb", 1))
	_, ok, err := e.Find("tarn/pool/b.deb")
	if f, _ := finding.From(err); ok || f.Code != "edition.damaged" || f.Object != "edition barrage/3" {
		t.Errorf("%v %v", ok, err)
	}
	if _, err := e.Missing(); err == nil {
		t.Error("nothing is said to be missing, though a list cannot be read")
	}
	found := e.Verify(nil, nil)
	if !slices.ContainsFunc(found, func(f finding.Finding) bool {
		return strings.Contains(f.Text, "the files of tarn that it lists were not checked")
	}) {
		t.Errorf("%v", found)
	}
	if _, ok, err := e.Find("kelp/drive.deb"); !ok || err != nil {
		t.Errorf("the list of another source is read no more: %v", err)
	}
}

func TestVerifyNamesWhatIsDamagedAndWhatIsGone(t *testing.T) {
	s := seal(t)
	e := s.open()
	s.spoil(s.find(e, "tarn/pool/a.deb").SHA256, "all of A")
	s.spoil(s.find(e, "tarn/pool/b.deb").SHA256, "half")
	must.Do(t, s.store.Remove(s.find(e, "kelp/drive.deb").SHA256))
	if missing, err := e.Missing(); err != nil || missing != "kelp/drive.deb" {
		t.Errorf("missing: %q %v", missing, err)
	}
	var told []string
	files, size := 0, int64(0)
	for _, f := range e.Verify(nil, func(n int, b int64) { files, size = n, b }) {
		if f.Code != "edition.damaged" || f.Object != "edition barrage/3" {
			t.Errorf("%v", f)
		}
		told = append(told, f.Text)
	}
	if len(told) != 3 || !strings.Contains(told[0], "kelp/drive.deb: the file is missing") ||
		!strings.Contains(told[1], "tarn/pool/a.deb: the file was changed") ||
		!strings.Contains(told[2], "tarn/pool/b.deb: the file has 4 bytes, but the manifest says 8") {
		t.Errorf("%q", told)
	}
	if files != e.Manifest.Files() || size != e.Manifest.Bytes() {
		t.Errorf("%d of %d files were looked at, %d bytes", files, e.Manifest.Files(), size)
	}
	stop := make(chan struct{})
	close(stop)
	if found := e.Verify(stop, nil); len(found) != 1 ||
		!strings.Contains(found[0].Text, "stopped after 0 of") {
		t.Errorf("stopped: %v", found)
	}
}

// blind is a pool of which this machine cannot read some files, or set none aside.
type blind struct {
	pool.Store
	unread func(sum string) bool
	stuck  bool
}

func (b blind) Open(sum string) (pool.Blob, error) {
	if b.unread(sum) {
		return nil, syscall.EMFILE
	}
	return b.Store.Open(sum)
}

func (b blind) SetAside(sum string) error {
	if b.stuck {
		return syscall.EROFS
	}
	return b.Store.SetAside(sum)
}

// What this machine cannot read is told as that, and where that goes on the check is given up.
func TestACheckThatCannotReadIsGivenUp(t *testing.T) {
	files := map[string]string{}
	for i := range maxFaults + 5 {
		files[fmt.Sprintf("tarn/pool/%02d.deb", i)] = fmt.Sprint("package ", i)
	}
	s := sealOf(t, files)
	check := func(b blind) finding.List {
		b.Store = s.store
		e, err := Open(s.folder(), []*trust.Certificate{site().Certificate()}, b)
		must.Do(t, err)
		return e.Verify(nil, nil)
	}
	e := s.open()
	some := map[string]bool{}
	for i := range maxFaults + 5 {
		some[s.find(e, fmt.Sprintf("tarn/pool/%02d.deb", i)).SHA256] = true
	}
	found := check(blind{unread: func(sum string) bool { return some[sum] }})
	last := found[len(found)-1].Text
	if len(found) != maxFaults+1 || len(found.With(finding.FaultCode)) != len(found) ||
		!strings.HasPrefix(last, fmt.Sprintf("the check was stopped after %d of %d files:",
			len(e.Manifest.Lines)+
				maxFaults, e.Manifest.Files())) || !strings.Contains(last, "could not read 20 of them") {
		t.Errorf("%d findings: %s", len(found), last)
	}
	list := s.find(e, "about/files/tarn").SHA256
	found = check(blind{unread: func(sum string) bool { return sum == list }})
	if len(found) != 2 ||
		!strings.HasSuffix(found[1].Text, "; the files of tarn that it lists were not checked") {
		t.Errorf("a list that cannot be read: %v", found)
	}
	for sum := range some {
		s.spoil(sum, "something else")
	}
	found = check(blind{unread: func(string) bool { return false }, stuck: true})
	if len(found) != len(some) || len(found.With("edition.damaged")) != len(some) ||
		!strings.Contains(found[0].Text, "the file was changed, and cannot be moved aside") {
		t.Errorf("what is damaged, on a disk that cannot be written to: %d, %v", len(found), found[0])
	}
}

// mounting has another file system in each folder.
type mounting struct{ disk.System }

func (m mounting) Stat(string) (fs.FileInfo, error) { return m.System.Stat("/proc") }

func TestAnExportIsWholeOrNotThere(t *testing.T) {
	s := seal(t)
	manifest, err := os.ReadFile(filepath.Join(s.folder(), ManifestName))
	must.Do(t, err)
	export := func(open Opener, dir string) error {
		return Export(disk.OS, open, manifest, []byte("seal"), dir, nil)
	}
	dir := filepath.Join(t.TempDir(), "out")
	must.Do(t, export(FromPool(s.store), dir))
	for path, text := range s.files {
		if got, err := os.ReadFile(filepath.Join(dir, path)); err != nil || string(got) != text {
			t.Errorf("%s: %q %v", path, got, err)
		}
	}
	if name, err := ExportedName(dir); err != nil || name != "barrage/3" {
		t.Errorf("%s %v", name, err)
	}
	at := t.TempDir()
	must.Write(t, at+"/file", "somebody's")
	must.Do(t, errors.Join(os.Mkdir(at+"/empty", 0o755), os.Symlink("empty", at+"/link")))
	for there, why := range map[string]string{dir: "already exists and is not empty",
		at + "/file": "already exists and is not a folder", at + "/link": "already exists and is a link"} {
		was, _ := os.Lstat(there)
		var occupied *Occupied
		if err := export(FromPool(s.store), there); !errors.As(err, &occupied) ||
			!strings.HasSuffix(occupied.Why, why) {
			t.Errorf("%s: %v", there, err)
		}
		if is, err := os.Lstat(there); err != nil || is.Mode() != was.Mode() ||
			!is.ModTime().Equal(was.ModTime()) {
			t.Errorf("%s was changed: %v, %v", there, is, err)
		}
	}
	if err := Vacant(mounting{disk.OS}, at+"/empty"); err == nil ||
		!strings.Contains(err.Error(), "a file system is mounted at ") {
		t.Errorf("a folder that something is mounted at: %v", err)
	}
	must.Do(t, export(FromPool(s.store), at+"/empty"))
	for name, open := range map[string]Opener{
		"a file changed": func(l Line) (io.ReadCloser, error) {
			if l.Path == "tarn/pool/b.deb" {
				return io.NopCloser(strings.NewReader("all of B")), nil
			}
			return FromPool(s.store)(l)
		},
		"a list changed": func(l Line) (io.ReadCloser, error) {
			if l.Path == "about/files/tarn" {
				return io.NopCloser(strings.NewReader(strings.Repeat("x", int(l.Size)))), nil
			}
			return FromPool(s.store)(l)
		},
		"a file gone": func(l Line) (io.ReadCloser, error) {
			return nil,
				pool.Gone(pool.ErrMissing, l.Path)
		},
	} {
		dir := filepath.Join(t.TempDir(), "out")
		err := export(open, dir)
		if f, _ := finding.From(err); f.Code != "edition.damaged" {
			t.Errorf("%s: %v", name, err)
		}
		left, err := filepath.Glob(dir + "*")
		must.Do(t, err)
		if len(left) > 0 {
			t.Errorf("%s: left behind: %v", name, left)
		}
	}
}

// An edition that an earlier version sealed opens, verifies and can be laid out.
func TestAnEditionWithOneListStaysReadable(t *testing.T) {
	raw, err := os.ReadFile("testdata/format-1/site.asc")
	must.Do(t, err)
	keys, err := trust.ReadCertificates(raw)
	must.Do(t, err)
	store := newPool(t)
	e, err := Open("testdata/format-1/own", keys, store)
	must.Do(t, err)
	if e.Format != OneList || e.Name() != "barrage/1" || len(e.Manifest.Parts) > 0 {
		t.Errorf("%+v", e.Edition)
	}
	if missing, err := e.Missing(); missing == "" || err != nil {
		t.Errorf("nothing is missing in an empty pool: %v", err)
	}
	for l, err := range e.Files() {
		must.Do(t, err)
		data, err := os.ReadFile(filepath.Join("testdata/format-1/files", filepath.FromSlash(l.Path)))
		must.Do(t, err)
		if sum, err := store.Add(data); err != nil || sum != l.SHA256 {
			t.Errorf("%s is %s, %v", l.Path, sum, err)
		}
	}
	if found := e.Verify(nil, nil); len(found) > 0 {
		t.Errorf("%v", found)
	}
	if _, ok, err := e.Find("tarn/dists/heron/InRelease"); !ok || err != nil {
		t.Errorf("%v %v", ok, err)
	}
	n := 0
	if err := e.Items(func(Item) error { n++; return nil }); err != nil || n != e.Packages || n == 0 {
		t.Errorf("%d packages, %v", n, err)
	}
	manifest, err := os.ReadFile("testdata/format-1/own/manifest")
	must.Do(t, err)
	dir := filepath.Join(t.TempDir(), "out")
	must.Do(t, Export(disk.OS, FromPool(store), manifest, nil, dir, nil))
	if _, err := os.Stat(filepath.Join(dir, "tarn/dists/heron/InRelease")); err != nil {
		t.Error(err)
	}
}

func TestARecordThatSaysNoEditionIsRefused(t *testing.T) {
	for text, says := range map[string]string{
		`{"stockade_edition": 3, "mirror": "barrage", "number": 1}`:   "has the format 3",
		`{"stockade_edition": 0, "mirror": "barrage", "number": 1}`:   "has the format 0",
		`{"stockade_edition": 2, "number": 1}`:                        "is not the record of an edition",
		`{"stockade_edition": 2, "mirror": "barrage"`:                 "is not the record of an edition",
		`{"stockade_edition": 2, "mirror": "barrage", "number": "x"}`: "is not the record of an edition",
		``: "is not the record of an edition",
	} {
		e, err := ReadRecord([]byte(text))
		if f, _ := finding.From(err); e != nil || f.Code != "edition.damaged" ||
			!strings.Contains(f.Text, says) {
			t.Errorf("%s: %v", text, err)
		}
	}
	e, err := ReadRecord([]byte(`{"stockade_edition": 2, "mirror": "barrage", "number": 1}`))
	if err != nil || e.Name() != "barrage/1" {
		t.Errorf("%v %v", e, err)
	}
}

func TestNamesOfEditions(t *testing.T) {
	for text, want := range map[string]string{"barrage/14": "barrage/14", "14": "trial/14", "barrage/0": "",
		"barrage": "", "/3": "", "barrage/": "", "x/-1": "", "barrage/x": "", "": "", "barrage/1/2": ""} {
		id, err := ParseID(text, "trial")
		if got := id.String(); (err == nil) != (want != "") || err == nil && got != want {
			t.Errorf("%q: %s %v", text, got, err)
		}
	}
	if _, err := ParseID("3", ""); err == nil {
		t.Error("a number without a mirror is an edition")
	}
}

func TestWhatAMirrorKeeps(t *testing.T) {
	var all []ID
	for n := 5; n > 0; n-- {
		all = append(all, ID{Mirror: "barrage", Number: n})
	}
	shown := func(id ID) bool { return id.Number == 2 }
	for keep, want := range map[int]string{0: "4 3 1", 1: "4 3 1", 3: "1", 5: "", 9: ""} {
		var got []string
		for _, id := range Surplus(all, keep, shown) {
			got = append(got, fmt.Sprint(id.Number))
		}
		if s := strings.Join(got, " "); s != want {
			t.Errorf("keep %d: %q goes", keep, s)
		}
	}
}
