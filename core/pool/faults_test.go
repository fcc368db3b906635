package pool

import (
	"crypto/sha512"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"syscall"
	"testing"

	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/internal/made/faults"
	"stockade/internal/must"
)

// life is what a pool goes through, step by step. Each gives what must be so once it did
// not fail.
type life struct {
	on     *faults.Disk
	d      *Dir
	root   string
	failed string // the step that did
}

var (
	tables = []byte("tide tables of the reach")
	byTwo  = Want{Name: "tables", Size: int64(len(tables)),
		Authority: ByDigest("", fmt.Sprintf("%x", sha512.Sum512(tables)))}
	byOne  = Want{Name: "sluicectl.deb", Size: int64(len(sent)), Authority: ByDigest(sum(sent), "")}
	signed = Want{Name: "news", Size: -1, Authority: BySignature(func(c io.ReadSeeker) error {
		_, err := io.Copy(io.Discard, c)
		return err
	})}
)

// fromUpstream gives bytes as an upstream does.
func fromUpstream(data []byte) func(Sink) error {
	return func(s Sink) error {
		if s.Origin() != "https://tarn.example/" {
			if err := s.Begin("https://tarn.example/"); err != nil {
				return err
			}
		}
		_, err := s.Write(data[s.Offset():])
		return err
	}
}

// run goes through a life until a step fails.
func (l *life) run() error {
	there := func(name []byte) error {
		f, err := l.d.Open(sum(name))
		if err != nil {
			return fmt.Errorf("it is said to be there: %w", err)
		}
		defer f.Close()
		if data, err := io.ReadAll(f); err != nil || string(data) != string(name) {
			return fmt.Errorf("%q %w", data, err)
		}
		return nil
	}
	for _, step := range []struct {
		name string
		do   func() error
		so   func() error
	}{
		{"open", func() (err error) {
			l.d, err = OpenOn(l.on, filepath.Join(l.root, "pool"), filepath.Join(l.root, "tmp"))
			return err
		}, nil},
		{"take in", func() error {
			_, err := l.d.Ingest(byOne, fromUpstream(sent), func(b Blob) error {
				_, err := io.Copy(io.Discard, b)
				return err
			})
			return err
		}, func() error { return there(sent) }},
		{"take in by another digest", func() error {
			_, err := l.d.Ingest(byTwo, fromUpstream(tables), nil)
			return err
		}, func() error { return there(tables) }},
		{"take in by a signature", func() error {
			_, err := l.d.Ingest(signed, fromUpstream([]byte("news")), nil)
			return err
		}, func() error { return there([]byte("news")) }},
		{"flush", func() error { return l.d.Flush() }, func() error {
			_, err := os.Stat(l.d.Path(sum(sent)))
			return err
		}},
		{"set aside", func() error { return l.d.SetAside(sum(sent)) }, func() error {
			if _, ok := l.d.Has(sum(sent)); ok {
				return errors.New("it is there still")
			}
			if n, size, err := l.d.Aside(); err == nil && (n != 1 || size != int64(len(sent))) {
				return fmt.Errorf("%d files of %d bytes are aside", n, size)
			}
			return nil
		}},
		{"count what is aside", func() error { _, _, err := l.d.Aside(); return err }, nil},
		{"drop what is aside", func() error { _, _, err := l.d.DropAside(); return err }, func() error {
			if entries, err := os.ReadDir(filepath.Join(l.root, "pool", "aside")); len(entries) > 0 ||
				err != nil {
				return fmt.Errorf("%d are aside still, %w", len(entries), err)
			}
			return nil
		}},
		{"take in again", func() error { _, err := l.d.Ingest(byOne, fromUpstream(sent), nil); return err },
			func() error { return there(sent) }},
		{"list", func() error {
			n := 0
			err := l.d.Each(func(string, int64) error { n++; return nil })
			if err == nil && n != 3 {
				return fmt.Errorf("%d files are listed", n)
			}
			return err
		}, nil},
		{"remove", func() error { return l.d.Remove(sum(tables)) }, func() error {
			if _, ok := l.d.Has(sum(tables)); ok {
				return errors.New("it is there still")
			}
			return nil
		}},
		{"tidy", func() error { return l.d.Tidy() }, func() error {
			if _, err := os.Stat(l.d.foreign(byTwo.names()[0])); !errors.Is(err, os.ErrNotExist) {
				return fmt.Errorf("a name that leads to nothing stays: %w", err)
			}
			return nil
		}},
	} {
		if err := step.do(); err != nil {
			l.failed = step.name
			return err
		}
		if step.so == nil || l.on.Fails > 0 && len(l.on.Calls()) < l.on.Fails {
			continue // what looks must not be what fails
		}
		if err := step.so(); err != nil {
			return fmt.Errorf("%s did not fail, and: %w", step.name, err)
		}
	}
	return nil
}

