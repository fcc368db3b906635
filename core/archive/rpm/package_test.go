package rpm_test

import (
	"bytes"
	"crypto"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/packet"

	"stockade/core/archive"
	. "stockade/core/archive/rpm"
	"stockade/core/archive/rpm/header"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/made/told"
	"stockade/internal/must"
)

func testKeys() []*trust.SiteKey {
	return made.Keys(made.Owner{Name: "Brine 0", Address: "keys@brine.example"},
		made.Owner{Name: "Brine 1", Address: "keys@brine.example"})
}

func keyringOf(certs ...*trust.Certificate) *trust.Keyring {
	var known []trust.Known
	for _, c := range certs {
		known = append(known, trust.Known{Certificate: c, VouchedFor: []string{"brine"}})
	}
	return trust.NewKeyring("brine", known, time.Now)
}

var pumpctl = made.RPM{Name: "pumpctl", Version: "2:3.2.0-1.el9", Arch: "x86_64",
	Summary: "start & stop <pumps>", Time: 1_790_000_000, Change: "first",
	Requires: []string{"libbrine >= 3", "(a if (b and c))"}, Provides: []string{"pump-control = 3.2"},
	Conflicts: []string{"old-pump < 2"}, Obsoletes: []string{"pump-ctl <= 1"},
	Recommends: []string{"pump-gauge"}, Suggests: []string{"pump-paper"}, Supplements: []string{"(x and y)"},
	Enhances: []string{"z"},
	Files: []made.File{{Path: "/usr/bin/pumpctl", Mode: 0o755, Data: []byte("#!/bin/sh\n")},
		{Path: "/usr/share/pump/data", Mode: 0o644, Data: []byte("data")},
		{Path: "/etc/pump.conf", Mode: 0o644, Data: []byte("x")}}}

// ed25519Key signs as an EdDSA key.
type ed25519Key struct{ entity *openpgp.Entity }

func newEd25519(t *testing.T) ed25519Key {
	t.Helper()
	e, err := openpgp.NewEntity("Brine EdDSA", "", "keys@brine.example",
		&packet.Config{Algorithm: packet.PubKeyAlgoEdDSA, DefaultHash: crypto.SHA256})
	must.Do(t, err)
	return ed25519Key{e}
}

func (k ed25519Key) certificate(t *testing.T) *trust.Certificate {
	var b bytes.Buffer
	must.Do(t, k.entity.Serialize(&b))
	c, err := trust.ReadCertificates(b.Bytes())
	must.Do(t, err)
	return c[0]
}
func (k ed25519Key) Clearsign([]byte) ([]byte, error) { return nil, nil }
func (k ed25519Key) SignStream(r io.ReadSeeker) ([]byte, error) {
	var b bytes.Buffer
	err := openpgp.DetachSign(&b, k.entity, r, nil)
	return b.Bytes(), err
}
func (k ed25519Key) DetachSign(content []byte, _ bool) ([]byte, error) {
	return k.SignStream(bytes.NewReader(content))
}

func isFinding(err error, code string) bool {
	f, ok := finding.From(err)
	return ok && string(f.Code) == code
}

func inspect(file []byte, v archive.Verifier) (archive.Inspected, error) {
	return Family{}.Inspect(archive.PackageFile{ReadSeeker: bytes.NewReader(file)}, v)
}

