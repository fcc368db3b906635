package machine

import (
	"errors"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/made/faults"
	"stockade/internal/must"
)

// sealed makes an edition of two sources, signed by two keys, that was proved for a group.
func sealed(t *testing.T, tarn, kelp *trust.Certificate) *edition.Sealed {
	t.Helper()
	return sealedWith(t, []edition.Source{of("tarn", "official", tarn.Fingerprint),
		of("kelp", "vendor", kelp.Fingerprint)},
		[]byte(`{"source":"tarn","name":"sluicectl","version":"1.4-1","arch":"amd64"}`+"\n"), nil, tarn, kelp)
}

// of is a source of an edition.
func of(name, standing, key string) edition.Source {
	return edition.Source{Source: archive.Source{Name: name, Family: "deb", Release: "heron",
		Components: []string{"core"}, Architectures: []string{"amd64", "i386"}}, Standing: standing,
		Codename: "heron", Keys: []string{key}}
}

// sealedWith makes an edition with lists of packages and advisories.
func sealedWith(t *testing.T, sources []edition.Source, list, advisories []byte,
	keys ...*trust.Certificate) *edition.Sealed {
	t.Helper()
	dir := t.TempDir()
	store, err := pool.Open(filepath.Join(dir, "pool"), filepath.Join(dir, "tmp"))
	must.Do(t, err)
	site := made.Keys(made.Owner{Name: "Skerry Reach"})[0]
	e := &edition.Edition{Format: edition.ListBySource, Mirror: "barrage", Number: 3,
		Created: time.Now().UTC(), SiteKey: site.Certificate().Fingerprint, Sources: sources,
		Views: []edition.View{{Group: "gatehouse", Sources: []string{"tarn", "kelp"},
			Architectures: []string{"amd64"}, Pins: []string{"sluicectl = 1.4-1"}}}}
	files := edition.NewCollection()
	record, err := edition.About(e, append(keys, site.Certificate()), list, advisories, nil, files,
		store.Add)
	must.Do(t, err)
	m, err := files.Manifest(store.Add)
	must.Do(t, err)
	must.Do(t, edition.Seal(disk.OS, dir, e, m, record, site))
	out, err := edition.Open(edition.Folder(dir, e.ID()), []*trust.Certificate{site.Certificate()}, store)
	must.Do(t, err)
	return out
}

