package families

import (
	"bytes"
	"cmp"
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
	"time"

	"stockade/core/archive"
	"stockade/core/solve"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/must"
)

// chooser is a real client that says what it would install.
type chooser struct {
	name, family string
	own, all     string // architectures: of the machine, and that of packages for all of them
	further      []string
	foreign      string // an architecture that machines can turn on beside their own
	// otherwise tells that this client is known to take something else of a name than the rule
	// says, which docs/priorities.md tells as well; nil: never.
	otherwise func(u *town, name string) bool
	versions  []string
	// asks gives what the client would take for names, with its files below a root.
	asks func(t *testing.T, root string, names []string) map[string]string
}

// run runs a client, whose own configuration lies below root.
func run(t *testing.T, root string, args ...string) string {
	t.Helper()
	c := exec.Command(args[0], args[1:]...)
	c.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "COLUMNS=200", "HOME="+root)
	var out, told bytes.Buffer
	c.Stdout, c.Stderr = &out, &told
	if err := c.Run(); err != nil && c.ProcessState.ExitCode() > 4 {
		t.Logf("%s: %v\n%s%s", strings.Join(args[:2], " "), err, out.String(), told.String())
	}
	return out.String()
}

// picked reads NAME, VERSION out of lines.
func picked(text string, line *regexp.Regexp) map[string]string {
	out := map[string]string{}
	for _, m := range line.FindAllStringSubmatch(text, -1) {
		out[m[1]] = m[2]
	}
	return out
}