func TestPackagesOfBothFormatsAndKindsOfKeysAreVerified(t *testing.T) {
	rsa := testKeys()[0]
	ed := newEd25519(t)
	for _, c := range []struct {
		name   string
		format int
		sign   archive.SigningKey
		cert   *trust.Certificate
	}{{"4 RSA", 4, rsa, rsa.Certificate()}, {"6 RSA", 6, rsa, rsa.Certificate()},
		{"4 EdDSA", 4, ed, ed.certificate(t)}, {"6 EdDSA", 6, ed, ed.certificate(t)}} {
		for _, z := range []string{"gz", "xz", "zst"} {
			t.Run(c.name+" "+z, func(t *testing.T) {
				m := pumpctl
				m.Format, m.Packing = c.format, z
				file, err := m.Build(c.sign)
				must.Do(t, err)
				in, err := inspect(file, keyringOf(c.cert))
				must.Do(t, err)
				if in.Identity != (archive.Identity{Name: "pumpctl", Version: "2:3.2.0-1.el9",
					Arch: "x86_64"}) || in.Signer.Fingerprint != c.cert.Fingerprint {
					t.Errorf("%+v", in)
				}
				_, err = inspect(file, keyringOf(testKeys()[1].Certificate()))
				told.Refused(t, "a key that nobody brought in", err, "content.signature-bad",
					"a key that was never imported")
				o, err := header.Open(bytes.NewReader(file))
				must.Do(t, err)
				for what, at := range map[string]int64{"header": o.Start + 400, "payload": o.Payload + 20,
					"last byte": int64(len(file)) - 1} {
					broken := bytes.Clone(file)
					broken[at] ^= 1
					_, err := inspect(broken, keyringOf(c.cert))
					told.Refused(t, "a changed "+what, err, "content.digest-mismatch",
						"does not match its own checksum")
				}
			})
		}
	}
}

// A signature over the header says nothing of the payload when the header has no
// digest of it, nor of a signature that was taken off.
func TestWhatASignatureCoversIsWhatCounts(t *testing.T) {
	key := testKeys()[0]
	file, err := pumpctl.Build(key)
	must.Do(t, err)
	o, err := header.Open(bytes.NewReader(file))
	must.Do(t, err)
	blind := bytes.Clone(file[o.Start:o.Payload])
	for i := 16; i < len(blind); i += 16 { // make the payload's digest another tag
		if bytes.Equal(blind[i:i+4], []byte{0, 0, 0x13, 0xe4}) {
			blind[i+3] = 0xfe
			break
		}
	}
	signature, err := header.Signatures(blind, int64(len(file))-o.Payload, make([]byte, 16), key, false)
	must.Do(t, err)
	headerOnly := append(append(append(header.Lead("x"), signature...), blind...), file[o.Payload:]...)
	if _, err := inspect(headerOnly, keyringOf(key.Certificate())); !isFinding(err, "content.signature-bad") {
		t.Errorf("a signature over a header that does not bind the payload was accepted: %v", err)
	}
	// A signature that cannot be read is not the same as none.
	six := pumpctl
	six.Format = 6
	if file, err = six.Build(key); err != nil {
		t.Fatal(err)
	}
	with, err := header.Open(bytes.NewReader(file))
	must.Do(t, err)
	i := bytes.Index(file, []byte(with.Signature.Text(header.SigOpenPGP)))
	if i < header.LeadSize {
		t.Fatal("the signature is not where it should be")
	}
	file[i+3] = '!'
	if _, err := inspect(file, keyringOf(key.Certificate())); !isFinding(err, "content.signature-bad") {
		t.Errorf("a signature that is no base64: %v", err)
	}
	unsigned, err := pumpctl.Build(nil)
	must.Do(t, err)
	if in, err := inspect(unsigned, keyringOf(key.Certificate())); err != nil || in.Signer.Fingerprint != "" {
		t.Errorf("unsigned: %+v %v", in, err)
	}
	// Endorsed, it is signed by us, and what it holds is the same.
	var out bytes.Buffer
	if changed, _, err := (Family{}).Endorse(bytes.NewReader(unsigned), key, &out); err != nil || !changed {
		t.Fatal(changed, err)
	}
	if in, err := inspect(out.Bytes(), keyringOf(key.Certificate())); err != nil ||
		in.Signer.Fingerprint != key.Certificate().Fingerprint {
		t.Errorf("endorsed: %+v %v", in, err)
	}
	u, err := header.Open(bytes.NewReader(unsigned))
	must.Do(t, err)
	e, err := header.Open(bytes.NewReader(out.Bytes()))
	if err != nil || !bytes.Equal(unsigned[u.Start:], out.Bytes()[e.Start:]) {
		t.Error("endorsing changed header or payload", err)
	}
}

