package trust

import (
	"bytes"
	"crypto"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
)

var now = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)

func at(t time.Time) func() time.Time { return func() time.Time { return t } }

// ed makes a small, quick key.
func ed(t testing.TB, made time.Time, lifetime time.Duration) *openpgp.Entity {
	t.Helper()
	c := &packet.Config{
		Algorithm:       packet.PubKeyAlgoEdDSA,
		DefaultHash:     crypto.SHA256,
		Time:            at(made),
		KeyLifetimeSecs: uint32(lifetime.Seconds()),
	}
	e, err := openpgp.NewEntity("Tarn archive", "", "archive@tarn.example", c)
	if err != nil {
		t.Fatal(err)
	}
	return e
}

func signer(e *openpgp.Entity, when time.Time) *SiteKey { return &SiteKey{entity: e, now: at(when)} }

func cert(t testing.TB, e *openpgp.Entity) *Certificate {
	t.Helper()
	var b bytes.Buffer
	if err := e.Serialize(&b); err != nil {
		t.Fatal(err)
	}
	list, err := ReadCertificates(b.Bytes())
	if err != nil {
		t.Fatal(err)
	}
	return list[0]
}

func TestSignaturesCountOnlyByTheRules(t *testing.T) {
	text := []byte("Suite: steady\n")
	long := 1000 * 24 * time.Hour
	for _, c := range []struct {
		name, code string
		run        func() error
	}{
		{"vouched for this source", "", func() error {
			e := ed(t, now.Add(-long/2), 0)
			sig, _ := signer(e, now.Add(-time.Hour)).DetachSign(text, true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"binary signature", "", func() error {
			e := ed(t, now.Add(-long/2), 0)
			sig, _ := signer(e, now.Add(-time.Hour)).DetachSign(text, false)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"nobody brought the key in", "content.signature-bad", func() error {
			sig, _ := signer(ed(t, now.Add(-long/2), 0), now).DetachSign(text, true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, ed(t, now.Add(-long/2), 0)), VouchedFor: []string{"tarn"}}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"vouched for another source", "key.unvouched", func() error {
			e := ed(t, now.Add(-long/2), 0)
			sig, _ := signer(e, now).DetachSign(text, true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"brine"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"barred", "key.barred", func() error {
			e := ed(t, now.Add(-long/2), 0)
			sig, _ := signer(e, now).DetachSign(text, true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: "lost"}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"expired", "key.expired", func() error {
			e := ed(t, now.Add(-48*time.Hour), 24*time.Hour)
			sig, _ := signer(e, now.Add(-40*time.Hour)).DetachSign(text, true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"revoked", "key.revoked", func() error {
			e := ed(t, now.Add(-long/2), 0)
			sig, _ := signer(e, now.Add(-time.Hour)).DetachSign(text, true)
			if err := e.RevokeKey(packet.KeyCompromised, "stolen from the desk",
				&packet.Config{Time: at(now.Add(-time.Minute))}); err != nil {
				return err
			}
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"dated before the key was made", "content.signature-bad", func() error {
			e := ed(t, now.Add(-time.Hour), 0)
			c := cert(t, e)
			sig, _ := signer(e, now.Add(-48*time.Hour)).DetachSign(text, true)
			_, err := NewKeyring("tarn", []Known{{Certificate: c, VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"dated in the future", "content.signature-bad", func() error {
			e := ed(t, now.Add(-long/2), 0)
			sig, _ := signer(e, now.Add(48*time.Hour)).DetachSign(text, true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"over another text", "content.signature-bad", func() error {
			e := ed(t, now.Add(-long/2), 0)
			sig, _ := signer(e, now).DetachSign([]byte("Suite: other\n"), true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"empty", "content.signature-bad", func() error {
			_, err := NewKeyring("tarn", nil, at(now)).Detached(text, nil)
			return err
		}},
		{"by a subkey that may not sign", "key.cannot-sign", func() error {
			e := ed(t, now.Add(-long/2), 0)
			if err := e.AddSigningSubkey(&packet.Config{Algorithm: packet.PubKeyAlgoEdDSA,
				Time: at(now.Add(-long / 2))}); err != nil {
				return err
			}
			sig, _ := signer(e, now).DetachSign(text, true)
			sub := &e.Subkeys[len(e.Subkeys)-1]
			sub.Sig.FlagSign, sub.Sig.FlagAuthenticate, sub.Sig.EmbeddedSignature = false, true, nil
			if err := sub.Sig.SignKey(sub.PublicKey, e.PrivateKey,
				&packet.Config{Time: at(now.Add(-long / 2))}); err != nil {
				return err
			}
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
		{"by a signing subkey", "", func() error {
			e := ed(t, now.Add(-long/2), 0)
			if err := e.AddSigningSubkey(&packet.Config{Algorithm: packet.PubKeyAlgoEdDSA,
				Time: at(now.Add(-long / 2))}); err != nil {
				return err
			}
			sig, _ := signer(e, now).DetachSign(text, true)
			_, err := NewKeyring("tarn",
				[]Known{{Certificate: cert(t, e), VouchedFor: []string{"tarn"}, Barred: ""}},
				at(now)).Detached(text, sig)
			return err
		}},
	} {
		t.Run(c.name, func(t *testing.T) {
			err := c.run()
			f, _ := finding.From(err)
			if c.code == "" && err != nil || f.Code != c.code {
				t.Errorf("%v, and %q was expected", err, c.code)
			}
		})
	}
}

func TestAGoodSignatureBesideAnUnknownOneIsAcceptedAndTold(t *testing.T) {
	text := []byte("Suite: steady\n")
	good, other := ed(t, now.Add(-time.Hour), 0), ed(t, now.Add(-time.Hour), 0)
	a, _ := signer(other, now).DetachSign(text, false)
	b, _ := signer(good, now).DetachSign(text, false)
	by, err := NewKeyring("tarn",
		[]Known{{Certificate: cert(t, good), VouchedFor: []string{"tarn"}, Barred: ""}},
		at(now)).Detached(text, append(a, b...))
	if err != nil || by.Fingerprint != cert(t, good).Fingerprint || len(by.Others) != 1 {
		t.Errorf("by %+v, error %v", by, err)
	}
}

func TestSecretKeysAreNotTakenIn(t *testing.T) {
	e := ed(t, now, 0)
	var raw, text bytes.Buffer
	e.SerializePrivateWithoutSigning(&raw, nil)
	w, _ := armor.Encode(&text, openpgp.PrivateKeyType, nil)
	w.Write(raw.Bytes())
	w.Close()
	for name, data := range map[string][]byte{"binary": raw.Bytes(), "armoured": text.Bytes()} {
		if _, err := ReadCertificates(data); err == nil || !strings.Contains(err.Error(), "secret") {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func TestSeveralCertificatesInOneFile(t *testing.T) {
	a, b := cert(t, ed(t, now, 0)), cert(t, ed(t, now, 0))
	for name, data := range map[string]string{"armoured": a.Armoured() + "\n" + b.Armoured(),
		"binary": string(a.Binary()) + string(b.Binary())} {
		list, err := ReadCertificates([]byte(data))
		if err != nil || len(list) != 2 || list[0].Fingerprint != a.Fingerprint ||
			list[1].Fingerprint != b.Fingerprint {
			t.Errorf("%s: %d certificates, error %v", name, len(list), err)
		}
	}
}

func TestFingerprintsMustBeWhole(t *testing.T) {
	const whole = "7C1B22E05A90D4417F039E6AB2C871D0453FF1A9"
	for in, code := range map[string]string{
		"7C1B 22E0 5A90 D441 7F03  9E6A B2C8 71D0 453F F1A9": "", "0x" + whole: "",
		strings.ToLower(whole): "",
		"453FF1A9":             "key.short-id", "B2C871D0453FF1A9": "key.short-id",
		whole[:38]: "define.bad-value",
		"":         "define.bad-value", strings.Replace(whole, "7", "G", 1): "define.bad-value",
	} {
		got, err := ParseFingerprint(in)
		f, _ := finding.From(err)
		if f.Code != code || code == "" && got != whole {
			t.Errorf("%q: %q, %v", in, got, err)
		}
	}
}

func TestTheSiteKeyIsLockedAndOpensAgain(t *testing.T) {
	k, err := NewKey("Skerry Reach", "", "", at(now))
	if err != nil {
		t.Fatal(err)
	}
	locked, err := k.Locked([]byte("a long passphrase"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Unlock(locked, []byte("another"), at(now)); err == nil {
		t.Error("a wrong passphrase opens it")
	}
	again, err := Unlock(locked, []byte("a long passphrase"), at(now))
	if err != nil {
		t.Fatal(err)
	}
	sig, err := again.DetachSign([]byte("text"), true)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := NewKeyring("seal", []Known{{Certificate: k.Certificate(), VouchedFor: []string{"seal"}}},
		at(now)).Detached([]byte("text"), sig); err != nil {
		t.Error(err)
	}
}

// The real tool's signatures and certificates are read, and it reads ours.
func TestTheRealToolAgrees(t *testing.T) {
	if _, err := exec.LookPath("gpg"); err != nil {
		t.Skip("skipped: gpg is not on this machine")
	}
	home := t.TempDir()
	os.Chmod(home, 0o700)
	run := func(in string, args ...string) []byte {
		t.Helper()
		c := exec.Command("gpg", append([]string{"--homedir", home, "--batch", "--yes", "--pinentry-mode",
			"loopback", "--passphrase", ""}, args...)...)
		c.Stdin = strings.NewReader(in)
		var stderr bytes.Buffer
		c.Stderr = &stderr
		out, err := c.Output()
		if err != nil {
			t.Fatalf("gpg %v: %v\n%s", args, err, stderr.String())
		}
		return out
	}
	defer exec.Command("gpgconf", "--homedir", home, "--kill", "all").Run()
	run("", "--quick-generate-key", "Tarn archive <archive@tarn.example>", "rsa2048", "sign", "1y")
	certs, err := ReadCertificates(run("", "--armor", "--export"))
	if err != nil || len(certs) != 1 || certs[0].Primary.Bits != 2048 || certs[0].Primary.Expires.IsZero() {
		t.Fatalf("%v %+v", err, certs)
	}
	ring := NewKeyring("tarn", []Known{{Certificate: certs[0], VouchedFor: []string{"tarn"}}}, time.Now)
	const text = "Suite: steady\n- a dash\nFrom: here\n"
	got, _, err := ring.Clearsigned(run(text, "--clearsign"))
	if err != nil || string(got) != text {
		t.Errorf("clear-signed: %v, %q", err, got)
	}
	if _, err := ring.Detached([]byte(text), run(text, "--armor", "--detach-sign")); err != nil {
		t.Error("detached:", err)
	}
	if _, _, err := ring.Clearsigned(run(text, "--clearsign", "--digest-algo", "SHA1")); err == nil {
		t.Error("a SHA-1 signature counted")
	}
	// And the other way.
	k, err := NewKey("Site", "", "", time.Now)
	if err != nil {
		t.Fatal(err)
	}
	file := filepath.Join(home, "ours")
	signed, err := k.Clearsign([]byte(text))
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(file, signed, 0o600)
	os.WriteFile(file+".key", []byte(k.Certificate().Armoured()), 0o600)
	run("", "--import", file+".key")
	if out := run("", "--decrypt", file); string(out) != text {
		t.Errorf("gpg reads our text as %q", out)
	}
}

func FuzzClearsigned(f *testing.F) {
	e := ed(f, now.Add(-time.Hour), 0)
	k := signer(e, now)
	good, err := k.Clearsign([]byte("Suite: steady\n- dash\n"))
	if err != nil {
		f.Fatal(err)
	}
	ring := NewKeyring("tarn", []Known{{Certificate: cert(f, e), VouchedFor: []string{"tarn"}}}, at(now))
	f.Add(good)
	f.Add([]byte("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\nx\n-----BEGIN PGP SIGNATURE-----\n\n" +
		"-----END PGP SIGNATURE-----\n"))
	f.Add(bytes.Replace(good, []byte("steady"), []byte("stead\r"), 1))
	f.Fuzz(func(t *testing.T, data []byte) {
		text, _, err := ring.Clearsigned(data)
		if err == nil && string(text) != "Suite: steady\n- dash\n" {
			t.Errorf("unsigned text was accepted: %q", text)
		}
	})
}

func FuzzCertificates(f *testing.F) {
	c := cert(f, ed(f, now, 0))
	f.Add([]byte(c.Armoured()))
	f.Add(c.Binary())
	f.Fuzz(func(t *testing.T, data []byte) {
		list, err := ReadCertificates(data)
		if err != nil {
			return
		}
		for _, c := range list {
			if _, err := ParseFingerprint(c.Fingerprint); err != nil {
				t.Errorf("a certificate with a fingerprint that is none: %q", c.Fingerprint)
			}
			c.Check(now)
			c.Armoured()
		}
	})
}
