package families

import (
	"bytes"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/internal/made"
	"stockade/internal/must"
)

// release is a faithful copy for apt: what its Release says, and the version of the package a that
// it has.
type release struct {
	origin, label, suite, codename string
	components                     []string
	flat                           bool
	priority                       int
	version                        string
}

// aptChooses writes the files of a machine for copies, serves them, changes what the Release files
// say if asked to, and gives the candidate of a for the real client.
func aptChooses(t *testing.T, overHTTP bool, later func([]release),
	all ...release) (string, archive.Configuration) {
	t.Helper()
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	cert := key.Certificate()
	root, err := os.MkdirTemp("/var/tmp", "recognised-")
	must.Do(t, err)
	t.Cleanup(func() { os.RemoveAll(root) })
	client := archive.Client{Architectures: []string{"amd64"}}
	for i, r := range all {
		s := archive.ClientSource{Priority: r.priority, Origin: r.origin, Label: r.label, Suite: r.suite,
			Codename: r.codename, Keys: []archive.ClientKey{{Fingerprint: cert.Fingerprint,
				Binary: cert.Binary(), Armoured: cert.Armoured()}},
			Source: archive.Source{Name: fmt.Sprintf("s%d", i), Family: "deb", Release: "heron",
				Components: r.components, Architectures: []string{"amd64"}}}
		if r.flat {
			s.Release = "./"
		}
		client.Sources = append(client.Sources, s)
	}
	at := filepath.Join(root, "served")
	if overHTTP {
		server := httptest.NewUnstartedServer(http.FileServer(http.Dir(at)))
		if l, err := net.Listen("tcp", "[::1]:0"); err == nil && len(all)%2 == 0 { // some by an IPv6 literal
			server.Listener.Close()
			server.Listener = l
		}
		server.Start()
		t.Cleanup(server.Close)
		at = server.URL
	}
	conf, found := All["deb"].Configure(client)
	if found.HasErrors() {
		t.Fatal(found)
	}
	files, err := archive.PrintFiles(All["deb"], conf, "steady", at)
	must.Do(t, err)
	if later != nil {
		later(all)
	}
	for i, r := range all {
		for path, data := range r.published(t, key) {
			must.Do(t, os.MkdirAll(filepath.Dir(filepath.Join(root, "served", fmt.Sprintf("s%d", i), path)),
				0o755))
			must.Do(t, os.WriteFile(filepath.Join(root, "served", fmt.Sprintf("s%d", i), path), data, 0o644))
		}
	}
	with := append([]string{"env", "APT_CONFIG=" + root + "/more.conf"}, aptIn(t, root)...)
	for _, f := range files {
		text := strings.ReplaceAll(string(f.Data), "Signed-By: /", "Signed-By: "+root+"/")
		must.Do(t, os.MkdirAll(filepath.Dir(filepath.Join(root, f.Path)), 0o755))
		must.Do(t, os.WriteFile(filepath.Join(root, f.Path), []byte(text), 0o644))
	}
	// As on machines with a program that looks for files in packages that are not installed.
	must.Write(t, filepath.Join(root, "more.conf"), `Acquire::IndexTargets::deb::Contents-deb {
		MetaKey "$(COMPONENT)/Contents-$(ARCHITECTURE)"; ShortDescription "Contents";
		Description "Contents of $(RELEASE)/$(COMPONENT)"; flatMetaKey "Contents-$(ARCHITECTURE)";
		flatDescription "Contents of $(RELEASE)"; };`)
	must.Do(t, os.WriteFile(filepath.Join(root, "status"), nil, 0o644))
	if text := run(t, root, append(with, "update", "--error-on=any")...); strings.Contains(text, "Err:") {
		t.Errorf("apt-get update fails: %s", text)
	}
	with[2] = "apt-cache"
	text := run(t, root, append(with, "policy", "a")...)
	m := candidate.FindStringSubmatch(text)
	if m == nil {
		t.Fatalf("no candidate: %s", text)
	}
	return m[1], conf
}

