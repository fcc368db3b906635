package trust

import (
	"bytes"
	"crypto"
	"fmt"
	"io"
	"slices"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/archive"
	"stockade/core/finding"
)

// SiteKey signs as one site: seals, and the roots of tailored mirrors. While a site has
// two keys, it signs with both.
type SiteKey struct {
	entity *openpgp.Entity
	beside []*openpgp.Entity // that sign too
	now    func() time.Time
}

var _ archive.SigningKey = (*SiteKey)(nil)

// siteKeyBits is the size of the site's RSA key. RSA, because every client
// that isolated machines still run can verify it.
const siteKeyBits = 3072

func config(now func() time.Time) *packet.Config {
	return &packet.Config{
		DefaultHash: crypto.SHA512,
		Algorithm:   packet.PubKeyAlgoRSA,
		RSABits:     siteKeyBits,
		Time:        now,
	}
}

// NewKey makes a signing key that has no end date: the clocks of isolated
// machines are not to be relied on, and a key is taken out by barring it.
func NewKey(name, comment, address string, now func() time.Time) (*SiteKey, error) {
	e, err := openpgp.NewEntity(name, comment, address, config(now))
	if err != nil {
		return nil, fmt.Errorf("make the signing key: %w", err)
	}
	e.Subkeys = nil // it encrypts nothing
	return &SiteKey{entity: e, now: now}, nil
}

// At gives the same key with another clock, for signatures of another time.
func (s *SiteKey) At(now func() time.Time) *SiteKey {
	return &SiteKey{entity: s.entity, beside: s.beside, now: now}
}

// Beside gives a key that signs with other as well as with s; its certificate is that of
// s, whose signature comes first.
func (s *SiteKey) Beside(other *SiteKey) *SiteKey {
	return &SiteKey{entity: s.entity, beside: slices.Concat(s.beside, []*openpgp.Entity{other.entity}),
		now: s.now}
}

// Alone gives the same key without those that sign beside it.
func (s *SiteKey) Alone() *SiteKey { return &SiteKey{entity: s.entity, now: s.now} }

// Certify signs the user IDs of other (RFC 9580 §5.2.1.11, type 0x13): it is the key of the
// same site from now on. What other's Certificate gives has that signature in it.
func (s *SiteKey) Certify(other *SiteKey) error {
	for name := range other.entity.Identities {
		if err := other.entity.SignIdentity(name, s.entity, config(s.now)); err != nil {
			return fmt.Errorf("certify the new key: %w", err)
		}
	}
	return nil
}

// Locked gives the secret key in binary form, encrypted with passphrase.
func (s *SiteKey) Locked(passphrase []byte) ([]byte, error) {
	// Encrypting works in place, so it is done on a copy.
	var plain bytes.Buffer
	if err := s.entity.SerializePrivateWithoutSigning(&plain, nil); err != nil {
		return nil, err
	}
	list, err := openpgp.ReadKeyRing(&plain)
	if err != nil {
		return nil, err
	}
	if err := list[0].EncryptPrivateKeys(passphrase, config(s.now)); err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = list[0].SerializePrivateWithoutSigning(&out, nil)
	return out.Bytes(), err
}

// Unlock reads a key that Locked wrote.
func Unlock(locked, passphrase []byte, now func() time.Time) (*SiteKey, error) {
	list, err := openpgp.ReadKeyRing(bytes.NewReader(locked))
	if err != nil || len(list) != 1 || list[0].PrivateKey == nil {
		return nil, fmt.Errorf("the file of the site key is damaged")
	}
	if err := list[0].DecryptPrivateKeys(passphrase); err != nil {
		return nil, fmt.Errorf("the passphrase does not open the site key")
	}
	return &SiteKey{entity: list[0], now: now}, nil
}

// Certificate gives the public part.
func (s *SiteKey) Certificate() *Certificate {
	var b bytes.Buffer
	if err := s.entity.Serialize(&b); err != nil {
		panic("trust: a key of our own does not serialise: " + err.Error())
	}
	certs, err := ReadCertificates(b.Bytes())
	if err != nil {
		panic("trust: a key of our own does not read back: " + err.Error())
	}
	return certs[0]
}

