package service

import (
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/made"
	"stockade/internal/must"
)

// starting is how a service of these tests is started.
func starting(data string) Config {
	return Config{Data: data, Listen: "127.0.0.1:0", Packages: "127.0.0.1:0",
		NewKey: func(name, comment, address string, _ func() time.Time) (*trust.SiteKey, error) {
			return made.Key(made.Owner{Name: name, Comment: comment, Address: address})
		}}
}

func TestAStartThatFailsLeavesNothingBehind(t *testing.T) {
	taken, err := net.Listen("tcp", "127.0.0.1:0")
	must.Do(t, err)
	defer taken.Close()
	for name, c := range map[string]struct {
		change func(*Config)
		says   string
	}{
		"a port that is in use":   {func(c *Config) { c.Listen = taken.Addr().String() }, "--listen"},
		"machines' port in use":   {func(c *Config) { c.Packages = taken.Addr().String() }, "--packages"},
		"an address that is none": {func(c *Config) { c.Listen = "127.0.0.1:99999" }, "--listen"},
		"a certificate that is none": {func(c *Config) {
			c.CertFile, c.KeyFile = "no.pem",
				"no.key"
		}, "--tls-cert"},
		"a warden's name that is none": {func(c *Config) { c.NewWarden = "../x" }, "is not valid"},
		"a passphrase that cannot be a file": {func(c *Config) { c.Unlock = "/proc/none/unlock" },
			"passphrase"},
	} {
		data := filepath.Join(t.TempDir(), "new")
		cfg := starting(data)
		c.change(&cfg)
		if s, err := Open(cfg); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
			if s != nil {
				s.Close()
			}
		}
		if _, err := os.Stat(data); err == nil {
			t.Errorf("%s: a data folder is left behind", name)
		}
		// A folder that was there stays, with what is in it.
		must.Do(t, os.Mkdir(data, 0o700))
		if s, err := Open(cfg); err == nil {
			s.Close()
		}
		if _, err := os.Stat(data); err != nil {
			t.Errorf("%s: the folder that was there is gone", name)
		}
	}
}

// A data folder that was copied, while no service ran over it, is the site it was. Where
// every warden's token is lost, a new warden is made, once, and the journal says so.
func TestACopiedFolderIsTheSameSiteAndANewWardenGetsIn(t *testing.T) {
	data, copied := filepath.Join(t.TempDir(), "data"), filepath.Join(t.TempDir(), "copy")
	s, err := Open(starting(data))
	must.Do(t, err)
	key := s.site.Load().main.Certificate().Fingerprint
	s.Close()
	must.Do(t, os.CopyFS(copied, os.DirFS(data)))
	cfg := starting(copied)
	cfg.NewWarden = "rescue"
	if s, err = Open(cfg); err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if s.site.Load().main.Certificate().Fingerprint != key {
		t.Error("the copy is another site")
	}
	file := filepath.Join(copied, "rescue.token")
	token, err := os.ReadFile(file)
	must.Do(t, err)
	if st, err := os.Stat(file); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("who can read the token: %v %v", st.Mode(), err)
	}
	if a, ok, _ := s.byToken(strings.TrimSpace(string(token))); !ok || a.account.Role != api.Warden ||
		a.account.Name != "rescue" {
		t.Errorf("the new warden is %+v, %v", a, ok)
	}
	r, err := s.verifyJournal("")
	if err != nil || !r.Holds {
		t.Errorf("the journal: %+v %v", r, err)
	}
	last, err := s.db.JournalPage(-1, 1, "", time.Time{})
	if err != nil || last[0].Action != "account.add" || last[0].By != "--new-warden" {
		t.Errorf("the last entry: %+v %v", last, err)
	}
	s.Close()
	if again, err := Open(cfg); err == nil || !strings.Contains(err.Error(),
		"an account of this name already exists") {
		t.Errorf("a second time: %v", err)
		if again != nil {
			again.Close()
		}
	}
}
