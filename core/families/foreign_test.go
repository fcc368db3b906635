package families

import (
	"fmt"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/internal/made"
	"stockade/internal/must"
)

// candidate is what apt-cache says of a package, and candidates of several, each by its name.
var (
	candidate  = regexp.MustCompile(`(?m)^  Candidate: (\S+)$`)
	candidates = regexp.MustCompile(`(?m)^(\S+:)\n  Installed: .*\n  Candidate: (\S+)$`)
)

// A pin holds packages of an architecture that is turned on beside the machine's own, too. What is
// worked out for each architecture is the candidate of the real client.
func TestPinsHoldOnASecondArchitecture(t *testing.T) {
	c := choosers[slices.IndexFunc(choosers, func(c chooser) bool { return c.name == "apt-get" })]
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	compared, pinned := 0, 0
	c.further = []string{c.foreign}
	for n, r := range cases(t, 20, 83) {
		u := newTown(c, r)
		u.foreign = []string{c.foreign}
		ours := u.candidates(t)
		theirs := map[string]string{}
		u.asks = func(t *testing.T, root string, _ []string) map[string]string {
			with := aptIn(t, root)
			must.Do(t, os.WriteFile(filepath.Join(root, "status"), nil, 0o644))
			run(t, root, append(with, "update")...)
			with = append([]string{"apt-cache"}, with[1:]...)
			text := run(t, root, append(append(with, "policy"), slices.Collect(maps.Keys(ours))...)...)
			for name, version := range picked(text, candidates) {
				if name = strings.TrimSuffix(name, ":"); !strings.Contains(name, ":") {
					name += ":" + c.own
				}
				if version != "(none)" {
					theirs[name] = version
				}
			}
			return nil
		}
		u.theirs(t, key, nil)
		for name, version := range ours {
			compared++
			if slices.ContainsFunc(u.pins, func(p archive.Relation) bool {
				return p.Name+":"+c.foreign == name
			}) {
				pinned++
			}
			if version != theirs[name] {
				t.Errorf("case %d, %s: got %q, and apt has %q, of\n%s", n, name, version, theirs[name],
					u.of(name))
			}
		}
	}
	t.Logf("%d candidates were compared, %d of pinned packages of the second architecture", compared, pinned)
	if compared < 300 || pinned < 15 {
		t.Errorf("got %d comparisons, %d with pins: that is no comparison", compared, pinned)
	}
}

// candidates gives the candidate of each name on each architecture, by NAME:ARCH.
func (u *town) candidates(t *testing.T) map[string]string {
	t.Helper()
	universe, view := u.universe(), u.view(t)
	out := map[string]string{}
	for i := range u.packages {
		for _, p := range u.packages[i] {
			if p.Arch == u.all {
				p.Arch = u.own
			}
			view.Architectures, view.Foreign = []string{p.Arch}, nil
			name := p.Name + ":" + p.Arch
			out[name] = ""
			// What is for all machines is of the machine's own architecture for apt.
			view.Hides = func(o *archive.Package) bool { return o.Arch == u.all && p.Arch != u.own }
			for _, o := range universe.Choose(t.Context(), view, p.Arch, p.Name).Offers {
				if o.Taken {
					out[name] = o.Version
				}
			}
		}
	}
	return out
}

// A proof of two packages of two architectures that must have one version, where a pin holds both on
// an older one, is what the real client does with the files that are written.
func TestAPinnedPairOfTwoArchitecturesInstalls(t *testing.T) {
	c := choosers[slices.IndexFunc(choosers, func(c chooser) bool { return c.name == "apt-get" })]
	if _, err := exec.LookPath(c.name); err != nil {
		t.Fatal("apt-get is not there: make tools")
	}
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	u := &town{chooser: c, priority: []int{20}, foreign: []string{c.foreign},
		pins: []archive.Relation{{Name: "p1", Op: archive.Equal, Version: "1.0-1"}}}
	var all []archive.Package
	for _, arch := range []string{c.own, c.foreign} {
		for _, version := range []string{"1.0-1", "2.0-1"} {
			all = append(all, archive.Package{Name: "p1", Version: version, Arch: arch})
		}
	}
	u.packages = [][]archive.Package{all}
	for name, version := range u.candidates(t) {
		if version != "1.0-1" {
			t.Errorf("%s: got %s, want the version of the pin", name, version)
		}
	}
	u.asks = func(t *testing.T, root string, names []string) map[string]string {
		with := aptIn(t, root)
		must.Do(t, os.WriteFile(filepath.Join(root, "status"), nil, 0o644))
		run(t, root, append(with, "update")...)
		text := run(t, root, append(with, "-s", "install", "p1:amd64", "p1:i386")...)
		return picked(text, regexp.MustCompile(`(?m)^Inst (\S+) \((\S+) `))
	}
	if got := u.theirs(t, key, nil); fmt.Sprint(got) != "map[p1:1.0-1 p1:i386:1.0-1]" {
		t.Errorf("apt-get takes %v, want version 1.0-1 of both", got)
	}
}
