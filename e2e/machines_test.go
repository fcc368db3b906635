package e2e

import (
	"context"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/demo"
	"stockade/internal/must"
)

// enrolled puts a machine of the demonstration into a group, and brings in what it has installed.
func (s *site) enrolled(group, name string) {
	s.t.Helper()
	s.cli(0, "machine", "enrol", name, "--group", group)
	list := filepath.Join(s.dir, name+".list")
	must.Write(s.t, list, demo.MachineLists[name])
	s.cli(0, "machine", "report", name, list)
}

// until waits for a machine to be as it should.
func (s *site) until(name string, so func(api.Machine) bool) (m api.Machine) {
	s.t.Helper()
	for end := time.Now().Add(30 * time.Second); ; time.Sleep(100 * time.Millisecond) {
		var err error
		if m, err = client.Get[api.Machine](context.Background(), s.client, "/machines/"+name); err != nil {
			s.t.Fatal(err)
		}
		if so(m) {
			return m
		}
		if time.Now().After(end) {
			s.t.Fatalf("%s stays %+v", name, m)
		}
	}
}

// What a machine reports is compared with what its lane shows, anew whenever one of the two, or who
// it is, changes; each place that tells of it tells the same.
func TestWhatAMachineHasIsComparedWithItsLane(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.cli(0, "machine", "enrol", "gate-south", "gate-9", "--group", "gatehouse", "--note", "beside the weir")
	list := filepath.Join(s.dir, "south.list")
	must.Write(t, list, demo.MachineLists["gate-south"])
	out, _ := s.cli(0, "machine", "report", "gate-south", list) // its lane shows nothing yet
	if !strings.Contains(out, "compared with  none yet") {
		t.Error(out)
	}
	s.built("steady")
	m := s.until("gate-south", func(m api.Machine) bool { return m.Compared })
	if m.Against != "barrage/1" || m.Installed != 8 || m.Behind != 6 || m.Stranded != 1 || m.Ahead != 1 ||
		len(m.Items) != 8 || m.Items[0].Name != "libtide2" || m.Security != 1 || m.Unsure != 2 ||
		m.Note != "beside the weir" {
		t.Errorf("%+v", m)
	}
	out, _ = s.cli(0, "machine", "show", "gate-south")
	for _, says := range []string{"8 packages, 0 current; 6 updates available; 1 not in any source; 1 ahead",
		"gate-logger  amd64  0.9-2",
		"not in any source that the machine uses on barrage/1: 1 installed package"} {
		if !strings.Contains(out, says) {
			t.Errorf("%q is not in\n%s", says, out)
		}
	}
	if out := mustOut(s, "machine", "stranded", "gate-south", "-o", "ids"); out != "gate-logger\n" {
		t.Error(out)
	}
	for state, want := range map[string]string{"": "gate-9\ngate-south\n", "behind": "gate-south\n",
		"silent": "gate-9\n", "security": "gate-south\n", "current": ""} {
		if out := mustOut(s, "machine", "list", "--state", state, "-o", "ids"); out != want {
			t.Errorf("state %q: %q", state, out)
		}
	}
	if out := mustOut(s, "machine", "list", "--lane", "trial", "-o", "ids"); out != "" {
		t.Error(out)
	}
	// Of one that never reported nothing was found out: that is not no finding.
	if out := mustOut(s, "machine", "list"); !regexp.MustCompile(`gate-9 .*never.*unknown\n`).
		MatchString(out) || strings.Count(out, "unknown") != 1 {
		t.Error(out)
	}
	if found := s.told().With("machine.stranded-package"); len(found) != 1 ||
		found[0].Object != "group gatehouse" || !strings.Contains(found[0].Text, "on 1 of its 2 machines") {
		t.Errorf("%+v", found)
	}
	if o := s.overview().Machines; o.All != 1 || o.Items[0].Lane != "steady" || o.Items[0].Machines != 2 ||
		o.Items[0].Reported != 1 || o.Items[0].Behind != 1 {
		t.Errorf("%+v", o)
	}

	// The lane moves on, and with it what comes first.
	s.newer("1.5.0-1")
	s.built("steady")
	m = s.until("gate-south", func(m api.Machine) bool { return m.Compared && m.Against == "barrage/2" })
	for _, x := range m.Items {
		if x.Name == "sluicectl" && x.Offered != "1.5.0-1" {
			t.Errorf("%+v", x)
		}
	}
	// A pin goes, and what it kept comes first.
	s.cli(0, "lane", "back", "steady")
	s.until("gate-south", func(m api.Machine) bool { return m.Compared && m.Against == "barrage/1" })
	path := filepath.Join(s.dir, "site/mirrors.yaml")
	pinned := must.Read(t, path)
	must.Write(t, path, strings.ReplaceAll(pinned, `pins: ["tide-tables = 2.4.1-1"]`,
		`pins: ["tide-tables = 2.3.0-1"]`))
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	m = s.until("gate-south", func(m api.Machine) bool { return m.Compared && m.Held == 1 })
	if m.Behind != 5 {
		t.Errorf("%+v", m)
	}

	// All that is newer waits behind the pin: that is not nothing newer.
	must.Write(t, list, "ii  tide-tables 2.3.0-1 all\n")
	s.cli(0, "machine", "report", "gate-9", list)
	s.until("gate-9", func(m api.Machine) bool { return m.Compared && m.Held == 1 && m.Behind == 0 })
	if out := mustOut(s, "machine", "list", "--state", "current", "-o", "ids"); out != "" {
		t.Errorf("current: %q", out)
	}
	if m := s.overview().Machines.Items[0]; m.Held != 2 || m.Reported != 2 {
		t.Errorf("%+v", m)
	}

	// In a group whose lane shows nothing, nothing of it is known.
	s.cli(0, "machine", "change", "gate-9", "--group", "test-bench")
	s.until("gate-9", func(m api.Machine) bool {
		return m.Against == "" && m.Held == 0 && len(m.Items) == 0
	})
	s.cli(0, "machine", "change", "gate-9", "--group", "gatehouse")

	// What was reported since stands in place of what was reported before; an older list does not.
	must.Write(t, list, demo.MachineLists["gate-north"])
	s.cli(0, "machine", "report", "gate-south", list)
	m = s.until("gate-south", func(m api.Machine) bool { return m.Compared })
	if m.Installed != 7 || m.Current != 7 { // the pin, which is older, takes tide-tables not back
		t.Errorf("%+v", m)
	}
	_, log := s.cli(1, "machine", "report", "gate-south", list, "--taken", "2026-01-01T00:00:00Z")
	if !strings.Contains(log, "but a newer one from") {
		t.Error(log)
	}
	for text, says := range map[string]string{"gate 1-1\n": "was removed", "": "no packages",
		"ii  gate 1_1 amd64\n": "line 1"} {
		must.Write(t, list, text)
		if _, log := s.cli(1, "machine", "report", "gate-9", list); !strings.Contains(log, says) ||
			!strings.Contains(log, "dpkg-query -W -f") {
			t.Errorf("%q: %s", text, log)
		}
	}

	// It goes with its group, is asked about with it, and is known after a restart.
	s.cli(0, "rename", "group", "gatehouse", "gates", "--yes")
	s.stop()
	s.start()
	m = s.until("gate-south", func(m api.Machine) bool { return m.Compared })
	if m.Group != "gates" || m.Lane != "steady" || m.Installed != 7 {
		t.Errorf("%+v", m)
	}
	must.Write(t, path, strings.Replace(pinned, "gatehouse:", "gatehouse-2:", 1))
	_, log = s.cli(2, "record", "--whole", filepath.Join(s.dir, "site"))
	if !strings.Contains(log, "group gates is removed; in use by: 2 enrolled machines") {
		t.Error(log)
	}
	s.cli(0, "record", "--whole", filepath.Join(s.dir, "site"), "--yes")
	if found := s.told(); !strings.Contains(found.Error(),
		"this group is not defined, but 2 machines are enrolled in it") {
		t.Error(found)
	}
	s.cli(0, "machine", "change", "gate-south", "--group", "gatehouse-2")
	s.until("gate-south", func(m api.Machine) bool { return m.Compared && m.Lane == "steady" })
	if _, log := s.cli(1, "machine", "change", "gate-south", "--group", "pump-house"); !strings.Contains(log,
		"for the family deb") {
		t.Error(log)
	}
	s.cli(2, "machine", "remove", "gate-9")
	s.cli(0, "machine", "remove", "gate-9", "--yes")
	if _, log := s.cli(2, "machine", "show", "gate-9"); !strings.Contains(log, "no machine is named") {
		t.Error(log)
	}
	journal, _ := s.cli(0, "journal", "list", "-o", "json")
	for _, action := range []string{"machine.enrol", "machine.change", "machine.remove"} {
		if !strings.Contains(journal, action) {
			t.Errorf("the journal has no %s", action)
		}
	}
	s.cli(0, "journal", "verify")
}

