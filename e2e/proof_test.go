package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/chromedp/chromedp"

	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/made"
	"stockade/internal/must"
)

// drives describes a mirror of the vendor alone that cannot be proved, with what leads out.
func (s *site) drives() {
	s.t.Helper()
	dir := filepath.Join(s.dir, "drives")
	must.Do(s.t, os.MkdirAll(dir, 0o755))
	for name, text := range map[string]string{
		"drives.yaml": `stockade: 1
lists:
  desk-pc: {family: deb, file: desk-pc.txt}
  desk: {file: desk.txt}
mirrors:
  drives:
    copy: tailored
    from: [kelp, {source: tarn-fixes, want: {packages: [libtide2]}}]
    want: {packages: [kelp-drive], except: [net-bus]}
    together: [[kelp-drive, libtide2]]
  drives-desk:
    copy: tailored
    from: [kelp]
    want: {packages: [kelp-drive]}
    baseline: {sources: [tarn, tarn-fixes]}
  drives-pc:
    copy: tailored
    from: [kelp, {source: tarn, want: {lists: [desk]}}]
    want: {packages: [kelp-drive]}
    baseline: {list: desk-pc}
lanes:
  drives: {mirror: drives}
groups:
  workshop:
    family: deb
    release: heron
    architectures: [amd64]
    lane: drives
`,
		"desk-pc.txt": "libtide2\t2.1.0-3\nnet-bus\t1.2-1\ntool-of-ours\t1.0\n",
		"desk.txt":    "# what each desk has\nsluicectl >= 1.4\n",
	} {
		must.Write(s.t, filepath.Join(dir, name), text)
	}
	s.cli(0, "record", filepath.Join(dir, "drives.yaml"))
}

// A mirror of a vendor's small repository says at once what it lacks and which defined source has
// it; with what machines have from elsewhere, or have installed, it is proved, and says beside what.
func TestAProofSaysBesideWhatAndWhyNot(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.drives()
	out, _ := s.cli(1, "mirror", "prove", "drives")
	for _, part := range []string{
		"0 of 2 wanted can be installed by the group workshop on amd64; 0 of 1 sets can be installed " +
			"together",
		"kelp-drive 7.2-0kelp1 (amd64) cannot be installed by the group workshop on amd64",
		"requires sluicectl >= 1.4, and nothing that the machines see provides it",
		"possible fixes, each of them tested:\n    add the source tarn: 1 more package, ",
		"\n      stockade amend mirror drives --from tarn\n",
		"the set of kelp-drive, libtide2 cannot be installed",
	} {
		if !strings.Contains(out, part) {
			t.Errorf("the proof lacks %q:\n%s", part, out)
		}
	}
	// What is excepted stays so in what a source would bring: net-bus, which sluicectl needs.
	if strings.Contains(out, "net-bus") {
		t.Errorf("a way out takes what is excepted:\n%s", out)
	}
	out, _ = s.cli(0, "mirror", "prove", "drives-desk", "--for", "kelp-drive")
	for _, part := range []string{
		"1 of 1 wanted can be installed by machines of no group on amd64, beside their packages from tarn, " +
			"tarn-fixes",
		"tarn (elsewhere)",
		"packages of the mirror need these packages of the baseline: libtide2, sluicectl",
	} {
		if !strings.Contains(out, part) {
			t.Errorf("the proof lacks %q:\n%s", part, out)
		}
	}
	out, told := s.cli(0, "mirror", "prove", "drives-pc", "--every")
	if !strings.Contains(out, "packages can be installed by machines of no group on amd64, beside "+
		"the baseline of the list desk-pc") || !strings.Contains(told, "tool-of-ours") {
		t.Errorf("%s%s", out, told)
	}
	// What is told to lead out does.
	out, told = s.cli(0, "amend", "mirror", "drives", "--from", "tarn", "--yes")
	if !strings.Contains(out, "from: + tarn") || !strings.Contains(told, "recorded as revision") {
		t.Errorf("%s%s", out, told)
	}
	s.cli(0, "mirror", "prove", "drives")
	if _, told = s.cli(1, "amend", "mirror", "drives", "--from", "tarn", "--yes"); !strings.Contains(told,
		"mirror drives: it already takes from tarn, so nothing would change") {
		t.Error(told)
	}
	if _, told = s.cli(2, "amend", "mirror", "drive", "--from", "tarn"); !strings.Contains(told, "drives") {
		t.Error(told)
	}
	// Taken is what the machine lacks, and nothing that it or others have.
	s.cli(0, "mirror", "build", "drives-desk")
	var have []string
	items, err := client.All[api.Item](t.Context(), s.client, "/editions/drives-desk/1/packages")
	must.Do(t, err)
	for _, it := range items {
		have = append(have, it.Name)
	}
	if got := strings.Join(have, " "); got != "kelp-drive libkelp7" {
		t.Errorf("the edition has %s", got)
	}
	// The answer is no also where that keeps nothing from being sealed.
	s.cli(1, "mirror", "prove", "tarn-whole")
	if out, _ = s.cli(1, "mirror", "prove", "drives-desk", "--for", "no-such"); !strings.Contains(out,
		"no package of that name is taken") {
		t.Error(out)
	}
	if out := mustOut(s, "mirror", "show", "drives-pc"); !strings.Contains(out, "lists desk") ||
		!strings.Contains(out, "list desk-pc") {
		t.Error(out)
	}
}

