package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/demo"
	"stockade/internal/made"
	"stockade/internal/must"
)

// house adds what is built in the house to its sources.
func (s *site) house() {
	s.t.Helper()
	for file, source := range map[string]string{
		"lamp-driver_2.0-1reach1_all.deb":   "reach-lamps",
		"pump-relay-1.1-1.reach.x86_64.rpm": "reach-pumps",
		"buoy-log-0.7-1-any.pkg.tar.zst":    "reach-launch",
	} {
		s.cli(0, "package", "add", filepath.Join(s.dir, "site/house", file), "--source", source, "--from",
			"built in the workshop", "--why", "nobody else makes it")
	}
}

// show builds a mirror, exports the edition and points the lane of a group at it.
func (s *site) exported(mirror, lane string) (edition, dir string) {
	s.t.Helper()
	out, _ := s.cli(0, "mirror", "build", mirror)
	edition = strings.TrimSpace(out)
	dir = filepath.Join(s.dir, "export-"+strings.ReplaceAll(edition, "/", "-"))
	s.cli(0, "edition", "export", edition, dir)
	if lane != "" {
		s.cli(0, "lane", "move", lane, edition)
	}
	return edition, dir
}

// follow makes the lane of a group show another mirror.
func (s *site) follow(lane, mirror string) {
	s.t.Helper()
	path := filepath.Join(s.dir, "site/families.yaml")
	text := must.Read(s.t, path)
	i := strings.Index(text, "\n  "+lane+": {mirror: ")
	j := strings.Index(text[i+1:], "\n") + i + 1
	if i < 0 {
		s.t.Fatalf("there is no lane %s", lane)
	}
	must.Write(s.t, path, text[:i]+"\n  "+lane+": {mirror: "+mirror+"}"+text[j:])
	s.cli(0, "record", filepath.Join(s.dir, "site"))
}

// The real clients refresh and install from tailored and faithful mirrors, over
// HTTP and from an export, with every signature check on and the network cut.
func TestTheRealClientsOfTheOtherFamiliesInstallWithTheNetworkCut(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		client              packageClient
		mirror, lane, group string
		install             []string
		want                map[string]string
		absent              []string
	}{
		{dnf, "pumps", "pump-house", "pump-house", []string{"pump-desk", "pump-relay", "pump-panel"},
			map[string]string{
				"pump-desk":        "4.0-1.el9",
				"pumpctl":          "3.2.0-1.el9",
				"libbrine":         "3.4.1-2.el9",
				"pump-calibration": "1:2026.2-1.el9",
				"pump-lang-en":     "4.0-1.el9",
				"pump-relay":       "1.1-1.reach",
				"pump-panel":       "3.0-1.el9",
			}, []string{"net-pump-bus"}},
		{dnf, "pumps-whole", "pump-house", "pump-house", []string{"pump-desk", "pump-panel"},
			// stream 2 is the default upstream
			map[string]string{
				"pump-desk":        "4.0-1.el9",
				"pumpctl":          "3.2.0-1.el9",
				"pump-calibration": "1:2026.2-1.el9",
				"pump-panel":       "2.6-1.el9",
			}, nil},
		{zypper, "pumps", "pump-house", "pump-house", []string{"pump-desk", "pump-relay"},
			map[string]string{
				"pump-desk":        "4.0-1.el9",
				"pumpctl":          "3.2.0-1.el9",
				"libbrine":         "3.4.1-2.el9",
				"pump-calibration": "1:2026.2-1.el9",
				"pump-relay":       "1.1-1.reach",
			}, nil},
		// zypper looks for files in primary lists alone, and upstream's has not the one that pumpctl needs.
		{zypper, "pumps-whole", "pump-house", "pump-house", []string{"libbrine", "pump-gauge"},
			map[string]string{"libbrine": "3.4.1-2.el9", "pump-gauge": "1.0^20260901-1.el9"}, nil},
		{pacman, "launch", "survey", "survey-launch", []string{"echo-plot", "buoy-log"}, map[string]string{
			"echo-plot":  "2.3.1-2",
			"libecho":    "1.9.0-1",
			"chart-data": "2026.10-1",
			"buoy-log":   "0.7-1",
		}, nil},
		{pacman, "launch-whole", "survey", "survey-launch", []string{"echo-plot", "sounder-serial"},
			map[string]string{"echo-plot": "2.3.1-2", "libecho": "1.9.0-1", "sounder-serial": "1:0.4-1"},
			[]string{"sounder-net"}},
	} {
		t.Run(c.client.name+" "+c.mirror, func(t *testing.T) {
			s := newSite(t)
			s.described()
			s.house()
			if c.mirror == "pumps-whole" || c.mirror == "launch-whole" {
				s.follow(c.lane, c.mirror)
			}
			edition, dir := s.exported(c.mirror, c.lane)
			s.cli(0, "edition", "verify", edition)
			fromExport := newBox(t, s, c.client, c.group, dir)
			fromLane := newBox(t, s, c.client, c.group, "http://127.0.0.1:8441/lane/"+c.lane)
			s.stop() // nothing is left that could answer
			fromLane.serve = filepath.Join(s.dir, "data")
			for _, b := range []*box{fromExport, fromLane} {
				b.must(c.client.refresh...)
				b.must(append(c.client.install, c.install...)...)
				for name, version := range c.want {
					b.has(name, version)
				}
				for _, name := range c.absent {
					b.has(name, "")
				}
			}
		})
	}
}

