package definition

import (
	"errors"
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
	"stockade/internal/made/told"
	"stockade/internal/must"
)

func TestWhatStandsOnAList(t *testing.T) {
	known := archive.NewRegistry(deb.Family{}, alpm.Family{})
	long := strings.Repeat("x\n", 70_000)
	for _, c := range []struct {
		name, family, file string
		on, wants          string
		code, says         string
	}{
		{"names", "", "# desks\n desk \n\ndesk\nshelf  >=  2\ndesk", "desk, shelf >= 2, desk",
			"desk, shelf >= 2, desk",
			"", ""},
		{"nothing", "", "# desks\n", "", "", "", ""},
		{"no name", "", "desk\nshelf 2", "", "", "define.bad-value", `line 2 of the list: "shelf 2" is not NAME`},
		{"a line without end", "", strings.Repeat("x", 70_000), "", "", "define.bad-value", "token too long"},
		{"as many as there may be", "", spread(maxListed), "*", "*", "", ""},
		{"more", "", spread(maxListed + 1), "", "", "content.too-large", "the list has 50001 packages"},
		{"the same again and again", "", long, "x", "x", "", ""},
		{"what a machine has", "deb", "desk\t1.2-1\nlib:i386\t2\nlib:amd64\t2\n",
			"desk 1.2-1, lib 2 i386, lib 2 amd64",
			"desk, lib", "", ""},
		{"what another has", "alpm", "desk 1.2-1\n", "desk 1.2-1", "desk", "", ""},
		{"of a family that prints none", "rpm", "desk\n", "", "", "define.bad-value", `installed lists of the family "rpm" are not supported`},
		{"nothing that a machine has", "deb", "", "", "", "define.bad-value",
			"the list contains no installed packages"},
		{"no list of a machine's", "alpm", "desk >= 1\n", "", "", "define.bad-value",
			"is not an installed package"},
	} {
		l := List{Family: c.family}
		got, err := l.ReadList([]byte(c.file), known)
		told.Refused(t, c.name, err, c.code, c.says)
		l.Packages = got
		if on, wants := strings.Join(got, ", "), strings.Join(l.Wants(), ", "); c.on != "*" && (on != c.on ||
			wants != c.wants) {
			t.Errorf("%s: %q, of which %q is wanted", c.name, on, wants)
		}
	}
	has := List{Family: "deb", Packages: []string{"desk 1.2-1", "lib 2 i386"}}.Installed()
	if want := []archive.Identity{{Name: "desk", Version: "1.2-1"}, {Name: "lib", Version: "2",
		Arch: "i386"}}; !slices.Equal(has, want) {
		t.Errorf("%+v", has)
	}
}

// spread gives a list of n names.
func spread(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintln(&b, "p", i)
	}
	return strings.ReplaceAll(b.String(), " ", "")
}

// Which lists a mirror rests on, and what of documents lies in files of its own.
func TestFilesAndListsOfDocuments(t *testing.T) {
	set, found := Read(Text{Name: "/reach/site.yaml", Text: `stockade: 1
keys: {k: {file: k.asc}, whole: {fingerprint: ` + whole + `}}
authorities: {a: {file: roots.pem}, here: {certificates: x}, gone: {file: gone.pem}}
lists: {baseline: {file: l.txt}, of-all: {packages: [kept]}, of-one: {file: bad.txt, packages: [kept]},
  of-group: {file: /lists/l.txt}, of-other: {file: l.txt}, nobodys: {file: gone.txt, packages: [kept]}}
mirrors:
  m: {copy: tailored, from: [{source: s, want: {lists: [of-one]}}], want: {lists: [of-all]}, baseline: {list: baseline}}
  n: {copy: tailored, from: [s], want: everything}
lanes: {l: {mirror: m}, o: {mirror: n}}
groups: {g: {family: deb, lane: l, baseline: {list: of-group}}, h: {family: deb, lane: o, baseline: {list: of-other}}}
`})
	if found.HasErrors() {
		t.Fatal(found)
	}
	files := []string{"/lists/l.txt", "/reach/bad.txt", "/reach/gone.pem", "/reach/gone.txt",
		"/reach/k.asc", "/reach/l.txt",
		"/reach/roots.pem"}
	if got := set.FileNames(); !slices.Equal(got, files) {
		t.Errorf("%q", got)
	}
	for mirror, want := range map[string][]string{"m": {"baseline", "of-all", "of-group", "of-one"},
		"n": {"of-other"}} {
		if got := set.ListsOf(mirror); !slices.Equal(got, want) {
			t.Errorf("%s: %q", mirror, got)
		}
	}
	set.TakeFiles(map[string][]byte{"/reach/l.txt": []byte("desk\n"), "/lists/l.txt": []byte("shelf\n"),
		"/reach/bad.txt": []byte("no name\n"), "/reach/roots.pem": []byte("PEM"), "": []byte("nothing")}, nil)
	on := map[string]string{"baseline": "desk", "of-other": "desk", "of-group": "shelf", "of-all": "kept",
		"of-one":  "kept",
		"nobodys": "kept"}
	for name, want := range on {
		if got := set.Lists[name].Packages; len(got) != 1 || got[0] != want {
			t.Errorf("%s: %q", name, got)
		}
	}
	if a := set.Authorities; a["a"].Certificates != "PEM" || a["here"].Certificates != "x" ||
		a["gone"].Certificates != "" {
		t.Errorf("%+v", a)
	}
}

