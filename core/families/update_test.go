package families

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/machine"
	"stockade/core/solve"
	"stockade/internal/made"
	"stockade/internal/must"
)

// updater is a chooser whose machine has packages installed.
type updater struct {
	// install puts packages into the client's own records below a root.
	install func(t *testing.T, root string, installed []archive.Identity)
	// updates gives what the client would bring up to date, by name.
	updates func(t *testing.T, root string) map[string]string
	// otherwise tells that this client is known to do otherwise than the rule, which the document
	// tells as well; nil: never.
	otherwise func(u *town, have archive.Identity) bool
}

var updaters = map[string]updater{
	"apt-get": {
		install: func(t *testing.T, root string, installed []archive.Identity) {
			var b strings.Builder
			for _, p := range installed {
				fmt.Fprintf(&b, "Package: %s\nStatus: install ok installed\nVersion: %s\nArchitecture: %s\n"+
					"Maintainer: nobody\nDescription: made up\n\n", p.Name, p.Version, p.Arch)
			}
			put(t, filepath.Join(root, "status"), b.String())
		},
		updates: func(t *testing.T, root string) map[string]string {
			with := aptIn(t, root)
			run(t, root, append(with, "update")...)
			return picked(run(t, root, append(with, "-s", "dist-upgrade")...),
				regexp.MustCompile(`(?m)^Inst (\S+) \[\S+\] \((\S+) `))
		}},
	"dnf": {install: installRPM,
		updates: func(t *testing.T, root string) map[string]string {
			return picked(run(t, root, append(dnfIn(t, root), "upgrade")...), dnfLine)
		},
		// What is for all machines it takes before what is for i686, from a worse source too; and where
		// a source has the installed version for another architecture, it takes nothing.
		otherwise: func(u *town, have archive.Identity) bool {
			return have.Arch != u.own && u.has(func(p archive.Package) bool {
				return p.Name == have.Name && p.Version == have.Version && p.Arch != have.Arch
			}) || slices.Contains(u.further, have.Arch) && u.has(func(p archive.Package) bool {
				return p.Name == have.Name && p.Arch == u.all
			})
		}},
	"zypper": {install: installRPM,
		updates: func(t *testing.T, root string) map[string]string {
			with := zypperIn(t, root)
			run(t, root, append(with, "refresh")...)
			text := run(t, root, append(with, "update", "--dry-run", "--details", "--no-recommends")...)
			out := picked(text, regexp.MustCompile(`(?m)^(p\d+) *\n +\S+ -> (\S+) *\n`))
			maps.Copy(out, picked(text, regexp.MustCompile(`(?m)^(kernel) *\n +(\S+) *\n`)))
			return out
		},
		// The locks that are a pin there lock what is installed as well.
		otherwise: func(u *town, have archive.Identity) bool {
			return slices.ContainsFunc(u.pins, func(p archive.Relation) bool {
				return p.Name == have.Name && p.Version != have.Version
			})
		}},
	"pacman": {
		install: func(t *testing.T, root string, installed []archive.Identity) {
			local := filepath.Join(root, "var/lib/pacman/local")
			put(t, filepath.Join(local, "ALPM_DB_VERSION"), "9\n")
			for _, p := range installed {
				dir := filepath.Join(local, p.Name+"-"+p.Version)
				put(t, filepath.Join(dir, "desc"), fmt.Sprintf("%%NAME%%\n%s\n\n%%VERSION%%\n%s\n\n"+
					"%%DESC%%\nmade up\n\n%%ARCH%%\n%s\n\n%%BUILDDATE%%\n1700000000\n\n"+
					"%%INSTALLDATE%%\n1700000000\n\n%%SIZE%%\n1\n\n%%VALIDATION%%\nnone\n\n",
					p.Name, p.Version, p.Arch))
				put(t, filepath.Join(dir, "files"), "%FILES%\n\n")
			}
		},
		updates: func(t *testing.T, root string) map[string]string {
			with := pacmanIn(t, root)
			run(t, root, append(with, "-Sy")...)
			return picked(run(t, root, append(with, "-Sup", "--print-format", "%n %v")...),
				regexp.MustCompile(`(?m)^(p\d+) (\S+)$`))
		}},
}