// Certified gives the public part, armoured, with what the key before it certified: that of
// Certificate has its own signatures alone.
func (s *SiteKey) Certified() string {
	var b bytes.Buffer
	w, err := armor.Encode(&b, openpgp.PublicKeyType, nil)
	if err == nil {
		err = s.entity.Serialize(w)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		panic("trust: a key of our own does not serialise: " + err.Error())
	}
	b.WriteByte('\n')
	return b.String()
}

// Certificates gives the public parts of all that sign, the first one before the others.
func (s *SiteKey) Certificates() (out []*Certificate) {
	for _, e := range slices.Concat([]*openpgp.Entity{s.entity}, s.beside) {
		out = append(out, (&SiteKey{entity: e, now: s.now}).Certificate())
	}
	return out
}

// Fingerprints gives those of Certificates.
func (s *SiteKey) Fingerprints() (out []string) {
	for _, c := range s.Certificates() {
		out = append(out, c.Fingerprint)
	}
	return out
}

// Clearsign implements archive.SigningKey (RFC 9580 §7). A text that would not
// survive, because a line ends in white space, is refused.
func (s *SiteKey) Clearsign(text []byte) ([]byte, error) {
	for line := range bytes.Lines(text) {
		if l := bytes.TrimRight(line, "\n"); len(l) != len(bytes.TrimRight(l, " \t\r")) {
			return nil, finding.New(finding.ContentSignatureBad, "",
				"a line to be clear-signed ends in white space").Because("lost-blank")
		}
	}
	var b bytes.Buffer
	keys := []*packet.PrivateKey{s.entity.PrivateKey}
	for _, e := range s.beside {
		keys = append(keys, e.PrivateKey)
	}
	w, err := clearsign.EncodeMulti(&b, keys, config(s.now))
	if err != nil {
		return nil, err
	}
	// The line end before the signature is not part of the text (RFC 9580 §7.1).
	if _, err := w.Write(bytes.TrimSuffix(text, []byte("\n"))); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	b.WriteByte('\n')
	return b.Bytes(), nil
}

// DetachSign implements archive.SigningKey.
func (s *SiteKey) DetachSign(content []byte, armoured bool) ([]byte, error) {
	signatures, err := s.signatures(bytes.NewReader(content))
	if err != nil || !armoured {
		return signatures, err
	}
	return armouredSignature(signatures)
}

// armouredSignature writes signature packets in ASCII (RFC 9580 §6.2).
func armouredSignature(signatures []byte) ([]byte, error) {
	var b bytes.Buffer
	w, err := armor.Encode(&b, openpgp.SignatureType, nil)
	if err != nil {
		return nil, err
	}
	if _, err := w.Write(signatures); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	b.WriteByte('\n')
	return b.Bytes(), nil
}

// JoinSignatures adds signature packets to an armoured detached signature, behind those
// that it has.
func JoinSignatures(armoured, more []byte) ([]byte, error) {
	block, err := armor.Decode(bytes.NewReader(armoured))
	if err != nil || block.Type != openpgp.SignatureType {
		return nil, finding.New(finding.ContentSignatureBad, "",
			"the ASCII armor of the detached signature is damaged").
			Because("armour")
	}
	have, err := io.ReadAll(io.LimitReader(block.Body, 1<<20))
	if err != nil {
		return nil, finding.New(finding.ContentSignatureBad, "",
			"the ASCII armor of the detached signature is damaged: %v",
			err).Because("armour")
	}
	return armouredSignature(slices.Concat(have, more))
}

// SignStream implements archive.SigningKey.
func (s *SiteKey) SignStream(content io.ReadSeeker) ([]byte, error) { return s.signatures(content) }

// signatures gives a signature packet of each key, one after the other, as a detached
// signature may have them (RFC 9580 §10.4).
func (s *SiteKey) signatures(content io.ReadSeeker) ([]byte, error) {
	start, err := content.Seek(0, io.SeekCurrent)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	for _, e := range slices.Concat([]*openpgp.Entity{s.entity}, s.beside) {
		if _, err := content.Seek(start, io.SeekStart); err != nil {
			return nil, err
		}
		if err := openpgp.DetachSign(&b, e, content, config(s.now)); err != nil {
			return nil, err
		}
	}
	return b.Bytes(), nil
}
