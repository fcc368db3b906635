package deb

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/internal/made/faults"
	"stockade/internal/must"
)

// plainKey signs by not signing: these tests are about what is written.
type plainKey struct{}

func (plainKey) Clearsign(text []byte) ([]byte, error)          { return text, nil }
func (plainKey) SignStream(io.ReadSeeker) ([]byte, error)       { return []byte("signature"), nil }
func (plainKey) DetachSign(text []byte, _ bool) ([]byte, error) { return []byte("signature"), nil }

func TestAWrittenRepositoryReadsBack(t *testing.T) {
	source := archive.Source{Name: "tarn", Family: "deb", Release: "heron",
		Components: []string{"core", "empty"}, Architectures: []string{"amd64", "arm64"}}
	index := "Package: sluicectl\nVersion: 1.4-1\nArchitecture: amd64\nDepends: libtide2\nDescription: " +
		"gates\nDescription-md5: 0123\nFilename: ./pool/sluicectl.deb\nSize: 3\nSHA256: " + strings.Repeat(
		"a", 64) + "\n\n" +
		"Package: tide-data\nVersion: 2026\nArchitecture: all\nDescription: data\n more of it\nFilename: " +
		"pool/tide-data.deb\nSize: 3\nSHA256: " + strings.Repeat("b", 64) + "\n\n"
	each := func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool,
		f func(*archive.Package, []byte) error) error {
		for _, arch := range source.Architectures {
			x := archive.IndexChoice{Component: "core", Arch: arch}
			if !list(x) {
				continue
			}
			return Family{}.ReadIndex(source, x, strings.NewReader(index),
				func(p *archive.Package, raw []byte) error {
					if want(p) {
						return f(p, raw)
					}
					return nil
				})
		}
		return nil
	}
	var files map[string][]byte
	writing := archive.Writing{Source: source,
		Root: &archive.Root{Origin: "Tarn", Suite: "steady", Codename: "heron"}, Note: "barrage/1",
		Time: time.Date(2026, 11, 24, 2, 30, 0, 0, time.UTC), Each: each, Sign: plainKey{},
		Put: func(p string, data []byte) error {
			if _, twice := files[p]; twice {
				return fmt.Errorf("%s is written twice", p)
			}
			files[p] = data
			return nil
		}}
	write := func() map[string][]byte {
		files = map[string][]byte{}
		must.Do(t, (Family{}).Write(writing))
		return files
	}
	calls := faults.Writing(writing, func(w archive.Writing) error {
		files = map[string][]byte{}
		return Family{}.Write(w)
	}, func(call int, err error) {
		if !errors.Is(err, faults.Err) {
			t.Errorf("call %d fails: %v", call, err)
		}
		for _, root := range []string{"Release", "InRelease"} {
			if files["dists/heron/"+root] != nil &&
				files["dists/heron/empty/binary-arm64/Packages.xz"] == nil {
				t.Errorf("call %d fails, and there is a root without its indexes", call)
			}
		}
	})
	if calls < 20 {
		t.Errorf("only %d calls", calls)
	}
	once := write()
	files = once
	for p, data := range write() {
		if !bytes.Equal(files[p], data) {
			t.Errorf("%s differs the second time", p)
		}
	}
	root, err := ParseRelease(files["dists/heron/Release"], "dists/heron/")
	must.Do(t, err)
	if root.Label != "tarn" || root.Origin != "Tarn" || root.Suite != "steady" || root.Codename != "heron" ||
		!root.ByHash || !root.Date.Equal(time.Date(2026, 11, 24, 2, 30, 0, 0, time.UTC)) {
		t.Errorf("%+v", root)
	}
	for _, p := range slices.Sorted(maps.Keys(root.Entries)) {
		e := root.Entries[p]
		data, ok := files[p]
		if !ok || int64(len(data)) != e.Size || fmt.Sprintf("%x", sha256.Sum256(data)) != e.SHA256 {
			t.Errorf("%s is not as the root says", p)
		}
		if !bytes.Equal(files[strings.TrimSuffix(p, p[strings.LastIndexByte(p, '/')+1:])+
			"by-hash/SHA256/"+e.SHA256], data) {
			t.Errorf("%s cannot be asked for by its digest", p)
		}
	}
	if len(root.Entries) != 2*2*3 {
		t.Errorf("%d entries: each component and architecture has three forms, empty ones too",
			len(root.Entries))
	}
	if found := (Family{}).CheckRoot(source, root); len(found) > 0 {
		t.Error(found)
	}
	lists, err := Family{}.Indexes(source, root)
	if err != nil || len(lists) != 4 {
		t.Fatalf("%d lists, %v", len(lists), err)
	}
	var got []string
	text := files["dists/heron/core/binary-amd64/Packages"]
	must.Do(t, (Family{}).ReadIndex(source, lists[0], bytes.NewReader(text),
		func(p *archive.Package, raw []byte) error {
			got = append(got, p.String()+" "+p.Path)
			if bytes.Contains(raw, []byte("Description-md5")) {
				t.Error("a digest of a description that is not carried stays in")
			}
			return nil
		}))
	if s := strings.Join(got, "; "); s !=
		"sluicectl 1.4-1 (amd64) pool/sluicectl.deb; tide-data 2026 (all) pool/tide-data.deb" {
		t.Error(s)
	}
	if !bytes.Contains(text, []byte("Description: data\n more of it\n")) {
		t.Error("a continuation line was lost")
	}
	if other := files["dists/heron/core/binary-arm64/Packages"]; !bytes.Contains(other,
		[]byte("tide-data")) || bytes.Contains(other, []byte("sluicectl")) {
		t.Errorf("arm64: %s", other)
	}
}

