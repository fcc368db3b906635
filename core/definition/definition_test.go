package definition

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/must"
)

const good = `stockade: 1
sources:
  tarn:
    family: deb
    standing: official
    upstreams: [{url: "https://north.tarn.example/tarn", region: north}]
    release: heron
    components: [core]
    architectures: [amd64]
    signed_by: [tarn-archive]
    max_age: 10d
keys:
  tarn-archive: {fingerprint: 7C1B22E05A90D4417F03 9E6AB2C871D0453FF1A9, vouched_for: [tarn], evidence: "call 4471"}
mirrors:
  barrage:
    copy: tailored
    from: [{source: tarn, want: {packages: ["tide-tables >= 2"]}}]
lanes: {steady: {mirror: barrage}}
groups: {gatehouse: {family: deb, release: heron, architectures: [amd64], lane: steady, pins: ["tide-tables = 2.4.1-1"]}}
`

func check(text string) finding.List {
	set, found := Read(Text{Name: "site.yaml", Text: text})
	return Merge(found,
		Check(set, Surroundings{Families: archive.NewRegistry(deb.Family{}), Now: time.Now()}))
}

func TestAGoodDocumentHasNoFindings(t *testing.T) {
	if found := check(good); len(found) > 0 {
		t.Error(found)
	}
	set, _ := Read(Text{Text: good})
	if set.Sources["tarn"].Priority != 50 || set.Mirrors["barrage"].Complete != "strict" ||
		set.Mirrors["barrage"].From[0].Want.With != "required" {
		t.Errorf("the defaults are not filled in: %+v", set.Mirrors["barrage"])
	}
}

func FuzzRead(f *testing.F) {
	f.Add(good)
	f.Add("stockade: 1\nmirrors: {a: {copy: faithful, from: [{source: x, want: everything}]}}\n")
	f.Add("a: &a [*a]")
	f.Add("? [1]\n: 2")
	f.Fuzz(func(t *testing.T, text string) {
		set, found := Read(Text{Name: "f", Text: text})
		Check(set, Surroundings{Families: archive.NewRegistry(deb.Family{})})
		if found.HasErrors() {
			return
		}
		back, err := set.YAML()
		must.Do(t, err)
		again, found := Read(Text{Name: "back", Text: back})
		if found.HasErrors() || len(Compare(set, again)) > 0 {
			t.Errorf("what was read does not come back: %v\n%s\n%s", found, text, back)
		}
	})
}

// A document that names thousands of things that are not there costs no more than
// in proportion to its size.
func TestAHostileDocumentIsCheckedInBoundedTime(t *testing.T) {
	size := func(n int) (string, time.Duration) {
		var b strings.Builder
		b.WriteString("stockade: 1\nlanes:\n")
		for i := range n {
			fmt.Fprintf(&b, "  lane-with-a-long-name-%06d: {mirror: mirror-with-a-long-namx-%06d}\n", i, i)
		}
		b.WriteString("mirrors:\n")
		for i := range n {
			fmt.Fprintf(&b, "  mirror-with-a-long-name-%06d: {copy: tailored, from: [{source: "+
				"source-with-a-long-name-%06d}]}\n", i, i)
		}
		begun := time.Now()
		set, found := Read(Text{Name: "hostile.yaml", Text: b.String()})
		checked := Check(set, Surroundings{Now: time.Now()})
		if all := Merge(found, checked); len(all.With("define.dangling-reference")) < 2*n {
			t.Errorf("%d findings of %d", len(all), 2*n)
		}
		return b.String(), time.Since(begun)
	}
	_, small := size(250)
	text, large := size(2000)
	if large > 40*small+time.Second { // eight times the size; its square would be 64 times
		t.Errorf("250 take %s, and 2000 (%d bytes) take %s", small, len(text), large)
	}
}

// What is written into machines' files is checked where it enters, in every family.
func TestValuesThatWouldBreakOutOfMachinesFilesAreRefused(t *testing.T) {
	for name, text := range map[string]string{
		"a language of two lines":  `languages: ["en\nTrusted: yes"]`,
		"a language of two words":  `languages: ["en [trusted=yes]"]`,
		"a component of two lines": `components: ["core\nTrusted: yes"]`,
		"a component of two words": `components: ["core extra"]`,
		"a release of two lines":   `release: "heron\nTrusted: yes"`,
		"a folder with a blank":    `release: "a b/"`,
		"an architecture":          `architectures: ["amd64\nTrusted: yes"]`,
	} {
		for _, family := range []string{"deb", "rpm", "alpm"} {
			base := map[string]string{"languages": "languages: [en]",
				"components": map[string]string{"deb": "components: [core]", "rpm": "components: []",
					"alpm": "components: [core]"}[family],
				"release": map[string]string{"deb": "release: heron", "rpm": "release: \"9\"",
					"alpm": "release: \"\""}[family], "architectures": "architectures: [x86_64]"}
			field, _, _ := strings.Cut(text, ":")
			base[field] = text
			doc := "stockade: 1\nsources:\n  s:\n    family: " + family +
				"\n    upstreams: [{url: \"https://a.example/\"}]\n    signed_by: [" + strings.Repeat("A",
				40) + "]\n"
			for _, k := range []string{"languages", "components", "release", "architectures"} {
				doc += "    " + base[k] + "\n"
			}
			set, found := Read(Text{Name: "x.yaml", Text: doc})
			found = Merge(found, Check(set,
				Surroundings{Families: archive.NewRegistry(deb.Family{}, rpm.Family{}, alpm.Family{}),
					Now: time.Now()}))
			if len(found.With("define.bad-value")) == 0 {
				t.Errorf("%s, %s: %v", family, name, found)
			}
		}
	}
}

