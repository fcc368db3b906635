package trust

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/must"
)

// program is a real OpenPGP program with a home of its own.
type program struct {
	t    *testing.T
	name string
	home string
}

func newProgram(t *testing.T, name string) *program {
	t.Helper()
	if _, err := exec.LookPath(name); err != nil {
		t.Skipf("skipped: %s is not on this machine", name)
	}
	home, err := os.MkdirTemp("", "p") // short: sockets lie in it, whose paths are bounded
	must.Do(t, err)
	t.Cleanup(func() { os.RemoveAll(home) })
	p := &program{t: t, name: name, home: home}
	if name == "gpg" {
		t.Cleanup(func() { exec.Command("gpgconf", "--homedir", p.home, "--kill", "all").Run() })
	}
	return p
}

// run runs it, and gives what it prints.
func (p *program) run(in string, args ...string) []byte {
	p.t.Helper()
	if p.name == "gpg" {
		args = append([]string{"--homedir", p.home, "--batch", "--yes", "--pinentry-mode", "loopback",
			"--passphrase", "", "--no-auto-key-locate"}, args...)
	}
	c := exec.Command(p.name, args...)
	c.Dir, c.Stdin = p.home, strings.NewReader(in)
	var stderr bytes.Buffer
	c.Stderr = &stderr
	out, err := c.Output()
	if err != nil {
		p.t.Fatalf("%s %v: %v\n%s", p.name, args, err, stderr.String())
	}
	return out
}

// file writes a file of the home.
func (p *program) file(name string, data []byte) string {
	p.t.Helper()
	path := filepath.Join(p.home, name)
	must.Do(p.t, os.WriteFile(path, data, 0o600))
	return path
}

// one reads the one certificate that a program gives out.
func one(t *testing.T, data []byte) *Certificate {
	t.Helper()
	certs, err := ReadCertificates(data)
	if err != nil || len(certs) != 1 {
		t.Fatalf("%d certificates: %v", len(certs), err)
	}
	return certs[0]
}

// vouched is the keyring of the source tarn in which a certificate counts.
func vouched(c *Certificate) *Keyring {
	return NewKeyring("tarn", []Known{{Certificate: c, VouchedFor: []string{"tarn"}}}, time.Now)
}

// withdrawn is a certificate with a statement that withdraws it.
func withdrawn(t *testing.T, c *Certificate, statement []byte) *Certificate {
	t.Helper()
	list, err := WithRevocations(statement, map[string]*Certificate{c.Fingerprint: c})
	if err != nil || len(list) != 1 || list[0].Fingerprint != c.Fingerprint {
		t.Fatalf("%d withdrawn: %v", len(list), err)
	}
	return list[0]
}

// outcome says the code and the cause of a refusal, or that something counts.
func outcome(err error) string {
	if err == nil {
		return "counts"
	}
	f, ok := finding.From(err)
	if !ok {
		return err.Error()
	}
	return strings.TrimSpace(string(f.Code) + " " + f.Cause)
}

const document = "Suite: steady\n- a dash\nFrom: here\n"

