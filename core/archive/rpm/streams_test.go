package rpm_test

import (
	"bytes"
	"fmt"
	"hash/crc32"
	"math/rand"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	. "stockade/core/archive/rpm"
	"stockade/internal/made"
	"stockade/internal/must"
)

// module is a build of a stream as a test writes it.
type module struct {
	name, stream string
	version      int
	needs        string // YAML of the requires
	packages     []string
	context      string // made of the needs, if empty
}

func (m module) String() string {
	if m.context == "" {
		m.context = fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(m.needs)))
	}
	return fmt.Sprintf("---\ndocument: modulemd\nversion: 2\ndata:\n  name: %s\n  stream: %q\n  version: "+
		"%d\n  context: %q\n  arch: x86_64\n  summary: made up\n  description: made up\n  license: "+
		"{module: [MIT]}\n  dependencies:\n  - requires: {%s}\n  artifacts:\n    rpms: [%s]\n...\n",
		m.name, m.stream, m.version, m.context, m.needs, strings.Join(m.packages, ", "))
}

func defaultOf(name, stream string) string {
	return fmt.Sprintf(
		"---\ndocument: modulemd-defaults\nversion: 1\ndata:\n  module: %s\n  stream: %q\n...\n", name,
		stream)
}

// modular is some repositories with module streams.
type modular struct {
	made    [][]made.RPM
	lists   []string
	enabled []string
}

