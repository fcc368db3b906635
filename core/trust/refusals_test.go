package trust

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
	"stockade/internal/must"
)

func (m *maker) certificate(data []byte) *Certificate {
	m.t.Helper()
	certs, err := ReadCertificates(data)
	if err != nil || len(certs) != 1 {
		m.t.Fatalf("%d certificates, %v", len(certs), err)
	}
	return certs[0]
}

func (m *maker) secret(armour string) []byte {
	var b bytes.Buffer
	must.Do(m.t, m.e.SerializePrivateWithoutSigning(&b, nil))
	if armour == "" {
		return b.Bytes()
	}
	return armoured(m.t, armour, nil, b.Bytes())
}

func TestEachRefusalOfACertificate(t *testing.T) {
	m := newMaker(t)
	plain := m.raw(m.e)
	block := armoured(t, openpgp.PublicKeyType, nil, plain)
	sum := bytes.LastIndex(block, []byte("\n="))
	damaged := func(at int, to string) []byte {
		out := bytes.Clone(block)
		copy(out[at:], to)
		return out
	}
	many := func(n int) []byte {
		list, err := splitCertificates(plain)
		must.Do(t, err)
		p := &list[0].primary
		for i := len(p.signatures); i < n; i++ {
			p.signatures = append(p.signatures, m.self(func(s *packet.Signature) {
				s.CreationTime = m.now.Add(time.Duration(i) * time.Second)
			}))
		}
		return list[0].binary()
	}
	manyOn := func(choose func(c *rawCertificate) *component) []byte {
		list, err := splitCertificates(plain)
		must.Do(t, err)
		c := choose(list[0])
		one := m.self(func(*packet.Signature) {})
		for len(c.signatures) <= maxSelfSignatures {
			c.signatures = append(c.signatures, one)
		}
		return list[0].binary()
	}
	for _, c := range []struct {
		name string
		data []byte
		said string
		text string
	}{
		{"binary", plain, "", ""},
		{"armoured", block, "", ""},
		{"as large as may be", append(bytes.Clone(block), bytes.Repeat([]byte{'\n'},
			maxCertificates-len(block))...), "", ""},
		{"too large", append(bytes.Clone(block), bytes.Repeat([]byte{'\n'}, maxCertificates-len(block)+1)...),
			"key.unreadable too-large", "more than 8388608 bytes"},
		{"nothing", nil, "key.unreadable none", "no certificate"},
		{"a keybox", boxed(plain, 0, 0), "", ""},
		{"a keybox that is cut", boxed(plain, 0, 0)[:60], "key.unreadable keybox",
			"bytes, but only 28 bytes are left"},
		{"a keybox with an end that is none", append(boxed(plain, 0, 0), 0, 0, 0), "key.unreadable keybox",
			"the keybox is truncated"},
		{"a keybox with a blob of nothing", append(boxed(plain, 0, 0), 0, 0, 0, 4, 2, 0, 0, 0),
			"key.unreadable keybox", "a blob of 4 bytes"},
		{"a keybox with a blob of little", append(boxed(plain, 0, 0), 0, 0, 0, 6, 2, 1),
			"key.unreadable keybox", "a certificate in the keybox is truncated"},
		{"a keybox whose certificate is longer than its blob", boxed(plain, 0, 1), "key.unreadable keybox",
			"a certificate in the keybox is truncated"},
		{"a keybox whose certificate begins far behind its blob", boxed(plain, 1<<31, 1<<31),
			"key.unreadable keybox", "a certificate in the keybox is truncated"},
		{"an empty keybox", boxed(nil, 0, 0)[:32], "key.unreadable none", "no certificate"},
		{"a signature alone", m.sign(m.e.PrivateKey, plain, nil), "key.unreadable none", "no certificate"},
		{"not OpenPGP", []byte("the desk's key"), "key.unreadable malformed", "not an OpenPGP certificate"},
		{"cut", plain[:len(plain)-5], "key.unreadable malformed", "not an OpenPGP certificate"},
		{"a key that is none", append([]byte{0xc6, 4}, "key!"...), "key.unreadable malformed", ""},
		{"a wrong checksum", damaged(sum, "\n=AAAA"), "key.unreadable armour",
			"its checksum does not match"},
		{"a checksum that is none", damaged(sum, "\n=A!AA"), "key.unreadable armour",
			"checksum cannot be read"},
		{"a checksum of two bytes", damaged(sum, "\n=AAA="), "key.unreadable armour",
			"checksum cannot be read"},
		{"armour that is no base64", damaged(sum-9, "!!!!"), "key.unreadable armour", "armor is damaged"},
		{"armour without any of it", []byte("-----BEGIN PGP PUBLIC KEY BLOCK-----\n"),
			"key.unreadable none", "no certificate"},
		{"armour of a message", armoured(t, "PGP MESSAGE", nil, plain), "key.unreadable kind", `contains a "PGP MESSAGE"`},
		{"armour of a kind that would move the screen", armoured(t, "PGP \x1b[2J", nil, plain),
			"key.unreadable kind", `\x1b[2J`},
		{"a secret key", m.secret(""), "key.secret-material", "secret key"},
		{"a secret key without subkeys", m.secret("")[:len(m.secret(""))-len(behindFirst(t, m.secret("")))],
			"key.secret-material", "secret key"},
		{"a secret key in armour", m.secret(openpgp.PrivateKeyType), "key.secret-material", "secret key"},
		{"a secret key in armour that says otherwise", m.secret(openpgp.PublicKeyType),
			"key.secret-material", ""},
		{"a secret key behind a certificate", append(bytes.Clone(plain), m.secret("")...),
			"key.secret-material", ""},
		{"a secret block behind a certificate", append(bytes.Clone(block),
			m.secret(openpgp.PrivateKeyType)...), "key.secret-material", ""},
		{"a secret subkey in a certificate", append(bytes.Clone(plain), secretSubkey(t, m.secret(""))...),
			"key.secret-material", ""},
		{"damaged armour behind a certificate", append(bytes.Clone(block), damaged(sum, "\n=AAAA")...),
			"key.unreadable armour", ""},
		{"as many signatures as are looked at", many(maxSelfSignatures), "", ""},
		{"more signatures on a user id", manyOn(func(c *rawCertificate) *component { return &c.ids[0] }),
			"key.unreadable too-many", "more than 512 signatures"},
		{"more signatures on a subkey", manyOn(func(c *rawCertificate) *component { return &c.subkeys[0] }),
			"key.unreadable too-many", "more than 512 signatures"},
		{"more signatures on the key", manyOn(func(c *rawCertificate) *component { return &c.primary }),
			"key.unreadable too-many", "more than 512 signatures"},
	} {
		t.Run(c.name, func(t *testing.T) {
			certs, err := ReadCertificates(c.data)
			if got := said(err); got != c.said || err != nil && !strings.Contains(err.Error(), c.text) {
				t.Errorf("%q, and %q was meant: %v", got, c.said, err)
			}
			if err == nil && len(certs) != 1 || err != nil && certs != nil {
				t.Errorf("%d certificates", len(certs))
			}
		})
	}
}

