package search

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"stockade/internal/must"
)

func opened(t *testing.T) *Index {
	t.Helper()
	x, err := Open(filepath.Join(t.TempDir(), "search.db"))
	must.Do(t, err)
	t.Cleanup(func() {
		if err := x.Close(); err != nil {
			t.Error(err)
		}
	})
	return x
}

// fill reads packages into a list; the digest of the list is made from what is in it.
func fill(t *testing.T, x *Index, l List, packages ...Package) {
	t.Helper()
	l.Digest = fmt.Sprintf("%x", packages)
	must.Do(t, x.Put(t.Context(), l, func(yield func(Package) error) error {
		for _, p := range packages {
			if err := yield(p); err != nil {
				return err
			}
		}
		return nil
	}))
}

func pack(source, name, version, summary string, provides ...string) Package {
	return Package{Source: source, Name: name, Version: version, Arch: "amd64", Digest: name + version,
		Size: 7,
		Text: Text{Summary: summary, Section: "field", Origin: "barrage", Provides: provides}}
}

// reach fills an index with what some sources offer and some editions hold.
func reach(t *testing.T) *Index {
	t.Helper()
	x := opened(t)
	fill(t, x, List{Kind: OfSource, Name: "tarn"},
		pack("tarn", "tide-tables", "2.4-1", "heights of the water, by the minute"),
		pack("tarn", "tide-tables-data", "2.4-1", "what the tables are made from"),
		pack("tarn", "libtide2", "1.0-1", "works tides out"),
		pack("tarn", "sluicectl", "3.1-1", "opens and closes gates", "gate-control"),
		pack("tarn", "Lamp_Watch", "1.0-1", "counts lamps"))
	fill(t, x, List{Kind: OfSource, Name: "kelp"}, pack("kelp", "kelp-drive", "9-1", "drives the pumps"),
		pack("kelp", "tide-tables", "3.0-1", "heights of the water, by the minute"))
	fill(t, x, List{Kind: OfEdition, Name: "barrage", Number: 1}, pack("tarn", "tide-tables", "2.4-1", ""),
		pack("tarn", "sluicectl", "3.0-1", "opens gates"))
	fill(t, x, List{Kind: OfEdition, Name: "barrage", Number: 2}, pack("tarn", "tide-tables", "2.4-1", ""))
	return x
}

// names gives what is found as NAME of each hit, in order.
func names(t *testing.T, x *Index, q Question) (out []string) {
	t.Helper()
	if q.Most == 0 {
		q.Most = 20
	}
	hits, _, err := x.Find(t.Context(), q)
	must.Do(t, err)
	for _, h := range hits {
		out = append(out, h.Name)
	}
	return out
}

func TestNamesAreFoundBestFirst(t *testing.T) {
	x := reach(t)
	for _, c := range []struct {
		text string
		want []string
	}{
		{"tide-tables", []string{"tide-tables", "tide-tables-data"}},
		{"tide", []string{"tide-tables", "tide-tables-data", "libtide2"}},
		{"ti", []string{"tide-tables", "tide-tables-data", "libtide2"}}, // "tides", in what is said
		{"TIDE", []string{"tide-tables", "tide-tables-data", "libtide2"}},
		{"lamp_watch", []string{"Lamp_Watch"}},
		{"tables tide", []string{"tide-tables", "tide-tables-data"}},
		{"tide wat", []string{"tide-tables"}},
		{"gate-control", []string{"sluicectl"}},
		{"barrage pumps", []string{"kelp-drive"}},
		{"de-ta", []string{"tide-tables", "tide-tables-data"}},
		{"*tide*2", []string{"libtide2"}},
		{"tide-table?", []string{"tide-tables"}},
		{"*_watch", []string{"Lamp_Watch"}},
		{"[a-z]*", nil},
		{"nothing-like-it", nil},
		{"", nil},
		{"  ", nil},
		{`"`, nil}, {`tide" OR "kelp`, nil}, {"tide NEAR kelp", nil}, {"low:tide", nil}, {"-", nil}, {"()", nil},
		{"t\x00de", nil}, {"\xff\xfe", nil}, {"'; DROP TABLE names; --", nil}, {"*", []string{"kelp-drive",
			"Lamp_Watch", "libtide2", "sluicectl", "tide-tables", "tide-tables-data"}},
	} {
		got := names(t, x, Question{Text: c.text})
		if c.text == "*" { // all fit alike
			slices.SortFunc(got, func(a, b string) int {
				return strings.Compare(strings.ToLower(a), strings.ToLower(b))
			})
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%q finds %q, want %q", c.text, got, c.want)
		}
	}
}