// ours gives what we say that a machine sees.
func (m modular) ours(t *testing.T) (sees, open []string) {
	t.Helper()
	var lists []*StreamList
	for _, text := range m.lists {
		s, err := ReadStreamList(strings.NewReader(text))
		must.Do(t, err)
		lists = append(lists, s)
	}
	active := ActivateStreams(lists, m.enabled)
	var out []string
	for _, packages := range m.made {
		for _, p := range packages {
			pkg := &archive.Package{Name: p.Name, Version: p.Version, Arch: p.Arch}
			for _, v := range p.Provides {
				pkg.Provides = append(pkg.Provides, archive.Provide{Name: strings.Fields(v)[0]})
			}
			if active.Sees(pkg) {
				out = append(out, ArtifactOf(pkg))
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out), active.Doubts().Open
}

// theirs asks the real client.
func (m modular) theirs(t *testing.T, key archive.SigningKey) []string {
	t.Helper()
	root, err := os.MkdirTemp("/var/tmp", "modules-") // the client takes commas in a path for several
	must.Do(t, err)
	t.Cleanup(func() { os.RemoveAll(root) })
	write := func(path, text string) {
		t.Helper()
		path = filepath.Join(root, path)
		must.Do(t, os.MkdirAll(filepath.Dir(path), 0o755))
		must.Write(t, path, text)
	}
	var repos strings.Builder
	for i, packages := range m.made {
		files, err := made.RPMRepository{Name: fmt.Sprintf("r%d", i), Date: time.Now(),
			Packages: packages, Modules: m.lists[i], Unsigned: true,
			Built: map[string][]byte{}}.Publish(key)
		must.Do(t, err)
		for p, data := range files {
			write(fmt.Sprintf("repo%d/%s", i, p), string(data))
		}
		fmt.Fprintf(&repos, "[r%d]\nname=r%d\nbaseurl=file://%s/repo%d\nenabled=1\ngpgcheck=0\n", i, i, root,
			i)
	}
	write("repos/r.repo", repos.String())
	for _, e := range m.enabled {
		name, stream, _ := strings.Cut(e, ":")
		write("machine/etc/dnf/modules.d/"+name+".module", fmt.Sprintf(
			"[%s]\nname=%s\nstream=%s\nprofiles=\nstate=enabled\n", name, name, stream))
	}
	cmd := exec.Command("dnf", "--installroot="+root+"/machine", "--setopt=reposdir="+root+"/repos",
		"--setopt=cachedir="+root+"/cache",
		"--setopt=module_platform_id=platform:el9", "--setopt=plugins=0", "--releasever=9",
		"--forcearch=x86_64", "repoquery", "--available", "--show-duplicates",
		"--qf", "%{name}-%{epoch}:%{version}-%{release}.%{arch}\n")
	var out, told bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &told
	if err := cmd.Run(); err != nil {
		t.Fatalf("dnf: %v\n%s", err, told.String())
	}
	if told.Len() > 0 {
		t.Logf("the client says: %s", told.String())
	}
	got := strings.Fields(out.String())
	slices.Sort(got)
	return slices.Compact(got)
}

func plain(name, version string, provides ...string) made.RPM {
	return made.RPM{Name: name, Version: version, Arch: "x86_64", Provides: provides}
}

// What machines see of repositories with module streams is what the real client
// sees: of several repositories, with streams that need others, streams that cannot
// be on, packages of several streams, and packages of none that are hidden.
func TestWhatModuleStreamsShowIsWhatTheClientSees(t *testing.T) {
	if _, err := exec.LookPath("dnf"); err != nil {
		t.Fatal("the client is not there: make tools")
	}
	platform := "platform: [el9]"
	cases := map[string]modular{
		"a default stream hides its names elsewhere": {
			made: [][]made.RPM{{plain("panel", "2-1"), plain("panel", "3-1"), plain("loose", "1-1")},
				{plain("panel", "9-1"), plain("other", "1-1", "panel"), plain("third", "1-1", "panel = 4")}},
			lists: []string{module{"panel", "2", 1, platform, []string{"panel-0:2-1.x86_64"}, ""}.String() +
				module{"panel", "3", 1, platform, []string{"panel-0:3-1.x86_64"}, ""}.String() + defaultOf(
				"panel", "2"), ""}},
		"an enabled stream puts on what it needs, which is no default": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("lib", "1-1"),
				plain("lib", "2-1"), plain("lib", "9-1")}},
			lists: []string{module{"app", "1", 1, platform + ", lib: [\"2\"]", []string{"app-0:1-1.x86_64"},
				""}.String() + module{"lib", "1", 1, platform, []string{"lib-0:1-1.x86_64"}, ""}.String() +
				module{"lib", "2", 1, platform, []string{"lib-0:2-1.x86_64"}, ""}.String()},
			enabled: []string{"app:1"}},
		"a default whose need nobody has is off, and hides nothing": {
			made: [][]made.RPM{{plain("app", "1-1")}, {plain("app", "9-1")}},
			lists: []string{module{"app", "1", 1, platform + ", gone: [\"2\"]", []string{"app-0:1-1.x86_64"},
				""}.String() + defaultOf("app", "1"), ""}},
		"one package of two streams": {
			made: [][]made.RPM{{plain("shared", "1-1"), plain("a", "1-1"), plain("b", "1-1")}},
			lists: []string{module{"m", "a", 1, platform, []string{"shared-0:1-1.x86_64", "a-0:1-1.x86_64"},
				""}.String() + module{"m", "b", 1, platform,
				[]string{"shared-0:1-1.x86_64", "b-0:1-1.x86_64"}, ""}.String()},
			enabled: []string{"m:b"}},
		"a default that needs another stream of an enabled module is off": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("lib", "1-1"), plain("lib", "2-1")}},
			lists: []string{module{"app", "1", 1, platform + ", lib: [\"2\"]", []string{"app-0:1-1.x86_64"},
				""}.String() + defaultOf("app", "1") + module{"lib", "1", 1, platform, []string{
				"lib-0:1-1.x86_64"}, ""}.String() + module{"lib", "2", 1, platform, []string{
				"lib-0:2-1.x86_64"}, ""}.String()},
			enabled: []string{"lib:1"}},
		"any stream of a module, where it has a default": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("lib", "1-1"), plain("lib", "2-1")}},
			lists: []string{module{"app", "1", 1, platform + ", lib: []", []string{"app-0:1-1.x86_64"},
				""}.String() + defaultOf("lib", "1") + module{"lib", "1", 1, platform, []string{
				"lib-0:1-1.x86_64"}, ""}.String() + module{"lib", "2", 1, platform, []string{
				"lib-0:2-1.x86_64"}, ""}.String()},
			enabled: []string{"app:1"}},
		"two builds of one stream": {
			made: [][]made.RPM{{plain("app", "1-1")}, {plain("app", "1-2")}},
			lists: []string{module{"app", "1", 1, platform, []string{"app-0:1-1.x86_64"}, ""}.String(),
				module{"app", "1", 2, platform, []string{"app-0:1-2.x86_64"}, ""}.String()},
			enabled: []string{"app:1"}},
		"two versions of one stream": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("app", "1-2")}},
			lists: []string{module{"app", "1", 1, platform, []string{"app-0:1-1.x86_64"}, "a"}.String() +
				module{"app", "1", 2, platform, []string{"app-0:1-2.x86_64"}, "a"}.String()},
			enabled: []string{"app:1"}},
		"two contexts of one version, of which one needs more": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("app", "1-2"), plain("lib", "1-1")}},
			lists: []string{module{"app", "1", 1, platform, []string{"app-0:1-1.x86_64"}, "a"}.String() +
				module{"app", "1", 1, platform + ", lib: [\"1\"]", []string{"app-0:1-2.x86_64"},
					"b"}.String() + module{"lib", "1", 1, platform, []string{"lib-0:1-1.x86_64"},
				"a"}.String()},
			enabled: []string{"app:1"}},
		"a newer version whose need nobody has": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("app", "1-2")}},
			lists: []string{module{"app", "1", 1, platform, []string{"app-0:1-1.x86_64"}, "a"}.String() +
				module{"app", "1", 2, platform + ", gone: []", []string{"app-0:1-2.x86_64"}, "a"}.String()},
			enabled: []string{"app:1"}},
		"two contexts, of which one needs what nobody has": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("app", "1-2")}},
			lists: []string{module{"app", "1", 1, platform, []string{"app-0:1-1.x86_64"}, "a"}.String() +
				module{"app", "1", 1, platform + ", gone: []", []string{"app-0:1-2.x86_64"}, "b"}.String()},
			enabled: []string{"app:1"}},
		"three builds in two contexts": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("app", "1-2"), plain("app", "1-3")}},
			lists: []string{module{"app", "1", 1, platform, []string{"app-0:1-1.x86_64"}, "a"}.String() +
				module{"app", "1", 2, platform, []string{"app-0:1-2.x86_64"}, "a"}.String() + module{"app",
				"1", 1, platform, []string{"app-0:1-3.x86_64"}, "b"}.String()},
			enabled: []string{"app:1"}},
		"a needed stream in two versions": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("lib", "1-1"), plain("lib", "1-2")}},
			lists: []string{module{"app", "1", 1, platform + ", lib: [\"1\"]", []string{"app-0:1-1.x86_64"},
				"a"}.String() + module{"lib", "1", 1, platform, []string{"lib-0:1-1.x86_64"}, "a"}.String() +
				module{"lib", "1", 2, platform, []string{"lib-0:1-2.x86_64"}, "a"}.String()},
			enabled: []string{"app:1"}},
		"any stream of a module that has no default": {
			made: [][]made.RPM{{plain("app", "1-1"), plain("lib", "1-1"), plain("lib", "2-2")}},
			lists: []string{module{"app", "1", 1, platform + ", lib: []", []string{"app-0:1-1.x86_64"},
				"a"}.String() + module{"lib", "1", 7, platform, []string{"lib-0:1-1.x86_64"}, "a"}.String() +
				module{"lib", "2", 2, platform, []string{"lib-0:2-2.x86_64"}, "a"}.String()},
			enabled: []string{"app:1"}},
	}
	// A build for each stream of a module: the one for the stream that is enabled too is on.
	for _, enabled := range [][]string{{"app:1", "lib:2"}, {"lib:2", "app:1"}} {
		cases["builds for each stream, with "+strings.Join(enabled, " and ")] = modular{
			made: [][]made.RPM{{plain("app", "1-1"), plain("app", "1-2"), plain("lib", "1-1"),
				plain("lib", "2-1")}},
			lists: []string{module{"app", "1", 1, platform + ", lib: [\"1\"]", []string{"app-0:1-1.x86_64"},
				"a"}.String() + module{"app", "1", 1, platform + ", lib: [\"2\"]", []string{
				"app-0:1-2.x86_64"}, "b"}.String() + module{"lib", "1", 1, platform, []string{
				"lib-0:1-1.x86_64"}, ""}.String() + module{"lib", "2", 1, platform, []string{
				"lib-0:2-1.x86_64"}, ""}.String()},
			enabled: enabled}
	}
	r := rand.New(rand.NewSource(7))
	for i := range 16 {
		cases[fmt.Sprintf("at random, %d", i)] = randomModules(r)
	}
	key := testKeys()[0]
	settled := 0
	for _, m := range cases {
		if _, open := m.ours(t); open == nil {
			settled++
		}
	}
	if settled < len(cases)/2 {
		t.Fatalf("of %d cases only %d have one answer: that is no comparison", len(cases), settled)
	}
	for name, m := range cases {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			ours, open := m.ours(t)
			if open != nil && strings.HasPrefix(name, "builds for each") {
				t.Errorf("it is said to be open which of %v are on", open)
			}
			if theirs := m.theirs(t, key); open == nil && !slices.Equal(ours, theirs) {
				t.Errorf("we see   %s\nthe client %s\nenabled %v of\n%s", ours, theirs, m.enabled,
					strings.Join(m.lists, "\n"))
			}
		})
	}
}

