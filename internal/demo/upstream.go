// Package demo is the made-up scenario of Skerry Reach, a tidal barrage whose
// gate-control network has no way out: upstream stand-ins on loopback with real
// packages made by our own writers, and the whole way through the program. The
// tests use the same stand-ins.
package demo

import (
	"bytes"
	"crypto/sha256"
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"strings"
	"sync"
	"time"
)

// Upstream is a stand-in for one server of a source. It is safe for concurrent use.
type Upstream struct {
	URL string

	mu     sync.Mutex
	files  map[string][]byte
	hits   map[string]int
	fault  func(w http.ResponseWriter, r *http.Request) bool
	server *http.Server
	modify time.Time
}

// NewUpstream starts an upstream on a free port of loopback. Its files lie
// below prefix, such as "/tarn/".
func NewUpstream(prefix string, files map[string][]byte) (*Upstream, error) {
	return newUpstream(prefix, files, nil)
}

// newUpstream is NewUpstream with TLS, where there is a configuration for it.
func newUpstream(prefix string, files map[string][]byte, config *tls.Config) (*Upstream, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("start a made-up upstream: %w", err)
	}
	u := &Upstream{
		URL:    "http://" + l.Addr().String() + strings.TrimSuffix(prefix, "/"),
		files:  files,
		hits:   map[string]int{},
		modify: time.Now(),
	}
	u.server = &http.Server{Handler: http.StripPrefix(prefix, http.HandlerFunc(u.serve)),
		ReadHeaderTimeout: 5 * time.Second}
	if config != nil {
		u.URL = strings.Replace(u.URL, "http:", "https:", 1)
		u.server.ErrorLog = log.New(io.Discard, "", 0)
		l = tls.NewListener(l, config)
	}
	go u.server.Serve(l)
	return u, nil
}

// Publish replaces all files.
func (u *Upstream) Publish(files map[string][]byte) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.files, u.modify = files, time.Now()
}

// Files gives a copy of what is published.
func (u *Upstream) Files() map[string][]byte {
	u.mu.Lock()
	defer u.mu.Unlock()
	out := map[string][]byte{}
	for k, v := range u.files {
		out[k] = v
	}
	return out
}

// Change replaces one file by what f makes of it, for attacks.
func (u *Upstream) Change(path string, f func([]byte) []byte) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.files[path] = f(bytes.Clone(u.files[path]))
}

// Fault sets a function that may answer instead; nil takes it away.
func (u *Upstream) Fault(f func(w http.ResponseWriter, r *http.Request) bool) {
	u.mu.Lock()
	defer u.mu.Unlock()
	u.fault = f
}

// Hits gives how often files were asked for, by path, since the last call.
func (u *Upstream) Hits() map[string]int {
	u.mu.Lock()
	defer u.mu.Unlock()
	out := u.hits
	u.hits = map[string]int{}
	return out
}

// Close ends the server.
func (u *Upstream) Close() { u.server.Close() }

func (u *Upstream) serve(w http.ResponseWriter, r *http.Request) {
	u.mu.Lock()
	data, ok := u.files[r.URL.Path]
	u.hits[r.URL.Path]++
	fault, modify := u.fault, u.modify
	u.mu.Unlock()
	if fault != nil && fault(w, r) {
		return
	}
	if !ok {
		http.NotFound(w, r)
		return
	}
	w.Header().Set("ETag", fmt.Sprintf(`"%x"`, sha256.Sum256(data)))
	http.ServeContent(w, r, "", modify, bytes.NewReader(data))
}
