package e2e

import (
	"bytes"
	"context"
	"maps"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/service"
)

// Each attack is mounted against the running service: the build must be
// refused with the code that names the cause, the last edition must go on
// being served byte for byte, and the journal must have it.
func TestAttacksAreRefusedAndTheLastEditionIsStillServed(t *testing.T) {
	t.Parallel()
	const in = "dists/heron/InRelease"
	newer := func(s *site) { s.newer("1.5.0-1") }
	everywhere := func(s *site, match string, f func([]byte) []byte) {
		changed := 0
		for path := range s.scenario.North.Files() {
			if strings.Contains(path, match) {
				s.scenario.North.Change(path, f)
				s.scenario.South.Change(path, f)
				changed++
			}
		}
		if changed == 0 {
			s.t.Fatalf("nothing matches %s", match)
		}
	}
	flip := func(b []byte) []byte { b[len(b)/2] ^= 1; return b }
	for _, c := range []struct {
		name, code string
		mount      func(s *site)
	}{
		{"a tampered package", "content.digest-mismatch", func(s *site) {
			newer(s)
			everywhere(s, "sluicectl_1.5.0-1", flip)
		}},
		{"a tampered index", "content.digest-mismatch", func(s *site) {
			newer(s)
			everywhere(s, "core/binary-amd64/", flip)
		}},
		{"a stripped signature", "content.signature-bad", func(s *site) {
			newer(s)
			plain := s.scenario.North.Files()["dists/heron/Release"]
			everywhere(s, in, func([]byte) []byte { return plain })
		}},
		{"a root signed by the key of another source", "key.unvouched", func(s *site) {
			newer(s)
			files, err := s.scenario.Tarn.Publish(s.scenario.KelpKey)
			must.Do(s.t, err)
			s.scenario.North.Publish(files)
			s.scenario.South.Publish(maps.Clone(files))
		}},
		{"an older root", "source.older-than-accepted", func(s *site) {
			must.Do(s.t, s.scenario.PublishTarn(time.Now().Add(-72*time.Hour), true,
				func(*made.DebRepository) {}))
		}},
		{"a key that was barred meanwhile", "key.barred", func(s *site) {
			newer(s)
			s.cli(0, "key", "bar", s.scenario.TarnKey.Certificate().Fingerprint, "--reason", "lost", "--yes")
		}},
		{"terminal escapes in a summary", "", func(s *site) {
			s.published(func(r *made.DebRepository) {
				for i := range r.Packages {
					if r.Packages[i].Name == "sluicectl" {
						r.Packages[i].Version, r.Packages[i].Summary = "1.6-1",
							"evil \x1b]0;title\a <script>alert(1)</script> \u202egnp"
					}
				}
			})
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			s := newSite(t)
			s.described()
			s.built("steady")
			lane := s.service.PackagesURL() + "/lane/steady/tarn/"
			_, before, _ := get(t, lane+in)
			c.mount(s)
			j := s.job("/mirrors/barrage/build", nil)
			if c.code == "" {
				if j.State != "done" {
					t.Fatalf("the build ended %s: %s", j.State, j.Problem)
				}
				out, _ := s.cli(0, "edition", "show", "barrage/2")
				if strings.ContainsAny(out, "\x1b\a\u202e") {
					t.Errorf("control characters reach the terminal: %q", out)
				}
				return
			}
			if j.State != "failed" || !has(j.Findings, c.code) {
				t.Errorf("the build ended %s with %v, and %s was expected", j.State, j.Findings, c.code)
			}
			if _, after, _ := get(t, lane+in); after != before {
				t.Error("the lane serves something else now")
			}
			if out, _ := s.cli(0, "edition", "list", "-o", "ids"); strings.TrimSpace(out) != "barrage/1" {
				t.Errorf("editions: %s", out)
			}
			if out, _ := s.cli(0, "journal", "list", "-o", "json"); !strings.Contains(out, c.code) {
				t.Error("the journal does not have it")
			}
			if out, _ := s.cli(0, "journal", "verify"); !strings.Contains(out, "chain intact") {
				t.Error(out)
			}
		})
	}
}

func TestAnOlderRootIsAcceptedOnceByAWardenWithAReason(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	must.Do(t, s.scenario.PublishTarn(time.Now().Add(-72*time.Hour), true, func(*made.DebRepository) {}))
	_, log := s.cli(1, "source", "refresh", "tarn")
	if !strings.Contains(log, "source.older-than-accepted") || !strings.Contains(log, "--accept-once") {
		t.Error(log)
	}
	s.cli(0, "source", "refresh", "tarn", "--accept-once", "upstream took a bad release back")
	s.cli(0, "source", "refresh", "tarn")
	if out, _ := s.cli(0, "journal", "list"); !strings.Contains(out, "took a bad release back") {
		t.Error("the journal does not have the reason")
	}
}