// Packages of the real build program, in several compressions of the payload,
// with signatures of the real gpg.
func TestPackagesOfTheRealBuildProgramAreReadAndVerified(t *testing.T) {
	for _, tool := range []string{"rpmbuild", "rpmsign", "gpg"} {
		if _, err := exec.LookPath(tool); err != nil {
			t.Skipf("skipped: %s is not on this machine", tool)
		}
	}
	gpg, _ := exec.LookPath("gpg")
	dir, err := os.MkdirTemp("/tmp", "rpm") // gpg's sockets have short paths
	must.Do(t, err)
	defer os.RemoveAll(dir)
	home := filepath.Join(dir, "gnupg")
	must.Do(t, os.Mkdir(home, 0o700))
	env := append(os.Environ(), "GNUPGHOME="+home, "HOME="+dir, "LC_ALL=C")
	run := func(name string, args ...string) string {
		t.Helper()
		c := exec.Command(name, args...)
		c.Env, c.Dir = env, dir
		out, err := c.CombinedOutput()
		if err != nil {
			t.Fatalf("%s %s: %v\n%s", name, strings.Join(args, " "), err, out)
		}
		return string(out)
	}
	defer func() {
		c := exec.Command("gpgconf", "--kill", "all")
		c.Env = env
		c.Run()
	}()
	certs := map[string]*trust.Certificate{}
	for _, algo := range []string{"rsa3072", "ed25519"} {
		run("gpg", "--batch", "--passphrase", "", "--quick-generate-key", algo+"@brine.example", algo, "sign",
			"never")
		c, err := trust.ReadCertificates([]byte(run("gpg", "--armor", "--export", algo+"@brine.example")))
		must.Do(t, err)
		certs[algo] = c[0]
	}
	spec := `Name: pump-meter
Epoch: 2
Version: 1.0~rc1
Release: 3
Summary: measures what the pumps move
License: MIT
BuildArch: noarch
Requires: libbrine >= 3, (pump-desk if pump-panel)
Recommends: pump-gauge
Supplements: (pump-desk and pump-gauge)
Conflicts: old-meter < 2
Obsoletes: meter <= 1.0
Provides: meter-control = 5
%description
Measures & shows.
%install
mkdir -p %{buildroot}/usr/bin %{buildroot}/usr/share/pump-meter
echo run > %{buildroot}/usr/bin/pump-meter
head -c 200000 /dev/zero > %{buildroot}/usr/share/pump-meter/table
ln -s table %{buildroot}/usr/share/pump-meter/link
%files
%attr(755,root,root) /usr/bin/pump-meter
/usr/share/pump-meter
%changelog
* Tue Sep 01 2026 Desk <desk@brine.example> - 1.0~rc1-3
- first
`
	must.Write(t, filepath.Join(dir, "pump-meter.spec"), spec)
	for _, c := range []struct{ payload, algo string }{{"w9.gzdio", "rsa3072"}, {"w6.xzdio", "ed25519"}, {
		"w3.zstdio", "rsa3072"}, {"w9.bzdio", "ed25519"}, {"w.ufdio", "rsa3072"}, {"w2.lzdio", "rsa3072"}} {
		t.Run(c.payload+" "+c.algo, func(t *testing.T) {
			must.Do(t, os.RemoveAll(filepath.Join(dir, "out")))
			run("rpmbuild", "-bb", "--quiet", "--nodebuginfo", "--define", "_topdir "+dir+"/top", "--define",
				"_rpmdir "+dir+"/out", "--define", "_binary_payload "+c.payload, "--define",
				"_build_id_links none", "pump-meter.spec")
			files, err := filepath.Glob(dir + "/out/*/*.rpm")
			must.Do(t, err)
			if len(files) != 1 {
				t.Fatal(files)
			}
			plain, err := os.ReadFile(files[0])
			must.Do(t, err)
			if in, err := inspect(plain, keyringOf(certs[c.algo])); err != nil ||
				in.Signer.Fingerprint != "" {
				t.Errorf("unsigned: %+v %v", in, err)
			}
			run("rpmsign", "--addsign", "--define", "__gpg "+gpg, "--define", "_gpg_name "+c.algo+
				"@brine.example", files[0])
			file, err := os.ReadFile(files[0])
			must.Do(t, err)
			in, err := inspect(file, keyringOf(certs["rsa3072"], certs["ed25519"]))
			if err != nil || in.Signer.Fingerprint != certs[c.algo].Fingerprint ||
				in.Version != "2:1.0~rc1-3" || in.Arch != "noarch" {
				t.Errorf("%+v %v", in, err)
			}
			_, err = inspect(file, keyringOf(testKeys()[0].Certificate()))
			told.Refused(t, "a stranger's keyring", err, "content.signature-bad",
				"a key that was never imported")
			file[len(file)-9] ^= 1
			_, err = inspect(file, keyringOf(certs[c.algo]))
			told.Refused(t, "a changed payload", err, "content.digest-mismatch",
				"does not match its own checksum")
			// What an index says of it reads back.
			x, err := Family{}.Examine(archive.Source{Name: "s", Architectures: []string{"x86_64"}},
				bytes.NewReader(plain))
			must.Do(t, err)
			rel, err := x.Package.Needs.Relations()
			must.Do(t, err)
			if got := fmt.Sprint(rel.Requires, rel.Recommends, rel.Supplements, rel.Conflicts,
				x.Package.Backward); got !=
				"[pump-desk or not pump-panel libbrine >= 3] [pump-gauge] [[pump-desk pump-gauge]] "+
					"[old-meter < 2 meter <= 1.0] true" && got !=
				"[libbrine >= 3 pump-desk or not pump-panel] [pump-gauge] [[pump-desk pump-gauge]] "+
					"[old-meter < 2 meter <= 1.0] true" {
				t.Errorf("relations: %s", got)
			}
			if !bytes.Contains(x.Raw, []byte("<file>/usr/bin/pump-meter</file>")) ||
				bytes.Contains(x.Raw, []byte("rpmlib(")) {
				t.Errorf("primary:\n%s", x.Raw)
			}
			o, err := header.Open(bytes.NewReader(plain))
			must.Do(t, err)
			list := Description{File: o, SHA256: x.Package.SHA256}.FileList()
			for _, want := range []string{`<file type="dir">/usr/share/pump-meter</file>`,
				"<file>/usr/share/pump-meter/link</file>"} {
				if !strings.Contains(list, want) {
					t.Errorf("no %s in\n%s", want, list)
				}
			}
		})
	}
}

