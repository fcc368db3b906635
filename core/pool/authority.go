package pool

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/hex"
	"hash"
	"io"
	"strings"

	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Algorithm is a digest algorithm, by the name that files of our own give it.
type Algorithm string

// The algorithms that repositories use.
const (
	SHA256 Algorithm = "sha256"
	SHA512 Algorithm = "sha512"
	SHA1   Algorithm = "sha1"
	MD5    Algorithm = "md5"
)

// algorithms gives what is known of each: how to make one, and whether bytes may be
// believed for it alone.
var algorithms = map[Algorithm]struct {
	make   func() hash.Hash
	strong bool
}{
	SHA256: {sha256.New, true},
	SHA512: {sha512.New, true},
	SHA1:   {sha1.New, false},
	MD5:    {md5.New, false},
}

// Strong tells whether nobody can make other bytes with the same digest.
func (a Algorithm) Strong() bool { return algorithms[a].strong }

// Digest is what a file has under an algorithm, in lower-case hexadecimal.
type Digest struct {
	Algorithm Algorithm
	Hex       string
}

// well tells whether a digest is one.
func (d Digest) well() bool {
	a, known := algorithms[d.Algorithm]
	return known && text.IsHex(d.Hex, 2*a.make().Size())
}

// Meaning names a file by the digest of what it says when it is unpacked: what
// travels is compressed, and may be compressed in another way the next time.
type Meaning struct {
	// Transform names the way from the bytes to the meaning, such as "zlib". The
	// pool remembers a file by it: two ways have two names.
	Transform string
	Unpack    func(io.Reader) (io.Reader, error)
	// Most bounds what is unpacked (bytes).
	Most   int64
	Digest Digest
}

// Authority is what stands behind a file, for which the pool admits its bytes: its
// digests, of which one is strong, as a signed index or a verified node gives them; or
// a signature by a key that counts; or the strong digest of what it says. Where several
// are given, all must be right.
type Authority struct {
	Digests []Digest
	// Signed reads the file from where it stands and tells why its signature does not
	// count, or nil.
	Signed  func(content io.ReadSeeker) error
	Meaning *Meaning
}

// ByDigest is the authority of an index that gives one or both of these digests.
func ByDigest(sha256, sha512 string) Authority {
	var a Authority
	for _, d := range []Digest{{SHA256, sha256}, {SHA512, sha512}} {
		if d.Hex != "" {
			a.Digests = append(a.Digests, d)
		}
	}
	return a
}

// BySignature is the authority of a detached signature; verify tells why it does not
// count, or nil.
func BySignature(verify func(content io.ReadSeeker) error) Authority {
	return Authority{Signed: verify}
}

// ByMeaning is the authority of a verified node that names a file by what it says.
func ByMeaning(m Meaning) Authority { return Authority{Meaning: &m} }

// digest gives the digest of an algorithm, or "".
func (a Authority) digest(of Algorithm) string {
	for _, d := range a.Digests {
		if d.Algorithm == of {
			return d.Hex
		}
	}
	return ""
}

// Want is what a file must be.
type Want struct {
	Name string // for messages
	Size int64  // bytes, or -1 where nothing tells it
	Authority
}

// check refuses a want that nothing stands behind.
func (w Want) check() error {
	none := func(text string) error {
		return finding.New(finding.ContentWeakDigest, "", "%s "+text, w.Name)
	}
	stands := w.Signed != nil
	seen := map[Algorithm]bool{}
	for _, d := range w.Digests {
		if !d.well() || seen[d.Algorithm] {
			return none("has a digest that is none, and could be known by nothing")
		}
		seen[d.Algorithm] = true
		stands = stands || d.Algorithm.Strong()
	}
	if m := w.Meaning; m != nil {
		if !m.Digest.well() || !m.Digest.Algorithm.Strong() || m.Transform == "" || m.Unpack == nil ||
			m.Most <= 0 || strings.Trim(m.Transform, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			return none("is named by a meaning that is not one it could be known by")
		}
		stands = true
	}
	if !stands || w.Size < -1 {
		return none("has no digest that it could be known by")
	}
	return nil
}