func put(t *testing.T, path, text string) {
	t.Helper()
	must.Do(t, os.MkdirAll(filepath.Dir(path), 0o755))
	must.Write(t, path, text)
}

// installRPM puts packages that are built for it into rpm's database.
func installRPM(t *testing.T, root string, installed []archive.Identity) {
	t.Helper()
	args := []string{"--root", root, "--justdb", "--nodeps", "--ignorearch", "--nosignature", "-i"}
	for _, p := range installed {
		m := made.RPM{Name: p.Name, Version: p.Version, Arch: p.Arch, Time: 1_700_000_000}
		file, err := m.Build(nil)
		must.Do(t, err)
		at := filepath.Join(root, "tmp", m.FileName())
		put(t, at, string(file))
		args = append(args, at)
	}
	c := exec.Command("rpm", args...)
	c.Env = append(os.Environ(), "HOME="+root) // below which Debian's rpm has its database
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("rpm: %v\n%s", err, out)
	}
}

// What an update takes of the name of an installed package follows from one rule
// (docs/priorities.md), and is what the real client would bring up to date with the files that are
// written for it.
func TestWhatAnUpdateTakesIsWhatTheRealClientTakes(t *testing.T) {
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	for _, c := range choosers {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath(c.name); err != nil {
				t.Fatal("the client is not there: make tools")
			}
			states := map[solve.InstalledState]int{}
			compared, newer, pinned, otherwise := 0, 0, 0, 0
			for n, r := range cases(t, 24, 29) {
				u := newTown(c, r)
				installed := u.installed(r)
				ours := u.succeeding(t, installed, states)
				u.asks = func(t *testing.T, root string, _ []string) map[string]string {
					updaters[c.name].install(t, root, installed)
					return updaters[c.name].updates(t, root)
				}
				theirs := u.theirs(t, key, nil)
				for _, have := range installed {
					if slices.ContainsFunc(u.pins, func(p archive.Relation) bool {
						return p.Name == have.Name
					}) {
						pinned++
					}
					if o := updaters[c.name].otherwise; o != nil && o(u, have) {
						otherwise++
						continue
					}
					compared++
					if ours[have.Name] != "" {
						newer++
					}
					if theirs[have.Name] == have.Version { // its own list says something else of it
						theirs[have.Name] = ""
					}
					if ours[have.Name] != theirs[have.Name] {
						t.Errorf("case %d, %s %s (%s) is installed: we say %q, and the client takes %q, "+
							"of\n%s", n, have.Name, have.Version, have.Arch, ours[have.Name],
							theirs[have.Name], u.of(have.Name))
					}
				}
			}
			t.Logf("%d packages were compared, %d of them pinned; %d are brought up to date: %v; %d were "+
				"not compared", compared, pinned, newer, states, otherwise)
			if compared < 180 || newer < 40 || pinned < 5 || otherwise > compared/3 {
				t.Errorf("%d comparisons: that is none", compared)
			}
		})
	}
}

// installed draws what a machine has: most of the names, in some version.
func (u *town) installed(r *rand.Rand) (out []archive.Identity) {
	for n := range 12 {
		if r.IntN(6) == 0 {
			continue
		}
		arch := u.own
		switch r.IntN(6) {
		case 0:
			arch = u.all
		case 1:
			if len(u.further) > 0 {
				arch = u.further[0]
			}
		}
		out = append(out, archive.Identity{Name: fmt.Sprintf("p%d", n),
			Version: u.versions[r.IntN(len(u.versions))], Arch: arch})
	}
	return out
}

// has tells whether some source has such a package.
func (u *town) has(such func(archive.Package) bool) bool {
	return slices.ContainsFunc(u.packages, func(all []archive.Package) bool {
		return slices.ContainsFunc(all, such)
	})
}