// aptIn and its like give how a client is called on a machine below root.
func aptIn(t *testing.T, root string) []string {
	for _, dir := range []string{"var/lib/apt/lists/partial", "var/cache/apt/archives/partial",
		"etc/apt/apt.conf.d", "etc/apt/trusted.gpg.d"} {
		must.Do(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
	}
	return []string{"apt-get", "-qq", "-o", "Dir=" + root, "-o", "Dir::State::status=" + root + "/status",
		"-o", "APT::Architecture=amd64", "-o", "APT::Architectures=amd64,i386",
		"-o", "APT::Sandbox::User=root", "-o", "Acquire::AllowInsecureRepositories=true",
		"-o", "APT::Get::AllowUnauthenticated=true"}
}

func dnfIn(t *testing.T, root string) []string {
	must.Do(t, os.MkdirAll(filepath.Join(root, "log"), 0o755))
	return []string{"dnf", "--installroot=" + root, "--releasever=9", "--forcearch=x86_64",
		"--setopt=reposdir=" + root + "/etc/yum.repos.d", "--setopt=cachedir=" + root + "/cache",
		"--setopt=logdir=" + root + "/log", "--setopt=strict=0", "--assumeno", "--nogpgcheck"}
}

var dnfLine = regexp.MustCompile(`(?m)^ (p\d+|kernel) +(?:x86_64|noarch|i686) +(\S+) +stockade-`)

func zypperIn(t *testing.T, root string) []string {
	must.Do(t, os.MkdirAll(filepath.Join(root, "tmp"), 0o755))
	return []string{"zypper", "--root", root, "--non-interactive", "--no-gpg-checks", "--ignore-unknown"}
}

func pacmanIn(t *testing.T, root string) []string {
	conf := filepath.Join(root, "pacman.conf")
	must.Write(t, conf, "[options]\nArchitecture = x86_64\nInclude = "+root+
		"/etc/pacman.d/stockade.conf\n")
	must.Do(t, os.MkdirAll(filepath.Join(root, "var/lib/pacman"), 0o755))
	return []string{"pacman", "--root", root, "--dbpath", root + "/var/lib/pacman", "--config", conf,
		"--cachedir", root + "/cache", "--noconfirm"}
}

// rpmVersions are such as begin alike: a pin of one must leave none of the others.
var rpmVersions = []string{"1.0-1", "1.0-2", "1.1-1", "2.0-1", "2.0-1.el9", "2.0-1.fc9", "2.0-1.el9.2",
	"2.0.1-1", "1.2.1-1", "1.2.10-1.el9", "1:0.5-1"}

// cases gives the numbers of the cases that a test draws: so many, or STOCKADE_MACHINES in the
// environment, of the seeds from 1 to STOCKADE_SEEDS.
func cases(t *testing.T, many int, salt uint64) (out []*rand.Rand) {
	t.Helper()
	number := func(name string, usual int) int {
		n, err := strconv.Atoi(cmp.Or(os.Getenv(name), strconv.Itoa(usual)))
		must.Do(t, err)
		return n
	}
	for seed := range uint64(number("STOCKADE_SEEDS", 1)) {
		for n := range uint64(number("STOCKADE_MACHINES", many)) {
			out = append(out, rand.New(rand.NewPCG(n, salt+1000*seed)))
		}
	}
	return out
}

var choosers = []chooser{
	{name: "apt-get", family: "deb", own: "amd64", all: "all",
		versions: []string{"1.0-1", "1.0~rc1-1", "1.0-2", "1.1-1", "2.0-1", "2.0.1-1", "1:0.5-1"},
		foreign:  "i386",
		asks: func(t *testing.T, root string, names []string) map[string]string {
			with := aptIn(t, root)
			must.Do(t, os.WriteFile(filepath.Join(root, "status"), nil, 0o644))
			run(t, root, append(with, "update")...)
			text := run(t, root, append(with, append([]string{"-s", "install"}, names...)...)...)
			return picked(text, regexp.MustCompile(`(?m)^Inst (\S+) \((\S+) `))
		}},
	{name: "dnf", family: "rpm", own: "x86_64", all: "noarch", further: []string{"i686"},
		versions: rpmVersions,
		asks: func(t *testing.T, root string, names []string) map[string]string {
			return picked(run(t, root, append(append(dnfIn(t, root), "install"), names...)...), dnfLine)
		}},
	{name: "zypper", family: "rpm", own: "x86_64", all: "noarch", further: []string{"i686"},
		versions: rpmVersions,
		// Of packages of three kinds of architecture zypper has no order that holds: each comes
		// before one of the others.
		otherwise: func(u *town, name string) bool {
			kinds := map[string]bool{}
			u.has(func(p archive.Package) bool {
				kinds[p.Arch] = kinds[p.Arch] || p.Name == name
				return false
			})
			return kinds[u.own] && kinds[u.all] && kinds[u.further[0]]
		},
		asks: func(t *testing.T, root string, names []string) map[string]string {
			with := zypperIn(t, root)
			run(t, root, append(with, "refresh")...)
			with = append(with, "install", "--dry-run", "--details", "--no-recommends")
			line := regexp.MustCompile(`(?m)^(p\d+)\n +(\S+)\n`)
			out := picked(run(t, root, append(with, names...)...), line)
			for _, name := range names { // one that is locked keeps it from the others
				if len(out) == 0 || len(names) > 1 && out[name] == "" {
					maps.Copy(out, picked(run(t, root, append(with, name)...), line))
				}
			}
			return out
		}},
	{name: "pacman", family: "alpm", own: "x86_64", all: "any",
		versions: []string{"1.0-1", "1.0-2", "1.1-1", "2.0-1", "1:0.5-1"},
		asks: func(t *testing.T, root string, names []string) map[string]string {
			with := pacmanIn(t, root)
			run(t, root, append(with, "-Sy")...)
			text := run(t, root, append(with, append([]string{"-Sp", "--print-format", "%n %v"},
				names...)...)...)
			return picked(text, regexp.MustCompile(`(?m)^(p\d+) (\S+)$`))
		}},
}

// What a machine takes is worked out by one rule (docs/priorities.md), and is what the real
// client takes with the files that are written for it: from several sources, with priorities,
// pins, epochs, architectures, and the same version in two sources. Of the files only where
// keys lie and whether signatures are looked at is changed here; other tests are about that.
func TestWhatAMachineTakesIsWhatTheRealClientTakes(t *testing.T) {
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	for _, c := range choosers {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath(c.name); err != nil {
				t.Fatal("the client is not there: make tools")
			}
			compared, none, pinned, otherwise := 0, 0, 0, 0
			for n, r := range cases(t, 24, 11) {
				u := newTown(c, r)
				ours, names := u.ours(t)
				theirs := u.theirs(t, key, names)
				for _, name := range names {
					if c.otherwise != nil && c.otherwise(u, name) {
						otherwise++
						continue
					}
					compared++
					if ours[name] == "" {
						none++
					}
					if slices.ContainsFunc(u.pins, func(p archive.Relation) bool { return p.Name == name }) {
						pinned++
					}
					if ours[name] != theirs[name] {
						t.Errorf("case %d, %s: we say %q, and the client takes %q, of\n%s", n, name,
							ours[name], theirs[name], u.of(name))
					}
				}
			}
			t.Logf("%d choices were compared, %d of pinned packages; %d times nothing is taken; %d were not "+
				"compared", compared, pinned, none, otherwise)
			if compared < 200 || pinned < 20 || otherwise > compared/5 {
				t.Errorf("%d comparisons, %d with pins: that is no comparison", compared, pinned)
			}
		})
	}
}

