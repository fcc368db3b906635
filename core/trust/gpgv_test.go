package trust

import (
	"bytes"
	"context"
	"crypto"
	"errors"
	"fmt"
	"math/rand/v2"
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

// maker makes certificates and signatures by hand, down to what no program makes.
type maker struct {
	t   *testing.T
	now time.Time
	e   *openpgp.Entity // with a signing subkey
	cfg *packet.Config
}

func newMaker(t *testing.T) *maker {
	t.Helper()
	m := &maker{t: t, now: time.Now().Add(-48 * time.Hour).Truncate(time.Second)}
	m.cfg = &packet.Config{
		Algorithm:   packet.PubKeyAlgoEdDSA,
		DefaultHash: crypto.SHA512,
		Time:        func() time.Time { return m.now },
	}
	e, err := openpgp.NewEntity("Tarn desk", "", "desk@tarn.example", m.cfg)
	if err != nil {
		t.Fatal(err)
	}
	if err := e.AddSigningSubkey(m.cfg); err != nil {
		t.Fatal(err)
	}
	m.e = e
	return m
}

func (m *maker) raw(e *openpgp.Entity) []byte {
	var b bytes.Buffer
	if err := e.Serialize(&b); err != nil {
		m.t.Fatal(err)
	}
	return b.Bytes()
}

// sign makes one signature over content; change alters it before it is made.
func (m *maker) sign(key *packet.PrivateKey, content []byte, change func(s *packet.Signature)) []byte {
	m.t.Helper()
	id := key.KeyId
	s := &packet.Signature{Version: 4, SigType: packet.SigTypeBinary,
		PubKeyAlgo: key.PubKeyAlgo, Hash: crypto.SHA512,
		CreationTime: m.now.Add(time.Hour), IssuerKeyId: &id, IssuerFingerprint: key.Fingerprint}
	if change != nil {
		change(s)
	}
	h, err := s.PrepareSign(m.cfg)
	if err != nil {
		m.t.Fatal(err)
	}
	h.Write(content)
	if err := s.Sign(h, key, m.cfg); err != nil {
		m.t.Fatal(err)
	}
	var b bytes.Buffer
	if err := s.Serialize(&b); err != nil {
		m.t.Fatal(err)
	}
	return b.Bytes()
}

// self makes a signature of the primary key on itself.
func (m *maker) self(change func(s *packet.Signature)) []byte {
	key := m.e.PrivateKey
	id := key.KeyId
	s := &packet.Signature{Version: 4, SigType: packet.SigTypeDirectSignature,
		PubKeyAlgo: key.PubKeyAlgo, Hash: crypto.SHA512,
		CreationTime: m.now.Add(time.Minute), IssuerKeyId: &id, IssuerFingerprint: key.Fingerprint}
	change(s)
	if err := s.SignDirectKeyBinding(m.e.PrimaryKey, key, m.cfg); err != nil {
		m.t.Fatal(err)
	}
	var b bytes.Buffer
	if err := s.Serialize(&b); err != nil {
		m.t.Fatal(err)
	}
	return b.Bytes()
}

// amended gives the certificate with another signature right behind its primary key.
func (m *maker) amended(signature []byte) []byte {
	list, err := splitCertificates(m.raw(m.e))
	if err != nil || len(list) != 1 {
		m.t.Fatal(err)
	}
	list[0].primary.signatures = append(list[0].primary.signatures, signature)
	return list[0].binary()
}

// resigned gives the certificate with a self-signature of its own on the user id.
func (m *maker) resigned(change func(s *packet.Signature)) []byte {
	e, err := openpgp.ReadEntity(packet.NewReader(bytes.NewReader(m.raw(m.e))))
	if err != nil {
		m.t.Fatal(err)
	}
	for _, id := range e.Identities {
		change(id.SelfSignature)
		if err := id.SelfSignature.SignUserId(id.Name, e.PrimaryKey, m.e.PrivateKey, m.cfg); err != nil {
			m.t.Fatal(err)
		}
		id.Signatures = []*packet.Signature{id.SelfSignature}
	}
	return m.raw(e)
}

// subkeyed gives the certificate with another binding of its signing subkey.
func (m *maker) subkeyed(change func(s *packet.Signature)) []byte {
	e, err := openpgp.ReadEntity(packet.NewReader(bytes.NewReader(m.raw(m.e))))
	if err != nil {
		m.t.Fatal(err)
	}
	for i := range e.Subkeys {
		k := &e.Subkeys[i]
		if k.Sig.FlagSign {
			change(k.Sig)
			if err := k.Sig.SignKey(k.PublicKey, m.e.PrivateKey, m.cfg); err != nil {
				m.t.Fatal(err)
			}
		}
	}
	return m.raw(e)
}

func (m *maker) subkey() *packet.PrivateKey {
	for _, k := range m.e.Subkeys {
		if k.Sig.FlagSign {
			return k.PrivateKey
		}
	}
	m.t.Fatal("there is no signing subkey")
	return nil
}

func armoured(t *testing.T, kind string, headers map[string]string, body []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := armor.Encode(&b, kind, headers)
	if err != nil {
		t.Fatal(err)
	}
	w.Write(body)
	w.Close()
	return append(b.Bytes(), '\n')
}

// handmade is a certificate, a text and a signature.
type handmade struct {
	name                       string
	certificate, text, content []byte // content is what the signature is said to be over
	signature                  []byte
}

func secs(n uint32) *uint32 { return &n }

// handmadeCases are signatures and certificates of all kinds.
func (m *maker) handmadeCases() []handmade {
	text := []byte("what upstream signs\nin two lines\n")
	plain := m.raw(m.e)
	primary := m.e.PrivateKey
	var out []handmade
	add := func(name string, certificate, content, signature []byte) {
		out = append(out, handmade{name: name, certificate: certificate,
			content: content, signature: signature})
	}
	signed := func(name string, change func(s *packet.Signature)) {
		add(name, plain, text, m.sign(primary, text, change))
	}
	signed("plain", nil)
	for _, h := range []crypto.Hash{crypto.SHA256, crypto.SHA384, crypto.SHA512} {
		signed("digest "+h.String(), func(s *packet.Signature) { s.Hash = h })
	}
	signed("lifetime that holds", func(s *packet.Signature) { s.SigLifetimeSecs = secs(1 << 30) })
	signed("lifetime ended", func(s *packet.Signature) { s.SigLifetimeSecs = secs(60) })
	signed("lifetime of nothing", func(s *packet.Signature) { s.SigLifetimeSecs = secs(0) })
	signed("made in the future", func(s *packet.Signature) {
		s.CreationTime = time.Now().Add(48 * time.Hour)
	})
	signed("made before its key", func(s *packet.Signature) { s.CreationTime = m.now.Add(-time.Hour) })
	note := func(critical bool, name string) func(s *packet.Signature) {
		return func(s *packet.Signature) {
			s.Notations = append(s.Notations, &packet.Notation{Name: name, Value: []byte("x"),
				IsCritical: critical, IsHumanReadable: true})
		}
	}
	signed("a notation", note(false, "note@tarn.example"))
	signed("a critical notation", note(true, "note@tarn.example"))
	signed("a critical notation among others", func(s *packet.Signature) {
		note(false, "a@tarn.example")(s)
		note(true, "b@tarn.example")(s)
	})
	signed("a critical notation without a place", note(true, "note"))
	for _, kind := range []packet.SignatureType{packet.SigTypeGenericCert, packet.SigTypePersonaCert,
		packet.SigTypePositiveCert, packet.SigTypeSubkeyBinding, packet.SigTypePrimaryKeyBinding,
		packet.SigTypeDirectSignature, packet.SigTypeKeyRevocation, packet.SigTypeSubkeyRevocation, 0x02,
		0x40, 0x50} {
		signed(fmt.Sprintf("of the type %#x over a text", uint8(kind)), func(s *packet.Signature) {
			s.SigType = kind
		})
	}
	signed("the key id alone", func(s *packet.Signature) { s.IssuerFingerprint = nil })
	signed("the fingerprint alone", func(s *packet.Signature) { s.IssuerKeyId = nil })
	signed("another fingerprint", func(s *packet.Signature) {
		s.IssuerFingerprint = bytes.Repeat([]byte{7}, 20)
	})
	signed("another key id", func(s *packet.Signature) {
		s.IssuerKeyId = ptr(uint64(7))
		s.IssuerFingerprint = nil
	})
	signed("no issuer", func(s *packet.Signature) { s.IssuerKeyId, s.IssuerFingerprint = nil, nil })
	signed("a policy and a key server", func(s *packet.Signature) {
		s.PolicyURI, s.PreferredKeyserver = "https://tarn.example/", "https://tarn.example/"
	})
	crlf := bytes.ReplaceAll(text, []byte("\n"), []byte("\r\n"))
	inText := func(s *packet.Signature) { s.SigType = packet.SigTypeText }
	add("text mode", plain, text, m.sign(primary, crlf, inText))
	add("text mode over the same lines ended otherwise", plain, crlf, m.sign(primary, crlf, inText))
	add("text mode over blanks at line ends", plain, []byte("a \nb\n"),
		m.sign(primary, []byte("a\r\nb\r\n"), inText))
	add("text mode made as binary", plain, text, m.sign(primary, text, inText))
	sub := m.sign(m.subkey(), text, nil)
	add("by a subkey", plain, text, sub)
	good := m.sign(primary, text, nil)
	add("another text", plain, append([]byte("x"), text...), good)
	add("a text cut short", plain, text[:len(text)-1], good)
	add("a text that goes on", plain, append(bytes.Clone(text), '\n'), good)
	add("no text", plain, nil, good)
	add("cut short", plain, text, good[:len(good)-1])
	add("half of it", plain, text, good[:len(good)/2])
	add("nothing", plain, text, nil)
	add("no signature", plain, text, []byte("signed, the desk"))
	add("twice the same", plain, text, append(bytes.Clone(good), good...))
	add("rubbish before it", plain, text, append([]byte{0x00, 0x01}, good...))
	add("rubbish behind it", plain, text, append(bytes.Clone(good), 0x00, 0x01))
	add("a marker before it", plain, text, append([]byte{0xca, 3, 'P', 'G', 'P'}, good...))
	add("a user id before it", plain, text, append([]byte{0xcd, 1, 'x'}, good...))
	add("a text of its own before it", plain, text, append([]byte{0xcb, 7, 'b', 0, 0, 0, 0, 0, 'x'}, good...))
	block := armoured(m.t, openpgp.SignatureType, nil, good)
	add("in armour", plain, text, block)
	add("in armour with a header", plain, text, armoured(m.t, openpgp.SignatureType, map[string]string{
		"Comment": "from the desk"}, good))
	add("in armour of another kind", plain, text, armoured(m.t, "PGP MESSAGE", nil, good))
	add("in armour with a wrong checksum", plain, text,
		bytes.Replace(block,
			block[bytes.LastIndex(block, []byte("\n=")):bytes.LastIndex(block, []byte("\n="))+6], []byte(
				"\n=AAAA"), 1))
	add("in armour without an end", plain, text, block[:bytes.Index(block, []byte("-----END"))])
	add("in armour with text before it", plain, text, append([]byte("hello\n"), block...))
	add("in armour with text behind it", plain, text, append(bytes.Clone(block), "hello\n"...))
	add("two blocks of armour", plain, text, append(bytes.Clone(block), block...))
	rng := rand.New(rand.NewPCG(3, 5))
	for i := range 30 {
		changed := bytes.Clone(good)
		changed[rng.IntN(len(changed))] ^= 1 << rng.IntN(8)
		add(fmt.Sprintf("a bit of it changed (%d)", i), plain, text, changed)
	}
	by := func(name string, certificate []byte) { add(name, certificate, text, good) }
	bySub := func(name string, certificate []byte) { add(name, certificate, text, sub) }
	by("the key ended by its user id", m.resigned(func(s *packet.Signature) {
		s.KeyLifetimeSecs = secs(3600 * 20)
	}))
	by("the key ends later", m.resigned(func(s *packet.Signature) { s.KeyLifetimeSecs = secs(1 << 30) }))
	by("the key ended by itself", m.amended(m.self(func(s *packet.Signature) {
		s.KeyLifetimeSecs = secs(3600 * 20)
	})))
	bySub("the key ended by itself, signed by a subkey", m.amended(m.self(func(s *packet.Signature) {
		s.KeyLifetimeSecs = secs(3600 * 20)
	})))
	by("the key may only certify, by its user id", m.resigned(func(s *packet.Signature) {
		s.FlagsValid, s.FlagSign, s.FlagCertify = true, false, true
	}))
	by("the key may only certify, by itself", m.amended(m.self(func(s *packet.Signature) {
		s.FlagsValid, s.FlagSign, s.FlagCertify = true, false, true
	})))
	by("the key may sign, by itself", m.amended(m.self(func(s *packet.Signature) {
		s.FlagsValid, s.FlagSign, s.FlagCertify = true, true, true
	})))
	by("the key revoked", m.amended(m.self(func(s *packet.Signature) {
		s.SigType = packet.SigTypeKeyRevocation
	})))
	bySub("the key revoked, signed by a subkey", m.amended(m.self(func(s *packet.Signature) {
		s.SigType = packet.SigTypeKeyRevocation
	})))
	by("a critical notation on the user id", m.resigned(func(s *packet.Signature) {
		note(true, "note@tarn.example")(s)
		s.FlagsValid, s.FlagSign = true, true
	}))
	bySub("the subkey ended", m.subkeyed(func(s *packet.Signature) { s.KeyLifetimeSecs = secs(60) }))
	bySub("the subkey may not sign", m.subkeyed(func(s *packet.Signature) {
		s.FlagSign, s.FlagEncryptCommunications = false, true
	}))
	bySub("the subkey without its own consent", m.subkeyed(func(s *packet.Signature) {
		s.EmbeddedSignature = nil
	}))
	bySub("a critical notation on the subkey", m.subkeyed(note(true, "note@tarn.example")))
	other := newMaker(m.t)
	by("another key", other.raw(other.e))
	return out
}

func ptr[T any](v T) *T { return &v }

// What the real client's verifier refuses, we refuse. (We refuse more: a
// signature that was made in the future, or that names no key.)
func TestWhatGpgvRefusesIsRefused(t *testing.T) {
	gpgv, err := exec.LookPath("gpgv")
	if err != nil {
		t.Skip("skipped: gpgv is not on this machine")
	}
	m := newMaker(t)
	cases := m.handmadeCases()
	if len(cases) < 60 {
		t.Errorf("only %d cases", len(cases))
	}
	dir := t.TempDir()
	both := 0
	for i, c := range cases {
		file := func(name string, data []byte) string {
			p := filepath.Join(dir, fmt.Sprintf("%d-%s", i, name))
			if err := os.WriteFile(p, data, 0o600); err != nil {
				t.Fatal(err)
			}
			return p
		}
		ring, content, signature := file("ring.gpg", c.certificate), file("content", c.content), file(
			"signature", c.signature)
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		cmd := exec.CommandContext(ctx, gpgv, "--homedir", dir, "--keyring", ring,
			"--status-fd", "1", signature, content)
		status, err := cmd.Output()
		cancel()
		theirs := err == nil && strings.Contains(string(status), "GOODSIG")
		ours := errors.New("the certificate was refused")
		if certs, err := ReadCertificates(c.certificate); err == nil && len(certs) == 1 {
			_, ours = NewKeyring("tarn", []Known{{Certificate: certs[0], VouchedFor: []string{"tarn"}}},
				time.Now).Detached(c.content, c.signature)
		}
		switch {
		case !theirs && ours == nil:
			t.Errorf("%s: gpgv refuses it, and we take it\n%s", c.name, status)
		case theirs && ours == nil:
			both++
		case theirs:
			t.Logf("%s: gpgv takes it, and we do not: %v", c.name, ours)
		}
	}
	if both < 12 {
		t.Errorf("only %d of %d cases were taken by both", both, len(cases))
	}
}

func TestARevocationThatWasSeenStays(t *testing.T) {
	m := newMaker(t)
	old := m.raw(m.e)
	revoked := m.amended(m.self(func(s *packet.Signature) { s.SigType = packet.SigTypeKeyRevocation }))
	read := func(data []byte) *Certificate {
		t.Helper()
		certs, err := ReadCertificates(data)
		if err != nil || len(certs) != 1 {
			t.Fatalf("%d certificates, %v", len(certs), err)
		}
		return certs[0]
	}
	merged, more, err := read(revoked).Merge(read(old))
	if err != nil || more || !merged.Primary.Revoked {
		t.Errorf("an older copy: revoked %v, more %v, %v", merged.Primary.Revoked, more, err)
	}
	merged, more, err = read(old).Merge(read(revoked))
	if err != nil || !more || !merged.Primary.Revoked ||
		!strings.Contains(strings.Join(read(old).Changes(merged), "; "), "withdrawn by its owner") {
		t.Errorf("a newer copy: revoked %v, more %v, %v", merged.Primary.Revoked, more, err)
	}
	// Two copies in one file, in either order and form.
	for name, data := range map[string][]byte{"the old one last": append(bytes.Clone(revoked), old...),
		"the old one first": append(bytes.Clone(old), revoked...),
		"in armour": append(armoured(t, openpgp.PublicKeyType, nil, revoked),
			armoured(t, openpgp.PublicKeyType, nil, old)...)} {
		if !read(data).Primary.Revoked {
			t.Errorf("%s: the revocation is lost", name)
		}
	}
	// It goes on: written and read again, for machines too.
	if !read(merged.Binary()).Primary.Revoked || !read([]byte(merged.Armoured())).Primary.Revoked {
		t.Error("the revocation is lost when the certificate is written")
	}
	text := []byte("x")
	_, err = NewKeyring("tarn", []Known{{Certificate: merged, VouchedFor: []string{"tarn"}}},
		time.Now).Detached(text, m.sign(m.e.PrivateKey, text, nil))
	if f, _ := finding.From(err); f.Code != "key.revoked" {
		t.Errorf("%v", err)
	}
	// A new end date and a new subkey stay as well.
	longer := m.resigned(func(s *packet.Signature) {
		s.KeyLifetimeSecs = secs(1 << 30)
		s.CreationTime = m.now.Add(time.Hour)
	})
	merged, _, err = read(longer).Merge(read(old))
	if err != nil || merged.Primary.Expires.IsZero() {
		t.Errorf("the end date is lost: %v", err)
	}
}
