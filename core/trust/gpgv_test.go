package trust

import (
	"bytes"
	"context"
	"crypto"
	_ "crypto/md5"
	_ "crypto/sha1"
	"encoding/binary"
	"fmt"
	"math/big"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/eddsa"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
	"stockade/internal/must"
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
	must.Do(t, err)
	must.Do(t, e.AddSigningSubkey(m.cfg))
	m.e = e
	return m
}

func (m *maker) raw(e *openpgp.Entity) []byte {
	var b bytes.Buffer
	must.Do(m.t, e.Serialize(&b))
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
	must.Do(m.t, err)
	h.Write(content)
	must.Do(m.t, s.Sign(h, key, m.cfg))
	var b bytes.Buffer
	must.Do(m.t, s.Serialize(&b))
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
	must.Do(m.t, s.SignDirectKeyBinding(m.e.PrimaryKey, key, m.cfg))
	var b bytes.Buffer
	must.Do(m.t, s.Serialize(&b))
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
	must.Do(m.t, err)
	for _, id := range e.Identities {
		change(id.SelfSignature)
		must.Do(m.t, id.SelfSignature.SignUserId(id.Name, e.PrimaryKey, m.e.PrivateKey, m.cfg))
		id.Signatures = []*packet.Signature{id.SelfSignature}
	}
	return m.raw(e)
}

