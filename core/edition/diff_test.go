package edition

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/must"
)

// byNumber orders versions that are numbers.
func byNumber(_, a, b string) int {
	x, _ := strconv.Atoi(a)
	y, _ := strconv.Atoi(b)
	return x - y
}

func item(source, name, arch, version string) Item {
	return Item{Source: source, Name: name, Arch: arch, Version: version, Size: int64(len(version)),
		SHA256: strings.Repeat("0", 60) + version}
}

func TestADifferenceTellsWhatBecameOfEachPackage(t *testing.T) {
	from := []Item{item("tarn", "pump", "amd64", "1"), item("tarn", "gate", "amd64", "9"),
		item("tarn", "tide", "all", "3"), item("kelp", "pump", "amd64", "4"),
		item("tarn", "many", "amd64", "1"), item("tarn", "many", "amd64", "2")}
	to := []Item{item("tarn", "pump", "amd64", "2"), item("tarn", "gate", "amd64", "8"),
		item("tarn", "weir", "arm64", "5"), item("kelp", "pump", "amd64", "4"),
		item("tarn", "many", "amd64", "2"), item("tarn", "many", "amd64", "3")}
	var told []string
	changes := Diff(from, to, byNumber)
	for _, c := range changes {
		told = append(told, strings.Join([]string{c.Action, c.Source, c.Name, c.Arch, c.OldVersion,
			c.NewVersion, strconv.FormatBool(c.Older)}, " "))
	}
	want := []string{
		"changed tarn gate amd64 9 8 true",
		"changed tarn many amd64 1 3 false",
		"changed tarn pump amd64 1 2 false",
		"removed tarn tide all 3  false",
		"added tarn weir arm64  5 false",
	}
	if !slices.Equal(told, want) {
		t.Errorf("%q", told)
	}
	Advise(changes, []Advisory{})
	changes[4].Security = true
	if got := Summarise(changes); got != (Summary{Changes: 5, Security: 1, Newer: 2, Older: 1, Added: 1,
		Removed: 1, Bytes: 4}) {
		t.Errorf("%+v", got)
	}
	MattersFirst(changes)
	var order []string
	for _, c := range changes {
		order = append(order, c.Name)
	}
	if !slices.Equal(order, []string{"weir", "many", "pump", "gate", "tide"}) {
		t.Errorf("%q", order)
	}
}

// A difference is what the definition says, whatever the order and the number of versions: a
// file on both sides of a place is no change.
func TestADifferenceIsOfFilesAtTheirPlaces(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 7))
	for range 400 {
		var sides [2][]Item
		for i := range sides {
			for range r.IntN(12) {
				sides[i] = append(sides[i], item([]string{"tarn", "kelp"}[r.IntN(2)],
					[]string{"pump", "gate", "tide"}[r.IntN(3)], []string{"amd64", "all"}[r.IntN(2)],
					strconv.Itoa(r.IntN(4))))
			}
		}
		place := func(x Item) string {
			return strings.Join([]string{x.Source, x.Name, x.Arch, x.Version}, " ")
		}
		only := func(a, b []Item) map[string]int {
			out := map[string]int{}
			for _, x := range a {
				if !slices.ContainsFunc(b, func(y Item) bool { return place(x) == place(y) }) {
					out[place(x)]++
				}
			}
			return out
		}
		gone, come := only(sides[0], sides[1]), only(sides[1], sides[0])
		for _, c := range Diff(sides[0], sides[1], byNumber) {
			if c.OldVersion != "" {
				gone[place(item(c.Source, c.Name, c.Arch, c.OldVersion))]--
			}
			if c.NewVersion != "" {
				come[place(item(c.Source, c.Name, c.Arch, c.NewVersion))]--
			}
			if (c.Action == Added) != (c.OldVersion == "") ||
				(c.Action == Removed) != (c.NewVersion == "") ||
				c.Older != (c.Action == Changed && byNumber("", c.NewVersion, c.OldVersion) < 0) {
				t.Fatalf("%+v", c)
			}
		}
		for _, left := range []map[string]int{gone, come} {
			for x, n := range left {
				if n != 0 {
					t.Fatalf("%v told %d times too few, of %v and %v", x, n, sides[0], sides[1])
				}
			}
		}
	}
}

// written gives a list of packages as an edition has it; odd ones are written otherwise.
func written(t *testing.T, items []Item, odd bool) string {
	t.Helper()
	var b strings.Builder
	for _, it := range items {
		raw, err := json.Marshal(it)
		must.Do(t, err)
		line := string(raw)
		if odd && it.Name == "tide" {
			line = strings.Replace(line, `"name":`, `"name" : `, 1)
		}
		b.WriteString(line + "\n")
	}
	return b.String()
}

