package e2e

import (
	"bytes"
	"database/sql"
	"io/fs"
	"log/slog"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"stockade/internal/demo"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/service"
)

// closed starts a vendor whose server asks who it is, and writes its definitions to a
// folder of the site.
func (s *site) closed(asks func(*http.Request) bool, credential string) (*demo.Closed, string) {
	s.t.Helper()
	v, err := demo.NewClosed(time.Now(), asks)
	must.Do(s.t, err)
	s.t.Cleanup(v.Close)
	dir := filepath.Join(s.dir, "shoal")
	must.Do(s.t, v.Write(dir, credential))
	return v, dir
}

// edit changes a text of a file.
func edit(t *testing.T, path string, pairs ...string) {
	t.Helper()
	raw, err := os.ReadFile(path)
	must.Do(t, err)
	for i := 0; i < len(pairs); i += 2 {
		if !bytes.Contains(raw, []byte(pairs[i])) {
			t.Fatalf("%s has no %q", path, pairs[i])
		}
	}
	must.Write(t, path, strings.NewReplacer(pairs...).Replace(string(raw)))
}

const token = "4f1c-Tide.Token_77"

// A vendor with a login, one with a token, one with client certificates, each with an
// authority of its own, and one behind a proxy that asks as well: refused without, a whole
// build with.
func TestVendorsThatAskWhoItIs(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		asks       func(*http.Request) bool
		credential string
		secret     func(v *demo.Closed) string
		refused    string // what is told before the secret is given
	}{
		"a login": {demo.ShoalLogin, "kind: login, user: " + demo.ShoalUser,
			func(*demo.Closed) string { return demo.ShoalPassword + "\n" }, "asks for a login (401"},
		"a token": {func(r *http.Request) bool { return r.Header.Get("Authorization") == "Bearer "+token },
			"kind: token", func(*demo.Closed) string { return token }, "asks for a login (401"},
		"a certificate": {nil, "kind: certificate", func(v *demo.Closed) string {
			return v.Authority.Client("skerry-reach", time.Now().Add(90*24*time.Hour))
		}, "asks for a client certificate"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := newSite(t)
			v, dir := s.closed(c.asks, c.credential)
			_, log := s.cli(0, "record", dir)
			if !strings.Contains(log, "warning credential.missing") {
				t.Errorf("what is still to be given is not told: %s", log)
			}
			if _, log = s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log, c.refused) ||
				!strings.Contains(log, "stockade credential add") {
				t.Errorf("refused: %s", log)
			}
			file := filepath.Join(s.dir, "secret")
			must.Do(t, os.WriteFile(file, []byte(c.secret(v)), 0o600))
			s.cli(0, "credential", "add", "shoal-login", "--file", file)
			out, _ := s.cli(0, "mirror", "build", "sounders")
			if strings.TrimSpace(out) != "sounders/1" {
				t.Error(out)
			}
			s.cli(0, "edition", "verify", "sounders/1")
			out, _ = s.cli(0, "credential", "list", "-o", "json")
			if strings.Contains(out, `"given": "`) != true || strings.Contains(out, strings.TrimSpace(c.secret(v))) {
				t.Error(out)
			}
			s.cli(0, "credential", "remove", "shoal-login", "--yes")
			if _, log = s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log, c.refused) {
				t.Errorf("forgotten, and all the same: %s", log)
			}
		})
	}
}

// By a proxy that asks who it is, with an exception, and an authority that is wrong.
func TestAVendorBehindAProxyThatAsks(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	v, dir := s.closed(demo.ShoalLogin, "kind: login, user: "+demo.ShoalUser)
	office, err := demo.NewOffice("mara", "harbour-9")
	must.Do(t, err)
	t.Cleanup(office.Close)
	file := filepath.Join(dir, "shoal.yaml")
	edit(t, file, "keys:\n", "  office-login: {kind: login, user: mara, hosts: [\""+office.Host()+"\"]}\n"+
		"proxies:\n  office: {url: \""+office.URL+"\", credential: office-login}\nkeys:\n",
		"    authority: shoal-roots\n", "    authority: shoal-roots\n    proxy: office\n")
	s.cli(0, "record", dir)
	password := filepath.Join(dir, "shoal-password")
	s.cli(0, "credential", "add", "shoal-login", "--file", password)
	_, log := s.cli(1, "source", "refresh", "shoal")
	if !strings.Contains(log, "the proxy "+office.URL+" asks for a login (407") ||
		!strings.Contains(log, "stockade credential add office-login") {
		t.Error(log)
	}
	must.Do(t, os.WriteFile(filepath.Join(dir, "office"), []byte("harbour-9"), 0o600))
	s.cli(0, "credential", "add", "office-login", "--file", filepath.Join(dir, "office"))
	s.cli(0, "mirror", "build", "sounders")
	if seen := office.Seen(); len(seen) == 0 || seen[0] != "CONNECT "+v.Host() {
		t.Errorf("the proxy saw %v", seen)
	}
	s.cli(0, "source", "probe", "shoal")
	office.Seen()
	edit(t, file, "credential: office-login}", "credential: office-login, no_proxy: [127.0.0.0/8]}")
	s.cli(0, "record", dir)
	s.cli(0, "source", "refresh", "shoal")
	if seen := office.Seen(); len(seen) > 0 {
		t.Errorf("an exception was asked of the proxy: %v", seen)
	}
	// Another authority than the vendor's.
	must.Write(t, filepath.Join(dir, "shoal-roots.pem"), made.NewAuthority("Somebody else").PEM)
	out, _ := s.cli(0, "record", dir)
	if !strings.Contains(out, "authority shoal-roots") {
		t.Errorf("a new authority is no change: %s", out)
	}
	if _, log := s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log, "source.certificate-bad") {
		t.Error(log)
	}
}

