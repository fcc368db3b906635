// Package trust reads OpenPGP certificates, decides whether a signature counts
// for one source, and signs as the site.
//
// Who is trusted for what: a Keyring belongs to one source and holds only the
// certificates that somebody vouched for, for that source. A certificate that
// is vouched for elsewhere is a stranger here. A barred one counts nowhere.
// OpenPGP itself (RFC 9580, and RFC 4880 for what older signers make) is done
// by the ProtonMail/go-crypto package; what is decided with it is decided here.
package trust

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
)

// maxCertificates bounds what is read as certificates (bytes).
const maxCertificates = 8 << 20

// Part is a primary key or subkey of a certificate.
type Part struct {
	Fingerprint string    `json:"fingerprint"`
	Algorithm   string    `json:"algorithm"`
	Bits        int       `json:"bits,omitempty"`
	Created     time.Time `json:"created"`
	Expires     time.Time `json:"expires,omitzero"`
	CanSign     bool      `json:"can_sign"`
	Revoked     bool      `json:"revoked"`
	Reason      string    `json:"reason,omitempty"` // of the revocation
	Bound       string    `json:"bound,omitempty"`  // the digest of the signature that it hangs on
}

// Certificate is an OpenPGP certificate without secret parts.
type Certificate struct {
	Fingerprint string   `json:"fingerprint"` // whole, upper case, no spaces
	UserIDs     []string `json:"user_ids"`
	Primary     Part     `json:"primary"`
	Subkeys     []Part   `json:"subkeys"`

	entity *openpgp.Entity
	raw    *rawCertificate
}

func unreadable(cause, format string, args ...any) error {
	return finding.New(finding.KeyUnreadable, "", format, args...).Because(cause)
}