// opened seals an edition with a list, and opens it.
func opened(t *testing.T, list string) *Sealed {
	t.Helper()
	return sealWith(t, map[string]string{"tarn/x": "x"}, list, "").open()
}

// What two sealed editions differ in is what their whole lists do, however many lines they share:
// lines that both have, files at two places, names and lines that are written otherwise.
func TestADifferenceOfEditionsIsThatOfTheirWholeLists(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 3))
	lists, changes := 0, 0
	for n := range 24 {
		var sides [2][]Item
		for range 1 + r.IntN(14) {
			x := item([]string{"tarn", "kelp"}[r.IntN(2)], []string{"pump", "gate", "tide", `pu"mp\`}[r.IntN(4)],
				[]string{"amd64", "all"}[r.IntN(2)], strconv.Itoa(r.IntN(4)))
			x.Component = []string{"", "core"}[r.IntN(2)]
			x.SHA256 = strings.Repeat("0", 63) + strconv.Itoa(r.IntN(9))
			switch r.IntN(4) {
			case 0:
				sides[0] = append(sides[0], x)
			case 1:
				sides[1] = append(sides[1], x)
			default:
				sides[0], sides[1] = append(sides[0], x), append(sides[1], x)
			}
		}
		from, to := opened(t, written(t, sides[0], n%3 == 0)), opened(t, written(t, sides[1], n%3 == 1))
		got, err := Differences(from, to, byNumber)
		must.Do(t, err)
		want := Diff(sides[0], sides[1], byNumber)
		lists, changes = lists+1, changes+len(want)
		if len(got) != len(want) || len(got) > 0 && !reflect.DeepEqual(got, want) {
			t.Fatalf("of %+v and %+v: %+v, and whole %+v", sides[0], sides[1], got, want)
		}
	}
	twice := []Item{item("tarn", "pump", "all", "1"), item("tarn", "pump", "all", "1"),
		item("tarn", "gate", "all", "1")}
	if got, err := Differences(opened(t, written(t, twice, false)), opened(t, written(t, twice[1:], false)),
		byNumber); err != nil || len(got) > 0 {
		t.Errorf("a line that stands there twice: %+v %v", got, err)
	}
	if changes < 60 {
		t.Errorf("%d changes between %d lists: that is no comparison", changes, lists)
	}
}

// Of many lines those that one list has alone are read in parts; one that cannot be read is told.
func TestALineThatCannotBeReadIsNoDifference(t *testing.T) {
	var many []Item
	for i := range 9_000 {
		many = append(many, item("tarn", "part-"+strconv.Itoa(i), "amd64", "1"))
		many[i].SHA256 = strings.Repeat("0", 59) + strconv.Itoa(10_000+i)
	}
	none, all := opened(t, written(t, many[:1], false)), opened(t, written(t, many, false))
	got, err := Differences(none, all, byNumber)
	if err != nil || len(got) != len(many)-1 || Summarise(got).Added != len(got) {
		t.Fatalf("%d of %d changes: %v", len(got), len(many)-1, err)
	}
	for i, c := range got { // each of them, once, by name
		if i > 0 && got[i-1].Name >= c.Name || c.NewVersion != "1" || c.NewSize != 1 {
			t.Fatalf("%+v after %+v", c, got[max(i-1, 0)])
		}
	}
	for _, bad := range []string{"{\"source\":\"tarn\",\"name\":7}\n", "nothing\n"} {
		damaged := opened(t, written(t, many[:3], false)+bad)
		for what, err := range map[string]error{"difference": second(Differences(none, damaged, byNumber)),
			"by name": damaged.ItemsCalled(func(string) bool { return true },
				func(Item) error { return nil })} {
			if f, ok := finding.From(err); !ok || f.Code != "edition.damaged" {
				t.Errorf("%s of %q: %v", what, bad, err)
			}
		}
	}
}

func second[T any](_ T, err error) error { return err }

// What is called by some names is what the whole list has of them.
func TestPackagesThatAreCalledSo(t *testing.T) {
	var all []Item
	for i, name := range []string{"pump", "pumps", `pu"mp\`, "tide", "pump", "gate"} {
		all = append(all, item([]string{"tarn", "kelp"}[i%2], name, "amd64", strconv.Itoa(i)))
		all[i].Summary = `its "name":"pump" is known`
	}
	for n, e := range []*Sealed{opened(t, written(t, all, false)), opened(t, written(t, all, true)),
		opened(t, strings.TrimSuffix(written(t, all, false), "\n"))} {
		for _, asked := range [][]string{{"pump"}, {`pu"mp\`, "tide"}, {"none"}, {"gate"}} {
			var got, want []Item
			called := func(name string) bool { return slices.Contains(asked, name) }
			must.Do(t, e.ItemsCalled(called, func(it Item) error {
				got = append(got, it)
				return nil
			}))
			for _, it := range all {
				if called(it.Name) {
					want = append(want, it)
				}
			}
			if !reflect.DeepEqual(got, want) {
				t.Errorf("list %d, %q: %+v", n, asked, got)
			}
		}
	}
}

// What is read briefly of a line is what reading it whole gives.
func FuzzABriefReadingIsTheWholeOne(f *testing.F) {
	f.Add("tarn", "pump", "1.0-1", "amd64", "core", int64(7), strings.Repeat("ab", 32))
	f.Add("tarn", `pu"mp`, "1<2", "amd64", "", int64(-1), `\`)
	f.Add("", "", "", "", "", int64(0), "")
	f.Fuzz(func(t *testing.T, source, name, version, arch, component string, size int64, sum string) {
		raw, err := json.Marshal(Item{Source: source, Name: name, Version: version, Arch: arch,
			Component: component, Size: size, SHA256: sum, Summary: `,"sha256":"x"`})
		if err != nil {
			t.Skip()
		}
		got, ok := briefly(string(raw))
		if !ok {
			return // it is read whole
		}
		var whole Item
		must.Do(t, json.Unmarshal(raw, &whole))
		whole.Path, whole.Summary = "", ""
		if !reflect.DeepEqual(got, whole) {
			t.Errorf("%+v, and whole %+v", got, whole)
		}
	})
}

// A line as lists are written is read briefly: reading it whole costs ten times as much.
func TestLinesAsTheyAreWrittenAreReadBriefly(t *testing.T) {
	sum := strings.Repeat("a", 64)
	for _, c := range []struct {
		it   Item
		fast bool
	}{
		{Item{Source: "tarn", Name: "tide", Version: "1:2.0-1", Arch: "amd64", Size: 7, SHA256: sum}, true},
		{Item{Source: "tarn", Name: "tide", Version: "1", Arch: "all", Component: "core", Size: 7,
			SHA256:  sum,
			Summary: "tables"}, true},
		{Item{Source: "tarn", Name: `ti"de`, Version: "1", Arch: "all", Size: 7, SHA256: sum}, false},
		{Item{Source: "tarn", Name: "tide", Version: "1", Arch: "all", Size: 7, SHA256: sum[1:]}, false},
		{Item{Source: "tarn", Name: "tide", Version: "1", Arch: "all", Size: 7, SHA512: sum + sum}, false},
	} {
		line, err := json.Marshal(c.it)
		must.Do(t, err)
		if it, fast := briefly(string(line)); fast != c.fast || fast &&
			(it.Name != c.it.Name || it.SHA256 != sum ||
				it.Size != 7 || it.Component != c.it.Component) {
			t.Errorf("%s: %v %+v", line, fast, it)
		}
		want := c.it.SHA256
		if len(want) < 64 {
			want = ""
		}
		if got := digestIn(string(line)); got != want {
			t.Errorf("%s: its digest is %q", line, got)
		}
		if got := digestIn(string(line) + string(line)); got != "" {
			t.Errorf("of two digests it is %q", got)
		}
		if !c.fast {
			continue
		}
		for _, part := range []string{`{"source":"tarn"`, `,"name":"tide"`, `,"arch":"` + c.it.Arch + `"`,
			`,"size":7`, `"` + sum + `"`} {
			if _, fast := briefly(strings.Replace(string(line), part, "", 1)); fast {
				t.Errorf("without %s it is read as if it were whole", part)
			}
		}
		if _, fast := briefly(string(line[:strings.Index(string(line), `,"sha256"`)])); fast {
			t.Error("half a line is read as a whole one")
		}
	}
}

// What is worked out in halves is what is worked out at once, in the same order, whichever lists meet.
func TestADifferenceInHalvesIsThatOfTheWhole(t *testing.T) {
	draw := rand.New(rand.NewPCG(7, 7))
	compare := func(_, a, b string) int { return strings.Compare(a, b) }
	list := func() []Item {
		out := make([]Item, draw.IntN(12))
		for i := range out {
			v := fmt.Sprint(draw.IntN(4))
			out[i] = Item{Source: "s", Name: string(rune('a' + draw.IntN(4))), Arch: []string{"all",
				"amd64"}[draw.IntN(2)], Version: v, SHA256: v + fmt.Sprint(draw.IntN(2))}
		}
		return out
	}
	for range 2000 {
		from, to := list(), list()
		got, want := Diff(from, to, compare), diff(placed(from), placed(to), 0, compare)
		if !slices.EqualFunc(got, want, func(a, b Change) bool { return reflect.DeepEqual(a, b) }) {
			t.Fatalf("%v to %v:\n%v\nat once:\n%v", from, to, got, want)
		}
	}
}
