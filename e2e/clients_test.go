package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"stockade/internal/must"
)

// binary is the program, built once for the tests that need it as a process.
var binary = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("/var/tmp", "stockade-bin-")
	if err != nil {
		return "", err
	}
	binaryDir = dir
	bin := filepath.Join(dir, "stockade")
	if out, err := exec.Command("go", "build", "-o", bin, "../cmd/stockade").CombinedOutput(); err != nil {
		return "", fmt.Errorf("build the program: %w\n%s", err, out)
	}
	return bin, nil
})

// binaryDir is where it lies, once a test asked for it.
var binaryDir string

func TestMain(m *testing.M) {
	code := m.Run()
	if binaryDir != "" {
		os.RemoveAll(binaryDir)
	}
	os.Exit(code)
}

// packageClient is one of the real clients of the rpm and alpm families, as it
// is run on a machine of its own.
type packageClient struct {
	name  string
	tools []string
	// prepare is what the machine does once with the files that it got.
	prepare string
	// run is the client with the root in $R, before its arguments.
	run                        string
	refresh, install, upgraded []string
	installed                  func(root, name string) string
	dirs                       []string
}

var dnf = packageClient{name: "dnf", tools: []string{"dnf", "rpm"},
	prepare: `sh "$R/etc/pki/rpm-gpg/stockade-setup" "$R"`,
	run:     `dnf -q -y --installroot="$R" --releasever=9 --setopt=cachedir="$R/var/cache/dnf" --setopt=logdir=/var/log --setopt=install_weak_deps=0`,
	refresh: []string{"makecache", "--refresh"}, install: []string{"install"}, upgraded: []string{"upgrade",
		"--refresh"}, installed: rpmInstalled, dirs: []string{"var/log", "var/cache", "var/lib"}}

var zypper = packageClient{name: "zypper", tools: []string{"zypper", "rpm"},
	prepare: `sh "$R/etc/pki/rpm-gpg/stockade-setup" "$R"`,
	run:     `zypper --root "$R" --non-interactive --quiet`,
	refresh: []string{"refresh", "--force"}, install: []string{"install", "--no-recommends"},
	upgraded: []string{"update"}, installed: rpmInstalled, dirs: []string{"var/log", "var/cache", "var/lib",
		"tmp"}}

var pacman = packageClient{name: "pacman", tools: []string{"pacman", "pacman-key"},
	// twice does no harm
	prepare: `sh "$R/etc/pacman.d/stockade-setup" "$R" && sh "$R/etc/pacman.d/stockade-setup" "$R"`,
	run:     `pacman --root "$R" --dbpath "$R/var/lib/pacman" --cachedir "$R/var/cache/pacman/pkg" --gpgdir "$R/etc/pacman.d/gnupg" --config "$R/etc/pacman.conf" --logfile "$R/var/log/pacman.log" --noconfirm --noprogressbar`,
	refresh: []string{"-Syy"}, install: []string{"-S"}, upgraded: []string{"-Syu"}, dirs: []string{"var/log",
		"var/cache/pacman/pkg", "var/lib/pacman"},
	installed: func(root, name string) string {
		out, err := exec.Command("pacman", "--root", root, "--dbpath", filepath.Join(root, "var/lib/pacman"),
			"--config", filepath.Join(root, "etc/pacman.conf"), "-Q", name).Output()
		if f := strings.Fields(string(out)); err == nil && len(f) == 2 {
			return f[1]
		}
		return ""
	}}

func rpmInstalled(root, name string) string {
	c := exec.Command("rpm", "--root", root, "-q", "--qf", "%{evr}\n", name)
	c.Env = append(os.Environ(), "HOME=/root") // the database lies below it here
	out, err := c.Output()
	if err != nil {
		return ""
	}
	return strings.TrimSpace(string(out))
}

