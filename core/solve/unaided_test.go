package solve

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/internal/must"
)

// plainNeeds are relations as they are.
type plainNeeds archive.Relations

func (n plainNeeds) Relations() (archive.Relations, error) { return archive.Relations(n), nil }

// What needs a version that is not what comes first of its name is not installed by apt-get itself,
// nor is what needs it in turn; where the other version was not taken, or a pin or an alternative
// leads there, it is. Clients of the other families look for a version that does.
func TestWhatIsNotInstalledByItself(t *testing.T) {
	rail := archive.Clause{{Name: "rail", Op: archive.Equal, Version: "1-1"}}
	for _, c := range []struct {
		name   string
		family archive.Family
		needs  map[string]archive.Clause // by name of the package
		wants  string                    // NAME or NAME=VERSION, …
		pins   string
		says   string // unaided: NEEDER stops …; proved of wanted
		two    bool   // rail 2 is of another source, with a worse priority
		// What machines have from elsewhere, and what is installed there: NAME=VERSION, …
		outside, installed string
		together           int // so many of what is wanted shall go together
	}{
		{name: "only what is needed was taken", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk", says: "1 of 1"},
		{name: "another version was taken too", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk rail", says: "1 of 2: desk stops desk"},
		{name: "what needs it in turn", needs: map[string]archive.Clause{"desk": rail,
			"room": {{Name: "desk"}}, "house": {{Name: "room"}}}, wants: "house rail lamp",
			says: "2 of 3: desk stops house"},
		{name: "another way", needs: map[string]archive.Clause{"desk": rail,
			"room": {{Name: "desk"}, {Name: "lamp"}}}, wants: "room rail lamp", says: "3 of 3"},
		{name: "an alternative that does", needs: map[string]archive.Clause{
			"desk": {rail[0], {Name: "lamp"}}}, wants: "desk rail lamp", says: "3 of 3"},
		{name: "a pin that leads there", needs: map[string]archive.Clause{"desk": rail}, wants: "desk rail",
			pins: "rail = 1-1", says: "2 of 2"},
		{name: "the better priority has it", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk rail", says: "2 of 2", two: true},
		{name: "it needs itself", needs: map[string]archive.Clause{"desk": {{Name: "desk"}}},
			wants: "desk rail=1-1 rail", says: "3 of 3"},
		{name: "two that need what does", needs: map[string]archive.Clause{"desk": rail,
			"room": {{Name: "desk"}}, "house": {{Name: "desk"}}}, wants: "house room rail",
			says: "1 of 3: desk stops room house"},
		{name: "another way that does not lead there either", needs: map[string]archive.Clause{"desk": rail,
			"room": {{Name: "desk"}}, "house": {rail[0], {Name: "room"}}}, wants: "house room rail",
			says: "1 of 3: desk stops room house"},
		{name: "another version from elsewhere", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk", outside: "rail=2-1", two: true, says: "0 of 1: desk stops desk"},
		{name: "from elsewhere, where nothing is asked of it", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk", outside: "lamp=2-1", says: "1 of 1"},
		{name: "the right one comes from elsewhere alone", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk lamp", outside: "rail=1-1 lamp=2-1", says: "2 of 2"},
		{name: "the right one comes first from elsewhere", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk rail=2-1 lamp", outside: "rail=1-1 lamp=2-1", two: true, says: "2 of 2"},
		{name: "the right one is installed", needs: map[string]archive.Clause{"desk": rail},
			wants: "desk rail=2-1 lamp", installed: "rail=1-1", outside: "lamp=2-1", says: "3 of 3"},
		{name: "together", needs: map[string]archive.Clause{"desk": rail}, wants: "desk lamp rail",
			together: 2, says: "2 of 3: desk stops desk; not together"},
		{name: "what needs it in turn, looked at first", needs: map[string]archive.Clause{"house": rail,
			"room": {{Name: "house"}}, "desk": {{Name: "room"}}}, wants: "desk rail",
			says: "1 of 2: house stops desk"},
		{name: "together by itself", needs: map[string]archive.Clause{"desk": rail}, wants: "desk lamp",
			together: 2, says: "2 of 2; together"},
		{name: "a family whose clients look for it", family: rpm.Family{},
			needs: map[string]archive.Clause{"desk": rail}, wants: "desk rail", says: "2 of 2"},
	} {
		t.Run(c.name, func(t *testing.T) {
			f := c.family
			arch := "x86_64"
			if f == nil {
				f, arch = deb.Family{}, "amd64"
			}
			u := NewUniverse(f, []Source{{Name: "tarn", Priority: 20, Architectures: []string{arch}},
				{Name: "kelp", Priority: 40, Architectures: []string{arch}},
				{Name: "elsewhere", Priority: 10, Architectures: []string{arch}, Outside: true},
				{Name: "installed", Priority: 99, Architectures: []string{arch}, Outside: true,
					Installed: true}})
			n := 0
			add := func(source int, name, version string) {
				n++
				p := &archive.Package{Name: name, Version: version, Arch: arch, Ordinal: n}
				if need, ok := c.needs[name]; ok {
					p.Needs = plainNeeds{Requires: []archive.Clause{need}}
				}
				u.Add(source, p)
			}
			for _, name := range []string{"desk", "room", "house", "lamp"} {
				add(0, name, "1-1")
			}
			add(0, "rail", "1-1")
			if c.two {
				add(1, "rail", "2-1")
			} else {
				add(0, "rail", "2-1")
			}
			for text := range strings.FieldsSeq(c.outside) {
				name, version, _ := strings.Cut(text, "=")
				add(2, name, version)
			}
			for text := range strings.FieldsSeq(c.installed) {
				name, version, _ := strings.Cut(text, "=")
				add(3, name, version)
			}
			var wants []Want
			for text := range strings.FieldsSeq(c.wants) {
				name, version, exact := strings.Cut(text, "=")
				w := Want{Source: AllSources, Relation: archive.Relation{Name: name}, Versions: 1,
					With: "required"}
				if exact {
					w.Relation.Op, w.Relation.Version = archive.Equal, version
				}
				wants = append(wants, w)
			}
			v := View{Name: "the group hall", Architectures: []string{arch}, Sources: []int{0, 1, 2, 3}}
			if c.together > 0 {
				v.Together = []Together{{Name: "hall"}}
				for i := range c.together {
					v.Together[0].Wants = append(v.Together[0].Wants, i)
				}
			}
			if c.pins != "" {
				r, err := archive.ParseWant(c.pins)
				must.Do(t, err)
				v.Pins = []archive.Relation{r}
			}
			s, err := u.Select(t.Context(), wants, []View{v}, Limits{})
			must.Do(t, err)
			got := fmt.Sprintf("%d of %d", s.Proofs[0].Proved, s.Proofs[0].Wanted)
			for _, x := range s.Unaided {
				var stops []string
				for _, p := range x.Stops {
					stops = append(stops, p.Name)
				}
				got += ": " + x.Needer.Name + " stops " + strings.Join(stops, " ")
				if x.Meets.Version != "1-1" || x.First.Version != "2-1" || x.View != v.Name ||
					x.Arch != arch {
					t.Errorf("%+v", x)
				}
				says := x.Needer.Name + " 1-1 (" + arch +
					") needs rail = 1-1. rail 1-1 satisfies it, but rail 2-1 is selected " +
					"by the group hall on " + arch
				if others := slices.DeleteFunc(stops,
					func(n string) bool { return n == x.Needer.Name }); len(others) > 0 {
					says += ". This affects " + strings.Join(others, ", ")
				}
				if x.String() != says {
					t.Error(x)
				}
			}
			for _, set := range s.Proofs[0].Sets {
				got += map[bool]string{true: "; together", false: "; not together"}[set.Proved]
			}
			if got != c.says {
				t.Errorf("%s, and not %s", got, c.says)
			}
		})
	}
}

func TestWhatIsStoppedIsNamedInPart(t *testing.T) {
	desk := &archive.Package{Name: "desk"}
	u := Unaided{Needer: desk, Meets: desk, First: desk, Stops: []*archive.Package{desk}}
	for _, c := range []struct{ name, ends string }{
		{"a", ". This affects a"}, {"a", ". This affects a"}, {"b", ". This affects a, b"},
		{"c", ". This affects a, b, c"}, {"d", ". This affects a, b, c and others"},
	} {
		u.Stops = append(u.Stops, &archive.Package{Name: c.name})
		if !strings.HasSuffix(u.String(), c.ends) {
			t.Errorf("%s", u)
		}
	}
}
