package service

import (
	"database/sql"
	"errors"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/must"
	"stockade/internal/search"
)

// indexed fills the search index of a desk with lists of some packages, by what they are of.
func (d *desk) indexed(l search.List, packages ...search.Package) {
	d.t.Helper()
	for _, p := range packages {
		l.Digest += p.Source + p.Name + p.Version + p.Arch
	}
	must.Do(d.t, d.s.searching.index.Put(d.t.Context(), l, func(yield func(search.Package) error) error {
		for _, p := range packages {
			if err := yield(p); err != nil {
				return err
			}
		}
		return nil
	}))
}

func (d *desk) finds(query string) (out api.FoundPackages) {
	d.t.Helper()
	d.must(d.ask(api.Viewer, "GET", "/packages/find?"+query, nil), 200, &out)
	return out
}

func TestPackagesAreFoundInWhatSourcesOffer(t *testing.T) {
	d := newDesk(t)
	d.toldOf() // of the source tarn
	older := search.Package{Source: "tarn", Name: "tide-tables", Version: "2.9.0-1", Arch: "all", Size: 9}
	newer := older
	newer.Version = "2.10.0-1"
	d.indexed(search.List{Kind: search.OfSource, Name: "tarn"}, older)
	d.indexed(search.List{Kind: search.OfSource, Name: "tarn"}, older, newer)
	d.indexed(search.List{Kind: search.OfSource, Name: "gone"},
		search.Package{Source: "gone", Name: "tide-clock", Version: "1", Arch: "all"})

	found := d.finds("q=tide")
	if len(found.Items) != 1 || found.Items[0].Name != "tide-tables" || found.Items[0].Match != "begins" ||
		len(found.Items[0].Versions) != 2 {
		t.Fatalf("got %+v, want tide-tables alone, in two versions", found)
	}
	for i, want := range []struct {
		version string
		main    bool
	}{{"2.10.0-1", true}, {"2.9.0-1", false}} { // as the family orders them
		got := found.Items[0].Versions[i]
		if got.Version != want.version || got.Main != want.main || !got.Offered || got.Source != "tarn" ||
			got.Size != 9 || got.Editions == nil || got.Lanes == nil {
			t.Errorf("version %d: got %+v, want %+v", i, got, want)
		}
	}
	if found := d.finds("q=tide-tabels"); len(found.Items) != 0 || found.Near != "tide-tables" {
		t.Errorf("a misspelt name: got %+v", found)
	}
	if found := d.finds("q=tide-clokc"); found.Near != "" {
		t.Errorf("a name of a source that is no more is near: %+v", found)
	}
	for query, want := range map[string]int{"source=tarn": 1, "family=deb": 1, "family=rpm": 0,
		"standing=house": 0, "arch=all": 1, "arch=amd64": 0} {
		if found := d.finds("q=tide&" + query); len(found.Items) != want {
			t.Errorf("%s: got %+v, want %d names", query, found, want)
		}
	}
	for query, want := range map[string]int{"source=tarm": 404, "family=debb": 400, "standing=hous": 400,
		"edition=barrage/1": 400, "edition=barrage": 400, "lane=steady": 404, "limit=0": 400, "limit=x": 400,
		"q=" + strings.Repeat("x", 101): 400} {
		if w := d.ask(api.Viewer, "GET", "/packages/find?q=tide&"+query, nil); w.Code != want {
			if strings.HasPrefix(query, "q=") { // the first q counts
				w = d.ask(api.Viewer, "GET", "/packages/find?"+query, nil)
			}
			if w.Code != want {
				t.Errorf("%s: got %d, want %d", query, w.Code, want)
			}
		}
	}
	var hits api.Found
	d.must(d.ask(api.Viewer, "GET", "/search?q=tide", nil), 200, &hits)
	if !slices.Contains(hits.Hits, api.Hit{Kind: "package", Name: "tide-tables", Text: "offered by tarn",
		To: "/packages?name=tide-tables"}) {
		t.Errorf("got %+v, want the package among them", hits.Hits)
	}
}

// What the index does not have is said, with why: nobody takes an answer for all that there is.
func TestWhatIsNotSearchedIsSaid(t *testing.T) {
	d := newDesk(t)
	d.toldOf()
	must.Do(t, d.s.bringIndexUp(t.Context()))
	found := d.finds("q=tide")
	if len(found.Items) != 0 || found.Unread.All != 1 ||
		found.Unread.Items[0].Object != "source tarn" || found.Unread.Items[0].Why == "" {
		t.Errorf("got %+v, want that tarn is not searched", found)
	}
}

func TestTheIndexIsMadeAnewWhereItIsDamaged(t *testing.T) {
	dir := t.TempDir()
	must.Do(t, os.WriteFile(filepath.Join(dir, "search.db"), []byte("no index"), 0o600))
	s := &Service{cfg: Config{Data: dir}}
	if err := s.openIndex(); err != nil {
		t.Fatal(err)
	}
	if lists := s.searching.index.Lists(); len(lists) != 0 {
		t.Errorf("got %v, want an empty index", lists)
	}
	must.Do(t, s.searching.index.Close())
}

// An index that was damaged while it is open is told as that, and made anew.
func TestADamagedIndexIsMadeAnew(t *testing.T) {
	d := newDesk(t)
	d.toldOf()
	d.indexed(search.List{Kind: search.OfSource, Name: "tarn"},
		search.Package{Source: "tarn", Name: "tide-2999", Version: "1", Arch: "all"})
	raw, err := sql.Open("sqlite", filepath.Join(d.s.cfg.Data, "search.db"))
	must.Do(t, err)
	_, err = raw.Exec("DROP TABLE packages")
	must.Do(t, errors.Join(err, raw.Close()))
	w := d.ask(api.Viewer, "GET", "/packages/find?q=tide-2999", nil)
	if d.problemOf("a damaged index", w) != "site.fault" {
		t.Errorf("got %d: %s", w.Code, w.Body)
	}
	must.Do(t, d.s.bringIndexUp(t.Context()))
	if found := d.finds("q=tide-2999"); len(found.Items) != 0 || found.Unread.All != 1 {
		t.Errorf("got %+v, want an empty index that says what it lacks", found)
	}
}

func TestReasonsAreOneSentence(t *testing.T) {
	f := finding.New(finding.KeyUnvouched, "source tarn",
		"The key was imported, but no one has vouched").Do("decide")
	for _, c := range []struct {
		err  error
		want string
	}{{f,
		"The key was imported, but no one has vouched"},
		{errors.New("Something failed on this machine itself: disk"),
			"Something failed on this machine itself: disk"}} {
		if got := reason(c.err); got != c.want {
			t.Errorf("got %q, want %q", got, c.want)
		}
	}
	if q, err := url.ParseQuery("q=%00"); err != nil || q.Get("q") != "\x00" {
		t.Fatal(q, err)
	}
}