// The real tools read what our writer makes.
func TestTheRealToolsReadOurPackages(t *testing.T) {
	if _, err := exec.LookPath("rpm"); err != nil {
		t.Skip("skipped: rpm is not on this machine")
	}
	dir := t.TempDir()
	key := testKeys()[0]
	file, err := pumpctl.Build(key)
	must.Do(t, err)
	name := filepath.Join(dir, pumpctl.FileName())
	must.Do(t, os.WriteFile(name, file, 0o644))
	must.Write(t, filepath.Join(dir, "key.asc"), key.Certificate().Armoured())
	run := func(args ...string) string {
		out, err := exec.Command("rpm", append([]string{"--dbpath", filepath.Join(dir, "db")},
			args...)...).CombinedOutput()
		if err != nil {
			t.Fatalf("rpm %v: %v\n%s", args, err, out)
		}
		return string(out)
	}
	run("--import", filepath.Join(dir, "key.asc"))
	if out := run("-Kv", name); strings.Contains(out, "NOKEY") || strings.Contains(out, "BAD") ||
		!strings.Contains(out, "RSA/SHA512 Signature") ||
		!strings.Contains(out, "Payload SHA256 digest: OK") {
		t.Error(out)
	}
	if out := run("-qp", "--qf",
		"%{nevra} [%{requires} %{requireflags:depflags} %{requireversion};][%{supplements};]", "-l",
		name); !strings.Contains(out, "pumpctl-2:3.2.0-1.el9.x86_64") ||
		!strings.Contains(out, "(a if (b and c))") || !strings.Contains(out, "(x and y)") ||
		!strings.Contains(out, "/usr/share/pump/data") {
		t.Error(out)
	}
}
