package families

import (
	"fmt"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/internal/made/kept"
)

// found writes findings down, a line each.
func found(b *strings.Builder, list finding.List) {
	for _, f := range list {
		fmt.Fprintf(b, "  %s %s, %s: %s\n    %s\n", f.Severity, f.Code, f.Object, f.Text, f.WayOut)
	}
}

// descriptions are sources of any family, of which each says what it takes them for.
func descriptions() (all []archive.Source) {
	add := func(release string, components, architectures, languages []string) {
		all = append(all, archive.Source{Name: "tarn", Release: release, Components: components,
			Architectures: architectures, Languages: languages})
	}
	one, amd := []string{"core"}, []string{"amd64"}
	for _, release := range []string{"", "heron", "9", "her on", "../x", "./", "/", "pool/", "a//", "/abs/",
		"a/../b/", "$component/$arch/", "$other/", "heron/x", "-x", "a;b/", "pool"} {
		add(release, one, amd, nil)
	}
	for _, components := range [][]string{nil, {"options"}, {"local"}, {"core", "extra"}, {"a b"}, {".."},
		{"core/x"}, {"../x"}, {"[x]"}, {"-x"}} {
		add("heron", components, amd, nil)
		add("pool/", components, []string{"x86_64"}, nil)
	}
	for _, architectures := range [][]string{nil, {"all"}, {"any"}, {"source"}, {"src"}, {"nosrc"},
		{"noarch"}, {"x86_64", "i686"}, {"x86_64_v2"}, {"AMD64"}, {"i386 "}, {"a/b"}, {"aarch64"}} {
		add("heron", one, architectures, nil)
		add("", one, architectures, nil)
	}
	for _, languages := range [][]string{{"en", "pt_BR"}, {"x y"}, {"../de"}, {""}} {
		add("heron", one, amd, languages)
		add("", one, []string{"x86_64"}, languages)
	}
	return all
}

func TestWhatEachFamilyTellsOfADescription(t *testing.T) {
	for _, name := range All.Names() {
		f := All[name]
		var b strings.Builder
		for _, s := range descriptions() {
			fmt.Fprintf(&b, "release %q components %q architectures %q languages %q\n", s.Release,
				s.Components, s.Architectures, s.Languages)
			told := f.CheckSource(s)
			found(&b, told)
			if len(told) > 0 {
				continue
			}
			for _, choice := range f.Roots(s) {
				b.WriteString("  root")
				for _, file := range choice {
					fmt.Fprintf(&b, " %s", file.Path)
					if file.Signs != "" {
						fmt.Fprintf(&b, " (signs %s)", file.Signs)
					}
				}
				b.WriteString("\n")
			}
		}
		kept.Same(t, name+"-descriptions.txt", b.String())
	}
}

// served is a client with where its packages are found.
type served struct {
	archive.Client
	Lane, At string
}

func (s served) files(family string) ([]archive.ClientFile, finding.List, error) {
	return archive.ClientFiles(All[family], s.Client, s.Lane, s.At)
}

