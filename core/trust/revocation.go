package trust

import (
	"bytes"
	"errors"
	"fmt"
	"io"

	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
)

// WithRevocations reads the statements by which owners withdraw a certificate, alone, as they are
// published: signatures of the type key revocation (RFC 9580 §5.2.1.11) and nothing else. It
// gives those of the certificates, by fingerprint, that they are about, with them.
//
// It refuses data in which is anything else, a statement about a certificate that is not among
// them (key.missing), and one that was not made by the key it is about (key.unreadable).
func WithRevocations(data []byte, known map[string]*Certificate) ([]*Certificate, error) {
	none := unreadable("none", "the file contains no certificate")
	if len(data) > maxCertificates {
		return nil, none
	}
	rings, err := unpacked(data)
	if err != nil {
		return nil, err
	}
	var out []*Certificate
	for _, ring := range rings {
		r := packet.NewOpaqueReader(bytes.NewReader(ring))
		for n := 0; ; n++ {
			p, err := r.Next()
			if errors.Is(err, io.EOF) {
				break
			}
			if err != nil || n >= maxSignatures {
				return nil, none
			}
			parsed, err := p.Parse()
			s, ok := parsed.(*packet.Signature)
			if err != nil || !ok || s.SigType != packet.SigTypeKeyRevocation {
				return nil, none
			}
			c, err := withdraw(p, s, known)
			if err != nil {
				return nil, err
			}
			out = append(out, c)
		}
	}
	if len(out) == 0 {
		return nil, none
	}
	return out, nil
}

// withdraw gives the certificate that one statement is about, with it.
func withdraw(p *packet.OpaquePacket, s *packet.Signature, known map[string]*Certificate) (*Certificate,
	error) {
	for _, c := range known {
		if !s.CheckKeyIdOrFingerprint(c.entity.PrimaryKey) {
			continue
		}
		if err := c.entity.PrimaryKey.VerifyRevocationSignature(s); err != nil {
			return nil, unreadable("revocation", "the revocation is for %s, but was not made "+
				"by that key",
				c.Fingerprint)
		}
		var raw bytes.Buffer
		if err := p.Serialize(&raw); err != nil {
			return nil, fmt.Errorf("trust: writing a revocation: %w", err)
		}
		more := &rawCertificate{primary: component{head: c.raw.primary.head,
			signatures: [][]byte{raw.Bytes()}}}
		return c.raw.merge(more).read()
	}
	return nil, finding.New(finding.KeyMissing, "key "+issuer(s),
		"the file revokes this key, but the key was never imported").
		Do("import the certificate first")
}
