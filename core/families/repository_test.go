package families

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"path"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

// What is another each time: digests, and signatures.
var sums = regexp.MustCompile(`[0-9a-f]{64,128}|[A-Za-z0-9+/=]{200,}`)

// repository reads all of one, as a build does, and writes down what is read.
type repository struct {
	strings.Builder
	family archive.Family
	source archive.Source
	files  map[string][]byte
	v      archive.Verifier
}

// fields writes what is not empty of a value.
func (r *repository) fields(t *testing.T, what string, v any) {
	raw, err := json.Marshal(v)
	must.Do(t, err)
	var of map[string]any
	must.Do(t, json.Unmarshal(raw, &of))
	fmt.Fprintf(r, "%s\n", what)
	for _, name := range slices.Sorted(maps.Keys(of)) {
		text, err := json.Marshal(of[name])
		must.Do(t, err)
		if !slices.Contains([]string{`""`, "0", "null", "false", "{}", "-1",
			`"0001-01-01T00:00:00Z"`}, string(text)) {
			fmt.Fprintf(r, "  %s: %s\n", name, text)
		}
	}
}

// plain gives a file of an index, decompressed.
func (r *repository) plain(t *testing.T, x archive.IndexFile) io.Reader {
	t.Helper()
	data, ok := r.files[x.Path]
	if !ok {
		t.Fatalf("%s is not there", x.Path)
	}
	plain, err := archive.Decompress(bytes.NewReader(data), x.Compression, 1<<24)
	must.Do(t, err)
	return plain
}

func (r *repository) read(t *testing.T) *archive.Root {
	t.Helper()
	var root *archive.Root
	err := fmt.Errorf("nothing is there")
	for _, choice := range r.family.Roots(r.source) {
		if !slices.ContainsFunc(choice,
			func(f archive.RootFile) bool { return r.files[f.Path] == nil }) && err != nil {
			root, err = r.family.ReadRoot(r.source, choice, r.files, r.v)
		}
	}
	must.Do(t, err)
	var entries []string
	for at := range root.Entries {
		entries = append(entries, sums.ReplaceAllString(at, "SUM"))
	}
	slices.Sort(entries)
	shown := *root
	shown.Entries, shown.Signer = nil, archive.Signer{}
	r.fields(t, "root", shown)
	fmt.Fprintf(r, "  names %s\n", strings.Join(entries, " "))
	other := r.source
	other.Release, other.Components, other.Architectures = "osprey", []string{"dock"},
		[]string{"riscv64", "i686"}
	r.WriteString(kept.Findings(r.family.CheckRoot(r.source, root)) + "as another\n" +
		kept.Findings(r.family.CheckRoot(other, root)))
	var beside []string
	for _, c := range r.family.Companions(r.source, root) {
		beside = append(beside,
			sums.ReplaceAllString(fmt.Sprintf("beside it %s, required %v, at %v, signed by %q\n", c.Path,
				c.Required, c.Places, c.Signature), "SUM"))
	}
	slices.Sort(beside)
	r.WriteString(strings.Join(beside, ""))
	lists, err := r.family.Indexes(r.source, root)
	must.Do(t, err)
	for _, x := range lists {
		for _, f := range x.Files {
			fmt.Fprintf(r, "list of %q %q: %s, asked for as %v\n", x.Component, x.Arch, f.Path, f.Paths)
		}
		must.Do(t, r.family.ReadIndex(r.source, x, r.plain(t, x.Files[0]),
			func(p *archive.Package, _ []byte) error {
				r.fields(t, "package "+p.String(), p)
				needs, err := p.Needs.Relations()
				of := reflect.ValueOf(needs)
				for i := range of.NumField() {
					if of.Field(i).Len() > 0 {
						fmt.Fprintf(r, "  %s %v\n", strings.ToLower(of.Type().Field(i).Name), of.Field(i))
					}
				}
				if f, ok := r.family.(archive.Filed); ok {
					fmt.Fprintf(r, "in lists of files %q\n", f.FileKey(p))
				}
				if id := r.family.Identify(p); id.Name != p.Name {
					t.Errorf("%+v", id)
				}
				return err
			}))
	}
	if f, ok := r.family.(archive.Filed); ok {
		for _, x := range f.FileLists(r.source, root) {
			fmt.Fprintf(r, "files in %s\n", x.Path)
			must.Do(t, f.ReadFiles(r.plain(t, x), func(key, path string) error {
				fmt.Fprintf(r, "  %s: %s\n", key, path)
				return nil
			}))
		}
	}
	return root
}