// What the real client installed from a lane is all that comes first there: what it prints is a
// report, and nothing is behind; once the lane moved on, what the client would take is what is told.
func TestARealMachinesReportIsWhatItsClientSays(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	m := newMachine(t, s.dir)
	s.cli(0, "group", "files", "gatehouse", "--out", m.root)
	m.must(false, "update")
	m.must(false, "install", "kelp-drive", "tide-tables")
	s.cli(0, "machine", "enrol", "gate-1", "--group", "gatehouse")
	status := filepath.Join(m.root, "var/lib/dpkg/status")
	s.cli(0, "machine", "report", "gate-1", status)
	told := s.until("gate-1", func(m api.Machine) bool { return m.Compared })
	if told.Current == 0 || told.Current != told.Installed-told.Stranded || told.Behind != 0 {
		t.Errorf("%+v", told)
	}
	s.newer("1.5.0-1")
	s.built("steady")
	told = s.until("gate-1", func(m api.Machine) bool { return m.Compared && m.Against == "barrage/2" })
	m.must(false, "update")
	out := m.must(false, "-s", "dist-upgrade")
	for _, x := range told.Items {
		if x.State == "behind" != strings.Contains(out, "Inst "+x.Name+" ["+x.Version+"] ("+x.Offered+" ") {
			t.Errorf("%+v, and the client says\n%s", x, out)
		}
	}
	if told.Behind != 1 || strings.Count(out, "Inst ") != 1 {
		t.Errorf("%d are behind, and the client says\n%s", told.Behind, out)
	}
}

