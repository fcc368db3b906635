package service

import (
	"cmp"
	"crypto/rand"
	"encoding/hex"
	"io"
	"log/slog"
	"net/http"
	"runtime/debug"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/internal/api"
)

// requestID names a request in the log and in its answer, so that the two can be
// brought together.
const requestID = "X-Request-Id"

func newRequestID() string {
	var raw [6]byte
	rand.Read(raw[:])
	return hex.EncodeToString(raw[:])
}

// level is how a request is logged: reading that went well only where everything is
// asked for, and what the service itself failed at always.
func level(method string, status int) slog.Level {
	switch {
	case status >= 500:
		return slog.LevelError
	case status >= 400:
		return slog.LevelWarn
	case method == http.MethodGet || method == http.MethodHead:
		return slog.LevelDebug
	}
	return slog.LevelInfo
}

// logged writes a line for each request of the API, without its query, its body or
// its token, and ends a request that falls over without ending the service.
func (s *Service) logged(c *gin.Context) {
	began, id := time.Now(), newRequestID()
	c.Header(requestID, id)
	log := s.log.With("request", id)
	defer func() {
		fallen := recover()
		if fallen == http.ErrAbortHandler {
			defer panic(fallen) // the answer was cut, and whoever reads it has to see that
			fallen = nil
		}
		if fallen != nil {
			log.Error("a request crashed", "method", c.Request.Method, "path", c.Request.URL.Path, "panic",
				fallen, "stack", string(debug.Stack()))
			if !c.Writer.Written() {
				problem(c, &api.Problem{Title: "Something failed", Status: 500, Type: "urn:stockade:internal",
					Detail: "the request crashed because of a programming error",
					WayOut: "see the log of the service, at request " + id})
			}
		}
		status := c.Writer.Status()
		args := []any{"method", c.Request.Method, "path", finding.Harmless(c.Request.URL.Path), "status",
			status,
			"took", time.Since(began).Round(time.Microsecond), "from", c.Request.RemoteAddr}
		if a := who(c); a.Name != "" {
			args = append(args, "account", a.Name)
		}
		if why, ok := c.Get("why"); ok {
			args = append(args, "why", why)
		}
		log.Log(c.Request.Context(), level(c.Request.Method, status), "request", args...)
	}()
	c.Next()
}

// recorder remembers the status of an answer to a machine.
type recorder struct {
	http.ResponseWriter
	status int
}

// WriteHeader implements http.ResponseWriter.
func (r *recorder) WriteHeader(status int) {
	if r.status == 0 {
		r.status = status
	}
	r.ResponseWriter.WriteHeader(status)
}

// ReadFrom implements io.ReaderFrom, so that files still go out without passing
// through memory.
func (r *recorder) ReadFrom(src io.Reader) (int64, error) { return io.Copy(r.ResponseWriter, src) }

// Unwrap lets http.ResponseController reach the connection.
func (r *recorder) Unwrap() http.ResponseWriter { return r.ResponseWriter }

// loggedToMachines writes a line for each request of the packages listener.
func (s *Service) loggedToMachines(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, req *http.Request) {
		began, rec := time.Now(), &recorder{ResponseWriter: w}
		next.ServeHTTP(rec, req)
		status := cmp.Or(rec.status, http.StatusOK)
		at := slog.LevelDebug
		if status >= 500 {
			at = slog.LevelError
		}
		s.log.Log(req.Context(), at, "machine", "method", req.Method, "path", finding.Harmless(req.URL.Path),
			"status", status,
			"took", time.Since(began).Round(time.Microsecond), "from", req.RemoteAddr)
	})
}