// town is some sources with packages of the same names.
type town struct {
	chooser
	packages [][]archive.Package // by source
	priority []int
	pins     []archive.Relation
	foreign  []string // turned on, on its machines
}

func newTown(c chooser, r *rand.Rand) *town {
	u := &town{chooser: c}
	priorities := []int{10, 20, 20, 50}
	seen := map[string]bool{}
	for i := range 2 + r.IntN(3) {
		u.priority = append(u.priority, priorities[r.IntN(len(priorities))])
		var here []archive.Package
		for n := range 12 {
			for range r.IntN(3) {
				arch := c.own
				switch r.IntN(5) {
				case 0:
					arch = c.all
				case 1:
					if len(c.further) > 0 {
						arch = c.further[0]
					}
				}
				p := archive.Package{Name: fmt.Sprintf("p%d", n),
					Version: c.versions[r.IntN(len(c.versions))], Arch: arch}
				// One name and version is one package wherever it is; a database has each name once.
				id := fmt.Sprint(i, p.Name)
				if c.family != "alpm" {
					id += p.Version
				}
				if c.family == "alpm" {
					p.Component = fmt.Sprintf("s%d-%d", i, r.IntN(2))
					id += p.Component
					p.SHA256 = p.Component + p.Name // another file
				}
				if !seen[id] {
					seen[id] = true
					here = append(here, p)
				}
			}
		}
		if len(here) == 0 {
			here = append(here, archive.Package{Name: "p0", Version: c.versions[0], Arch: c.own,
				Component: fmt.Sprintf("s%d-0", i)})
		}
		u.packages = append(u.packages, here)
	}
	for n := range 12 {
		if r.IntN(4) == 0 {
			u.pins = append(u.pins, archive.Relation{Name: fmt.Sprintf("p%d", n), Op: archive.Equal,
				Version: c.versions[r.IntN(len(c.versions))]})
		}
	}
	return u
}

// of tells what there is of a name.
func (u *town) of(name string) string {
	var b strings.Builder
	for i, all := range u.packages {
		for _, p := range all {
			if p.Name == name {
				fmt.Fprintf(&b, "s%d (priority %d) has %s (%s)\n", i, u.priority[i], p.Version, p.Arch)
			}
		}
	}
	for _, p := range u.pins {
		if p.Name == name {
			fmt.Fprintf(&b, "pinned to %s\n", p.Version)
		}
	}
	return b.String()
}

func (u *town) universe() *solve.Universe {
	var sources []solve.Source
	for i := range u.packages {
		sources = append(sources, solve.Source{Name: fmt.Sprintf("s%d", i), Priority: u.priority[i],
			Architectures: u.architectures()})
	}
	universe := solve.NewUniverse(All[u.family], sources)
	for i := range u.packages {
		for k := range u.packages[i] {
			universe.Add(i, &u.packages[i][k])
		}
	}
	return universe
}

func (u *town) architectures() []string { return append([]string{u.own}, u.foreign...) }

// client is what the machines are configured for.
func (u *town) client(keys ...archive.ClientKey) archive.Client {
	c := archive.Client{Architectures: u.architectures(), Pins: u.pins}
	for i := range u.packages {
		name := fmt.Sprintf("s%d", i)
		c.Sources = append(c.Sources, archive.ClientSource{Source: u.source(name), Priority: u.priority[i],
			Tailored: true, Origin: "Owner of " + name, Label: name, Codename: "heron", Keys: keys})
	}
	return c
}

// view is what its machines see, as their client is configured.
func (u *town) view(t *testing.T) solve.View {
	t.Helper()
	conf, found := All[u.family].Configure(u.client())
	if found.HasErrors() {
		t.Fatal(found)
	}
	return solve.View{Pins: u.pins, Architectures: []string{u.own}, Foreign: u.foreign,
		Ranks: solve.RanksOf(conf, func(source string) (n int, ok bool) {
			_, err := fmt.Sscanf(source, "s%d", &n)
			return n, err == nil
		})}
}

