package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"strings"
	"time"

	"stockade/core/fetch"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/service"
)

// Options are how the demonstration is run.
type Options struct {
	Out, Err io.Writer
	Colour   bool
	Once     bool
	Data     string // folder, made anew
	Listen   string
	Version  string
	// Run is the command line, in an environment that has these beside the process's own.
	Run func(env map[string]string, args []string) int
}

// marker is a file that says that a folder is the demo's own and may go.
const marker = ".stockade-demo"

// Run runs the demonstration.
func Run(ctx context.Context, o Options) error {
	data, err := filepath.Abs(o.Data)
	if err != nil {
		return err
	}
	if entries, err := os.ReadDir(data); err == nil && len(entries) > 0 {
		if _, err := os.Stat(filepath.Join(data, marker)); err != nil {
			return fmt.Errorf("the folder %s is there and not from an earlier demo: name another with --data",
				data)
		}
		if err := os.RemoveAll(data); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(data, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(data, marker), nil, 0o644); err != nil {
		return err
	}
	now := time.Now()
	d := &demo{Options: o, data: data}
	d.note("Skerry Reach is a tidal barrage. Its gate-control network has no way out.\nThis runs the " +
		"whole way from made-up upstreams of three families (deb, rpm, alpm)\nto machines' files, on " +
		"loopback.")
	if d.scenario, err = NewScenario(now); err != nil {
		return err
	}
	defer d.scenario.Close()
	if d.closed, err = NewClosed(now, ShoalLogin); err != nil {
		return err
	}
	defer d.closed.Close()
	if err := d.closed.Write(filepath.Join(data, "shoal"), "kind: login, user: "+ShoalUser); err != nil {
		return err
	}
	// what the examples of the commands choose as a password
	if err := os.WriteFile(filepath.Join(data, "password"), []byte("gate seven at slack water\n"),
		0o600); err != nil {
		return err
	}
	if err := d.scenario.WriteSite(filepath.Join(data, "site")); err != nil {
		return err
	}
	s, err := service.Open(service.Config{Data: filepath.Join(data, "service"), Listen: o.Listen,
		Packages: "127.0.0.1:0", Version: o.Version,
		Fetch: fetch.Options{DownFor: 2 * time.Second}})
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	token, err := os.ReadFile(s.WardenToken())
	if err != nil {
		stop()
		return errors.Join(err, <-ended)
	}
	d.env = map[string]string{"STOCKADE_SERVER": s.APIURL(),
		"STOCKADE_TOKEN": strings.TrimSpace(string(token))}
	walked := d.walk(s)
	if walked == nil && !o.Once {
		d.note("The service stays up. Ctrl-C ends it.\n\n  console   " + s.APIURL() + "\n  token     " +
			strings.TrimSpace(string(token)) + "\n  packages  " + s.PackagesURL() +
			"/lane/steady/\n\nIn another terminal:\n\n  export STOCKADE_SERVER=" + s.APIURL() +
			" STOCKADE_TOKEN=$(cat " + o.Data + "/service/warden.token)\n  stockade edition list")
		select {
		case <-ctx.Done():
		case err := <-ended:
			stop()
			return err
		}
	}
	stop()
	return errors.Join(walked, <-ended)
}

type demo struct {
	Options
	env      map[string]string // of the commands
	data     string
	scenario *Scenario
	closed   *Closed
	step     int
}

func (d *demo) paint(code, text string) string {
	if !d.Colour {
		return text
	}
	return "\x1b[" + code + "m" + text + "\x1b[0m"
}

func (d *demo) note(text string) { fmt.Fprintf(d.Out, "\n%s\n", text) }

func (d *demo) heading(text string) {
	d.step++
	fmt.Fprintf(d.Out, "\n%s\n", d.paint("1;36", fmt.Sprintf("%2d  %s", d.step, text)))
}

// run runs one command as a person would, and says which.
func (d *demo) run(want int, args ...string) error {
	shown := make([]string, len(args))
	for i, a := range args {
		a = strings.ReplaceAll(a, d.data, d.Options.Data)
		if strings.ContainsAny(a, " *'") {
			a = `"` + a + `"`
		}
		shown[i] = a
	}
	fmt.Fprintf(d.Out, "%s\n", d.paint("1", "$ stockade "+strings.Join(shown, " ")))
	if code := d.Run(d.env, args); code != want {
		return fmt.Errorf("the demo expected exit code %d of stockade %s, and it was %d", want,
			strings.Join(shown, " "), code)
	}
	return nil
}

// walk is the whole way.
func (d *demo) walk(s *service.Service) error {
	rel := func(p string) string { return filepath.Join(d.Options.Data, p) }
	mistakes := rel("mistakes.yaml")
	if err := os.WriteFile(mistakes, []byte(Mistakes), 0o644); err != nil {
		return err
	}
	if err := NewHarbour().Write(rel("harbour"), d.scenario, time.Now()); err != nil {
		return err
	}
	for name, list := range MachineLists {
		if err := os.WriteFile(rel(name+".list"), []byte(list), 0o644); err != nil {
			return err
		}
	}
	// For the tutorial, whose reader has no release desk to call.
	readOut := trust.Spaced(d.scenario.TarnKey.Certificate().Fingerprint) + "\n"
	if err := os.WriteFile(rel("tarn-read-out.txt"), []byte(readOut), 0o644); err != nil {
		return err
	}
	kelp := d.scenario.KelpKey.Certificate().Fingerprint
	export, machine := rel("export"), rel("machine")

	type act struct {
		head string
		want int
		args []string
		do   func() error
	}
	publish := func() error {
		return d.scenario.PublishTarn(time.Now().Add(-time.Minute), false, func(r *made.DebRepository) {
			for i := range r.Packages {
				if p := &r.Packages[i]; p.Name == "sluicectl" {
					p.Version, p.Files = "1.5.0-1", script("sluicectl", "1.5.0-1")
				}
			}
		})
	}
	tamper := func() error {
		for path := range d.scenario.North.Files() {
			if strings.Contains(path, "sluicectl_1.5.0-1") {
				d.scenario.North.Change(path, func(b []byte) []byte { b[len(b)/2] ^= 1; return b })
			}
		}
		return nil
	}
	for _, a := range []act{
		{"Check a document with typical mistakes: each finding shows the line and a fix", 1,
			[]string{"check", mistakes}, nil},
		{"Check the real definitions: sources of three families, and house sources. No one has vouched for " +
			"one of the keys yet", 0, []string{"check", rel("site")}, nil},
		{"Record the definitions as one revision", 0,
			[]string{"record", rel("site"), "--summary", "first description"}, nil},
		{"Vouch for the key of the vendor: type its whole fingerprint, as the vendor read it out", 0,
			[]string{"key",
				"vouch", trust.Spaced(kelp), "--source", "kelp", "--evidence",
				"Compared on paper with Kelp's field engineer"}, nil},
		{"", 0, []string{"key", "list"}, nil},
		{"Probe the upstreams: availability, speed, age of their metadata", 0, []string{"source", "probe",
			"tarn"},
			nil},
		{"Estimate the build before it starts", 0, []string{"mirror", "estimate", "barrage"}, nil},
		{"Build: verify metadata, indexes and packages; prove; seal", 0, []string{"mirror", "build",
			"barrage"}, nil},
		{"", 0, []string{"edition", "show", "barrage/1"}, nil},
		{"", 0, []string{"edition", "packages", "barrage/1"}, nil},
		{"Show the chain of trust of a package, and verify each step", 0,
			[]string{
				"package", "show", "kelp-drive", "--edition", "barrage/1", "--chain"}, nil},
		{"Verify every file against the seal, and export the edition as plain files", 0, []string{"edition",
			"verify", "barrage/1"}, nil},
		{"", 0, []string{"edition", "export", "barrage/1", export}, nil},
		{"Move a lane to the edition, and write the files of a machine", 0,
			[]string{"lane", "move", "steady", "barrage/1",
				"--reason", "first edition"}, nil},
		{"", 0, []string{"group", "files", "gatehouse", "--out", machine}, nil},
		{"The upstream publishes a new sluicectl, first on its northern server", 0, []string{"source",
			"probe",
			"tarn"}, publish},
		{"Preview the build, compared with what the machines on steady have", 0, []string{"mirror",
			"preview", "barrage", "--lane", "steady"}, nil},
		{"An attacker changes one byte of the package there: Stockade rejects it and seals nothing", 1,
			[]string{"mirror",
				"build", "barrage"}, tamper},
		{"The southern server has the right file: Stockade uses it, and the build succeeds", 0, []string{
			"mirror", "build", "barrage"}, d.south},
		{"", 0, []string{"edition", "diff", "barrage/2"}, nil},
		{"Move trial to it first. A further build without changes makes no edition", 0, []string{
			"lane", "move", "trial", "barrage/2"}, nil},
		{"", 0, []string{"mirror", "build", "barrage"}, nil},
		{"A faithful copy: byte for byte, with the signatures of the upstream", 0, []string{"mirror",
			"build", "tarn-whole"}, nil},
		{"A missing dependency: no source provides what lamp-watch requires, so the build seals nothing", 1,
			[]string{
				"mirror", "build", "lamps"}, nil},
		{"Add the missing package to a house source: the site indexes and signs it", 0, []string{
			"package", "add", rel("site/house/lamp-driver_2.0-1reach1_all.deb"), "--source", "reach-lamps",
			"--from", "built from recipe 12 in the workshop", "--why", "the lamps of the approach"}, nil},
		{"", 0, []string{"mirror", "build", "lamps"}, nil},
		{"", 0, []string{"lane", "move", "lamps", "lamps/1"}, nil},
		{"The pump house (rpm): module streams, boolean dependencies, a dependency on a file, a package " +
			"of a " +
			"house source", 0, []string{"source", "refresh", "brine-drivers"}, nil},
		{"", 0, []string{"package", "add", rel("site/house/pump-relay-1.1-1.reach.x86_64.rpm"), "--source",
			"reach-pumps", "--from", "built from recipe 9 in the workshop", "--why",
			"two pumps are older than their vendor's drivers"}, nil},
		{"", 0, []string{"mirror", "build", "pumps"}, nil},
		{"", 0, []string{"lane", "move", "pump-house", "pumps/1"}, nil},
		{"", 0, []string{"group", "files", "pump-house", "--out", rel("pump-house")}, nil},
		{"The vendor publishes a security fix; the comparison names its advisory", 0, []string{
			"mirror", "build", "pumps"}, d.fixPump},
		{"", 0, []string{"edition", "diff", "pumps/2"}, nil},
		{"The survey launch (alpm): its servers come from a mirror list", 0, []string{"source", "probe",
			"wrack"}, nil},
		{"", 0, []string{"source", "refresh", "wrack"}, nil},
		{"", 0, []string{"package", "add", rel("site/house/buoy-log-0.7-1-any.pkg.tar.zst"), "--source",
			"reach-launch", "--from", "built from recipe 3 in the workshop", "--why",
			"the buoys are ours alone"}, nil},
		{"", 0, []string{"mirror", "build", "launch"}, nil},
		{"", 0, []string{"lane", "move", "survey", "launch/1"}, nil},
		{"", 0, []string{"group", "files", "survey-launch", "--out", rel("survey-launch")}, nil},
		{"An attacker replaces a package and signs it with another key: Stockade rejects it", 1,
			[]string{"mirror", "build", "launch"}, d.foreignPackage},
		{"", 0, []string{"package", "list"}, nil},
		{"A vendor whose server needs a login: no document contains the password", 0,
			[]string{
				"record", rel("shoal"), "--summary", "Shoal's echo sounders"}, nil},
		{"", 1, []string{"source", "refresh", "shoal"}, nil},
		{"", 0, []string{"credential", "add", "shoal-login", "--file", rel("shoal/shoal-password")}, nil},
		{"", 0, []string{"source", "refresh", "shoal"}, nil},
		{"", 0, []string{"mirror", "build", "sounders"}, nil},
		{"Machines: compare what each has installed with its lane", 0, []string{"machine", "enrol",
			"gate-north", "gate-south", "--group", "gatehouse"}, nil},
		{"", 0, []string{"machine", "enrol", "bench-1", "--group", "test-bench"}, nil},
		{"", 0, []string{"machine", "enrol", "pump-1", "pump-2", "--group", "pump-house"}, nil},
		{"", 0, []string{"machine", "report", "gate-north", rel("gate-north.list"), "-q"}, nil},
		{"", 0, []string{"machine", "report", "gate-south", rel("gate-south.list")}, nil},
		{"", 0, []string{"machine", "report", "bench-1", rel("bench-1.list"), "-q"}, nil},
		{"", 0, []string{"machine", "report", "pump-1", rel("pump-1.list"), "-q"}, nil},
		{"", 0, []string{"machine", "list"}, nil},
		{"The result", 0, []string{"edition", "list"}, nil},
		{"", 1, []string{"status"}, nil},
		{"", 0, []string{"journal", "verify"}, nil},
	} {
		if a.head != "" {
			d.heading(a.head)
		}
		if a.do != nil {
			if err := a.do(); err != nil {
				return err
			}
		}
		if err := d.run(a.want, a.args...); err != nil {
			return err
		}
	}
	return nil
}

// south brings the southern server up to date; the northern one stays tampered with.
func (d *demo) south() error {
	files, err := d.scenario.Tarn.Publish(signing(d.scenario.TarnKey, d.scenario.Tarn.Date))
	if err != nil {
		return err
	}
	d.scenario.South.Publish(files)
	d.scenario.West.Publish(maps.Clone(files))
	return nil
}

// fixPump publishes a new pumpctl with an advisory about it.
func (d *demo) fixPump() error {
	r := &d.scenario.Brine
	r.Date = time.Now().Add(-time.Minute)
	for i := range r.Packages {
		if p := &r.Packages[i]; p.Name == "pumpctl" && p.Version == "3.2.0-1.el9" {
			p.Version, p.Change = "3.2.1-1.el9", "bound the time of every command"
		}
	}
	r.Updates += brineFix
	return d.scenario.PublishBrine()
}

// foreignPackage has Wrack publish a new libecho, whose package somebody signed
// who is not of Wrack.
func (d *demo) foreignPackage() error {
	r := &d.scenario.Wrack
	r.Date = time.Now().Add(-time.Minute)
	for i := range r.Packages {
		if p := &r.Packages[i]; p.Name == "libecho" {
			p.Version = "1.9.1-1"
		}
	}
	if err := d.scenario.PublishWrack(); err != nil {
		return err
	}
	for path, data := range d.scenario.Launch.Files() {
		if strings.HasSuffix(path, "libecho-1.9.1-1-x86_64.pkg.tar.xz") {
			signature, err := d.scenario.KelpKey.DetachSign(data, false)
			if err != nil {
				return err
			}
			d.scenario.Launch.Change(path+".sig", func([]byte) []byte { return signature })
		}
	}
	return nil
}