// box is a made-up machine on which a real client runs, in a mount namespace
// whose /etc has the machine's own files in front, and in a network namespace
// with no interface up, or with its own loopback alone.
type box struct {
	t    *testing.T
	root string
	packageClient
	// serve is the data folder of a service that is started on the loopback of the
	// namespace; empty: no interface is up at all.
	serve string
}

func newBox(t *testing.T, s *site, c packageClient, group, at string) *box {
	t.Helper()
	if os.Geteuid() != 0 {
		t.Skip("not root: the real client needs namespaces of its own")
	}
	for _, tool := range append(c.tools, "unshare", "mount", "ip") {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("%s is not on this machine", tool)
		}
	}
	root, err := os.MkdirTemp(s.dir, "box-")
	must.Do(t, err)
	must.Do(t, os.Chmod(root, 0o755))
	for _, d := range append(c.dirs, "etc") {
		must.Do(t, os.MkdirAll(filepath.Join(root, d), 0o755))
	}
	s.cli(0, "group", "files", group, "--at", at, "--out", root)
	b := &box{t: t, root: root, packageClient: c}
	if out, err := b.sh(c.prepare); err != nil {
		t.Fatalf("what the machine does once failed: %v\n%s", err, out)
	}
	return b
}

// sh runs a line in the namespaces of the machine.
func (b *box) sh(line string, args ...string) (string, error) {
	b.t.Helper()
	prelude := `set -e
mount -t sysfs none /sys
mount -t overlay overlay -o "lowerdir=$R/etc:/etc" /etc
if [ "$(cat /sys/class/net/*/operstate 2>/dev/null | grep -c -v down)" != 0 ]; then echo "an interface is up" >&2; exit 9; fi
`
	if b.serve != "" {
		prelude += `ip link set lo up
: >"$R/served.log" # what it said the last time is not taken for this time
"$BIN" serve --data "$DATA" --listen 127.0.0.1:8440 --packages 127.0.0.1:8441 >>"$R/served.log" 2>&1 &
pid=$!
trap 'kill $pid; wait $pid 2>/dev/null || true' EXIT
for i in $(seq 600); do grep -q 8441 "$R/served.log" && break; sleep 0.1; done
grep -q 8441 "$R/served.log" || { cat "$R/served.log"; exit 9; }
`
	}
	c := exec.Command("unshare", append([]string{"-m", "-n", "--pid", "--fork", "--kill-child", "sh", "-c",
		prelude + line, b.name}, args...)...)
	bin := ""
	if b.serve != "" {
		var err error
		if bin, err = binary(); err != nil {
			b.t.Fatal(err)
		}
	}
	c.Env = append(os.Environ(), "R="+b.root, "BIN="+bin, "DATA="+b.serve, "LC_ALL=C", "HOME=/root")
	out, err := c.CombinedOutput()
	return string(out), err
}

func (b *box) client(args ...string) (string, error) {
	b.t.Helper()
	return b.sh(b.run+` "$@"`, args...)
}

func (b *box) must(args ...string) string {
	b.t.Helper()
	out, err := b.client(args...)
	if err != nil {
		b.t.Fatalf("%s %s: %v\n%s", b.name, strings.Join(args, " "), err, out)
	}
	return out
}

func (b *box) has(name, version string) {
	b.t.Helper()
	if got := b.installed(b.root, name); got != version {
		b.t.Errorf("%s is installed as %q, and %q was meant", name, got, version)
	}
}

// cliJSON runs one command with -o json and reads what it prints: of a command that takes several
// names, and gets one, what it says of that.
func cliJSON[T any](s *site, args ...string) (v T) {
	s.t.Helper()
	out, _ := s.cli(0, append(args, "-o", "json")...)
	var one []T
	if json.Unmarshal([]byte(out), &one) == nil && len(one) == 1 {
		return one[0]
	}
	if err := json.Unmarshal([]byte(out), &v); err != nil {
		s.t.Fatalf("%v: %v\n%s", args, err, out)
	}
	return v
}