// A secret goes where the warden who gave it meant it to go, and nowhere else.
func TestASecretStaysWhereItBelongs(t *testing.T) {
	t.Parallel()
	log := &safeBuffer{}
	s := newSiteWith(t, func(c *service.Config) {
		c.Log = slog.New(slog.NewTextHandler(log, &slog.HandlerOptions{Level: slog.LevelDebug}))
	})
	var shown []string
	thief, err := demo.NewClosed(time.Now(), func(r *http.Request) bool {
		shown = append(shown, r.Header.Get("Authorization"))
		return false
	})
	must.Do(t, err)
	t.Cleanup(thief.Close)
	v, dir := s.closed(demo.ShoalLogin, "kind: login, user: "+demo.ShoalUser)
	file, password := filepath.Join(dir, "shoal.yaml"), filepath.Join(dir, "shoal-password")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"credential", "add", "shoal-logon", "--file", password}, 2, "no credential is named"},
		{[]string{"credential", "list"}, 0, ""},
	} {
		code, out, err := s.try(c.args...)
		if code != c.code || !strings.Contains(out+err, c.says) {
			t.Errorf("%v: %d %s%s", c.args, code, out, err)
		}
	}
	s.cli(0, "record", dir)
	must.Do(t, os.WriteFile(filepath.Join(dir, "bad"), []byte("one\ntwo\n"), 0o600))
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"credential", "add", "shoal-logon", "--file", password}, 2, `did you mean "shoal-login"`},
		{[]string{"credential", "add", "shoal-login"}, 2, "can only be typed on a terminal"},
		{[]string{"credential", "add", "shoal-login", "--file", filepath.Join(dir, "none")}, 2,
			"cannot read"},
		{[]string{"credential", "add", "shoal-login", "--file", filepath.Join(dir, "bad")}, 1,
			"control character"},
		{[]string{"credential", "remove", "shoal-login", "--yes"}, 1,
			"the credential has no secret to remove"},
	} {
		code, out, err := s.try(c.args...)
		if code != c.code || !strings.Contains(out+err, c.says) {
			t.Errorf("%v: %d %s%s", c.args, code, out, err)
		}
	}
	back := s.as("ola", "operator")
	if _, log := s.cli(4, "credential", "add", "shoal-login", "--file", password); !strings.Contains(log,
		"warden") {
		t.Error(log)
	}
	back()
	s.cli(0, "credential", "add", "shoal-login", "--file", password)
	s.cli(0, "source", "refresh", "shoal")
	// Another host, by an operator: described, told, and not shown the secret. Nor is the
	// same host's neighbour after a restore, or by a source of another name.
	back = s.as("per", "operator")
	edit(t, file, "hosts: [\""+v.Host()+"\"]", "hosts: [\""+v.Host()+"\", \""+thief.Host()+"\"]", v.URL,
		thief.URL)
	if _, log := s.cli(0, "record", dir, "--yes"); !strings.Contains(log,
		"so Stockade does not send it to "+thief.Host()) {
		t.Errorf("that the secret was not given for it is not told: %s", log)
	}
	s.try("source", "refresh", "shoal") // the thief's certificate is by another authority
	edit(t, file, "    authority: shoal-roots\n", "    authority: thief\n",
		"  shoal-roots: {file: shoal-roots.pem}",
		"  shoal-roots: {file: shoal-roots.pem}\n  thief: {file: thief.pem}")
	must.Write(t, filepath.Join(dir, "thief.pem"), thief.Authority.PEM)
	if _, log := s.cli(4, "record", dir); !strings.Contains(log, "only a warden may") {
		t.Errorf("an operator says who certifies servers: %s", log)
	}
	back()
	s.cli(0, "record", dir)
	if _, log := s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log, "credential.") {
		t.Error(log)
	}
	if len(shown) == 0 || strings.Join(shown, "") != "" {
		t.Errorf("the other server was shown %q", shown)
	}
	// Taken out and described again, it has to be given again.
	edit(t, file, "hosts: [\""+v.Host()+"\", \""+thief.Host()+"\"]", "hosts: [\""+v.Host()+"\"]", thief.URL,
		v.URL, "authority: thief", "authority: shoal-roots")
	s.cli(0, "record", dir, "--yes")
	s.cli(0, "source", "refresh", "shoal")
	s.cli(0, "record", "--whole", filepath.Join(s.dir, "site"), "--yes")
	s.cli(0, "record", dir)
	if _, log := s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log, "was not saved") {
		t.Errorf("the secret outlived its description: %s", log)
	}
	s.cli(0, "credential", "add", "shoal-login", "--file", password)
	s.cli(0, "source", "refresh", "shoal")
	s.secretIsNowhere([]byte(log.String()))
	// Rows that somebody wrote: for another host, and an older one put back.
	s.db(func(db *sql.DB) {
		altered(t, db, "UPDATE credentials SET hosts = replace(hosts, ?, ?)", v.Host(), thief.Host())
	})
	if _, log := s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log, "was not saved") {
		t.Error(log)
	}
	if out, _ := s.cli(1, "journal", "verify"); !strings.Contains(out,
		"a record has a secret for the credential shoal-login (for") {
		t.Error(out)
	}
}

