package demo

import (
	"crypto/tls"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"time"

	"stockade/core/trust"
	"stockade/internal/made"
)

// Closed is a vendor's upstream that only customers get into, over TLS with an authority
// of the vendor's own: Shoal Sonar, who make the echo sounders of the approach.
type Closed struct {
	*Upstream
	Key       *trust.SiteKey
	Authority made.Authority
}

// Shoal's customer, as the demonstration's administrator is one.
const (
	ShoalUser     = "skerry-reach"
	ShoalPassword = "ebb-and-flow-4471"
)

// NewClosed starts one. asks says whether a request is let in; without it, whoever shows a
// client certificate of the authority is.
func NewClosed(now time.Time, asks func(r *http.Request) bool) (*Closed, error) {
	c := &Closed{Authority: made.NewAuthority("Shoal Sonar customers"),
		Key: made.Keys(made.Owner{Name: "Shoal Sonar packages", Address: "packages@shoal.example",
			Age: older})[0]}
	c.Key = c.Key.At(clock(now))
	repository := made.DebRepository{Origin: "Shoal Sonar", Label: "Shoal Sonar", Codename: "heron",
		Date: now.Add(-2 * 24 * time.Hour), Architectures: []string{"amd64"},
		Components: []string{"sounders"},
		Packages: []made.Deb{{Component: "sounders", Name: "echo-sounder", Version: "4.1-1", Arch: "amd64",
			Summary: "driver of Shoal echo sounders",
			Fields:  "Section: control\nDepends: libecho4 (>= 4.1)\n",
			Files:   script("echo-sounder", "4.1-1")},
			{Component: "sounders", Name: "libecho4", Version: "4.1-1", Arch: "amd64",
				Summary: "library of Shoal echo sounders", Fields: "Section: libs\n",
				Files: []made.File{{Path: "/usr/lib/shoal/libecho.so.4", Mode: 0o644,
					Data: payload("shoal", 120_000)}}}}}
	files, err := repository.Publish(signing(c.Key, repository.Date))
	if err != nil {
		return nil, err
	}
	config := &tls.Config{Certificates: []tls.Certificate{c.Authority.Server("127.0.0.1", "localhost")}}
	if asks == nil {
		config.ClientAuth, config.ClientCAs = tls.RequireAndVerifyClientCert, c.Authority.Pool
	}
	if c.Upstream, err = newUpstream("/deb/", files, config); err != nil {
		return nil, err
	}
	if asks != nil {
		c.Fault(func(w http.ResponseWriter, r *http.Request) bool {
			if asks(r) {
				return false
			}
			w.Header().Set("WWW-Authenticate", `Basic realm="customers of Shoal Sonar"`)
			w.WriteHeader(http.StatusUnauthorized)
			return true
		})
	}
	return c, nil
}

// ShoalLogin lets the customer in who says so by name and password.
func ShoalLogin(r *http.Request) bool {
	user, password, ok := r.BasicAuth()
	return ok && user == ShoalUser && password == ShoalPassword
}

// Host is its server as a credential names it.
func (c *Closed) Host() string { return host(c.URL) }

// Write writes the definitions for it, with the files that they name, and the password
// in a file of its own. credential is what its server is shown, in YAML.
func (c *Closed) Write(dir, credential string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	for name, text := range map[string]string{
		"shoal.asc":       c.Key.Certificate().Armoured(),
		"shoal-roots.pem": c.Authority.PEM,
		"shoal.yaml": fmt.Sprintf(shoalYAML, credential, c.Host(),
			trust.Spaced(c.Key.Certificate().Fingerprint),
			c.URL),
	} {
		if err := os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	return os.WriteFile(filepath.Join(dir, "shoal-password"), []byte(ShoalPassword+"\n"), 0o600)
}

const shoalYAML = `# Skerry Reach: a vendor whose server only customers get into.
stockade: 1

authorities:
  shoal-roots: {file: shoal-roots.pem}

credentials:
  shoal-login: {%s, hosts: ["%s"]}

keys:
  shoal-sonar:
    file: shoal.asc
    fingerprint: %s
    vouched_for: [shoal]
    evidence: "On the delivery note of the sounders, 2026-03"

sources:
  shoal:
    family: deb
    standing: vendor
    upstreams: [{url: "%s"}]
    release: heron
    components: [sounders]
    architectures: [amd64]
    signed_by: [shoal-sonar]
    credentials: [shoal-login]
    authority: shoal-roots
    priority: 40

mirrors:
  sounders:
    copy: tailored
    from: [shoal]
    want: {packages: [echo-sounder]}
`

// Office is a stand-in for a proxy that asks who it is: plain requests and CONNECT.
type Office struct {
	URL    string
	server *http.Server
	seen   chan string
}

// NewOffice starts one on a free port of loopback.
func NewOffice(user, password string) (*Office, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, fmt.Errorf("start a made-up proxy: %w", err)
	}
	o := &Office{URL: "http://" + l.Addr().String(), seen: make(chan string, 1000)}
	o.server = &http.Server{ReadHeaderTimeout: 5 * time.Second, ErrorLog: log.New(io.Discard, "", 0),
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asks := http.Request{Header: http.Header{"Authorization": r.Header["Proxy-Authorization"]}}
			if u, p, _ := asks.BasicAuth(); u != user || p != password {
				w.Header().Set("Proxy-Authenticate", `Basic realm="the office"`)
				w.WriteHeader(http.StatusProxyAuthRequired)
				return
			}
			select {
			case o.seen <- r.Method + " " + r.Host:
			default:
			}
			o.pass(w, r)
		})}
	go o.server.Serve(l)
	return o, nil
}

// Seen gives what was asked of it since the last call.
func (o *Office) Seen() (out []string) {
	for {
		select {
		case s := <-o.seen:
			out = append(out, s)
		default:
			return out
		}
	}
}

// Close ends it.
func (o *Office) Close() { o.server.Close() }

func (o *Office) pass(w http.ResponseWriter, r *http.Request) {
	if r.Method != http.MethodConnect {
		r.RequestURI = ""
		r.Header.Del("Proxy-Authorization")
		res, err := http.DefaultTransport.RoundTrip(r)
		if err != nil {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		defer res.Body.Close()
		for k, v := range res.Header {
			w.Header()[k] = v
		}
		w.WriteHeader(res.StatusCode)
		io.Copy(w, res.Body)
		return
	}
	to, err := net.DialTimeout("tcp", r.Host, 5*time.Second)
	if err != nil {
		w.WriteHeader(http.StatusBadGateway)
		return
	}
	w.WriteHeader(http.StatusOK)
	from, buffered, err := w.(http.Hijacker).Hijack()
	if err != nil {
		to.Close()
		return
	}
	go func() { io.Copy(to, buffered); to.Close() }()
	go func() { io.Copy(from, to); from.Close() }()
}

// host is that of an address, with its port.
func host(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return ""
	}
	return u.Host
}

// Host is the proxy as a credential names it.
func (o *Office) Host() string { return host(o.URL) }
