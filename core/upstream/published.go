package upstream

import (
	"context"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/trust"
)

// maxPublishedKeys bounds a file of certificates that lies beside a root (bytes).
const maxPublishedKeys = 1 << 20

// keysBeside compares the certificates that an upstream lays beside its root with those that
// were brought in. Nothing vouches for them, so they change nothing; one that is not there, or
// cannot be had, is no finding.
func (b *Reader) keysBeside(ctx context.Context, src *Source, from string) (found finding.List) {
	family, ok := src.Family.(archive.KeysBeside)
	if !ok || src.House != nil {
		return nil
	}
	only := *src
	only.Route.Upstreams = slices.DeleteFunc(slices.Clone(src.Route.Upstreams), func(u fetch.Upstream) bool {
		return fetch.Shown(u.URL) != from
	})
	if len(only.Route.Upstreams) == 0 {
		return nil
	}
	for _, path := range family.KeysBeside(src.Spec) {
		if data, err := b.Small(ctx, &only, path, maxPublishedKeys); err == nil {
			found = append(found, Published(src, path, data, b.Now())...)
		}
	}
	return found
}

// Published tells what certificates that an upstream published say more than those that were
// brought in. It matters most where the key that counts ends soon.
func Published(src *Source, where string, data []byte, now time.Time) (found finding.List) {
	object := "source " + src.Name
	certs, err := trust.ReadCertificates(data)
	if err != nil {
		return finding.List{finding.New(finding.KeyPublished, object,
			"the keys that the upstream publishes (%s) cannot be read: %s", where, Saying(err))}
	}
	rated := finding.Note
	for _, c := range src.Keyring.Counting() {
		if end, able := c.SignsUntil(now); able && !end.IsZero() && end.Before(now.Add(renewalWithin)) {
			rated = finding.Warning
		}
	}
	var unknown []string
	for _, c := range certs {
		have := src.Keyring.Certificate(c.Fingerprint)
		if have == nil {
			unknown = append(unknown, c.Fingerprint+" ("+finding.Harmless(strings.Join(c.UserIDs, ", "))+")")
			continue
		}
		merged, more, err := have.Merge(c)
		if err != nil || !more {
			continue
		}
		if changes := have.Changes(merged); len(changes) > 0 {
			found = append(found, finding.New(finding.KeyPublished, object,
				"the upstream publishes (%s) a newer copy of %s: %s", where, c.Fingerprint,
				finding.Harmless(strings.Join(changes, "; "))).Rated(rated))
		}
	}
	if len(unknown) > 0 {
		found = append(found, finding.New(finding.KeyPublished, object,
			"the upstream publishes (%s) keys that were never imported: %s", where,
			finding.Names(unknown, maxBesides)).Rated(rated))
	}
	return found
}