// boxed puts a certificate into a keybox, which says that it begins later and is longer.
func boxed(cert []byte, later, longer uint32) []byte {
	word := binary.BigEndian.AppendUint32
	out := append(word(nil, 32), 1, 1, 0, 0)
	out = append(append(out, keyboxMagic...), make([]byte, 20)...)
	out = append(word(out, uint32(16+len(cert))), keyboxOpenPGP, 1, 0, 0)
	return append(word(word(out, 16+later), uint32(len(cert))+longer), cert...)
}

// behindFirst gives the packets behind the first.
func behindFirst(t *testing.T, key []byte) []byte {
	t.Helper()
	p, err := packet.NewOpaqueReader(bytes.NewReader(key)).Next()
	must.Do(t, err)
	var b bytes.Buffer
	must.Do(t, p.Serialize(&b))
	if !bytes.HasPrefix(key, b.Bytes()) {
		t.Fatal("a packet is written in another way than it was read")
	}
	return key[b.Len():]
}

// secretSubkey gives the first secret subkey of a key's packets.
func secretSubkey(t *testing.T, key []byte) []byte {
	t.Helper()
	r := packet.NewOpaqueReader(bytes.NewReader(key))
	for {
		p, err := r.Next()
		must.Do(t, err)
		if p.Tag == tagSecretSubkey {
			var b bytes.Buffer
			must.Do(t, p.Serialize(&b))
			return b.Bytes()
		}
	}
}

// What others say of a certificate is left out, and does not make it grow.
func TestSignaturesOfOthersAreLeftOut(t *testing.T) {
	m, other := newMaker(t), newMaker(t)
	foreign := other.self(func(s *packet.Signature) {
		s.CreationTime = m.now.Add(time.Minute)
	})
	c := m.certificate(m.amended(foreign))
	if bytes.Contains(c.Binary(), foreign) {
		t.Error("a signature of another is kept")
	}
	own := m.self(func(*packet.Signature) {})
	if c := m.certificate(m.amended(own)); !bytes.Contains(c.Binary(), own) {
		t.Error("a signature of its own is lost")
	}
	// Packets that are no part of a certificate, before and inside.
	trust := []byte{0xcc, 2, 1, 2}
	if c := m.certificate(append(trust, m.amended(own)...)); bytes.Contains(c.Binary(), trust) {
		t.Error("a foreign packet is kept")
	}
}

