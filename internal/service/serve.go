package service

import (
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/store"
)

// packagesHandler answers machines: /lane/L/…, /edition/M/N/…, /key/FINGERPRINT.
// It serves sealed editions and nothing else, and only reads.
func (s *Service) packagesHandler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /lane/{lane}/{path...}", s.serveLane)
	mux.HandleFunc("GET /edition/{mirror}/{number}/{path...}", func(w http.ResponseWriter, r *http.Request) {
		n, err := strconv.Atoi(r.PathValue("number"))
		if err != nil {
			http.NotFound(w, r)
			return
		}
		e, err := s.served(edition.ID{Mirror: r.PathValue("mirror"), Number: n})
		if err != nil {
			http.NotFound(w, r)
			return
		}
		s.serveFrom(w, r, e, r.PathValue("path"), true)
	})
	mux.HandleFunc("GET /key/{fingerprint}", s.serveKey)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.NewResponseController(w).SetWriteDeadline(time.Now().Add(answerTime))
		if r.ContentLength != 0 { // machines send no bodies, and none is waited for
			unheard(w)
		}
		w.Header().Set("X-Content-Type-Options", "nosniff")
		w.Header().Set("Content-Security-Policy", "default-src 'none'")
		mux.ServeHTTP(w, r)
	})
}

// serveLane serves the edition that a lane shows. A client that began with the
// edition before, and asks for files that only that one has, still gets those
// whose names tie them to their content, for the time of grace.
func (s *Service) serveLane(w http.ResponseWriter, r *http.Request) {
	moves, err := s.stepsOf(r.PathValue("lane"))
	if errors.Is(err, errNowhere) {
		http.NotFound(w, r)
		return
	}
	if err != nil {
		s.log.Error("the edition of a lane cannot be determined", "lane", r.PathValue("lane"), "error", err)
		http.Error(w, "the edition of this lane cannot be determined", http.StatusServiceUnavailable)
		return
	}
	path := r.PathValue("path")
	var first *edition.Sealed
	for i, m := range moves {
		if i > 0 && (!lasting(first.Edition, path) || s.now().Sub(moves[i-1].At) > s.cfg.Grace) {
			break
		}
		open := s.served
		if i > 0 { // one that was retired meanwhile is given for the time of grace, too: see inGrace
			open = func(id edition.ID) (*edition.Sealed, error) {
				return s.editions.open(s, id.Mirror, id.Number)
			}
		}
		e, err := open(edition.ID{Mirror: m.Mirror, Number: m.Edition})
		if err != nil {
			if i == 0 {
				s.log.Error("the edition of a lane cannot be served", "lane", m.Lane, "edition",
					fmt.Sprintf("%s/%d", m.Mirror, m.Edition), "error", err)
				http.Error(w, "the edition of this lane cannot be served", http.StatusServiceUnavailable)
				return
			}
			continue
		}
		if i == 0 {
			first = e
		}
		if _, there, err := e.Find(path); there || err != nil || path == edition.ManifestName ||
			path == edition.SealName {
			s.serveFrom(w, r, e, path, false)
			return
		}
	}
	http.NotFound(w, r)
}

// lasting tells whether a path of an edition names content that never changes, as the
// family of its source knows. Roots and indexes by plain name are only ever the current
// edition's.
func lasting(e *edition.Edition, path string) bool {
	name, rest, ok := strings.Cut(path, "/")
	for _, src := range e.Sources {
		if family := families.All[src.Family]; ok && src.Name == name && family != nil {
			return family.Lasting(rest)
		}
	}
	return false
}

func (s *Service) serveFrom(w http.ResponseWriter, r *http.Request, e *edition.Sealed,
	path string, immutable bool) {
	if path == edition.ManifestName || path == edition.SealName {
		http.ServeFile(w, r, s.editionFolder(e.Mirror, e.Number)+"/"+path)
		return
	}
	l, ok, err := e.Find(path)
	if err == nil && !ok {
		http.NotFound(w, r)
		return
	}
	var f pool.Blob
	if err == nil {
		if f, err = s.proven.Open(l.SHA256); err == nil {
			defer f.Close()
			if f.Size() != l.Size {
				err = errors.New("its size is wrong")
			}
		}
	}
	if fault, ok := finding.Fault(err, "open "+path); ok {
		s.log.Error("a file of an edition could not be read", "edition", e.Name(), "path",
			path, "error", fault.Text)
		w.Header().Set("Retry-After", "5")
		http.Error(w, "this server cannot read the file at the moment; try again",
			http.StatusServiceUnavailable)
		return
	}
	if err != nil {
		s.lacking.nudge()
		s.log.Error("a file of an edition is damaged", "edition", e.Name(), "path", path, "error", err)
		w.Header().Set("Retry-After", "60")
		http.Error(w, "this file is damaged on the server and is not served; the administrator "+
			"must build the mirror again", http.StatusServiceUnavailable)
		return
	}
	h := w.Header()
	h.Set("ETag", `"`+l.SHA256+`"`)
	h.Set("Content-Type", "application/octet-stream")
	if immutable || lasting(e.Edition, path) {
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
	} else {
		h.Set("Cache-Control", "no-cache")
	}
	// The time of the edition, not of the pool's file: a lane that moves must give its
	// roots a new time. One that is moved back gives them an older one, and who asks
	// whether anything changed since the newer one must be told that it did.
	made := e.Created.Truncate(time.Second)
	if since, err := http.ParseTime(r.Header.Get("If-Modified-Since")); err == nil && !since.Equal(made) {
		r.Header.Del("If-Modified-Since")
	}
	http.ServeContent(newPacedWriter(w), r, "", made, f)
}

func (s *Service) serveKey(w http.ResponseWriter, r *http.Request) {
	f, err := trust.ParseFingerprint(strings.TrimSuffix(r.PathValue("fingerprint"), ".asc"))
	if err != nil {
		http.NotFound(w, r)
		return
	}
	text, ofSite := s.site.Load().armoured(f)
	if !ofSite {
		row, err := s.db.CertificateBy(f)
		if errors.Is(err, store.ErrNotFound) {
			http.NotFound(w, r)
			return
		}
		if err != nil {
			s.log.Error("a key cannot be read", "key", f, "error", err)
			w.Header().Set("Retry-After", "5")
			http.Error(w, "this server cannot read the key at the moment; try again",
				http.StatusServiceUnavailable)
			return
		}
		text = row.Armoured
	}
	w.Header().Set("Content-Type", "application/pgp-keys")
	fmt.Fprint(w, text)
}
