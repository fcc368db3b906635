package families

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/trust"
	"stockade/internal/must"
)

// Package files of the real build programs, signed by a real OpenPGP program (testdata of each
// family says how they were made), say what those who made them wrote.
func TestPackagesOfRealBuildProgramsAreRead(t *testing.T) {
	for _, c := range []struct {
		family, glob, key string
		files             int
		identity          archive.Identity
		relations         string // requires, recommends, suggests, conflicts
		provides          string
	}{
		{"deb", "lamp-watch.*.deb", "", 3, archive.Identity{Name: "lamp-watch",
			Version: "2:1.0~rc1-3", Arch: "all"},
			"[libtide2 >= 2.1 relay or bus:any] [tide-tables] [] [lamp-ctl < 1]", "[{lamp-control = 5}]"},
		{"rpm", "pump-meter.[gz][zs]*.rpm", "desk.asc", 2,
			archive.Identity{Name: "pump-meter", Version: "2:1.0~rc1-3", Arch: "noarch"},
			"[pump-desk or not pump-panel libbrine >= 3] [pump-gauge] [] [old-meter < 2 meter <= 1.0]",
			"[{meter-control = 5} {pump-meter = 2:1.0~rc1-3} {/usr/bin/pump-meter  }]"},
		{"rpm", "pump-meter.xz.rpm", "yard.asc", 1,
			archive.Identity{Name: "pump-meter", Version: "2:1.0~rc1-3", Arch: "noarch"},
			"[pump-desk or not pump-panel libbrine >= 3] [pump-gauge] [] [old-meter < 2 meter <= 1.0]",
			"[{meter-control = 5} {pump-meter = 2:1.0~rc1-3} {/usr/bin/pump-meter  }]"},
		{"alpm", "tide-log.pkg.tar.*[tz]", "yard.asc", 3,
			archive.Identity{Name: "tide-log", Version: "1:1.2-3", Arch: "any"},
			"[libecho >= 1.8] [] [paper] [log0 < 2]", "[{log = 2}]"},
	} {
		family, ok := All[c.family]
		if !ok {
			t.Fatal(c.family)
		}
		folder := filepath.Join("..", "archive", c.family, "testdata")
		files, err := filepath.Glob(filepath.Join(folder, c.glob))
		if err != nil || len(files) != c.files {
			t.Fatalf("%v %v", files, err)
		}
		for _, name := range files {
			t.Run(filepath.Base(name), func(t *testing.T) {
				data, err := os.ReadFile(name)
				must.Do(t, err)
				signature, err := os.ReadFile(name + ".sig")
				if err != nil && !os.IsNotExist(err) {
					t.Fatal(err)
				}
				look := func(data []byte) (archive.Inspected, error) {
					return family.Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(data),
						Signature: signature}, keyring(t, folder, c.key))
				}
				in, err := look(data)
				if err != nil || in.Identity != c.identity {
					t.Fatalf("%+v %v", in.Identity, err)
				}
				signed := c.key != "" && (c.family != "alpm" || signature != nil)
				if (in.Signer.Fingerprint != "") != signed {
					t.Errorf("signer %q", in.Signer.Fingerprint)
				}
				keys, ok := family.(archive.KeyPackages)
				if !ok {
					t.Fatal("the family's packages are not read for keyrings")
				}
				none := func(path string, _ []byte) { t.Errorf("%s is no keyring", path) }
				if err := keys.ReadKeys(bytes.NewReader(data), none); err != nil {
					t.Errorf("for keyrings it is read to its end: %v", err)
				}
				changed := bytes.Clone(data)
				changed[len(changed)-9] ^= 1
				if _, err := look(changed); signed && err == nil {
					t.Error("a changed package was taken")
				}
				house, ok := family.(archive.Housed)
				if !ok {
					t.Fatal("the family takes no packages by hand")
				}
				x, err := house.Examine(archive.Source{Name: "s", Components: []string{"s"},
					Architectures: []string{"x86_64", "amd64"}}, bytes.NewReader(data))
				must.Do(t, err)
				r, err := x.Package.Needs.Relations()
				must.Do(t, err)
				if got := fmt.Sprint(r.Requires, r.Recommends, r.Suggests, r.Conflicts); got != c.relations {
					t.Errorf("relations %s", got)
				}
				if got := fmt.Sprint(x.Package.Provides); got != c.provides {
					t.Errorf("provides %s", got)
				}
			})
		}
	}
}

// keyring has the key of a file, vouched for.
func keyring(t *testing.T, folder, name string) *trust.Keyring {
	t.Helper()
	if name == "" {
		return trust.NewKeyring("s", nil, time.Now)
	}
	text, err := os.ReadFile(filepath.Join(folder, name))
	must.Do(t, err)
	certs, err := trust.ReadCertificates(text)
	must.Do(t, err)
	return trust.NewKeyring("s", []trust.Known{{Certificate: certs[0], VouchedFor: []string{"s"}}}, time.Now)
}