func TestWhatAnotherCopyHas(t *testing.T) {
	m := newMaker(t)
	plain := m.certificate(m.raw(m.e))
	ends := func(secs uint32, later time.Duration) *Certificate {
		return m.certificate(m.resigned(func(s *packet.Signature) {
			s.KeyLifetimeSecs = &secs
			s.CreationTime = m.now.Add(later)
		}))
	}
	end := m.now.Add(1 << 30 * time.Second).UTC().Format(time.DateOnly)
	more, err := openpgp.ReadEntity(packet.NewReader(bytes.NewReader(m.secret(""))))
	must.Do(t, err)
	must.Do(t, more.AddUserId("Tarn night desk", "", "night@tarn.example", m.cfg))
	must.Do(t, more.AddSigningSubkey(m.cfg))
	grown := m.certificate(m.raw(more))
	fresh := grown.Subkeys[len(grown.Subkeys)-1].Fingerprint
	revoked := m.certificate(m.amended(m.self(func(s *packet.Signature) {
		s.SigType = packet.SigTypeKeyRevocation
	})))
	for _, c := range []struct {
		name     string
		old, now *Certificate
		want     []string
	}{
		{"nothing new", plain, plain, []string{"further signatures of its own"}},
		{"an end", plain, ends(1<<30, time.Hour), []string{plain.Fingerprint + " has the expiry date " +
			end}},
		{"no end any more", ends(1<<30, 0), plain, []string{plain.Fingerprint + " has no expiry date"}},
		{"a user id and a subkey", plain, grown, []string{
			"the user id Tarn night desk <night@tarn.example> is new", "the subkey " + fresh + " is new"}},
		{"withdrawn", plain, revoked, []string{
			plain.Fingerprint + " is revoked: no reason given"}},
		{"withdrawn before", revoked, revoked, []string{"further signatures of its own"}},
	} {
		if got := c.old.Changes(c.now); strings.Join(got, "\n") != strings.Join(c.want, "\n") {
			t.Errorf("%s: %q", c.name, got)
		}
	}
	stranger := newMaker(t)
	_, _, err = plain.Merge(stranger.certificate(stranger.raw(stranger.e)))
	if err == nil || !strings.Contains(err.Error(), "is not "+plain.Fingerprint) {
		t.Errorf("two certificates became one: %v", err)
	}
	// A subkey that ends later, told by a signature of its own.
	longer := m.certificate(m.subkeyed(func(s *packet.Signature) {
		s.KeyLifetimeSecs, s.CreationTime = secs(1<<30), m.now.Add(time.Hour)
	}))
	both, isMore, err := plain.Merge(longer)
	if err != nil || !isMore || both.Subkeys[len(both.Subkeys)-1].Expires.IsZero() ||
		len(both.Subkeys) != len(plain.Subkeys) {
		t.Errorf("a subkey that ends later: %v %v", isMore, err)
	}
	for _, name := range []string{"A desk", "Z \x1b[2J desk"} {
		must.Do(t, more.AddUserId(name, "", "", m.cfg))
	}
	got := strings.Join(m.certificate(m.raw(more)).UserIDs, "\n")
	if got != "Tarn desk <desk@tarn.example>\nA desk\nTarn night desk <night@tarn.example>\n"+
		"Z \\u{1b}[2J desk" {
		t.Errorf("%q", got)
	}
}

func TestACertificateIsDescribed(t *testing.T) {
	m := newMaker(t)
	for name, part := range map[string]func(*Certificate) Part{
		"primary": func(c *Certificate) Part { return c.Primary },
		"subkey":  func(c *Certificate) Part { return c.Subkeys[len(c.Subkeys)-1] },
	} {
		p := part(m.certificate(m.raw(m.e)))
		if p.Algorithm != "Ed25519" || p.Bits == 0 || !p.CanSign || p.Revoked || !p.Expires.IsZero() ||
			!p.Created.Equal(m.now) || p.Created.Location() != time.UTC || len(p.Fingerprint) != 40 {
			t.Errorf("%s: %+v", name, p)
		}
	}
	encrypts := m.certificate(m.raw(m.e)).Subkeys[0]
	if encrypts.CanSign {
		t.Errorf("a subkey that encrypts may sign: %+v", encrypts)
	}
	sub := m.certificate(m.subkeyed(func(s *packet.Signature) { s.KeyLifetimeSecs = secs(60) }))
	if p := sub.Subkeys[len(sub.Subkeys)-1]; !p.Expires.Equal(m.now.Add(time.Minute)) {
		t.Errorf("%+v", p)
	}
	if p := m.certificate(m.subkeyed(func(s *packet.Signature) { s.FlagsValid = false })); p.Subkeys[len(
		p.Subkeys)-1].CanSign {
		t.Errorf("a subkey of which nothing is said may sign")
	}
	for reason, want := range map[packet.ReasonForRevocation]string{
		packet.NoReason: "no reason given", packet.KeySuperseded: "superseded",
		packet.KeyCompromised: "compromised", packet.KeyRetired: "retired", 99: "no reason given",
	} {
		for text, want := range map[string]string{"": want, "stolen\x1b[2J": `stolen\u{1b}[2J`} {
			c := m.certificate(m.amended(m.self(func(s *packet.Signature) {
				s.SigType = packet.SigTypeKeyRevocation
				s.RevocationReason, s.RevocationReasonText = &reason, text
			})))
			if !c.Primary.Revoked || c.Primary.Reason != want {
				t.Errorf("%d %q: %+v", reason, text, c.Primary)
			}
		}
	}
	for of, want := range map[packet.PublicKeyAlgorithm]string{
		packet.PubKeyAlgoRSA: "RSA", packet.PubKeyAlgoRSAEncryptOnly: "RSA",
		packet.PubKeyAlgoRSASignOnly: "RSA",
		packet.PubKeyAlgoDSA:         "DSA", packet.PubKeyAlgoElGamal: "ElGamal",
		packet.PubKeyAlgoECDSA: "ECDSA",
		packet.PubKeyAlgoECDH:  "ECDH", packet.PubKeyAlgoEdDSA: "Ed25519",
		packet.PubKeyAlgoEd25519: "Ed25519",
		packet.PubKeyAlgoEd448:   "Ed448", packet.PubKeyAlgoX25519: "X25519", packet.PubKeyAlgoX448: "X448",
		99: "algorithm 99",
	} {
		if got := algorithmName(of); got != want {
			t.Errorf("%d: %q", of, got)
		}
	}
	if got := Spaced("ABCDEF0123"); got != "ABCD EF01 23" {
		t.Errorf("%q", got)
	}
}

