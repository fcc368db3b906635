// Package e2e drives the whole program on loopback: the service through its
// client, its command line, its HTTP interface and its console, and the real
// package clients as consumers of what it serves.
package e2e

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/cli"
	"stockade/internal/client"
	"stockade/internal/demo"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/service"
)

// site is a running service with the Skerry Reach scenario.
type site struct {
	t        *testing.T
	dir      string // readable for everybody, for package clients that drop rights
	scenario *demo.Scenario
	service  *service.Service
	client   *client.Client
	token    string
	stop     func()

	configure func(*service.Config) // nil: the usual one
	env       map[string]string     // of the command line
	begun     bool                  // it had a key
}

func newSite(t *testing.T) *site { return newSiteWith(t, nil) }

// newSiteWith starts a service with a configuration of its own.
func newSiteWith(t *testing.T, configure func(*service.Config)) *site {
	t.Helper()
	base, err := os.MkdirTemp("/var/tmp", "stockade-e2e-")
	must.Do(t, err)
	must.Do(t, os.Chmod(base, 0o755))
	t.Cleanup(func() { os.RemoveAll(base) })
	s := &site{t: t, dir: base, configure: configure}
	if s.scenario, err = demo.NewScenario(time.Now()); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.scenario.Close)
	must.Do(t, s.scenario.WriteSite(filepath.Join(base, "site")))
	s.start()
	t.Cleanup(func() { s.stop() })
	return s
}

func (s *site) start() {
	s.t.Helper()
	cfg := service.Config{Data: filepath.Join(s.dir, "data"), Listen: "127.0.0.1:0",
		Packages: "127.0.0.1:0", Version: "test",
		Fetch: fetch.Options{DownFor: 50 * time.Millisecond, Rounds: 1}, NewKey: s.newKey}
	if s.configure != nil {
		s.configure(&cfg)
	}
	svc, err := service.Open(cfg)
	must.Do(s.t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- svc.Run(ctx) }()
	s.stop = sync.OnceFunc(func() {
		cancel()
		if err := <-ended; err != nil {
			s.t.Errorf("the service ended with %v", err)
		}
	})
	raw, err := os.ReadFile(svc.WardenToken())
	must.Do(s.t, err)
	s.service, s.token = svc, strings.TrimSpace(string(raw))
	s.client = client.New(svc.APIURL(), s.token)
	s.env = map[string]string{
		"STOCKADE_SERVER": svc.APIURL(),
		"STOCKADE_TOKEN":  s.token,
		"HOME":            filepath.Join(s.dir, "home"),
		"XDG_CONFIG_HOME": filepath.Join(s.dir, "home", "config"),
	}
}

// newKey hands the one key out the first time, and makes one of its own for a site that
// begins anew.
func (s *site) newKey(name, comment, address string, now func() time.Time) (*trust.SiteKey, error) {
	if s.begun {
		return trust.NewKey(name, comment, address, now)
	}
	s.begun = true
	// One for all sites: making one takes longer than most of what a test does.
	k, err := made.Key(made.Owner{Name: "Stockade site key", Comment: "e2e"})
	if err != nil {
		return nil, err
	}
	return k.At(now), nil
}

// cli runs one command and asserts its exit code.
func (s *site) cli(want int, args ...string) (out, err string) {
	s.t.Helper()
	code, out, err := s.try(args...)
	if code != want {
		s.t.Fatalf("stockade %s: exit code %d, and %d was expected\n%s%s", strings.Join(args, " "), code,
			want, out, err)
	}
	return out, err
}

// try runs one command and gives its exit code.
func (s *site) try(args ...string) (code int, out, err string) {
	var o, e bytes.Buffer
	env := func(name string) string { return s.env[name] }
	code = cli.Run(env, args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

// interrupted runs a command that follows something in a process of its own, leaves it
// with Ctrl-C once it has said anything, asserts its exit code, and gives what it said.
func (s *site) interrupted(ctx context.Context, args ...string) string {
	s.t.Helper()
	cmd := exec.CommandContext(ctx, filepath.Join(program(s.t), "stockade"), args...)
	cmd.Env = os.Environ()
	for name, value := range s.env {
		cmd.Env = append(cmd.Env, name+"="+value)
	}
	out, err := cmd.StderrPipe()
	if err == nil {
		err = cmd.Start()
	}
	must.Do(s.t, err)
	said := bufio.NewReader(out)
	first, err := said.ReadString('\n')
	if err == nil {
		err = cmd.Process.Signal(os.Interrupt)
	}
	rest, readErr := io.ReadAll(said)
	must.Do(s.t, readErr)
	cmd.Wait()
	if code := cmd.ProcessState.ExitCode(); err != nil || code != 130 {
		s.t.Errorf("stockade %s, and Ctrl-C: exit code %d, %v\n%s%s", strings.Join(args, " "), code, err,
			first, rest)
	}
	return first + string(rest)
}

// described applies the definitions and vouches for the vendor's key.
func (s *site) described() {
	s.t.Helper()
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	s.cli(0, "key", "vouch", s.scenario.KelpKey.Certificate().Fingerprint, "--source", "kelp", "--evidence",
		"compared on paper")
}

// built builds a mirror and points a lane at the new edition.
func (s *site) built(lane string) string {
	s.t.Helper()
	out, _ := s.cli(0, "mirror", "build", "barrage")
	edition := strings.TrimSpace(out)
	s.cli(0, "lane", "move", lane, edition)
	return edition
}

// published makes what carries tarn publish anew, with a change.
func (s *site) published(change func(*made.DebRepository)) {
	s.t.Helper()
	must.Do(s.t, s.scenario.PublishTarn(time.Now().Add(-time.Minute), true, change))
}

// at gives the packages of a name another version.
func at(name, version string) func(*made.DebRepository) {
	return func(r *made.DebRepository) {
		for i := range r.Packages {
			if r.Packages[i].Name == name {
				r.Packages[i].Version = version
			}
		}
	}
}

// newer publishes a sluicectl of another version.
func (s *site) newer(version string) {
	s.t.Helper()
	s.published(at("sluicectl", version))
}

// flipped changes a byte in each file below a folder whose path ends in one of these.
func flipped(t *testing.T, dir string, ends ...string) {
	t.Helper()
	changed := 0
	must.Do(t, filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && slices.ContainsFunc(ends, func(end string) bool {
			return strings.HasSuffix(p, end)
		}) {
			raw := []byte(must.Read(t, p))
			raw[len(raw)/2] ^= 4
			must.Do(t, os.WriteFile(p, raw, 0o644))
			changed++
		}
		return err
	}))
	if changed == 0 {
		t.Fatalf("nothing below %s ends in %s", dir, ends)
	}
}

