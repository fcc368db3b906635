package trust

import (
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/finding"
)

// What a keyring says of its certificates, beside judging signatures.
func TestWhatAKeyringSaysOfItsCertificates(t *testing.T) {
	made := now.AddDate(-1, 0, 0)
	fresh := func() *Certificate { return cert(t, ed(t, made, 2*365*24*time.Hour)) }
	one, two, three, four := fresh(), fresh(), fresh(), fresh()
	k := NewKeyring("tarn", []Known{
		{Certificate: one, VouchedFor: []string{"kelp", "tarn"}, Since: now.AddDate(0, -1, 0)},
		{Certificate: two, VouchedFor: []string{"kelp"}, Since: now.AddDate(0, -1, 0)},
		{Certificate: three, VouchedFor: []string{"tarn"}, Barred: "stolen", Since: now.AddDate(0, -1, 0)},
		{Certificate: four},
	}, at(now))
	id := func(c *Certificate) string { return c.Fingerprint[len(c.Fingerprint)-16:] }
	const user = " (Tarn archive <archive@tarn.example>; "
	for signer, says := range map[string]string{
		id(one): one.Fingerprint + user + "its signature does not count)",
		id(two): two.Fingerprint + user + "no one has vouched for it here)",
		three.Fingerprint: three.Fingerprint +
			user + "it is barred)",
		id(four)[1:]: id(four)[1:] + " (never imported)", "": " (never imported)",
	} {
		if got := k.Named(signer); got != says {
			t.Errorf("%s is called %s, and not %s", signer, got, says)
		}
	}
	if got := k.Counting(); len(got) != 1 || got[0] != one {
		t.Errorf("counting: %v", got)
	}
	if k.Certificate(four.Fingerprint) != four || k.Certificate(id(four)) != nil {
		t.Error("another certificate comes by a fingerprint")
	}
	for name, c := range map[string]struct {
		by     archive.Signer
		before time.Time
		idle   bool
	}{
		"somebody else signs":         {archive.Signer{Fingerprint: four.Fingerprint}, now, true},
		"it signs":                    {archive.Signer{Fingerprint: one.Fingerprint}, now, false},
		"it signs beside another":     {archive.Signer{With: []string{one.Fingerprint}}, now, false},
		"it signs and does not count": {archive.Signer{Others: []string{id(one)}}, now, false},
		"it was vouched for since":    {archive.Signer{}, now.AddDate(0, -1, 0), false},
	} {
		if got := k.Idle(c.by, c.before); (len(got) == 1 && got[0].Certificate == one) != c.idle ||
			len(got) > 1 {
			t.Errorf("%s: %+v", name, got)
		}
	}
	end, able := k.Until(one.Fingerprint, now)
	if _, other := k.Until(id(one), now); !able || other || !end.Equal(made.Add(2*365*24*time.Hour)) {
		t.Errorf("until %s: %v, %v", end, able, other)
	}
}

// Where one part is refused and another signs, that is told as a warning; where none is left, as an
// error.
func TestHowWeakACertificateIs(t *testing.T) {
	key := func(algorithm string, bits int, signs bool) Part {
		return Part{Algorithm: algorithm, Bits: bits, CanSign: signs, Fingerprint: algorithm}
	}
	good, weak, refused := key("Ed25519", 256, true), key("RSA", 2047, true), key("RSA", 1000, true)
	ended := refused
	ended.Expires = now
	for _, c := range []struct {
		name    string
		primary Part
		subkeys []Part
		says    string // severity of each finding
	}{
		{"good", good, []Part{good}, ""},
		{"a weak one", weak, nil, "warning"},
		{"a refused one", refused, []Part{weak}, "error"},
		{"a weak part", good, []Part{weak}, "warning"},
		{"a refused part beside one that signs", good, []Part{refused}, "warning"},
		{"a refused part, and nothing else signs", key("Ed25519", 256, false), []Part{refused}, "error"},
		{"a refused part beside a weak one", key("Ed25519", 256, false), []Part{refused, weak},
			"warning warning"},
		{"a refused part beside a good one", key("Ed25519", 256, false), []Part{refused, good}, "warning"},
		{"a refused part that signs no more", key("Ed25519", 256, false), []Part{ended}, ""},
		{"a refused part that never signs", good, []Part{key("RSA", 1000, false)}, ""},
	} {
		var got []string
		for _, f := range (&Certificate{Fingerprint: "AB", Primary: c.primary,
			Subkeys: c.subkeys}).weak(Policy{}, now) {
			got = append(got, string(f.Severity))
			if f.Code != "key.weak" || f.Object != "key AB" || !strings.Contains(f.Text, "bits") {
				t.Errorf("%s: %v", c.name, f)
			}
		}
		if text := strings.Join(got, " "); text != c.says {
			t.Errorf("%s: %q, and not %q", c.name, text, c.says)
		}
	}
}

func TestWhyNoKeyOfSeveralCounts(t *testing.T) {
	one, two := &Certificate{Fingerprint: "AA"}, &Certificate{Fingerprint: "BB"}
	both := map[string]*Certificate{"AA": one, "BB": two}
	bar := Decision{Act: Bar, Fingerprint: "BB", Why: "stolen"}
	for _, c := range []struct {
		name       string
		decided    []Decision
		named      []string
		there      map[string]*Certificate
		code, says string
	}{
		{"none was looked at", nil, []string{"AA", "BB"}, both, "key.unvouched", "any of its 2 keys"},
		{"one is barred", []Decision{bar}, []string{"AA", "BB"}, both, "key.", ""},
		{"one alone", nil, []string{"AA"}, both, "key.unvouched", "AA"},
		{"one is not here", nil, []string{"AA", "BB"}, map[string]*Certificate{"AA": one}, "key.", ""},
	} {
		err := decided(c.decided...).WhyNone("tarn", c.named, c.there)
		f, ok := finding.From(err)
		if !ok || !strings.HasPrefix(string(f.Code), c.code) || !strings.Contains(f.Text, c.says) ||
			f.Cause != NoneCounts ||
			(c.says == "any of its 2 keys") != strings.Contains(f.Text, "any of its") {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

func TestAlgorithmsThatCanBeRefusedAreNamedOnce(t *testing.T) {
	all := Algorithms()
	if !slices.Contains(all, "RSA") || !slices.Contains(all, "SHA-1") ||
		len(slices.Compact(slices.Sorted(slices.Values(all)))) != len(all) {
		t.Errorf("%v", all)
	}
	if text := signer(ed(t, now, 0), now).Certified(); !strings.HasPrefix(text,
		"-----BEGIN PGP PUBLIC KEY BLOCK-----\n") ||
		!strings.HasSuffix(text, "-----END PGP PUBLIC KEY BLOCK-----\n") {
		t.Errorf("%q", text)
	}
}
