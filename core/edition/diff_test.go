package edition

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"testing"
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
			c.NewVersion,
			strconv.FormatBool(c.Older)}, " "))
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
			return strings.Join([]string{x.Source, x.Name, x.Arch, x.Version},
				" ")
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

// What is read briefly of a line is what reading it whole gives.
func FuzzABriefReadingIsTheWholeOne(f *testing.F) {
	f.Add("tarn", "pump", "1.0-1", "amd64", "core", int64(7), "ab")
	f.Add("tarn", `pu"mp`, "1<2", "amd64", "", int64(-1), `\`)
	f.Add("", "", "", "", "", int64(0), "")
	f.Fuzz(func(t *testing.T, source, name, version, arch, component string, size int64, sum string) {
		raw, err := json.Marshal(Item{Source: source, Name: name, Version: version, Arch: arch,
			Component: component, Size: size, SHA256: sum, Summary: `,"sha256":"x"`})
		if err != nil {
			t.Skip()
		}
		got, ok := briefly(raw)
		if !ok {
			return // it is read whole
		}
		var whole Item
		if err := json.Unmarshal(raw, &whole); err != nil {
			t.Fatal(err)
		}
		whole.Path, whole.Summary = "", ""
		if !reflect.DeepEqual(got, whole) {
			t.Errorf("%+v, and whole %+v", got, whole)
		}
	})
}
