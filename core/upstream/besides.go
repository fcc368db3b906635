package upstream

import (
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
)

// renewalWithin is how long before the end of a key it matters who else signs.
const renewalWithin = 90 * 24 * time.Hour

// besides tells which signatures stand on a root beside the one that counted. They change
// nothing. Where the key that counted ends soon, one of them may be its successor: that is
// told while there is time to compare it with its owner.
func besides(src *Source, by archive.Signer, now time.Time) finding.List {
	if len(by.Others) == 0 {
		return nil
	}
	var named []string
	for i, id := range by.Others {
		if i == maxBesides {
			named = append(named, "and others")
			break
		}
		named = append(named, src.Keyring.Named(finding.Harmless(id)))
	}
	object := "source " + src.Name
	end, able := src.Keyring.Until(by.Fingerprint, now)
	if able && !end.IsZero() && end.Before(now.Add(renewalWithin)) {
		return finding.List{finding.New(finding.KeyAlsoSigned, object,
			"its key %s expires on %s, in %s. The release metadata is also signed by %s", by.Fingerprint,
			end.Format(time.DateOnly), finding.Count(int(end.Sub(now).Hours()/24), "day"),
			strings.Join(named, ", ")).
			Rated(finding.Warning).
			Do("ask the owner whether that is the next key. Compare its fingerprint, list it " +
				"under signed_by, and vouch for it before the old key expires")}
	}
	return finding.List{finding.New(finding.KeyAlsoSigned, object, "the release metadata is "+
		"also signed by %s",
		strings.Join(named, ", "))}
}

// idleFor is how long a key can be vouched for before it matters that it signs nothing: who
// prepares for the next key vouches for it ahead of time.
const idleFor = 30 * 24 * time.Hour

// idle tells of keys that were vouched for long before a root was made, and have no part in
// it. Where packages are signed themselves, such a key may be theirs: then nothing is told.
func idle(src *Source, r *archive.Root) (found finding.List) {
	if src.Family.SignsPackages() {
		return nil
	}
	for _, n := range src.Keyring.Idle(r.Signer, r.Date.Add(-idleFor)) {
		found = append(found, finding.New(finding.KeyUnused, "source "+src.Name,
			"%s was vouched for on %s, but did not sign the release metadata of %s: %s did",
			n.Certificate.Fingerprint, n.Since.Format(time.DateOnly), r.Date.Format(time.DateOnly),
			r.Signer.Fingerprint).
			Do("ask the owner whether they still use this key. Withdraw the vouch if it is not "+
				"needed"))
	}
	return found
}

// maxBesides bounds the further signers that are named.
const maxBesides = 8
