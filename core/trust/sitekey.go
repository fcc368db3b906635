package trust

import (
	"bytes"
	"crypto"
	"fmt"
	"io"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/archive"
	"stockade/core/finding"
)

// SiteKey signs as one site: seals, and the roots of tailored mirrors.
type SiteKey struct {
	entity *openpgp.Entity
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
func (s *SiteKey) At(now func() time.Time) *SiteKey { return &SiteKey{entity: s.entity, now: now} }

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
		return nil, fmt.Errorf("the site key's file is damaged")
	}
	if err := list[0].DecryptPrivateKeys(passphrase); err != nil {
		return nil, fmt.Errorf("the site key does not open with this passphrase")
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

// Clearsign implements archive.SigningKey (RFC 9580 §7). A text that would not
// survive, because a line ends in white space, is refused.
func (s *SiteKey) Clearsign(text []byte) ([]byte, error) {
	for line := range bytes.Lines(text) {
		if l := bytes.TrimRight(line, "\n"); len(l) != len(bytes.TrimRight(l, " \t\r")) {
			return nil, finding.New("content.signature-bad", "",
				"a line to be clear-signed ends in white space").Because("lost-blank")
		}
	}
	var b bytes.Buffer
	w, err := clearsign.Encode(&b, s.entity.PrivateKey, config(s.now))
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
	var b bytes.Buffer
	if !armoured {
		err := openpgp.DetachSign(&b, s.entity, bytes.NewReader(content), config(s.now))
		return b.Bytes(), err
	}
	w, err := armor.Encode(&b, openpgp.SignatureType, nil)
	if err != nil {
		return nil, err
	}
	if err := openpgp.DetachSign(w, s.entity, bytes.NewReader(content), config(s.now)); err != nil {
		return nil, err
	}
	if err := w.Close(); err != nil {
		return nil, err
	}
	b.WriteByte('\n')
	return b.Bytes(), nil
}

// SignStream implements archive.SigningKey.
func (s *SiteKey) SignStream(content io.Reader) ([]byte, error) {
	var b bytes.Buffer
	err := openpgp.DetachSign(&b, s.entity, content, config(s.now))
	return b.Bytes(), err
}
