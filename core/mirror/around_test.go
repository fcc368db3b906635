package mirror

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/fetch"
	"stockade/core/trust"
	"stockade/core/upstream"
)

// A source that has no part in a mirror, and whose server drips, keeps its builds waiting for no longer than
// fixes are looked for. That it was not asked is said where none was found.
func TestASourceThatDripsKeepsNoBuildWaiting(t *testing.T) {
	w := newWorld(t)
	dripping := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		rw.Header().Set("Content-Length", "100000")
		for range 1000 {
			rw.Write([]byte("Origin: Kelp, one byte after another, and never so few that it is left\n"))
			rw.(http.Flusher).Flush()
			select {
			case <-r.Context().Done():
				return
			case <-dripping:
				return
			case <-time.After(20 * time.Millisecond):
			}
		}
	}))
	t.Cleanup(server.Close)
	t.Cleanup(func() { close(dripping) })
	kelp, swift := *w.source, *w.source
	kelp.Name, kelp.Spec.Name = "kelp", "kelp"
	kelp.Route = fetch.Route{Source: "kelp", Upstreams: []fetch.Upstream{{URL: server.URL + "/kelp"}}}
	swift.Name, swift.Spec.Name = "swift", "swift"
	swift.Route.Source = "swift"
	swift.Spec.Components = []string{"field"}
	for _, src := range []*upstream.Source{&kelp, &swift} {
		src.Keyring = trust.NewKeyring(src.Name, []trust.Known{{Certificate: w.key.Certificate(),
			VouchedFor: []string{src.Name}}}, func() time.Time { return w.now })
	}
	w.source.Spec.Components = []string{"core"}
	w.source.Want = definition.Want{Packages: []string{"sluicectl"}, With: "required", Versions: 1}
	w.repo.Packages = append(w.repo.Packages[:0:0], w.repo.Packages...)
	w.repo.Packages[2].Component = "field" // what sluicectl needs is in the other source
	w.publish()
	w.plan.Others = []*upstream.Source{&kelp, &swift}
	w.builder.LookAround = 400 * time.Millisecond
	began := time.Now()
	f := w.refused("mirror.missing-dependency")
	if took := time.Since(began); took > 10*time.Second {
		t.Errorf("it was waited for: %s", took)
	}
	if !strings.Contains(f.WayOut, "swift has tide-data") {
		t.Errorf("the fast source beside it was not read: %s", f.WayOut)
	}
	w.plan.Others = []*upstream.Source{&kelp}
	if f := w.refused("mirror.missing-dependency"); !strings.Contains(f.WayOut,
		"kelp (its indexes were not downloaded within 400ms") {
		t.Errorf("that it was not asked is not said: %s", f.WayOut)
	}
}