// What gpg makes with each of its algorithms counts, and only over what it was made for.
func TestEveryAlgorithmOfTheRealProgramCounts(t *testing.T) {
	t.Parallel()
	gpg := newProgram(t, "gpg")
	all := []string{"", "SHA256", "SHA384", "SHA512"}
	for _, c := range []struct {
		algo, name, weak string
		digests          []string // gpg makes no signature by a digest that is too short for the key
		short            bool     // and some by any
	}{
		{"rsa1024", "RSA", "is RSA with 1024 bits", all, true}, {"rsa2048", "RSA", "", all, true},
		{"rsa3072", "RSA", "", append(all, "SHA224"), true},
		{"dsa2048", "DSA", "is DSA with 2048 bits", all, false},
		{"nistp256", "ECDSA", "", all, false}, {"nistp384", "ECDSA", "", []string{"", "SHA384"}, false},
		{"nistp521", "ECDSA", "", []string{"", "SHA512"}, false},
		{"brainpoolP256r1", "ECDSA", "", all, false},
		{"brainpoolP384r1", "ECDSA", "", []string{"", "SHA384"}, false},
		{"brainpoolP512r1", "ECDSA", "", []string{"", "SHA512"}, false},
		{"ed25519", "Ed25519", "", all, false},
	} {
		who := c.algo + "@tarn.example"
		gpg.run("", "--quick-generate-key", who, c.algo, "sign", "1y")
		cert := one(t, gpg.run("", "--armor", "--export", who))
		if cert.Primary.Algorithm != c.name || !cert.Primary.CanSign || cert.Primary.Expires.IsZero() ||
			cert.Primary.Bound == "" || cert.UserIDs[0] != who {
			t.Errorf("%s: it is read as %+v", c.algo, cert.Primary)
		}
		weak := cert.Check(time.Now()).With("key.weak")
		if c.weak == "" && len(weak) > 0 || c.weak != "" && (len(weak) != 1 ||
			weak[0].Severity != finding.Warning || !strings.Contains(weak[0].Text, c.weak)) {
			t.Errorf("%s: what is weak of it: %v", c.algo, weak)
		}
		ring := vouched(cert)
		for _, digest := range c.digests {
			sign := []string{"--local-user", who}
			if digest != "" {
				sign = append(sign, "--digest-algo", digest)
			}
			detached := gpg.run(document, append(sign, "--detach-sign")...)
			if by, err := ring.Detached([]byte(document), detached); err != nil ||
				by.Fingerprint != cert.Fingerprint {
				t.Errorf("%s %s, detached: %v", c.algo, digest, err)
			}
			_, err := ring.Detached([]byte(document+" "), detached)
			if got := outcome(err); got != "content.signature-bad changed" {
				t.Errorf("%s %s, over another text: %s", c.algo, digest, got)
			}
		}
		text, _, err := ring.Clearsigned(gpg.run(document, "--local-user", who, "--clearsign"))
		if err != nil || string(text) != document {
			t.Errorf("%s, in clear text: %v %q", c.algo, err, text)
		}
		for digest, want := range map[string]string{"SHA1": "weak-digest", "RIPEMD160": "malformed"} {
			if !c.short {
				continue
			}
			_, err := ring.Detached([]byte(document), gpg.run(document, "--local-user", who, "--digest-algo",
				digest, "--detach-sign"))
			if got := outcome(err); got != "content.signature-bad "+want {
				t.Errorf("%s, by %s: %s", c.algo, digest, got)
			}
		}
	}
}

// The real program reads what the site signs.
func TestTheRealProgramReadsOurs(t *testing.T) {
	t.Parallel()
	gpg := newProgram(t, "gpg")
	k, err := NewKey("Site", "", "", time.Now)
	must.Do(t, err)
	signed, err := k.Clearsign([]byte(document))
	must.Do(t, err)
	gpg.run("", "--import", gpg.file("ours.key", []byte(k.Certificate().Armoured())))
	if out := gpg.run("", "--decrypt", gpg.file("ours", signed)); string(out) != document {
		t.Errorf("gpg reads our text as %q", out)
	}
}

