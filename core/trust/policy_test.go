package trust

import (
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/must"
)

// docs/trust.md says what the table says, row for row.
func TestTheTableIsTheOneThatIsDocumented(t *testing.T) {
	text, err := os.ReadFile("../../docs/trust.md")
	must.Do(t, err)
	var rows []string
	for _, r := range Table() {
		name := r.Name
		if r.Under > 0 {
			name = fmt.Sprintf("%s under %d bits", r.Name, r.Under)
		}
		rows = append(rows, fmt.Sprintf("| %s | %s | %s | %s |", r.Of, name, r.Verdict, r.Why))
	}
	_, after, found := strings.Cut(string(text), "|---|---|---|---|\n")
	got, _, _ := strings.Cut(after, "\n\n")
	if want := strings.Join(rows, "\n"); !found || strings.TrimSpace(got) != want {
		t.Errorf("docs/trust.md has\n%s\nand the table is\n%s", got, want)
	}
}

func TestWhatAPolicyRefuses(t *testing.T) {
	for _, c := range []struct {
		name   string
		policy Policy
		of     string
		alg    string
		bits   int
		want   Verdict
		why    string
	}{
		{"RSA as it is made", Policy{}, OfKeys, "RSA", 3072, Counts, ""},
		{"RSA at the limit", Policy{}, OfKeys, "RSA", 2048, Counts, ""},
		{"RSA under it", Policy{}, OfKeys, "RSA", 2047, Weak, "today"},
		{"RSA far under it", Policy{}, OfKeys, "RSA", 1023, Refused, "factored"},
		{"a rule about RSA, at its limit", Policy{RSABits: 3072}, OfKeys, "RSA", 3072, Counts, ""},
		{"a rule about RSA", Policy{RSABits: 3072}, OfKeys, "RSA", 3071, Refused, "asks for 3072"},
		{"a rule about RSA is about nothing else", Policy{RSABits: 3072}, OfKeys, "Ed25519", 256, Counts, ""},
		{"a lax rule allows nothing", Policy{RSABits: 512}, OfKeys, "RSA", 1000, Refused, "factored"},
		{"DSA", Policy{}, OfKeys, "DSA", 2048, Weak, "obsolete"},
		{"DSA, refused", Policy{Refuse: []string{"DSA"}}, OfKeys, "DSA", 2048, Refused, "refuses DSA"},
		{"an algorithm that is none for signing", Policy{}, OfKeys, "ECDH", 256, Refused,
			"the algorithm is unknown"},
		{"SHA-1 over a document", Policy{}, OfDocuments, "SHA-1", 0, Refused,
			"collisions have been computed"},
		{"SHA-1 of a binding", Policy{}, OfBindings, "SHA-1", 0, Weak, "expensive"},
		{"SHA-1 of a binding, refused", Policy{Refuse: []string{"SHA-1"}}, OfBindings, "SHA-1", 0, Refused,
			"refuses SHA-1"},
		{"MD5 of a binding", Policy{}, OfBindings, "MD5", 0, Refused,
			"an attacker could add subkeys of their own"},
		{"SHA-224 over a document, refused", Policy{Refuse: []string{"SHA-224"}}, OfDocuments, "SHA-224", 0,
			Refused, "refuses SHA-224"},
		{"a digest without a name", Policy{}, OfDocuments, "", 0, Refused, "the algorithm is unknown"},
	} {
		got, why := c.policy.judge(c.of, c.alg, c.bits)
		if got != c.want || !strings.Contains(why, c.why) || (why == "") != (got == Counts) {
			t.Errorf("%s: %s %q", c.name, got, why)
		}
	}
}

func TestPoliciesAreJoinedAndCompared(t *testing.T) {
	a, b := Policy{RSABits: 3072, Refuse: []string{"DSA", "SHA-1"}}, Policy{Refuse: []string{"SHA-1",
		"ECDSA"}}
	both := a.And(b)
	if both.String() != "3072 DSA ECDSA SHA-1" || b.And(a).String() != both.String() {
		t.Errorf("joined: %s", both)
	}
	for _, c := range []struct {
		p, than Policy
		weaker  bool
	}{{a, a, false}, {both, a, false}, {a, both, true}, {Policy{}, a, true}, {a, Policy{}, false},
		{Policy{RSABits: 2048, Refuse: a.Refuse}, a, true}} {
		if c.p.Weaker(c.than) != c.weaker {
			t.Errorf("%s than %s: %v", c.p, c.than, !c.weaker)
		}
	}
}

