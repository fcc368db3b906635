package service

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/internal/api"
)

// Bodies are received whole before anything is done with them, so that a call that works does not wait
// for its client: what is received at once is bounded in number and bytes, for each account, or each
// address where there is none, and each piece has its time.
const (
	bodyLong  = 16 << 20 // bytes, of a call that takes long to work out
	bodyShort = 1 << 20  // of any other
	bodyOpen  = 16 << 10 // where nobody is asked who they are

	bodiesOfOne = 8        // at once
	bodiesInAll = 64       //
	bodyBytes   = 96 << 20 // of all that is being received or worked on

	bodyWait      = 10 * time.Second // for a place
	bodyPiece     = 16 << 10         // bytes
	bodyPieceTime = 5 * time.Second
)

// bodies counts what is being received.
type bodies struct {
	mu    sync.Mutex
	of    map[string]int
	all   int
	bytes int64
}

// begin waits a while for a place for a body of an account or an address.
func (b *bodies) begin(ctx context.Context, of string) bool {
	for until := time.Now().Add(bodyWait); !b.take(of); {
		select {
		case <-ctx.Done():
			return false
		case <-time.After(20 * time.Millisecond):
		}
		if time.Now().After(until) {
			return false
		}
	}
	return true
}

func (b *bodies) take(of string) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.of == nil {
		b.of = map[string]int{}
	}
	if b.all >= bodiesInAll || b.of[of] >= bodiesOfOne {
		return false
	}
	b.all++
	b.of[of]++
	return true
}

// end gives the place back.
func (b *bodies) end(of string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.of[of]--; b.of[of] == 0 {
		delete(b.of, of)
	}
}

// hold takes so many bytes, or gives them back.
func (b *bodies) hold(n int64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	if n > 0 && b.bytes+n > bodyBytes {
		return false
	}
	b.bytes += n
	return true
}

// limitOf is how many bytes the body of a call has at most.
func limitOf(r api.Route) int64 {
	switch {
	case r.Role == api.Open:
		return bodyOpen
	case long[r.Name] || r.Name == "reportMachine" || r.Name == "keepDraft":
		return bodyLong
	}
	return bodyShort
}

// received takes in the body of a request. A package file is not: it goes to the disk as it comes.
func (s *Service) received(r api.Route) gin.HandlerFunc {
	limit := limitOf(r)
	_, file := r.Request.(api.Octets)
	return func(c *gin.Context) {
		if c.IsAborted() || c.Request.ContentLength == 0 {
			return
		}
		of := "account " + who(c).Name
		if who(c).Name == "" {
			of = "address " + address(c.Request)
		}
		usedFor(c.Request.Context(), isWaitedFor)
		if !s.bodies.begin(c.Request.Context(), of) {
			tooMany(c, "the service is receiving too many request bodies at once")
			return
		}
		if file {
			defer s.bodies.end(of)
			usedFor(c.Request.Context(), byKnown)
			c.Request.Body = http.MaxBytesReader(c.Writer, newPacedBody(c.Writer, c.Request.Body),
				maxUpload+1)
			c.Next()
			return
		}
		data, err := s.receive(c, limit)
		s.bodies.end(of)
		defer s.bodies.hold(-int64(cap(data)))
		if who(c).Name == "" {
			usedFor(c.Request.Context(), byStranger)
		} else {
			usedFor(c.Request.Context(), byKnown)
		}
		var big *http.MaxBytesError
		switch {
		case errors.Is(err, errFull):
			tooMany(c, "the service has no room left for request bodies")
			return
		case errors.As(err, &big):
			problem(c, asProblem(r, err))
			return
		case err != nil:
			problem(c, &api.Problem{Title: "The request could not be read", Status: http.StatusRequestTimeout,
				Type: "urn:stockade:request", Detail: "the request body did not arrive, or " +
					"arrived too slowly: " +
					err.Error(),
				WayOut: "send it again"})
			return
		}
		c.Set("received", true)
		c.Request.Body, c.Request.ContentLength = io.NopCloser(bytes.NewReader(data)), int64(len(data))
		c.Next()
	}
}

// errFull is that there is no room for a body.
var errFull = errors.New("no room")

// receive reads a body piece by piece. What it gives is held, and has to be given back.
func (s *Service) receive(c *gin.Context, limit int64) (data []byte, err error) {
	control := http.NewResponseController(c.Writer)
	if c.Request.ContentLength > limit {
		return nil, &http.MaxBytesError{Limit: limit}
	}
	control.SetReadDeadline(time.Now().Add(bodyPieceTime))
	for n, piece := 0, 0; ; {
		if len(data) == cap(data) {
			more := min(max(cap(data), bodyPiece), int(limit)+1-len(data))
			if !s.bodies.hold(int64(more)) {
				return data, errFull
			}
			grown := make([]byte, len(data), len(data)+more)
			copy(grown, data)
			data = grown
		}
		if piece += n; piece >= bodyPiece {
			piece = 0
			control.SetReadDeadline(time.Now().Add(bodyPieceTime))
		}
		n, err = c.Request.Body.Read(data[len(data):cap(data)])
		data = data[:len(data)+n]
		switch {
		case int64(len(data)) > limit:
			return data, &http.MaxBytesError{Limit: limit}
		case errors.Is(err, io.EOF):
			control.SetReadDeadline(time.Now().Add(answerTime))
			return data, nil
		case err != nil:
			return data, err
		}
	}
}

func tooMany(c *gin.Context, why string) {
	c.Header("Retry-After", "5")
	problem(c, &api.Problem{Title: "Too many requests", Status: http.StatusTooManyRequests,
		Type: "urn:stockade:busy", Detail: why, WayOut: "wait a little, then try again"})
}
