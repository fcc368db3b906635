package families

import (
	"cmp"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"path"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/internal/made"
)

// seen is what one source of a view is, as a machine's files say it.
type seen struct {
	at, release, components, architectures, keys string
	priority                                     int
}

// view is a view as text: each source, in the order in which it is asked.
func view(all []seen) string {
	slices.SortStableFunc(all, func(a, b seen) int {
		return cmp.Or(cmp.Compare(a.priority, b.priority), strings.Compare(a.at, b.at),
			strings.Compare(a.components, b.components))
	})
	var b strings.Builder
	for _, s := range all {
		fmt.Fprintf(&b, "%d %s %s [%s] [%s] %s\n", s.priority, s.at, s.release, s.components, s.architectures,
			s.keys)
	}
	return b.String()
}

// What is written for machines of a view is read back, by the readers of machines' own files,
// as that view: where each source lies, release, components, architectures, the keys that
// count for it, and the priorities; of the client that has none, their order. 250 views for each
// family, made up by a number.
func TestAViewIsReadBackFromTheFilesThatAreWrittenForIt(t *testing.T) {
	var keys []archive.ClientKey
	for _, k := range made.Keys(made.Owner{Name: "Tarn archive"}, made.Owner{Name: "Kelp Drives"},
		made.Owner{Name: "Brine Drives"}) {
		c := k.Certificate()
		keys = append(keys, archive.ClientKey{Fingerprint: c.Fingerprint, Binary: c.Binary(),
			Armoured: c.Armoured()})
	}
	for _, name := range All.Names() {
		reading, ok := All[name].(archive.Reading)
		if !ok {
			continue
		}
		t.Run(name, func(t *testing.T) {
			met := 0
			for n := range uint64(250) {
				r := rand.New(rand.NewPCG(n, 7))
				c := someMachine(r, name, keys)
				files, _, err := c.files(name)
				if err != nil {
					t.Fatalf("view %d is refused: %v", n, err)
				}
				got := readBack(t, name, reading, c, files)
				if want := view(meant(name, c)); want != view(got) {
					t.Fatalf("view %d\n%s\nis read back as\n%s\nfrom\n%s", n, want, view(got), written(files))
				}
				met += len(got)
			}
			if met < 400 {
				t.Errorf("only %d sources were compared", met)
			}
		})
	}
}

func written(files []archive.ClientFile) string {
	var b strings.Builder
	for _, f := range files {
		if !strings.HasSuffix(f.Path, "setup") && !strings.HasSuffix(f.Path, ".gpg") &&
			!strings.HasSuffix(f.Path, ".asc") {
			fmt.Fprintf(&b, "---- %s\n%s", f.Path, f.Data)
		}
	}
	return b.String()
}

// someMachine makes up what a machine of a family sees.
func someMachine(r *rand.Rand, family string, keys []archive.ClientKey) served {
	architectures := map[string][]string{"deb": {"amd64", "arm64", "riscv64"}, "rpm": {"x86_64", "aarch64"},
		"alpm": {"x86_64", "aarch64"}}[family]
	releases := map[string][]string{"deb": {"heron", "heron-updates", "./", "drives/"}, "rpm": {"9", "el9"},
		"alpm": {"", "core"}}[family]
	own := architectures[r.IntN(len(architectures))]
	c := served{Lane: "steady", At: "http://gate.skerry.example:8441/lane/steady",
		Client: archive.Client{Architectures: []string{own}}}
	for i := range 1 + r.IntN(5) {
		name := fmt.Sprintf("%s-%d", []string{"tarn", "kelp", "reach"}[r.IntN(3)], i)
		s := archive.ClientSource{Source: archive.Source{Name: name, Family: family,
			Release: releases[r.IntN(len(releases))], Languages: []string{"en"}}, Priority: 1 + r.IntN(99),
			Tailored: true, Origin: "Owner of " + name, Label: "Packages of " + name, Suite: []string{"",
				"steady"}[r.IntN(2)]}
		if s.Codename = s.Release; strings.HasSuffix(s.Release, "/") {
			s.Codename = []string{"", "trout"}[r.IntN(2)]
		}
		for j := range 1 + r.IntN(3) {
			s.Components = append(s.Components, fmt.Sprintf("part%d-%d", i, j))
		}
		if strings.HasSuffix(s.Release, "/") || family == "rpm" {
			s.Components = nil
		}
		s.Architectures = append([]string{own}, architectures[r.IntN(len(architectures))])
		slices.Sort(s.Architectures)
		s.Architectures = slices.Compact(s.Architectures)
		for _, k := range r.Perm(len(keys))[:1+r.IntN(2)] {
			s.Keys = append(s.Keys, keys[k])
		}
		c.Sources = append(c.Sources, s)
	}
	return c
}