// ReadCertificates reads one or many certificates, armoured or binary. A
// secret key is refused with key.secret-material before anything is kept.
func ReadCertificates(data []byte) ([]*Certificate, error) {
	if len(data) > maxCertificates {
		return nil, unreadable("too-large", "the file has more than %d bytes; certificates are "+
			"far smaller",
			maxCertificates)
	}
	rings, err := unpacked(data)
	if err != nil {
		return nil, err
	}
	var raws []*rawCertificate
	for _, ring := range rings {
		list, err := splitCertificates(ring)
		if err != nil {
			return nil, err
		}
		for _, c := range list { // two copies of one certificate are one
			if i := slices.IndexFunc(raws, func(have *rawCertificate) bool {
				return bytes.Equal(have.primary.head, c.primary.head)
			}); i >= 0 {
				raws[i] = raws[i].merge(c)
			} else {
				raws = append(raws, c)
			}
		}
	}
	var out []*Certificate
	for _, raw := range raws {
		c, err := raw.read()
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	if len(out) == 0 {
		return nil, unreadable("none", "the file contains no certificate")
	}
	return out, nil
}

// unpacked gives the packets of each block of armour, or the data itself where it has none.
func unpacked(data []byte) ([][]byte, error) {
	var rings [][]byte
	if isKeybox(data) {
		return unboxed(data)
	}
	if bytes.Contains(data, []byte("-----BEGIN PGP")) {
		if err := checkArmour(data); err != nil {
			return nil, unreadable("armour", "the ASCII armor is damaged: %v", err)
		}
		rest := bytes.NewReader(data)
		for {
			block, err := armor.Decode(rest)
			if err == io.EOF {
				break
			}
			if err != nil {
				return nil, unreadable("armour", "the ASCII armor is damaged: %v", err)
			}
			if block.Type == openpgp.PrivateKeyType {
				return nil, finding.New(finding.KeySecretMaterial, "", "the file contains a "+
					"secret key. Stockade did not store it")
			}
			if block.Type != openpgp.PublicKeyType {
				return nil, unreadable("kind", "the armor contains a %q, but a public key "+
					"block is needed",
					block.Type)
			}
			body, err := io.ReadAll(block.Body)
			if err != nil {
				return nil, unreadable("armour", "the ASCII armor is damaged: %v", err)
			}
			rings = append(rings, body)
			// The decoder reads ahead: go on behind the block's end.
			at := bytes.Index(data, []byte("-----END PGP"))
			data = data[at+len("-----END PGP"):]
			if !bytes.Contains(data, []byte("-----BEGIN PGP")) {
				break
			}
			rest = bytes.NewReader(data)
		}
	} else {
		rings = [][]byte{data}
	}
	return rings, nil
}

// read makes a certificate of its packets.
func (c *rawCertificate) read() (*Certificate, error) {
	if err := c.own(); err != nil {
		return nil, err
	}
	list, err := openpgp.ReadKeyRing(bytes.NewReader(c.binary()))
	if err != nil {
		return nil, unreadable("malformed", "not an OpenPGP certificate: %v", err)
	}
	if len(list) != 1 || hasSecret(list[0]) {
		return nil, unreadable("malformed", "not one OpenPGP certificate")
	}
	return describe(list[0], c), nil
}

// Merge gives a certificate with all that c and another copy of it have, and
// whether that is more than c has. What was seen once stays: an older copy takes
// back no revocation, no new end date and no new subkey. A copy that cannot be
// read together with c is refused, and c stays as it is.
func (c *Certificate) Merge(other *Certificate) (merged *Certificate, more bool, err error) {
	if c.Fingerprint != other.Fingerprint {
		return nil, false, fmt.Errorf("trust: %s is not %s", other.Fingerprint, c.Fingerprint)
	}
	merged, err = c.raw.merge(other.raw).read()
	if err != nil {
		return nil, false, err
	}
	return merged, !bytes.Equal(merged.Binary(), c.Binary()), nil
}

// Changes tells in words what another copy of a certificate has that c has not.
func (c *Certificate) Changes(now *Certificate) (out []string) {
	for _, id := range now.UserIDs {
		if !slices.Contains(c.UserIDs, id) {
			out = append(out, "the user id "+id+" is new")
		}
	}
	before := map[string]Part{}
	for _, p := range append([]Part{c.Primary}, c.Subkeys...) {
		before[p.Fingerprint] = p
	}
	for _, p := range append([]Part{now.Primary}, now.Subkeys...) {
		old, known := before[p.Fingerprint]
		switch {
		case !known:
			out = append(out, "the subkey "+p.Fingerprint+" is new")
			continue
		case p.Revoked && !old.Revoked:
			out = append(out, p.Fingerprint+" is revoked: "+p.Reason)
		}
		if !p.Expires.Equal(old.Expires) {
			end := "no expiry date"
			if !p.Expires.IsZero() {
				end = "the expiry date " + p.Expires.Format(time.DateOnly)
			}
			out = append(out, p.Fingerprint+" has "+end)
		}
	}
	if len(out) == 0 {
		out = append(out, "further signatures of its own")
	}
	return out
}

func hasSecret(e *openpgp.Entity) bool {
	if e.PrivateKey != nil {
		return true
	}
	for _, s := range e.Subkeys {
		if s.PrivateKey != nil {
			return true
		}
	}
	return false
}

func describe(e *openpgp.Entity, raw *rawCertificate) *Certificate {
	c := &Certificate{
		Fingerprint: fingerprint(e.PrimaryKey),
		entity:      e,
		raw:         raw,
		UserIDs:     []string{},
		Subkeys:     []Part{},
	}
	if id := e.PrimaryIdentity(); id != nil {
		c.UserIDs = append(c.UserIDs, finding.Harmless(id.Name))
	}
	for name := range e.Identities {
		name = finding.Harmless(name)
		if len(c.UserIDs) == 0 || c.UserIDs[0] != name {
			c.UserIDs = append(c.UserIDs, name)
		}
	}
	if len(c.UserIDs) > 2 {
		sortStrings(c.UserIDs[1:])
	}
	c.Primary = primaryPart(e, raw)
	for _, s := range e.Subkeys {
		p := part(s.PublicKey, s.Sig, s.Revocations)
		p.CanSign = s.PublicKey.PubKeyAlgo.CanSign() && s.Sig != nil && s.Sig.FlagsValid && s.Sig.FlagSign &&
			criticalNotation(s.Sig) == ""
		c.Subkeys = append(c.Subkeys, p)
	}
	return c
}

// primaryPart describes the primary key. Its end and its use are what the newest
// signature directly on the key says; what that leaves open, the newest of the
// signatures on user ids that says it.
func primaryPart(e *openpgp.Entity, raw *rawCertificate) Part {
	self := []*packet.Signature{}
	for _, id := range e.Identities {
		if id.SelfSignature != nil && len(id.Revocations) == 0 {
			self = append(self, id.SelfSignature)
		}
	}
	slices.SortFunc(self, func(a, b *packet.Signature) int { return b.CreationTime.Compare(a.CreationTime) })
	if d := raw.direct(e.PrimaryKey); d != nil {
		self = append([]*packet.Signature{d}, self...)
	}
	p := part(e.PrimaryKey, nil, e.Revocations)
	if len(self) > 0 {
		p.Bound = boundBy(self[0])
	}
	p.CanSign = e.PrimaryKey.PubKeyAlgo.CanSign()
	flags := false
	for _, s := range self {
		if criticalNotation(s) != "" {
			p.CanSign = false
		}
		if s.FlagsValid && !flags {
			flags = true
			p.CanSign = p.CanSign && s.FlagSign
		}
		if p.Expires.IsZero() && s.KeyLifetimeSecs != nil && *s.KeyLifetimeSecs > 0 {
			p.Expires = p.Created.Add(time.Duration(*s.KeyLifetimeSecs) * time.Second)
		}
	}
	return p
}

func part(k *packet.PublicKey, self *packet.Signature, revocations []*packet.Signature) Part {
	p := Part{
		Fingerprint: fingerprint(k),
		Created:     k.CreationTime.UTC(),
		Algorithm:   algorithmName(k.PubKeyAlgo),
		Bound:       boundBy(self),
	}
	if bits, err := k.BitLength(); err == nil {
		p.Bits = int(bits)
	}
	if self != nil && self.KeyLifetimeSecs != nil && *self.KeyLifetimeSecs > 0 {
		p.Expires = p.Created.Add(time.Duration(*self.KeyLifetimeSecs) * time.Second)
	}
	if len(revocations) > 0 {
		p.Revoked = true
		r := revocations[0]
		p.Reason = finding.Harmless(r.RevocationReasonText)
		if p.Reason == "" && r.RevocationReason != nil {
			p.Reason = map[packet.ReasonForRevocation]string{
				packet.NoReason: "no reason given", packet.KeySuperseded: "superseded",
				packet.KeyCompromised: "compromised", packet.KeyRetired: "retired",
			}[*r.RevocationReason]
		}
		if p.Reason == "" {
			p.Reason = "no reason given"
		}
	}
	return p
}

func algorithmName(a packet.PublicKeyAlgorithm) string {
	switch a {
	case packet.PubKeyAlgoRSA, packet.PubKeyAlgoRSAEncryptOnly, packet.PubKeyAlgoRSASignOnly:
		return "RSA"
	case packet.PubKeyAlgoDSA:
		return "DSA"
	case packet.PubKeyAlgoElGamal:
		return "ElGamal"
	case packet.PubKeyAlgoECDSA:
		return "ECDSA"
	case packet.PubKeyAlgoECDH:
		return "ECDH"
	case packet.PubKeyAlgoEdDSA, packet.PubKeyAlgoEd25519:
		return "Ed25519"
	case packet.PubKeyAlgoEd448:
		return "Ed448"
	case packet.PubKeyAlgoX25519:
		return "X25519"
	case packet.PubKeyAlgoX448:
		return "X448"
	}
	return fmt.Sprintf("algorithm %d", a)
}

func fingerprint(k *packet.PublicKey) string { return fmt.Sprintf("%X", k.Fingerprint) }

// Binary gives the certificate in binary form, as keyrings hold it.
func (c *Certificate) Binary() []byte { return c.raw.binary() }

// Armoured gives the certificate as text.
func (c *Certificate) Armoured() string {
	var b bytes.Buffer
	w, err := armor.Encode(&b, openpgp.PublicKeyType, nil)
	if err != nil {
		return ""
	}
	w.Write(c.Binary())
	w.Close()
	b.WriteByte('\n')
	return b.String()
}

// SignsUntil tells until when something of the certificate may sign, if nothing is
// renewed: the zero time for without end. able is false where nothing of it may now.
func (c *Certificate) SignsUntil(now time.Time) (end time.Time, able bool) {
	ends := c.Primary.Expires
	if c.Primary.Revoked || !ends.IsZero() && !ends.After(now) {
		return time.Time{}, false
	}
	for _, p := range append([]Part{c.Primary}, c.Subkeys...) {
		if !p.CanSign || p.Revoked || !p.Expires.IsZero() && !p.Expires.After(now) {
			continue
		}
		last := p.Expires
		if last.IsZero() || !ends.IsZero() && ends.Before(last) {
			last = ends // a part ends with the whole
		}
		if !able || !end.IsZero() && (last.IsZero() || last.After(end)) {
			end = last
		}
		able = true
	}
	return end, able
}

// Check gives the findings about the certificate itself, as of now: expired,
// expiring within 30 days, revoked, weak, unable to sign.
func (c *Certificate) Check(now time.Time) finding.List { return c.CheckBy(Policy{}, now) }

// CheckBy is Check where a policy holds.
func (c *Certificate) CheckBy(policy Policy, now time.Time) finding.List {
	var out finding.List
	object := "key " + c.Fingerprint
	day := func(d time.Duration) int { return int(d.Hours() / 24) }
	if c.Primary.Revoked {
		out = append(out, finding.New(finding.KeyRevoked, object, "the owner has revoked this "+
			"key: %s",
			c.Primary.Reason))
	}
	if e := c.Primary.Expires; !e.IsZero() {
		if left := e.Sub(now); left <= 0 {
			out = append(out, finding.New(finding.KeyExpired, object, "the key expired on %s, %s ago",
				e.Format(time.DateOnly), finding.Count(day(-left), "day")))
		} else if left < 30*24*time.Hour {
			out = append(out, finding.New(finding.KeyExpiring, object, "the key expires on %s, in %s",
				e.Format(time.DateOnly), finding.Count(day(left), "day")))
		}
	}
	if end, able := c.SignsUntil(now); able && !end.IsZero() && !end.Equal(c.Primary.Expires) {
		if left := end.Sub(now); left < 30*24*time.Hour {
			out = append(out, finding.New(finding.KeyExpiring, object,
				"the last subkey that may sign expires on %s, in %s", end.Format(time.DateOnly),
				finding.Count(day(left), "day")))
		}
	}
	out = append(out, c.weak(policy, now)...)
	able := c.Primary.CanSign
	for _, s := range c.Subkeys {
		able = able || s.signs(now)
	}
	if !able {
		out = append(out, finding.New(finding.KeyCannotSign, object, "none of its %d keys and "+
			"subkeys may sign",
			1+len(c.Subkeys)))
	}
	return out
}

// signs tells whether a subkey may sign now.
func (p Part) signs(now time.Time) bool {
	return p.CanSign && !p.Revoked && (p.Expires.IsZero() || p.Expires.After(now))
}

// weak tells of the primary key, and of each subkey that signs, when it is weaker than is
// wise. It is an error where no signature of the certificate can count for that.
func (c *Certificate) weak(policy Policy, now time.Time) (out finding.List) {
	object := "key " + c.Fingerprint
	verdict, what, why := policy.part(c.Primary)
	if verdict != Counts {
		f := finding.New(finding.KeyWeak, object, "the key %s: %s", what, why)
		if verdict == Refused {
			return append(out, f.Rated(finding.Error))
		}
		out = append(out, f)
	}
	counts := c.Primary.CanSign
	var refused finding.List
	for _, s := range c.Subkeys {
		if !s.signs(now) {
			continue
		}
		verdict, what, why := policy.part(s)
		if verdict == Counts {
			counts = true
			continue
		}
		f := finding.New(finding.KeyWeak, object, "the subkey %s %s: %s", s.Fingerprint, what, why)
		if verdict == Refused {
			refused = append(refused, f)
			continue
		}
		out = append(out, f)
		counts = true
	}
	for _, f := range refused {
		if !counts {
			f = f.Rated(finding.Error)
		}
		out = append(out, f)
	}
	return out
}

var errNotHex = errors.New("not hexadecimal")

// ParseFingerprint takes a fingerprint as people write it, spaces and colons
// allowed, and gives it whole in upper case. A short id comes back as
// key.short-id, anything else that is none as define.bad-value.
func ParseFingerprint(s string) (string, error) {
	f := strings.ToUpper(strings.NewReplacer(" ", "", ":", "", "\t", "").Replace(s))
	f = strings.TrimPrefix(f, "0X")
	err := error(nil)
	if strings.Trim(f, "0123456789ABCDEF") != "" {
		err = errNotHex
	}
	switch {
	case err == nil && (len(f) == 40 || len(f) == 64):
		return f, nil
	case err == nil && (len(f) == 8 || len(f) == 16):
		return "", finding.New(finding.KeyShortID, "",
			"%q is a short key ID. Anyone can make a key with the same short ID",
			s)
	case err != nil:
		return "", finding.New(finding.DefineBadValue, "", "%q is not hexadecimal, so it is "+
			"not a fingerprint", s)
	}
	return "", finding.New(finding.DefineBadValue, "",
		"%q has %d hexadecimal digits; a fingerprint has 40 (or 64)", s, len(f))
}

// Spaced writes a fingerprint in groups of four.
func Spaced(f string) string {
	var b strings.Builder
	for i, c := range f {
		if i > 0 && i%4 == 0 {
			b.WriteByte(' ')
		}
		b.WriteRune(c)
	}
	return b.String()
}
