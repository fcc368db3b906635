package finding

import "io"

// Watch notes a fault of this machine that is met while something is read. A reader tells
// what it cannot read as damage; where the disk did not answer, it is none.
type Watch struct {
	doing string
	fault *Finding
}

// Watching makes a Watch for what is being done, such as "read sluicectl.deb".
func Watching(doing string) *Watch { return &Watch{doing: doing} }

// Reader gives what r gives, and notes its faults.
func (w *Watch) Reader(r io.Reader) io.Reader { return watched{r, nil, w} }

// ReadSeeker gives what r gives, and notes its faults.
func (w *Watch) ReadSeeker(r io.ReadSeeker) io.ReadSeeker { return watched{r, r, w} }

// Blame gives the fault that was met in place of what was made of it, or err.
func (w *Watch) Blame(err error) error {
	if err != nil && w.fault != nil {
		return *w.fault
	}
	return err
}

func (w *Watch) note(err error) {
	if f, ok := Fault(err, w.doing); ok && w.fault == nil {
		w.fault = &f
	}
}

type watched struct {
	r io.Reader
	s io.Seeker
	w *Watch
}

func (r watched) Read(p []byte) (int, error) {
	n, err := r.r.Read(p)
	if err != nil && err != io.EOF {
		r.w.note(err)
	}
	return n, err
}

func (r watched) Seek(offset int64, whence int) (int64, error) {
	n, err := r.s.Seek(offset, whence)
	if err != nil {
		r.w.note(err)
	}
	return n, err
}