// Many packages of house sources cost in proportion to their number.
func TestManyHousePackagesAreCheckedInProportion(t *testing.T) {
	set := func(n int) *Set {
		s := NewSet()
		s.Sources["reach-pumps"] = Source{Family: "rpm", Standing: "house", Architectures: []string{"x86_64"}}
		for i := range n {
			s.Packages[fmt.Sprintf("p%06d", i)] = Package{Source: "reach-pumps",
				Name: fmt.Sprintf("p%d", i), Version: "1-1", Architecture: "x86_64",
				SHA256: strings.Repeat("a", 64)}
		}
		return s
	}
	effort := func(s *Set) time.Duration {
		return made.Effort(5, func() {
			if found := Check(s, Surroundings{}).With("define.duplicate-name"); len(found) > 0 {
				t.Fatal(found)
			}
		})
	}
	a, b := effort(set(1000)), effort(set(16_000))
	// In proportion it is 16, with the square 256.
	if ratio := float64(b) / float64(a); ratio > 100 {
		t.Errorf("sixteen times the packages take %.1f times the effort", ratio)
	}
	twice := set(3)
	p := twice.Packages["p000001"]
	twice.Packages["again"] = p
	if found := Check(twice, Surroundings{}).With("define.duplicate-name"); len(found) != 1 ||
		found[0].Object != "package p000001" {
		t.Errorf("one package twice: %v", found)
	}
}

// What is not in a text has no place in it: not that of the section in which others of its kind stand.
func TestWhatIsNotInATextHasNoPlaceInIt(t *testing.T) {
	set, _ := Read(Text{Name: "x.yaml", Text: "stockade: 1\nsources:\n  tarn:\n    family: deb\n"})
	for path, line := range map[string]int{"sources.tarn": 3, "sources.tarn.family": 4,
		"sources.tarn.upstreams.0": 3, "sources.kelp": 0, "sources.kelp.family": 0, "mirrors.barrage": 0,
		"sources": 3} {
		if p := set.Place(path); p.Line != line || (p.File != "") != (line > 0) {
			t.Errorf("%s: %+v", path, p)
		}
	}
}

// A field under its former name is read, reported and renamed; under both names it is refused.
func TestAFieldUnderItsFormerNameIsReadAndRenamed(t *testing.T) {
	const doc = `stockade: 1
mirrors:
  m: {copy: tailored, from: [s], footing: {sources: [tarn]}}
groups:
  g:
    family: deb
    lane: l
    footing: {list: desk}   # as installed
`
	texts := []Text{{Name: "site.yaml", Text: doc}}
	set, found := Read(texts...)
	var former finding.List
	for _, f := range found {
		if f.Code == finding.DefineFormerName {
			former = append(former, f)
		}
	}
	if len(former) != 2 || former[0].Severity != finding.Note || former[1].Field != "groups.g.baseline" {
		t.Fatalf("got %v, want a note for each field", found)
	}
	if m, g := set.Mirrors["m"].Baseline, set.Groups["g"].Baseline; len(m.Sources) != 1 || g.List != "desk" {
		t.Errorf("got %+v and %+v, want the values of both fields", m, g)
	}
	if at := set.Place("groups.g.baseline.list"); at.Line != 8 {
		t.Errorf("got %v, want line 8", at)
	}
	mended := Mend(texts, found)
	if len(mended) != 1 || mended[0].After != strings.ReplaceAll(doc, "footing:", "baseline:") {
		t.Errorf("got %+v, want the names changed and nothing else", mended)
	}
	_, found = Read(Text{Name: "site.yaml", Text: strings.Replace(doc, "    footing:",
		"    baseline: {list: other}\n    footing:", 1)})
	if !slices.ContainsFunc(found, func(f finding.Finding) bool {
		return f.Code == finding.DefineDuplicateName && f.Place.Line == 9 && f.WayOut == "remove footing"
	}) {
		t.Errorf("got %v, want the second name refused", found)
	}
}

// A record that was written with the former name of a field is read, and is no change.
func TestARecordWithAFormerNameIsReadAndIsNoChange(t *testing.T) {
	old := []byte(`{"copy":"tailored","from":[],"footing":{"list":"desk"},"complete":"","keep":0}`)
	set := NewSet()
	if err := set.Put("mirror", "m", old); err != nil || set.Mirrors["m"].Baseline.List != "desk" {
		t.Fatalf("got %+v and %v, want the list desk", set.Mirrors["m"], err)
	}
	if c := CompareFields(old, set.Records()["mirror"]["m"]); len(c) != 0 {
		t.Errorf("got %+v, want no change", c)
	}
	merged, err := merge(old, old, []byte(`{"copy":"faithful","from":[],"baseline":{"list":"desk"}}`))
	if err != nil || !strings.Contains(string(merged), `"baseline":{"list":"desk"}`) ||
		strings.Contains(string(merged), "footing") {
		t.Errorf("got %s and %v, want the present name alone", merged, err)
	}
}
