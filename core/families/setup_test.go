package families

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/machine"
	"stockade/internal/made"
	"stockade/internal/must"
)

// A key that a lane does not need any more, or that was barred, leaves the keyring of machines whose
// client has one for all repositories, when the setup is run again.
func TestTheSetupDeletesKeysThatNobodyNeedsAnyMore(t *testing.T) {
	var keys []archive.ClientKey
	for _, k := range made.Keys(made.Owner{Name: "Tarn archive"}, made.Owner{Name: "Kelp Drives"},
		made.Owner{Name: "Brine Drives"}, made.Owner{Name: "Wrack"}) {
		c := k.Certificate()
		keys = append(keys, archive.ClientKey{Fingerprint: c.Fingerprint, Armoured: c.Armoured()})
	}
	for family, c := range map[string]struct {
		setup  string
		knows  func(root string) string // the keys that the client trusts
		naming func(fingerprint string) string
	}{
		"alpm": {"etc/pacman.d/stockade-setup", func(root string) string {
			out, _ := exec.Command("gpg", "--homedir", root+"/etc/pacman.d/gnupg", "--no-permission-warning",
				"--with-colons", "--list-keys").Output()
			return string(out)
		}, func(f string) string { return "fpr:::::::::" + f },
		},
		"rpm": {"etc/pki/rpm-gpg/stockade-setup", func(root string) string {
			c := exec.Command("rpm", "--root", root, "-qa", "gpg-pubkey")
			c.Env = append(os.Environ(), "HOME="+root)
			out, _ := c.Output()
			return string(out)
		}, func(f string) string { return "gpg-pubkey-" + strings.ToLower(f[len(f)-8:]) + "-" }},
	} {
		t.Run(family, func(t *testing.T) {
			t.Parallel()
			root, err := os.MkdirTemp("/var/tmp", "setup-")
			must.Do(t, err)
			t.Cleanup(func() {
				exec.Command("gpgconf", "--homedir", root+"/etc/pacman.d/gnupg", "--kill", "all").Run()
				os.RemoveAll(root)
			})
			setUp := func(untrusted []string, trusted ...archive.ClientKey) {
				t.Helper()
				conf, found := All[family].Configure(archive.Client{Sources: []archive.ClientSource{{
					Source: archive.Source{Name: "wrack", Family: family, Components: []string{"wrack"},
						Architectures: []string{"x86_64"}}, Keys: trusted}}})
				if found.HasErrors() {
					t.Fatal(found)
				}
				conf.Untrusted = untrusted
				files, err := archive.PrintFiles(All[family], conf, "steady", "/media/stick")
				must.Do(t, err)
				_, _, err = machine.WriteFiles(root, []string{"etc"}, files)
				must.Do(t, err)
				cmd := exec.Command("sh", filepath.Join(root, c.setup), root)
				cmd.Env = append(os.Environ(), "HOME="+root)
				if out, err := cmd.CombinedOutput(); err != nil {
					t.Fatalf("setup: %v\n%s", err, out)
				}
			}
			check := func(when string, want ...bool) {
				t.Helper()
				text := c.knows(root)
				for i, w := range want {
					if got := strings.Contains(text, c.naming(keys[i].Fingerprint)); got != w {
						t.Errorf("%s, key %d: got known %v, want %v of\n%s", when, i, got, w, text)
					}
				}
			}
			setUp(nil, keys[0], keys[1], keys[2])
			check("at first", true, true, true, false)
			setUp(nil, keys[0], keys[2])
			check("when one is not needed", true, false, true, false)
			setUp([]string{keys[2].Fingerprint, keys[1].Fingerprint}, keys[0], keys[3])
			check("when one was barred", true, false, false, true)
			// What an older setup made known, which kept no record.
			must.Do(t, os.Remove(filepath.Join(root, filepath.Dir(c.setup), "stockade-trusted")))
			setUp([]string{keys[3].Fingerprint}, keys[0])
			check("when one was barred and there is no record", true, false, false, false)
		})
	}
}