// What gpg makes of keys that ended, were withdrawn, or are bound weakly.
func TestKeysOfTheRealProgramThatDoNotCount(t *testing.T) {
	t.Parallel()
	gpg := newProgram(t, "gpg")
	const algo = "ed25519"
	make := func(who string, more ...string) (*Certificate, []byte) {
		t.Helper()
		gpg.run("", append(more, "--quick-generate-key", who, algo, "cert", "1y")...)
		f := one(t, gpg.run("", "--export", who)).Fingerprint
		gpg.run("", append(more, "--quick-add-key", f, algo, "sign", "6m")...)
		return one(t, gpg.run("", "--export", who)), gpg.run(document, append(more, "--local-user", who,
			"--detach-sign")...)
	}
	judged := func(c *Certificate, p Policy, signature []byte) string {
		_, err := vouched(c).Under(p).Detached([]byte(document), signature)
		return outcome(err)
	}

	cert, signature := make("subkey@tarn.example")
	if got := judged(cert, Policy{}, signature); got != "counts" || cert.Primary.CanSign ||
		len(cert.Subkeys) != 1 {
		t.Errorf("by a part that may sign: %s %+v", got, cert)
	}
	part := cert.Subkeys[0].Fingerprint
	gpg.run("", "--command-fd", "0", "--quick-set-expire", cert.Fingerprint, "1d")
	renewed := one(t, gpg.run("", "--export", cert.Fingerprint))
	if merged, more, err := cert.Merge(renewed); err != nil || !more ||
		!merged.Primary.Expires.Before(cert.Primary.Expires) {
		t.Errorf("another end: %v %v", more, err)
	}
	commands := "key 1\nrevkey\ny\n1\nlost\n\ny\nsave\n"
	c := exec.Command("gpg", "--homedir", gpg.home, "--no-batch", "--yes", "--pinentry-mode", "loopback",
		"--passphrase", "", "--command-fd", "0", "--no-tty", "--edit-key", cert.Fingerprint)
	c.Stdin = strings.NewReader(commands)
	if out, err := c.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	less := one(t, gpg.run("", "--export", cert.Fingerprint))
	if !less.Subkeys[0].Revoked || less.Subkeys[0].Reason != "lost" {
		t.Errorf("the part that was withdrawn: %+v", less.Subkeys[0])
	}
	if got := judged(less, Policy{}, signature); got != "key.revoked" {
		t.Errorf("by a part that was withdrawn: %s", got)
	}

	cert, signature = make("whole@tarn.example")
	statement, err := os.ReadFile(filepath.Join(gpg.home, "openpgp-revocs.d", cert.Fingerprint+".rev"))
	must.Do(t, err)
	statement = bytes.Replace(statement, []byte(":-----BEGIN"), []byte("-----BEGIN"), 1)
	for name, c := range map[string]*Certificate{"by the statement alone": withdrawn(t, cert, statement),
		"as gpg has it": one(t, append(gpg.run(string(statement), "--import"), gpg.run("", "--export",
			cert.Fingerprint)...))} {
		if got := judged(c, Policy{}, signature); got != "key.revoked" || !c.Primary.Revoked {
			t.Errorf("of a certificate that was withdrawn, %s: %s", name, got)
		}
	}
	bare := gpg.run(string(statement), "--dearmor")
	for n, want := range map[int]string{maxSignatures: "counts", maxSignatures + 1: "key.unreadable none"} {
		_, err := WithRevocations(bytes.Repeat(bare, n), map[string]*Certificate{cert.Fingerprint: cert})
		if got := outcome(err); got != want {
			t.Errorf("%d statements: %s", n, got)
		}
	}
	torn := bytes.Replace(statement, []byte("\n="), []byte("\n=A"), 1)
	if _, err := WithRevocations(torn, map[string]*Certificate{cert.Fingerprint: cert}); outcome(err) !=
		"key.unreadable armour" {
		t.Errorf("a statement in armour that is damaged: %v", err)
	}
	// A statement about another certificate withdraws nothing, whatever it says of itself.
	other, _ := make("other@tarn.example")
	_, err = WithRevocations(statement, map[string]*Certificate{other.Fingerprint: other})
	if got := outcome(err); got != "key.missing" {
		t.Errorf("of a certificate that is not there: %s", got)
	}
	for name, data := range map[string][]byte{"a signature over a document": signature, "nothing": nil,
		"a certificate": cert.Binary(), "another text": []byte("x")} {
		_, err := WithRevocations(data, map[string]*Certificate{cert.Fingerprint: cert})
		if f, _ := finding.From(err); f.Code != "key.unreadable" || f.Cause != "none" {
			t.Errorf("%s withdraws: %v", name, err)
		}
	}

	cert, signature = make("ended@tarn.example", "--faked-system-time", "20200101T000000")
	if got := judged(cert, Policy{}, signature); got != "key.expired" {
		t.Errorf("of a certificate that has ended: %s", got)
	}
	seal := NewKeyring("tarn", []Known{{Certificate: cert, VouchedFor: []string{"tarn"}}}, nil)
	if _, err := seal.Detached([]byte(document), signature); err != nil {
		t.Errorf("as of the day on which it was made: %v", err)
	}

	// gpg makes no part that is bound by SHA-1 any more, and still a primary key.
	gpg.run("", "--cert-digest-algo", "SHA1", "--quick-generate-key", "bound@tarn.example", "rsa2048", "sign")
	cert = one(t, gpg.run("", "--export", "bound@tarn.example"))
	signature = gpg.run(document, "--local-user", "bound@tarn.example", "--detach-sign")
	weak := cert.Check(time.Now()).With("key.weak")
	if len(weak) != 1 || !strings.Contains(weak[0].Text, "bound by a signature with SHA-1") {
		t.Errorf("bound by SHA-1: %v", weak)
	}
	if got := judged(cert, Policy{}, signature); got != "counts" {
		t.Errorf("bound by SHA-1: %s", got)
	}
	if got := judged(cert, Policy{Refuse: []string{"SHA-1"}}, signature); got != "key.weak" {
		t.Errorf("bound by SHA-1, where a rule refuses it: %s", got)
	}
	if part == "" || !cert.CheckBy(Policy{Refuse: []string{"SHA-1"}}, time.Now()).HasErrors() {
		t.Error("a rule that refuses SHA-1 makes no error of such a certificate")
	}
}