func TestWhatAMachineGetsAndWhatIsToldOfIt(t *testing.T) {
	keys := made.Keys(made.Owner{Name: "Tarn archive"}, made.Owner{Name: "Kelp Drives"})
	tarn, kelp := keys[0].Certificate(), keys[1].Certificate()
	e := sealed(t, tarn, kelp)
	good := func() Request {
		return Request{Group: "gatehouse", Edition: e, At: "/mnt/usb", Families: families,
			Definition: definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"},
				Lane: "steady", Pins: []string{"sluicectl = 1.4-1"}},
			Certificates: map[string]*trust.Certificate{tarn.Fingerprint: tarn, kelp.Fingerprint: kelp},
			Distrusted:   func(string, string) string { return "" }}
	}
	for _, c := range []struct {
		name   string
		change func(r *Request)
		code   string // of what is told, or of the error
		object string
		says   string
		fails  bool
		has    string // in the files
		lacks  string
	}{
		{"as it is", func(*Request) {}, "", "", "", false, "Suites: heron", "kelp-gone"},
		{"a foreign architecture", func(r *Request) { r.Definition.Foreign = []string{"i386"} },
			"mirror.not-proved", "group gatehouse", "was not proved for this group", false, "i386", ""},
		{"no architectures", func(r *Request) { r.Definition.Architectures = nil }, "mirror.not-proved",
			"group gatehouse", "was not proved", false, "tarn", ""},
		{"another pin", func(r *Request) { r.Definition.Pins = []string{"sluicectl = 2-1"} },
			"pin.no-match", "group gatehouse",
			"sluicectl = 2-1 is not in barrage/3", false, "sluicectl", ""},
		{"no pin", func(r *Request) { r.Definition.Pins = nil }, "mirror.not-proved", "group gatehouse",
			"was not proved", false, "", "1.4-1"},
		{"a pin that is none", func(r *Request) { r.Definition.Pins = []string{"a=1"} }, "", "",
			"put spaces", true, "", ""},
		{"another group", func(r *Request) { r.Group = "relay" }, "mirror.not-proved", "group relay",
			"was not proved", false, "tarn", ""},
		{"another release", func(r *Request) { r.Definition.Release = "ibis" }, "source.release-unsupported",
			"group gatehouse", "its machines cannot use the source tarn:", false, "kelp",
			"URIs: file:/mnt/usb/tarn"},
		{"nothing that is for it", func(r *Request) { r.Definition.Architectures = []string{"riscv64"} },
			"source.release-unsupported", "group gatehouse",
			"cannot use any source of barrage/3: tarn is omitted: the source has packages for", true, "",
			""},
		{"another family", func(r *Request) { r.Definition.Family = "rpm" }, "source.release-unsupported",
			"group gatehouse", "its machines cannot use any source of barrage/3", true, "", ""},
		{"an address that is none", func(r *Request) { r.At = "usb" }, "define.bad-value", "",
			"neither a URL nor", true, "", ""},
		{"a lane that is none", func(r *Request) { r.Definition.Lane = "a b" }, "define.bad-value", "",
			"the lane", true, "", ""},
		{"a key that was barred since", func(r *Request) {
			r.Distrusted = func(f, source string) string {
				return map[bool]string{true: "is barred (stolen)"}[f == kelp.Fingerprint && source == "kelp"]
			}
		}, "key.barred", "source kelp",
			", because it is barred (stolen). What only this key signed cannot be installed", false,
			"tarn", ""},
		{"no key left", func(r *Request) {
			r.Distrusted = func(f, source string) string {
				return map[bool]string{true: "is barred (stolen)"}[f == kelp.Fingerprint]
			}
		}, "key.missing", "source kelp", "no key is left", false, "tarn", ""},
		{"a certificate that is gone", func(r *Request) { delete(r.Certificates, tarn.Fingerprint) },
			"key.missing", "source tarn", "the certificate " + tarn.Fingerprint, false, "kelp", ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := good()
			c.change(&r)
			files, found, err := ClientFiles(r)
			if (err != nil) != c.fails {
				t.Fatalf("%v", err)
			}
			if c.fails {
				f, _ := finding.From(err)
				if !strings.Contains(err.Error(), c.says) || string(f.Code) != c.code ||
					f.Object != c.object ||
					files != nil || c.code == "source.release-unsupported" && f.Severity != finding.Error {
					t.Errorf("%v", err)
				}
				return
			}
			var text strings.Builder
			for _, f := range files {
				text.WriteString(f.Path + "\n" + string(f.Data) + "\n")
			}
			if !strings.Contains(text.String(), c.has) || c.lacks != "" && strings.Contains(text.String(),
				c.lacks) {
				t.Errorf("%s", text.String())
			}
			told := c.code == "" && len(found) == 0
			for _, f := range found {
				told = told || string(f.Code) == c.code && f.Object == c.object &&
					strings.Contains(f.Text, c.says)
			}
			if !told {
				t.Errorf("%v", found)
			}
		})
	}
}

// A file that another program made keeps its mode beside ours, and comes back with it.
func TestAFileOfSomebodyElsesKeepsItsMode(t *testing.T) {
	root := t.TempDir()
	path := filepath.Join(root, "etc", "auth")
	must.Do(t, errors.Join(os.MkdirAll(filepath.Dir(path), 0o755), os.WriteFile(path, []byte("secret"),
		0o600)))
	mode := func(path string) os.FileMode {
		info, err := os.Stat(path)
		must.Do(t, err)
		return info.Mode().Perm()
	}
	for i, files := range [][]archive.ClientFile{{file("etc/auth", "ours")},
		{file("etc/auth", "ours anew")}, nil} {
		if _, _, err := WriteFiles(root, []string{"etc"}, files); err != nil {
			t.Fatal(err)
		}
		if i < 2 {
			if mode(path) != 0o644 || mode(path+before) != 0o600 || read(t, path+before) != "secret" {
				t.Errorf("%d: %o %o", i, mode(path), mode(path+before))
			}
		} else if mode(path) != 0o600 || read(t, path) != "secret" {
			t.Errorf("%o %s", mode(path), read(t, path))
		}
	}
}