// Machines are enrolled, report and are looked at in the console.
func TestMachinesInTheConsole(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.built("steady")
	b := signedIn(t, s, "/machines?tab=1")
	b.see("No machines. Enrol some")
	b.press("Enrol machines")
	b.see("Names, separated by blanks or line breaks")
	b.fill("#machine-names", "gate-south gate-9")
	b.choose("#machine-group", "gatehouse")
	b.press("Enrol 2")
	b.see("never")
	b.click("gate-south")
	b.see("its installed packages are unknown")
	b.press("Report")
	b.see("dpkg-query -W -f")
	b.fill("#installed", "gate 1-1\n")
	b.press("Import report")
	b.see("was removed")
	b.fill("#installed", demo.MachineLists["gate-south"])
	b.press("Import report")
	b.see("8 packages installed, 0 current")
	b.see("not in any source")
	b.shot("machine")
	b.press("1 not in any source")
	b.see("gate-logger")
	// the lane moves on under the open page
	s.newer("1.5.0-1")
	s.built("steady")
	b.see("newer than the candidates on barrage/2: ")
	b.open("/")
	b.see("1 with updates, 1 with packages not in any source, 1 never reported")
	b.see("installed packages that are not in any source, on 1 of its 2 machines")
	b.open("/machines?tab=1&state=stranded")
	b.see("gate-south")
	b.click("gate-south")
	b.see("Remove")
	b.press("Remove")
	b.see("Its reports are removed too")
	b.run("yes", chromedp.Click(`//*[@role="dialog"]//button[normalize-space(.)="Remove"]`,
		chromedp.BySearch))
	b.see("with packages not in any source (0)")
}