// A second, independent program's certificates and signatures count, and it takes ours.
func TestAnotherProgramAgrees(t *testing.T) {
	t.Parallel()
	sq := newProgram(t, "sq")
	text := sq.file("text", []byte(document))
	for _, suite := range []string{"cv25519", "rsa3k"} {
		key := filepath.Join(sq.home, suite)
		sq.run("", "key", "generate", "-c", suite, "-u", suite+"@tarn.example", "-e", key)
		cert := one(t, sq.run("", "key", "extract-cert", key))
		if cert.Primary.CanSign || !slices.ContainsFunc(cert.Subkeys,
			func(p Part) bool { return p.CanSign }) {
			t.Errorf("%s: %+v", suite, cert)
		}
		ring := vouched(cert)
		sig := sq.run("", "sign", "--signer-key", key, "--detached", text)
		if _, err := ring.Detached([]byte(document), sig); err != nil {
			t.Errorf("%s, detached: %v", suite, err)
		}
		clear := sq.run("", "sign", "--signer-key", key, "--cleartext-signature", text)
		if got, _, err := ring.Clearsigned(clear); err != nil || string(got) != document {
			t.Errorf("%s, in clear text: %v %q", suite, err, got)
		}
		if _, _, err := ring.Clearsigned(bytes.Replace(clear, []byte("steady"), []byte("Steady"),
			1)); outcome(err) != "content.signature-bad changed" {
			t.Errorf("%s, another text: %v", suite, err)
		}
		statement := sq.run("", "revoke", "certificate", "--certificate", key, "superseded", "see the site")
		gone := withdrawn(t, cert, statement)
		if _, err := vouched(gone).Detached([]byte(document), sig); outcome(err) != "key.revoked" ||
			!strings.Contains(err.Error(), "see the site") {
			t.Errorf("%s, withdrawn: %v", suite, err)
		}
		if merged, _, err := cert.Merge(gone); err != nil || !merged.Primary.Revoked {
			t.Errorf("%s, withdrawn and merged: %v", suite, err)
		}
	}
	sq.run("", "key", "generate", "-u", "old@tarn.example", "-e", "old", "--creation-time", "20200101",
		"--expires-in", "1y")
	old := one(t, sq.run("", "key", "extract-cert", "old"))
	sig := sq.run("", "sign", "--signer-key", "old", "--detached", "--time", "20200601", text)
	if _, err := vouched(old).Detached([]byte(document), sig); outcome(err) != "key.expired" {
		t.Errorf("ended: %v", err)
	}

	ours, err := NewKey("Site", "", "", func() time.Time { return time.Now().Add(-time.Hour) })
	must.Do(t, err)
	ours = ours.At(time.Now)
	ring := sq.file("ours.pgp", []byte(ours.Certificate().Armoured()))
	detached, err := ours.DetachSign([]byte(document), true)
	must.Do(t, err)
	sq.run("", "verify", "--signer-cert", ring, "--detached", sq.file("ours.sig", detached), text)
	signed, err := ours.Clearsign([]byte(document))
	must.Do(t, err)
	if out := sq.run("", "verify", "--signer-cert", ring, sq.file("ours.asc",
		signed)); string(out) != document {
		t.Errorf("it reads our text as %q", out)
	}
	if sqv, err := exec.LookPath("sqv"); err == nil { // the verifier that newer machines have
		out, err := exec.Command(sqv, "--keyring", ring, filepath.Join(sq.home, "ours.sig"),
			text).CombinedOutput()
		if err != nil || !strings.Contains(string(out), ours.Certificate().Fingerprint) {
			t.Errorf("sqv: %v %s", err, out)
		}
	}
}

