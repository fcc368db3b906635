package archive

import (
	"io"
	"slices"
	"time"
)

// Signer is a key that made a signature that counts.
type Signer struct {
	Fingerprint string    `json:"fingerprint"` // of the certificate
	UserID      string    `json:"user_id"`
	At          time.Time `json:"at"`               // when the signature was made
	With        []string  `json:"with,omitempty"`   // certificates whose signatures beside it count too
	Others      []string  `json:"others,omitempty"` // ids of further signatures that did not count
}

// Is tells whether a certificate signed, with a signature that counts.
func (s Signer) Is(fingerprint string) bool {
	return s.Fingerprint == fingerprint || slices.Contains(s.With, fingerprint)
}

// Verifier decides whether signed bytes may be believed. It is bound to one
// source. A refusal comes back as a finding.
type Verifier interface {
	// Clearsigned gives exactly the text that was signed.
	Clearsigned(data []byte) (text []byte, by Signer, err error)
	// Detached checks a signature over content.
	Detached(content, signature []byte) (by Signer, err error)
	// Streamed is Detached for content that is too large to hold. It reads from
	// where content stands, and may seek back to there.
	Streamed(content io.ReadSeeker, signature []byte) (by Signer, err error)
}

// SigningKey signs as the site. A family decides which kinds of signature its
// clients want.
type SigningKey interface {
	Clearsign(text []byte) ([]byte, error)
	// DetachSign makes a signature over content, armoured or binary.
	DetachSign(content []byte, armoured bool) ([]byte, error)
	// SignStream makes a binary signature over content that is too large to hold.
	SignStream(content io.ReadSeeker) ([]byte, error)
}
