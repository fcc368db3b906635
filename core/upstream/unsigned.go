package upstream

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"io"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Unsigned is the acknowledgement that nobody signs the root of a source. What was
// accepted of it first counts in place of a signature.
type Unsigned struct {
	Reason string
	Until  time.Time
	By     string // who acknowledged it, and when
	At     time.Time
}

// Ended tells, for a source, that the acknowledgement has come to its end; nil before that.
func (u *Unsigned) Ended(source string, now time.Time) error {
	if now.Before(u.Until) {
		return nil
	}
	return finding.New(finding.SourceUnsigned, "source "+source,
		"the source was accepted as unsigned until %s, which is past (%s)",
		u.Until.AddDate(0, 0, -1).Format(time.DateOnly), finding.Harmless(u.Reason)).
		Do("ask the owner again to sign the source. A warden can accept it as unsigned again")
}

// roots gives the ways to get the root of a source; where nobody signs it, without the
// signatures.
func (src *Source) roots() []archive.RootChoice {
	all := src.Family.Roots(src.Spec)
	if src.Unsigned == nil {
		return all
	}
	return archive.Unsigned(all)
}

// readRoot reads a root and verifies it; one that nobody signs is what it is.
func (b *Reader) readRoot(src *Source, choice archive.RootChoice,
	files map[string][]byte) (*archive.Root, error) {
	if src.Unsigned == nil {
		return src.Family.ReadRoot(src.Spec, choice, files, src.Keyring)
	}
	v := pinned{at: map[string]time.Time{}, now: b.Now().UTC().Truncate(time.Second)}
	if a := src.Accepted; a != nil {
		for _, f := range a.Files {
			v.at[f.SHA256] = a.Date
			if at, ok := a.Dates[f.Path]; ok {
				v.at[f.SHA256] = at
			}
		}
	}
	return src.Family.ReadRoot(src.Spec, choice, files, v)
}

// pinned takes files that nobody signs for what they are, dated when they were seen first.
// Whether one that is new may take the place of the one before is decided by unpinned.
type pinned struct {
	at  map[string]time.Time // by SHA-256: those that were accepted
	now time.Time
}

func (p pinned) Clearsigned([]byte) ([]byte, archive.Signer, error) {
	return nil, archive.Signer{}, finding.New(finding.ContentSignatureBad, "",
		"the file is not signed").Because("none")
}

func (p pinned) Detached(content, _ []byte) (archive.Signer, error) {
	sum := sha256.Sum256(content)
	if at, ok := p.at[hex.EncodeToString(sum[:])]; ok {
		return archive.Signer{At: at}, nil
	}
	return archive.Signer{At: p.now}, nil
}

func (p pinned) Streamed(content io.ReadSeeker, signature []byte) (archive.Signer, error) {
	data, err := io.ReadAll(content)
	if err != nil {
		return archive.Signer{}, err
	}
	return p.Detached(data, signature)
}

// digestsOfRoot gives the SHA-256 of each file of a root, and one digest over all.
func digestsOfRoot(choice archive.RootChoice, files map[string][]byte) (each []string, all string) {
	h := sha256.New()
	for _, f := range choice {
		sum := sha256.Sum256(files[f.Path])
		each = append(each, hex.EncodeToString(sum[:]))
		fmt.Fprintf(h, "%s %s\n", f.Path, each[len(each)-1])
	}
	return each, hex.EncodeToString(h.Sum(nil))
}

// unpinned judges a root that nobody signs against the one that was accepted. The first one
// is taken, and so is one that a person accepts. Another one is refused, unless each package
// is verified by a signature of its own; it is told in any case.
func (src *Source) unpinned(digest string) (finding.List, error) {
	if src.Unsigned == nil {
		return nil, nil
	}
	object := "source " + src.Name
	old := src.Accepted
	switch {
	case old == nil:
		return finding.List{finding.New(finding.SourceUnsignedChanged, object,
			"the first release metadata of this unsigned source was accepted as it was served. "+
				"Its checksum is %s", digest).
			Do("compare the checksum with the owner by another channel")}, nil
	case old.Digest == digest:
		return nil, nil
	}
	changed := finding.New(finding.SourceUnsignedChanged, object,
		"the release metadata of this unsigned source has changed: its checksum is %s, and "+
			"that of %s was %s", digest,
		old.At.Format(time.DateOnly), old.Digest)
	if src.AcceptOnce != "" || src.Family.SignsPackages() && len(src.Keyring.Counting()) > 0 {
		return finding.List{changed}, nil
	}
	return nil, changed.Rated(finding.Error).
		Do("ask the owner whether they published a change. Then a warden runs: stockade source "+
			"refresh %s --accept-once \"the reason\"", src.Name)
}