func TestAHitHasItsPackagesAndTheListsThatHaveThem(t *testing.T) {
	x := reach(t)
	hits, more, err := x.Find(t.Context(), Question{Text: "tide-tables", Most: 1})
	must.Do(t, err)
	if !more || len(hits) != 1 || hits[0].Match != Exact {
		t.Fatalf("got %+v and more %v, want one name that fits exactly, and more", hits, more)
	}
	var got []string
	for _, p := range hits[0].Packages {
		for _, l := range p.In {
			got = append(got, fmt.Sprintf("%s %s in %s %s/%d", p.Source, p.Version, l.Kind, l.Name, l.Number))
		}
		if p.Summary == "" || p.Size != 7 {
			t.Errorf("%+v has lost what the source says of it", p)
		}
	}
	slices.Sort(got)
	want := []string{"kelp 3.0-1 in source kelp/1", "tarn 2.4-1 in edition barrage/1",
		"tarn 2.4-1 in edition barrage/2", "tarn 2.4-1 in source tarn/1"}
	if !slices.Equal(got, want) {
		t.Errorf("got %q, want %q", got, want)
	}
}

func TestOnlyWhatCountsIsFound(t *testing.T) {
	x := reach(t)
	editions := func(l List) bool { return l.Kind == OfEdition && l.Number == 2 }
	if got := names(t, x, Question{Text: "sluice"}); len(got) != 1 {
		t.Fatalf("got %q, want one name", got)
	}
	if got := names(t, x, Question{Text: "sluice", Counts: editions}); got != nil {
		t.Errorf("got %q of an edition that does not hold it", got)
	}
	if got := names(t, x, Question{Text: "tide", Counts: editions}); !slices.Equal(got,
		[]string{"tide-tables"}) {
		t.Errorf("got %q, want what the edition holds", got)
	}
	hits, _, err := x.Find(t.Context(), Question{Text: "tide-tables", Most: 1, Within: editions})
	must.Do(t, err)
	if len(hits) != 1 || len(hits[0].Packages) != 1 || len(hits[0].Packages[0].In) != 3 {
		t.Errorf("got %+v, want what the edition holds, and all lists that have it", hits)
	}
	if got := names(t, x, Question{Text: "tide", Fits: func(p Package) bool {
		return p.Source == "kelp"
	}}); !slices.Equal(got, []string{"tide-tables"}) {
		t.Errorf("got %q, want what kelp offers", got)
	}
}

// What an edition told of a package is less than its source does: that is there once the source was read.
func TestTheIndexOfASourceSaysMore(t *testing.T) {
	x := opened(t)
	fill(t, x, List{Kind: OfEdition, Name: "barrage", Number: 1}, pack("tarn", "sluicectl", "3.1-1", ""))
	if got := names(t, x, Question{Text: "gates"}); got != nil {
		t.Fatalf("got %q, want nothing", got)
	}
	fill(t, x, List{Kind: OfSource, Name: "tarn"}, pack("tarn", "sluicectl", "3.1-1", "opens gates"))
	fill(t, x, List{Kind: OfEdition, Name: "barrage", Number: 2}, pack("tarn", "sluicectl", "3.1-1", "less"))
	if got := names(t, x, Question{Text: "opens", Counts: func(l List) bool {
		return l.Kind == OfEdition
	}}); !slices.Equal(got, []string{"sluicectl"}) {
		t.Errorf("got %q, want the package of the editions", got)
	}
}

func TestAListIsReadOnce(t *testing.T) {
	x := opened(t)
	reads := 0
	read := func(yield func(Package) error) error {
		reads++
		return yield(pack("tarn", "sluicectl", "3.1-1", ""))
	}
	for _, l := range []List{{OfSource, "tarn", 0, "one", 0}, {OfSource, "tarn", 0, "one", 0},
		{OfSource, "kelp", 0, "one", 0}, {OfEdition, "barrage", 1, "one", 0}, {OfEdition, "barrage", 2,
			"one", 0},
		{OfSource, "tarn", 0, "two", 0}} {
		must.Do(t, x.Put(t.Context(), l, read))
	}
	if reads != 4 { // editions share their lists; a source has its own
		t.Errorf("lists were read %d times, want 4", reads)
	}
	want := []List{{OfSource, "tarn", 1, "one", 0}, {OfSource, "kelp", 1, "one", 0},
		{OfEdition, "barrage", 1, "one", 0}, {OfEdition, "barrage", 2, "one", 0}, {OfSource, "tarn", 2,
			"two", 0}}
	if got := x.Lists(); !slices.Equal(got, want) {
		t.Errorf("got %v, want %v", got, want)
	}
}

