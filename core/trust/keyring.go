package trust

import (
	"bytes"
	"cmp"
	"encoding/hex"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/archive"
	"stockade/core/finding"
)

// maxSignatures bounds how many signatures over one text are looked at.
const maxSignatures = 32

// clockSlack is how far in the future a signature may be dated.
const clockSlack = 10 * time.Minute

// Known is a certificate with what was decided about it, as a Keyring is told of it.
type Known struct {
	Certificate *Certificate
	VouchedFor  []string  // names of sources
	Barred      string    // the reason; empty if it is not
	Since       time.Time // when it was vouched for, for the source of the keyring
}

// Keyring decides about signatures over one source. It implements archive.Verifier.
type Keyring struct {
	source string
	known  []Known
	now    func() time.Time
	policy Policy
}

var _ archive.Verifier = (*Keyring)(nil)

// NewKeyring makes the keyring of one source out of all that is known, so that
// a refusal can say why: only those vouched for this source, and not barred, count.
// Without now, a signature is judged as of its own date: for what lasts, such as
// seals, which do not become false because a clock is wrong or a key has ended.
func NewKeyring(source string, known []Known, now func() time.Time) *Keyring {
	return &Keyring{source: source, known: known, now: now}
}

// Under gives the keyring where a policy holds too.
func (k *Keyring) Under(p Policy) *Keyring {
	out := *k
	out.policy = p
	return &out
}

// Policy gives what holds about algorithms beside the table.
func (k *Keyring) Policy() Policy { return k.policy }

// Counting gives the certificates whose signatures count for the source now.
func (k *Keyring) Counting() (out []*Certificate) {
	for _, n := range k.known {
		if n.Barred == "" && slices.Contains(n.VouchedFor, k.source) {
			out = append(out, n.Certificate)
		}
	}
	return out
}

// Named says whose a signature is, by what it says of its key: the certificate, if it was
// brought in, and why it does not count for the source. signer is the id as Signer.Others has
// it.
func (k *Keyring) Named(signer string) string {
	for _, n := range k.known {
		if !n.Certificate.answersTo(signer) {
			continue
		}
		why := "no one has vouched for it here"
		switch {
		case n.Barred != "":
			why = "it is barred"
		case slices.Contains(n.VouchedFor, k.source):
			why = "its signature does not count"
		}
		return n.Certificate.Fingerprint + " (" + n.Certificate.name() + "; " + why + ")"
	}
	return signer + " (never imported)"
}

// Certificate gives a certificate that was brought in, whatever was decided about it; nil
// where there is none.
func (k *Keyring) Certificate(fingerprint string) *Certificate {
	for _, n := range k.known {
		if n.Certificate.Fingerprint == fingerprint {
			return n.Certificate
		}
	}
	return nil
}

// answersTo tells whether a signature's id of its signer is that of a key of c.
func (c *Certificate) answersTo(signer string) bool {
	return slices.ContainsFunc(append([]Part{c.Primary}, c.Subkeys...), func(p Part) bool {
		return p.Fingerprint == signer || len(signer) == 16 && strings.HasSuffix(p.Fingerprint, signer)
	})
}

// Idle gives the certificates that were vouched for, for the source, before a time, and that
// did not sign what is signed by these.
func (k *Keyring) Idle(by archive.Signer, before time.Time) (out []Known) {
	for _, n := range k.known {
		signs := by.Is(n.Certificate.Fingerprint) || slices.ContainsFunc(by.Others, n.Certificate.answersTo)
		if !signs && n.Barred == "" && slices.Contains(n.VouchedFor, k.source) && !n.Since.IsZero() &&
			n.Since.Before(before) {
			out = append(out, n)
		}
	}
	return out
}

// Until tells until when the certificate of a fingerprint may sign; able is false where it may
// not now, or is not in the keyring.
func (k *Keyring) Until(fingerprint string, now time.Time) (end time.Time, able bool) {
	for _, n := range k.known {
		if n.Certificate.Fingerprint == fingerprint {
			return n.Certificate.SignsUntil(now)
		}
	}
	return time.Time{}, false
}

// Decided says which certificates count for the source, and since which decision each:
// what was decided is an input of whatever is built with the keyring.
func (k *Keyring) Decided() []string {
	out := []string{}
	for _, n := range k.known {
		if n.Barred == "" && slices.Contains(n.VouchedFor, k.source) {
			out = append(out, n.Certificate.Fingerprint+" "+n.Since.UTC().Format(time.RFC3339Nano))
		}
	}
	slices.Sort(out)
	if len(k.policy.Refuse) > 0 || k.policy.RSABits > 0 {
		out = append(out, k.policy.String())
	}
	return out
}

