package fetch

import (
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strings"
)

// Credential opens servers to whoever holds it. It is sent to its hosts alone: neither
// along a redirect to another, nor over plain HTTP (a proxy aside). It shows itself by
// its name only, whatever it is printed, logged or encoded with.
type Credential struct {
	Name  string
	Hosts []string // as CheckHost wants them
	Secret
}

// Secret is what a credential says: user and password, a bearer token (RFC 6750), or a
// client certificate with its key.
type Secret struct {
	User, Password string
	Token          string
	Certificate    *tls.Certificate
}

func (c Credential) String() string               { return "credential " + c.Name }
func (c Credential) GoString() string             { return c.String() }
func (c Credential) Format(f fmt.State, _ rune)   { fmt.Fprint(f, c.String()) }
func (c Credential) LogValue() slog.Value         { return slog.StringValue(c.String()) }
func (c Credential) MarshalText() ([]byte, error) { return []byte(c.String()), nil }

func (s Secret) String() string               { return "(secret)" }
func (s Secret) GoString() string             { return s.String() }
func (s Secret) Format(f fmt.State, _ rune)   { fmt.Fprint(f, s.String()) }
func (s Secret) MarshalText() ([]byte, error) { return []byte(s.String()), nil }

// header gives the value of an Authorization or Proxy-Authorization header (RFC 9110,
// section 11.6); empty for a certificate.
func (s Secret) header() string {
	switch {
	case s.Token != "":
		return "Bearer " + s.Token
	case s.User != "" || s.Password != "":
		r := http.Request{Header: http.Header{}}
		r.SetBasicAuth(s.User, s.Password)
		return r.Header.Get("Authorization")
	}
	return ""
}

// empty tells that nothing was given.
func (s Secret) empty() bool {
	return s.User == "" && s.Password == "" && s.Token == "" && s.Certificate == nil
}

// id tells secrets apart without being one.
func (s Secret) id() string {
	h := sha256.New()
	fmt.Fprintf(h, "%q %q %q", s.User, s.Password, s.Token)
	if s.Certificate != nil {
		for _, c := range s.Certificate.Certificate {
			h.Write(c)
		}
	}
	return hex.EncodeToString(h.Sum(nil))
}

// CheckHost refuses what is not host or host:port, as it stands in an address.
func CheckHost(host string) error {
	u, err := url.Parse("https://" + host)
	if err != nil || u.Host != host || u.Hostname() == "" || strings.ContainsAny(host, "*?@/ ,") ||
		strings.HasSuffix(host, ":") {
		return fmt.Errorf("%q is not a host: write it as packages.kelp.example, with the port "+
			"if it is unusual (packages.kelp.example:8443)", host)
	}
	return nil
}

// hostPort is where an address leads, in one spelling, with the port that its scheme has.
func hostPort(u *url.URL) string {
	port := u.Port()
	if port == "" {
		port = map[string]string{"http": "80", "https": "443"}[u.Scheme]
	}
	return net.JoinHostPort(strings.TrimSuffix(strings.ToLower(u.Hostname()), "."), port)
}

// BelongsTo tells whether one of hosts is the one that an address names, with its port: where
// a host is written without one, the usual one of the address's scheme.
func BelongsTo(u *url.URL, hosts []string) bool {
	return slices.ContainsFunc(hosts, func(h string) bool {
		of, err := url.Parse(u.Scheme + "://" + h)
		return err == nil && hostPort(of) == hostPort(u)
	})
}

// credential gives the one that a server is shown, or nil.
func (r *Route) credential(to *url.URL) *Credential {
	if to.Scheme != "https" {
		return nil // anybody on the way could read it
	}
	for i, c := range r.Credentials {
		if BelongsTo(to, c.Hosts) {
			return &r.Credentials[i]
		}
	}
	return nil
}

// ReadAuthority reads the certificates of an authority, in PEM, and gives them with the
// pool that they make.
func ReadAuthority(text string) ([]*x509.Certificate, *x509.CertPool, error) {
	certs, err := pemCertificates([]byte(text))
	if err != nil {
		return nil, nil, err
	}
	all := x509.NewCertPool()
	for _, c := range certs {
		if !c.IsCA {
			return nil, nil, fmt.Errorf("the certificate of %q is not an authority: it says "+
				"that it may not sign others", c.Subject)
		}
		all.AddCert(c)
	}
	return certs, all, nil
}

// ReadClientCertificate reads a client certificate with those of its chain and its key,
// all in one PEM text.
func ReadClientCertificate(text string) (*tls.Certificate, error) {
	pair, err := tls.X509KeyPair([]byte(text), []byte(text))
	if err != nil {
		return nil, fmt.Errorf("the file must contain a certificate and its key in PEM, the "+
			"key without a passphrase: %v", strings.TrimPrefix(err.Error(), "tls: "))
	}
	if pair.Leaf == nil {
		if pair.Leaf, err = x509.ParseCertificate(pair.Certificate[0]); err != nil {
			return nil, err
		}
	}
	return &pair, nil
}