// ours gives what we say, by name, of those that some source has.
func (u *town) ours(t *testing.T) (map[string]string, []string) {
	t.Helper()
	universe := u.universe()
	out := map[string]string{}
	for i := range u.packages {
		for _, p := range u.packages[i] {
			out[p.Name] = ""
		}
	}
	for name := range out {
		choice := universe.Choose(t.Context(), u.view(t), u.own, name)
		for _, o := range choice.Offers {
			if o.Taken {
				out[name] = o.Version
			}
			if o.Why == "" && choice.Offers[0].Taken {
				t.Errorf("nothing says why %s is not taken", o.Package)
			}
		}
	}
	return out, slices.Sorted(maps.Keys(out))
}

// theirs gives what the client says.
func (u *town) theirs(t *testing.T, key *trust.SiteKey, names []string) map[string]string {
	t.Helper()
	root, err := os.MkdirTemp("/var/tmp", "choice-")
	must.Do(t, err)
	defer os.RemoveAll(root)
	write := func(path string, data []byte, mode os.FileMode) {
		t.Helper()
		path = filepath.Join(root, path)
		must.Do(t, cmp.Or(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, data, mode)))
	}
	cert := key.Certificate()
	client := u.client(archive.ClientKey{Fingerprint: cert.Fingerprint, Binary: cert.Binary(),
		Armoured: cert.Armoured()})
	for i, packages := range u.packages {
		name := fmt.Sprintf("s%d", i)
		for path, data := range u.published(t, name, packages, key) {
			write(filepath.Join("served", name, path), data, 0o644)
		}
	}
	files, _, err := archive.ClientFiles(All[u.family], client, "steady", root+"/served")
	must.Do(t, err)
	for _, f := range files {
		text := string(f.Data)
		if !strings.HasSuffix(f.Path, ".gpg") {
			text = strings.NewReplacer("Signed-By: /", "Signed-By: "+root+"/", "file:///etc",
				"file://"+root+"/etc", "SigLevel = Required TrustedOnly", "SigLevel = Never", "gpgcheck=1",
				"gpgcheck=0").Replace(text)
		}
		write(f.Path, []byte(text), os.FileMode(f.Mode))
	}
	return u.asks(t, root, names)
}

func (u *town) source(name string) archive.Source {
	s := archive.Source{Name: name, Family: u.family, Architectures: u.architectures()}
	switch u.family {
	case "deb":
		s.Release, s.Components = "heron", []string{"core"}
	case "alpm":
		s.Components = []string{name + "-0", name + "-1"}
	}
	return s
}

// published gives the files of a source.
func (u *town) published(t *testing.T, name string, packages []archive.Package,
	key *trust.SiteKey) map[string][]byte {
	t.Helper()
	var files map[string][]byte
	var err error
	now := time.Now().Add(-time.Minute)
	switch u.family {
	case "deb":
		r := made.DebRepository{Origin: "Owner of " + name, Label: name, Codename: "heron", Date: now,
			Architectures: append(u.architectures(), "all"), Components: []string{"core"}}
		side := "" // both architectures of a name can be there side by side
		if len(u.foreign) > 0 {
			side = "Multi-Arch: same\n"
		}
		for _, p := range packages {
			r.Packages = append(r.Packages, made.Deb{Component: "core", Name: p.Name, Version: p.Version,
				Arch: p.Arch, Summary: "made up", Fields: side + needsAsDeb(p)})
		}
		files, err = r.Publish(key)
	case "rpm":
		r := made.RPMRepository{Name: name, Date: now, Unsigned: true, Built: map[string][]byte{}}
		for _, p := range packages {
			m := made.RPM{Name: p.Name, Version: p.Version, Arch: p.Arch, Requires: needsAsWords(p, " ")}
			if w, ok := p.Needs.(rich); ok {
				m.Requires, m.Conflicts = w.requires, w.conflicts
			}
			for _, v := range p.Provides {
				m.Provides = append(m.Provides, v.Name)
			}
			r.Packages = append(r.Packages, m)
		}
		files, err = r.Publish(key)
	default:
		r := made.AlpmRepository{Components: []string{name + "-0", name + "-1"}, Arch: u.own, Date: now,
			Unsigned: true,
			Signed:   map[string][]byte{}}
		for _, p := range packages {
			m := made.Alpm{Component: p.Component, Name: p.Name, Version: p.Version, Arch: p.Arch,
				Depends: needsAsWords(p, "")}
			if w, ok := p.Needs.(wired); ok {
				m.Depends, m.Conflicts = w.requires, w.conflicts
			}
			for _, v := range p.Provides {
				m.Provides = append(m.Provides, v.Name)
			}
			r.Packages = append(r.Packages, m)
		}
		files, err = r.Publish(key)
	}
	must.Do(t, err)
	return files
}