// secretIsNowhere looks for the password in everything that the service keeps and says.
func (s *site) secretIsNowhere(log []byte) {
	s.t.Helper()
	said := map[string][]byte{"the log": log}
	for _, args := range [][]string{{"journal", "list", "-o", "json"}, {"revision", "list", "-o", "json"},
		{"describe", "-o", "json"}, {"credential", "list", "-o", "yaml"}, {"source", "show", "shoal", "-o",
			"json"}, {"job", "list", "-o", "json"}, {"status", "-o", "json"}} {
		_, out, err := s.try(args...)
		said[strings.Join(args, " ")] = []byte(out + err)
	}
	data := filepath.Join(s.dir, "data")
	must.Do(s.t, filepath.WalkDir(data, func(path string, d fs.DirEntry, err error) error {
		if err == nil && d.Type().IsRegular() {
			said[path], err = os.ReadFile(path)
		}
		return err
	}))
	for where, text := range said {
		if bytes.Contains(text, []byte(demo.ShoalPassword)) {
			s.t.Errorf("the password stands in %s", where)
		}
	}
	if len(said) < 15 {
		s.t.Errorf("only %d places were looked at", len(said))
	}
}

// In the console: what is still to be given is told, given in place, and not shown again.
func TestTheConsoleTakesASecret(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	_, dir := s.closed(demo.ShoalLogin, "kind: login, user: "+demo.ShoalUser)
	edit(t, filepath.Join(dir, "shoal.yaml"), "credentials:\n  shoal", "credentials:\n"+
		"  kelp-desk: {kind: certificate, hosts: [packages.kelp.example]}\n  shoal")
	s.cli(0, "record", dir)
	b := signedIn(t, s, "/credentials")
	b.see("shoal-login: its secret was not saved yet")
	b.see("login of skerry-reach")
	press := func(of, what string) {
		x := `//tr[contains(., "` + of + `")]//button[contains(., "` + what + `")]`
		b.run(what, chromedp.WaitVisible(x, chromedp.BySearch), chromedp.Click(x, chromedp.BySearch))
	}
	press("kelp-desk", "Add secret")
	b.typed("#secret", "hello")
	b.click("Save secret")
	b.see("the file must contain a certificate and its key") // what was typed is still there
	b.click("Cancel")
	press("shoal-login", "Add secret")
	b.see("Password of skerry-reach")
	b.typed("#secret", demo.ShoalPassword)
	b.click("Save secret")
	b.see("by warden")
	var text string
	b.run("the page", chromedp.Evaluate(`document.documentElement.outerHTML`, &text))
	if strings.Contains(text, demo.ShoalPassword) || strings.Contains(text, "shoal-login: its secret") {
		t.Error("the page shows the secret, or that it lacks")
	}
	s.cli(0, "source", "refresh", "shoal")
	press("shoal-login", "Remove secret")
	b.see("source shoal cannot show it any more")
	b.press("Remove")
	b.see("shoal-login: its secret was not saved yet")
	if _, log := s.cli(1, "source", "refresh", "shoal"); !strings.Contains(log, "was not saved") {
		t.Error(log)
	}
	// Who is no warden sees, and is not asked.
	back := s.as("ola", "viewer")
	viewer := s.env["STOCKADE_TOKEN"]
	back()
	v := newBrowser(t, s)
	v.open("/credentials")
	v.typed("#token", viewer)
	v.click("Sign in")
	v.see("login of skerry-reach")
	var buttons int
	v.run("count", chromedp.Evaluate(`document.querySelectorAll('main td button:not(:disabled)').length`,
		&buttons))
	if buttons != 0 {
		t.Errorf("a viewer is offered %d buttons", buttons)
	}
	v.see("needs warden")
}