// job starts a job through the client and waits for it.
func (s *site) job(path string, in any) api.Job {
	s.t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	j, err := client.Post[api.Job](ctx, s.client, path, in)
	must.Do(s.t, err)
	if j, err = s.client.Follow(ctx, j.ID, nil); err != nil {
		s.t.Fatal(err)
	}
	return j
}

func has(l finding.List, code string) bool { return len(l.With(finding.Code(code))) > 0 }

// get asks an address and gives status and body.
func get(t *testing.T, url string, header ...string) (int, string, http.Header) {
	t.Helper()
	r, err := http.NewRequest(http.MethodGet, url, nil)
	must.Do(t, err)
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(r)
	must.Do(t, err)
	defer res.Body.Close()
	var b bytes.Buffer
	b.ReadFrom(res.Body)
	return res.StatusCode, b.String(), res.Header
}

// machine is a made-up machine: a root folder that the real apt-get works on,
// in a mount namespace of its own where its configuration lies at /etc/apt.
type machine struct {
	t    *testing.T
	root string
	env  []string
	dir  string // where the client is called
}

func newMachine(t *testing.T, dir string) *machine {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("not root: the real apt-get needs a mount namespace of its own")
	}
	for _, tool := range []string{"apt-get", "dpkg", "unshare", "mount"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not on this machine", tool)
		}
	}
	root, err := os.MkdirTemp(dir, "machine-")
	must.Do(t, err)
	must.Do(t, os.Chmod(root, 0o755))
	for _, d := range []string{"etc/apt/apt.conf.d", "etc/apt/preferences.d", "etc/apt/sources.list.d",
		"etc/apt/keyrings", "etc/apt/trusted.gpg.d", "var/lib/apt/lists/partial",
		"var/cache/apt/archives/partial", "var/lib/dpkg/info", "var/lib/dpkg/updates",
		"var/lib/dpkg/triggers", "var/log/apt", "tmp"} {
		must.Do(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}
	must.Do(t, os.WriteFile(filepath.Join(root, "var/lib/dpkg/status"), nil, 0o644))
	return &machine{t: t, root: root}
}

// apt runs apt-get on the machine. cut takes the network away: a namespace in
// which no interface is up.
func (m *machine) apt(cut bool, args ...string) (string, error) {
	m.t.Helper()
	line := fmt.Sprintf(`set -e
for d in etc/apt var/lib/apt var/cache/apt; do mount --bind "$R/$d" "/$d"; done
%s
exec apt-get -q -y -o Dir::State::status="$R/var/lib/dpkg/status" -o Dir::Log="$R/var/log/apt" -o Dpkg::Options::=--root="$R" -o Dpkg::Options::=--force-script-chrootless \
  -o Dpkg::Use-Pty=0 -o Acquire::http::Proxy=false -o Acquire::Retries=0 -o APT::Architecture=amd64 -o APT::Architectures::=amd64 "$@"`,
		map[bool]string{
			true: `if [ "$(cat /sys/class/net/*/operstate 2>/dev/null | grep -c -v down)" != 0 ]; then echo "an interface is up" >&2; exit 9; fi`}[cut])
	flags := []string{"-m"}
	if cut {
		// A sysfs of the new network namespace, so that the check above sees it.
		line = strings.Replace(line, "set -e\n", "set -e\nmount -t sysfs none /sys\n", 1)
		flags = append(flags, "-n")
	}
	c := exec.Command("unshare", append(append(flags, "sh", "-c", line, "apt-get"), args...)...)
	c.Env = append(append(os.Environ(), "R="+m.root, "LC_ALL=C", "DEBIAN_FRONTEND=noninteractive"), m.env...)
	c.Dir = m.dir
	out, err := c.CombinedOutput()
	return string(out), err
}

// must runs apt-get and refuses errors and warnings.
func (m *machine) must(cut bool, args ...string) string {
	m.t.Helper()
	out, err := m.apt(cut, args...)
	if err != nil {
		m.t.Fatalf("apt-get %s: %v\n%s", strings.Join(args, " "), err, out)
	}
	for line := range strings.Lines(out) {
		if strings.HasPrefix(line, "W:") || strings.HasPrefix(line, "E:") {
			m.t.Errorf("apt-get %s warns: %s", strings.Join(args, " "), line)
		}
	}
	return out
}

// installed gives the version of an installed package, or "".
func (m *machine) installed(name string) string {
	m.t.Helper()
	out, _ := exec.Command("dpkg-query", "--admindir="+filepath.Join(m.root, "var/lib/dpkg"), "-W",
		"-f=${db:Status-Abbrev}${Version}", name).Output()
	v, ok := strings.CutPrefix(string(out), "ii ")
	if !ok {
		return ""
	}
	return v
}