// Each call of the disk fails once while files are written for a machine: every file is
// what it was or what it is to be, the fault is told, and the next try does all of it.
func TestEachFaultOfTheDiskWhileWritingForAMachine(t *testing.T) {
	begin := func(fails int) (*faults.Disk, string) {
		root := t.TempDir()
		must.Do(t, errors.Join(os.MkdirAll(filepath.Join(root, "etc"), 0o755),
			os.WriteFile(filepath.Join(root, "etc", "list"), []byte("by hand"), 0o644)))
		if _, _, err := WriteFiles(root, []string{"etc"}, []archive.ClientFile{file("etc/old", "old"),
			file("etc/key", "first")}); err != nil {
			t.Fatal(err)
		}
		return &faults.Disk{System: disk.OS, Root: root, Fails: fails, With: syscall.ENOSPC}, root
	}
	files := []archive.ClientFile{file("etc/key", "second"), file("etc/list", "ours"), file("etc/deep/er",
		"new")}
	states := map[string][]string{"etc/key": {"first", "second"}, "etc/list": {"by hand", "ours"},
		"etc/deep/er": {"", "new"}, "etc/old": {"old", ""}}
	on, root := begin(0)
	if _, _, err := WriteFilesOn(on, root, []string{"etc"}, files); err != nil {
		t.Fatal(err)
	}
	calls := on.Calls()
	rest := calls // what the list of what was written says is so before it says it
	for _, call := range []string{"mkdir etc/deep", "sync etc/deep", "remove etc/old", "sync etc",
		"open var/lib/stockade/written.stockade-new", "sync var/lib/stockade", "sync var/lib"} {
		i := slices.Index(rest, call)
		if i < 0 {
			t.Fatalf("%q is not called behind the one before it:\n%s", call, strings.Join(calls, "\n"))
		}
		rest = rest[i+1:]
	}
	for fails := 1; fails <= len(calls); fails++ {
		on, root := begin(fails)
		_, _, err := WriteFilesOn(on, root, []string{"etc"}, files)
		if f, _ := finding.From(err); err != nil && f.Code != finding.FaultCode {
			t.Errorf("%s: %v", calls[fails-1], err)
		}
		for path, may := range states {
			data, rerr := os.ReadFile(filepath.Join(root, path))
			if got := string(data); got != may[0] && got != may[1] || err == nil && got != may[1] {
				t.Errorf("%s: %s has %q, %v", calls[fails-1], path, got, rerr)
			}
		}
		if _, _, err := WriteFiles(root, []string{"etc"}, files); err != nil {
			t.Errorf("%s: the next try: %v", calls[fails-1], err)
		}
		for path, may := range states {
			data, err := os.ReadFile(filepath.Join(root, path)) // what is to be gone has nothing
			if errors.Is(err, os.ErrNotExist) != (may[1] == "") || string(data) != may[1] {
				t.Errorf("%s: after the next try %s has %q", calls[fails-1], path, data)
			}
		}
		if got := read(t, filepath.Join(root, "etc/list"+before)); got != "by hand" {
			t.Errorf("%s: what stood there before: %q", calls[fails-1], got)
		}
	}
}

// Keys that machines must not trust any more are those barred or retired, and former keys of the site,
// but none that a source still needs.
func TestWhichKeysMachinesMustNotTrustAnyMore(t *testing.T) {
	r := Request{Barred: []string{"AA", "BB", "CC"}, Former: []string{"DD", "AA", "EE"}, Site: []string{"EE"}}
	needed := map[string][]archive.ClientKey{"tarn": {{Fingerprint: "BB"}}, "kelp": nil}
	if got := r.untrusted(needed); !slices.Equal(got, []string{"AA", "CC", "DD"}) {
		t.Errorf("got %q, want AA, CC and DD", got)
	}
}