func (r release) published(t *testing.T, key archive.SigningKey) map[string][]byte {
	t.Helper()
	repository := made.DebRepository{Origin: r.origin, Label: r.label, Suite: r.suite,
		Codename: r.codename, Date: time.Now().Add(-time.Hour), Architectures: []string{"amd64"},
		Components: r.components, Contents: true}
	if r.flat {
		repository.Components = []string{"core"}
	}
	for _, c := range repository.Components {
		repository.Packages = append(repository.Packages, made.Deb{Component: c, Name: "a",
			Version: r.version, Arch: "amd64", Summary: "made up",
			Files: []made.File{{Path: "/usr/bin/a", Data: []byte(c)}}})
	}
	files, err := repository.Publish(key)
	must.Do(t, err)
	out := map[string][]byte{}
	indexes := map[string][]byte{}
	for path, data := range files {
		name := filepath.Base(path)
		switch {
		case strings.HasPrefix(name, "Contents-"): // a copy does not have it
		case !strings.HasPrefix(path, "dists/"):
			out[path] = data
		case r.flat && strings.HasPrefix(name, "Packages"):
			indexes[name], out[name] = data, data
		case r.flat:
		case strings.Contains(path, "/binary-"):
			out["dists/heron/"+path[strings.Index(path, filepath.Base(strings.Split(path,
				"/binary-")[0])):]] = data
		default:
			out["dists/heron/"+name] = data
		}
	}
	if r.flat {
		release := made.DebRelease{Origin: r.origin, Label: r.label, Suite: r.suite, Codename: r.codename,
			Date: time.Now().Add(-time.Hour), Architectures: []string{"amd64"}}.Text(indexes)
		clear, err := key.Clearsign(bytes.ReplaceAll(release, []byte("Components: \n"), nil))
		must.Do(t, err)
		out["InRelease"] = clear
	}
	return out
}

// What a machine's preferences ask of a Release is what the release has and keeps: a repository that
// says nothing of itself is recognised all the same, and one whose suite is renamed keeps its
// priority. Machines that ask for further lists than a copy has are told which there are.
func TestPrioritiesHoldForTheRealClientWhateverAReleaseSaysOfItself(t *testing.T) {
	tarn := release{origin: "Tarn", label: "Tarn", suite: "stable", codename: "heron",
		components: []string{"core"}, priority: 20, version: "2.0-1"}
	for name, c := range map[string]struct {
		all   []release
		later func([]release)
		want  string
	}{
		"a flat repository that says nothing": {[]release{tarn, {flat: true, priority: 10, version: "1.0-1"}},
			nil, "1.0-1"},
		"a flat repository that says nothing, and comes last": {[]release{tarn, {flat: true, priority: 40,
			version: "3.0-1"}}, nil, "2.0-1"},
		"one with components that says nothing": {[]release{tarn, {priority: 10, version: "1.0-1",
			components: []string{"core", "field"}}}, nil, "1.0-1"},
		"two that say nothing, of other components": {[]release{{priority: 20, version: "2.0-1",
			components: []string{"core"}}, {priority: 10, version: "1.0-1",
			components: []string{"drives"}}}, nil, "1.0-1"},
		"a suite that is renamed": {[]release{tarn, {origin: "Kelp", codename: "drives", priority: 40,
			version: "3.0-1", components: []string{"core"}}},
			func(all []release) { all[0].suite = "oldstable" }, "2.0-1"},
		"a suite alone": {[]release{tarn, {suite: "drives", priority: 10, version: "1.0-1",
			components: []string{"core"}}}, nil, "1.0-1"},
	} {
		for _, overHTTP := range []bool{false, true} {
			t.Run(fmt.Sprint(name, overHTTP), func(t *testing.T) {
				t.Parallel()
				all := append([]release{}, c.all...)
				got, conf := aptChooses(t, overHTTP, c.later, all...)
				if got != c.want {
					t.Errorf("the candidate is %s, want %s, with %+v", got, c.want, recognised(conf))
				}
			})
		}
	}
}

func recognised(c archive.Configuration) (out []string) {
	for _, r := range c.Repositories {
		out = append(out, fmt.Sprint(r.Name, r.Priority, r.Recognised))
	}
	return out
}

// Of repositories that say nothing of themselves, and that nothing else tells apart either, only one
// priority can be given: others are refused.
func TestWhatNothingTellsApartIsRefused(t *testing.T) {
	source := func(name string, priority int, components ...string) archive.ClientSource {
		return archive.ClientSource{Priority: priority, Source: archive.Source{Name: name, Family: "deb",
			Release: "heron", Components: components, Architectures: []string{"amd64"}}}
	}
	for name, c := range map[string]struct {
		sources []archive.ClientSource
		refused bool
	}{
		"two flat ones of one priority": {[]archive.ClientSource{source("a", 10), source("b", 10)},
			false},
		"two flat ones of two": {[]archive.ClientSource{source("a", 10), source("b", 20)},
			true},
		"two with the same component": {[]archive.ClientSource{source("a", 10, "x"), source("b",
			20, "x")}, true},
		"two with other components": {[]archive.ClientSource{source("a", 10, "x"), source("b",
			20, "y")}, false},
		"a flat one beside one with a component": {[]archive.ClientSource{source("a", 10), source("b", 20,
			"y")}, false},
		"one of several that are shared": {[]archive.ClientSource{source("a", 10, "x", "y"), source("b", 20,
			"y")}, true},
	} {
		_, found := All["deb"].Configure(archive.Client{Sources: c.sources})
		if got := len(found.With("priority.ambiguous")) > 0; got != c.refused {
			t.Errorf("%s: got refused %v, want %v: %v", name, got, c.refused, found)
		}
	}
}
