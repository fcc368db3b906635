package upstream

import (
	"bytes"
	"errors"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/must"
)

// Two keys sign the root of a source while its owner renews: the one that counts is enough,
// the other is named with why it does not count, and it is a warning once the first ends soon.
func TestWhoSignsBesideTheKeyThatCountsIsTold(t *testing.T) {
	w := newWorld(t)
	all := keys()
	root := w.files["dists/heron/Release"]
	sign := func(by ...*trust.SiteKey) {
		t.Helper()
		var signature []byte
		for _, k := range by {
			one, err := k.DetachSign(root, false)
			must.Do(t, err)
			signature = append(signature, one...)
		}
		w.mu.Lock()
		delete(w.files, "dists/heron/InRelease")
		w.files["dists/heron/Release.gpg"] = signature
		w.mu.Unlock()
	}
	first := all[0].Certificate()
	ring := func(more ...trust.Known) {
		w.source.Keyring = trust.NewKeyring("tarn", append(more, trust.Known{Certificate: first,
			VouchedFor: []string{"tarn"}}), func() time.Time { return w.now })
	}
	code := "key.also-signed"
	refreshed := func() finding.List {
		t.Helper()
		w.source.Accepted = nil
		pub, err := w.reader.Refresh(t.Context(), w.source)
		must.Do(t, err)
		return pub.Findings.With(finding.Code(code))
	}
	other := all[1].Certificate()
	ring()
	sign(all[0])
	if found := refreshed(); len(found) > 0 {
		t.Errorf("signed by one: %v", found)
	}
	sign(all[0], all[1])
	for _, c := range []struct {
		name  string
		known []trust.Known
		says  string
	}{
		{"nobody brought it in", nil, other.Fingerprint + " (never imported)"},
		{"nobody vouched for it", []trust.Known{{Certificate: other}},
			other.Fingerprint + " (" + other.UserIDs[0] + "; no one has vouched for it here)"},
		{"it is barred", []trust.Known{{Certificate: other, Barred: "stolen"}}, "it is barred)"},
	} {
		ring(c.known...)
		found := refreshed()
		if len(found) != 1 || found[0].Severity != finding.Note || !strings.Contains(found[0].Text, c.says) {
			t.Errorf("%s: %v", c.name, found)
		}
	}
	// A key that was vouched for long ago, and has no part in a root.
	code = "key.unused"
	long, lately := w.repo.Date.Add(-idleFor-time.Hour), w.repo.Date.Add(-idleFor+time.Hour)
	vouched := func(since time.Time, source string) trust.Known {
		return trust.Known{Certificate: other, VouchedFor: []string{source}, Since: since}
	}
	for _, c := range []struct {
		name  string
		known trust.Known
		by    []*trust.SiteKey
		want  int
	}{
		{"long ago", vouched(long, "tarn"), all[:1], 1},
		{"lately", vouched(lately, "tarn"), all[:1], 0},
		{"for another source", vouched(long, "kelp"), all[:1], 0},
		{"it signs beside the other", vouched(long, "tarn"), all[:2], 0},
		{"it signs alone", vouched(long, "tarn"), all[1:2], 0},
	} {
		ring(c.known)
		sign(c.by...)
		found := refreshed()
		if len(found) != c.want || c.want > 0 && !strings.Contains(found[0].Text, other.Fingerprint+
			" was vouched for on "+long.Format(time.DateOnly)) {
			t.Errorf("%s: %v", c.name, found)
		}
	}
	code = "key.also-signed"
	for days, want := range map[int]finding.Severity{80: finding.Warning, 91: finding.Note} {
		// A key that ends, made by hand.
		life := uint32(days*24*3600 + 3600)
		e, err := openpgp.NewEntity("Tarn archive", "", "", &packet.Config{Algorithm: packet.PubKeyAlgoEdDSA,
			KeyLifetimeSecs: life, Time: func() time.Time { return w.now.Add(-time.Hour) }})
		must.Do(t, err)
		var public, signature bytes.Buffer
		must.Do(t, errors.Join(e.Serialize(&public), openpgp.DetachSign(&signature, e, bytes.NewReader(root),
			&packet.Config{Time: func() time.Time { return w.now.Add(-time.Minute) }})))
		certs, err := trust.ReadCertificates(public.Bytes())
		must.Do(t, err)
		sign(all[1])
		first, w.files["dists/heron/Release.gpg"] = certs[0], append(signature.Bytes(),
			w.files["dists/heron/Release.gpg"]...)
		ring(trust.Known{Certificate: other})
		found := refreshed()
		if len(found) != 1 || found[0].Severity != want || !strings.Contains(found[0].Text,
			"is also signed by "+other.Fingerprint) {
			t.Errorf("in %d days: %v", days, found)
		}
		if want == finding.Warning && !strings.Contains(found[0].Text,
			"its key "+first.Fingerprint+" expires on ") {
			t.Errorf("whose end: %v", found)
		}
	}
}