// What was tampered with between the service and the machine is refused there.
func TestTheRealClientsOfTheOtherFamiliesRefuseWhatWasTamperedWith(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		client              packageClient
		mirror, lane, group string
		install             string
		files               map[string]string // what is changed, by what it is
	}{
		{dnf, "pumps", "pump-house", "pump-house", "pumpctl", map[string]string{
			"root":                  "brine-drivers/repodata/repomd.xml",
			"signature of the root": "brine-drivers/repodata/repomd.xml.asc",
			"index":                 "-primary.xml.gz",
			"package":               "libbrine-3.4.1-2.el9.x86_64.rpm",
		}},
		{zypper, "pumps", "pump-house", "pump-house", "pumpctl", map[string]string{
			"root":                  "brine-drivers/repodata/repomd.xml",
			"signature of the root": "brine-drivers/repodata/repomd.xml.asc",
			"index":                 "-primary.xml.gz",
			"package":               "libbrine-3.4.1-2.el9.x86_64.rpm",
		}},
		{pacman, "launch", "survey", "survey-launch", "echo-plot", map[string]string{
			"database":                  "wrack/os/x86_64/wrack.db",
			"signature of the database": "wrack/os/x86_64/wrack.db.sig",
			"package":                   "libecho-1.9.0-1-x86_64.pkg.tar.xz",
		}},
	} {
		t.Run(c.client.name, func(t *testing.T) {
			s := newSite(t)
			s.described()
			s.house()
			edition, whole := s.exported(c.mirror, c.lane)
			good := newBox(t, s, c.client, c.group, whole)
			good.must(c.client.refresh...)
			for what, match := range c.files {
				dir := filepath.Join(s.dir, "tampered-"+strings.ReplaceAll(what, " ", "-"))
				s.cli(0, "edition", "export", edition, dir)
				flipped(t, dir, match)
				b := newBox(t, s, c.client, c.group, dir)
				b.client(c.client.refresh...)
				if out, err := b.client(append(c.client.install, c.install)...); err == nil &&
					b.installed(b.root, c.install) != "" {
					t.Errorf("a tampered %s was accepted:\n%s", what, out)
				}
				b.has(c.install, "")
			}
			// Packages of an edition that another key signed are refused too, although
			// the digests are right: the machine knows only the keys of its lane.
			b := newBox(t, s, c.client, c.group, whole)
			for _, folder := range []string{"etc/pki/rpm-gpg", "etc/pacman.d/stockade-keys"} {
				keys, err := filepath.Glob(filepath.Join(b.root, folder, "*.asc"))
				must.Do(t, err)
				for _, k := range keys {
					must.Write(t, k, s.scenario.KelpKey.Certificate().Armoured())
				}
			}
			must.Do(t, os.RemoveAll(filepath.Join(b.root, "root")))
			must.Do(t, os.RemoveAll(filepath.Join(b.root, "etc/pacman.d/gnupg")))
			b.client(c.client.refresh...)
			if out, _ := b.client(append(c.client.install, c.install)...); b.installed(b.root, c.install) !=
				"" {
				t.Errorf("an edition of another site was accepted:\n%s", out)
			}
		})
	}
}

