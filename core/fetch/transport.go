package fetch

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/pem"
	"errors"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"stockade/core/finding"
)

// Proxy is a way out.
type Proxy struct {
	URL        string      // http or https; empty: none
	Credential *Credential // nil: it asks for nothing
	Authority  string      // who certifies an https proxy, in PEM; empty: those that this machine knows
	Except     []string    // hosts that are reached without it: see Passed
}

// Passed tells whether a host is reached without the proxy: one that is named, one under a
// domain that is named with a dot before it, or an address in a network that is named
// (10.0.0.0/8). Ports play no part.
func (p Proxy) Passed(host string) bool {
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	address, _ := netip.ParseAddr(host)
	return slices.ContainsFunc(p.Except, func(e string) bool {
		e = strings.ToLower(e)
		if network, err := netip.ParsePrefix(e); err == nil {
			return address.IsValid() && network.Contains(address.Unmap())
		}
		return host == e || strings.HasPrefix(e, ".") && strings.HasSuffix(host, e)
	})
}

// shown gives the credential that the proxy is shown, or nil.
func (p Proxy) shown() *Credential {
	u, err := url.Parse(p.URL)
	if err != nil || p.Credential == nil || !BelongsTo(u, p.Credential.Hosts) {
		return nil
	}
	return p.Credential
}

// CheckException refuses what Passed would never match.
func CheckException(text string) error {
	if strings.Contains(text, "/") {
		if _, err := netip.ParsePrefix(text); err == nil {
			return nil
		}
	} else if name := strings.TrimPrefix(text, "."); name != "" && CheckHost(name) == nil &&
		(!strings.Contains(name, ":") || strings.HasPrefix(name, "[")) {
		return nil
	}
	return fmt.Errorf("%q is not a host, a domain that begins with a dot, or a network such as "+
		"10.0.0.0/8", text)
}

// via gives the proxy by which a server is reached, or nil.
func (r *Route) via(to *url.URL) *url.URL {
	if r.Proxy.URL == "" || r.Proxy.Passed(to.Hostname()) {
		return nil
	}
	u, err := url.Parse(r.Proxy.URL)
	if err != nil {
		return nil // refused where it is described
	}
	return u
}

// maxClients bounds the servers to which connections are kept.
const maxClients = 1000

// http gives the client for one server of a route: what is shown to a server, and who
// certifies it, is not another's. It follows no redirect.
func (c *Client) http(route Route, up Upstream, to *url.URL) (*http.Client, error) {
	credential := route.credential(to)
	proxy := route.via(to)
	key := []string{strconv.FormatBool(up.Listed), to.Scheme, hostPort(to), route.Authority,
		strconv.FormatBool(route.own(to))}
	if credential != nil {
		key = append(key, "shows", credential.id())
	}
	if proxy != nil {
		key = append(key, "by", route.Proxy.URL, route.Proxy.Authority)
		if c := route.Proxy.shown(); c != nil {
			key = append(key, c.id())
		}
	}
	id := strings.Join(key, "\x00")
	c.mu.Lock()
	defer c.mu.Unlock()
	if h, ok := c.clients[id]; ok {
		return h, nil
	}
	t := &http.Transport{
		Proxy: nil, ForceAttemptHTTP2: true, DisableCompression: true,
		MaxIdleConnsPerHost: 16, IdleConnTimeout: time.Minute,
		TLSHandshakeTimeout: c.opt.ConnectTimeout, ResponseHeaderTimeout: c.opt.ConnectTimeout,
		MaxResponseHeaderBytes: 64 << 10, TLSClientConfig: &tls.Config{},
	}
	dialer := &net.Dialer{Timeout: c.opt.ConnectTimeout, KeepAlive: 30 * time.Second}
	if up.Listed && proxy == nil {
		dialer.Control = func(_, address string, _ syscall.RawConn) error {
			return farAway(route.Source, up, address)
		}
	}
	t.DialContext = dialer.DialContext
	if route.Authority != "" {
		roots, err := route.roots(to)
		if err != nil {
			return nil, err
		}
		t.TLSClientConfig.RootCAs = roots
	}
	if credential != nil && credential.Certificate != nil {
		t.TLSClientConfig.Certificates = []tls.Certificate{*credential.Certificate}
	}
	if proxy != nil {
		if err := c.through(t, dialer, route.Proxy, proxy); err != nil {
			return nil, err
		}
	}
	h := &http.Client{Transport: t, CheckRedirect: func(*http.Request, []*http.Request) error {
		return http.ErrUseLastResponse // see follow
	}}
	if len(c.clients) >= maxClients { // somebody sends to ever other ports
		for _, old := range c.clients {
			old.CloseIdleConnections()
		}
		clear(c.clients)
	}
	c.clients[id] = h
	return h, nil
}

