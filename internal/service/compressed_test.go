package service

import (
	"compress/gzip"
	"encoding/json"
	"io"
	"net/http"
	"testing"

	"stockade/internal/api"
	"stockade/internal/must"
)

// Long answers are compressed for who takes that, and are the same; streams and short ones are not.
func TestLongAnswersAreCompressed(t *testing.T) {
	d := newDesk(t)
	takes := func(r *http.Request) { r.Header.Set("Accept-Encoding", "gzip") }
	plain := d.ask(api.Viewer, "GET", "/openapi.json", nil)
	packed := d.ask(api.Viewer, "GET", "/openapi.json", nil, takes)
	if packed.Header().Get("Content-Encoding") != "gzip" || plain.Header().Get("Content-Encoding") != "" {
		t.Fatalf("got %q and %q", packed.Header().Get("Content-Encoding"),
			plain.Header().Get("Content-Encoding"))
	}
	if packed.Body.Len() > plain.Body.Len()/3 {
		t.Errorf("%d bytes are %d", plain.Body.Len(), packed.Body.Len())
	}
	r, err := gzip.NewReader(packed.Body)
	must.Do(t, err)
	text, err := io.ReadAll(r)
	must.Do(t, err)
	if string(text) != plain.Body.String() || !json.Valid(text) {
		t.Error("the two are not the same")
	}
	if short := d.ask(api.Viewer, "GET", "/about", nil, takes); short.Header().Get("Content-Encoding") != "" {
		t.Errorf("%d bytes are compressed", short.Body.Len())
	}
}