// rows is a machine with a database: a certificate in each row, or an error.
type rows struct {
	Unpacked
	of map[string][][]byte
}

func (r rows) Rows(path, query string) ([][]byte, error) {
	if query != (keyed{}).KeyRows() || r.of[path] == nil {
		return nil, errors.New("it is no database")
	}
	return r.of[path], nil
}

// keyed is a family whose rows are certificates as they are.
type keyed struct{ rpm.Family }

func (keyed) KeysOf(row []byte) ([]byte, error) {
	if len(row) == 0 {
		return nil, errors.New("a row without a key")
	}
	return row, nil
}

// Keys that a client keeps in a database count for all its sources: one file for them, where they can
// be read.
func TestKeysOfADatabase(t *testing.T) {
	keys := made.Keys(made.Owner{Name: "Tarn archive"}, made.Owner{Name: "Kelp Drives"})
	one, two := keys[0].Certificate(), keys[1].Certificate()
	const path = "/usr/lib/sysimage/rpm/rpmdb.sqlite"
	files := Unpacked{path[1:]: nil, "etc/yum.repos.d/a.repo": []byte(
		"[a]\nbaseurl=https://a.example/\n[b]\nbaseurl=https://b.example/\n")}
	for name, c := range map[string]struct {
		rows  [][]byte
		certs int
		says  string
	}{
		"two": {[][]byte{one.Binary(), two.Binary()}, 2, ""},
		"one": {[][]byte{two.Binary()}, 1, ""},
		"one, and a row": {[][]byte{one.Binary(), nil, two.Binary()}, 0,
			"cannot be read: a row without a key"},
		"no database": {nil, 0, "cannot be read: it is no database"},
	} {
		i, err := ReadMachine(archive.NewRegistry(keyed{}),
			rows{files, map[string][][]byte{path: c.rows}}, "/mnt", "amd64")
		must.Do(t, err)
		key := i.Set.Keys["machine-keyring"]
		if len(key.All()) != c.certs || c.certs > 0 && (key.File != "keys/machine-keyring.asc" ||
			i.Set.Places["keys.machine-keyring"].File != path || i.Files[key.File] == nil ||
			strings.Count(string(i.Keys[key.File]), "BEGIN PGP") != c.certs ||
			i.Set.Sources["b"].SignedBy[0] != "machine-keyring") {
			t.Errorf("%s: %+v of %+v", name, key, i.Set.Sources)
		}
		told := i.Findings.With("import.to-decide")
		told = slices.DeleteFunc(told, func(f finding.Finding) bool {
			return !strings.Contains(f.Text,
				"keyring cannot")
		})
		if (c.says != "") != (len(told) == 1) || c.says != "" && (!strings.Contains(told[0].Text, c.says) ||
			told[0].Place.File != path) {
			t.Errorf("%s: %v", name, told)
		}
		for _, f := range i.Judge(archive.NewRegistry(keyed{}), time.Now(), func(string) ([]byte, error) {
			return nil, errors.New("not there")
		}) {
			if f.Code == "key.missing" || strings.Contains(f.Text, "not there") {
				t.Errorf("%s: %v", name, f)
			}
		}
	}
}