// succeeding gives what we say is brought up to date, by name.
func (u *town) succeeding(t *testing.T, installed []archive.Identity,
	states map[solve.InstalledState]int) map[string]string {
	t.Helper()
	universe := u.universe()
	out := map[string]string{}
	for _, have := range installed {
		s := universe.Successor(t.Context(), u.view(t), u.own, have)
		states[s.State]++
		if s.State == solve.Behind {
			out[have.Name] = s.Offer.Version
		}
	}
	return out
}

// Of packages of which several versions stay installed, the real clients update the newest alone, or
// those that have names of their own each: what is told of a machine says the same.
func TestWhatIsUpdatedOfVersionsSideBySideIsWhatTheRealClientUpdates(t *testing.T) {
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	for _, c := range choosers {
		if c.family == "alpm" {
			continue // its client keeps no versions side by side
		}
		kernel := func(version, abi string) archive.Package {
			if c.family == "deb" {
				return archive.Package{Name: "linux-image-" + abi + "-" + c.own, Version: version,
					Arch: c.own}
			}
			return archive.Package{Name: "kernel", Version: version, Arch: c.own}
		}
		for name, row := range map[string]struct{ installed, offered []archive.Package }{
			"a newer one": {[]archive.Package{kernel("1.0-1", "1.0-1"), kernel("1.1-1", "1.1-1")},
				[]archive.Package{kernel("2.0-1", "2.0-1"), kernel("1.1-1", "1.1-1")}},
			"the same": {[]archive.Package{kernel("1.0-1", "1.0-1"), kernel("1.1-1", "1.1-1")},
				[]archive.Package{kernel("1.1-1", "1.1-1"), kernel("1.0-1", "1.0-1")}},
			"an update of the newest": {[]archive.Package{kernel("1.0-1", "1.0-1"), kernel("1.1-1", "1.1-1")},
				[]archive.Package{kernel("1.1-2", "1.1-1")}},
		} {
			t.Run(c.name+" "+name, func(t *testing.T) {
				t.Parallel()
				u := &town{chooser: c, priority: []int{20}, packages: [][]archive.Package{row.offered}}
				var installed []archive.Identity
				for _, p := range row.installed {
					installed = append(installed, archive.Identity{Name: p.Name, Version: p.Version,
						Arch: p.Arch})
				}
				u.asks = func(t *testing.T, root string, _ []string) map[string]string {
					put(t, filepath.Join(root, "etc/zypp/zypp.conf"), "[main]\nmultiversion = kernel\n")
					updaters[c.name].install(t, root, installed)
					return updaters[c.name].updates(t, root)
				}
				want := map[string]string{}
				for _, x := range u.compared(t, installed) {
					if x.State == solve.Behind {
						want[x.Name] = x.Offered
					}
				}
				got := u.theirs(t, key, nil)
				maps.DeleteFunc(got, func(name,
					version string) bool { // its own list says something else of it
					return slices.Contains(installed, archive.Identity{Name: name, Version: version,
						Arch: c.own})
				})
				if !maps.Equal(got, want) {
					t.Errorf("the client updates %v, and we say %v", got, want)
				}
			})
		}
	}
}

// compared is what is told of a machine with packages installed.
func (u *town) compared(t *testing.T, have []archive.Identity) []machine.InstalledPackage {
	t.Helper()
	e := &edition.Edition{}
	var items []edition.Item
	for i, packages := range u.packages {
		src := u.source(fmt.Sprintf("s%d", i))
		e.Sources = append(e.Sources, edition.Source{Source: src, Priority: u.priority[i], Tailored: true})
		for _, p := range packages {
			items = append(items, edition.Item{Source: src.Name, Name: p.Name, Version: p.Version,
				Arch: p.Arch})
		}
	}
	view, err := machine.Of("town", definition.Group{Family: u.family, Architectures: []string{u.own}}, All,
		e)
	must.Do(t, err)
	var installed []archive.Installed
	for _, id := range have {
		installed = append(installed, archive.Installed{Identity: id})
	}
	out, err := machine.Offer(e, items).To(view, All[u.family]).Compare(t.Context(), installed)
	must.Do(t, err)
	return out.Items
}