// A client that is in the middle of an update when its lane moves finds what it
// was told of, by digest.
func TestALaneThatMovesBreaksNoClientOfTheOtherFamilies(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.house()
	s.exported("pumps", "pump-house")
	base := s.service.PackagesURL() + "/lane/pump-house/brine-drivers/"
	_, old, _ := get(t, base+"repodata/repomd.xml")
	s.scenario.Brine.Date = time.Now().Add(-time.Minute)
	for i := range s.scenario.Brine.Packages {
		if p := &s.scenario.Brine.Packages[i]; p.Name == "pump-desk" {
			p.Version = "4.1-1.el9"
		}
	}
	must.Do(t, s.scenario.PublishBrine())
	s.exported("pumps", "pump-house")
	_, now, _ := get(t, base+"repodata/repomd.xml")
	if now == old {
		t.Fatal("the lane still shows the old root")
	}
	seen := 0
	for part := range strings.SplitSeq(old, `href="`) {
		if p, _, ok := strings.Cut(part, `"`); ok && strings.HasPrefix(p, "repodata/") {
			seen++
			if code, _, _ := get(t, base+p); code != 200 {
				t.Errorf("%s is gone (%d)", p, code)
			}
		}
	}
	if seen < 5 {
		t.Errorf("only %d lists were named", seen)
	}
	if code, _, _ := get(t, base+"Packages/p/pump-desk-4.0-1.el9.x86_64.rpm"); code != 200 {
		t.Errorf("the package that the client was told of is gone (%d)", code)
	}
	changes := s.diffOf("pumps/2")
	if len(changes) != 1 || changes[0].Name != "pump-desk" || changes[0].NewVersion != "4.1-1.el9" {
		t.Errorf("%+v", changes)
	}
}

func (s *site) diffOf(edition string) []api.Change {
	s.t.Helper()
	return cliJSON[[]api.Change](s, "edition", "diff", edition)
}

// Packages of the real build program, in several compressions and with
// signatures of the real gpg, go the whole way to the real client.
func TestPackagesOfTheRealBuildProgramAreServed(t *testing.T) {
	t.Parallel()
	for _, tool := range []string{"rpmbuild", "rpmsign", "gpg", "dnf"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("skipped: %s is not on this machine", tool)
		}
	}
	s := newSite(t)
	dir, err := os.MkdirTemp("/tmp", "rpm") // gpg's sockets have short paths
	must.Do(t, err)
	defer os.RemoveAll(dir)
	env := append(os.Environ(), "GNUPGHOME="+dir, "HOME="+dir, "LC_ALL=C")
	run := func(name string, args ...string) string {
		t.Helper()
		c := exec.Command(name, args...)
		c.Env, c.Dir = env, dir
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
		}
		return string(out)
	}
	defer func() {
		c := exec.Command("gpgconf", "--kill", "all")
		c.Env = env
		c.Run()
	}()
	must.Do(t, os.Chmod(dir, 0o700))
	run("gpg", "--batch", "--passphrase", "", "--quick-generate-key", "builder@brine.example", "rsa3072",
		"sign", "never")
	certs, err := trust.ReadCertificates([]byte(run("gpg", "--armor", "--export", "builder@brine.example")))
	must.Do(t, err)
	gpg, _ := exec.LookPath("gpg")
	s.scenario.Brine.Files = map[string][]byte{}
	var names []string
	for payload, name := range map[string]string{"w9.gzdio": "meter-gz", "w6.xzdio": "meter-xz",
		"w3.zstdio": "meter-zst"} {
		must.Write(t, filepath.Join(dir, name+".spec"), "Name: "+name+
			"\nVersion: 1.0\nRelease: 1\nSummary: measures\nLicense: MIT\nBuildArch: "+
			"noarch\nRequires: libbrine >= 3\n%description\nMeasures.\n%install\nmkdir -p "+
			"%{buildroot}/usr/share/"+name+"\necho x > %{buildroot}/usr/share/"+name+
			"/table\n%files\n/usr/share/"+name+"\n")
		run("rpmbuild", "-bb", "--quiet", "--define", "_topdir "+dir+"/top", "--define", "_rpmdir "+dir+
			"/out", "--define", "_binary_payload "+payload, name+".spec")
		file := filepath.Join(dir, "out/noarch", name+"-1.0-1.noarch.rpm")
		run("rpmsign", "--addsign", "--define", "__gpg "+gpg, "--define", "_gpg_name builder@brine.example",
			file)
		s.scenario.Brine.Files[filepath.Base(file)] = []byte(must.Read(t, file))
		names = append(names, name)
	}
	must.Do(t, s.scenario.PublishBrine())
	path := filepath.Join(s.dir, "site/families.yaml")
	text := must.Read(t, path)
	text = strings.Replace(text, "signed_by: [brine-2026]", "signed_by: [brine-2026, "+certs[0].Fingerprint+
		"]", 1)
	text = strings.Replace(text, "packages: [pumpctl, pump-desk, pump-panel]",
		`packages: [pumpctl, pump-desk, pump-panel, "meter-*"]`, 1)
	must.Write(t, path, text)
	key := filepath.Join(s.dir, "builder.asc")
	must.Write(t, key, certs[0].Armoured())
	s.cli(0, "key", "add", key)
	s.described()
	s.house()
	// The root is signed by a key that counts, the packages by one that does not yet.
	if _, err := s.cli(1, "mirror", "build", "pumps"); !strings.Contains(err, "key.unvouched") {
		t.Error(err)
	}
	s.cli(0, "key", "vouch", certs[0].Fingerprint, "--source", "brine-drivers", "--evidence",
		"the build machine is ours")
	_, export := s.exported("pumps", "pump-house")
	b := newBox(t, s, dnf, "pump-house", export)
	s.stop()
	b.must(dnf.refresh...)
	b.must(append(dnf.install, names...)...)
	for _, name := range names {
		b.has(name, "1.0-1")
	}
}

