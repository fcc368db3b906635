package machine

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/internal/must"
)

// lines writes values, one a line.
func lines[T any](t *testing.T, all ...T) []byte {
	t.Helper()
	var b strings.Builder
	for _, v := range all {
		raw, err := json.Marshal(v)
		must.Do(t, err)
		b.Write(append(raw, '\n'))
	}
	return []byte(b.String())
}

// installed is packages as a list has them that says nothing else of them.
func installed(ids ...archive.Identity) (out []archive.Installed) {
	for _, id := range ids {
		out = append(out, archive.Installed{Identity: id})
	}
	return out
}

// What a machine has is compared with what its own view offers: sources that it does not see,
// packages for other architectures and pins make a difference, and what matters most stands first.
func TestWhatAMachineHasBesideWhatItsViewOffers(t *testing.T) {
	item := func(source, name, version, arch string, size int64) edition.Item {
		return edition.Item{Source: source, Name: name, Version: version, Arch: arch, Size: size}
	}
	module := item("tarn", "valve", "3-1", "amd64", 1)
	module.Attributes = map[string]string{"stream": "valve:3"}
	list := lines(t, item("tarn", "gate", "2-1", "amd64", 10), item("tarn", "pump", "1-1", "amd64", 20),
		item("tarn", "pump", "1-2", "arm64", 20), item("kelp", "pump", "5-1", "amd64", 20),
		item("tarn", "tide", "1-1", "all", 30), item("tarn", "tide", "2-1", "all", 30),
		item("kelp", "buoy", "1-1", "amd64", 40), item("tarn", "lamp", "1-1", "i386", 50), module,
		item("tarn", "weir", "2-1", "amd64", 60), item("tarn", "sluice", "2-1", "amd64", 70))
	advisories := lines(t,
		edition.Advisory{Source: "tarn", Advisory: archive.Advisory{ID: "TARN-1", Kind: "security",
			Packages: []archive.AdvisoryPackage{{Name: "weir", Version: "2-1", Arch: "amd64"}}}},
		edition.Advisory{Source: "tarn", Advisory: archive.Advisory{ID: "TARN-2", Kind: "bugfix",
			Packages: []archive.AdvisoryPackage{{Name: "gate", Version: "2-1", Arch: "amd64"}}}},
		edition.Advisory{Source: "kelp", Advisory: archive.Advisory{ID: "KELP-1", Kind: "security",
			Packages: []archive.AdvisoryPackage{{Name: "sluice", Version: "2-1", Arch: "amd64"}}}},
		edition.Advisory{Source: "tarn", Advisory: archive.Advisory{ID: "TARN-3", Kind: "security",
			Packages: []archive.AdvisoryPackage{{Name: "tide", Version: "2-1", Arch: "all"},
				{Name: "buoy", Version: "1-1", Arch: "amd64"}}}})
	tarn, kelp := of("tarn", "official", "ABAB"), of("kelp", "vendor", "ABAB")
	tarn.Priority, kelp.Priority = 20, 40
	e := sealedWith(t, []edition.Source{tarn, kelp}, list, advisories)
	g := definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"},
		Pins: []string{"tide = 1-1"}}
	have := []archive.Identity{
		{Name: "gate", Version: "1-1", Arch: "amd64"},   // behind; an advisory that is not about security
		{Name: "pump", Version: "1-1", Arch: "amd64"},   // kelp's newer one stands behind tarn's
		{Name: "tide", Version: "1-1", Arch: "all"},     // a pin keeps it
		{Name: "buoy", Version: "2-1", Arch: "amd64"},   // newer than what is offered
		{Name: "lamp", Version: "1-1", Arch: "amd64"},   // offered for another architecture
		{Name: "valve", Version: "2-1", Arch: "amd64"},  // more than its version decides
		{Name: "weir", Version: "1-1"},                  // behind, with a security fix
		{Name: "sluice", Version: "1-1", Arch: "amd64"}, // the advisory is of another source
		{Name: "gone", Version: "1-1", Arch: "amd64"},
	}
	ask := map[string]bool{}
	for _, p := range have {
		ask[p.Name] = true
	}
	offered, err := Read(e, func(name string) bool { return ask[name] })
	must.Do(t, err)
	see := func(change func(*definition.Group)) string {
		t.Helper()
		of := g
		change(&of)
		v, err := Of("gatehouse", of, families, e.Edition)
		must.Do(t, err)
		c, err := offered.To(v, families["deb"]).Compare(t.Context(), installed(have...))
		must.Do(t, err)
		var got []string
		for _, x := range c.Items {
			ids := strings.Join(x.Advisories, " ")
			text := fmt.Sprintf("%s %s %s %s %s", x.Name, x.State, x.Offered, x.From, ids)
			got = append(got, strings.TrimSpace(text))
			if comes := x.State == solve.Behind || x.State == solve.Held; comes != (x.Size > 0) {
				t.Errorf("%+v: %d bytes", x, x.Size)
			}
		}
		if c.Installed != len(have) || c.Current+len(c.Items) != len(have) ||
			c.Behind+c.Ahead+c.Held+c.Stranded+c.Unknown != len(c.Items) {
			t.Errorf("counts: %+v", c)
		}
		return fmt.Sprintf("%d current, %d security, %d bytes: %s", c.Current, c.Security, c.Bytes,
			strings.Join(got, "; "))
	}
	const rest = "gone stranded; lamp stranded; "
	if got := see(func(*definition.Group) {}); got != "1 current, 2 security, 140 bytes: "+
		"tide held 2-1 tarn TARN-3; weir behind 2-1 tarn TARN-1; "+rest+"gate behind 2-1 tarn TARN-2; "+
		"sluice behind 2-1 tarn; buoy ahead 1-1 kelp; valve unknown" {
		t.Error(got)
	}
	free := func(g *definition.Group) { g.Pins, g.Foreign = nil, []string{"i386"} }
	if got := see(free); !strings.HasPrefix(got, "1 current, 2 security, 170 bytes: ") ||
		!strings.Contains(got, "tide behind 2-1") || !strings.Contains(got, "lamp stranded") {
		t.Errorf("without the pin: %s", got)
	}
	// of another release tarn is not seen, and what it has is stranded
	if got := see(func(g *definition.Group) { g.Release = "ibis" }); !strings.HasPrefix(got,
		"0 current, 0 security, 20 bytes: ") || !strings.Contains(got, "gate stranded") ||
		!strings.Contains(got, "pump behind 5-1 kelp") {
		t.Errorf("of another release: %s", got)
	}
	// Machines of two architectures: of a package that does not say its own, what suits one counts.
	both := func(g *definition.Group) { g.Architectures = []string{"amd64", "i386"} }
	if got := see(both); !strings.Contains(got, "gone stranded; lamp stranded") ||
		!strings.Contains(got, "weir behind 2-1") {
		t.Errorf("on two architectures: %s", got)
	}
	have = []archive.Identity{{Name: "lamp", Version: "0-1"}, {Name: "lamp", Version: "0-1", Arch: "i386"},
		{Name: "gate", Version: "2-1"}}
	if got := see(both); !strings.HasPrefix(got, "1 current, 0 security, 100 bytes: lamp behind 1-1 tarn; "+
		"lamp behind 1-1 tarn") {
		t.Errorf("what suits the second: %s", got)
	}
	ended, stop := context.WithCancel(t.Context())
	stop()
	v, err := Of("gatehouse", g, families, e.Edition)
	must.Do(t, err)
	if _, err := offered.To(v, families["deb"]).Compare(ended, installed(have...)); !errors.Is(err,
		context.Canceled) {
		t.Errorf("after the end: %v", err)
	}
}