// The certificate of version 6 and the text signed by it that RFC 9580 prints in its
// appendices A.3 and A.6.
const (
	version6 = `-----BEGIN PGP PUBLIC KEY BLOCK-----

xioGY4d/4xsAAAAg+U2nu0jWCmHlZ3BqZYfQMxmZu52JGggkLq2EVD34laPCsQYf
GwoAAABCBYJjh3/jAwsJBwUVCg4IDAIWAAKbAwIeCSIhBssYbE8GCaaX5NUt+mxy
KwwfHifBilZwj2Ul7Ce62azJBScJAgcCAAAAAK0oIBA+LX0ifsDm185Ecds2v8lw
gyU2kCcUmKfvBXbAf6rhRYWzuQOwEn7E/aLwIwRaLsdry0+VcallHhSu4RN6HWaE
QsiPlR4zxP/TP7mhfVEe7XWPxtnMUMtf15OyA51YBM4qBmOHf+MZAAAAIIaTJINn
+eUBXbki+PSAld2nhJh/LVmFsS+60WyvXkQ1wpsGGBsKAAAALAWCY4d/4wKbDCIh
BssYbE8GCaaX5NUt+mxyKwwfHifBilZwj2Ul7Ce62azJAAAAAAQBIKbpGG2dWTX8
j+VjFM21J0hqWlEg+bdiojWnKfA5AQpWUWtnNwDEM0g12vYxoWM8Y81W+bHBw805
I8kWVkXU6vFOi+HWvv/ira7ofJu16NnoUkhclkUrk0mXubZvyl4GBg==
-----END PGP PUBLIC KEY BLOCK-----
`
	signedBy6 = `-----BEGIN PGP SIGNED MESSAGE-----

What we need from the grocery store:

- - tofu
- - vegetables
- - noodles

-----BEGIN PGP SIGNATURE-----

wpgGARsKAAAAKQWCY5ijYyIhBssYbE8GCaaX5NUt+mxyKwwfHifBilZwj2Ul7Ce6
2azJAAAAAGk2IHZJX1AhiJD39eLuPBgiUU9wUA9VHYblySHkBONKU/usJ9BvuAqo
/FvLFuGWMbKAdA+epq7V4HOtAPlBWmU8QOd6aud+aSunHQaaEJ+iTFjP2OMW0KBr
NK2ay45cX1IVAQ==
-----END PGP SIGNATURE-----
`
	fingerprint6 = "CB186C4F0609A697E4D52DFA6C722B0C1F1E27C18A56708F6525EC27BAD9ACC9"
)

