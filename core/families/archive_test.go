package families

import (
	"bytes"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/definition"
	"stockade/core/solve"
)

// ownArchive is what this machine's own package client knows of its archive: its lists, and
// the client on a machine that has nothing installed.
type ownArchive struct {
	*solve.Universe
	arch     string
	names    []string // of packages for the machine, without those of sources
	root     string
	packages int
	stanzas  map[*archive.Package]string
	taken    []*archive.Package // by the last selection
}

// readOwn reads the lists that the machine's own client keeps; the test is skipped where it has
// none.
func readOwn(t *testing.T) *ownArchive {
	t.Helper()
	files, _ := filepath.Glob("/var/lib/apt/lists/*_Packages*")
	out, err := exec.Command("dpkg", "--print-architecture").Output()
	helper := "/usr/lib/apt/apt-helper"
	if _, herr := os.Stat(helper); len(files) == 0 || err != nil || herr != nil {
		t.Skip("skipped: this machine's package client has no lists of its archive")
	}
	o := &ownArchive{arch: strings.TrimSpace(string(out)), root: t.TempDir(),
		stanzas: map[*archive.Package]string{}}
	var sources []solve.Source
	for i := range files {
		sources = append(sources, solve.Source{Name: fmt.Sprintf("s%d", i), Priority: 20,
			Architectures: []string{o.arch}})
	}
	o.Universe = solve.NewUniverse(deb.Family{}, sources)
	seen := map[string]bool{}
	for i, file := range files {
		plain, err := exec.Command(helper, "cat-file", file).Output()
		if err != nil {
			t.Fatal(err)
		}
		n := 0
		err = deb.Family{}.ReadIndex(archive.Source{Name: "own", Architectures: []string{o.arch}},
			archive.IndexChoice{},
			bytes.NewReader(plain), func(p *archive.Package, raw []byte) error {
				o.stanzas[p] = string(bytes.TrimSpace(raw))
				p.Index, p.Ordinal = i, n
				n++
				o.Add(i, p)
				if o.packages++; !seen[p.Name] {
					seen[p.Name] = true
					o.names = append(o.names, p.Name)
				}
				return nil
			})
		if err != nil {
			t.Fatalf("%s: %v", filepath.Base(file), err)
		}
	}
	slices.Sort(o.names)
	for _, dir := range []string{"cache/archives/partial", "log"} {
		os.MkdirAll(filepath.Join(o.root, dir), 0o755)
	}
	os.WriteFile(filepath.Join(o.root, "status"), nil, 0o644)
	if out, err := exec.Command("apt-cache", append(o.settings(),
		"gencaches")...).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	return o
}

// installsFrom asks the client whether it installs names where there is nothing but what was
// taken last.
func (o *ownArchive) installsFrom(t *testing.T, names []string, recommends bool) bool {
	t.Helper()
	dir, err := os.MkdirTemp(o.root, "alone-")
	if err != nil {
		t.Fatal(err)
	}
	defer os.RemoveAll(dir)
	var list strings.Builder
	for _, p := range o.taken {
		list.WriteString(o.stanzas[p] + "\n\n")
	}
	for _, d := range []string{"repo", "state/lists/partial", "cache/archives/partial"} {
		os.MkdirAll(filepath.Join(dir, d), 0o755)
	}
	for name, text := range map[string]string{"repo/Packages": list.String(), "status": "",
		"sources.list": "deb [trusted=yes] file:" + dir + "/repo ./\n"} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	with := append(o.settings(), "-qq", "-o", "Dir::State="+dir+"/state", "-o",
		"Dir::State::status="+dir+"/status",
		"-o", "Dir::Cache="+dir+"/cache", "-o", "Dir::Etc::SourceList="+dir+"/sources.list",
		"-o", "Dir::Etc::SourceParts=/dev/null", "-o", "APT::Sandbox::User=root",
		"-o", "APT::Install-Recommends="+strconv.FormatBool(recommends))
	client := func(args ...string) ([]byte, error) {
		c := exec.Command("apt-get", slices.Concat(with, args)...)
		c.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
		return c.CombinedOutput()
	}
	if out, err := client("update"); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	out, err := client(append([]string{"-s", "install"}, names...)...)
	if err != nil {
		t.Logf("%s", out)
	}
	return err == nil
}

