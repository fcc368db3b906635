package edition

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/internal/must"
)

// What is searched for is found wherever it stands in a name or a summary, whatever its case and
// however the list writes it; a page begins where the one before ended.
func TestSearchingFindsWhatTheWholeListHas(t *testing.T) {
	var all []Item
	for i, x := range [][2]string{{"pump", "starts and stops"}, {"Pump-Panel", "a panel"},
		{"tide", "Tables for PUMPS"}, {"gate", "größer als <das>"}, {`od"d\`, "x & y"}, {"weir", ""},
		{"xylophone", "a"}, {"zz", "0 to 9, a to z, A to Z"}} {
		it := item("tarn", x[0], "amd64", fmt.Sprint(i))
		it.Summary = x[1]
		all = append(all, it)
	}
	for n, e := range []*Sealed{opened(t, written(t, all, false)), opened(t, written(t, all, true)),
		opened(t, strings.TrimSuffix(written(t, all, false), "\n"))} {
		for _, asked := range []string{"pump", "PUMP", "Panel", "größer", "<das>", `"d\`, "&", "none", "z",
			"a to z", "0 to 9", "sha256", "arch", "amd64"} {
			has := func(it Item) bool {
				return strings.Contains(strings.ToLower(it.Name+" "+it.Summary), strings.ToLower(asked))
			}
			var want, got []Item
			for _, it := range all {
				if has(it) {
					want = append(want, it)
				}
			}
			var ends []int64
			must.Do(t, e.Search(asked, 0, func(it Item, next int64) error {
				got, ends = append(got, it), append(ends, next)
				return nil
			}))
			if !reflect.DeepEqual(got, want) {
				t.Errorf("list %d, %q: %+v", n, asked, got)
			}
			for i, end := range ends {
				if n == 2 && i == len(ends)-1 {
					break // the last line has no end
				}
				var rest []Item
				if err := e.Search(asked, end, func(it Item, _ int64) error {
					rest = append(rest, it)
					return nil
				}); err != nil || !reflect.DeepEqual(rest, append([]Item(nil), want[i+1:]...)) {
					t.Errorf("list %d, %q from %d on: %+v %v", n, asked, end, rest, err)
				}
			}
			stop := fmt.Errorf("that is enough")
			if err := e.Search(asked, 0, func(Item, int64) error { return stop }); len(want) > 0 &&
				err != stop {
				t.Errorf("list %d, %q: it does not stop: %v", n, asked, err)
			}
		}
		if err := e.Search("pump", 3, nil); err != ErrNoLine {
			t.Errorf("from the middle of a line: %v", err)
		}
	}
	damaged := opened(t, written(t, all[:1], false)+"pump\n")
	for _, asked := range []string{"pump", "größer"} {
		err := damaged.Search(asked, 0, func(Item, int64) error { return nil })
		if f, ok := finding.From(err); !ok || f.Code != "edition.damaged" {
			t.Errorf("a line that is none, %q: %v", asked, err)
		}
	}
}

// An advisory is about a version of a source's package on an architecture, and no other.
func TestAdvisoriesAreAboutNewVersions(t *testing.T) {
	about := func(source, id, kind string, packages ...archive.AdvisoryPackage) Advisory {
		return Advisory{Source: source, Advisory: archive.Advisory{ID: id, Kind: kind, Packages: packages}}
	}
	pump := archive.AdvisoryPackage{Name: "pump", Version: "2", Arch: "amd64"}
	all := []Advisory{about("tarn", "T-2", "bugfix", pump), about("tarn", "T-1", SecurityKind, pump),
		about("kelp", "K-1", SecurityKind, pump),
		about("tarn", "T-3", SecurityKind, archive.AdvisoryPackage{Name: "tide", Version: "1", Arch: "all"}),
		about("kelp", "T-4", SecurityKind), about("tarn", "T-4", "enhancement",
			archive.AdvisoryPackage{Name: "gate", Version: "5", Arch: "amd64"})}
	changes := []Change{{Source: "tarn", Name: "pump", Arch: "amd64", OldVersion: "1", NewVersion: "2"},
		{Source: "tarn", Name: "pump", Arch: "amd64", OldVersion: "2", NewVersion: "3"},
		{Source: "tarn", Name: "pump", Arch: "arm64", NewVersion: "2"},
		{Source: "tarn", Name: "tide", Arch: "all", OldVersion: "1"}, // it is gone
		{Source: "tarn", Name: "gate", Arch: "amd64", NewVersion: "5"}}
	Advise(changes, all)
	var got []string
	for _, c := range changes {
		got = append(got, fmt.Sprint(c.Advisories, c.Security))
	}
	want := []string{"[T-1 T-2]true", "[]false", "[]false", "[]false", "[T-4]false"}
	for i := range want {
		if strings.ReplaceAll(got[i], " true", "true") != want[i] && strings.ReplaceAll(got[i], " false",
			"false") != want[i] {
			t.Errorf("%+v: %s, and not %s", changes[i], got[i], want[i])
		}
	}
	list := ""
	for _, a := range all {
		list += fmt.Sprintf(`{"source":%q,"id":%q,"kind":%q}`+"\n", a.Source, a.ID, a.Kind)
	}
	e := sealWith(t, map[string]string{"tarn/x": "x"}, packages, list).open()
	var ids []string
	if err := e.ReadAdvisories(func(a Advisory) error {
		ids = append(ids, a.Source+" "+a.ID)
		return nil
	}); err !=
		nil || !slices.Equal(ids, []string{"tarn T-2", "tarn T-1", "kelp K-1", "tarn T-3", "kelp T-4",
		"tarn T-4"}) {
		t.Errorf("%q %v", ids, err)
	}
	stop := fmt.Errorf("that is enough")
	if err := e.ReadAdvisories(func(Advisory) error { return stop }); err != stop {
		t.Errorf("it does not stop: %v", err)
	}
	if err := opened(t, packages).ReadAdvisories(func(Advisory) error { return stop }); err != nil {
		t.Errorf("of an edition that has none: %v", err)
	}
	bad := sealWith(t, map[string]string{"tarn/x": "x"}, packages, list+"none\n").open()
	if f, ok := finding.From(bad.ReadAdvisories(func(Advisory) error { return nil })); !ok ||
		f.Code != "edition.damaged" || !strings.Contains(f.Text, "advisories") {
		t.Errorf("advisories that cannot be read: %+v", f)
	}
}

// A list that lies nowhere, or whose file is gone, is told as what it is.
func TestAListThatIsGone(t *testing.T) {
	s := sealWith(t, map[string]string{"tarn/x": "x"}, packages, "")
	e := s.open()
	line, ok := e.Manifest.Lines.Find(packagesFile)
	if !ok {
		t.Fatal("no list")
	}
	must.Do(t, s.store.Remove(line.SHA256))
	if f, ok := finding.From(e.Items(func(Item) error { return nil })); !ok || f.Code != "edition.damaged" ||
		f.Object != "edition barrage/3" || !strings.Contains(f.Text, packagesFile) {
		t.Errorf("its file is gone: %+v", f)
	}
	e.Manifest.Lines = slices.DeleteFunc(e.Manifest.Lines,
		func(l Line) bool { return l.Path == packagesFile })
	if f, ok := finding.From(e.Items(func(Item) error { return nil })); !ok || f.Code != "edition.damaged" ||
		f.Object != "edition barrage/3" || !strings.Contains(f.Text, "does not list "+packagesFile) {
		t.Errorf("nothing names it: %+v", f)
	}
}