// machines are clients of any family.
func machines() (all []served) {
	key := func(name string) archive.ClientKey {
		return archive.ClientKey{Fingerprint: strings.Repeat(name, 20), Binary: []byte("ring " + name + "\n"),
			Armoured: "key " + name + "\n"}
	}
	source := func(name string, priority int, change func(*archive.ClientSource)) archive.ClientSource {
		s := archive.ClientSource{Source: archive.Source{Name: name, Release: "heron",
			Components: []string{name + "-core"}, Architectures: []string{"amd64", "arm64", "x86_64"},
			Languages: []string{"en"}}, Priority: priority, Tailored: true, Origin: name, Label: name,
			Suite: "steady", Codename: "heron", Keys: []archive.ClientKey{key("A1")}}
		if change != nil {
			change(&s)
		}
		return s
	}
	faithful := func(s *archive.ClientSource) {
		s.Tailored, s.Keys = false, append(s.Keys, key("B2"))
		s.Components = append(s.Components, "field")
	}
	add := func(change func(*served)) {
		c := served{Lane: "steady", At: "http://127.0.0.1:8441/lane/steady", Client: archive.Client{
			Sources: []archive.ClientSource{source("kelp", 40, faithful), source("tarn", 20, nil)}}}
		if change != nil {
			change(&c)
		}
		all = append(all, c)
	}
	pin := func(name string, op archive.Op, version string) archive.Relation {
		return archive.Relation{Name: name, Op: op, Version: version}
	}
	add(nil)
	add(func(c *served) { c.At = "/media/a stick/100%" })
	for _, architectures := range [][]string{{"amd64"}, {"x86_64"}, {"riscv64"}, {"i686"}} {
		add(func(c *served) { c.Architectures = architectures })
	}
	add(func(c *served) {
		c.Pins = []archive.Relation{pin("tide-tables", archive.Equal, "1:2.4.1-1")}
	})
	add(func(c *served) {
		c.Sources = append(c.Sources, source("reach", 20, func(s *archive.ClientSource) {
			s.Components, s.Streams, s.Languages = []string{"tarn-core"}, []string{"panel:3", "panel:4",
				"pump:1"}, nil
		}))
	})
	add(func(c *served) {
		c.Sources = []archive.ClientSource{source("flat", 99, func(s *archive.ClientSource) {
			s.Release, s.Components, s.Keys = "./", nil, nil
		}), source("folder", 1, func(s *archive.ClientSource) { s.Release = "$component/$arch/" })}
	})
	for _, wrong := range []func(*served){
		func(c *served) { c.Lane = "a b" },
		func(c *served) { c.At = "media" },
		func(c *served) { c.At = "/media/\n" },
		func(c *served) { c.Pins = []archive.Relation{pin("tide-tables", archive.Greater, "1")} },
		func(c *served) { c.Pins = []archive.Relation{pin("tide tables", archive.Equal, "1")} },
		func(c *served) { c.Sources[0].Name = "../x" },
		func(c *served) { c.Sources[0].Architectures = []string{"a b"} },
		func(c *served) { c.Sources[0].Keys[0].Fingerprint = "../key" },
		func(c *served) { c.Sources[0].Streams = []string{"panel 3"} },
		func(c *served) { // as the other says that it is
			c.Sources[0].Origin, c.Sources[0].Label = "tarn", "tarn"
		},
	} {
		add(wrong)
	}
	return all
}

func TestWhatEachFamilyWritesForMachines(t *testing.T) {
	for _, name := range All.Names() {
		var b strings.Builder
		setups := map[string]string{}
		for i, c := range machines() {
			files, notes, err := c.files(name)
			fmt.Fprintf(&b, "==== machine %d\n", i+1)
			if err != nil {
				fmt.Fprintf(&b, "refused: %v\n", err)
				continue
			}
			found(&b, notes)
			for _, f := range files {
				fmt.Fprintf(&b, "---- %s %o\n", f.Path, f.Mode)
				if text := string(f.Data); setups[text] != "" {
					fmt.Fprintf(&b, "as for machine %s\n", setups[text])
				} else {
					b.Write(f.Data)
					setups[text] = fmt.Sprint(i + 1)
				}
			}
		}
		kept.Same(t, name+"-machines.txt", b.String())
	}
}

func TestWhatRunsWhereAndWhatLasts(t *testing.T) {
	architectures := []string{"amd64", "arm64", "i386", "all", "any", "noarch", "x86_64", "x86_64_v2",
		"x86_64_v3", "i686", "i586", "src", "nosrc", "source", "aarch64", "pentium4"}
	paths := []string{"pool/core/a_1_amd64.deb", "dists/heron/InRelease",
		"dists/heron/core/binary-amd64/Packages.xz",
		"dists/heron/core/binary-amd64/by-hash/SHA256/aa", "repodata/repomd.xml",
		"repodata/aa-primary.xml.gz",
		"repodata/primary.xml.gz", "Packages/a-1-1.x86_64.rpm", "core/os/x86_64/core.db",
		"core/os/x86_64/core.files",
		"core/os/x86_64/a-1-1-any.pkg.tar.zst", "core/os/x86_64/a-1-1-any.pkg.tar.zst.sig",
		"packages/a-1-1.rpm", "x"}
	for _, name := range All.Names() {
		f := All[name]
		var b strings.Builder
		for _, p := range architectures {
			fmt.Fprintf(&b, "%-10s", p)
			for _, m := range architectures {
				fmt.Fprintf(&b, " %3d", f.Rank(p, m))
			}
			b.WriteString("\n")
		}
		for _, p := range paths {
			fmt.Fprintf(&b, "lasting %v signed beside %q %s\n", f.Lasting(p), archive.SignatureOf(f, p), p)
		}
		for _, p := range []archive.Package{{Name: "a", Version: "1-1", Arch: "amd64"}, {Name: "a",
			Version: "2-1", Arch: "amd64"}, {Name: "a", Version: "1-1", Arch: "x86_64"}} {
			other := archive.Package{Name: "a", Version: "1-1", Arch: "x86_64"}
			fmt.Fprintf(&b, "beside %s: %v\n", p.String(), !f.Exclusive(&p, &other))
		}
		kept.Same(t, name+"-ranks.txt", b.String())
	}
}