// The newest of several signatures says when the key ends; one directly on the key goes
// before those on user ids.
func TestWhichSignatureSaysWhenAKeyEnds(t *testing.T) {
	m := newMaker(t)
	direct := func(life uint32, at time.Duration) []byte {
		return m.self(func(s *packet.Signature) {
			s.KeyLifetimeSecs, s.CreationTime = &life, m.now.Add(at)
		})
	}
	raw := func(data []byte) *rawCertificate {
		list, err := splitCertificates(data)
		must.Do(t, err)
		return list[0]
	}
	ended := raw(m.resigned(func(s *packet.Signature) { s.KeyLifetimeSecs = secs(7000) }))
	for name, signatures := range map[string][][]byte{
		"7000": {},
		"8000": {direct(8000, time.Minute)},
		"8001": {direct(8001, 2*time.Minute), direct(9000, time.Minute)},
		"8002": {direct(9000, time.Minute), direct(8002, 2*time.Minute)},
	} {
		c := *ended
		c.primary.signatures = signatures
		got := m.certificate(c.binary()).Primary.Expires
		if want, _ := time.ParseDuration(name + "s"); !got.Equal(m.now.Add(want)) {
			t.Errorf("%v: it ends after %s", name, got.Sub(m.now))
		}
	}
}

func TestWhatIsFoundAboutACertificate(t *testing.T) {
	day := 24 * time.Hour
	able := Part{Algorithm: "Ed25519", Bits: 256, CanSign: true}
	with := func(change func(p *Part)) Part {
		p := able
		change(&p)
		return p
	}
	for _, c := range []struct {
		name    string
		primary Part
		subkeys []Part
		found   string // code and severity
		text    string
	}{
		{"nothing", able, nil, "", ""},
		{"revoked", with(func(p *Part) { p.Revoked, p.Reason = true, "stolen" }), nil, "key.revoked error",
			"the owner has revoked this key: stolen"},
		{"ended", with(func(p *Part) { p.Expires = now.Add(-3 * day) }), nil, "key.expired error",
			"expired on 2026-11-21, 3 days ago"},
		{"ends now", with(func(p *Part) { p.Expires = now }), nil, "key.expired error", "0 days ago"},
		{"ends soon", with(func(p *Part) { p.Expires = now.Add(30*day - time.Second) }), nil,
			"key.expiring warning", "in 29 days"},
		{"ends later", with(func(p *Part) { p.Expires = now.Add(30 * day) }), nil, "", ""},
		{"short RSA", with(func(p *Part) { p.Algorithm, p.Bits = "RSA", 2047 }), nil, "key.weak warning",
			"RSA with 2047 bits"},
		{"RSA", with(func(p *Part) { p.Algorithm, p.Bits = "RSA", 2048 }), nil, "", ""},
		{"tiny RSA", with(func(p *Part) { p.Algorithm, p.Bits = "RSA", 1023 }), nil, "key.weak error", ""},
		{"small RSA", with(func(p *Part) { p.Algorithm, p.Bits = "RSA", 1024 }), nil, "key.weak warning", ""},
		{"DSA", with(func(p *Part) { p.Algorithm, p.Bits = "DSA", 3072 }), nil, "key.weak warning", "DSA"},
		{"cannot sign", with(func(p *Part) { p.CanSign = false }), nil, "key.cannot-sign error",
			"none of its 1"},
		{"a subkey signs", with(func(p *Part) { p.CanSign = false }), []Part{able}, "", ""},
		{"a subkey signs until later", with(func(p *Part) { p.CanSign = false }),
			[]Part{with(func(p *Part) { p.Expires = now.Add(day) })}, "key.expiring warning",
			"the last subkey that may sign expires on 2026-11-25, in 1 day"},
		{"a subkey signs for long", with(func(p *Part) { p.CanSign = false }),
			[]Part{with(func(p *Part) { p.Expires = now.Add(30 * day) })}, "", ""},
		{"one subkey follows another", with(func(p *Part) { p.CanSign = false }), []Part{
			with(func(p *Part) { p.Expires = now.Add(day) }),
			with(func(p *Part) { p.Expires = now.Add(90 * day) })}, "", ""},
		{"subkeys that do not", with(func(p *Part) { p.CanSign = false }), []Part{
			with(func(p *Part) { p.Revoked = true }), with(func(p *Part) { p.Expires = now }),
			with(func(p *Part) { p.CanSign = false })}, "key.cannot-sign error",
			"none of its 4 keys and subkeys may sign"},
		{"the key signs and a subkey does not", able, []Part{with(func(p *Part) { p.CanSign = false })}, "",
			""},
	} {
		certificate := &Certificate{Fingerprint: fpr, Primary: c.primary, Subkeys: c.subkeys}
		got, text := "", ""
		for _, f := range certificate.Check(now) {
			got += string(f.Code) + " " + string(f.Severity)
			text += f.Text
			if f.Object != "key "+fpr {
				t.Errorf("%s: it is told of %q", c.name, f.Object)
			}
		}
		if got != c.found || !strings.Contains(text, c.text) {
			t.Errorf("%s: %q %q", c.name, got, text)
		}
	}
}

