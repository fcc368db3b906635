package trust

import (
	"bytes"
	"crypto"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
	"stockade/internal/must"
)

var now = time.Date(2026, 11, 24, 12, 0, 0, 0, time.UTC)

func at(t time.Time) func() time.Time { return func() time.Time { return t } }

// ed makes a small, quick key.
func ed(t testing.TB, made time.Time, lifetime time.Duration) *openpgp.Entity {
	t.Helper()
	c := &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, DefaultHash: crypto.SHA256, Time: at(made),
		KeyLifetimeSecs: uint32(lifetime.Seconds())}
	e, err := openpgp.NewEntity("Tarn archive", "", "archive@tarn.example", c)
	must.Do(t, err)
	return e
}

func signer(e *openpgp.Entity, when time.Time) *SiteKey { return &SiteKey{entity: e, now: at(when)} }

func cert(t testing.TB, e *openpgp.Entity) *Certificate {
	t.Helper()
	var b bytes.Buffer
	must.Do(t, e.Serialize(&b))
	list, err := ReadCertificates(b.Bytes())
	must.Do(t, err)
	return list[0]
}

func TestAGoodSignatureBesideAnUnknownOneIsAcceptedAndTold(t *testing.T) {
	text := []byte("Suite: steady\n")
	good, other := ed(t, now.Add(-time.Hour), 0), ed(t, now.Add(-time.Hour), 0)
	a, err := signer(other, now).DetachSign(text, false)
	must.Do(t, err)
	b, err := signer(good, now).DetachSign(text, false)
	must.Do(t, err)
	by, err := NewKeyring("tarn",
		[]Known{{Certificate: cert(t, good), VouchedFor: []string{"tarn"}, Barred: ""}},
		at(now)).Detached(text, append(a, b...))
	if err != nil || by.Fingerprint != cert(t, good).Fingerprint || len(by.Others) != 1 {
		t.Errorf("by %+v, error %v", by, err)
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
		if string(f.Code) != code || code == "" && got != whole {
			t.Errorf("%q: %q, %v", in, got, err)
		}
	}
}

func TestTheSiteKeyIsLockedAndOpensAgain(t *testing.T) {
	k, err := NewKey("Skerry Reach", "", "", at(now))
	must.Do(t, err)
	locked, err := k.Locked([]byte("a long passphrase"))
	must.Do(t, err)
	if _, err := Unlock(locked, []byte("another"), at(now)); err == nil {
		t.Error("a wrong passphrase opens it")
	}
	again, err := Unlock(locked, []byte("a long passphrase"), at(now))
	must.Do(t, err)
	sig, err := again.DetachSign([]byte("text"), true)
	must.Do(t, err)
	if _, err := NewKeyring("seal", []Known{{Certificate: k.Certificate(), VouchedFor: []string{"seal"}}},
		at(now)).Detached([]byte("text"), sig); err != nil {
		t.Error(err)
	}
}

func FuzzClearsigned(f *testing.F) {
	e := ed(f, now.Add(-time.Hour), 0)
	k := signer(e, now)
	good, err := k.Clearsign([]byte("Suite: steady\n- dash\n"))
	must.Do(f, err)
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
