package e2e

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/rpm"
	"stockade/core/definition"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/made"
	"stockade/internal/must"
)

const told = "--from=built in the workshop"

func TestPackagesAreAddedToAHouseSourceInspectedAndSigned(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.cli(0, "source", "refresh", "tarn")
	add := func(want int, file, source string, more ...string) (string, string) {
		t.Helper()
		return s.cli(want, append([]string{"package", "add", file, "--source", source, told,
			"--why=the old lamps need it"}, more...)...)
	}
	lamp := filepath.Join(s.dir, "site/house/lamp-driver_2.0-1reach1_all.deb")
	out, _ := add(0, lamp, "reach-lamps")
	id := strings.TrimSpace(out)
	all := cliJSON[[]api.HousePackage](s, "package", "list", "--source", "reach-lamps")
	if len(all) != 1 || all[0].ID != id || all[0].Name != "lamp-driver" || all[0].Version != "2.0-1reach1" ||
		all[0].From != "built in the workshop" || all[0].Why != "the old lamps need it" ||
		all[0].By != "warden" || all[0].At == "" {
		t.Fatalf("%+v", all)
	}

	// What is refused says why, and changes nothing.
	for name, c := range map[string]struct{ file, source, text string }{
		"the same file again":      {lamp, "reach-lamps", "already in the source"},
		"a source with upstreams":  {lamp, "tarn", "only be added to a house source"},
		"a file of another family": {lamp, "reach-pumps", "not a readable rpm package"},
		"no package at all": {filepath.Join(s.dir, "site/sources.yaml"), "reach-lamps",
			"not a readable deb package"},
		"a source that is not there": {lamp, "reach-lamp", `did you mean "reach-lamps"`},
	} {
		code := 1
		if name == "a source that is not there" {
			code = 2
		}
		if _, err := add(code, c.file, c.source); !strings.Contains(err, c.text) {
			t.Errorf("%s: %s", name, err)
		}
	}
	if _, err := s.cli(1, "package", "add", lamp, "--source", "reach-lamps"); !strings.Contains(err,
		"--from and --why") {
		t.Error(err)
	}
	if len(cliJSON[[]api.HousePackage](s, "package", "list")) != 1 {
		t.Error("something was added that was refused")
	}

	// A source that was never refreshed cannot be compared with, and that is told.
	pumpFile := filepath.Join(s.dir, "site/house/pump-relay-1.1-1.reach.x86_64.rpm")
	out, err1 := add(0, pumpFile, "reach-pumps")
	if !strings.Contains(err1, "house.not-compared") || !strings.Contains(err1, "brine-drivers") {
		t.Error(err1)
	}
	s.cli(0, "package", "remove", strings.TrimSpace(out), "--yes")
	// A file that a defined source offers too is told as such.
	files := s.scenario.North.Files()
	same := filepath.Join(s.dir, "same.deb")
	must.Do(t, os.WriteFile(same, files["pool/core/t/tide-data/tide-data_2026.3_all.deb"], 0o644))
	if _, err := add(0, same, "reach-lamps"); !strings.Contains(err, "house.offered-elsewhere") ||
		!strings.Contains(err, "with the same content") {
		t.Error(err)
	}
	m := made.Deb{Name: "sluicectl", Version: "1.4.2-1", Arch: "amd64", Summary: "another build"}
	raw, err := made.BuildDeb(m.Control(), nil, "gz")
	must.Do(t, err)
	other := filepath.Join(s.dir, "other.deb")
	must.Do(t, os.WriteFile(other, raw, 0o644))
	if _, err := add(0, other, "reach-lamps"); !strings.Contains(err, "house.other-bytes") {
		t.Error(err)
	}

	// A vendor's package keeps a note of its own signature, and machines get one
	// that the site signed.
	pump := made.RPM{Name: "pump-extra", Version: "1-1", Arch: "x86_64", Summary: "from the vendor's page"}
	if raw, err = pump.Build(s.scenario.BrineKey); err != nil {
		t.Fatal(err)
	}
	vendor := filepath.Join(s.dir, pump.FileName())
	must.Do(t, os.WriteFile(vendor, raw, 0o644))
	add(0, vendor, "reach-pumps")
	brine := s.scenario.BrineKey.Certificate().Fingerprint
	got := cliJSON[[]api.HousePackage](s, "package", "list", "--source", "reach-pumps")[0]
	if got.SignedBy != brine || got.Given == got.SHA256 {
		t.Errorf("%+v", got)
	}
	pump.Version = "2-1"
	if raw, err = pump.Build(foreignKey(t)); err != nil {
		t.Fatal(err)
	}
	must.Do(t, os.WriteFile(vendor, raw, 0o644))
	add(0, vendor, "reach-pumps")
	if got := cliJSON[[]api.HousePackage](s, "package", "list", "--source",
		"reach-pumps")[1]; !strings.HasPrefix(got.SignedBy, "not verified: ") {
		t.Errorf("%+v", got)
	}
	raw[len(raw)-5] ^= 1
	must.Do(t, os.WriteFile(vendor, raw, 0o644))
	if _, err := add(1, vendor, "reach-pumps"); !strings.Contains(err,
		"the package's payload does not match its own checksum") || !strings.Contains(err,
		"get the file again") {
		t.Error(err)
	}
	edition, dir := s.exported("pumps", "")
	served, err := os.Open(filepath.Join(dir, "reach-pumps/packages/pump-extra-2-1.x86_64.rpm"))
	if err != nil {
		t.Fatal(edition, err)
	}
	defer served.Close()
	about, err := client.Get[api.About](context.Background(), s.client, "/about")
	must.Do(t, err)
	certs, err := trust.ReadCertificates(
		[]byte(must.Read(t, filepath.Join(dir, "about/keys", about.SiteKey+".asc"))))
	must.Do(t, err)
	ring := trust.NewKeyring("x", []trust.Known{{Certificate: certs[0], VouchedFor: []string{"x"}}}, time.Now)
	if in, err := (rpm.Family{}).Inspect(archive.PackageFile{ReadSeeker: served}, ring); err != nil ||
		in.Signer.Fingerprint != about.SiteKey {
		t.Errorf("%+v %v", in, err)
	}

	// Taken out, and brought back by a revision; the sweep in between leaves
	// the file, because the revision knows it.
	if _, err := s.cli(2, "package", "remove", id); !strings.Contains(err, "--yes") {
		t.Error(err)
	}
	before := cliJSON[[]api.Revision](s, "revision", "list")[0].ID
	s.cli(0, "package", "remove", id, "--yes")
	if strings.Contains(mustOut(s, "package", "list", "-o", "ids"), id) {
		t.Error("it is still listed")
	}
	s.cli(0, "pool", "sweep", "--yes")
	s.cli(0, "revision", "restore", itoa(before), "--yes")
	if !strings.Contains(mustOut(s, "package", "list", "-o", "ids"), id) {
		t.Error("the revision did not bring it back")
	}
	s.cli(0, "mirror", "build", "lamps")
	log := mustOut(s, "journal", "list", "-o", "json")
	for _, action := range []string{"package.add", "package.remove"} {
		if !strings.Contains(log, action) {
			t.Errorf("the journal has no %s", action)
		}
	}
	// Descriptions that are recorded again leave what was added where it is.
	s.cli(0, "record", filepath.Join(s.dir, "site"))
	if !strings.Contains(mustOut(s, "package", "list", "-o", "ids"), id) {
		t.Error("recording the description again took a package out")
	}
}