func TestUntilWhenACertificateSigns(t *testing.T) {
	at := func(days int) time.Time { return now.AddDate(0, 0, days) }
	part := func(signs bool, end time.Time) Part { return Part{CanSign: signs, Expires: end} }
	none := time.Time{}
	for name, c := range map[string]struct {
		primary Part
		subkeys []Part
		end     time.Time
		able    bool
	}{
		"without end":       {part(true, none), nil, none, true},
		"the primary's end": {part(true, at(9)), nil, at(9), true},
		"the primary ended": {part(true, at(0)), nil, none, false},
		"the primary withdrawn": {Part{CanSign: true, Revoked: true}, []Part{part(true, none)},
			none, false},
		"nothing signs": {part(false, none), []Part{part(false, at(9))}, none, false},
		"the last subkey's end": {part(false, none), []Part{part(true, at(9)), part(true, at(5))},
			at(9), true},
		"a subkey without end": {part(false, none), []Part{part(true, at(9)), part(true, none)},
			none, true},
		"a subkey ends with the whole": {part(false, at(7)), []Part{part(true, at(9)), part(true, none)},
			at(7), true},
		"the primary signs for longer": {part(true, none), []Part{part(true, at(9))}, none, true},
		"an ended subkey does not count": {part(false, none), []Part{part(true, at(-1)), part(true, at(2))},
			at(2), true},
	} {
		end, able := (&Certificate{Primary: c.primary, Subkeys: c.subkeys}).SignsUntil(now)
		if !end.Equal(c.end) || able != c.able {
			t.Errorf("%s: %s %v", name, end, able)
		}
	}
}

// frames are clear-signed texts whose frame is not as it must be, around content that is
// properly signed: %s stands for the signature.
var frames = []struct{ name, frame, said, text string }{
	{"as it must be", head + "Hash: SHA512\n\nSuite: steady\n- - dash\n%s", "", ""},
	{"without a Hash header", head + "\nSuite: steady\n- - dash\n%s", "", ""},
	{"two Hash headers", head + "Hash: SHA256\nHash: SHA512\n\nSuite: steady\n- - dash\n%s", "", ""},
	{"ended by carriage returns too", head + "Hash: SHA512\r\n\r\nSuite: steady\r\n- - dash\r\n%s", "", ""},
	{"empty lines behind it", head + "\nSuite: steady\n- - dash\n%s\n\n", "", ""},
	{"text before it", "Suite: trial\n" + head + "\nSuite: steady\n%s", "content.signature-bad frame",
		"(line 1)"},
	{"an empty line before it", "\n" + head + "\nSuite: steady\n%s", "content.signature-bad frame",
		"(line 1)"},
	{"text behind it", head + "\nSuite: steady\n%s\nSuite: trial\n", "content.signature-bad frame",
		"tarn: line "},
	{"a second message behind it", head + "\nSuite: steady\n%s\n" + head + "\nSuite: trial\n%[1]s",
		"content.signature-bad frame", "unsigned text after the signature"},
	{"another header", head + "Comment: Suite: trial\n\nSuite: steady\n%s", "content.signature-bad frame",
		"line 2 is not a Hash header"},
	{"a header among Hash headers", head + "Hash: SHA512\nVersion: 9\n\nSuite: steady\n%s",
		"content.signature-bad frame", "line 3 is not a Hash header"},
	{"a dash that is not escaped", head + "\nSuite: steady\n-dash\n%s", "content.signature-bad frame",
		"line 4 begins with a dash that is not escaped"},
	{"a dash alone", head + "\nSuite: steady\n-\n%s", "content.signature-bad frame",
		"line 4 begins with a dash"},
	{"no end", head + "\nSuite: steady\n", "content.signature-bad frame", "ends before its signature does"},
	{"no end of its signature", head + "\nSuite: steady\n" + signatureHeader + "\n\nabc\n",
		"content.signature-bad frame", "ends before its signature does"},
	{"no text", head + "Hash: SHA512\n", "content.signature-bad frame",
		"the file contains no clear-signed text"},
	{"nothing", "", "content.signature-bad frame", "the file contains no clear-signed text"},
	{"something else", "Suite: steady\n", "content.signature-bad frame",
		"does not begin with a clear-signed"},
}

