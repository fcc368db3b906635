package pool

import (
	"encoding/hex"
	"errors"
	"hash"
	"io"
	"io/fs"
	"os"
	"sync"

	"stockade/core/disk"
	"stockade/core/finding"
)

// fromSuffix is behind the name of an unfinished file where it says from where
// its bytes are.
const fromSuffix = ".from"

// Ingest implements Store. What was fetched of a file before a failure is kept
// and gone on from the next time.
func (d *Dir) Ingest(want Want, get func(Sink) error, check func(Blob) error) (string, error) {
	if err := want.check(); err != nil {
		return "", err
	}
	unlock := d.lock(want.key())
	defer unlock()
	if sum, ok := d.Find(want); ok {
		// another transfer was quicker; this one's check has still to be passed
		return sum, d.checked(sum, check)
	}
	w, err := d.begin(want)
	if err != nil {
		return "", err
	}
	defer w.f.Close()
	err = w.fill(get)
	if err == nil && check != nil {
		err = w.checked(check)
	}
	if err != nil {
		// What was judged wrong is begun anew; what broke off, or met a fault of this
		// machine, goes on from where it is.
		if f, judged := finding.From(err); w.refused || judged && f.Code != finding.FaultCode {
			w.drop()
		}
		return "", err
	}
	sum := w.sum()
	if err := d.admit(w, sum); err != nil {
		return "", err
	}
	d.remember(want, sum)
	return sum, nil
}

// checked lets the caller look at a file that is there.
func (d *Dir) checked(sum string, check func(Blob) error) error {
	if check == nil {
		return nil
	}
	f, err := d.Open(sum)
	if err != nil {
		return err
	}
	defer f.Close()
	return check(f)
}

// begin opens the unfinished file of a want, with what an earlier try left of it.
func (d *Dir) begin(want Want) (*writer, error) {
	part := d.unfinished(want)
	f, err := d.on.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
	if errors.Is(err, fs.ErrPermission) {
		// It was made read-only, to be admitted, when this machine failed.
		if d.on.Remove(part) == nil {
			f, err = d.on.OpenFile(part, os.O_RDWR|os.O_CREATE, 0o600)
		}
	}
	if err != nil {
		return nil, finding.Doing(err, "take in %s", want.Name)
	}
	w := &writer{on: d.on, f: f, want: want, sums: want.hashes()}
	if from, err := disk.ReadFile(d.on, part+fromSuffix); err == nil {
		w.origin = string(from)
	}
	if w.n, err = io.Copy(w.sums.writer(), f); err == nil && want.Size > 0 && w.n >= want.Size {
		err = w.Restart() // a whole but unfinished file was wrong or never checked
	}
	if err != nil {
		f.Close()
		return nil, finding.Doing(err, "take in %s", want.Name)
	}
	return w, nil
}

// running are digests that are being made.
type running map[Algorithm]hash.Hash

func (r running) writer() io.Writer {
	var all []io.Writer
	for _, h := range r {
		all = append(all, h)
	}
	return io.MultiWriter(all...)
}

// writer hashes while it writes and refuses to grow over the wanted size.
type writer struct {
	on      disk.System
	f       disk.File
	want    Want
	sums    running
	n       int64
	origin  string
	refused bool // by the caller's check, whole as it is
}

// fill gets the bytes and judges them.
func (w *writer) fill(get func(Sink) error) error {
	if err := get(w); err != nil {
		return err
	}
	return w.Verify()
}

// checked lets the caller look at the whole file before it is admitted.
func (w *writer) checked(check func(Blob) error) error {
	if _, err := w.f.Seek(0, io.SeekStart); err != nil {
		return finding.Doing(err, "read %s", w.want.Name)
	}
	err := w.want.atFault(check(blob{w.f, w.n}))
	if f, ok := finding.From(err); err != nil && (!ok || f.Code != finding.FaultCode) {
		w.refused = true
	}
	return err
}

// drop forgets the unfinished file.
func (w *writer) drop() {
	w.on.Remove(w.f.Name())
	w.on.Remove(w.f.Name() + fromSuffix)
}

func (w *writer) Write(p []byte) (int, error) {
	if w.want.Size >= 0 && w.n+int64(len(p)) > w.want.Size {
		return 0, finding.New(finding.ContentSizeMismatch, "",
			"%s is longer than the %d bytes that its index says", w.want.Name, w.want.Size)
	}
	n, err := w.f.Write(p)
	w.sums.writer().Write(p[:n])
	w.n += int64(n)
	return n, finding.Doing(err, "write %s", w.want.Name)
}

func (w *writer) Offset() int64  { return w.n }
func (w *writer) Origin() string { return w.origin }

func (w *writer) Begin(origin string) error {
	if err := w.Restart(); err != nil {
		return err
	}
	if origin == w.origin {
		return nil
	}
	if err := disk.Replace(w.on, w.f.Name()+fromSuffix, []byte(origin), 0o600); err != nil {
		return finding.Doing(err, "write %s", w.want.Name)
	}
	w.origin = origin
	return nil
}

func (w *writer) Verify() error {
	if err := w.want.judge(w.n, w.sums); err != nil {
		return err
	}
	if w.want.Signed == nil && w.want.Meaning == nil {
		return nil
	}
	err := w.want.believe(w.f)
	if _, serr := w.f.Seek(0, io.SeekEnd); serr != nil && err == nil {
		err = finding.Doing(serr, "read %s", w.want.Name)
	}
	return err
}

func (w *writer) Restart() error {
	if err := w.f.Truncate(0); err != nil {
		return finding.Doing(err, "write %s", w.want.Name)
	}
	if _, err := w.f.Seek(0, io.SeekStart); err != nil {
		return finding.Doing(err, "write %s", w.want.Name)
	}
	w.n = 0
	for _, h := range w.sums {
		h.Reset()
	}
	return nil
}

func (w *writer) sum() string { return hex.EncodeToString(w.sums[SHA256].Sum(nil)) }

// turn lets one transfer of a file go at a time.
type turn struct {
	sync.Mutex
	waiting int
}

func (d *Dir) lock(name string) (unlock func()) {
	d.mu.Lock()
	m, ok := d.busy[name]
	if !ok {
		m = &turn{}
		d.busy[name] = m
	}
	m.waiting++
	d.mu.Unlock()
	m.Lock()
	return func() {
		m.Unlock()
		d.mu.Lock()
		if m.waiting--; m.waiting == 0 {
			delete(d.busy, name)
		}
		d.mu.Unlock()
	}
}