func TestAMirrorsSourcesCanBeToldApart(t *testing.T) {
	src := func(name, origin string, tailored bool, priority int) archive.ClientSource {
		return archive.ClientSource{Source: archive.Source{Name: name, Release: "heron",
			Components: []string{"core"}, Architectures: []string{"amd64"}, Languages: []string{"en"}},
			Priority: priority, Tailored: tailored, Origin: origin, Label: origin, Codename: "heron"}
	}
	files, notes, err := archive.ClientFiles(Family{},
		archive.Client{Sources: []archive.ClientSource{src("b", "Tarn", true, 40), src("a", "Tarn", true,
			20)}}, "steady", "http://127.0.0.1:8441/lane/steady/")
	if err != nil || len(notes) > 0 {
		t.Fatal(err, notes)
	}
	preferences := ""
	for _, f := range files {
		if strings.HasSuffix(f.Path, "preferences.d/stockade") {
			preferences = string(f.Data)
		}
	}
	first, second := strings.Index(preferences, "Pin: release o=Tarn,l=a,n=heron\nPin-Priority: 880"),
		strings.Index(preferences, "Pin: release o=Tarn,l=b,n=heron\nPin-Priority: 860")
	if first < 0 || second < first {
		t.Errorf("preferences:\n%s", preferences)
	}
	// Whoever is recognised by what recognises another would get its priority:
	// the two cannot be in one view.
	narrow := func(name string, priority int, label, suite string) archive.ClientSource {
		s := src(name, "Tarn", false, priority)
		s.Label, s.Suite = label, suite
		return s
	}
	for _, c := range []struct {
		name    string
		sources []archive.ClientSource
		refused bool
	}{
		{"two faithful copies of one origin", []archive.ClientSource{src("a", "Tarn", false, 20), src("b",
			"Tarn", false, 40)}, true},
		{"the same with one priority", []archive.ClientSource{src("a", "Tarn", false, 20),
			src("b", "Tarn", false, 20)}, false},
		{"in other letters", []archive.ClientSource{src("a", "Tarn", false, 20), src("b", "tARN", false, 40)},
			true},
		{"one that says more", []archive.ClientSource{narrow("a", 20, "", ""), narrow("b", 40, "Kelp", "x")},
			true},
		{"the better one says more", []archive.ClientSource{narrow("a", 20, "Kelp", "x"), narrow("b", 40, "",
			"")}, true},
		{"both say something of their own", []archive.ClientSource{narrow("a", 20, "Tarn", "steady"), narrow(
			"b", 40, "Kelp", "steady")}, false},
		{"a pattern in place of a name", []archive.ClientSource{src("a", "Tarn", true, 40), narrow("b", 20,
			"*", "*")}, true},
		{"a copy that has the name of a tailored one", []archive.ClientSource{src("a", "Tarn", true, 20),
			narrow("b", 40, "a", "")}, true},
	} {
		_, _, err := archive.ClientFiles(Family{}, archive.Client{Sources: c.sources}, "steady", "/media")
		if f, _ := finding.From(err); (f.Code == "priority.ambiguous") != c.refused ||
			err != nil && !c.refused {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	// A source with nothing for the machine is left out, and that is told.
	files, notes, _ = archive.ClientFiles(Family{}, archive.Client{Architectures: []string{"arm64"},
		Sources: []archive.ClientSource{src("a", "Tarn", true, 20)}}, "steady", "/media")
	if len(notes.With("source.architecture-missing")) != 1 || len(files) != 3 {
		t.Error(notes, len(files))
	}
	if _, _, err := archive.ClientFiles(Family{}, archive.Client{Pins: []archive.Relation{{Name: "a",
		Op: archive.Greater, Version: "1"}}}, "steady", "/media"); err == nil {
		t.Error("a pin that is none was accepted")
	}
}

// What a machine had before is put aside once, loses nothing, and is not read by the client.
func TestTheSetupPutsAsideWhatTheMachineHadBefore(t *testing.T) {
	files, _, err := archive.ClientFiles(Family{}, archive.Client{}, "steady", "/media")
	must.Do(t, err)
	root := t.TempDir()
	write := func(path, text string) {
		t.Helper()
		path = filepath.Join(root, path)
		must.Do(t, errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte(text),
			0o755)))
	}
	for _, f := range files {
		write(f.Path, string(f.Data))
	}
	setUp := func() {
		t.Helper()
		if out, err := exec.Command("sh", filepath.Join(root, "etc/apt/stockade-setup"),
			root).CombinedOutput(); err != nil || len(out) > 0 {
			t.Fatalf("%v\n%s", err, out)
		}
	}
	setUp() // where there is nothing
	own := []string{"etc/apt/sources.list", "etc/apt/sources.list.d/a b.list",
		"etc/apt/sources.list.d/tarn.sources"}
	for _, text := range []string{"first", "second"} { // the second time something wrote them again
		for _, path := range own {
			write(path, text)
		}
		setUp()
	}
	setUp()
	for _, path := range own {
		if _, err := os.Stat(filepath.Join(root, path)); err == nil {
			t.Errorf("%s is still there", path)
		}
		all, err := filepath.Glob(filepath.Join(root, path) + "*.before-stockade.disabled")
		must.Do(t, err)
		first, err := os.ReadFile(filepath.Join(root, path) + ".before-stockade.disabled")
		if err != nil || len(all) != 2 || string(first) != "first" {
			t.Errorf("%s: %v, and the first is %q", path, all, first)
		}
	}
	if _, err := os.Stat(filepath.Join(root, "etc/apt/sources.list.d/stockade.sources")); err != nil {
		t.Error(err)
	}
}