const head = signedHeader + "\n"

func TestOnlyOneMessageAndNothingElseIsClearSigned(t *testing.T) {
	m := newMaker(t)
	ring := NewKeyring("tarn", []Known{{Certificate: m.certificate(m.raw(m.e)),
		VouchedFor: []string{"tarn"}}}, time.Now)
	inText := func(s *packet.Signature) { s.SigType = packet.SigTypeText }
	proper := 0
	for _, c := range frames {
		t.Run(c.name, func(t *testing.T) {
			fill := func(signature []byte) []byte {
				block := string(bytes.TrimSpace(armoured(t, openpgp.SignatureType, nil, signature)))
				return []byte(strings.NewReplacer("%[1]s", block+"\n", "%s", block+"\n").Replace(c.frame))
			}
			data := fill([]byte("not yet"))
			if block, _ := clearsign.Decode(data); block != nil {
				signature := m.sign(m.e.PrivateKey, block.Bytes, inText)
				if data = fill(signature); c.said != "" {
					if _, err := ring.verify(bytesOf(block.Bytes), signature); err != nil {
						t.Fatalf("it is not properly signed: %v", err)
					}
					proper++
				}
			}
			text, by, err := ring.Clearsigned(data)
			if got := said(err); got != c.said || err != nil && !strings.Contains(err.Error(), c.text) {
				t.Errorf("%q, and %q was meant: %v", got, c.said, err)
			}
			if err == nil && (string(text) != "Suite: steady\n- dash\n" || by.UserID == "") {
				t.Errorf("%q by %+v", text, by)
			}
		})
	}
	if proper < 6 {
		t.Errorf("only %d of the hostile were properly signed", proper)
	}
}

// The armour of the signature inside a clear-signed text.
func TestTheArmourInsideAClearSignedText(t *testing.T) {
	m := newMaker(t)
	ring := NewKeyring("tarn", []Known{{Certificate: m.certificate(m.raw(m.e)),
		VouchedFor: []string{"tarn"}}}, time.Now)
	text := []byte("Suite: steady")
	block := string(armoured(t, openpgp.SignatureType, nil, m.sign(m.e.PrivateKey, text,
		func(s *packet.Signature) {
			s.SigType = packet.SigTypeText
		})))
	at := strings.LastIndex(block, "\n=")
	for name, c := range map[string]struct{ block, said string }{
		"as it is":         {block, ""},
		"no checksum":      {block[:at] + block[at+6:], ""},
		"a wrong checksum": {block[:at] + "\n=AAAA" + block[at+6:], "content.signature-bad armour"},
		"no base64": {strings.Replace(block[:at]+block[at+6:], block[at-9:at-5], "!!!!", 1),
			"content.signature-bad armour"},
		"nothing in it": {signatureHeader + "\n\n" + signatureFooter + "\n", "content.signature-bad none"},
	} {
		_, _, err := ring.Clearsigned([]byte(head + "\n" + string(text) + "\n" + c.block))
		if got := said(err); got != c.said {
			t.Errorf("%s: %q, and %q was meant: %v", name, got, c.said, err)
		}
	}
}

// The armour of a detached signature.
func TestTheArmourOfADetachedSignature(t *testing.T) {
	m := newMaker(t)
	ring := NewKeyring("tarn", []Known{{Certificate: m.certificate(m.raw(m.e)),
		VouchedFor: []string{"tarn"}}}, time.Now)
	text := []byte("x")
	good := m.sign(m.e.PrivateKey, text, nil)
	block := string(armoured(t, openpgp.SignatureType, nil, good))
	at := strings.LastIndex(block, "\n=")
	const bad = "content.signature-bad armour"
	for name, c := range map[string]struct{ block, said string }{
		"as it is":                    {block, ""},
		"behind a message":            {string(armoured(t, "PGP MESSAGE", nil, good)) + block, bad},
		"no base64":                   {block[:at-9] + "!!!!" + block[at-5:at] + block[at+6:], bad},
		"a checksum of other content": {block[:at] + "\n=AAAA" + block[at+6:], bad},
	} {
		if _, err := ring.Detached(text, []byte(c.block)); said(err) != c.said {
			t.Errorf("%s: %q, and %q was meant: %v", name, said(err), c.said, err)
		}
	}
}

// broken cannot be read, or not be read again.
type broken struct {
	io.ReadSeeker
	seek  int // which fails, from one
	reads int // how many succeed
}

var errDisk = errors.New("the disk does not answer")

func (b *broken) Read(p []byte) (int, error) {
	if b.reads--; b.reads < 0 {
		return 0, errDisk
	}
	return b.ReadSeeker.Read(p)
}

func (b *broken) Seek(offset int64, whence int) (int64, error) {
	if b.seek--; b.seek == 0 {
		return 0, errDisk
	}
	return b.ReadSeeker.Seek(offset, whence)
}