// A list that does not say what is installed in which version is no report.
func TestAReportSaysWhatIsInstalled(t *testing.T) {
	all := archive.NewRegistry(families["deb"], families["rpm"], alpm.Family{})
	for _, c := range []struct{ name, family, list, says string }{
		{"dpkg", "deb", "ii  gate 1.0-1 amd64\nrc  old 0.9-1 amd64\nhi  tide:amd64 2-1 amd64\n",
			"gate tide"},
		{"dpkg's own records", "deb", "Package: gate\nStatus: install ok installed\nVersion: 1-1\n" +
			"Architecture: amd64\n\nPackage: old\nStatus: deinstall ok config-files\nVersion: 1-1\n" +
			"Architecture: amd64\n", "gate"},
		{"rpm", "rpm", "gate 1:1.0-1 x86_64\ngpg-pubkey 1-1 (none)\ntide 2-1 noarch\n", "gate tide"},
		{"rpm with epochs", "rpm", "gate-1:1.0-1.x86_64\n", "gate"},
		{"pacman", "alpm", "# of today\ngate 1:1.0-1\n", "gate"},
		{"whether it was taken away", "deb", "gate\t1.0-1\n", "!gate is installed"},
		{"only names", "deb", "gate install\n", "!which version of gate"},
		{"an epoch", "rpm", "tide 2-1 noarch\ngate-1.0-1.x86_64\n", "!gate-1.0-1.x86_64 has an epoch"},
		{"nothing", "alpm", "\n", "!no packages"},
		{"something else", "alpm", "error: failed to initialize alpm library\n", "!line 1"},
		{"a family that has no such lists", "ostree", "gate 1\n", "!\"ostree\""},
	} {
		got, err := ReadReport(all, c.family, []byte(c.list))
		if part, refused := strings.CutPrefix(c.says, "!"); refused {
			f, ok := finding.From(err)
			if !ok || f.Code != "define.bad-value" || !strings.Contains(f.Text, part) {
				t.Errorf("%s: %v", c.name, err)
			}
			if i, ok := all[c.family].(archive.Inventoried); ok &&
				!strings.Contains(f.WayOut, i.PrintsInventory()) {
				t.Errorf("%s: what to do: %s", c.name, f.WayOut)
			}
			continue
		}
		var names []string
		for _, p := range got {
			names = append(names, p.Name)
		}
		if text := strings.Join(names, " "); err != nil || text != c.says {
			t.Errorf("%s: %s %v", c.name, text, err)
		}
	}
}