// Attacks on sources of the other families, against the running service: the
// build is refused with the code that names the cause, the last edition is served
// byte for byte, and the journal has it.
func TestAttacksOnTheOtherFamiliesLeaveTheLastEditionServed(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.house()
	s.exported("pumps", "pump-house")
	s.exported("launch", "survey")
	flip := func(b []byte) []byte { b[len(b)/2] ^= 1; return b }
	change := func(up interface {
		Files() map[string][]byte
		Change(string, func([]byte) []byte)
	}, match string, f func([]byte) []byte) {
		n := 0
		for p := range up.Files() {
			if strings.Contains(p, match) {
				up.Change(p, f)
				n++
			}
		}
		if n == 0 {
			t.Fatalf("nothing matches %s", match)
		}
	}
	brine := func(version string) {
		s.scenario.Brine.Date = s.scenario.Brine.Date.Add(time.Hour)
		for i := range s.scenario.Brine.Packages {
			if p := &s.scenario.Brine.Packages[i]; p.Name == "pump-desk" {
				p.Version = version
			}
		}
		must.Do(t, s.scenario.PublishBrine())
	}
	wrack := func(version string) {
		s.scenario.Wrack.Date = s.scenario.Wrack.Date.Add(time.Hour)
		for i := range s.scenario.Wrack.Packages {
			if p := &s.scenario.Wrack.Packages[i]; p.Name == "libecho" {
				p.Version = version
			}
		}
		must.Do(t, s.scenario.PublishWrack())
	}
	refused := 0
	for _, c := range []struct {
		name, mirror, code string
		mount              func()
	}{
		{"a tampered rpm", "pumps", "content.digest-mismatch", func() {
			brine("4.1-1.el9")
			change(s.scenario.Pumps, "pump-desk-4.1", flip)
		}},
		{"a tampered list", "pumps", "content.digest-mismatch", func() {
			brine("4.2-1.el9")
			change(s.scenario.Pumps, "-primary", flip)
		}},
		{"a root whose signature was taken off", "pumps", "content.signature-bad", func() {
			brine("4.3-1.el9")
			change(s.scenario.Pumps, "repomd.xml.asc", func([]byte) []byte { return nil })
		}},
		{"an older root", "pumps", "source.older-than-accepted", func() {
			s.scenario.Brine.Date = s.scenario.Brine.Date.Add(-90 * time.Hour)
			must.Do(t, s.scenario.PublishBrine())
		}},
		{"a tampered alpm package", "launch", "content.digest-mismatch", func() {
			wrack("1.9.2-1")
			change(s.scenario.Launch, "libecho-1.9.2-1-x86_64.pkg.tar.xz", flip)
		}},
		{"a tampered database", "launch", "content.signature-bad", func() {
			wrack("1.9.3-1")
			change(s.scenario.Launch, "wrack/os/x86_64/wrack.db", flip)
		}},
		{"a list of servers that is none", "launch", "source.upstream-down", func() {
			wrack("1.9.4-1")
			change(s.scenario.Launch, "mirrors.txt", func([]byte) []byte {
				return []byte("<html>sign in</html>")
			})
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			lane, root := "pump-house", "/brine-drivers/repodata/repomd.xml"
			if c.mirror == "launch" {
				lane, root = "survey", "/wrack/wrack/os/x86_64/wrack.db"
			}
			address := s.service.PackagesURL() + "/lane/" + lane + root
			_, before, _ := get(t, address)
			c.mount()
			j := s.job("/mirrors/"+c.mirror+"/build", nil)
			if j.State != "failed" || !has(j.Findings, c.code) {
				t.Errorf("the build ended %s with %v, and %s was expected", j.State, j.Findings, c.code)
			}
			if _, after, _ := get(t, address); after != before || before == "" {
				t.Error("the lane serves something else now")
			}
			if out := mustOut(s, "edition", "list", "-o", "ids"); strings.Contains(out, "/2") {
				t.Errorf("editions: %s", out)
			}
			log := mustOut(s, "journal", "list", "-o", "json")
			if n := strings.Count(log, "mirror.refused"); n != refused+1 || !strings.Contains(log, c.code) {
				t.Errorf("the journal does not have it: %d refusals", n)
			}
			refused++
		})
	}
	s.cli(0, "journal", "verify")
}