// What cannot be read is a fault of this machine, and no bad signature.
func TestAFaultIsNoBadSignature(t *testing.T) {
	m := newMaker(t)
	ring := NewKeyring("tarn", []Known{{Certificate: m.certificate(m.raw(m.e)),
		VouchedFor: []string{"tarn"}}}, time.Now)
	content := []byte("behind a header: what upstream signs")
	signature := m.sign(m.e.PrivateKey, content[17:], nil)
	for _, c := range []struct {
		seek, reads int
		fails       bool
	}{{0, 9, false}, {1, 9, true}, {2, 9, true}, {0, 0, true}} {
		r := &broken{bytes.NewReader(content), 0, 9}
		if _, err := r.Seek(17, io.SeekStart); err != nil {
			t.Fatal(err)
		}
		r.seek, r.reads = c.seek, c.reads
		by, err := ring.Streamed(r, append(bytes.Clone(signature), m.sign(m.e.PrivateKey, content[17:],
			nil)...))
		if (err != nil) != c.fails {
			t.Errorf("%+v: %v", c, err)
		}
		if f, ok := finding.From(err); c.fails && (ok && f.Code != finding.FaultCode ||
			by.Fingerprint != "" || !strings.Contains(err.Error(), errDisk.Error())) {
			t.Errorf("%+v: %v", c, err)
		}
	}
}

// Of several refusals the one that names a known key is told.
func TestTheMostTellingRefusalIsTold(t *testing.T) {
	m, stranger, barred := newMaker(t), newMaker(t), newMaker(t)
	text := []byte("x")
	ring := NewKeyring("tarn", []Known{
		{Certificate: m.certificate(m.raw(m.e)), VouchedFor: []string{"tarn"}},
		{Certificate: m.certificate(barred.raw(barred.e)), VouchedFor: []string{"tarn"}, Barred: "stolen"},
	}, time.Now)
	by := func(all ...*maker) (signatures []byte) {
		for _, a := range all {
			signatures = append(signatures, a.sign(a.e.PrivateKey, text, nil)...)
		}
		return signatures
	}
	for name, signatures := range map[string][]byte{"first": by(barred, stranger), "last": by(stranger,
		barred)} {
		if _, err := ring.Detached(text, signatures); said(err) != "key.barred" {
			t.Errorf("the barred one is %s: %v", name, err)
		}
	}
	signer, err := ring.Detached(text, by(stranger, barred, m))
	if err != nil || len(signer.Others) != 2 || signer.UserID != "Tarn desk <desk@tarn.example>" ||
		signer.Others[0] != m.certificate(stranger.raw(stranger.e)).Fingerprint ||
		!signer.At.Equal(m.now.Add(time.Hour)) {
		t.Errorf("%+v %v", signer, err)
	}
	one := NewKeyring("tarn", []Known{{Certificate: m.certificate(m.raw(m.e)), VouchedFor: []string{"kelp",
		"brine"}}}, time.Now)
	_, err = one.Detached(text, by(m))
	if f, _ := finding.From(err); f.Code != "key.unvouched" || !strings.Contains(f.Text,
		"only for kelp, brine") || !strings.Contains(f.WayOut, "ask the owner of the source") {
		t.Errorf("%+v", f)
	}
}

// A signature that counts without a clock is judged as of its own date.
func TestASealIsJudgedAsOfItsDate(t *testing.T) {
	m := newMaker(t)
	text := []byte("x")
	c := m.certificate(m.resigned(func(s *packet.Signature) { s.KeyLifetimeSecs = secs(2 * 3600) }))
	for _, x := range []struct {
		name   string
		change func(s *packet.Signature)
		now    func() time.Time
		said   string
	}{
		{"as of its date", nil, nil, ""},
		{"after its key's end", func(s *packet.Signature) { s.CreationTime = m.now.Add(2 * time.Hour) }, nil,
			"key.expired"},
		{"after its key's end, by a clock before it", func(s *packet.Signature) {
			s.CreationTime = m.now.Add(2 * time.Hour)
		}, at(m.now.Add(2*time.Hour - time.Minute)), "key.expired"},
		{"at its key's end", nil, at(m.now.Add(2 * time.Hour)), "key.expired"},
		{"before its key's end", nil, at(m.now.Add(2*time.Hour - time.Second)), ""},
		{"a little ahead of the clock", nil, at(m.now.Add(time.Hour - clockSlack)), ""},
		{"ahead of the clock", nil, at(m.now.Add(time.Hour - clockSlack - time.Second)),
			"content.signature-bad future"},
		{"at its own end", func(s *packet.Signature) { s.SigLifetimeSecs = secs(60) },
			at(m.now.Add(time.Hour + time.Minute)), ""},
		{"after its own end", func(s *packet.Signature) { s.SigLifetimeSecs = secs(60) },
			at(m.now.Add(time.Hour + time.Minute + time.Second)), "content.signature-bad ended"},
		{"on the second that its key was made", func(s *packet.Signature) { s.CreationTime = m.now }, nil,
			""},
	} {
		_, err := NewKeyring("tarn", []Known{{Certificate: c, VouchedFor: []string{"tarn"}}},
			x.now).Detached(text, m.sign(m.e.PrivateKey, text, x.change))
		if got := said(err); got != x.said {
			t.Errorf("%s: %q, and %q was meant: %v", x.name, got, x.said, err)
		}
	}
}

