package mirror

import (
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/internal/made"
	"stockade/internal/must"
)

// withoutDescriptors runs f while this process can open no further file.
func withoutDescriptors(t *testing.T, f func()) {
	t.Helper()
	var old syscall.Rlimit
	must.Do(t, syscall.Getrlimit(syscall.RLIMIT_NOFILE, &old))
	highest, err := os.Open("/dev/null")
	must.Do(t, err)
	now := old
	now.Cur = uint64(highest.Fd())
	highest.Close()
	if err := syscall.Setrlimit(syscall.RLIMIT_NOFILE, &now); err != nil {
		t.Skip("skipped: ", err)
	}
	defer syscall.Setrlimit(syscall.RLIMIT_NOFILE, &old)
	if probe, err := os.Open("/dev/null"); !errors.Is(err, syscall.EMFILE) {
		probe.Close()
		t.Skip("skipped: descriptors cannot be made scarce here")
	}
	f()
}

func TestACheckWithoutDescriptorsTakesNothingForDamage(t *testing.T) {
	w := newWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	e, m := w.open(1)
	count := func() (n int) {
		must.Do(t, w.builder.Pool.Each(func(string, int64) error { n++; return nil }))
		return n
	}
	before := count()
	var found finding.List
	withoutDescriptors(t, func() { found = m.Verify(nil, nil) })
	if len(found) == 0 || len(found.With("edition.damaged")) > 0 ||
		len(found.With(finding.FaultCode)) != len(found) {
		t.Errorf("%v", found)
	}
	if !strings.Contains(found[0].Text, "no file descriptors are left") {
		t.Errorf("%v", found[0])
	}
	if after := count(); after != before {
		t.Errorf("the pool had %d files, and now has %d", before, after)
	}
	if found := m.Verify(nil, nil); len(found) > 0 {
		t.Errorf("afterwards: %v", found)
	}
	// The next build does not take it for damage either.
	w.plan.Previous, w.plan.Number = e, 2
	withoutDescriptors(t, func() {
		_, err := w.builder.ReadAccepted(w.source)
		if f, _ := finding.From(err); f.Code != finding.FaultCode {
			t.Errorf("%v", err)
		}
	})
}

func TestWhatIsDamagedIsSetAsideUntilItWasFetchedAgain(t *testing.T) {
	w := newWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	_, m := w.open(1)
	store := w.builder.Pool.(*pool.Dir)
	l, _ := m.Find("tarn/pool/core/l/libtide2/libtide2_2.1-1_amd64.deb")
	file := store.Path(l.SHA256)
	aside := filepath.Join(filepath.Dir(filepath.Dir(file)), "aside", l.SHA256)
	must.Do(t, os.Chmod(file, 0o644))
	must.Write(t, file, "rot")
	if found := m.Verify(nil, nil); len(found) != 1 || found[0].Code != "edition.damaged" ||
		!strings.Contains(found[0].Text, "moved it aside") {
		t.Errorf("%v", found)
	}
	if data, err := os.ReadFile(aside); err != nil || string(data) != "rot" {
		t.Errorf("what was damaged is not kept: %q %v", data, err)
	}
	if _, there := store.Has(l.SHA256); there {
		t.Error("what was damaged is still served")
	}
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(aside); !errors.Is(err, os.ErrNotExist) {
		t.Errorf("the right bytes are here, and the wrong ones still aside: %v", err)
	}
}

func TestAFullDiskIsToldAndNotBlamedOnUpstreams(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=768k"); err != nil {
		t.Skip("skipped: no file system can be mounted here: ", err)
	}
	t.Cleanup(func() { syscall.Unmount(dir, 0) })
	w := newWorld(t)
	w.repo.Packages[0].Files = []made.File{{Path: "/usr/share/large", Mode: 0o644, Data: randomish(2 << 20)}}
	w.publish()
	asked := 0
	other := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if strings.Contains(r.URL.Path, "sluicectl") {
			asked++
		}
		w.serve(rw, r)
	}))
	t.Cleanup(other.Close)
	w.source.Route.Upstreams = append(w.source.Route.Upstreams, fetch.Upstream{URL: other.URL + "/tarn"})
	store, err := pool.Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	w.builder.Pool = roomy{store}
	w.builder.Workers = 1
	f := w.refused(finding.FaultCode)
	if !strings.Contains(f.Text, "the disk is full") || strings.Contains(fmt.Sprint(f), "127.0.0.1") {
		t.Errorf("%v", f)
	}
	if asked > 0 {
		t.Errorf("another upstream was asked %d times for what did not fit", asked)
	}
}

// roomy says that there is room, so that the fault is met while writing.
type roomy struct{ pool.Store }

func (roomy) Free() (int64, error) { return 1 << 40, nil }

// One upstream sends rubbish and breaks off. What is right comes from the other,
// from its beginning, whatever lies there already.
func TestRubbishThatBreaksOffBlocksNoFile(t *testing.T) {
	w := newWorld(t)
	w.repo.Packages[0].Files = []made.File{{Path: "/usr/share/large", Mode: 0o644, Data: randomish(1 << 20)}}
	w.publish()
	var rubbish int
	bad := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		if !strings.Contains(r.URL.Path, "sluicectl") {
			w.serve(rw, r)
			return
		}
		rubbish++
		size := len(w.files[strings.TrimPrefix(r.URL.Path, "/tarn/")])
		rw.Header().Set("Content-Length", fmt.Sprint(size))
		if from := r.Header.Get("Range"); from != "" {
			var at int
			fmt.Sscanf(from, "bytes=%d-", &at)
			rw.Header().Set("Content-Length", fmt.Sprint(size-at))
			rw.Header().Set("Content-Range", fmt.Sprintf("bytes %d-%d/%d", at, size-1, size))
			rw.WriteHeader(http.StatusPartialContent)
		}
		rw.Write([]byte(strings.Repeat("x", 300_000)))
		if h, ok := rw.(http.Flusher); ok {
			h.Flush()
		}
		panic(http.ErrAbortHandler)
	}))
	t.Cleanup(bad.Close)
	w.source.Route.Upstreams = []fetch.Upstream{{URL: bad.URL + "/tarn"}, {URL: w.server.URL + "/tarn"}}
	out, err := w.build()
	if err != nil || out.Edition == nil {
		t.Fatalf("the second upstream has it right: %v", err)
	}
	if rubbish == 0 {
		t.Error("the first upstream was not asked")
	}
}

// A package that was changed on this disk since it was fetched is none that upstream is to be told
// of: it is set aside, and fetched again the next time.
func TestAPackageThatWasChangedOnDiskIsNotUpstreams(t *testing.T) {
	w := newWorld(t)
	if _, err := w.build(); err != nil {
		t.Fatal(err)
	}
	_, m := w.open(1)
	store := w.builder.Pool.(*pool.Dir)
	l, _ := m.Find("tarn/pool/core/l/libtide2/libtide2_2.1-1_amd64.deb")
	must.Do(t, os.Chmod(store.Path(l.SHA256), 0o644))
	must.Write(t, store.Path(l.SHA256), strings.Repeat("x", int(l.Size)))
	_, err := w.build()
	f, _ := finding.From(err)
	if f.Code != "edition.damaged" || f.Object != "source tarn" ||
		!strings.Contains(f.Text, "libtide2_2.1-1_amd64.deb was changed on disk") ||
		!strings.Contains(f.WayOut, "build again") {
		t.Errorf("%v", f)
	}
	if out, err := w.build(); err != nil || out.FetchFiles != 1 {
		t.Errorf("the next build: %v", err)
	}
}