const (
	signedHeader    = "-----BEGIN PGP SIGNED MESSAGE-----"
	signatureHeader = "-----BEGIN PGP SIGNATURE-----"
	signatureFooter = "-----END PGP SIGNATURE-----"
)

// Clearsigned implements archive.Verifier for the cleartext signature
// framework (RFC 9580 §7). The file must be that one message and nothing else:
// text before or after it, a second message, or a line whose leading dash is
// not escaped is refused, so that nothing unsigned can be taken for content.
func (k *Keyring) Clearsigned(data []byte) ([]byte, archive.Signer, error) {
	if err := wellFormed(data); err != nil {
		return nil, archive.Signer{}, k.bad("frame", "%v", err)
	}
	if err := checkArmour(data[bytes.LastIndex(data, []byte(signatureHeader)):]); err != nil {
		return nil, archive.Signer{}, k.bad("armour", "the ASCII armor of the signature is "+
			"damaged: %v", err)
	}
	block, rest := clearsign.Decode(data)
	if block == nil {
		return nil, archive.Signer{}, k.bad("frame", "the file is not a clear-signed text")
	}
	if len(bytes.TrimSpace(rest)) > 0 {
		return nil, archive.Signer{}, k.bad("frame", "there is unsigned text after the "+
			"signature")
	}
	signatures, err := io.ReadAll(io.LimitReader(block.ArmoredSignature.Body, 1<<20))
	if err != nil {
		return nil, archive.Signer{}, k.bad("armour", "the ASCII armor of the signature is "+
			"damaged: %v", err)
	}
	by, err := k.verify(bytesOf(block.Bytes), signatures)
	if err != nil {
		return nil, archive.Signer{}, err
	}
	text := bytes.ReplaceAll(block.Bytes, []byte("\r\n"), []byte("\n"))
	return append(text, '\n'), by, nil
}

// wellFormed checks the frame of a clear-signed message line by line.
func wellFormed(data []byte) error {
	const (
		start = iota
		headers
		text
		signature
		end
	)
	state, number := start, 0
	for line := range bytes.Lines(data) {
		number++
		l := strings.TrimRight(string(line), "\r\n\t ")
		switch state {
		case start:
			if l != signedHeader {
				return fmt.Errorf("the file does not begin with a clear-signed message (line "+
					"%d)", number)
			}
			state = headers
		case headers:
			if l == "" {
				state = text
			} else if !strings.HasPrefix(l, "Hash: ") {
				return fmt.Errorf("line %d is not a Hash header", number)
			}
		case text:
			if l == signatureHeader {
				state = signature
			} else if strings.HasPrefix(l, "-") && !bytes.HasPrefix(line, []byte("- ")) {
				return fmt.Errorf("line %d begins with a dash that is not escaped", number)
			}
		case signature:
			if l == signatureFooter {
				state = end
			}
		case end:
			if l != "" {
				return fmt.Errorf("line %d is unsigned text after the signature", number)
			}
		}
	}
	switch state {
	case end:
		return nil
	case start, headers:
		return fmt.Errorf("the file contains no clear-signed text")
	}
	return fmt.Errorf("the file ends before its signature does")
}

// Detached implements archive.Verifier; signature is armoured or binary.
func (k *Keyring) Detached(content, signature []byte) (archive.Signer, error) {
	return k.detached(bytesOf(content), signature)
}

// Streamed implements archive.Verifier.
func (k *Keyring) Streamed(content io.ReadSeeker, signature []byte) (archive.Signer, error) {
	start, err := content.Seek(0, io.SeekCurrent)
	if err != nil {
		return archive.Signer{}, err
	}
	return k.detached(func(w io.Writer) error {
		if _, err := content.Seek(start, io.SeekStart); err != nil {
			return err
		}
		_, err := io.Copy(w, content)
		return err
	}, signature)
}

// signedContent writes what a signature is over; it may be called several times.
type signedContent func(w io.Writer) error

func bytesOf(b []byte) signedContent {
	return func(w io.Writer) error {
		_, err := w.Write(b)
		return err
	}
}

func (k *Keyring) detached(content signedContent, signature []byte) (archive.Signer, error) {
	if bytes.Contains(signature, []byte(signatureHeader)) {
		if err := checkArmour(signature); err != nil {
			return archive.Signer{}, k.bad("armour", "the ASCII armor of the detached "+
				"signature is damaged: %v", err)
		}
		block, err := armor.Decode(bytes.NewReader(signature))
		if err != nil || block.Type != openpgp.SignatureType {
			return archive.Signer{}, k.bad("armour", "the ASCII armor of the detached "+
				"signature is damaged")
		}
		if signature, err = io.ReadAll(io.LimitReader(block.Body, 1<<20)); err != nil {
			return archive.Signer{}, k.bad("armour", "the ASCII armor of the detached "+
				"signature is damaged: %v", err)
		}
	}
	return k.verify(content, signature)
}

