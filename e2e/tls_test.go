package e2e

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/must"
	"stockade/internal/service"
)

func TestBothListenersSpeakTLSWithCertificateFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	must.Do(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1),
		Subject: pkix.Name{CommonName: "gatehouse.skerry.example"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	raw, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	must.Do(t, err)
	secret, err := x509.MarshalPKCS8PrivateKey(key)
	must.Do(t, err)
	write := func(name, kind string, data []byte) string {
		p := filepath.Join(dir, name)
		must.Do(t, os.WriteFile(p, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: data}), 0o600))
		return p
	}
	s, err := service.Open(service.Config{Data: filepath.Join(dir, "data"),
		Listen: "127.0.0.1:0", Packages: "127.0.0.1:0",
		CertFile: write("cert.pem", "CERTIFICATE", raw), KeyFile: write("key.pem", "PRIVATE KEY", secret)})
	must.Do(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	go func() { ended <- s.Run(ctx) }()
	roots := x509.NewCertPool()
	cert, err := x509.ParseCertificate(raw)
	must.Do(t, err)
	roots.AddCert(cert)
	c := &http.Client{Transport: &http.Transport{TLSClientConfig: &tls.Config{RootCAs: roots}}}
	for url, want := range map[string]int{s.APIURL() + api.Base + "/about": 200, s.PackagesURL() +
		"/lane/none/x": 404} {
		if !strings.HasPrefix(url, "https://") {
			t.Errorf("%s", url)
		}
		res, err := c.Get(url)
		if err != nil || res.StatusCode != want {
			t.Errorf("%s: %v", url, err)
			continue
		}
		res.Body.Close()
	}
	// A second service on the same data folder is refused.
	if _, err := service.Open(service.Config{Data: filepath.Join(dir, "data"), Listen: "127.0.0.1:0",
		Packages: "127.0.0.1:0"}); err == nil || !strings.Contains(err.Error(), "in use") {
		t.Errorf("a second service: %v", err)
	}
	cancel()
	if err := <-ended; err != nil {
		t.Error(err)
	}
	// The site key stays locked without its passphrase.
	must.Do(t, os.Rename(filepath.Join(dir, "data/site/unlock"), filepath.Join(dir, "elsewhere")))
	open := func(unlock string) error {
		s, err := service.Open(service.Config{Data: filepath.Join(dir, "data"), Listen: "127.0.0.1:0",
			Packages: "127.0.0.1:0", Unlock: unlock})
		if err == nil {
			s.Close()
		}
		return err
	}
	if err := open(""); err == nil || !strings.Contains(err.Error(), "--unlock") {
		t.Errorf("without the passphrase: %v", err)
	}
	if err := open(filepath.Join(dir, "elsewhere")); err != nil {
		t.Errorf("with the passphrase from elsewhere: %v", err)
	}
}
