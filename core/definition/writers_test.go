package definition

import (
	"fmt"
	"strings"
	"testing"

	"stockade/internal/must"
)

// What two people changed from the same beginning, field by field.
func TestTwoWritersOfOneObject(t *testing.T) {
	const began = `stockade: 1
sources:
  tarn:
    family: deb
    standing: official
    upstreams: [{url: "https://north.tarn.example/tarn"}, {url: "https://south.tarn.example/tarn"}]
    release: heron
    components: [core, field]
    architectures: [amd64]
    signed_by: [7C1B22E05A90D4417F039E6AB2C871D0453FF1A9]
    priority: 20
    values: {edge: north, site: reach}
  kelp: {family: deb, upstreams: [{url: "https://kelp.example/"}], release: ./, architectures: [amd64], signed_by: []}
lanes: {steady: {mirror: barrage}}
`
	set := func(pairs ...string) *Set {
		t.Helper()
		for i := 0; i < len(pairs); i += 2 {
			if !strings.Contains(began, pairs[i]) {
				t.Fatalf("nothing to change: %q", pairs[i])
			}
		}
		s, found := Read(Text{Name: "x.yaml", Text: strings.NewReplacer(pairs...).Replace(began)})
		if found.HasErrors() {
			t.Fatal(found)
		}
		return s
	}
	of := func(s *Set, name string) *Set {
		out := NewSet()
		out.Take(s, "source", name)
		return out
	}
	base := set()
	for _, c := range []struct {
		name         string
		theirs, mine *Set
		merged       []string // of the text
		without      string
		both         string // path: theirs, mine
	}{
		{"different fields", set("priority: 20", "priority: 30"), set("release: heron", "release: osprey"),
			[]string{"priority: 30", "release: osprey"}, "heron", ""},
		{"one field, alike", set("priority: 20", "priority: 30"), set("priority: 20", "priority: 30",
			"release: heron", "release: osprey"), []string{"priority: 30", "release: osprey"}, "", ""},
		{"one field, not alike", set("priority: 20", "priority: 30"), set("priority: 20", "priority: 40"),
			[]string{"priority: 40"}, "", "priority: 30, 40"},
		{"a field that they took away", set("    values: {edge: north, site: reach}\n", ""),
			set("priority: 20", "priority: 40"), []string{"priority: 40"}, "values", ""},
		{"a field within a field", set("edge: north", "edge: south"), set("site: reach", "site: barrage"),
			[]string{"edge: south", "site: barrage"}, "", ""},
		{"a list that both changed", set("[core, field]", "[core]"), set("[core, field]",
			"[core, field, tools]"),
			[]string{"components: [core, field, tools]"}, "", `components: ["core"], ["core","field","tools"]`},
		{"a list that they changed", set(`, {url: "https://south.tarn.example/tarn"}`, ""),
			set("priority: 20", "priority: 40"), []string{"priority: 40", "north.tarn"}, "south", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			got, err := Crossings(base, c.theirs, of(c.mine, "tarn"))
			if err != nil || len(got) != 1 {
				t.Fatalf("%d crossings: %v", len(got), err)
			}
			for _, want := range c.merged {
				if !strings.Contains(got[0].Merged, want) {
					t.Errorf("merged, it has no %q:\n%s", want, got[0].Merged)
				}
			}
			if c.without != "" && strings.Contains(got[0].Merged, c.without) {
				t.Errorf("merged, it still has %q:\n%s", c.without, got[0].Merged)
			}
			told := []string{}
			for _, f := range got[0].Both {
				told = append(told, fmt.Sprintf("%s: %s, %s", f.Path, f.Old, f.New))
			}
			if strings.Join(told, "; ") != c.both {
				t.Errorf("both changed %q", told)
			}
			for _, text := range []string{got[0].Base, got[0].Theirs, got[0].Mine, got[0].Merged} {
				if _, found := Read(Text{Text: text}); found.HasErrors() || strings.Contains(text, "kelp") {
					t.Errorf("no document of one object: %v\n%s", found, text)
				}
			}
		})
	}
	nothing := map[string][3]*Set{
		"only mine changed": {base, base, of(set("priority: 20", "priority: 40"), "tarn")},
		"only theirs, of another": {base, set("[amd64], signed_by: []", "[arm64], signed_by: []"),
			of(base, "tarn")},
		"both changed it alike": {base, set("priority: 20", "priority: 30"), of(set("priority: 20",
			"priority: 30"), "tarn")},
		"it is new, and both made it": {NewSet(), base, of(base, "tarn")},
	}
	for name, c := range nothing {
		if got, err := Crossings(c[0], c[1], c[2]); err != nil || len(got) > 0 {
			t.Errorf("%s: %v %v", name, got, err)
		}
	}
	gone := set()
	gone.Remove("source", "tarn")
	got, err := Crossings(base, gone, of(set("priority: 20", "priority: 40"), "tarn"))
	if err != nil || len(got) != 1 || got[0].Theirs != "" || !strings.Contains(got[0].Merged,
		"priority: 40") {
		t.Errorf("taken away by them: %+v %v", got, err)
	}
}

// One object of a document is said anew or taken out, and everything else stays as it was
// written.
func TestOneObjectOfADocumentIsSaidAnew(t *testing.T) {
	const written = `# the gate's own
stockade: 1
lanes: {steady: {mirror: barrage}} # for machines
sources:
  # from the desk
  tarn:
    priority: 20 # asked first
    family: deb
  kelp: {family: deb} # a vendor
`
	documents := []Text{{Name: "a.yaml", Text: written}, {Name: "b.yaml", Text: "stockade: 1\n# nothing\n"}}
	const anew = "stockade: 1\nsources:\n  tarn:\n    family: rpm\n"
	got, err := Settled(documents, "source", "tarn", anew)
	must.Do(t, err)
	for _, want := range []string{"# the gate's own\n", "# from the desk\n", "tarn:\n    family: rpm\n",
		"kelp: {family: deb} # a vendor\n", "lanes: {steady: {mirror: barrage}} # for machines\n"} {
		if !strings.Contains(got[0].Text, want) {
			t.Errorf("it has no %q any more:\n%s", want, got[0].Text)
		}
	}
	if strings.Contains(got[0].Text, "priority") || got[1] != documents[1] || documents[0].Text != written {
		t.Errorf("%+v", got)
	}
	got, err = Settled(documents, "lane", "steady", "")
	if err != nil || strings.Contains(got[0].Text, "lanes") || !strings.Contains(got[0].Text, "kelp") {
		t.Errorf("taken out: %v\n%s", err, got[0].Text)
	}
	if got, err = Settled(documents, "group", "gate", ""); err != nil || got[0] != documents[0] {
		t.Errorf("of what it does not have: %v %+v", err, got)
	}
	if _, err = Settled(documents, "source", "kelp", anew); err == nil {
		t.Error("said anew with a text about another")
	}
}