func TestDamageOnDiskIsFoundAndMended(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	victim := ""
	pool := filepath.Join(s.dir, "data/pool")
	must.Do(t, filepath.Walk(pool, func(p string, info os.FileInfo, err error) error {
		if err == nil && info.Size() > 100_000 && victim == "" {
			victim = p
		}
		return nil
	}))
	for name, damage := range map[string]func([]byte) []byte{
		"cut short":           func(b []byte) []byte { return b[:len(b)-1] },
		"changed by one byte": func(b []byte) []byte { b[len(b)/2] ^= 1; return b },
	} {
		raw, err := os.ReadFile(victim)
		must.Do(t, err)
		must.Do(t, os.Chmod(victim, 0o644))
		must.Do(t, os.WriteFile(victim, damage(raw), 0o644))
		if _, log := s.cli(1, "edition", "verify", "barrage/1"); !strings.Contains(log, "edition.damaged") {
			t.Error(name, log)
		}
		s.cli(1, "lane", "move", "trial", "barrage/1")
		s.cli(0, "mirror", "build", "barrage") // fetches anew what is damaged
		s.cli(0, "edition", "verify", "barrage/1")
	}
}

// TestKilledAtRandomInstantsOfABuild kills a real service in the middle of
// builds. Whatever the instant, a restart finds the old state or the new.
func TestKilledAtRandomInstantsOfABuild(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	must.Do(t, err)
	s := newSite(t)
	s.described()
	s.cli(0, "mirror", "build", "barrage")
	s.stop()
	kills := 10
	if os.Getenv("STOCKADE_KILLS") == "many" {
		kills = 200
	}
	data := filepath.Join(s.dir, "data")
	for i := range kills {
		if err := s.scenario.PublishTarn(time.Now().Add(time.Duration(i-3*kills)*time.Second), true,
			func(r *made.DebRepository) {
				for k := range r.Packages {
					r.Packages[k].Summary = strings.Repeat("x", i+1) // every package is new
				}
			}); err != nil {
			t.Fatal(err)
		}
		c := exec.Command(bin, "serve", "--data", data, "--listen", "127.0.0.1:0", "--packages",
			"127.0.0.1:0")
		out := &lines{c: make(chan string, 16)}
		c.Stdout = out
		must.Do(t, c.Start())
		address := ""
		select {
		case l := <-out.c:
			address = strings.TrimSpace(strings.TrimPrefix(l, "api and console"))
		case <-time.After(20 * time.Second):
			t.Fatal("the service did not start")
		}
		cl := client.New(address, s.token)
		if _, err := client.Post[api.Job](context.Background(), cl, "/mirrors/barrage/build", nil); err !=
			nil {
			t.Fatal(err)
		}
		time.Sleep(time.Duration(i*37%260) * time.Millisecond)
		c.Process.Kill()
		c.Wait()
	}
	s.start()
	page, err := client.Get[api.Page[api.Job]](context.Background(), s.client, "/jobs?limit=1000")
	must.Do(t, err)
	for _, j := range page.Items {
		if j.State == "running" {
			t.Errorf("job %d is said to run", j.ID)
		}
	}
	names, _ := s.cli(0, "edition", "list", "-o", "ids")
	for _, name := range strings.Fields(names) {
		s.cli(0, "edition", "verify", name)
	}
	s.cli(0, "journal", "verify")
	s.cli(0, "mirror", "build", "barrage")
	usage := func() api.PoolUsage {
		u, err := client.Get[api.PoolUsage](context.Background(), s.client, "/pool")
		must.Do(t, err)
		return u
	}
	before := usage()
	s.cli(0, "pool", "sweep", "--yes")
	if after := usage(); after.Unheld.Files != 0 ||
		after.Total.Files != before.Total.Files-before.Unheld.Files {
		t.Errorf("the pool before the sweep %+v, and after it %+v", before, after)
	}
	names, _ = s.cli(0, "edition", "list", "-o", "ids")
	for _, name := range strings.Fields(names) {
		s.cli(0, "edition", "verify", name)
	}
	t.Logf("%d kills; editions that stand: %s", kills, strings.Fields(names))
}

// lines hands over the first lines of an output.
type lines struct {
	buf bytes.Buffer
	c   chan string
}

func (l *lines) Write(p []byte) (int, error) {
	l.buf.Write(p)
	for {
		line, err := l.buf.ReadString('\n')
		if err != nil {
			l.buf.WriteString(line)
			return len(p), nil
		}
		select {
		case l.c <- line:
		default:
		}
	}
}

