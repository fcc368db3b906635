package faults

import (
	"errors"
	"io"

	"stockade/core/archive"
)

// Err is what the calls of a Writing fail with.
var Err = errors.New("the disk does not answer")

// Writing lets each call of what a family writes with fail once: write gets it with one
// more call that fails each time, until it needs fewer calls than that. told is called
// with what came back each time that one failed.
func Writing(w archive.Writing, write func(archive.Writing) error, told func(call int,
	err error)) (calls int) {
	for fails := 1; ; fails++ {
		c := &counter{fails: fails}
		err := write(c.around(w))
		if c.n < fails {
			return c.n
		}
		told(fails, err)
	}
}

// counter counts calls, of which one fails.
type counter struct{ n, fails int }

func (c *counter) call() error {
	if c.n++; c.n == c.fails {
		return Err
	}
	return nil
}

func (c *counter) around(w archive.Writing) archive.Writing {
	out := w
	out.Each = func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool,
		f func(*archive.Package, []byte) error) error {
		if err := c.call(); err != nil {
			return err
		}
		return w.Each(list, want, f)
	}
	if w.Open != nil {
		out.Open = func(f archive.IndexFile) (io.ReadCloser, error) {
			if err := c.call(); err != nil {
				return nil, err
			}
			in, err := w.Open(f)
			if err != nil {
				return nil, err
			}
			return &reading{in, c}, nil
		}
	}
	if w.Package != nil {
		out.Package = func(p *archive.Package) (io.ReadSeekCloser, error) {
			if err := c.call(); err != nil {
				return nil, err
			}
			return w.Package(p)
		}
	}
	out.Put = func(path string, data []byte) error {
		if err := c.call(); err != nil {
			return err
		}
		return w.Put(path, data)
	}
	out.Sign = signing{w.Sign, c}
	return out
}

// reading fails in the middle of a file.
type reading struct {
	io.ReadCloser
	c *counter
}

func (r *reading) Read(p []byte) (int, error) {
	if err := r.c.call(); err != nil {
		return 0, err
	}
	return r.ReadCloser.Read(p)
}

type signing struct {
	archive.SigningKey
	c *counter
}

func (s signing) Clearsign(text []byte) ([]byte, error) {
	if err := s.c.call(); err != nil {
		return nil, err
	}
	return s.SigningKey.Clearsign(text)
}

func (s signing) DetachSign(content []byte, armoured bool) ([]byte, error) {
	if err := s.c.call(); err != nil {
		return nil, err
	}
	return s.SigningKey.DetachSign(content, armoured)
}

func (s signing) SignStream(content io.ReadSeeker) ([]byte, error) {
	if err := s.c.call(); err != nil {
		return nil, err
	}
	return s.SigningKey.SignStream(content)
}