// Older versions that a client keeps beside a newer one wait for nothing; what the machine itself
// holds is held; and what is not finished is told.
func TestWhatAClientKeepsHoldsAndHasNotFinished(t *testing.T) {
	item := func(name, version, arch string) edition.Item {
		return edition.Item{Source: "tarn", Name: name, Version: version, Arch: arch, Size: 1}
	}
	of := func(name, version, arch string, change func(*archive.Installed)) archive.Installed {
		p := archive.Installed{Identity: archive.Identity{Name: name, Version: version, Arch: arch}}
		if change != nil {
			change(&p)
		}
		return p
	}
	held := func(p *archive.Installed) { p.Held = true }
	for _, c := range []struct {
		name, family, arch string
		offers             []edition.Item
		have               []archive.Installed
		want               string
	}{
		{"three kernels under one name", "rpm", "x86_64", []edition.Item{item("kernel", "4-1", "x86_64")},
			[]archive.Installed{of("kernel", "1-1", "x86_64", nil), of("kernel", "3-1", "x86_64", nil),
				of("kernel", "2-1", "x86_64", nil)}, "2 current: kernel 3-1 behind 4-1"},
		{"the newest is there already", "rpm", "x86_64", []edition.Item{item("kernel", "3-1", "x86_64")},
			[]archive.Installed{of("kernel", "3-1", "x86_64", nil), of("kernel", "1-1", "x86_64", nil)},
			"2 current: "},
		{"of another architecture beside it", "rpm", "x86_64", []edition.Item{item("libtide", "3-1",
			"x86_64"),
			item("libtide", "3-1", "i686")}, []archive.Installed{of("libtide", "1-1", "i686", nil),
			of("libtide", "3-1", "x86_64", nil)}, "1 current: libtide 1-1 behind 3-1"},
		{"kernels under names of their own", "deb", "amd64", []edition.Item{item("linux-image-6.1.0-18-amd64",
			"6.1.76-1", "amd64"), item("linux-image-6.1.0-17-amd64", "6.1.69-2", "amd64")},
			[]archive.Installed{
				of("linux-image-6.1.0-9-amd64", "6.1.27-1", "amd64", nil), of("linux-image-6.1.0-17-amd64",
					"6.1.69-1",
					"amd64", nil), of("linux-image-6.1.0-18-amd64", "6.1.76-1", "amd64", nil),
				of("linux-image-6.1.0-9-rt-amd64", "6.1.27-1", "amd64", nil)},
			"2 current: linux-image-6.1.0-9-rt-amd64 6.1.27-1 stranded ; linux-image-6.1.0-17-amd64 " +
				"6.1.69-1 behind 6.1.69-2"},
		{"what the machine holds", "deb", "amd64", []edition.Item{item("gate", "2-1", "amd64"), item("tide",
			"1-1",
			"amd64")}, []archive.Installed{of("gate", "1-1", "amd64", held), of("tide", "1-1", "amd64",
			held)},
			"1 current: gate 1-1 held 2-1 by the machine"},
		{"what is not finished", "deb", "amd64", []edition.Item{item("gate", "2-1", "amd64"), item("tide",
			"1-1",
			"amd64")}, []archive.Installed{of("gate", "1-1", "amd64",
			func(p *archive.Installed) { p.Unfinished = "unpacked" }),
			of("tide", "1-1", "amd64", func(p *archive.Installed) { p.Unfinished = "half-configured" })},
			"1 current: tide 1-1 current 1-1 half-configured; gate 1-1 behind 2-1 unpacked"},
	} {
		src := edition.Source{Source: archive.Source{Name: "tarn", Family: c.family, Release: "heron",
			Architectures: []string{c.arch, "i686"}}, Priority: 20}
		e := sealedWith(t, []edition.Source{src}, lines(t, c.offers...), nil)
		offered, err := Read(e, func(string) bool { return true })
		must.Do(t, err)
		v, err := Of("gatehouse", definition.Group{Family: c.family, Architectures: []string{c.arch}},
			families, e.Edition)
		must.Do(t, err)
		got, err := offered.To(v, families[c.family]).Compare(t.Context(), c.have)
		must.Do(t, err)
		var all []string
		for _, x := range got.Items {
			text := fmt.Sprintf("%s %s %s %s", x.Name, x.Version, x.State, x.Offered)
			if x.Hold {
				text += " by the machine"
			}
			if x.Unfinished != "" {
				text += " " + x.Unfinished
			}
			all = append(all, text)
		}
		if text := fmt.Sprintf("%d current: %s", got.Current, strings.Join(all, "; ")); text != c.want {
			t.Errorf("%s: got %q, want %q", c.name, text, c.want)
		}
	}
}