func (k *Keyring) bad(cause, format string, args ...any) finding.Finding {
	return finding.New(finding.ContentSignatureBad, "source "+k.source, format, args...).Because(cause)
}

// verify looks at each signature; one that counts is enough. Among them there may
// be signatures that cannot be judged, of kinds that are not known; anything that
// is no signature makes all of it refused.
func (k *Keyring) verify(signed signedContent, signatures []byte) (archive.Signer, error) {
	reader := packet.NewOpaqueReader(bytes.NewReader(signatures))
	var good []archive.Signer
	var refused []finding.Finding
	var others []string
	for n := 0; ; n++ {
		p, err := reader.Next()
		if err == io.EOF {
			break
		}
		if n >= maxSignatures {
			return archive.Signer{}, k.bad("too-many", "there are more than %d signatures", maxSignatures)
		}
		if err != nil {
			return archive.Signer{}, k.bad("malformed", "the signatures cannot be read: %v", err)
		}
		if p.Tag == tagMarker {
			continue // to be ignored (RFC 9580 §5.8)
		}
		if p.Tag != tagSignature {
			return archive.Signer{}, k.bad("foreign",
				"the signature file contains something else (a packet of type %d)", p.Tag)
		}
		parsed, err := p.Parse()
		sig, ok := parsed.(*packet.Signature)
		if err != nil || !ok {
			refused = append(refused, k.bad("malformed",
				"a signature is damaged or of an unknown type: %v",
				err))
			others = append(others, "an unreadable one")
			continue
		}
		by, f := k.judge(signed, sig)
		if f != nil && f.Code == finding.FaultCode {
			return archive.Signer{}, *f
		}
		if f != nil {
			refused = append(refused, *f)
			others = append(others, issuer(sig))
			continue
		}
		good = append(good, by)
	}
	if len(good) > 0 {
		good[0].Others = others
		for _, more := range good[1:] {
			if !good[0].Is(more.Fingerprint) {
				good[0].With = append(good[0].With, more.Fingerprint)
			}
		}
		return good[0], nil
	}
	if len(refused) == 0 {
		return archive.Signer{}, k.bad("none", "there is no signature")
	}
	// The most telling refusal first: a key that is known says more than one that is not.
	sort.SliceStable(refused, func(i, j int) bool {
		return refused[i].Code != finding.ContentSignatureBad &&
			refused[j].Code == finding.ContentSignatureBad
	})
	return archive.Signer{}, refused[0]
}

func issuer(sig *packet.Signature) string {
	if len(sig.IssuerFingerprint) > 0 {
		return strings.ToUpper(hex.EncodeToString(sig.IssuerFingerprint))
	}
	if sig.IssuerKeyId != nil {
		return fmt.Sprintf("%016X", *sig.IssuerKeyId)
	}
	return "an unnamed key"
}

// judge decides about one signature: nil means that it counts.
func (k *Keyring) judge(signed signedContent, sig *packet.Signature) (archive.Signer, *finding.Finding) {
	no := func(f finding.Finding) (archive.Signer, *finding.Finding) { return archive.Signer{}, &f }
	if sig.SigType != packet.SigTypeBinary && sig.SigType != packet.SigTypeText {
		return no(k.bad("type", "a signature has the type %#x, which is not a signature over a "+
			"document", sig.SigType))
	}
	if name := criticalNotation(sig); name != "" {
		return no(k.bad("notation",
			"the signature by %s has the critical notation %q, which Stockade does not know",
			issuer(sig), name))
	}
	digest := cmp.Or(digestName(sig.Hash), sig.Hash.String())
	if verdict, why := k.policy.judge(OfDocuments, digest, 0); verdict == Refused {
		return no(k.bad("weak-digest", "the signature by %s uses the digest %s: %s", issuer(sig), digest,
			why))
	}
	var last *finding.Finding
	for _, n := range k.known {
		key, sub := n.find(sig)
		if key == nil {
			continue
		}
		f := k.judgeBy(n, key, sub, signed, sig)
		if f == nil {
			name := ""
			if len(n.Certificate.UserIDs) > 0 {
				name = n.Certificate.UserIDs[0]
			}
			return archive.Signer{Fingerprint: n.Certificate.Fingerprint, UserID: name,
				At: sig.CreationTime.UTC()}, nil
		}
		last = f
	}
	if last != nil {
		return archive.Signer{}, last
	}
	return no(k.bad("unknown-key", "the file is signed by %s, a key that was never imported", issuer(sig)).
		Do("if this is the owner's key, get it from the owner, compare it, and vouch for it. " +
			"If not, do not use this upstream"))
}

