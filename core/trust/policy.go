package trust

import (
	"crypto"
	"fmt"
	"slices"
	"strings"

	"github.com/ProtonMail/go-crypto/openpgp/packet"
)

// Verdict says what an algorithm is worth.
type Verdict string

// The verdicts. A signature that needs something Weak counts, and the key is told as weak;
// one that needs something Refused does not count.
const (
	Counts  Verdict = "counts"
	Weak    Verdict = "weak"
	Refused Verdict = "refused"
)

// What the rows of the table are about.
const (
	OfKeys      = "key"       // an algorithm of a key that signs, or that a part hangs on
	OfDocuments = "signature" // a digest in a signature over a root, a package, a seal
	OfBindings  = "binding"   // a digest in a signature by which a certificate says what is in it
)

// Row is one line of the table of algorithms.
type Row struct {
	Of      string // OfKeys, OfDocuments, OfBindings
	Name    string
	Under   int // bits; the row holds for keys with fewer; 0: for all that no row before fits
	Verdict Verdict
	Why     string
}

// table is what holds everywhere: the first row that fits decides. What is in none is refused.
// RFC 9580 §9.1 and §9.5 name the algorithms.
var table = []Row{
	{OfKeys, "RSA", 1024, Refused, "such keys have been factored"},
	{OfKeys, "RSA", 2048, Weak, "below the length that is considered safe today"},
	{OfKeys, "RSA", 0, Counts, ""},
	{OfKeys, "DSA", 1024, Refused, "within reach of an attacker"},
	{OfKeys, "DSA", 0, Weak, "the algorithm is obsolete, and one signature with a bad random " +
		"number reveals the key"},
	{OfKeys, "ECDSA", 0, Counts, ""},
	{OfKeys, "Ed25519", 0, Counts, ""},
	{OfKeys, "Ed448", 0, Counts, ""},
	{OfDocuments, "MD5", 0, Refused, "collisions can be computed in seconds"},
	{OfDocuments, "SHA-1", 0, Refused, "collisions have been computed"},
	{OfDocuments, "RIPEMD-160", 0, Refused, "as short as SHA-1, and less studied"},
	{OfDocuments, "SHA-224", 0, Counts, ""},
	{OfDocuments, "SHA-256", 0, Counts, ""},
	{OfDocuments, "SHA-384", 0, Counts, ""},
	{OfDocuments, "SHA-512", 0, Counts, ""},
	{OfDocuments, "SHA3-256", 0, Counts, ""},
	{OfDocuments, "SHA3-512", 0, Counts, ""},
	{OfBindings, "MD5", 0, Refused, "an attacker could add subkeys of their own"},
	{OfBindings, "SHA-1", 0, Weak, "adding a subkey is expensive, but has been shown"},
	{OfBindings, "RIPEMD-160", 0, Weak, "as short as SHA-1, and less studied"},
	{OfBindings, "SHA-224", 0, Counts, ""},
	{OfBindings, "SHA-256", 0, Counts, ""},
	{OfBindings, "SHA-384", 0, Counts, ""},
	{OfBindings, "SHA-512", 0, Counts, ""},
	{OfBindings, "SHA3-256", 0, Counts, ""},
	{OfBindings, "SHA3-512", 0, Counts, ""},
}

// Table gives the table of algorithms that holds where no rule says more.
func Table() []Row { return slices.Clone(table) }

// Algorithms gives the names that a policy can refuse.
func Algorithms() (out []string) {
	for _, r := range table {
		if !slices.Contains(out, r.Name) {
			out = append(out, r.Name)
		}
	}
	return out
}

// Policy tightens the table of algorithms: it can take away, and allows nothing that the
// table refuses. The zero Policy is the table.
type Policy struct {
	RSABits int      // keys of RSA with fewer bits are refused; 0: as the table says
	Refuse  []string // names of algorithms of keys, and of digests in any signature
}

// And gives the policy that refuses what either does.
func (p Policy) And(other Policy) Policy {
	out := Policy{RSABits: max(p.RSABits, other.RSABits), Refuse: slices.Concat(p.Refuse, other.Refuse)}
	slices.Sort(out.Refuse)
	out.Refuse = slices.Compact(out.Refuse)
	return out
}

// Weaker tells whether p counts something that other refuses.
func (p Policy) Weaker(other Policy) bool {
	return p.RSABits < other.RSABits ||
		slices.ContainsFunc(other.Refuse, func(name string) bool { return !slices.Contains(p.Refuse, name) })
}

// String gives the policy for a digest over what a build was made with.
func (p Policy) String() string { return fmt.Sprint(p.RSABits, " ", strings.Join(p.Refuse, " ")) }

// judge gives the verdict about an algorithm, and why where it is not that it counts.
func (p Policy) judge(of, name string, bits int) (Verdict, string) {
	if slices.Contains(p.Refuse, name) {
		return Refused, "a rule of this site refuses " + name
	}
	if of == OfKeys && name == "RSA" && bits < p.RSABits {
		return Refused, fmt.Sprintf("a rule of this site asks for %d bits", p.RSABits)
	}
	for _, r := range table {
		if r.Of == of && r.Name == name && (r.Under == 0 || bits < r.Under) {
			return r.Verdict, r.Why
		}
	}
	return Refused, "the algorithm is unknown"
}

// part judges a part of a certificate: its algorithm, and the digest by which it is bound.
// what says which of the two it is about.
func (p Policy) part(k Part) (verdict Verdict, what, why string) {
	verdict, why = p.judge(OfKeys, k.Algorithm, k.Bits)
	what = fmt.Sprintf("is %s with %d bits", k.Algorithm, k.Bits)
	if k.Bound == "" {
		return verdict, what, why
	}
	bound, because := p.judge(OfBindings, k.Bound, 0)
	if bound == Refused && verdict != Refused || bound == Weak && verdict == Counts {
		return bound, "is bound by a signature with " + k.Bound, because
	}
	return verdict, what, why
}

// digestName gives a digest its name of the table.
func digestName(h crypto.Hash) string {
	return map[crypto.Hash]string{crypto.MD5: "MD5", crypto.SHA1: "SHA-1", crypto.RIPEMD160: "RIPEMD-160",
		crypto.SHA224: "SHA-224", crypto.SHA256: "SHA-256", crypto.SHA384: "SHA-384",
		crypto.SHA512: "SHA-512", crypto.SHA3_256: "SHA3-256", crypto.SHA3_512: "SHA3-512"}[h]
}

// boundBy names the digest of the signature that a part hangs on.
func boundBy(s *packet.Signature) string {
	if s == nil {
		return ""
	}
	return digestName(s.Hash)
}
