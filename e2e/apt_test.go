package e2e

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"stockade/internal/made"
	"stockade/internal/must"
)

func TestTheRealClientInstallsFromTheListener(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	m := newMachine(t, s.dir)
	s.cli(0, "group", "files", "gatehouse", "--out", m.root)
	m.must(false, "update")
	m.must(false, "install", "kelp-drive", "tide-tables")
	for name, want := range map[string]string{
		"kelp-drive":  "7.2-0kelp1",
		"libkelp7":    "7.2-0kelp1",
		"sluicectl":   "1.4.2-1",
		"libtide2":    "2.1.0-3+fix1",
		"tide-data":   "2026.3",
		"tide-tables": "2.4.1-1",
	} {
		if got := m.installed(name); got != want {
			t.Errorf("%s is installed as %q, and %s was meant", name, got, want)
		}
	}
	if _, err := os.Stat(filepath.Join(m.root, "usr/bin/sluicectl")); err != nil {
		t.Error("the package's file is not there:", err)
	}
}

func TestTheRealClientInstallsFromAnExportWithTheNetworkCut(t *testing.T) {
	for _, kind := range []struct{ name, mirror string }{{"tailored", "barrage"},
		{"faithful", "tarn-whole"}} {
		t.Run(kind.name, func(t *testing.T) {
			s := newSite(t)
			s.described()
			out, _ := s.cli(0, "mirror", "build", kind.mirror)
			edition := strings.TrimSpace(out)
			dir := filepath.Join(s.dir, "export with space")
			m := newMachine(t, s.dir)
			// root's usual one: the client's own user must be able to read all the same
			usual := syscall.Umask(0o077)
			defer syscall.Umask(usual)
			s.cli(0, "edition", "export", edition, dir)
			if kind.mirror != "barrage" {
				site := strings.ReplaceAll(must.Read(t, filepath.Join(s.dir, "site/mirrors.yaml")),
					"steady: {mirror: barrage}", "steady: {mirror: "+kind.mirror+"}")
				must.Write(t, filepath.Join(s.dir, "site/mirrors.yaml"), site)
				s.cli(0, "record", filepath.Join(s.dir, "site"))
			}
			// no lane was moved: the export says which edition it is
			s.cli(0, "group", "files", "gatehouse", "--at", dir, "--out", m.root)
			syscall.Umask(usual)
			readableByAll(t, dir)
			readableByAll(t, filepath.Join(m.root, "etc/apt/keyrings"))
			s.stop() // nothing is left that could answer
			m.must(true, "update")
			m.must(true, "install", "sluicectl", "tide-tables")
			if m.installed("sluicectl") != "1.4.2-1" || m.installed("libtide2") == "" || m.installed(
				"tide-tables") != "2.4.1-1" {
				t.Errorf("installed: sluicectl %q, libtide2 %q, tide-tables %q", m.installed("sluicectl"),
					m.installed("libtide2"), m.installed("tide-tables"))
			}
		})
	}
}

// readableByAll fails where somebody else's user could not read something below dir.
func readableByAll(t *testing.T, dir string) {
	t.Helper()
	err := filepath.WalkDir(dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := e.Info()
		want := fs.FileMode(0o004)
		if e.IsDir() {
			want = 0o005
		}
		if err == nil && info.Mode().Perm()&want != want {
			t.Errorf("%s has the mode %o", p, info.Mode().Perm())
		}
		return err
	})
	must.Do(t, err)
}

func TestTheRealClientRefusesAnExportThatWasTamperedWith(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	edition := s.built("steady")
	for _, c := range []struct {
		name, file string
		at         string // where it must fail: update or install
	}{
		{"root", "tarn/dists/heron/InRelease", "update"},
		{"index", "tarn/dists/heron/core/binary-amd64", "update"},
		{"package", "tarn-fixes/pool/core/l/libtide2/libtide2_2.1.0-3+fix1_amd64.deb", "install"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := filepath.Join(s.dir, "export-"+c.name)
			s.cli(0, "edition", "export", edition, dir)
			flipped(t, filepath.Join(dir, c.file), "")
			m := newMachine(t, s.dir)
			s.cli(0, "group", "files", "gatehouse", "--at", dir, "--out", m.root)
			out, err := m.apt(true, "update")
			refused := err != nil || strings.Contains(out, "E:") || strings.Contains(out, "W:")
			if c.at == "update" && !refused {
				t.Errorf("apt-get update accepted it:\n%s", out)
			}
			if out, err := m.apt(true, "install", "sluicectl"); err == nil {
				t.Errorf("apt-get install accepted it:\n%s", out)
			}
			if m.installed("libtide2") != "" {
				t.Error("the package was installed")
			}
		})
	}
}

