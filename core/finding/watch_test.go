package finding

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"syscall"
	"testing"
)

// silent is a disk that does not answer.
type silent struct {
	io.ReadSeeker
	err error
}

func (s silent) Read([]byte) (int, error)       { return 0, s.err }
func (s silent) Seek(int64, int) (int64, error) { return 0, s.err }

func TestAFaultIsBlamedForWhatWasMadeOfIt(t *testing.T) {
	damage := errors.New("it ends in the middle")
	read := func(w *Watch, r io.ReadSeeker) { io.Copy(io.Discard, w.ReadSeeker(r)) }
	for _, c := range []struct {
		name string
		do   func(w *Watch)
		made error
		says string
	}{
		{"nothing", func(w *Watch) { read(w, strings.NewReader("x")) }, nil, ""},
		{"damage", func(w *Watch) { read(w, strings.NewReader("x")) }, damage, "it ends in the middle"},
		{"a fault in reading", func(w *Watch) { read(w, silent{err: syscall.EIO}) }, damage,
			"read a.deb: the disk could not be read or written"},
		{"a fault in seeking", func(w *Watch) { w.ReadSeeker(silent{err: syscall.EMFILE}).Seek(0, 0) },
			damage, "read a.deb: no file descriptors are left"},
		{"a fault in a stream", func(w *Watch) { io.Copy(io.Discard, w.Reader(silent{err: syscall.EIO})) },
			damage, "the disk could not be read"},
		{"a fault that harmed nothing", func(w *Watch) { read(w, silent{err: syscall.EIO}) }, nil, ""},
		{"the first of two", func(w *Watch) {
			read(w, silent{err: syscall.ENOMEM})
			read(w, silent{err: syscall.EIO})
		}, damage, "no memory left"},
		{"what is no fault", func(w *Watch) { read(w, silent{err: io.ErrUnexpectedEOF}) }, damage,
			"it ends in the middle"},
	} {
		w := Watching("read a.deb")
		c.do(w)
		err := w.Blame(c.made)
		f, _ := From(err)
		if c.says == "" && err != nil || c.says != "" && (err == nil ||
			!strings.Contains(err.Error(), c.says)) ||
			(err != nil && err != damage) != (f.Code == FaultCode) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	var got bytes.Buffer
	io.Copy(&got, Watching("x").Reader(strings.NewReader("all of it")))
	if got.String() != "all of it" {
		t.Errorf("%q", got.String())
	}
}

func TestACauseIsOneOfItsCode(t *testing.T) {
	if f := New("content.signature-bad", "", "x").Because("changed"); f.Cause != "changed" {
		t.Errorf("%+v", f)
	}
	for _, c := range [][2]string{{"content.signature-bad", "moonlight"}, {"key.barred", "changed"}} {
		func() {
			defer func() {
				if r := fmt.Sprint(recover()); !strings.Contains(r, c[1]) {
					t.Errorf("%v: %s", c, r)
				}
			}()
			New(Code(c[0]), "", "x").Because(c[1])
		}()
	}
	for code := range causes {
		line := "| `" + string(code) + "` | `" + causes[code][0].Word + "` |"
		if len(Causes(code)) == 0 || !strings.Contains(Document(), line) {
			t.Errorf("%s", code)
		}
	}
	all := Causes("key.unreadable")
	all[0].Word = "changed by who asked"
	if causes["key.unreadable"][0].Word == all[0].Word {
		t.Error("who asks can change the catalogue")
	}
}
