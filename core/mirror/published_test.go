package mirror

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/must"
)

// copies gives a certificate of one signing key that ends in some days, as it was brought in
// and as its owner published it later.
func copies(t *testing.T, w *world, days int) (e *openpgp.Entity, old, now []byte) {
	t.Helper()
	life := uint32(days*24*3600 + 3600)
	made := func() time.Time { return w.now.Add(-time.Hour) }
	config := &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, KeyLifetimeSecs: life, Time: made}
	e, err := openpgp.NewEntity("Brine", "", "desk@brine.example", config)
	must.Do(t, err)
	copied := func() []byte {
		var out bytes.Buffer
		must.Do(t, e.Serialize(&out))
		return out.Bytes()
	}
	old = copied()
	must.Do(t, e.AddUserId("Brine desk", "", "new@brine.example", config))
	return e, old, copied()
}

func read(t *testing.T, data []byte) *trust.Certificate {
	t.Helper()
	certs, err := trust.ReadCertificates(data)
	if err != nil || len(certs) != 1 {
		t.Fatal(certs, err)
	}
	return certs[0]
}

// What upstream publishes of its keys is compared with what was brought in, wherever it lies,
// and changes nothing.
func TestKeysThatUpstreamPublishesAreComparedAndNotBelieved(t *testing.T) {
	all := keys()
	stranger := all[1].Certificate()
	_, old, newer := copies(t, newWorld(t), 400)
	ours := read(t, old)
	known := []trust.Known{{Certificate: all[0].Certificate(), VouchedFor: []string{"tarn", "brine",
		"wrack"}}, {Certificate: ours}}
	both := append(bytes.Clone(newer), stranger.Binary()...)
	keyring := func(name string, data []byte) made.File {
		return made.File{Path: name, Mode: 0o644, Data: data}
	}
	worlds := map[string]func(t *testing.T, data []byte) *world{
		"beside the root of an rpm source": func(t *testing.T, data []byte) *world {
			w := newRPMWorld(t).world
			if data != nil {
				w.files["repodata/repomd.xml.key"] = data
			}
			return w
		},
		"in a deb package": func(t *testing.T, data []byte) *world {
			w := newWorld(t)
			w.repo.Packages = append(w.repo.Packages, made.Deb{Component: "core",
				Name:    "tarn-archive-keyring",
				Version: "1", Arch: "all", Summary: "keys", Packing: "xz", Files: []made.File{
					keyring("/usr/share/keyrings/tarn.gpg", data), keyring("/usr/share/doc/x.gpg",
						stranger.Binary()),
				}})
			w.publish()
			w.source.Want.Packages = []string{"tarn-archive-keyring"}
			return w
		},
		"in an rpm package": func(t *testing.T, data []byte) *world {
			w := newRPMWorld(t)
			w.rpm.Packages = append(w.rpm.Packages, made.RPM{Name: "brine-gpg-keys", Version: "1-1",
				Arch:    "noarch",
				Packing: "zst", Files: []made.File{keyring("/usr/share/doc/x.gpg", stranger.Binary()),
					keyring("/etc/pki/rpm-gpg/RPM-GPG-KEY-brine", data)}})
			w.republish()
			w.source.Want.Packages = []string{"brine-gpg-keys"}
			return w.world
		},
		"in an alpm package": func(t *testing.T, data []byte) *world {
			w := newALPMWorld(t)
			w.alpm.Packages = append(w.alpm.Packages, made.Alpm{Component: "wrack", Name: "wrack-keyring",
				Version: "1-1", Arch: "any", Files: []made.File{
					keyring("/usr/share/pacman/keyrings/wrack.gpg", data),
					keyring("/usr/share/pacman/keyrings/wrack-trusted", []byte("x"))}})
			w.republish()
			w.source.Want.Packages = []string{"wrack-keyring"}
			return w.world
		},
	}
	for where, of := range worlds {
		for _, c := range []struct {
			name string
			data []byte
			says []string
		}{
			{"what is known already", old, nil},
			{"a newer copy and a stranger", both, []string{"a newer copy of " + ours.Fingerprint +
				": the user id Brine desk <new@brine.example> is new",
				") keys that were never imported: " +
					stranger.Fingerprint + " (" + stranger.UserIDs[0] + ")"}},
			{"no certificate", []byte("rubbish"), []string{"cannot be read"}},
		} {
			t.Run(where+": "+c.name, func(t *testing.T) {
				w := of(t, c.data)
				w.source.Keyring = trust.NewKeyring(w.source.Name, known, w.builder.Now)
				out, err := w.build()
				must.Do(t, err)
				found := told(out.Findings, "key.published")
				for i, f := range found {
					if i >= len(c.says) || !strings.Contains(f.Text, c.says[i]) ||
						f.Severity != finding.Note || f.Object != "source "+w.source.Name {
						t.Errorf("%+v", f)
					}
				}
				if len(found) != len(c.says) {
					t.Errorf("%d findings and not %d: %v", len(found), len(c.says), out.Findings)
				}
				if got := w.source.Keyring.Certificate(ours.Fingerprint); len(got.UserIDs) != 1 {
					t.Errorf("it was taken over: %v", got.UserIDs)
				}
			})
		}
	}
	// Without any, nothing is told; with one that ends soon, it matters.
	w := worlds["beside the root of an rpm source"](t, nil)
	if out, err := w.build(); err != nil || len(told(out.Findings, "key.published")) > 0 {
		t.Error(out, err)
	}
	for days, rated := range map[int]finding.Severity{80: finding.Warning, 100: finding.Note} {
		w := newRPMWorld(t)
		e, old, newer := copies(t, w.world, days)
		var signature bytes.Buffer
		must.Do(t, openpgp.ArmoredDetachSign(&signature, e, bytes.NewReader(w.files["repodata/repomd.xml"]),
			&packet.Config{Time: func() time.Time { return w.now.Add(-time.Minute) }}))
		w.files["repodata/repomd.xml.asc"] = signature.Bytes()
		w.files["repodata/repomd.xml.key"] = newer
		w.source.Keyring = trust.NewKeyring("brine", []trust.Known{{Certificate: read(t, old),
			VouchedFor: []string{"brine"}}}, w.builder.Now)
		pub, err := w.builder.Refresh(t.Context(), w.source)
		must.Do(t, err)
		found := told(pub.Findings, "key.published")
		if len(found) != 1 || found[0].Severity != rated || !strings.Contains(found[0].Text,
			"(repodata/repomd.xml.key)") {
			t.Errorf("with a key that ends in %d days: %v", days, found)
		}
	}
}