// names gives what the file is known by, each as a path of its own, best first.
func (w Want) names() []string {
	var out []string
	for _, of := range []Algorithm{SHA256, SHA512} {
		if hex := w.digest(of); hex != "" {
			out = append(out, string(of)+"/"+hex)
		}
	}
	if m := w.Meaning; m != nil {
		out = append(out, "meaning-"+m.Transform+"-"+string(m.Digest.Algorithm)+"/"+m.Digest.Hex)
	}
	return out
}

// key is what an unfinished file of the want is called, the same for each try.
func (w Want) key() string {
	if names := w.names(); len(names) > 0 {
		return strings.ReplaceAll(names[0], "/", "-")
	}
	sum := sha256.Sum256([]byte(w.Name))
	return "signed-" + hex.EncodeToString(sum[:])
}

// hashes gives one running digest for each that the want asks for, SHA-256 always.
func (w Want) hashes() map[Algorithm]hash.Hash {
	out := map[Algorithm]hash.Hash{SHA256: sha256.New()}
	for _, d := range w.Digests {
		out[d.Algorithm] = algorithms[d.Algorithm].make()
	}
	return out
}

// judge compares what came in, n bytes with these digests, with what is wanted.
func (w Want) judge(n int64, sums map[Algorithm]hash.Hash) error {
	if w.Size >= 0 && n != w.Size {
		return finding.New(finding.ContentSizeMismatch, "", "%s has %d bytes, but its index "+
			"says %d", w.Name,
			n, w.Size)
	}
	for _, d := range w.Digests {
		if got := hex.EncodeToString(sums[d.Algorithm].Sum(nil)); got != d.Hex {
			return w.mismatch(d, got)
		}
	}
	return nil
}

// brief is how much of a digest is shown where a whole one is too long (digits).
const brief = 64

func (w Want) mismatch(d Digest, got string) error {
	name := map[Algorithm]string{SHA256: "SHA-256", SHA512: "SHA-512", SHA1: "SHA-1", MD5: "MD5"}
	short := func(s string) string {
		if len(s) > brief {
			return s[:brief/2] + "…"
		}
		return s
	}
	return finding.New(finding.ContentDigestMismatch, "", "%s has the %s %s, but its index "+
		"says %s", w.Name,
		name[d.Algorithm], short(got), short(d.Hex))
}

// believe judges what is not about single bytes: a signature, and what the file says
// when it is unpacked. It reads content from its beginning.
func (w Want) believe(content io.ReadSeeker) error {
	begin := func() error {
		_, err := content.Seek(0, io.SeekStart)
		return finding.Doing(err, "read %s", w.Name)
	}
	if w.Signed != nil {
		if err := begin(); err != nil {
			return err
		}
		if err := w.atFault(w.Signed(content)); err != nil {
			return err
		}
	}
	m := w.Meaning
	if m == nil {
		return nil
	}
	if err := begin(); err != nil {
		return err
	}
	plain, err := m.Unpack(content)
	if err != nil {
		return w.unreadable(err)
	}
	h := algorithms[m.Digest.Algorithm].make()
	n, err := io.Copy(h, io.LimitReader(plain, m.Most+1))
	switch {
	case err != nil:
		return w.unreadable(err)
	case n > m.Most:
		return finding.New(finding.ContentTooLarge, "", "%s is larger than %d bytes when it is "+
			"unpacked",
			w.Name, m.Most)
	}
	if got := hex.EncodeToString(h.Sum(nil)); got != m.Digest.Hex {
		return w.mismatch(m.Digest, got)
	}
	return nil
}

// atFault tells where an error is a fault of this machine, whoever met it.
func (w Want) atFault(err error) error {
	if f, ok := finding.Fault(err, "read "+w.Name); ok {
		return f
	}
	return err
}

// unreadable tells that a file cannot be unpacked, unless this machine is at fault.
func (w Want) unreadable(err error) error {
	if f, ok := finding.Fault(err, "unpack "+w.Name); ok {
		return f
	}
	if f, ok := finding.From(err); ok {
		return f
	}
	return finding.New(finding.ContentDigestMismatch, "", "%s cannot be unpacked: %v", w.Name, err)
}