// subkeyed gives the certificate with another binding of its signing subkey.
func (m *maker) subkeyed(change func(s *packet.Signature)) []byte {
	e, err := openpgp.ReadEntity(packet.NewReader(bytes.NewReader(m.raw(m.e))))
	must.Do(m.t, err)
	for i := range e.Subkeys {
		k := &e.Subkeys[i]
		if k.Sig.FlagSign {
			change(k.Sig)
			must.Do(m.t, k.Sig.SignKey(k.PublicKey, m.e.PrivateKey, m.cfg))
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
	must.Do(t, err)
	w.Write(body)
	w.Close()
	return append(b.Bytes(), '\n')
}

// byHand is what of a signature is made by hand (RFC 9580 §5.2.3): what no program writes.
type byHand struct {
	hashed, unhashed []byte // subpackets, behind the date of the one and the other
	hash             crypto.Hash
	id               byte // of the hash, SHA-512 where none is given
}

// subpacket writes one (§5.2.3.7).
func subpacket(kind byte, data []byte) []byte {
	return append([]byte{byte(1 + len(data)), kind}, data...)
}

func (m *maker) keyID(id uint64) []byte { return subpacket(16, binary.BigEndian.AppendUint64(nil, id)) }

func (m *maker) named(fingerprint []byte) []byte {
	return subpacket(33, append([]byte{4}, fingerprint...))
}

// made signs content by hand with the primary key.
func (m *maker) made(h byHand, content []byte) []byte {
	m.t.Helper()
	if h.id == 0 {
		h.hash, h.id = crypto.SHA512, 10
	}
	made := binary.BigEndian.AppendUint32(nil, uint32(m.now.Add(time.Hour).Unix()))
	hashed := append(subpacket(2, made), h.hashed...)
	head := append([]byte{4, byte(packet.SigTypeBinary), byte(packet.PubKeyAlgoEdDSA), h.id, 0,
		byte(len(hashed))}, hashed...)
	sum := h.hash.New()
	sum.Write(content)
	sum.Write(head)
	sum.Write([]byte{4, 0xff, 0, 0, 0, byte(len(head))})
	digest := sum.Sum(nil)
	r, s, err := eddsa.Sign(m.e.PrivateKey.PrivateKey.(*eddsa.PrivateKey), digest)
	must.Do(m.t, err)
	body := append(head, 0, byte(len(h.unhashed)))
	body = append(append(body, h.unhashed...), digest[:2]...)
	for _, n := range [][]byte{r, s} {
		i := new(big.Int).SetBytes(n)
		body = append(binary.BigEndian.AppendUint16(body, uint16(i.BitLen())), i.Bytes()...)
	}
	if len(body) >= 192 {
		m.t.Fatalf("%d bytes need another length", len(body))
	}
	return append([]byte{0xc2, byte(len(body))}, body...)
}

// handmade is a certificate, a text and a signature.
type handmade struct {
	name                 string
	certificate, content []byte // content is what the signature is said to be over
	signature            []byte
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
	hand := func(name string, h byHand) { add(name, plain, text, m.made(h, text)) }
	named := m.keyID(primary.KeyId)
	hand("by hand", byHand{unhashed: named})
	hand("the key id alone", byHand{hashed: named})
	hand("the fingerprint alone", byHand{hashed: m.named(primary.Fingerprint)})
	hand("another fingerprint", byHand{hashed: m.named(bytes.Repeat([]byte{7}, 20))})
	hand("another fingerprint beside the right key id", byHand{hashed: m.named(bytes.Repeat([]byte{7}, 20)),
		unhashed: named})
	hand("another key id", byHand{hashed: m.keyID(7)})
	hand("no issuer", byHand{})
	hand("an issuer of a length that is none", byHand{hashed: subpacket(16, []byte{1, 2, 3})})
	hand("something critical that is not known",
		byHand{hashed: append(named, subpacket(0x80|100, []byte{1})...)})
	hand("something else that is not known", byHand{hashed: append(named, subpacket(100, []byte{1})...)})
	hand("the weak digest SHA-1", byHand{unhashed: named, hash: crypto.SHA1, id: 2})
	hand("the weak digest MD5", byHand{unhashed: named, hash: crypto.MD5, id: 1})
	hand("the digest SHA-224", byHand{unhashed: named, hash: crypto.SHA224, id: 11})
	hand("a digest by another name", byHand{unhashed: named, hash: crypto.SHA512, id: 8})
	hand("a digest that nobody has", byHand{unhashed: named, hash: crypto.SHA512, id: 99})
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
	others := func(n int) (all []byte) {
		for i := range n {
			all = append(all, m.made(byHand{hashed: m.keyID(uint64(i))}, text)...)
		}
		return all
	}
	add("behind as many others as are looked at", plain, text, append(others(maxSignatures-1), good...))
	add("behind more others than are looked at", plain, text, append(others(maxSignatures), good...))
	add("before one that is damaged", plain, text, append(bytes.Clone(good), 0xc2, 3, 9, 9, 9))
	add("a marker before it", plain, text, append([]byte{0xca, 3, 'P', 'G', 'P'}, good...))
	add("a user id before it", plain, text, append([]byte{0xcd, 1, 'x'}, good...))
	add("a text of its own before it", plain, text, append([]byte{0xcb, 7, 'b', 0, 0, 0, 0, 0, 'x'}, good...))
	block := armoured(m.t, openpgp.SignatureType, nil, good)
	add("in armour", plain, text, block)
	add("in armour with a header", plain, text, armoured(m.t, openpgp.SignatureType, map[string]string{
		"Comment": "from the desk"}, good))
	add("in armour of another kind", plain, text, armoured(m.t, "PGP MESSAGE", nil, good))
	add("in armour with a wrong checksum", plain, text, bytes.Replace(block,
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

// outcomes are what is decided of each of the handmade: a code and its cause, or nothing
// where the signature counts. A bit that is changed is a matter of chance, and of gpgv's.
var outcomes = map[string]string{
	"plain": "", "digest SHA-256": "", "digest SHA-384": "", "digest SHA-512": "", "by hand": "",
	"the digest SHA-224":  "",
	"lifetime that holds": "", "lifetime of nothing": "", "lifetime ended": "content.signature-bad ended",
	"made in the future":                          "content.signature-bad future",
	"made before its key":                         "content.signature-bad before-its-key",
	"a notation":                                  "",
	"a critical notation":                         "content.signature-bad notation",
	"a critical notation among others":            "content.signature-bad notation",
	"a critical notation without a place":         "content.signature-bad notation",
	"the key id alone":                            "",
	"the fingerprint alone":                       "",
	"another fingerprint":                         "content.signature-bad unknown-key",
	"another fingerprint beside the right key id": "content.signature-bad unknown-key",
	"another key id":                              "content.signature-bad unknown-key",
	"no issuer":                                   "content.signature-bad unknown-key",
	"an issuer of a length that is none":          "content.signature-bad malformed",
	"something critical that is not known":        "content.signature-bad malformed",
	"something else that is not known":            "",
	"the weak digest SHA-1":                       "content.signature-bad weak-digest",
	"the weak digest MD5":                         "content.signature-bad malformed",
	"a digest by another name":                    "content.signature-bad changed",
	"a digest that nobody has":                    "content.signature-bad malformed",
	"a policy and a key server":                   "",
	"text mode":                                   "", "text mode over the same lines ended otherwise": "",
	"text mode over blanks at line ends":     "content.signature-bad changed",
	"text mode made as binary":               "content.signature-bad changed",
	"by a subkey":                            "",
	"another text":                           "content.signature-bad changed",
	"a text cut short":                       "content.signature-bad changed",
	"a text that goes on":                    "content.signature-bad changed",
	"no text":                                "content.signature-bad changed",
	"cut short":                              "content.signature-bad malformed",
	"half of it":                             "content.signature-bad malformed",
	"nothing":                                "content.signature-bad none",
	"no signature":                           "content.signature-bad malformed",
	"twice the same":                         "",
	"rubbish before it":                      "content.signature-bad malformed",
	"rubbish behind it":                      "content.signature-bad malformed",
	"behind as many others as are looked at": "",
	"behind more others than are looked at":  "content.signature-bad too-many",
	"before one that is damaged":             "",
	"a marker before it":                     "",
	"a user id before it":                    "content.signature-bad foreign",
	"a text of its own before it":            "content.signature-bad foreign",
	"in armour":                              "", "in armour with a header": "", "two blocks of armour": "",
	"in armour of another kind":       "content.signature-bad malformed",
	"in armour with a wrong checksum": "content.signature-bad armour",
	"in armour without an end":        "",
	"in armour with text before it":   "", "in armour with text behind it": "",
	"the key ended by its user id":                "key.expired",
	"the key ends later":                          "",
	"the key ended by itself":                     "key.expired",
	"the key ended by itself, signed by a subkey": "key.expired",
	"the key may only certify, by its user id":    "key.cannot-sign",
	"the key may only certify, by itself":         "key.cannot-sign",
	"the key may sign, by itself":                 "",
	"the key revoked":                             "key.revoked",
	"the key revoked, signed by a subkey":         "key.revoked",
	"a critical notation on the user id":          "key.cannot-sign",
	"the subkey ended":                            "key.expired",
	"the subkey may not sign":                     "key.cannot-sign",
	"the subkey without its own consent":          "key.unreadable malformed",
	"a critical notation on the subkey":           "key.cannot-sign",
	"another key":                                 "content.signature-bad unknown-key",
}

// said gives the code of an error and its cause.
func said(err error) string {
	f, ok := finding.From(err)
	if err != nil && !ok {
		return err.Error()
	}
	return strings.TrimSpace(string(f.Code) + " " + f.Cause)
}

func TestWhatIsDecidedOfEachSignature(t *testing.T) {
	m := newMaker(t)
	met := map[string]bool{}
	for _, c := range m.handmadeCases() {
		want, known := outcomes[c.name]
		switch {
		case strings.HasPrefix(c.name, "of the type"):
			want, known = "content.signature-bad type", true
		case strings.HasPrefix(c.name, "a bit of it changed"):
			continue
		}
		met[c.name] = true
		err := c.judged()
		if got := said(err); got != want || !known {
			t.Errorf("%s: %q, and %q was meant: %v", c.name, got, want, err)
		}
		if f, ok := finding.From(err); ok && f.Code != "key.unreadable" && f.Object != "source tarn" {
			t.Errorf("%s: it is told of %q", c.name, f.Object)
		}
	}
	for _, c := range m.handmadeCases() {
		text := map[string]string{
			"another key id": "signed by 0000000000000007,", "no issuer": "signed by an unnamed key,",
			"another fingerprint":                 "signed by " + strings.Repeat("07", 20) + ",",
			"an issuer of a length that is none":  "a signature is damaged or of an unknown type",
			"the weak digest SHA-1":               "the digest SHA-1: collisions",
			"made before its key":                 fmt.Sprintf("its key %X", m.e.PrimaryKey.Fingerprint),
			"the key may only certify, by itself": "a subkey that may not sign",
		}[c.name]
		if err := c.judged(); text != "" && (err == nil || !strings.Contains(err.Error(), text)) {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	for name := range outcomes {
		if !met[name] {
			t.Errorf("nothing is %q", name)
		}
	}
}

// judged decides about the signature by a keyring that has the certificate.
func (c handmade) judged() error {
	certs, err := ReadCertificates(c.certificate)
	if err != nil {
		return err
	}
	_, err = NewKeyring("tarn", []Known{{Certificate: certs[0], VouchedFor: []string{"tarn"}}},
		time.Now).Detached(c.content, c.signature)
	return err
}

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
			must.Do(t, os.WriteFile(p, data, 0o600))
			return p
		}
		ring, content, signature := file("ring.gpg", c.certificate), file("content", c.content), file(
			"signature", c.signature)
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		cmd := exec.CommandContext(ctx, gpgv, "--homedir", dir, "--keyring", ring,
			"--status-fd", "1", signature, content)
		status, err := cmd.Output()
		cancel()
		// Of several signatures one that counts is enough, to apt too, for all that gpgv
		// says of the others in its exit code.
		several := strings.Contains(c.name, "others") || strings.HasPrefix(c.name, "before one")
		theirs := strings.Contains(string(status), "GOODSIG") && (err == nil || several)
		ours := c.judged()
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
		!strings.Contains(strings.Join(read(old).Changes(merged), "; "), "is revoked") {
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
