package solve

import (
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
)

// What comes in the place of what is installed. That clients do so, core/families asks the clients.
func TestWhatComesInThePlaceOfWhatIsInstalled(t *testing.T) {
	families := map[string]archive.Family{"deb": deb.Family{}, "rpm": rpm.Family{}, "alpm": alpm.Family{}}
	for _, c := range []struct {
		name, family string
		offers       string // PRIORITY VERSION ARCH, …
		have         string // VERSION ARCH
		pin          string
		state        InstalledState
		comes        string // VERSION ARCH
	}{
		{"the same", "deb", "20 1-1 amd64", "1-1 amd64", "", Current, "1-1 amd64"},
		{"newer", "deb", "20 1-2 amd64", "1-1 amd64", "", Behind, "1-2 amd64"},
		{"nothing of the name", "deb", "", "1-1 amd64", "", Stranded, ""},
		{"of another architecture", "deb", "20 2-1 i386", "1-1 amd64", "", Stranded, ""},
		{"an architecture that is not said", "deb", "20 2-1 i386, 20 1-2 amd64", "1-1", "", Behind,
			"1-2 amd64"},
		{"for all machines now", "deb", "20 2-1 all", "1-1 amd64", "", Behind, "2-1 all"},
		{"for all machines before", "deb", "20 2-1 amd64", "1-1 all", "", Behind, "2-1 amd64"},
		{"the better priority", "deb", "20 1-2 amd64, 40 2-1 amd64", "1-1 amd64", "", Behind, "1-2 amd64"},
		{"the better priority has it", "deb", "20 1-1 amd64, 40 2-1 amd64", "1-1 amd64", "", Current,
			"1-1 amd64"},
		{"the better priority has an older one, which is passed over", "deb",
			"20 1-1 amd64, 40 3-1 amd64, 50 4-1 amd64", "2-1 amd64", "", Behind, "3-1 amd64"},
		{"and so with rpm", "rpm", "20 1-1 x86_64, 40 3-1 x86_64", "2-1 x86_64", "", Behind, "3-1 x86_64"},
		{"but not with alpm", "alpm", "20 1-1 x86_64, 40 3-1 x86_64", "2-1 x86_64", "", Ahead,
			"1-1 x86_64"},
		{"all older", "deb", "20 1-1 amd64, 40 1-2 amd64", "2-1 amd64", "", Ahead, "1-1 amd64"},
		{"i686 beside what is for all", "rpm", "20 2-1 x86_64", "1-1 i686", "", Stranded, ""},
		{"noarch does not become i686", "rpm", "20 3-1 i686, 40 2-1 x86_64", "1-1 noarch", "", Behind,
			"2-1 x86_64"},

		{"a pin to a newer one", "deb", "20 3-1 amd64, 40 2-1 amd64", "1-1 amd64", "2-1", Behind,
			"2-1 amd64"},
		{"a pin to what is installed, which nobody has now", "deb", "20 3-1 amd64", "2-1 amd64", "2-1", Held,
			"3-1 amd64"},
		{"a pin to what is installed", "deb", "20 3-1 amd64, 20 2-1 amd64", "2-1 amd64", "2-1", Held,
			"3-1 amd64"},
		{"a pin to what is installed, and nothing newer", "deb", "20 2-1 amd64", "2-1 amd64", "2-1", Current,
			"2-1 amd64"},
		{"a pin to an older one takes nothing back", "deb", "20 1-1 amd64, 20 3-1 amd64", "2-1 amd64", "1-1",
			Behind, "3-1 amd64"},
		{"a pin to what nobody has", "deb", "20 3-1 amd64", "1-1 amd64", "2-1", Behind, "3-1 amd64"},
		{"of rpm it hides all others", "rpm", "20 3-1 x86_64", "1-1 x86_64", "2-1", Held, "3-1 x86_64"},
		{"also older ones", "rpm", "20 1-1 x86_64", "2-1 x86_64", "3-1", Current, "1-1 x86_64"},
		{"to a newer one", "rpm", "20 3-1 x86_64, 20 2-1 x86_64", "1-1 x86_64", "2-1", Behind,
			"2-1 x86_64"},
		{"to an older one", "rpm", "20 1-1 x86_64, 20 3-1 x86_64", "2-1 x86_64", "1-1", Held, "3-1 x86_64"},
		{"of alpm it holds what is installed", "alpm", "20 3-1 x86_64", "1-1 x86_64", "2-1", Held,
			"3-1 x86_64"},
		{"and nothing where nothing is newer", "alpm", "20 1-1 x86_64", "1-1 x86_64", "2-1", Current,
			"1-1 x86_64"},
	} {
		t.Run(c.family+" "+c.name, func(t *testing.T) {
			own := "x86_64"
			if c.family == "deb" {
				own = "amd64"
			}
			var sources []Source
			var packages []*archive.Package
			for text := range strings.SplitSeq(c.offers, ", ") {
				f := strings.Fields(text)
				if len(f) == 0 {
					continue
				}
				priority := map[string]int{"20": 20, "40": 40, "50": 50}[f[0]]
				sources = append(sources, Source{Name: "s" + f[0], Priority: priority,
					Architectures: []string{own}})
				packages = append(packages, &archive.Package{Name: "gate", Version: f[1], Arch: f[2]})
			}
			other := &archive.Package{Name: "pump", Version: "9-1", Arch: own}
			sources = append(sources, Source{Name: "more", Priority: 1, Architectures: []string{own}})
			u := NewUniverse(families[c.family], sources)
			for i, p := range append(packages, other) {
				u.Add(i, p)
			}
			f := strings.Fields(c.have)
			have := archive.Identity{Name: "gate", Version: f[0]}
			if len(f) > 1 {
				have.Arch = f[1]
			}
			v := View{Name: "gatehouse", Architectures: []string{own}, Pins: []archive.Relation{
				{Name: "pump", Op: archive.Equal, Version: "1-1"}}}
			if c.pin != "" {
				v.Pins = append(v.Pins, archive.Relation{Name: "gate", Op: archive.Equal, Version: c.pin})
			}
			got := u.Successor(t.Context(), v, own, have)
			comes := ""
			if p := got.Offer.Package; p != nil {
				comes = p.Version + " " + p.Arch
				if want := strings.Fields(c.offers)[0]; u.Source(got.Offer.Source).Name == "more" {
					t.Errorf("it is said to come from another source than %s", want)
				}
			}
			if got.State != c.state || comes != c.comes {
				t.Errorf("%s, %q comes", got.State, comes)
			}
			if len(v.Pins) != min(2, 1+len(c.pin)) || v.Pins[0].Name != "pump" {
				t.Error("the view was changed")
			}
		})
	}
}