// through leads a transport by a proxy. TLS to the proxy itself is made here, so that what
// the upstream is shown and certified by is not the proxy's.
func (c *Client) through(t *http.Transport, dialer *net.Dialer, proxy Proxy, u *url.URL) error {
	at := *u
	if u.Scheme == "https" {
		config := &tls.Config{ServerName: u.Hostname()}
		if proxy.Authority != "" {
			_, roots, err := ReadAuthority(proxy.Authority)
			if err != nil {
				return err
			}
			config.RootCAs = roots
		}
		toProxy := tls.Dialer{NetDialer: dialer, Config: config}
		t.DialContext = func(ctx context.Context, network, address string) (net.Conn, error) {
			ctx, cancel := context.WithTimeout(ctx, c.opt.ConnectTimeout)
			defer cancel()
			return toProxy.DialContext(ctx, network, address)
		}
		at.Scheme, at.Host = "http", hostPort(u)
	}
	t.Proxy = http.ProxyURL(&at)
	t.OnProxyConnectResponse = func(_ context.Context, _ *url.URL, _ *http.Request,
		res *http.Response) error {
		if res.StatusCode == http.StatusProxyAuthRequired {
			return proxy.refuses(res.Status)
		}
		return nil
	}
	if c := proxy.shown(); c != nil && !c.empty() {
		t.ProxyConnectHeader = http.Header{"Proxy-Authorization": {c.header()}}
	}
	return nil
}

// own tells whether a server is one that the definition names.
func (r *Route) own(to *url.URL) bool {
	same := func(raw string) bool {
		u, err := url.Parse(raw)
		return err == nil && hostPort(u) == hostPort(to)
	}
	return slices.ContainsFunc(r.Upstreams, func(u Upstream) bool { return !u.Listed && same(u.URL) }) ||
		slices.ContainsFunc(r.Lists, func(l List) bool { return same(l.URL) })
}

// roots are who certifies a server. Those that the definition names are certified by its
// authority alone; where they send to, also by those that this machine knows.
func (r *Route) roots(to *url.URL) (*x509.CertPool, error) {
	certs, roots, err := ReadAuthority(r.Authority)
	if err != nil || r.own(to) {
		return roots, err
	}
	if roots, err = x509.SystemCertPool(); err != nil {
		roots = x509.NewCertPool()
	}
	for _, c := range certs {
		roots.AddCert(c)
	}
	return roots, nil
}

// show puts on a request what its server, and a proxy on the way, are shown.
func (r *Route) show(to *http.Request) {
	if c := r.credential(to.URL); c != nil && c.header() != "" {
		to.Header.Set("Authorization", c.header())
	}
	if p := r.Proxy.shown(); p != nil && !p.empty() && to.URL.Scheme == "http" && r.via(to.URL) != nil {
		to.Header.Set("Proxy-Authorization", p.header())
	}
}

// follow asks for a file, and goes where it is sent, as far as the definition allows.
func (a *asked) follow(r *http.Request) (*http.Response, error) {
	first := r.URL
	for hops := 1; ; hops++ {
		client, err := a.http(a.route, a.up, r.URL)
		if err != nil {
			return nil, err
		}
		a.route.show(r)
		res, err := client.Do(r)
		if err != nil {
			return nil, err
		}
		to, err := res.Location()
		if !sentOn[res.StatusCode] || err != nil {
			a.at = r.URL
			return res, nil
		}
		res.Body.Close()
		to.User, to.Fragment = nil, ""
		if err := allowed(a.route, first, to, hops); err != nil {
			return nil, err
		}
		next := r.Clone(r.Context())
		next.URL, next.Host = to, ""
		next.Header.Del("Authorization")
		next.Header.Del("Proxy-Authorization")
		r = next
	}
}

// sentOn are the statuses by which a server sends elsewhere (RFC 9110, section 15.4).
var sentOn = map[int]bool{301: true, 302: true, 303: true, 307: true, 308: true}

// allowed decides about a redirect: to the upstream's own host, or one that the
// definition names, never from https to http, and not endlessly.
func allowed(route Route, first, to *url.URL, hops int) error {
	no := func(format string, args ...any) error {
		return finding.New(finding.SourceRedirectRefused, "source "+route.Source, format, args...)
	}
	switch {
	case hops > 5:
		return no("%s redirects more than five times", first.Host)
	case to.Scheme != "http" && to.Scheme != "https":
		return no("%s redirects to %s, which is neither http nor https", first.Host, Shown(to.String()))
	case first.Scheme == "https" && to.Scheme != "https":
		return no("%s redirects from https to plain http, at %s", first.Host, to.Host)
	case strings.EqualFold(to.Host, first.Host),
		slices.Contains(route.Redirects, strings.ToLower(to.Hostname())):
		return nil
	}
	return no("%s redirects to the host %s, which the definition does not allow", first.Host, to.Host)
}