// The same in the console: the tree, the way out that is recorded where it is told, and the build
// that it leads to.
func TestTheConsoleProves(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.drives()
	b := signedIn(t, s, "/")
	b.open("/mirrors/drives")
	b.click("Prove")
	b.see("not all wanted packages can be installed")
	b.see("nothing that the machines see provides it")
	b.see("1 possible fix")
	b.shot("proof")
	b.click("Apply this fix")
	b.see("mirror drives: add the source tarn")
	b.see("which you can undo")
	b.see("+ tarn")
	b.press("Save")
	b.see("Recorded as revision")
	b.press("Build drives")
	b.see("is done")
	if out := mustOut(s, "mirror", "show", "drives", "-o", "json"); !strings.Contains(out, `"source": "tarn"`) {
		t.Error(out)
	}
	b.open("/mirrors/drives-desk")
	const what = `select[aria-label="Packages to prove"]`
	b.run("has a condition that two packages could", chromedp.WaitVisible(what, chromedp.ByQuery),
		chromedp.SetValue(what, "for",
			chromedp.ByQuery), chromedp.Evaluate(`document.querySelector('`+what+`').dispatchEvent(new Event("change"))`,
			nil))
	b.typed(`input[aria-label="Name of the package"]`, "kelp-drive")
	b.click("Prove")
	b.see("Packages to be installed")
	b.see("Every dependency was checked again and is satisfied")
	b.see("(elsewhere)")
}

// Source packages that came along are there for the real client.
func TestTheRealClientFetchesSourcePackages(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	must.Do(t, s.scenario.PublishTarn(time.Now().Add(-time.Minute), true, func(r *made.DebRepository) {
		r.Sources = append(r.Sources, made.DebSource{Component: "core", Name: "sluicectl",
			Version: "1.4.2-1", Files: map[string]string{"sluicectl_1.4.2.tar.xz": "the source"}})
	}))
	path := filepath.Join(s.dir, "site/mirrors.yaml")
	must.Write(t, path, strings.Replace(must.Read(t, path), "with: required, versions: 2",
		"with: required, source_packages: true, versions: 2", 1))
	s.described()
	s.built("steady")
	m := newMachine(t, s.dir)
	s.cli(0, "group", "files", "gatehouse", "--out", m.root)
	m.must(false, "update")
	m.dir = t.TempDir() // the client puts them where it is called
	m.must(false, "source", "--download-only", "-o", "APT::Sandbox::User=root", "sluicectl")
	if got, err := os.ReadFile(filepath.Join(m.dir, "sluicectl_1.4.2.tar.xz")); err != nil ||
		string(got) != "the source" {
		t.Errorf("the client has %q: %v", got, err)
	}
}