func TestVersion6AsTheStandardPrintsIt(t *testing.T) {
	c := one(t, []byte(version6))
	if c.Fingerprint != fingerprint6 || c.Primary.Algorithm != "Ed25519" || !c.Primary.CanSign {
		t.Errorf("%+v", c)
	}
	if f, err := ParseFingerprint(Spaced(c.Fingerprint)); err != nil || f != fingerprint6 {
		t.Errorf("its fingerprint as people write it: %q %v", f, err)
	}
	ring := vouched(c)
	text, by, err := ring.Clearsigned([]byte(signedBy6))
	if err != nil || by.Fingerprint != fingerprint6 ||
		string(text) != "What we need from the grocery store:\n\n- tofu\n- vegetables\n- noodles\n\n" {
		t.Errorf("%v %+v %q", err, by, text)
	}
	if _, _, err := ring.Clearsigned([]byte(strings.Replace(signedBy6, "tofu", "tofa", 1))); outcome(err) !=
		"content.signature-bad changed" {
		t.Errorf("another text: %v", err)
	}
	again := one(t, []byte(c.Armoured()))
	if !bytes.Equal(again.Binary(), c.Binary()) {
		t.Error("written anew, it is another")
	}
}

// GnuPG's own keybox, with two certificates.
func TestAKeyboxOfTheRealProgramIsRead(t *testing.T) {
	gpg := newProgram(t, "gpg")
	for _, name := range []string{"Tarn", "Brine"} {
		gpg.run("", "--quick-gen-key", name+" <desk@"+strings.ToLower(name)+".example>", "ed25519", "sign",
			"1y")
	}
	raw, err := os.ReadFile(filepath.Join(gpg.home, "pubring.kbx"))
	must.Do(t, err)
	certs, err := ReadCertificates(raw)
	must.Do(t, err)
	exported, err := ReadCertificates(gpg.run("", "--export"))
	must.Do(t, err)
	same := func(a, b *Certificate) bool { return bytes.Equal(a.Binary(), b.Binary()) }
	if err != nil || len(certs) != 2 || !slices.EqualFunc(certs, exported, same) {
		t.Errorf("%v, %v", certs, err)
	}
}

// An Ed448 key of version 6 and its signature, of another implementation (testdata/README.md).
func TestEd448OfAnotherImplementationCounts(t *testing.T) {
	read := func(name string) []byte {
		t.Helper()
		data, err := os.ReadFile(filepath.Join("testdata", name))
		must.Do(t, err)
		return data
	}
	c, text, signature := one(t, read("ed448.asc")), read("ed448.txt"), read("ed448.txt.asc")
	if c.Primary.Algorithm != "Ed448" || len(c.Fingerprint) != 64 ||
		c.Fingerprint != "233CDD8B5365006249D433DDEE922D48DA44A0A54FF5999BBB065CFFF0A23FC0" ||
		c.UserIDs[0] != "Tarn archive <archive@tarn.example>" {
		t.Errorf("%+v", c.Primary)
	}
	if by, err := vouched(c).Detached(text, signature); err != nil || by.Fingerprint != c.Fingerprint {
		t.Errorf("%+v %v", by, err)
	}
	if _, err := vouched(c).Detached(append(text, 'x'), signature); err == nil {
		t.Error("it counts over another text")
	}
	if f, _ := finding.From(func() error {
		_, err := vouched(c).Under(Policy{Refuse: []string{"Ed448"}}).Detached(text, signature)
		return err
	}()); f.Code != "key.weak" {
		t.Errorf("a rule that refuses it: %+v", f)
	}
}
