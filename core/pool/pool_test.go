package pool

import (
	"bytes"
	"crypto/sha256"
	"crypto/sha512"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

func open(t *testing.T) *Dir {
	t.Helper()
	dir := t.TempDir()
	d, err := Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	return d
}

func give(data []byte) func(Sink) error {
	return func(s Sink) error { _, err := s.Write(data[s.Offset():]); return err }
}

var sent = []byte("what upstream sends")

func sum(b []byte) string { return fmt.Sprintf("%x", sha256.Sum256(b)) }

func TestOnlyWhatIsRightEnters(t *testing.T) {
	for _, c := range []struct {
		name, code string
		want       Want
		data       []byte
	}{
		{"right", "", Want{Size: 19, Authority: ByDigest(sum(sent), "")}, sent},
		{"right by SHA-512", "",
			Want{Size: 19, Authority: ByDigest("", fmt.Sprintf("%x", sha512.Sum512(sent)))}, sent},
		{"size not told", "", Want{Size: -1, Authority: ByDigest(sum(sent), "")}, sent},
		{"too short", "content.size-mismatch", Want{Size: 19, Authority: ByDigest(sum(sent), "")}, sent[:18]},
		{"too long", "content.size-mismatch", Want{Size: 18, Authority: ByDigest(sum(sent), "")}, sent},
		{"another digest", "content.digest-mismatch", Want{Size: 19, Authority: ByDigest(sum(nil), "")},
			sent},
		{"another SHA-512", "content.digest-mismatch",
			Want{Size: 19, Authority: ByDigest(sum(sent), fmt.Sprintf("%x", sha512.Sum512(nil)))}, sent},
	} {
		t.Run(c.name, func(t *testing.T) {
			d := open(t)
			got, err := d.Ingest(c.want, give(c.data), nil)
			f, _ := finding.From(err)
			if string(f.Code) != c.code {
				t.Fatalf("%v", err)
			}
			if size, ok := d.Has(sum(sent)); ok != (c.code == "") || ok && (size != 19 || got != sum(sent)) {
				t.Errorf("there: %v, %d bytes", ok, size)
			}
			left, err := filepath.Glob(filepath.Join(d.tmp, "*"))
			must.Do(t, err)
			if len(left) > 0 {
				t.Errorf("left behind: %v", left)
			}
		})
	}
}

func TestAnInterruptedFileIsGoneOnFrom(t *testing.T) {
	d := open(t)
	w := Want{Size: 19, Authority: ByDigest(sum(sent), "")}
	broke := errors.New("the connection broke")
	if _, err := d.Ingest(w, func(s Sink) error { s.Write(sent[:7]); return broke },
		nil); !errors.Is(err, broke) {
		t.Fatal(err)
	}
	from := int64(-1)
	if _, err := d.Ingest(w, func(s Sink) error { from = s.Offset(); return give(sent)(s) },
		nil); err != nil || from != 7 {
		t.Errorf("gone on from %d, error %v", from, err)
	}
	// Half a file of other bytes is started anew when the whole turns out wrong.
	other := Want{Size: 19, Authority: ByDigest(sum(bytes.ToUpper(sent)), "")}
	d.Ingest(other, func(s Sink) error { s.Write(sent[:7]); return broke }, nil)
	if _, err := d.Ingest(other, give(bytes.ToUpper(sent)), nil); err == nil {
		t.Error("mixed bytes were accepted")
	}
	if _, err := d.Ingest(other, give(bytes.ToUpper(sent)), nil); err != nil {
		t.Error(err)
	}
}

func TestTheCheckComesBeforeTheRename(t *testing.T) {
	d := open(t)
	w := Want{Size: 19, Authority: ByDigest(sum(sent), "")}
	bad := errors.New("not what it says")
	if _, err := d.Ingest(w, give(sent), func(Blob) error { return bad }); !errors.Is(err, bad) {
		t.Fatal(err)
	}
	if _, ok := d.Has(sum(sent)); ok {
		t.Fatal("it was admitted all the same")
	}
	// Also when the bytes are there already, by another name.
	if _, err := d.Ingest(w, give(sent), nil); err != nil {
		t.Fatal(err)
	}
	if _, err := d.Ingest(w, give(sent), func(Blob) error { return bad }); !errors.Is(err, bad) {
		t.Error("a file that was there already was not checked")
	}
}

func TestManyAtOnceFetchOnce(t *testing.T) {
	d := open(t)
	var fetched atomic.Int32
	var wait sync.WaitGroup
	for range 32 {
		wait.Go(func() {
			if _, err := d.Ingest(Want{Size: 19, Authority: ByDigest(sum(sent), "")}, func(s Sink) error {
				fetched.Add(1)
				return give(sent)(s)
			}, nil); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	if n := fetched.Load(); n != 1 {
		t.Errorf("fetched %d times", n)
	}
	if len(d.busy) != 0 {
		t.Errorf("%d locks are left", len(d.busy))
	}
}

func TestAFullDiskIsAnErrorAndLeavesNothing(t *testing.T) {
	d := open(t)
	full := func(s Sink) error {
		// What the kernel says when the disk is full, at the place where it says it.
		s.(*writer).f.Close()
		_, err := s.Write(sent)
		return err
	}
	if _, err := d.Ingest(Want{Size: 19, Authority: ByDigest(sum(sent), "")}, full, nil); err == nil {
		t.Fatal("a write that fails was taken for one that did not")
	}
	if _, ok := d.Has(sum(sent)); ok {
		t.Error("it is there")
	}
	if _, err := d.Ingest(Want{Size: 19, Authority: ByDigest(sum(sent), "")}, give(sent), nil); err != nil {
		t.Error("it does not go on afterwards:", err)
	}
}

func TestNamesThatAreNoDigestsFindNothing(t *testing.T) {
	d := open(t)
	for _, name := range []string{"", "../../etc/passwd", "ab", string(bytes.Repeat([]byte("g"), 64))} {
		if _, ok := d.Has(name); ok {
			t.Errorf("%q is there", name)
		}
		if f, err := d.Open(name); err == nil {
			b, err := io.ReadAll(f)
			must.Do(t, err)
			t.Errorf("%q opens: %d bytes", name, len(b))
		}
	}
}