// meant is what the files of a machine should say.
func meant(family string, c served) (out []seen) {
	sources := slices.Clone(c.Sources)
	if family == "alpm" { // what stands first is asked first
		slices.SortStableFunc(sources, func(a, b archive.ClientSource) int {
			return cmp.Compare(a.Priority, b.Priority)
		})
	}
	for _, s := range sources {
		var keys []string
		of := s.Keys
		if family == "alpm" { // whose client has one keyring for all
			of = nil
			for _, other := range c.Sources {
				of = append(of, other.Keys...)
			}
		}
		for _, k := range of {
			keys = append(keys, k.Fingerprint[:8])
		}
		slices.Sort(keys)
		one := seen{at: c.At + "/" + s.Name, keys: strings.Join(slices.Compact(keys), " "),
			priority: s.Priority, architectures: strings.Join(c.Architectures, " ")}
		if family == "deb" {
			one.release = s.Release
		}
		if family == "alpm" { // a section for each
			for _, component := range s.Components {
				one.components, one.priority = component, 50+len(out)
				out = append(out, one)
			}
			continue
		}
		one.components = strings.Join(s.Components, " ")
		out = append(out, one)
	}
	return out
}

// readBack imports a machine's files, and gives what they say.
func readBack(t *testing.T, family string, reading archive.Reading, c served,
	files []archive.ClientFile) (out []seen) {
	t.Helper()
	// What both clients of a family have, a machine has of one.
	leaveOut := []string{"zypp/", "yum.repos.d/"}[len(c.Sources)%2]
	lying := map[string][]byte{}
	var own []archive.MachineFile
	var keyrings []string
	for _, f := range files {
		lying["/"+f.Path] = f.Data
		if archive.ReadsFile(reading, f.Path) && !strings.Contains(f.Path, leaveOut) {
			own = append(own, archive.MachineFile{Path: f.Path, Name: f.Path, Data: f.Data})
		}
		if strings.Contains(f.Path, "stockade-keys/") {
			keyrings = append(keyrings, "/"+f.Path)
		}
	}
	i := definition.Import(definition.Machine{Configured: reading.ReadConfiguration(own),
		Architecture: c.Architectures[0], Root: "/", Global: keyrings,
		ReadKey: func(p string) ([]byte, error) {
			if data, ok := lying[path.Clean(p)]; ok {
				return data, nil
			}
			return nil, fs.ErrNotExist
		}})
	if i.Findings.HasErrors() {
		t.Fatal(errors.New(i.Findings.Error() + "\n" + written(files)))
	}
	for _, s := range i.Set.Sources {
		one := seen{components: strings.Join(s.Components, " "), priority: s.Priority,
			architectures: strings.Join(s.Architectures, " ")}
		for _, u := range s.Upstreams {
			one.at += u.URL
		}
		if family == "deb" {
			one.release = s.Release
		} else { // an address of its own for each machine
			one.at, _, _ = strings.Cut(strings.TrimPrefix(one.at, c.At+"/"), "/")
			one.at = c.At + "/" + one.at
		}
		var held []string
		for _, k := range s.SignedBy {
			for _, f := range i.Set.Keys[k].All() {
				held = append(held, f[:8])
			}
		}
		slices.Sort(held)
		one.keys = strings.Join(slices.Compact(held), " ")
		out = append(out, one)
	}
	return out
}