// refuses tells what a proxy that asks who it is, or does not believe it, says.
func (p Proxy) refuses(status string) finding.Finding {
	c := p.shown()
	if c != nil && c.empty() {
		return finding.New(finding.CredentialRefused, "",
			"the proxy %s asks for a login (%s), and the secret of the %s was not saved", Shown(p.URL),
			status, c).Do("run stockade credential add %s", c.Name)
	}
	if c == nil {
		return finding.New(finding.CredentialRefused, "", "the proxy %s asks for a login (%s)", Shown(p.URL),
			status).
			Do("define a credential for the proxy's host, name it at the proxy, and save its " +
				"secret: stockade credential add NAME")
	}
	return finding.New(finding.CredentialRefused, "", "the proxy %s rejected the %s (%s)", Shown(p.URL),
		c, status).
		Do("save the secret again: stockade credential add %s", c.Name)
}

// refused tells why a server wants to know who asks, or does not believe it; nil where
// the status says something else.
func (a *asked) refused(res *http.Response) error {
	shown := a.route.credential(a.at)
	object := "source " + a.route.Source
	switch {
	case res.StatusCode == http.StatusProxyAuthRequired:
		f := a.route.Proxy.refuses(res.Status)
		f.Object = object
		return f
	case res.StatusCode == http.StatusUnauthorized && shown == nil && a.at.Scheme == "http":
		return finding.New(finding.CredentialRefused, object,
			"%s asks for a login (%s). Stockade never sends a secret over plain HTTP", a.at.Host, res.Status).
			Do("use its https address, with a credential")
	case res.StatusCode == http.StatusUnauthorized && shown == nil:
		return finding.New(finding.CredentialRefused, object, "%s asks for a login (%s)", a.at.Host,
			res.Status).
			Do("define a credential with hosts: [%s], list it under credentials at the source, "+
				"and save its secret: stockade credential add NAME", strings.TrimSuffix(a.at.Host, ":443"))
	case res.StatusCode == http.StatusUnauthorized && shown.empty():
		return finding.New(finding.CredentialRefused, object,
			"%s asks for a login (%s), and the secret of the %s was not saved", a.at.Host, res.Status, shown).
			Do("run stockade credential add %s", shown.Name)
	case shown != nil && (res.StatusCode == http.StatusUnauthorized ||
		res.StatusCode == http.StatusForbidden):
		return finding.New(finding.CredentialRefused, object, "%s rejected the %s (%s)", a.at.Host,
			shown, res.Status).Do("ask its owner whether the credential is still valid, and "+
			"save the secret again: stockade credential add %s", shown.Name)
	}
	return nil
}

// distrusted tells of a server that TLS does not make sure of, or that wants a client
// certificate; nil where err is something else.
func (a *asked) distrusted(err error) error {
	object := "source " + a.route.Source
	host := Shown(a.up.URL)
	var unknown *tls.CertificateVerificationError
	switch {
	case errors.As(err, &unknown):
		way := "ask its owner which authority issues it, and name that authority under " +
			"authority at the source"
		if a.route.Authority != "" {
			way = "check with the owner whether the source names the right authority"
		}
		return finding.New(finding.SourceCertificateBad, object,
			"the TLS certificate of %s is not valid: %v",
			host,
			strings.TrimPrefix(unknown.Err.Error(), "x509: ")).Do("%s", way)
	case wantsCertificate[alert(err)]:
		f := finding.New(finding.CredentialRefused, object,
			"%s asks for a client certificate, and accepted none that Stockade has", host)
		return f.Do("define a credential of the kind certificate for its host, list it under " +
			"credentials at the source, and save it: stockade credential add NAME --file PEM")
	}
	return nil
}

// wantsCertificate are the alerts by which a server refuses a client's certificate, or
// that there is none (RFC 8446, section 6.2).
var wantsCertificate = map[uint8]bool{42: true, 43: true, 44: true, 45: true, 46: true, 48: true, 116: true}

// alert gives the TLS alert with which the other side ended a connection; 0: none. Its type
// is not exported, and its number is the standard's.
func alert(err error) uint8 {
	var op *net.OpError
	if !errors.As(err, &op) || op.Op != "remote error" {
		return 0
	}
	if v := reflect.ValueOf(op.Err); v.Kind() == reflect.Uint8 {
		return uint8(v.Uint())
	}
	return 0
}

// maxPEM bounds the certificates of one authority.
const maxPEM = 64

// pemCertificates reads every certificate of a PEM text, and refuses anything else in it.
func pemCertificates(data []byte) (out []*x509.Certificate, err error) {
	for {
		var block *pem.Block
		if block, data = pem.Decode(data); block == nil {
			break
		}
		if block.Type != "CERTIFICATE" {
			return nil, fmt.Errorf("the file contains a %q, but only certificates belong "+
				"there: remove it",
				block.Type)
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, fmt.Errorf("a certificate in the file cannot be read: %w", err)
		}
		if out = append(out, c); len(out) > maxPEM {
			return nil, fmt.Errorf("the file contains more than %d certificates", maxPEM)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("the file contains no certificate in PEM")
	}
	return out, nil
}