func mustOut(s *site, args ...string) string {
	s.t.Helper()
	out, _ := s.cli(0, args...)
	return out
}

// Adding a file puts the site's signature on it: that is a warden's to decide.
func TestOnlyWardensAddPackagesAndLargeOnesPass(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	token := strings.TrimSpace(mustOut(s, "account", "add", "ola", "--role", "operator"))
	c := client.New(s.service.APIURL(), token)
	_, err := client.Send[api.HousePackage](context.Background(), c,
		"/sources/reach-lamps/packages?from=a&why=b", strings.NewReader("x"))
	var p *api.Problem
	if !errors.As(err, &p) || p.Status != 403 {
		t.Errorf("an operator added a package: %v", err)
	}
	// Nor by a description that names a file of the pool.
	lamp := filepath.Join(s.dir, "site/house/lamp-driver_2.0-1reach1_all.deb")
	s.cli(0, "package", "add", lamp, "--source", "reach-lamps", told, "--why=x")
	set, err := client.Get[api.Text](context.Background(), s.client, "/definitions")
	must.Do(t, err)
	_, section, _ := strings.Cut(set.Text, "\npackages:\n")
	section, _, _ = strings.Cut(section, "\nmirrors:")
	again := "stockade: 1\npackages:\n" + strings.Replace(strings.Replace(section, "lamp-driver-2.0",
		"smuggled-2.0", 1), "source: reach-lamps", "source: reach-lamps\n    signed_by: nobody", 1) + "\n"
	_, err = client.Post[api.Judgement](context.Background(), c, "/definitions/record",
		api.Documents{Documents: []definition.Text{{Name: "x.yaml", Text: strings.Replace(again,
			"version: 2.0-1reach1", "version: 9.0-1", 1)}}})
	if !errors.As(err, &p) || p.Status != 403 || !strings.Contains(p.Detail, "house source") {
		t.Errorf("an operator described a package into a house source: %v", err)
	}
	// More than other calls may have as their body.
	big := made.Deb{
		Name:    "chart-room",
		Version: "1-1",
		Arch:    "all",
		Summary: "large",
		Files: []made.File{{Path: "/usr/share/chart", Mode: 0o644,
			Data: bytes.Repeat([]byte("chart"), 5<<20)}},
	}
	raw, err := made.BuildDeb(big.Control(), big.Files, "")
	must.Do(t, err)
	if len(raw) < 20<<20 {
		t.Fatalf("only %d bytes", len(raw))
	}
	if got, err := client.Send[api.HousePackage](context.Background(), s.client,
		"/sources/reach-lamps/packages?from=a&why=b", bytes.NewReader(raw)); err != nil ||
		got.Size != len(raw) {
		t.Errorf("%+v %v", got, err)
	}
}

// The machine gets what was built in the house beside what upstream has.
func TestTheRealAptInstallsFromAHouseSource(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.house()
	_, dir := s.exported("lamps", "lamps")
	m := newMachine(t, s.dir)
	s.cli(0, "group", "files", "lamp-keepers", "--at", dir, "--out", m.root)
	s.stop()
	m.must(true, "update")
	m.must(true, "install", "lamp-watch")
	if m.installed("lamp-driver") != "2.0-1reach1" || m.installed("lamp-watch") != "0.3-1" || m.installed(
		"libtide2") == "" {
		t.Errorf("installed: lamp-driver %q, lamp-watch %q", m.installed("lamp-driver"), m.installed(
			"lamp-watch"))
	}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

// foreignKey is one that nobody brought in.
func foreignKey(t *testing.T) *trust.SiteKey {
	t.Helper()
	k, err := made.Key(made.Owner{Name: "A stranger", Address: "stranger@elsewhere.example"})
	must.Do(t, err)
	return k
}