func TestAListThatCannotBeReadIsNotThere(t *testing.T) {
	x := opened(t)
	broken := errors.New("broken")
	err := x.Put(t.Context(), List{OfSource, "tarn", 0, "one", 0}, func(yield func(Package) error) error {
		return errors.Join(yield(pack("tarn", "sluicectl", "3.1-1", "")), broken)
	})
	if !errors.Is(err, broken) || len(x.Lists()) != 0 {
		t.Errorf("got %v and %v, want the error of the reader and no list", err, x.Lists())
	}
	ended, end := context.WithCancel(t.Context())
	end()
	err = x.Put(ended, List{OfSource, "tarn", 0, "one", 0}, func(yield func(Package) error) error {
		return yield(pack("tarn", "sluicectl", "3.1-1", ""))
	})
	if err == nil || len(x.Lists()) != 0 {
		t.Errorf("got %v and %v, want an error and no list", err, x.Lists())
	}
}

func TestListsGo(t *testing.T) {
	x := reach(t)
	must.Do(t, x.Drop(func(l List) bool { return l.Kind == OfSource && l.Name == "tarn" }))
	if got := names(t, x, Question{Text: "libtide2"}); got != nil {
		t.Errorf("got %q of a source that went", got)
	}
	for n := range 2 * keptOf { // of a source, the newest stay
		fill(t, x, List{Kind: OfSource, Name: "kelp"}, pack("kelp", "kelp-drive", fmt.Sprint(n), ""))
	}
	of := 0
	for _, l := range x.Lists() {
		if l.Name == "kelp" {
			of++
		}
	}
	if of != keptOf {
		t.Errorf("%d lists of one source are kept, want %d", of, keptOf)
	}
	if unused, err := x.Unused(); err != nil || unused {
		t.Errorf("got %v and %v, want few packages that are in no list", unused, err)
	}
	var many []Package
	for i := range someUnused + 1 {
		many = append(many, pack("wrack", fmt.Sprintf("part-%d", i), "1", ""))
	}
	fill(t, x, List{Kind: OfSource, Name: "wrack"}, many...)
	must.Do(t, x.Drop(func(l List) bool { return l.Name == "wrack" }))
	if unused, err := x.Unused(); err != nil || !unused {
		t.Errorf("got %v and %v, want many packages that are in no list", unused, err)
	}
	must.Do(t, x.Clear())
	if got := x.Lists(); len(got) != 0 || names(t, x, Question{Text: "tide"}) != nil {
		t.Errorf("after it was cleared it has %v", got)
	}
}

// A site that was restored from a backup gives the number of an edition again: the list of then goes.
func TestAnEditionThatWasMadeAgainIsReadAgain(t *testing.T) {
	x := opened(t)
	fill(t, x, List{Kind: OfEdition, Name: "barrage", Number: 1, Made: 1},
		pack("tarn", "sluicectl", "3.1-1", ""))
	fill(t, x, List{Kind: OfEdition, Name: "barrage", Number: 1, Made: 2},
		pack("tarn", "tide-tables", "2.4-1", ""))
	if lists := x.Lists(); len(lists) != 1 || lists[0].Made != 2 {
		t.Errorf("got %v, want the list of the second alone", lists)
	}
	if got := names(t, x, Question{Text: "*"}); !slices.Equal(got, []string{"tide-tables"}) {
		t.Errorf("got %q, want what the second holds", got)
	}
}