// mayFailUnseen are the calls that only save work: that a file is known by another digest, where the bytes
// of an unfinished one are from, that what was set aside is gone once the right bytes came, and a look
// whether what is asked for is here already. Where such a call fails the work is done again.
var mayFailUnseen = regexp.MustCompile(`^(look pool/|` +
	`(chmod|open|read|write|sync|mkdir|remove|rename) pool/sha512|(open|remove) tmp/part-\S+\.from$|remove pool/aside/)`)

// Each call of the disk fails once, and each such fault is told by itself unless it only saves work. What
// comes back says that this machine is at fault and what it was doing; what is there is whole; and the next
// try does all of it.
func TestEachFaultOfTheDisk(t *testing.T) {
	begin := func(fails int) *life {
		root := t.TempDir()
		return &life{root: root, on: &faults.Disk{System: disk.OS, Root: root, Fails: fails,
			With: syscall.EIO}}
	}
	whole := begin(0)
	must.Do(t, whole.run())
	told := 0
	for fails := 1; fails <= len(whole.on.Calls()); fails++ {
		l := begin(fails)
		err := l.run()
		calls := l.on.Calls()
		if len(calls) < fails {
			continue // it came to its end with fewer calls: files are gone through in another order
		}
		failed := calls[fails-1]
		name := fmt.Sprintf("call %d, %s", fails, failed)
		if f, ok := finding.From(err); err != nil && (!ok || f.Code != finding.FaultCode ||
			!strings.Contains(f.Text, "the disk could not be read or written")) {
			t.Errorf("%s, at %q: %v", name, l.failed, err)
		}
		if err == nil && !mayFailUnseen.MatchString(failed) {
			t.Errorf("%s: nothing tells of it", name)
		}
		if err != nil {
			told++
		}
		l.wholeStill(t, name)
		l.on.Fails = 0
		if err := l.run(); err != nil && !errors.Is(err, ErrMissing) {
			t.Errorf("%s: the next try, at %q: %v", name, l.failed, err)
		}
	}
	if told < 30 {
		t.Errorf("of %d calls %d failed and were told", len(whole.on.Calls()), told)
	}
}

// wholeStill asserts that every file that is there is what its name says.
func (l *life) wholeStill(t *testing.T, when string) {
	t.Helper()
	d, err := OpenOn(&faults.Disk{System: disk.OS}, filepath.Join(l.root, "pool"), filepath.Join(l.root,
		"tmp"))
	if err != nil {
		t.Fatalf("%s: it does not open again: %v", when, err)
	}
	if err := d.Each(func(name string, size int64) error {
		f, err := d.Open(name)
		if err != nil {
			return err
		}
		defer f.Close()
		data, err := io.ReadAll(f)
		if err != nil || sum(data) != name || int64(len(data)) != size {
			t.Errorf("%s: %s has %q, %v", when, name, data, err)
		}
		return nil
	}); err != nil {
		t.Errorf("%s: %v", when, err)
	}
}

