package upstream

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/http/httptest"
	"path/filepath"
	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/fetch"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/must"
	"strings"
	"sync"
	"testing"
	"time"
)

// world is a made-up upstream and a reader, on loopback.
type world struct {
	t      *testing.T
	key    *trust.SiteKey
	repo   made.DebRepository
	mu     sync.Mutex
	files  map[string][]byte
	broken func(w http.ResponseWriter, r *http.Request) bool
	server *httptest.Server
	pool   string // its folder
	store  *pool.Dir
	reader *Reader
	source *Source
	now    time.Time
}

func keys() []*trust.SiteKey {
	const desk = "desk@tarn.example"
	return made.Keys(made.Owner{Name: "Key 0", Address: desk}, made.Owner{Name: "Key 1", Address: desk},
		made.Owner{Name: "Key 2", Address: desk})
}

func newWorld(t *testing.T) *world {
	t.Helper()
	w := &world{t: t, key: keys()[0], now: time.Now()}
	w.repo = made.DebRepository{Origin: "Tarn", Label: "Tarn", Suite: "steady", Codename: "heron",
		Date: w.now.Add(-time.Hour), ValidUntil: w.now.Add(7 * 24 * time.Hour),
		Architectures: []string{"amd64", "all"}, Components: []string{"core"}, ByHash: true,
		Packages: []made.Deb{
			{Component: "core", Name: "sluicectl", Version: "1.4-1", Arch: "amd64", Summary: "gate control"},
			{Component: "core", Name: "tide-data", Version: "2026", Arch: "all", Summary: "tide data"}}}
	w.server = httptest.NewServer(http.HandlerFunc(w.serve))
	t.Cleanup(w.server.Close)
	dir := t.TempDir()
	w.pool = filepath.Join(dir, "pool")
	var err error
	w.store, err = pool.Open(w.pool, filepath.Join(dir, "tmp"))
	must.Do(t, err)
	w.reader = &Reader{Pool: w.store, Fetch: fetch.New(fetch.Options{Rounds: 1, DownFor: time.Millisecond,
		FloorWindow: 200 * time.Millisecond}), Families: archive.NewRegistry(deb.Family{}),
		Now: func() time.Time { return w.now }}
	w.source = &Source{Name: "tarn", Standing: "official", Priority: 20, Family: deb.Family{},
		Spec: archive.Source{Name: "tarn", Family: "deb", Release: "heron", Components: []string{"core"},
			Architectures: []string{"amd64"}},
		Route:   fetch.Route{Source: "tarn", Upstreams: []fetch.Upstream{{URL: w.server.URL + "/tarn"}}},
		Keyring: w.keyring("tarn")}
	w.publish()
	return w
}

func (w *world) keyring(vouchedFor ...string) *trust.Keyring {
	return trust.NewKeyring("tarn", []trust.Known{{Certificate: w.key.Certificate(),
		VouchedFor: vouchedFor}}, func() time.Time { return w.now })
}

func (w *world) publish() {
	w.t.Helper()
	files, err := w.repo.Publish(w.key)
	must.Do(w.t, err)
	w.mu.Lock()
	w.files = files
	w.mu.Unlock()
}

func (w *world) serve(rw http.ResponseWriter, r *http.Request) {
	p := strings.TrimPrefix(r.URL.Path, "/tarn/")
	w.mu.Lock()
	data, ok := w.files[p]
	broken := w.broken
	w.mu.Unlock()
	if broken != nil && broken(rw, r) {
		return
	}
	if !ok {
		http.NotFound(rw, r)
		return
	}
	rw.Header().Set("ETag", fmt.Sprintf(`"%x"`, sha256.Sum256(data)))
	http.ServeContent(rw, r, "", time.Time{}, bytes.NewReader(data))
}

// accepted refreshes the source, and takes what was found for accepted.
func (w *world) accepted() {
	w.t.Helper()
	pub, err := w.reader.Refresh(w.t.Context(), w.source)
	must.Do(w.t, err)
	_, err = w.reader.Lists(w.t.Context(), pub)
	must.Do(w.t, err)
	must.Do(w.t, w.store.Flush())
	w.source.Accepted = &pub.Accepted
}