func TestASiteKeyRefusesWhatItCannotDo(t *testing.T) {
	m := newMaker(t)
	k := &SiteKey{entity: m.e, now: time.Now}
	locked, err := k.Locked([]byte("a long passphrase"))
	must.Do(t, err)
	for name, c := range map[string]struct {
		data []byte
		text string
	}{
		"nothing":         {nil, "damaged"},
		"half":            {locked[:len(locked)/2], "damaged"},
		"rubbish":         {[]byte("a key"), "damaged"},
		"the public part": {m.raw(m.e), "damaged"},
		"two keys":        {append(bytes.Clone(locked), locked...), "damaged"},
	} {
		if k, err := Unlock(c.data, []byte("a long passphrase"), time.Now); err == nil || k != nil ||
			!strings.Contains(err.Error(), c.text) {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, text := range []string{"a \nb\n", "a\t\n", "a\r\nb\n", "a\nb "} {
		if out, err := k.Clearsign([]byte(text)); said(err) != "content.signature-bad lost-blank" ||
			out != nil {
			t.Errorf("%q: %v", text, err)
		}
	}
	ring := NewKeyring("seal", []Known{{Certificate: k.Certificate(), VouchedFor: []string{"seal"}}}, nil)
	for _, text := range []string{"a\nb\n", "- a\n", "\na\n"} {
		out, err := k.Clearsign([]byte(text))
		if err != nil || !bytes.HasSuffix(out, []byte(signatureFooter+"\n")) {
			t.Fatalf("%q %v", out, err)
		}
		if got, by, err := ring.Clearsigned(out); err != nil || string(got) != text ||
			by.Fingerprint != k.Certificate().Fingerprint {
			t.Errorf("%q %v", got, err)
		}
	}
	if text := k.Certificate().Armoured(); !strings.HasSuffix(text, "-----END PGP PUBLIC KEY BLOCK-----\n") {
		t.Errorf("%q", text)
	}
	fresh, err := NewKey("Skerry Reach", "", "", at(m.now))
	if c := fresh.Certificate(); err != nil || len(c.Subkeys) != 0 || c.Primary.Bits != siteKeyBits ||
		!c.Primary.Expires.IsZero() || !c.Primary.CanSign || c.UserIDs[0] != "Skerry Reach" {
		t.Errorf("%+v %v", c, err)
	}
	if _, err := NewKey("a (b", "", "", at(m.now)); err == nil {
		t.Error("a key of a name that cannot be written is made")
	}
	for _, armour := range []bool{false, true} {
		out, err := k.DetachSign([]byte("x"), armour)
		if err != nil || bytes.HasPrefix(out, []byte("-----")) != armour || armour && !bytes.HasSuffix(out,
			[]byte("\n")) {
			t.Errorf("%q %v", out, err)
		}
	}
	if _, err := k.SignStream(&broken{bytes.NewReader([]byte("x")), 9, 0}); !errors.Is(err, errDisk) {
		t.Errorf("%v", err)
	}
	then := k.At(at(m.now.Add(3 * time.Hour)))
	signature, err := then.SignStream(strings.NewReader("x"))
	must.Do(t, err)
	by, err := NewKeyring("seal", []Known{{Certificate: k.Certificate(), VouchedFor: []string{"seal"}}},
		nil).Detached([]byte("x"), signature)
	if err != nil || !by.At.Equal(m.now.Add(3*time.Hour)) {
		t.Errorf("%+v %v", by, err)
	}
}

// A seal whose armour is damaged is told as that, and no signature is added to it.
func TestASignatureIsAddedToNoDamagedArmour(t *testing.T) {
	key, err := NewKey("Tarn archive", "", "desk@tarn.example", time.Now)
	must.Do(t, err)
	good, err := key.DetachSign([]byte("a text"), true)
	must.Do(t, err)
	more, err := key.DetachSign([]byte("a text"), false)
	must.Do(t, err)
	both, err := JoinSignatures(good, more)
	must.Do(t, err)
	if len(both) <= len(good) {
		t.Error("nothing was added")
	}
	text := string(good)
	middle := len(text) / 2
	for name, damaged := range map[string]string{
		"nothing":               "",
		"no armour":             "a text",
		"armour of a key":       strings.ReplaceAll(text, "PGP SIGNATURE", "PGP PUBLIC KEY BLOCK"),
		"a character in it":     text[:middle] + "!" + text[middle+1:],
		"cut short":             text[:middle],
		"another checksum line": strings.Replace(text, "\n-----END", "AAAA\n-----END", 1),
	} {
		_, err := JoinSignatures([]byte(damaged), more)
		if f, ok := finding.From(err); !ok || f.Code != "content.signature-bad" || f.Cause != "armour" {
			t.Errorf("%s: got %v, want that the armour is damaged", name, err)
		}
	}
}