// A file gets its name when its bytes are durable, and Flush says that all is durable when
// the names are.
func TestTheOrderInWhichThingsAreMadeDurable(t *testing.T) {
	root := t.TempDir()
	on := &faults.Disk{System: disk.OS, Root: root, Only: []string{"sync", "rename", "mkdir pool/"}}
	d, err := OpenOn(on, filepath.Join(root, "pool"), filepath.Join(root, "tmp"))
	must.Do(t, err)
	name, err := d.Add(sent)
	must.Do(t, err)
	must.Do(t, d.Flush())
	ready, folder := "pool/ready/"+name, "pool/"+name[:2]
	order := []string{"rename tmp/part-sha256-" + name + " " + ready, "sync " + ready, "mkdir " + folder,
		"rename " + ready + " " + folder + "/" + name[2:]}
	calls := on.Calls()
	at := -1
	for _, call := range order {
		i := slices.Index(calls, call)
		if i <= at {
			t.Fatalf("%q is not called behind the one before it: %q", call, calls)
		}
		at = i
	}
	for _, call := range []string{"sync " + folder, "sync pool", "sync pool/ready"} {
		if i := slices.Index(calls, call); i <= at {
			t.Errorf("%q is not called behind the rename: %q", call, calls)
		}
	}
	before := len(calls)
	if err := d.Flush(); err != nil || len(on.Calls()) != before {
		t.Errorf("what is durable is made durable again: %q, %v", on.Calls()[before:], err)
	}
}

// Two upstreams send one file at once, the first of them wrong: the second waits, and its
// bytes are those that enter.
func TestAWrongUpstreamBesideARightOne(t *testing.T) {
	d := open(t)
	begun, goOn := make(chan struct{}), make(chan struct{})
	first, second := make(chan error, 1), make(chan error, 1)
	go func() {
		_, err := d.Ingest(byOne, func(s Sink) error {
			close(begun)
			<-goOn
			_, err := s.Write([]byte("what a liar sends!!"))
			return err
		}, nil)
		first <- err
	}()
	<-begun
	go func() {
		_, err := d.Ingest(byOne, func(s Sink) error {
			if s.Offset() != 0 {
				return fmt.Errorf("%d bytes of the other's are there", s.Offset())
			}
			return give(sent)(s)
		}, nil)
		second <- err
	}()
	for { // until the second waits for its turn
		d.mu.Lock()
		turn := d.busy[byOne.key()]
		waiting := turn != nil && turn.waiting == 2
		d.mu.Unlock()
		if waiting {
			break
		}
	}
	select {
	case err := <-second:
		t.Fatalf("it did not wait: %v", err)
	default:
	}
	close(goOn)
	if f, _ := finding.From(<-first); f.Code != "content.digest-mismatch" {
		t.Errorf("the wrong one: %v", f)
	}
	if err := <-second; err != nil {
		t.Errorf("the right one: %v", err)
	}
	if size, ok := d.Has(sum(sent)); !ok || size != int64(len(sent)) {
		t.Error("it is not there")
	}
}

// What comes while a batch is made durable, or goes, is neither lost nor told of twice.
func TestComingAndGoingBesideAFlush(t *testing.T) {
	d := open(t)
	done := make(chan error, 3)
	go func() {
		for i := range 300 {
			if _, err := d.Add(fmt.Appendf(nil, "kept %d", i)); err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	go func() {
		for i := range 300 {
			name, err := d.Add(fmt.Appendf(nil, "gone %d", i))
			if err == nil {
				err = d.Remove(name)
			}
			if err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	go func() {
		for range 20 {
			if err := errors.Join(d.Flush(), d.Each(func(string, int64) error { return nil })); err != nil {
				done <- err
				return
			}
		}
		done <- nil
	}()
	for range 3 {
		if err := <-done; err != nil {
			t.Error(err)
		}
	}
	must.Do(t, d.Flush())
	kept := 0
	if err := d.Each(func(string, int64) error { kept++; return nil }); err != nil || kept != 300 {
		t.Errorf("%d files are there, %v", kept, err)
	}
	for i := range 300 {
		if _, ok := d.Has(sum(fmt.Appendf(nil, "kept %d", i))); !ok {
			t.Errorf("file %d is lost", i)
		}
	}
}