func TestAnIndexIsThereAfterItWasClosed(t *testing.T) {
	path := filepath.Join(t.TempDir(), "search.db")
	x, err := Open(path)
	must.Do(t, err)
	fill(t, x, List{Kind: OfSource, Name: "tarn"}, pack("tarn", "sluicectl", "3.1-1", "opens gates"))
	must.Do(t, x.Close())
	if _, _, err := x.Find(t.Context(), Question{Text: "sluice", Most: 1}); !errors.Is(err, errClosed) {
		t.Errorf("a closed index answers %v", err)
	}
	x, err = Open(path)
	must.Do(t, err)
	if got := names(t, x, Question{Text: "gates"}); !slices.Equal(got, []string{"sluicectl"}) {
		t.Errorf("got %q after it was opened again", got)
	}
	must.Do(t, x.Close())
	for what, harm := range map[string]func() error{
		"is no database": func() error {
			return os.WriteFile(path, []byte(strings.Repeat("tide", 4096)),
				0o600)
		},
		"is cut": func() error { return os.Truncate(path, 5000) },
		"is of a new form": func() error {
			x, err := Open(path)
			if err != nil {
				return err
			}
			return errors.Join(x.db.Exec("PRAGMA user_version = 99").Error, x.Close())
		},
	} {
		must.Do(t, harm())
		x, err := Open(path)
		if err != nil {
			t.Fatalf("one that %s: %v", what, err)
		}
		if got := x.Lists(); len(got) != 0 {
			t.Errorf("one that %s has %v", what, got)
		}
		fill(t, x, List{Kind: OfSource, Name: "tarn"}, pack("tarn", "sluicectl", "3.1-1", "opens gates"))
		if got := names(t, x, Question{Text: "gates"}); !slices.Equal(got, []string{"sluicectl"}) {
			t.Errorf("one that %s finds %q", what, got)
		}
		must.Do(t, x.Close())
	}
}

func TestANameThatIsMeantIsNear(t *testing.T) {
	x := reach(t)
	for name, want := range map[string]string{"tide-tabels": "tide-tables", "sluicetcl": "sluicectl",
		"kepl-drive": "kelp-drive", "Tide-Table": "tide-tables", "quite-another": "", "": "", "\xff": ""} {
		got, err := x.Near(t.Context(), name)
		must.Do(t, err)
		if got != want {
			t.Errorf("near %q is %q, want %q", name, got, want)
		}
	}
}

func TestTextsOfUpstreamsAreBounded(t *testing.T) {
	x := opened(t)
	long := strings.Repeat("a summary without end ", 10_000)
	provides := make([]string, 10_000)
	for i := range provides {
		provides[i] = fmt.Sprint("virtual-", i)
	}
	fill(t, x, List{Kind: OfSource, Name: "tarn"}, pack("tarn", "sluicectl", "1", long, provides...),
		pack("tarn", strings.Repeat("n", 10_000), "1", "\xff\xfe"))
	hits, _, err := x.Find(t.Context(), Question{Text: "virtual-1", Most: 5})
	must.Do(t, err)
	if len(hits) != 1 || len(hits[0].Packages[0].Summary) > maxText ||
		len(hits[0].Packages[0].Provides) != maxProvides {
		t.Errorf("got %+v, want what was cut", hits)
	}
}

func TestOneFillsWhileManyAsk(t *testing.T) {
	x := reach(t)
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for range 50 {
				hits, _, err := x.Find(context.Background(), Question{Text: "tide-tables", Most: 3})
				if err != nil || len(hits) == 0 {
					t.Errorf("got %v and %v", hits, err)
				}
			}
		})
	}
	for n := range 20 {
		fill(t, x, List{Kind: OfEdition, Name: "barrage", Number: 3 + n},
			pack("tarn", "tide-tables", fmt.Sprint(n), ""))
	}
	all.Wait()
}

func TestNumbersAreASet(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 11))
	for range 500 {
		sets := make([]map[int64]bool, 2)
		made := make([]Numbers, 2)
		for i := range sets {
			sets[i] = map[int64]bool{}
			var list []int64
			for range r.IntN(40) {
				n := 1 + r.Int64N(60)
				sets[i][n] = true
				list = append(list, n)
			}
			made[i] = numbersOf(list)
			read, err := readNumbers(made[i].bytes())
			if err != nil || !slices.Equal(read, made[i]) {
				t.Fatalf("read again: got %v and %v, want %v", read, err, made[i])
			}
		}
		less, both := made[0].Without(made[1]), union(made)
		if made[0].Len() != int64(len(sets[0])) {
			t.Fatalf("%v: got %d numbers, want %d", made[0], made[0].Len(), len(sets[0]))
		}
		for n := range int64(62) {
			if made[0].Has(n) != sets[0][n] || less.Has(n) != (sets[0][n] && !sets[1][n]) ||
				both.Has(n) != (sets[0][n] || sets[1][n]) {
				t.Fatalf("%d of %v and %v: without %v, union %v", n, made[0], made[1], less, both)
			}
		}
	}
	for _, broken := range [][]byte{{0x80}, {1}, {1, 0x80},
		{0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 0xff, 1, 0}} {
		if got, err := readNumbers(broken); err == nil {
			t.Errorf("%v is read as %v", broken, got)
		}
	}
}