// That no update is about security is said where a source tells of it, or a source of fixes does.
func TestWhetherUpdatesAreAboutSecurityMayBeUnknown(t *testing.T) {
	source := func(name, release, origin string) edition.Source {
		return edition.Source{Source: archive.Source{Name: name, Family: "deb", Release: release,
			Architectures: []string{"amd64"}}, Origin: origin, Priority: 20}
	}
	item := func(source, name string) edition.Item {
		return edition.Item{Source: source, Name: name, Version: "2", Arch: "amd64"}
	}
	tarn, fixes := source("tarn", "heron", "Tarn"), source("tarn-fixes", "heron-security", "Tarn")
	kelp := source("kelp", "stable", "Kelp")
	described := source("kelp-patches", "stable", "Kelp")
	described.SecurityFixes = true
	for name, c := range map[string]struct {
		sources          []edition.Source
		items            []edition.Item
		advises          map[string]bool
		security, unsure int
	}{
		"nothing tells": {[]edition.Source{tarn}, []edition.Item{item("tarn", "tide")}, nil, 0, 1},
		"advisories tell": {[]edition.Source{tarn}, []edition.Item{item("tarn", "tide")},
			map[string]bool{"tarn": true}, 0, 0},
		"its publisher has a source of fixes": {[]edition.Source{tarn, fixes},
			[]edition.Item{item("tarn", "tide")}, nil, 0, 0},
		"it comes from the source of fixes": {[]edition.Source{tarn, fixes},
			[]edition.Item{item("tarn-fixes", "tide")}, nil, 1, 0},
		"it is described as a source of fixes": {[]edition.Source{kelp, described},
			[]edition.Item{item("kelp-patches", "tide")}, nil, 1, 0},
		"its publisher has a source that is described as one": {[]edition.Source{kelp, described},
			[]edition.Item{item("kelp", "tide")}, nil, 0, 0},
		"another publisher's fixes tell nothing of it": {[]edition.Source{kelp, fixes},
			[]edition.Item{item("kelp", "tide"), item("tarn-fixes", "gate")}, nil, 1, 1},
	} {
		e := &edition.Edition{Mirror: "barrage", Number: 1, Sources: c.sources}
		o := Offer(e, c.items)
		o.advises = c.advises
		v := View{Architectures: []string{"amd64"}}
		for _, s := range c.sources {
			v.Sources = append(v.Sources, s.Name)
			v.Client.Repositories = append(v.Client.Repositories, archive.Repository{
				ClientSource: archive.ClientSource{Source: s.Source}, Rank: 1})
		}
		got, err := o.To(v, families["deb"]).Compare(t.Context(), []archive.Installed{
			{Identity: archive.Identity{Name: "tide", Version: "1", Arch: "amd64"}},
			{Identity: archive.Identity{Name: "gate", Version: "1", Arch: "amd64"}}})
		if err != nil || got.Security != c.security || got.Unsure != c.unsure {
			t.Errorf("%s: got %d security and %d unknown, want %d and %d; %v %+v", name, got.Security,
				got.Unsure,
				c.security, c.unsure, err, got.Items)
		}
	}
}