// A policy decides where a signature is judged, which keys may be vouched for, and what a
// certificate is said to be; and it is an input of what is built.
func TestAPolicyHoldsWhereverAKeyIsJudged(t *testing.T) {
	k, err := NewKey("Tarn", "", "", func() time.Time { return time.Now().Add(-time.Hour) })
	must.Do(t, err)
	k = k.At(time.Now)
	signature, err := k.DetachSign([]byte("text"), true)
	must.Do(t, err)
	c, long := k.Certificate(), Policy{RSABits: 4096}
	ring := vouched(c)
	if _, err := ring.Detached([]byte("text"), signature); err != nil {
		t.Fatal(err)
	}
	_, err = ring.Under(long).Detached([]byte("text"), signature)
	if f, _ := finding.From(err); f.Code != "key.weak" || f.Severity != finding.Error ||
		!strings.Contains(f.Text, "is RSA with 3072 bits: a rule of this site asks for 4096 bits") {
		t.Errorf("a signature: %v", err)
	}
	_, err = ring.Under(Policy{Refuse: []string{"SHA-512", "SHA-256"}}).Detached([]byte("text"), signature)
	if got := outcome(err); got != "content.signature-bad weak-digest" {
		t.Errorf("a digest: %s", got)
	}
	if found := c.CheckBy(long, time.Now()); !found.HasErrors() || c.Check(time.Now()).HasErrors() {
		t.Errorf("what is said of it: %v", found)
	}
	d := &Decisions{}
	named := []string{c.Fingerprint}
	err = d.MayVouch(c, "tarn", named, "call 1", long, time.Now())
	if f, _ := finding.From(err); f.Code != "key.weak" {
		t.Errorf("vouching: %v", err)
	}
	if err := d.MayVouch(c, "tarn", named, "call 1", Policy{}, time.Now()); err != nil {
		t.Errorf("vouching without a rule: %v", err)
	}
	if strings.Join(ring.Decided(), " ") == strings.Join(ring.Under(long).Decided(), " ") {
		t.Error("a build with another rule counts as the same")
	}
}

// Of what a part is and what it is bound by, the worse counts, and the part where both are alike.
func TestAPartIsAsGoodAsItsWorse(t *testing.T) {
	for _, c := range []struct {
		algorithm, bound string
		bits             int
		want             Verdict
		what             string
	}{
		{"RSA", "SHA-256", 3072, Counts, "is RSA with 3072 bits"},
		{"RSA", "", 3072, Counts, "is RSA with 3072 bits"},
		{"RSA", "SHA-1", 3072, Weak, "is bound by a signature with SHA-1"},
		{"RSA", "SHA-1", 1024, Weak, "is RSA with 1024 bits"},
		{"RSA", "MD5", 1024, Refused, "is bound by a signature with MD5"},
		{"RSA", "MD5", 3072, Refused, "is bound by a signature with MD5"},
		{"RSA", "MD5", 1000, Refused, "is RSA with 1000 bits"},
		{"RSA", "SHA-1", 1000, Refused, "is RSA with 1000 bits"},
		{"RSA", "SHA-256", 1000, Refused, "is RSA with 1000 bits"},
	} {
		got, what, _ := Policy{}.part(Part{Algorithm: c.algorithm, Bits: c.bits, Bound: c.bound})
		if got != c.want || what != c.what {
			t.Errorf("%s %d by %s: %s, it %s", c.algorithm, c.bits, c.bound, got, what)
		}
	}
	// A length of other keys than RSA's is no matter of a rule about RSA.
	if got, why := (Policy{RSABits: 3072}).judge(OfBindings, "RSA", 0); got != Refused ||
		strings.Contains(why, "3072") {
		t.Errorf("%s %s", got, why)
	}
}
