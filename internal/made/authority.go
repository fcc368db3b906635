package made

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"time"
)

// Authority certifies servers, and who asks them, for TLS.
type Authority struct {
	PEM  string
	Pool *x509.CertPool

	certificate *x509.Certificate
	key         *ecdsa.PrivateKey
}

// NewAuthority makes an authority whose certificate holds for a year.
func NewAuthority(name string) Authority {
	return NewAuthorityUntil(name, time.Now().AddDate(1, 0, 0))
}

// NewAuthorityUntil is NewAuthority with the end of its certificate.
func NewAuthorityUntil(name string, until time.Time) Authority {
	key := newKey()
	template := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: until, IsCA: true, BasicConstraintsValid: true,
		KeyUsage: x509.KeyUsageCertSign}
	der := must(x509.CreateCertificate(rand.Reader, template, template, key.Public(), key))
	a := Authority{certificate: must(x509.ParseCertificate(der)), key: key, Pool: x509.NewCertPool(),
		PEM: block("CERTIFICATE", der)}
	a.Pool.AddCert(a.certificate)
	return a
}

// Server certifies a server of some names or addresses.
func (a Authority) Server(hosts ...string) tls.Certificate {
	certificate, key := a.certify(x509.ExtKeyUsageServerAuth, "server", time.Now().Add(24*time.Hour),
		hosts...)
	return must(tls.X509KeyPair([]byte(certificate), []byte(key)))
}

// Client certifies who asks, until a time: certificate and key, in PEM.
func (a Authority) Client(name string, until time.Time) string {
	certificate, key := a.certify(x509.ExtKeyUsageClientAuth, name, until)
	return certificate + key
}

func (a Authority) certify(use x509.ExtKeyUsage, name string, until time.Time, hosts ...string) (certificate,
	secret string) {
	key := newKey()
	template := &x509.Certificate{SerialNumber: serial(), Subject: pkix.Name{CommonName: name},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: until, KeyUsage: x509.KeyUsageDigitalSignature,
		ExtKeyUsage: []x509.ExtKeyUsage{use}}
	for _, h := range hosts {
		if ip := net.ParseIP(h); ip != nil {
			template.IPAddresses = append(template.IPAddresses, ip)
		} else {
			template.DNSNames = append(template.DNSNames, h)
		}
	}
	der := must(x509.CreateCertificate(rand.Reader, template, a.certificate, key.Public(), a.key))
	return block("CERTIFICATE", der), block("PRIVATE KEY", must(x509.MarshalPKCS8PrivateKey(key)))
}

func newKey() *ecdsa.PrivateKey { return must(ecdsa.GenerateKey(elliptic.P256(), rand.Reader)) }

func serial() *big.Int { return must(rand.Int(rand.Reader, big.NewInt(1<<62))) }

func block(kind string, data []byte) string {
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: data}))
}

// must is for what fails only where the machine has no randomness.
func must[T any](v T, err error) T {
	if err != nil {
		panic("made: " + err.Error())
	}
	return v
}