// In a group of machines of two architectures each package is compared with what there is for its own, and
// one that is for all of them with what suits any.
func TestMachinesOfTwoArchitecturesInOneGroup(t *testing.T) {
	item := func(name, version, arch string) edition.Item {
		return edition.Item{Source: "tarn", Name: name, Version: version, Arch: arch}
	}
	tarn := archive.Source{Name: "tarn", Family: "deb", Release: "heron",
		Architectures: []string{"amd64", "arm64"}}
	o := Offer(&edition.Edition{Mirror: "barrage", Number: 1, Sources: []edition.Source{{Source: tarn,
		Priority: 20}}}, []edition.Item{item("tide", "2", "amd64"), item("tide", "1", "arm64"),
		item("gate", "3", "amd64"), item("docs", "2", "all"), item("only", "1", "arm64")})
	v := View{Architectures: []string{"amd64", "arm64"}, Sources: []string{"tarn"},
		Client: archive.Configuration{Repositories: []archive.Repository{{
			ClientSource: archive.ClientSource{Source: tarn}, Rank: 1}}}}
	for _, c := range []struct {
		name, version, arch string
		state               solve.InstalledState
	}{
		{"tide", "1", "amd64", solve.Behind}, {"tide", "1", "arm64", solve.Current},
		{"tide", "2", "arm64", solve.Ahead}, {"gate", "3", "amd64", solve.Current},
		{"gate", "3", "arm64", solve.Stranded}, {"docs", "1", "all", solve.Behind},
		{"docs", "2", "all", solve.Current}, {"only", "1", "arm64", solve.Current},
		{"only", "1", "amd64", solve.Stranded}, {"none", "1", "all", solve.Stranded},
	} {
		got, err := o.To(v, families["deb"]).Compare(t.Context(), []archive.Installed{{
			Identity: archive.Identity{Name: c.name, Version: c.version, Arch: c.arch}}})
		state := solve.Current
		if len(got.Items) == 1 {
			state = got.Items[0].State
		}
		if err != nil || state != c.state {
			t.Errorf("%s %s for %s: got %s, want %s (%v)", c.name, c.version, c.arch, state, c.state, err)
		}
	}
}
