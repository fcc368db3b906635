package machine

import (
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/internal/must"
)

var families = archive.NewRegistry(deb.Family{}, rpm.Family{})

func source(name, family, standing, release, codename string, archs ...string) Source {
	return Source{
		ClientSource: archive.ClientSource{Codename: codename,
			Source: archive.Source{Name: name, Family: family, Release: release, Architectures: archs}},
		Standing: standing,
	}
}

func TestAGroupSeesWhatIsForItsMachines(t *testing.T) {
	all := []Source{
		source("tarn", "deb", "official", "steady", "heron", "amd64", "arm64"),
		source("tarn-fixes", "deb", "official", "heron-security", "heron-security", "amd64", "arm64"),
		source("tarn-later", "deb", "official", "heron-backports", "", "amd64"),
		source("tarn-next", "deb", "official", "ibis", "ibis", "amd64", "arm64"),
		source("kelp", "deb", "vendor", "7", "drives", "amd64"),
		source("brine", "rpm", "official", "9", "", "x86_64"),
	}
	for _, c := range []struct {
		name  string
		group definition.Group
		sees  string
		archs string
		left  string // of which sources, and what the reason has in it
	}{
		{"a codename, with its extensions, and whatever vendors call a release",
			definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"}},
			"tarn tarn-fixes tarn-later kelp", "amd64", "tarn-next: ibis"},
		{"the suite by its moving name", definition.Group{Family: "deb", Release: "steady",
			Architectures: []string{"amd64"}},
			"tarn kelp", "amd64", "tarn-fixes: heron-security tarn-later: heron-backports tarn-next: ibis"},
		{"no release", definition.Group{Family: "deb", Architectures: []string{"arm64"}},
			"tarn tarn-fixes tarn-next", "arm64", "tarn-later: amd64 kelp: amd64"},
		{"two architectures, of which some sources have one",
			definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64", "arm64"}},
			"tarn tarn-fixes tarn-later kelp", "amd64 arm64",
			"tarn-later: arm64 tarn-next: ibis kelp: arm64"},
		{"no architectures", definition.Group{Family: "deb", Release: "ibis"}, "tarn-next kelp",
			"amd64 arm64", "tarn: heron tarn-fixes: heron-security tarn-later: heron-backports"},
		{"an architecture that nothing is for", definition.Group{Family: "deb", Release: "ibis",
			Architectures: []string{"riscv64"}}, "", "",
			"tarn: heron tarn-fixes: heron-security tarn-later: heron-backports tarn-next: riscv64 " +
				"kelp: riscv64"},
		{"a family whose releases have one name", definition.Group{Family: "rpm", Release: "9",
			Architectures: []string{"x86_64"}}, "brine", "x86_64", ""},
		{"another release of it", definition.Group{Family: "rpm", Release: "10", Architectures: []string{
			"x86_64"}}, "", "", "brine: 10"},
	} {
		t.Run(c.name, func(t *testing.T) {
			v, err := See("gatehouse", c.group, families, all)
			must.Do(t, err)
			if got := strings.Join(v.Sources, " "); got != c.sees {
				t.Errorf("it sees %s", got)
			}
			if got := strings.Join(v.Architectures, " "); got != c.archs {
				t.Errorf("on %s", got)
			}
			want := strings.Fields(c.left)
			var told []string
			for i, l := range v.Left {
				told = append(told, l.Source+":")
				if 2*i+1 < len(want) && !strings.Contains(l.Why, want[2*i+1]) {
					t.Errorf("%s is left out for %q", l.Source, l.Why)
				}
				if l.Whole == slices.Contains(v.Sources, l.Source) {
					t.Errorf("%s is seen and said to be left out whole, or the other way round", l.Source)
				}
			}
			for i := 0; i < len(want); i += 2 {
				if i/2 >= len(told) || told[i/2] != want[i] {
					t.Fatalf("left out: %v, and %s was expected", told, c.left)
				}
			}
			if len(told) != len(want)/2 || len(v.Findings()) != len(told) {
				t.Errorf("left out: %v; findings: %v", told, v.Findings())
			}
		})
	}
}

func TestAPinThatCannotBeReadIsToldNotPassedOver(t *testing.T) {
	if _, err := See("gatehouse", definition.Group{Family: "deb", Pins: []string{"tide-tables ="}},
		families, nil); err == nil {
		t.Error("it gives a view")
	}
}

// A proof for a group counts while what was asked of it is what is asked now: its roles and its own
// baseline too.
func TestAProofCountsForWhatWasAsked(t *testing.T) {
	families := archive.NewRegistry(deb.Family{})
	sources := []Source{source("tarn", "deb", definition.Official, "heron", "", "amd64")}
	see := func(change func(g *definition.Group)) View {
		g := definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"}}
		change(&g)
		v, err := See("gatehouse", g, families, sources)
		must.Do(t, err)
		return v
	}
	made := func(v View) *edition.Edition {
		return &edition.Edition{Views: []edition.View{{Group: v.Group, Family: v.Family,
			Architectures: v.Architectures, Sources: v.Sources, Asked: v.Asked}}}
	}
	views := []View{
		see(func(*definition.Group) {}),
		see(func(g *definition.Group) { g.Roles = map[string][]string{"desk": {"sluicectl"}} }),
		see(func(g *definition.Group) { g.Roles = map[string][]string{"desk": {"tide-tables"}} }),
		see(func(g *definition.Group) { g.Baseline = definition.Baseline{List: "desk-pc"} }),
		see(func(g *definition.Group) { g.Baseline = definition.Baseline{Sources: []string{"kelp"}} }),
	}
	for i, v := range views {
		for k, w := range views {
			if v.Proved(made(w)) != (i == k) {
				t.Errorf("proved for %q, and asked %q: %v", w.Asked, v.Asked, i == k)
			}
		}
	}
}
