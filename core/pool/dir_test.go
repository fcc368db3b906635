package pool

import (
	"context"
	"crypto/sha512"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

func TestASweepTakesWhatIsNotKept(t *testing.T) {
	d := open(t)
	var names []string
	for i := range 4 {
		s, err := d.Add(fmt.Appendf(nil, "file %d", i))
		must.Do(t, err)
		names = append(names, s)
		if i == 1 {
			must.Do(t, d.Flush())
		}
	}
	keep := func(s string) bool { return s == names[0] || s == names[2] }
	ended, end := context.WithCancel(t.Context())
	end()
	if files, _, err := Sweep(ended, d, keep); !errors.Is(err, context.Canceled) || files != 0 {
		t.Errorf("ended: %d files, %v", files, err)
	}
	files, bytes, err := Sweep(t.Context(), d, keep)
	if err != nil || files != 2 || bytes != 12 {
		t.Errorf("%d files, %d bytes, %v", files, bytes, err)
	}
	for i, s := range names {
		if _, ok := d.Has(s); ok != (i%2 == 0) {
			t.Errorf("file %d is there: %v", i, ok)
		}
	}
	failing := listless{d, errors.New("no list")}
	if _, _, err := Sweep(t.Context(), failing, keep); !errors.Is(err, failing.err) {
		t.Errorf("%v", err)
	}
	stuck := stubborn{d, syscall.EIO}
	if files, _, err := Sweep(t.Context(), stuck, func(string) bool { return false }); !errors.Is(err,
		syscall.EIO) || files != 0 {
		t.Errorf("%d files, %v", files, err)
	}
}

type listless struct {
	Store
	err error
}

func (l listless) Each(func(string, int64) error) error { return l.err }

type stubborn struct {
	Store
	err error
}

func (s stubborn) Remove(string) error { return s.err }

func TestWhatIsGoneIsDamageAndAFaultIsNot(t *testing.T) {
	for _, c := range []struct {
		err  error
		code finding.Code
	}{
		{nil, ""},
		{ErrMissing, "edition.damaged"},
		{&fs.PathError{Op: "open", Path: "x", Err: syscall.EMFILE}, finding.FaultCode},
	} {
		if got := Gone(c.err, "a.deb"); (got == nil) != (c.code == "") || got != nil &&
			(code(got) != c.code || !strings.Contains(got.Error(), "a.deb")) {
			t.Errorf("%v: %v", c.err, got)
		}
	}
}

func code(err error) finding.Code { f, _ := finding.From(err); return f.Code }

func TestWhatIsSetAside(t *testing.T) {
	d := open(t)
	if n, size, err := d.Aside(); n != 0 || size != 0 || err != nil {
		t.Errorf("of nothing: %d %d %v", n, size, err)
	}
	if err := d.SetAside(sum(sent)); !errors.Is(err, ErrMissing) {
		t.Errorf("what is not there: %v", err)
	}
	for _, durable := range []bool{false, true} {
		name, err := d.Add(sent)
		must.Do(t, err)
		if n, _, err := d.Aside(); n != 0 || err != nil {
			t.Errorf("the right bytes are here again, and %d files are aside: %v", n, err)
		}
		if durable {
			must.Do(t, d.Flush())
		}
		must.Do(t, d.SetAside(name))
		if n, size, err := d.Aside(); n != 1 || size != 19 || err != nil {
			t.Errorf("%d %d %v", n, size, err)
		}
		if err := d.Flush(); err != nil {
			t.Errorf("it is made durable all the same: %v", err)
		}
	}
	if n, size, err := d.DropAside(); n != 1 || size != 19 || err != nil {
		t.Errorf("%d %d %v", n, size, err)
	}
}

func TestWhatIsRemovedIsGoneWhereverItLies(t *testing.T) {
	d := open(t)
	for _, durable := range []bool{false, true} {
		name, err := d.Add(sent)
		if err == nil && durable {
			err = d.Flush()
		}
		if err = errors.Join(err, d.Remove(name)); err != nil {
			t.Fatal(err)
		}
		if _, ok := d.Has(name); ok {
			t.Error("it is there still")
		}
		if err := d.Remove(name); !errors.Is(err, ErrMissing) {
			t.Errorf("once more: %v", err)
		}
		if err := d.Flush(); err != nil {
			t.Errorf("%v", err)
		}
	}
}

// What stands in the pool's folder and is none of its files is neither listed nor opened.
func TestWhatIsNoFileOfThePoolIsPassedOver(t *testing.T) {
	d := open(t)
	name, err := d.Add(sent)
	if err = errors.Join(err, d.Flush()); err != nil {
		t.Fatal(err)
	}
	folder := filepath.Dir(d.Path(name))
	other := strings.Repeat("0", 64)
	for path, data := range map[string]string{
		filepath.Join(folder, "notes.txt"):               "x",
		filepath.Join(d.root, "notes"):                   "x",
		filepath.Join(d.root, "ready", "notes"):          "x",
		filepath.Join(d.root, "zz", name[2:]):            "x",
		filepath.Join(d.root, "sha512", name):            name,
		filepath.Join(d.root, "abc", name[3:]):           "x",
		filepath.Join(d.root, other[:2], other[2:], "x"): "x",
	} {
		must.Do(t, os.MkdirAll(filepath.Dir(path), 0o755))
		must.Write(t, path, data)
	}
	var listed []string
	if err := d.Each(func(s string, size int64) error {
		listed = append(listed, fmt.Sprint(s, size))
		return nil
	}); err != nil || fmt.Sprint(listed) != fmt.Sprint([]string{name + "19"}) {
		t.Errorf("%v %v", listed, err)
	}
	if _, ok := d.Has(other); ok {
		t.Error("a folder is taken for a file")
	}
	stop := errors.New("enough")
	if err := d.Each(func(string, int64) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("%v", err)
	}
	if got := d.Path("../../etc/passwd"); got != filepath.Join(d.root, "none", "none") {
		t.Error(got)
	}
}

func TestAnUnfinishedFile(t *testing.T) {
	want := Want{Name: "sluicectl.deb", Size: 19, Authority: ByDigest(sum(sent), "")}
	broke := errors.New("the connection broke")
	half := func(d *Dir, from string, data []byte) {
		d.Ingest(want, func(s Sink) error {
			s.Begin(from)
			s.Write(data)
			return broke
		}, nil)
	}
	for _, c := range []struct {
		name   string
		before func(d *Dir)
		offset int64
		origin string
	}{
		{"nothing", func(*Dir) {}, 0, ""},
		{"half of it", func(d *Dir) { half(d, "one", sent[:7]) }, 7, "one"},
		{"half of it from another", func(d *Dir) { half(d, "one", sent[:9]); half(d, "two", sent[:7]) }, 7,
			"two"},
		{"all of it, never judged", func(d *Dir) { half(d, "one", sent) }, 0, "one"},
		{"a check that this machine could not make", func(d *Dir) {
			_, err := d.Ingest(want, give(sent), func(Blob) error { return syscall.EIO })
			if code(err) != finding.FaultCode {
				t.Errorf("%v", err)
			}
		}, 0, ""},
	} {
		d := open(t)
		c.before(d)
		offset, origin := int64(-1), ""
		_, err := d.Ingest(want, func(s Sink) error {
			offset, origin = s.Offset(), s.Origin()
			return give(sent)(s)
		}, nil)
		if err != nil || offset != c.offset || origin != c.origin {
			t.Errorf("%s: goes on from %d of %q, %v", c.name, offset, origin, err)
		}
		if left, err := os.ReadDir(d.tmp); err != nil || len(left) > 0 {
			t.Errorf("%s: %v is left", c.name, left)
		}
	}
	// What is too long is refused before it is written.
	d := open(t)
	_, err := d.Ingest(want, func(s Sink) error {
		for range 100 {
			if _, err := s.Write(sent); err != nil {
				return err
			}
		}
		return nil
	}, nil)
	if f, _ := finding.From(err); f.Code != "content.size-mismatch" || !strings.Contains(f.Text,
		"is longer than the 19 bytes") {
		t.Errorf("%v", err)
	}
	if left, err := os.ReadDir(d.tmp); err != nil || len(left) > 0 {
		t.Errorf("%v is left", left)
	}
	half(d, "one", sent[:7])
	must.Do(t, d.Tidy())
	if left, err := os.ReadDir(d.tmp); err != nil || len(left) > 0 {
		t.Errorf("tidied: %v is left", left)
	}
}

// A name by another digest stays while it leads to a file, and is looked through by what
// the file has in it.
func TestNamesByOtherDigests(t *testing.T) {
	d := open(t)
	raw := fmt.Sprintf("%x", sha512.Sum512(sent))
	want := Want{Name: "news", Size: -1, Authority: ByDigest("", raw)}
	if _, err := d.Ingest(want, give(sent), nil); err != nil {
		t.Fatal(err)
	}
	must.Do(t, d.Tidy())
	if got, ok := d.Find(want); !ok || got != sum(sent) {
		t.Error("a name that leads to a file is forgotten")
	}
	// Both digests: the file is known by the better one alone.
	both := Want{Name: "news", Size: 19, Authority: ByDigest(sum(sent), raw)}
	if got, ok := d.Find(both); !ok || got != sum(sent) {
		t.Error("it is not found by both")
	}
	signed := Authority{Digests: want.Digests,
		Signed: func(io.ReadSeeker) error { return errors.New("not signed") }}
	if _, ok := d.Find(Want{Name: "news", Size: -1, Authority: signed}); ok {
		t.Error("it is found, and its signature does not count")
	}
	other := Want{Name: "else", Size: -1, Authority: ByDigest(sum(nil), "")}
	if _, ok := d.Find(other); ok {
		t.Error("what is not there is found")
	}
	if _, ok := d.Find(Want{Name: "none"}); ok {
		t.Error("a want without authority is found")
	}
	if _, ok := d.Find(Want{Name: "news", Size: 18, Authority: ByDigest(sum(sent), "")}); ok {
		t.Error("it is found with another size")
	}
	// A digest in a message is cut where it is too long to be read.
	_, err := d.Ingest(want, give([]byte("else")), nil)
	if err != nil {
		t.Errorf("it is there: %v", err)
	}
	_, err = open(t).Ingest(want, give([]byte("else")), nil)
	if f, _ := finding.From(err); !strings.Contains(f.Text, raw[:32]+"…") || strings.Contains(f.Text, raw) {
		t.Errorf("%v", err)
	}
	_, err = open(t).Ingest(other, give([]byte("else")), nil)
	if f, _ := finding.From(err); !strings.Contains(f.Text, sum(nil)) {
		t.Errorf("%v", err)
	}
	if free, err := d.Free(); err != nil || free <= 0 {
		t.Errorf("%d %v", free, err)
	}
	if _, err := (&Dir{root: filepath.Join(d.root, "none")}).Free(); err == nil {
		t.Error("there is space where nothing is")
	}
}

// Bytes that say what they must, and cannot be unpacked for a fault of this machine.
func TestAFaultWhileUnpacking(t *testing.T) {
	for _, c := range []struct {
		name string
		err  error
		late bool
		code finding.Code
	}{
		{"at once", syscall.EIO, false, finding.FaultCode},
		{"in the middle", syscall.EIO, true, finding.FaultCode},
		{"as told by the reader", finding.New("content.too-large", "", "x"), true, "content.too-large"},
		{"damage at once", errors.New("no header"), false, "content.digest-mismatch"},
		{"damage in the middle", errors.New("no end"), true, "content.digest-mismatch"},
	} {
		m := says(sent)
		m.Unpack = func(r io.Reader) (io.Reader, error) {
			if !c.late {
				return nil, c.err
			}
			return io.MultiReader(strings.NewReader("what"), failed{c.err}), nil
		}
		_, err := open(t).Ingest(Want{Name: "object", Size: -1, Authority: ByMeaning(m)}, give(sent), nil)
		if code(err) != c.code {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	exact := says(sent)
	exact.Most = int64(len(sent))
	if _, err := open(t).Ingest(Want{Name: "object", Size: -1, Authority: ByMeaning(exact)},
		give(packed(t, sent, 9)), nil); err != nil {
		t.Errorf("as long as it may be: %v", err)
	}
	for name, change := range map[string]func(m *Meaning){
		"no transform":   func(m *Meaning) { m.Transform = "" },
		"no unpacker":    func(m *Meaning) { m.Unpack = nil },
		"no digest":      func(m *Meaning) { m.Digest.Hex = "" },
		"half a digest":  func(m *Meaning) { m.Digest.Hex = m.Digest.Hex[:32] },
		"a negative end": func(m *Meaning) { m.Most = -1 },
	} {
		m := says(sent)
		change(&m)
		if _, err := open(t).Ingest(Want{Name: "object", Size: -1, Authority: ByMeaning(m)}, give(sent),
			nil); code(err) != "content.weak-digest" {
			t.Errorf("%s: %v", name, err)
		}
	}
}

type failed struct{ err error }

func (f failed) Read([]byte) (int, error) { return 0, f.err }