func TestAClientInTheMiddleOfAnUpdateSurvivesAMovingLane(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	m := newMachine(t, s.dir)
	s.cli(0, "group", "files", "gatehouse", "--out", m.root)
	m.must(false, "update")

	base := s.service.PackagesURL() + "/lane/steady/tarn/dists/heron/"
	_, old, _ := get(t, base+"core/binary-amd64/Packages")
	_, release, _ := get(t, base+"Release")
	digest := ""
	for line := range strings.Lines(release) {
		if f := strings.Fields(line); len(f) == 3 && f[2] == "core/binary-amd64/Packages" {
			digest = f[0]
		}
	}
	s.newer("1.5.0-1")
	path := filepath.Join(s.dir, "site/mirrors.yaml")
	edit(t, path, "versions: 2", "versions: 1")
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	s.built("steady")
	if code, body, _ := get(t, base+"core/binary-amd64/by-hash/SHA256/"+digest); code != 200 || body != old {
		t.Errorf("the index that the client was told of is gone (%d)", code)
	}
	if _, body, _ := get(t, base+"core/binary-amd64/Packages"); !strings.Contains(body, "1.5.0-1") {
		t.Error("by its plain name the lane must serve the new index")
	}
	m.must(false, "install", "sluicectl") // by what it learnt before the move
	if v := m.installed("sluicectl"); v != "1.4.2-1" {
		t.Errorf("installed %q", v)
	}
	m.must(false, "update")
	m.must(false, "upgrade")
	if v := m.installed("sluicectl"); v != "1.5.0-1" {
		t.Errorf("after the update %q is installed", v)
	}
	// One step back, and the root is the first edition's again.
	_, _, newer := get(t, base+"Release")
	if _, told := s.cli(0, "lane", "back", "steady"); !strings.Contains(told, "lane.older-lists") {
		t.Errorf("it is not told that machines keep the newer lists: %s", told)
	}
	// Who asks whether anything changed since the newer edition is told that it did.
	code, body, _ := get(t, base+"Release", "If-Modified-Since", newer.Get("Last-Modified"))
	if code != 200 || body != release {
		t.Errorf("after a step back the lane does not serve what it served before: %d", code)
	}
	m.must(false, "update")
	if out, err := m.apt(false, "install", "--allow-downgrades", "sluicectl=1.4.2-1"); err == nil {
		t.Errorf("apt-get takes an older root now: lane.older-lists says too much\n%s", out)
	}
	must.Do(t, os.RemoveAll(filepath.Join(m.root, "var/lib/apt/lists")))
	m.must(false, "update")
	m.must(false, "install", "--allow-downgrades", "sluicectl=1.4.2-1")
}

// Machines with a second architecture turned on get what the proof says from the
// mirror alone: a package of the other architecture, a library for both, and a tool
// that stands for any.
func TestTheRealClientInstallsForASecondArchitecture(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	lab := s.scenario.Kelp
	lab.Date, lab.Architectures = time.Now().Add(-time.Hour), []string{"amd64", "i386"}
	lab.Packages = []made.Deb{
		{Component: "drives", Name: "lab-ctl", Version: "1-1", Arch: "amd64", Summary: "x",
			Fields: "Depends: lab-lib, lab-plot:i386\n"},
		{Component: "drives", Name: "lab-plot", Version: "1-1", Arch: "i386", Summary: "x",
			Fields: "Depends: lab-lib, lab-tool\n"},
		{Component: "drives", Name: "lab-lib", Version: "1-1", Arch: "amd64", Summary: "x",
			Fields: "Multi-Arch: same\n"},
		{Component: "drives", Name: "lab-lib", Version: "1-1", Arch: "i386", Summary: "x",
			Fields: "Multi-Arch: same\n"},
		{Component: "drives", Name: "lab-tool", Version: "1-1", Arch: "amd64", Summary: "x",
			Fields: "Multi-Arch: foreign\n"},
		{Component: "drives", Name: "lab-other", Version: "1-1", Arch: "i386", Summary: "not needed"},
	}
	files, err := lab.Publish(s.scenario.KelpKey)
	must.Do(t, err)
	s.scenario.Vendor.Publish(files)
	doc := filepath.Join(s.dir, "lab.yaml")
	must.Write(t, doc, `stockade: 1
sources:
  lab:
    family: deb
    standing: vendor
    upstreams: [{url: "`+s.scenario.Vendor.URL+`"}]
    release: heron
    components: [drives]
    architectures: [amd64, i386]
    signed_by: [kelp-release]
mirrors: {lab: {copy: tailored, from: [lab], want: {packages: [lab-ctl]}}}
lanes: {lab: {mirror: lab}}
groups: {lab: {family: deb, release: heron, architectures: [amd64], foreign: [i386], lane: lab}}
`)
	s.cli(0, "record", doc)
	s.cli(0, "key", "vouch", s.scenario.KelpKey.Certificate().Fingerprint, "--source", "lab", "--evidence",
		"compared again")
	if _, log := s.cli(0, "mirror", "build", "lab"); !strings.Contains(log, "5 packages") {
		t.Errorf("taken: %s", log)
	}
	dir := filepath.Join(s.dir, "export")
	s.cli(0, "edition", "export", "lab/1", dir)
	m := newMachine(t, s.dir)
	must.Write(t, filepath.Join(m.root, "var/lib/dpkg/arch"), "amd64\ni386\n")
	s.cli(0, "group", "files", "lab", "--at", dir, "--out", m.root)
	s.stop()
	m.must(true, "-o", "APT::Architectures::=i386", "update")
	m.must(true, "-o", "APT::Architectures::=i386", "install", "lab-ctl")
	for _, name := range []string{"lab-ctl", "lab-plot:i386", "lab-lib:amd64", "lab-lib:i386", "lab-tool"} {
		if m.installed(name) != "1-1" {
			t.Errorf("%s is installed as %q", name, m.installed(name))
		}
	}
}