// find gives the part of the certificate that the signature names.
func (n Known) find(sig *packet.Signature) (*packet.PublicKey, *openpgp.Subkey) {
	e := n.Certificate.entity
	match := func(k *packet.PublicKey) bool {
		if len(sig.IssuerFingerprint) > 0 {
			return bytes.Equal(sig.IssuerFingerprint, k.Fingerprint)
		}
		return sig.IssuerKeyId != nil && *sig.IssuerKeyId == k.KeyId
	}
	if match(e.PrimaryKey) {
		return e.PrimaryKey, nil
	}
	for i := range e.Subkeys {
		if match(e.Subkeys[i].PublicKey) {
			return e.Subkeys[i].PublicKey, &e.Subkeys[i]
		}
	}
	return nil, nil
}

func (k *Keyring) judgeBy(n Known, key *packet.PublicKey, sub *openpgp.Subkey, signed signedContent,
	sig *packet.Signature) *finding.Finding {
	c := n.Certificate
	object := "source " + k.source
	no := func(code finding.Code, format string, args ...any) *finding.Finding {
		f := finding.New(code, object, format, args...)
		return &f
	}
	bad := func(cause, format string, args ...any) *finding.Finding {
		f := k.bad(cause, format, args...)
		return &f
	}
	h, err := sig.PrepareVerify()
	if err != nil {
		return bad("malformed", "the signature by %s cannot be checked: %v", c.Fingerprint, err)
	}
	var w io.Writer = h
	if sig.SigType == packet.SigTypeText {
		w = openpgp.NewCanonicalTextHash(h)
	}
	if err := signed(w); err != nil {
		f := finding.Unread(err, "the content that the signature by "+c.Fingerprint+" covers")
		return &f
	}
	if err := key.VerifySignature(h, sig); err != nil {
		return bad("changed", "the signature by %s does not match: the content was changed",
			c.Fingerprint)
	}
	// From here the signature is genuine; whether it counts is about the key.
	made := sig.CreationTime
	now := made
	if k.now != nil {
		now = k.now()
	}
	if n.Barred != "" {
		return no(finding.KeyBarred, "the file is signed by %s, a key that is barred: %s", c.Fingerprint,
			n.Barred)
	}
	if !slices.Contains(n.VouchedFor, k.source) {
		f := no(finding.KeyUnvouched, "the file is signed by %s (%s). No one has vouched for "+
			"this key for this source", c.Fingerprint,
			c.name())
		if len(n.VouchedFor) > 0 {
			f.Text += "; it is trusted only for " + strings.Join(n.VouchedFor, ", ")
			*f = f.Do("ask the owner of the source why another key signed this. Until then, " +
				"use another upstream. Vouch for the key here only if the owner confirms it")
		}
		return f
	}
	part := c.Primary
	if sub != nil {
		for _, p := range c.Subkeys {
			if p.Fingerprint == fingerprint(sub.PublicKey) {
				part = p
			}
		}
	}
	for _, p := range []Part{c.Primary, part} {
		switch {
		case p.Revoked:
			return no(finding.KeyRevoked, "the file is signed by %s, a key that its owner "+
				"revoked: %s",
				p.Fingerprint, p.Reason)
		case !p.Expires.IsZero() && !now.Before(p.Expires):
			return no(finding.KeyExpired, "the file is signed by %s, a key that expired on %s", p.Fingerprint,
				p.Expires.Format(time.DateOnly))
		case !p.Expires.IsZero() && !made.Before(p.Expires):
			return no(finding.KeyExpired, "the file was signed on %s by %s, a key that expired "+
				"on %s",
				made.Format(time.DateOnly), p.Fingerprint, p.Expires.Format(time.DateOnly))
		case made.Before(p.Created):
			return bad("before-its-key", "the signature is dated %s, before its key %s was "+
				"created",
				made.Format(time.DateTime), p.Fingerprint)
		}
		if verdict, what, why := k.policy.part(p); verdict == Refused {
			f := no(finding.KeyWeak, "the file is signed by %s, a key that %s: %s", p.Fingerprint, what, why)
			*f = f.Rated(finding.Error)
			return f
		}
	}
	if !part.CanSign {
		return no(finding.KeyCannotSign, "the file is signed by %s, a subkey that may not sign",
			part.Fingerprint)
	}
	if made.After(now.Add(clockSlack)) {
		return bad("future", "the signature is dated %s, in the future",
			made.UTC().Format(time.DateTime))
	}
	if sig.SigLifetimeSecs != nil && *sig.SigLifetimeSecs > 0 &&
		now.After(made.Add(time.Duration(*sig.SigLifetimeSecs)*time.Second)) {
		return bad("ended", "the signature has expired")
	}
	return nil
}

func (c *Certificate) name() string {
	if len(c.UserIDs) == 0 {
		return "no user ID"
	}
	return c.UserIDs[0]
}

func sortStrings(s []string) { slices.Sort(s) }