func TestRetiredEditionsGoAndTheOthersStayWhole(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.stop()
	// machines that began with an edition are given none of it any more
	s.configure = func(c *service.Config) { c.Grace = time.Nanosecond }
	s.start()
	s.described()
	s.built("steady")
	s.published(at("tide-data", "2026.4"))
	s.built("trial")
	if _, log := s.cli(1, "edition", "retire", "barrage/1", "--yes"); !strings.Contains(log,
		"the lane steady shows barrage/1") {
		t.Error(log)
	}
	s.cli(0, "lane", "move", "steady", "barrage/2")
	s.cli(0, "edition", "retire", "barrage/1", "--yes")
	s.cli(2, "edition", "show", "barrage/1")
	if code, _, _ := get(t, s.service.PackagesURL()+"/edition/barrage/1/about/edition.json"); code != 404 {
		t.Errorf("a retired edition is served: %d", code)
	}
	if _, log := s.cli(0, "pool", "sweep", "--yes"); strings.HasPrefix(log, "0 files") {
		t.Error("nothing was swept")
	}
	s.cli(0, "edition", "verify", "barrage/2")
	if _, log := s.cli(1, "lane", "back", "steady"); !strings.Contains(log,
		"has no earlier edition to go back to") {
		t.Error(log)
	}
	s.cli(0, "mirror", "build", "barrage") // and what was swept is not missed
}

func TestSecretsAreNotShown(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.cli(0, "mirror", "build", "barrage")
	unlock := strings.TrimSpace(must.Read(t, filepath.Join(s.dir, "data/site/unlock")))
	for _, path := range []string{"/definitions", "/sources", "/keys", "/jobs", "/revisions", "/journal",
		"/accounts", "/overview", "/about"} {
		_, body, _ := get(t, s.service.APIURL()+api.Base+path, "Authorization", "Bearer "+s.token)
		for _, secret := range []string{s.token, unlock, "PRIVATE KEY"} {
			if strings.Contains(body, secret) {
				t.Errorf("%s shows a secret", path)
			}
		}
	}
	raw, err := os.ReadFile(filepath.Join(s.dir, "data/stockade.db"))
	must.Do(t, err)
	if bytes.Contains(raw, []byte(s.token)) {
		t.Error("the token stands in the database")
	}
	for file, mode := range map[string]os.FileMode{"warden.token": 0o600, "site/unlock": 0o600,
		"site/key.pgp": 0o600, "site": 0o700} {
		if st, err := os.Stat(filepath.Join(s.dir, "data", file)); err != nil || st.Mode().Perm() != mode {
			t.Errorf("%s: %v %v", file, st.Mode(), err)
		}
	}
}

func TestALaneThatIsNoLongerDescribedIsNotServed(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	root := s.service.PackagesURL() + "/lane/steady/tarn/dists/heron/InRelease"
	if code, _, _ := get(t, root); code != 200 {
		t.Fatal(code)
	}
	path := filepath.Join(s.dir, "site/mirrors.yaml")
	text := must.Read(t, path)
	i := strings.Index(text, "groups:")
	must.Write(t, path, strings.Replace(text[:i], "  steady: {mirror: barrage}\n", "", 1))
	s.cli(0, "record", filepath.Join(s.dir, "site"), "--whole", "--yes")
	if code, _, _ := get(t, root); code != 404 {
		t.Errorf("a lane that was taken out is served: %d", code)
	}
}

// Two jobs of one source at once: what the slower one saw first must not take
// the place of what was accepted meanwhile, or a replay would be let in.
func TestASlowerJobDoesNotTakeTheAcceptedRootBack(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	publish := func(ago time.Duration, version string) {
		must.Do(t, s.scenario.PublishTarn(time.Now().Add(-ago), true, at("sluicectl", version)))
	}
	publish(2*time.Hour, "1.5.0-1")
	hold, held := make(chan struct{}), make(chan struct{}, 64)
	slow := func(w http.ResponseWriter, r *http.Request) bool {
		if strings.Contains(r.URL.Path, "sluicectl_1.5.0-1") {
			held <- struct{}{}
			<-hold
		}
		return false
	}
	older := s.scenario.North.Files()
	s.scenario.North.Fault(slow)
	j, err := client.Post[api.Job](context.Background(), s.client, "/mirrors/barrage/build", nil)
	must.Do(t, err)
	<-held // the build has judged the older root and waits for a package of it
	publish(time.Hour, "1.6.0-1")
	s.cli(0, "source", "refresh", "tarn")
	close(hold)
	if _, err := s.client.Follow(context.Background(), j.ID, nil); err != nil {
		t.Fatal(err)
	}
	s.scenario.North.Fault(nil)
	s.scenario.North.Publish(older)
	s.scenario.South.Publish(maps.Clone(older))
	if _, log := s.cli(1, "source", "refresh", "tarn"); !strings.Contains(log, "source.older-than-accepted") {
		t.Error(log)
	}
}
