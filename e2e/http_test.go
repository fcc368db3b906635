package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	_ "github.com/glebarez/sqlite"

	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/must"
)

func TestTheListenerForMachinesKeepsToItsFiles(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	base := s.service.PackagesURL()
	file := base + "/edition/barrage/1/tarn/pool/core/t/tide-data/tide-data_2026.3_all.deb"
	code, whole, header := get(t, file)
	if code != 200 || header.Get("ETag") == "" || header.Get("Last-Modified") == "" || header.Get(
		"Accept-Ranges") != "bytes" {
		t.Fatalf("%d %v", code, header)
	}
	if code, part, _ := get(t, file, "Range", "bytes=100-199"); code != 206 || part != whole[100:200] {
		t.Errorf("a range: %d, %d bytes", code, len(part))
	}
	if code, part, _ := get(t, file, "Range", "bytes=100-", "If-Range", `"an old tag"`); code != 200 ||
		part != whole {
		t.Errorf("a range of something else: %d, %d bytes", code, len(part))
	}
	if code, _, _ := get(t, file, "If-None-Match", header.Get("ETag")); code != 304 {
		t.Errorf("unchanged: %d", code)
	}
	if code, key, _ := get(t, base+"/key/"+keyOf(t, s)); code != 200 || !strings.Contains(key,
		"BEGIN PGP PUBLIC KEY BLOCK") {
		t.Errorf("the site key: %d", code)
	}
	for _, path := range []string{"/", "/api/v1/about", "/lane/trial/tarn/dists/heron/InRelease",
		"/lane/none/x", "/edition/barrage/2/about/edition.json", "/edition/barrage/1/",
		"/edition/barrage/1/../../../stockade.db",
		"/edition/barrage/1/%2e%2e/%2e%2e/stockade.db", "/lane/steady/tarn", "/key/../site/key.pgp",
		"/edition/barrage/x/y"} {
		if code, body, _ := get(t, base+path); code == 200 || strings.Contains(body, "SQLite") {
			t.Errorf("%s: %d", path, code)
		}
	}
	req, err := http.NewRequest("POST", file, strings.NewReader("x"))
	must.Do(t, err)
	if res, err := http.DefaultClient.Do(req); err != nil || res.StatusCode != 405 {
		t.Errorf("writing: %v %v", res.StatusCode, err)
	}
}

func keyOf(t *testing.T, s *site) string {
	t.Helper()
	a, err := client.Get[api.About](context.Background(), s.client, "/about")
	must.Do(t, err)
	return a.SiteKey
}

func TestAnInvalidDocumentChangesNothing(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	before, _ := s.cli(0, "revision", "list")
	path := filepath.Join(s.dir, "bad.yaml")
	must.Write(t, path, "stockade: 1\nlanes: {new: {mirror: barrage}}\nmirrors: {broken: {copy: "+
		"tailored, from: [{source: tarm, want: everything}]}}\n")
	_, log := s.cli(1, "record", path)
	if !strings.Contains(log, `did you mean "tarn"?`) || !strings.Contains(log, "bad.yaml:3") {
		t.Error(log)
	}
	if after, _ := s.cli(0, "revision", "list"); after != before {
		t.Errorf("revisions:\n%s", after)
	}
	if out, _ := s.cli(0, "lane", "list", "-o", "ids"); strings.Contains(out, "new") {
		t.Error("half of it was recorded")
	}
	// A change, its difference, and the way back.
	must.Write(t, path, "stockade: 1\nlanes: {new: {mirror: barrage}}\n")
	if out, _ := s.cli(0, "compare", path); !strings.Contains(out, "lane new") {
		t.Error(out)
	}
	s.cli(0, "record", path)
	s.cli(0, "revision", "restore", "1", "--yes")
	if out, _ := s.cli(0, "lane", "list", "-o", "ids"); strings.Contains(out, "new") {
		t.Error("the restored description still has the lane")
	}
}

func TestOnlyAWardenVouches(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	out, _ := s.cli(0, "account", "add", "mara", "--role", "operator", "-o", "json")
	var n api.NewToken
	must.Do(t, json.Unmarshal([]byte(out), &n))
	s.env["STOCKADE_TOKEN"] = n.Token
	_, log := s.cli(4, "record", filepath.Join(s.dir, "site"))
	if !strings.Contains(log, "only a warden") {
		t.Error(log)
	}
	s.env["STOCKADE_TOKEN"] = s.token
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	kelp := s.scenario.KelpKey.Certificate().Fingerprint
	s.cli(2, "key", "vouch", kelp[:16], "--source", "kelp", "--evidence", "x") // a short id
	// a source that does not name it
	s.cli(1, "key", "vouch", kelp, "--source", "tarn", "--evidence", "x")
	s.cli(2, "key", "vouch", kelp, "--source", "kelp") // no evidence
	other := "1" + kelp[1:]
	if other == kelp { // keys are made up anew for each run
		other = "2" + kelp[1:]
	}
	s.cli(1, "key", "vouch", other, "--source", "kelp", "--evidence", "x") // another key
	s.cli(1, "mirror", "build", "barrage")                                 // and so nothing is built
	s.cli(0, "key", "vouch", kelp, "--source", "kelp", "--evidence", "compared on paper")
	s.cli(0, "mirror", "build", "barrage")
}

