package trust

import (
	"bytes"
	"errors"
	"io"
	"slices"

	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
)

// Tags of packets that certificates are made of (RFC 9580 §5).
const (
	tagSignature    = 2
	tagSecretKey    = 5
	tagPublicKey    = 6
	tagMarker       = 10
	tagSecretSubkey = 7
	tagUserID       = 13
	tagPublicSubkey = 14
	tagAttribute    = 17
)

// maxSelfSignatures bounds the signatures that are kept on one part of a
// certificate.
const maxSelfSignatures = 512

// component is a part of a certificate with the signatures on it, as packets.
type component struct {
	head       []byte
	signatures [][]byte
}

// rawCertificate is a certificate as packets: its primary key, then user ids and
// attributes, then subkeys.
type rawCertificate struct {
	primary component
	ids     []component
	subkeys []component
}

// splitCertificates takes a keyring apart. What is no part of a certificate is
// left out; a secret key is refused.
func splitCertificates(ring []byte) ([]*rawCertificate, error) {
	var out []*rawCertificate
	var at *component
	r := packet.NewOpaqueReader(bytes.NewReader(ring))
	for {
		p, err := r.Next()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, unreadable("malformed", "not an OpenPGP certificate: %v", err)
		}
		var raw bytes.Buffer
		if err := p.Serialize(&raw); err != nil {
			return nil, unreadable("malformed", "not an OpenPGP certificate: %v", err)
		}
		if p.Tag == tagSecretKey || p.Tag == tagSecretSubkey {
			return nil, finding.New(finding.KeySecretMaterial, "", "the file contains a secret "+
				"key. Stockade did not store it")
		}
		if p.Tag == tagPublicKey {
			out = append(out, &rawCertificate{primary: component{head: raw.Bytes()}})
			at = &out[len(out)-1].primary
			continue
		}
		if len(out) == 0 {
			continue
		}
		c := out[len(out)-1]
		switch p.Tag {
		case tagUserID, tagAttribute:
			c.ids = append(c.ids, component{head: raw.Bytes()})
			at = &c.ids[len(c.ids)-1]
		case tagPublicSubkey:
			c.subkeys = append(c.subkeys, component{head: raw.Bytes()})
			at = &c.subkeys[len(c.subkeys)-1]
		case tagSignature:
			at.signatures = append(at.signatures, raw.Bytes())
		}
	}
}

// merge gives a certificate that has all that either copy has. Nothing is taken
// away: a revocation that was seen once stays, whatever is brought in later.
func (c *rawCertificate) merge(other *rawCertificate) *rawCertificate {
	out := &rawCertificate{primary: c.primary.merge(other.primary)}
	out.ids = mergeComponents(c.ids, other.ids)
	out.subkeys = mergeComponents(c.subkeys, other.subkeys)
	return out
}

func (c component) merge(other component) component {
	out := component{head: c.head, signatures: slices.Clone(c.signatures)}
	for _, s := range other.signatures {
		if !slices.ContainsFunc(out.signatures, func(have []byte) bool { return bytes.Equal(have, s) }) {
			out.signatures = append(out.signatures, s)
		}
	}
	return out
}

func mergeComponents(a, b []component) (out []component) {
	for _, c := range slices.Concat(a, b) {
		if i := slices.IndexFunc(out,
			func(have component) bool { return bytes.Equal(have.head, c.head) }); i >= 0 {
			out[i] = out[i].merge(c)
		} else {
			out = append(out, component{}.merge(c))
			out[len(out)-1].head = c.head
		}
	}
	return out
}

// own leaves of a certificate the signatures that its own key made: what others
// say of it decides nothing here, and would let it grow without bound.
func (c *rawCertificate) own() error {
	p, err := packet.Read(bytes.NewReader(c.primary.head))
	if err != nil {
		return unreadable("malformed", "not an OpenPGP certificate: %v", err)
	}
	primary, ok := p.(*packet.PublicKey)
	if !ok {
		return unreadable("malformed", "not an OpenPGP certificate: the first packet is not a "+
			"key")
	}
	keep := func(c *component) error {
		c.signatures = slices.DeleteFunc(c.signatures, func(raw []byte) bool {
			p, err := packet.Read(bytes.NewReader(raw))
			s, ok := p.(*packet.Signature)
			return err == nil && ok && !s.CheckKeyIdOrFingerprint(primary)
		})
		if len(c.signatures) > maxSelfSignatures {
			return unreadable("too-many", "a part of the certificate has more than %d signatures",
				maxSelfSignatures)
		}
		return nil
	}
	if err := keep(&c.primary); err != nil {
		return err
	}
	for _, list := range [][]component{c.ids, c.subkeys} {
		for i := range list {
			if err := keep(&list[i]); err != nil {
				return err
			}
		}
	}
	return nil
}

// binary writes the certificate.
func (c *rawCertificate) binary() []byte {
	var b bytes.Buffer
	put := func(c component) {
		b.Write(c.head)
		for _, s := range c.signatures {
			b.Write(s)
		}
	}
	put(c.primary)
	for _, list := range [][]component{c.ids, c.subkeys} {
		for _, part := range list {
			put(part)
		}
	}
	return b.Bytes()
}

// direct gives the newest signature of the primary key directly on itself that
// holds, or nil (RFC 9580 §5.2.1.13): what it says of the key's end and use goes
// before what the signatures on user ids say.
func (c *rawCertificate) direct(primary *packet.PublicKey) *packet.Signature {
	var newest *packet.Signature
	for _, raw := range c.primary.signatures {
		p, err := packet.Read(bytes.NewReader(raw))
		s, ok := p.(*packet.Signature)
		if err != nil || !ok || s.SigType != packet.SigTypeDirectSignature ||
			primary.VerifyDirectKeySignature(s) != nil {
			continue
		}
		if newest == nil || s.CreationTime.After(newest.CreationTime) {
			newest = s
		}
	}
	return newest
}

// criticalNotation gives a notation that its maker wants to be understood by
// whoever believes the signature, and that we do not understand: any, for we
// know none (RFC 9580 §5.2.3.24).
func criticalNotation(s *packet.Signature) string {
	for _, n := range s.Notations {
		if n.IsCritical {
			return n.Name
		}
	}
	return ""
}