// The upstream that is behind is put last, after it was shown; the order before is a revision
// away.
func TestTheBestUpstreamIsPutFirst(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	if _, log := s.cli(1, "source", "order", "tarn", "--yes"); !strings.Contains(log, "was not probed yet") {
		t.Error(log)
	}
	// South publishes; north, which stands first, does not.
	files := s.scenario.North.Files()
	must.Do(t, s.scenario.PublishTarn(time.Now().Add(-time.Minute), true, func(*made.DebRepository) {}))
	s.scenario.North.Publish(files)
	s.cli(0, "source", "probe", "tarn")
	order := func() []string {
		var out []string
		for _, u := range cliJSON[api.Source](s, "source", "show", "tarn").Upstreams {
			out = append(out, u.URL)
		}
		return out
	}
	if _, log := s.cli(2, "source", "order", "tarn"); !strings.Contains(log, "--yes") ||
		order()[0] != s.scenario.North.URL {
		t.Errorf("unasked: %s", log)
	}
	s.cli(0, "source", "order", "tarn", "--yes")
	if got := order(); got[0] != s.scenario.South.URL || got[1] != s.scenario.North.URL {
		t.Errorf("%v", got)
	}
	if _, log := s.cli(0, "source", "order", "tarn", "--yes"); !strings.Contains(log,
		"in that order already") && !strings.Contains(log, "in this order already") {
		t.Error(log)
	}
	newest := strings.Fields(mustOut(s, "revision", "list", "-o", "ids"))
	s.cli(0, "revision", "restore", newest[1], "--only", "source/tarn", "--yes")
	if got := order(); got[0] != s.scenario.North.URL {
		t.Errorf("restored: %v", got)
	}
	s.cli(2, "source", "order", "reach-lamp", "--yes")
	// A server that a file names is measured beside them, and taken in when somebody says so.
	third, err := demo.NewUpstream("/tarn/", s.scenario.South.Files())
	must.Do(t, err)
	t.Cleanup(third.Close)
	servers := filepath.Join(s.dir, "servers.txt")
	must.Write(t, servers, "# of the desk\n"+third.URL+" west\nhttp://127.0.0.1:1/tarn "+
		"west\n")
	out, _ := s.cli(0, "source", "probe", "tarn", "--candidates", servers)
	if !strings.Contains(out, third.URL) || !strings.Contains(out, "west") {
		t.Errorf("the probe:\n%s", out)
	}
	if len(order()) != 2 {
		t.Errorf("probed, it was taken in: %v", order())
	}
	if out, _ := s.cli(0, "source", "show", "tarn", "-o", "json"); strings.Contains(out,
		"source.upstream-down") {
		t.Errorf("a candidate that is down is wrong with the source: %s", out)
	}
	if _, log := s.cli(2, "source", "order", "tarn", "--region", "west"); !strings.Contains(log, "--best") {
		t.Error(log)
	}
	_, log := s.cli(0, "source", "order", "tarn", "--best", "1", "--region", "west", "--yes")
	if !strings.Contains(log, third.URL+"  (new)") || !strings.Contains(log,
		s.scenario.North.URL+"  (removed)") {
		t.Errorf("what it would be: %s", log)
	}
	if got := cliJSON[api.Source](s, "source", "show", "tarn").Upstreams; len(got) != 1 ||
		got[0].URL != third.URL || got[0].Region != "west" {
		t.Errorf("%+v", got)
	}
	s.cli(0, "source", "refresh", "tarn")
}
