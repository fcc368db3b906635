package families

import (
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

// filesBelow are those of a machine whose root is a folder.
func filesBelow(t *testing.T, root string) definition.Unpacked {
	t.Helper()
	out := definition.NewUnpacking()
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		raw, err := os.ReadFile(path)
		must.Do(t, err)
		rel, err := filepath.Rel(root, path)
		must.Do(t, err)
		return out.Add(rel, raw)
	})
	must.Do(t, err)
	return out.Files
}

// Machines as they are in the field, right and wrong: what is read of their files, what
// is lost or doubtful, and the description that comes out.
func TestWhatAMachineIsConfiguredWithBecomesADescription(t *testing.T) {
	roots, err := filepath.Glob("testdata/machines/*/etc")
	must.Do(t, err)
	files := 0
	for _, etc := range roots {
		root := filepath.Dir(etc)
		own := filesBelow(t, root)
		files += len(own)
		i, err := definition.ReadMachine(All, own, "/mnt", "amd64")
		must.Do(t, err)
		text, err := i.YAML()
		must.Do(t, err)
		var b strings.Builder
		told := i.Judge(All, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC), func(path string) ([]byte,
			error) {
			return own.Read(strings.TrimPrefix(path, "/mnt"))
		})
		for _, f := range told {
			fmt.Fprintf(&b, "%s: %s %s, %s: %s\n    %s\n", f.Place, f.Severity, f.Code, f.Object, f.Text,
				f.WayOut)
		}
		for _, file := range slices.Sorted(maps.Keys(i.Keys)) {
			fmt.Fprintf(&b, "a certificate of %d lines: %s\n", strings.Count(string(i.Keys[file]), "\n"),
				file)
		}
		if strings.Contains(b.String()+text, "secret") {
			t.Errorf("%s: a password is shown or written", root)
		}
		kept.Same(t, strings.TrimPrefix(root, "testdata/")+".txt", b.String()+text)
		// It can be recorded, once what is told is settled: nothing of it is misread.
		again, found := definition.Read(definition.Text{Name: "site.yaml", Text: text})
		if found.HasErrors() {
			t.Errorf("%s: what was written cannot be read: %v", root, found)
		}
		if changes := definition.Compare(i.Set, again); len(changes) > 0 {
			t.Errorf("%s is read otherwise: %+v", root, changes)
		}
		if i, err = definition.ReadMachine(All, own, "/mnt", "amd64"); err != nil {
			t.Fatal(err)
		}
		if twice, err := i.YAML(); err != nil || twice != text {
			t.Errorf("%s read twice gives another description", root)
		}
	}
	if len(roots) < 50 || files < 80 {
		t.Errorf("%d machines with %d files", len(roots), files)
	}
}

func TestWhichFilesAreAMachinesOwn(t *testing.T) {
	for path, family := range map[string]string{
		"/etc/apt/sources.list": "deb", "apt/sources.list": "deb", "x/kelp.sources": "deb",
		"tarn.list":    "deb",
		"sources.list": "deb", "site.yaml": "", "own/site.yaml": "", "/etc/passwd": "", "brine.repo": "rpm",
		"/mnt/etc/dnf/vars/site": "rpm", "/etc/os-release": "rpm", "os-release": "",
		"/etc/pacman.conf": "alpm",
		"pacman.conf":      "", "/etc/pacman.d/servers": "alpm", "servers": "",
	} {
		for _, name := range All.Names() {
			if r, ok := All[name].(archive.Reading); ok && archive.ReadsFile(r, path) != (name == family) {
				t.Errorf("%s is a file of %s: %v", path, name, name != family)
			}
		}
	}
}

// What is written for machines is read back as the same sources.
func TestWhatIsWrittenForMachinesIsReadBack(t *testing.T) {
	for _, name := range All.Names() {
		r, ok := All[name].(archive.Reading)
		if !ok {
			continue
		}
		for n, c := range machines() {
			files, _, err := c.files(name)
			if err != nil || strings.HasPrefix(c.At, "/") {
				continue // file: is no upstream
			}
			var own []archive.MachineFile
			for _, f := range files {
				if archive.ReadsFile(r, f.Path) {
					own = append(own, archive.MachineFile{Path: f.Path, Name: f.Path, Data: f.Data})
				}
			}
			got := r.ReadConfiguration(own)
			if len(got.Findings) > len(got.Findings.With("import.to-decide")) { // pins
				t.Errorf("%s, machine %d: %v", name, n+1, got.Findings)
			}
			// not every client says it
			said := func(got, want string) bool { return got == "" || got == "./" || got == want }
			// else one keyring for all
			named := slices.ContainsFunc(got.Sources, func(x archive.ConfiguredSource) bool {
				return len(x.KeyFiles) > 0
			})
			written := 0
			for _, s := range c.Sources {
				for _, read := range got.Sources {
					if strings.HasPrefix(read.URLs[0]+"/", c.At+"/"+s.Name+"/") &&
						said(read.Release, s.Release) && len(read.KeyFiles) > 0 == named &&
						read.Unchecked.File == "" &&
						!slices.ContainsFunc(read.Components, func(of string) bool {
							return !slices.Contains(s.Components, of)
						}) {
						written++
					}
				}
			}
			if written != len(got.Sources) || written == 0 && len(c.Architectures) == 0 {
				t.Errorf("%s, machine %d: %d of %d are read back: %+v", name, n+1, written, len(got.Sources),
					got.Findings)
			}
		}
	}
}

func FuzzConfiguration(f *testing.F) {
	for _, seed := range []string{"deb [a=b] http://x y z\n",
		"Types: deb\nURIs: http://x\nSuites: y\n\n z\n", "deb [", ":\n ."} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		for _, name := range All.Names() {
			r, ok := All[name].(archive.Reading)
			if !ok {
				continue
			}
			for _, pattern := range r.Configuration() {
				path := strings.ReplaceAll(pattern, "*", "x")
				i := definition.Import(definition.Machine{Configured: r.ReadConfiguration(
					[]archive.MachineFile{{
						Path: path, Name: path, Data: []byte(text)}}), Architecture: "amd64",
					ReadKey: func(string) ([]byte, error) { return nil, os.ErrNotExist }})
				definition.Check(i.Set, definition.Surroundings{Families: All, Now: time.Now()})
				out, err := i.YAML()
				must.Do(t, err)
				if _, found := definition.Read(definition.Text{Text: out}); found.HasErrors() &&
					len(found.With("define.syntax")) > 0 {
					t.Errorf("what was written is no document: %v\n%s", found, out)
				}
			}
		}
	})
}
