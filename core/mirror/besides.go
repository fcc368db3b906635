package mirror

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
		return finding.List{finding.New("key.also-signed", object,
			"its key %s ends on %s, in %d days; its root is signed by %s too", by.Fingerprint,
			end.Format(time.DateOnly), int(end.Sub(now).Hours()/24), strings.Join(named, ", ")).
			Rated(finding.Warning).
			Do("ask the owner whether that is the key to come; compare its fingerprint, name it under " +
				"signed_by, " +
				"and vouch for it before the old one ends")}
	}
	return finding.List{finding.New("key.also-signed", object, "its root is signed by %s too",
		strings.Join(named, ", "))}
}

// maxBesides bounds the further signers that are named.
const maxBesides = 8
