package e2e

import (
	"bufio"
	"context"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/internal/cli"
	"stockade/internal/must"
)

// inOrder is every command in the order of the work, on the demonstration after its
// walk: what comes later stands on what was done before.
var inOrder = []string{
	"version", "check",
	"credential list", "credential remove", "credential add", // before a record that takes it out
	"compare", "record", "describe", "status",
	"source list", "source show", "source probe", "source order", "source refresh",
	"site pair", "site statement",
	"key list", "key show", "key add", "key examine", "key withdraw", "key vouch",
	"mirror list", "mirror show", "mirror estimate", "mirror preview", "mirror build", "mirror prove",
	"edition list", "edition show", "edition packages", "edition advisories", "edition diff",
	"edition verify", "edition export", "package find", "package show", "package where",
	"lane list", "lane show", "lane move", "lane back",
	"group list", "group show", "group files", "group kit",
	"machine list", "machine show", "machine enrol", "machine report", "machine change", "machine files",
	"machine kit", "machine stranded", "machine remove",
	"package list", "package add", "package remove",
	"amend", "rename", "finding list", "finding snooze", "finding wake",
	"job list", "job watch", "job stop",
	"source disable", "source enable", "source remove", "source import",
	"edition retire", "pool usage", "pool sweep",
	"revision list", "revision show", "revision diff", "revision restore",
	"journal list", "journal verify", "journal head", "journal proof", "journal check",
	"account list", "account add", "account show", "account role", "account add-token",
	"account remove-token", "account set-password", "account remove-password", "account end-sessions",
	"account remove",
	"key retire", "key bar", // these end what the key did
	"site show", "site renew-key", "site retire-key",
	"login", "serve", "demo",
}

// otherwise are the exit codes of examples that are not 0.
var otherwise = map[string]int{
	"stockade check demo-data/mistakes.yaml --fix --yes": 1, // the rest is a person's
	"stockade check - -o json < demo-data/mistakes.yaml": 1,
	"stockade status":                     1,
	"stockade status --since 2d":          1,
	"stockade status -q --severity error": 1,
	"stockade job stop 3":                 1, // it ended long ago
	`stockade key retire $(stockade key list --source kelp -o ids) --reason "a trial"`: 1, // it is in use
	"stockade serve --data /srv/stockade":                                              124,
	"stockade serve --data ./data --listen 127.0.0.1:0 --packages 0.0.0.0:8441 " +
		"--packages-url http://stores.reach.example:8441": 124,
}

// lasting runs what does not end by itself, until it is told to: its exit code is 124.
const lasting = "timeout --signal=INT 8 "

// Every example of every command does what it says, on the demonstration.
func TestEveryExampleRunsOnTheDemonstration(t *testing.T) {
	t.Parallel()
	for _, c := range cli.Commands() {
		if !slices.Contains(inOrder, c) {
			t.Errorf("nothing says when the examples of %s are run", c)
		}
	}
	d := startDemo(t)
	examples := cli.Examples()
	for _, command := range inOrder {
		ran := 0
		for _, x := range examples {
			if x.Command != command {
				continue
			}
			if strings.Contains(x.Line, "…") {
				continue // a fingerprint, which only its owner can tell
			}
			if ran++; x.Line == "stockade demo" {
				continue // it is what all others run on
			}
			d.example(t, x.Line)
		}
		if ran == 0 {
			t.Errorf("stockade %s has no example that can be run", command)
		}
	}
}

// demonstration is `stockade demo`, as a person runs it.
type demonstration struct {
	folder string
	env    []string
	server string
}

// program gives the folder that the built program is in, for what needs a process of
// its own.
func program(t *testing.T) string {
	t.Helper()
	bin, err := binary()
	must.Do(t, err)
	return filepath.Dir(bin)
}

// startDemo runs the demonstration, and waits until it stays up.
func startDemo(t *testing.T) *demonstration {
	t.Helper()
	d := &demonstration{folder: t.TempDir()}
	bin := program(t)
	ctx, cancel := context.WithCancel(context.Background())
	cmd := exec.CommandContext(ctx, filepath.Join(bin, "stockade"), "demo")
	cmd.Dir, cmd.Cancel = d.folder, func() error { return cmd.Process.Signal(os.Interrupt) }
	out, err := cmd.StdoutPipe()
	must.Do(t, err)
	must.Do(t, cmd.Start())
	t.Cleanup(func() { cancel(); cmd.Wait() })
	said := []string{}
	sc := bufio.NewScanner(out)
	for sc.Scan() {
		said = append(said, sc.Text())
		if address, ok := strings.CutPrefix(sc.Text(), "  console   "); ok {
			d.server = address
		}
		if strings.Contains(sc.Text(), "stockade edition list") && d.server != "" {
			break
		}
	}
	if d.server == "" {
		t.Fatalf("the demonstration did not stay up:\n%s", strings.Join(said, "\n"))
	}
	go func() { // it must be able to write on
		for sc.Scan() {
		}
	}()
	token, err := os.ReadFile(filepath.Join(d.folder, "demo-data/service/warden.token"))
	must.Do(t, err)
	home := t.TempDir()
	d.env = append(os.Environ(), "PATH="+bin+":"+os.Getenv("PATH"), "HOME="+home, "XDG_CONFIG_HOME="+home,
		"STOCKADE_SERVER="+d.server, "STOCKADE_TOKEN="+strings.TrimSpace(string(token)))
	return d
}

// sh runs a line in a shell in the demonstration's folder.
func (d *demonstration) sh(line string) (code int, said string) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, "sh", "-c", line)
	cmd.Dir, cmd.Env = d.folder, d.env
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		return -1, err.Error()
	}
	return cmd.ProcessState.ExitCode(), string(out)
}

// places puts those of the demonstration in the place of a site's.
func (d *demonstration) places(line string) string {
	return strings.NewReplacer("/srv/stockade/warden.token", "demo-data/service/warden.token",
		"http://127.0.0.1:8440", d.server, "/media/stick", d.folder+"/stick", "/mnt/machine",
		d.folder+"/machine", "/srv/", d.folder+"/srv/", "0.0.0.0:8441", "127.0.0.1:0").Replace(line)
}

// example runs one, with the places of the demonstration for those of a site.
func (d *demonstration) example(t *testing.T, line string) {
	t.Helper()
	run := d.places(line)
	switch {
	case strings.HasPrefix(line, "stockade serve"):
		run = lasting + strings.Replace(run, "stockade serve", "stockade serve --listen 127.0.0.1:0 "+
			"--packages 127.0.0.1:0", 1)
	case strings.HasPrefix(line, "stockade demo"):
		run = "mkdir -p again && cd again && " + run
	}
	code, said := d.sh(run)
	if code != otherwise[line] {
		t.Errorf("%s: exit code %d, and %d was expected\n%s", line, code, otherwise[line], said)
	}
	if strings.HasPrefix(line, "stockade serve") && !strings.Contains(said, "warden token ") {
		t.Errorf("%s did not begin:\n%s", line, said)
	}
	if strings.TrimSpace(said) == "" && !strings.Contains(line, " > ") && !strings.Contains(line, "--same") {
		t.Errorf("%s says nothing", line)
	}
}