// installs asks the client what it would install of an empty machine; nil where it says no.
func (o *ownArchive) installs(names []string, recommends bool) map[string]string {
	args := append(o.settings(), "-s", "-qq", "-o", "APT::Install-Recommends="+strconv.FormatBool(recommends),
		"-o", "APT::Install-Suggests=false", "install")
	c := exec.Command("apt-get", append(args, names...)...)
	c.Env = append(os.Environ(), "LC_ALL=C.UTF-8")
	out, err := c.Output()
	if err != nil {
		return nil
	}
	return picked(string(out), regexp.MustCompile(`(?m)^Inst (\S+) \((\S+) `))
}

// settings make the client one of a machine that has nothing, and keeps what it works out.
func (o *ownArchive) settings() []string {
	return []string{"-o", "Dir::State::status=" + o.root + "/status", "-o",
		"Dir::Cache::pkgcache=pkgcache.bin",
		"-o", "Dir::Cache::srcpkgcache=srcpkgcache.bin", "-o", "Dir::Cache=" + o.root +
			"/cache", "-o", "Dir::Log=" + o.root + "/log", "-o", "Dir::Etc::Preferences=/dev/null",
		"-o", "Dir::Etc::PreferencesParts=/dev/null", "-o", "Debug::NoLocking=true", "-o",
		"APT::Architectures=" + o.arch}
}

// ours gives what we take, and why it could not be installed.
func (o *ownArchive) ours(t *testing.T, names []string, recommends bool) (map[string]string, string) {
	t.Helper()
	with := definition.Required
	if recommends {
		with = definition.Recommended
	}
	var wants []solve.Want
	for _, n := range names {
		wants = append(wants, solve.Want{Source: solve.AllSources, Relation: archive.Relation{Name: n},
			With:     with,
			Versions: 1, As: n})
	}
	s, err := o.Select(t.Context(), wants, []solve.View{{Architectures: []string{o.arch}}}, solve.Limits{})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]string{}
	o.taken = nil
	for _, c := range s.Chosen {
		out[c.Name] = c.Version
		o.taken = append(o.taken, c.Package)
	}
	switch {
	case len(s.Missing) > 0:
		return out, "missing " + s.Missing[0].Clause.String()
	case len(s.Conflicts) > 0:
		return out, s.Conflicts[0].String()
	case len(s.Undecided) > 0:
		return out, "not decided"
	}
	return out, ""
}

// What is taken of the real archive for sets of its packages, at random, with what they
// recommend or without, is what the real client installs on a machine that has nothing: it says
// yes and no to the same sets, and installs them where there is nothing but what was taken.
// Where several packages meet one need the two may choose another; most sets are the same to
// the last package. The client takes seconds for a set, so that a few are tried each time;
// STOCKADE_SETS tries more.
func TestWhatIsTakenOfTheRealArchiveIsWhatTheRealClientInstalls(t *testing.T) {
	if testing.Short() {
		t.Skip("skipped: the real client takes its time")
	}
	o := readOwn(t)
	sets, err := strconv.Atoi(os.Getenv("STOCKADE_SETS"))
	if err != nil {
		sets = 6
	}
	r := rand.New(rand.NewPCG(1, 2))
	same, yes := 0, 0
	for i := range sets {
		var names []string
		for range 1 + r.IntN(4) {
			names = append(names, o.names[r.IntN(len(o.names))])
		}
		recommends := i%2 == 1
		ours, no := o.ours(t, names, recommends)
		theirs := o.installs(names, recommends)
		if (theirs == nil) != (no != "") {
			t.Errorf("%v: we say %q, and the client takes %d packages", names, no, len(theirs))
		}
		if theirs == nil || no != "" {
			continue
		}
		yes++
		if maps.Equal(ours, theirs) {
			same++
		}
		if !o.installsFrom(t, names, recommends) {
			t.Errorf("%v (recommends: %v): from our %d packages alone the client does not install them",
				names,
				recommends, len(ours))
		}
	}
	t.Logf("%d packages in all; of %d sets %d can be installed, and %d of these are the same to the last "+
		"package",
		o.packages, sets, yes, same)
	if same*2 < yes {
		t.Errorf("only %d of %d sets are the same", same, yes)
	}
}