func TestALoginIsRememberedForItsServiceAlone(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.cli(0, "login", s.service.APIURL(), "--token-file", s.service.WardenToken())
	s.env["STOCKADE_TOKEN"] = ""
	s.env["STOCKADE_SERVER"] = ""
	s.cli(0, "source", "list")
	if st, err := os.Stat(filepath.Join(s.dir, "home/config/stockade/login.yaml")); err != nil ||
		st.Mode().Perm() != 0o600 {
		t.Errorf("what login keeps: %v %v", st, err)
	}
	// A remembered token is not sent to another service.
	heard := "nothing"
	stranger := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		heard = r.Header.Get("Authorization")
		w.Write([]byte(`{"items":[]}`))
	}))
	defer stranger.Close()
	s.cli(0, "source", "list", "--server", stranger.URL)
	if heard != "" {
		t.Errorf("another service heard %q", heard)
	}
	s.env["STOCKADE_TOKEN"] = "0000"
	s.cli(4, "source", "list")
	s.cli(3, "source", "list", "--server", "http://127.0.0.1:1")
}

func TestJobsAreStoppedAndSaySo(t *testing.T) {
	t.Parallel()
	program(t) // made before anything is kept waiting
	s := newSite(t)
	s.described()
	hold, held := make(chan struct{}), make(chan struct{}, 100)
	for _, u := range []interface {
		Fault(func(http.ResponseWriter, *http.Request) bool)
	}{s.scenario.North, s.scenario.South} {
		u.Fault(func(w http.ResponseWriter, r *http.Request) bool {
			if strings.HasSuffix(r.URL.Path, ".deb") {
				held <- struct{}{}
				select {
				case <-hold:
				case <-r.Context().Done():
				}
			}
			return false
		})
	}
	defer close(hold)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	j, err := client.Post[api.Job](ctx, s.client, "/mirrors/barrage/build", nil)
	must.Do(t, err)
	_, err = client.Post[api.Job](ctx, s.client, "/mirrors/barrage/build", nil)
	var p *api.Problem
	if !errors.As(err, &p) || p.Status != 409 {
		t.Errorf("a second build at once: %v", err)
	}
	steps := map[string]bool{}
	done := make(chan api.Job, 1)
	go func() {
		j, _ := s.client.Follow(ctx, j.ID, func(e api.JobEvent) { steps[e.Progress.Step] = true })
		done <- j
	}()
	<-held
	// A sweep waits for the build. Nothing waits for the sweep, and it can be stopped.
	sweep, err := client.Post[api.Job](ctx, s.client, "/pool/sweep", nil)
	must.Do(t, err)
	if said := s.interrupted(ctx, "job", "watch", strconv.FormatInt(sweep.ID, 10)); !strings.Contains(said,
		"waiting for job 1 (build of mirror barrage)") {
		t.Errorf("it is not told what the sweep waits for: %s", said)
	}
	s.cli(0, "source", "refresh", "kelp")
	s.cli(0, "job", "stop", strconv.FormatInt(sweep.ID, 10))
	if swept, err := s.client.Follow(ctx, sweep.ID, nil); err != nil || swept.State != "stopped" {
		t.Errorf("the sweep that waits: %v, %v", swept.State, err)
	}
	if said := s.interrupted(ctx, "job", "watch", "1"); !strings.Contains(said, "stopped following job 1") ||
		!strings.Contains(said, "stockade job stop 1") {
		t.Errorf("after Ctrl-C: %s", said)
	}
	if j, err := client.Get[api.Job](ctx, s.client, "/jobs/1"); err != nil || j.State != api.Running {
		t.Errorf("the job that was no longer followed: %v, %v", j.State, err)
	}
	s.cli(0, "job", "stop", "1")
	if j := <-done; j.State != "stopped" {
		t.Errorf("the job is %s", j.State)
	}
	if out, _ := s.cli(0, "edition", "list", "-o", "ids"); out != "" {
		t.Errorf("editions: %s", out)
	}
}

func TestAChangeMadeMeanwhileIsNotOverwritten(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	_, _, header := get(t, s.service.APIURL()+"/api/v1/sources/tarn", "Authorization", "Bearer "+s.token)
	record := func(etag string) int {
		body := `{"documents":[{"name":"x","text":"stockade: 1\nlanes: {extra` + strings.Trim(etag,
			`"`) + `: {mirror: barrage}}\n"}]}`
		req, _ := http.NewRequest("POST", s.service.APIURL()+"/api/v1/definitions/record",
			strings.NewReader(body))
		req.Header.Set("Authorization", "Bearer "+s.token)
		req.Header.Set("If-Match", etag)
		res, err := http.DefaultClient.Do(req)
		must.Do(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	if code := record(header.Get("ETag")); code != 200 {
		t.Errorf("over what was seen: %d", code)
	}
	if code := record(header.Get("ETag")); code != 412 {
		t.Errorf("over what changed meanwhile: %d", code)
	}
}