// Repositories of made-up upstreams in each family, with all that a package can say, and the same
// packages added to a house source: what is read of either, down to the last field.
func TestAllThatIsReadOfARepository(t *testing.T) {
	then := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	key := made.Keys(made.Owner{Name: "Tarn archive",
		Age: 10000 * time.Hour})[0].At(func() time.Time { return then })
	debs := made.DebRepository{Origin: "Tarn", Label: "Tarn", Suite: "stable", Codename: "heron", Date: then,
		ValidUntil: then.AddDate(90, 0, 0), Architectures: []string{"amd64", "arm64"},
		Components: []string{"core", "field"},
		ByHash:     true, Contents: true, Packages: []made.Deb{
			{Component: "core", Name: "sluicectl", Version: "2:1.4-2", Arch: "amd64",
				Summary: "Moves gates", Fields: allOfDeb,
				Files: []made.File{{Path: "/usr/bin/sluicectl", Mode: 0o755, Data: []byte("x")}}},
			{Component: "core", Name: "sluice-doc", Version: "1.4", Arch: "all", Summary: "Says how",
				Files: []made.File{{Path: "/usr/share/doc/sluice doc", Mode: 0o644, Data: []byte("y")}}},
			{Component: "field", Name: "buoy", Version: "3", Arch: "arm64", Summary: "Floats"}}}
	rpms := made.RPMRepository{Name: "brine", CPE: "cpe:/o:brine:el:9", Distro: "Brine 9", Date: then,
		Unsigned: true,
		Packages: []made.RPM{{Name: "pumpctl", Version: "1:2.0-1", Arch: "x86_64",
			Summary:  "Runs <pumps> & \"gates\"",
			Licence:  "MIT",
			Provides: []string{"pump-control = 2", "config(pumpctl)"},
			Requires: []string{"libbrine >= 3", "/bin/sh",
				"(panel if desk else (shelf or rail))"}, Conflicts: []string{"oldpump < 2"},
			Obsoletes:  []string{"pump1 <= 1:1"},
			Recommends: []string{"gauge"}, Suggests: []string{"chart > 1"},
			Supplements: []string{"(desk and panel)"},
			Enhances:    []string{"shelf"}, Files: []made.File{{Path: "/usr/bin/pumpctl", Mode: 0o755,
				Data: []byte("x")},
				{Path: "/usr/share/pump/readme", Mode: 0o644, Data: []byte("y")}}},
			{Name: "pump-data", Version: "1-1", Arch: "noarch", Summary: "Tables",
				Base: "https://far.brine.example/el/"},
			{Name: "pump-x", Version: "1-1", Arch: "i686"},
			{Name: "pump-p", Version: "1-1", Arch: "ppc64le"}}}
	alpms := made.AlpmRepository{Components: []string{"core"}, Arch: "x86_64", Date: then, Embed: true,
		Packages: []made.Alpm{
			{Component: "core", Name: "tide-log", Version: "1:1.2-3", Arch: "x86_64", Summary: "Keeps tides",
				Depends: []string{
					"libecho>=1.8", "paper"}, Provides: []string{"log=2", "pen"},
				Conflicts: []string{"log0<2"},
				Replaces:  []string{"log1"},
				OptDepend: []string{"ink>2: to write", "quill:", "pad"}, Groups: []string{"desk"},
				Files: []made.File{{Path: "/usr/bin/tide-log",
					Mode: 0o755, Data: []byte("x")}}, Fields: "xdata = x\n"},
			{Component: "core", Name: "tide-map", Version: "1-1", Arch: "any", Summary: "Shows tides"},
			{Component: "core", Name: "tide-arm", Version: "1-1", Arch: "armv7h"}}}
	for name, c := range map[string]struct {
		source  archive.Source
		publish func(archive.SigningKey) (map[string][]byte, error)
	}{
		"deb": {archive.Source{Name: "tarn", Release: "heron", Components: []string{"core", "field"},
			Architectures: []string{"amd64", "arm64"}, Languages: []string{"en"}}, debs.Publish},
		"rpm": {archive.Source{Name: "brine", Release: "9", Architectures: []string{"x86_64"}}, rpms.Publish},
		"alpm": {archive.Source{Name: "wrack", Components: []string{"core"},
			Architectures: []string{"x86_64"}},
			alpms.Publish},
	} {
		files, err := c.publish(key)
		must.Do(t, err)
		v := trust.NewKeyring(c.source.Name, []trust.Known{{Certificate: key.Certificate(),
			VouchedFor: []string{c.source.Name, "house"}}}, time.Now)
		r := &repository{family: All[name], source: c.source, files: files, v: v}
		r.read(t)
		var added []archive.Examined
		house := repository{family: r.family, source: c.source, files: map[string][]byte{}, v: v}
		house.source.Name, house.source.Components = "house",
			house.source.Components[:min(1, len(c.source.Components))]
		for _, at := range slices.Sorted(maps.Keys(files)) {
			if !strings.Contains(path.Base(at), ".deb") && !strings.HasSuffix(at, ".rpm") &&
				!strings.HasSuffix(at, ".zst") {
				continue
			}
			x, err := r.family.(archive.Housed).Examine(house.source, bytes.NewReader(files[at]))
			if err != nil {
				fmt.Fprintf(&house, "not added: %v\n", err)
				continue
			}
			added, house.files[x.Package.Path] = append(added, x), files[at]
		}
		must.Do(t, r.family.Write(archive.Writing{Source: house.source, Time: then, Note: "house", Sign: key,
			Root: &archive.Root{Origin: "Stockade house source", Label: "house", Codename: c.source.Release},
			Each: func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool,
				f func(*archive.Package, []byte) error) error {
				for _, x := range added {
					if list(archive.IndexChoice{Component: x.Package.Component}) && want(x.Package) {
						must.Do(t, f(x.Package, x.Raw))
					}
				}
				return nil
			},
			Package: func(p *archive.Package) (io.ReadSeekCloser, error) {
				return readSeekCloser{bytes.NewReader(house.files[p.Path])}, nil
			},
			Put: func(p string, data []byte) error { house.files[p] = data; return nil }}))
		house.read(t)
		kept.Same(t, name+"-repository.txt",
			sums.ReplaceAllString(r.String()+"# of the house\n"+house.String(), "SUM"))
	}
}

type readSeekCloser struct{ *bytes.Reader }

func (readSeekCloser) Close() error { return nil }

const allOfDeb = `Source: sluice (1.4)
Depends: libtide2 (>= 2.1) | libtide1, desk:any
Pre-Depends: lock (= 1)
Recommends: panel
Suggests: chart (<< 3)
Enhances: rail
Breaks: oldgate (<= 1)
Conflicts: gate0
Replaces: oldgate
Provides: gate-control (= 5), gates
Section: admin
Priority: required
Essential: yes
Protected: yes
Multi-Arch: foreign
Homepage: https://tarn.example
Tag: role::program
X-Local: kept
`