// randomModules makes three repositories whose streams need each other's, such that
// what is enabled or default can be on, or needs what nobody has.
func randomModules(r *rand.Rand) (m modular) {
	modules := []string{"ant", "bee", "cat", "dog", "elk"}
	streams := []string{"1", "2"}
	chosen := map[string]string{} // the stream that is enabled or default
	var defaults string
	for _, name := range modules {
		switch stream := streams[r.Intn(2)]; r.Intn(3) {
		case 0:
			defaults += defaultOf(name, stream)
			chosen[name] = stream
		case 1:
			m.enabled = append(m.enabled, name+":"+stream)
			chosen[name] = stream
		}
	}
	for n := range 3 {
		var all []made.RPM
		var list strings.Builder
		for i, name := range modules {
			for _, stream := range streams {
				if n > 0 && r.Intn(3) == 0 { // the first repository has all of them
					continue
				}
				needs := "platform: [el9]"
				if rest := modules[i+1:]; len(rest) > 0 && r.Intn(2) == 0 {
					other := rest[r.Intn(len(rest))]
					if of := chosen[other]; of != "" {
						needs += fmt.Sprintf(", %s: [%q]", other, of)
					} else {
						needs += fmt.Sprintf(", %s: [\"1\"]", other)
					}
				} else if r.Intn(8) == 0 && n > 0 {
					needs += ", gone: []"
				}
				version := r.Intn(50) + 1
				p := plain(name, fmt.Sprintf("%s.%d-1", stream, version))
				all = append(all, p)
				list.WriteString(module{name, stream, version, needs, []string{p.Name + "-0:" + p.Version +
					".x86_64"}, ""}.String())
			}
			if r.Intn(3) == 0 {
				all = append(all, plain(name, fmt.Sprintf("9.%d-1", r.Intn(9))))
			}
		}
		all = append(all, plain("loose", fmt.Sprintf("%d-1", r.Intn(9)), modules[r.Intn(len(modules))]))
		m.made, m.lists = append(m.made, all), append(m.lists, list.String())
	}
	m.lists[0] += defaults
	return m
}
