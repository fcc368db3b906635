package service

import (
	"errors"
	"io"
	"net/http"
	"os"
	"time"
)

// How slow a connection may be. They suit machines at the end of a poor line,
// and end connections that say nothing, never read, or send without end.
const (
	headerTime = 10 * time.Second
	idleTime   = time.Minute
	answerTime = 2 * time.Minute // for a call of the API, its answer included
	pieceTime  = time.Minute     // for each piece of a file
	pieceSize  = 256 << 10       // bytes
	streamTime = 30 * time.Second

	unheardTime = time.Second // for the rest of a body that nobody reads

	// strangerTime is how long a request without an account may take while others want its place.
	strangerTime = 2 * time.Second
)

// server is an http.Server with the bounds that both listeners have.
func (s *Service) server(h http.Handler, g *gate) *http.Server {
	return &http.Server{
		Handler:           h,
		ReadHeaderTimeout: headerTime,
		IdleTimeout:       idleTime,
		MaxHeaderBytes:    32 << 10,
		ConnState:         g.state,
		ConnContext:       g.seated,
	}
}

// timed gives every call so long to be read and answered. Calls that take or
// stream more move their own deadlines.
func timed(h http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := http.NewResponseController(w)
		c.SetReadDeadline(time.Now().Add(answerTime))
		c.SetWriteDeadline(time.Now().Add(answerTime))
		h.ServeHTTP(w, r)
	})
}

// pacedBody gives each piece of a large upload its own time.
type pacedBody struct {
	io.ReadCloser
	c *http.ResponseController
	n int // since the deadline was moved
}

func newPacedBody(w http.ResponseWriter, body io.ReadCloser) *pacedBody {
	b := &pacedBody{ReadCloser: body, c: http.NewResponseController(w)}
	b.extend()
	return b
}

func (b *pacedBody) extend() {
	b.n = 0
	b.c.SetReadDeadline(time.Now().Add(pieceTime))
	b.c.SetWriteDeadline(time.Now().Add(pieceTime + answerTime))
}

func (b *pacedBody) Read(p []byte) (int, error) {
	n, err := b.ReadCloser.Read(p)
	if b.n += n; b.n >= pieceSize {
		b.extend()
	}
	return n, err
}

// pacedWriter sends a file piece by piece, each with its own time, so that a
// slow machine gets a large file and one that does not read is let go. The
// pieces still go from the file to the connection without a copy.
type pacedWriter struct {
	http.ResponseWriter
	c *http.ResponseController
}

func newPacedWriter(w http.ResponseWriter) *pacedWriter {
	p := &pacedWriter{w, http.NewResponseController(w)}
	p.extend()
	return p
}

func (w *pacedWriter) extend() { w.c.SetWriteDeadline(time.Now().Add(pieceTime)) }

// Unwrap implements what http.ResponseController looks for.
func (w *pacedWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (w *pacedWriter) Write(p []byte) (n int, err error) {
	for len(p) > 0 && err == nil {
		var k int
		w.extend()
		k, err = w.ResponseWriter.Write(p[:min(len(p), pieceSize)])
		n, p = n+k, p[k:]
	}
	return n, err
}

// ReadFrom implements io.ReaderFrom.
func (w *pacedWriter) ReadFrom(src io.Reader) (n int64, err error) {
	left := int64(1<<63 - 1)
	file := src
	if l, ok := src.(*io.LimitedReader); ok {
		left, file = l.N, l.R
	}
	if _, ok := file.(*os.File); !ok {
		return io.Copy(struct{ io.Writer }{w}, src)
	}
	for left > 0 {
		w.extend()
		k, err := io.CopyN(w.ResponseWriter, file, min(left, pieceSize))
		n, left = n+k, left-k
		if l, ok := src.(*io.LimitedReader); ok {
			l.N = left
		}
		if errors.Is(err, io.EOF) {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
	return n, nil
}
