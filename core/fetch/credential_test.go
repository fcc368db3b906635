package fetch

import (
	"bufio"
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/must"
)

// secure is a server that an authority certifies. It says who asked.
func secure(t *testing.T, by made.Authority, config *tls.Config, h http.HandlerFunc) *httptest.Server {
	t.Helper()
	s := httptest.NewUnstartedServer(h)
	s.Config.ErrorLog = slog.NewLogLogger(slog.DiscardHandler, 0)
	if config == nil {
		config = &tls.Config{}
	}
	config.Certificates = []tls.Certificate{by.Server("127.0.0.1")}
	s.TLS = config
	s.StartTLS()
	t.Cleanup(s.Close)
	return s
}

func host(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		panic(err)
	}
	return u.Host
}

// asker answers with what it was shown.
func asker(w http.ResponseWriter, r *http.Request) {
	who := r.Header.Get("Authorization")
	if user, password, ok := r.BasicAuth(); ok {
		who = user + ":" + password
	}
	if r.TLS != nil && len(r.TLS.PeerCertificates) > 0 {
		who += " certificate of " + r.TLS.PeerCertificates[0].Subject.CommonName
	}
	if who == "" {
		w.WriteHeader(http.StatusUnauthorized)
		return
	}
	io.WriteString(w, who)
}

// What a server is shown, and what is told where it is not enough.
func TestWhatAServerIsShown(t *testing.T) {
	kelp, stranger := made.NewAuthority("kelp"), made.NewAuthority("stranger")
	client := func(by made.Authority) *tls.Certificate {
		c, err := ReadClientCertificate(by.Client("skerry", time.Now().Add(time.Hour)))
		must.Do(t, err)
		return c
	}
	open := secure(t, kelp, nil, asker)
	wants := secure(t, kelp, &tls.Config{ClientAuth: tls.RequireAndVerifyClientCert, ClientCAs: kelp.Pool},
		asker)
	never := secure(t, kelp, nil, func(w http.ResponseWriter, r *http.Request) { w.WriteHeader(403) })
	plain := upstream(t, asker)
	login := Secret{User: "skerry", Password: "pearl"}
	for _, c := range []struct {
		name      string
		at        string
		authority string
		secret    Secret
		hosts     []string
		got       string
		code      string
		says      string
	}{
		{"user and password", open.URL, kelp.PEM, login, []string{host(open.URL)}, "skerry:pearl", "", ""},
		{"a token", open.URL, kelp.PEM, Secret{Token: "t0k"}, []string{host(open.URL)}, "Bearer t0k", "", ""},
		{"a certificate", wants.URL, kelp.PEM, Secret{Certificate: client(kelp)}, []string{host(wants.URL)},
			" certificate of skerry", "", ""},
		{"another's certificate", wants.URL, kelp.PEM, Secret{Certificate: client(stranger)},
			[]string{host(wants.URL)}, "", "credential.refused", "client certificate"},
		{"no certificate", wants.URL, kelp.PEM, login, []string{host(wants.URL)}, "", "credential.refused",
			"client certificate"},
		{"a credential of another host", open.URL, kelp.PEM, login, []string{"127.0.0.1"}, "",
			"credential.refused", "asks for a login ("},
		{"one that is not taken", never.URL, kelp.PEM, login, []string{host(never.URL)}, "",
			"credential.refused", "rejected the credential kelp-login (403 Forbidden)"},
		{"forbidden without one", never.URL, kelp.PEM, login, nil, "", "", "the upstream answered 403"},
		{"plain HTTP", plain.URL, "", login, []string{host(plain.URL)}, "", "credential.refused",
			"). Stockade never sends a secret over plain HTTP"},
		{"an authority that nobody named", open.URL, "", login, []string{host(open.URL)}, "",
			"source.certificate-bad", "unknown authority"},
		{"another authority", open.URL, stranger.PEM, login, []string{host(open.URL)}, "",
			"source.certificate-bad", "unknown authority"},
		{"a server that this machine knows, and the authority does not", trusted.URL, kelp.PEM, login, nil,
			"", "source.certificate-bad", "unknown authority"},
		{"no authority at all", open.URL, "rubbish", login, nil, "", "", "no certificate in PEM"},
	} {
		t.Run(c.name, func(t *testing.T) {
			route := Route{Source: "kelp", Upstreams: []Upstream{{URL: c.at}}, Authority: c.authority,
				Credentials: []Credential{{Name: "kelp-login", Hosts: c.hosts, Secret: c.secret}}}
			got, err := fetchAll(New(Options{Rounds: 1}), route, Request{Path: "x"})
			f, _ := finding.From(err)
			if got != c.got || string(f.Code) != c.code || (err == nil) != (c.says == "") ||
				err != nil && !strings.Contains(err.Error(), c.says) {
				t.Errorf("%q %v", got, err)
			}
			if err != nil && (strings.Contains(fmt.Sprintf("%+v", err)+f.WayOut, "pearl")) {
				t.Errorf("the secret is told: %v", err)
			}
			if c.code == "credential.refused" && !strings.Contains(f.WayOut, "stockade credential add") &&
				c.name != "plain HTTP" {
				t.Errorf("no way out: %q", f.WayOut)
			}
		})
	}
}

// A credential stays with its hosts, wherever these send.
func TestACredentialDoesNotFollowARedirect(t *testing.T) {
	kelp := made.NewAuthority("kelp")
	elsewhere := secure(t, kelp, nil, func(w http.ResponseWriter, r *http.Request) {
		fmt.Fprintf(w, "elsewhere %q %q", r.Header.Get("Authorization"), r.Header.Get("Cookie"))
	})
	first := secure(t, kelp, nil, func(w http.ResponseWriter, r *http.Request) {
		if _, password, _ := r.BasicAuth(); password != "pearl" {
			w.WriteHeader(401)
			return
		}
		w.Header().Set("Set-Cookie", "session=1")
		switch r.URL.Path {
		case "/here":
			http.Redirect(w, r, "/file", http.StatusFound)
		case "/away":
			http.Redirect(w, r, elsewhere.URL+"/file", http.StatusTemporaryRedirect)
		case "/named":
			u, err := url.Parse(elsewhere.URL)
			must.Do(t, err)
			u.User = url.UserPassword("mallory", "x")
			http.Redirect(w, r, u.String(), http.StatusMovedPermanently)
		case "/around": // to another and back: it is shown again, to its host alone
			http.Redirect(w, r, elsewhere.URL+"/back", http.StatusFound)
		default:
			io.WriteString(w, "file")
		}
	})
	route := Route{Source: "kelp", Upstreams: []Upstream{{URL: first.URL}}, Authority: kelp.PEM,
		Redirects: []string{"127.0.0.1"},
		Credentials: []Credential{{Name: "login", Hosts: []string{host(first.URL)}, Secret: Secret{User: "s",
			Password: "pearl"}}}}
	for path, want := range map[string]string{"file": "file", "here": "file", "away": `elsewhere "" ""`,
		"named": `elsewhere "" ""`, "around": `elsewhere "" ""`} {
		if got, err := fetchAll(New(Options{Rounds: 1}), route, Request{Path: path}); got != want {
			t.Errorf("%s: %q %v", path, got, err)
		}
	}
	// Where the definition sends to may be certified by what this machine knows as well.
	trustedServes.Store(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		io.WriteString(w, "known")
	}))
	sends := secure(t, kelp, nil, func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, trusted.URL, http.StatusFound)
	})
	route.Upstreams = []Upstream{{URL: sends.URL}}
	if got, err := fetchAll(New(Options{Rounds: 1}), route, Request{Path: "x"}); got != "known" {
		t.Errorf("%q %v", got, err)
	}
}

// tunnel is a proxy that asks who it is, by plain HTTP and by CONNECT.
func tunnel(t *testing.T, password string, seen func(r *http.Request)) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		seen(r)
		asks := http.Request{Header: http.Header{"Authorization": r.Header["Proxy-Authorization"]}}
		if _, p, _ := asks.BasicAuth(); p != password {
			w.WriteHeader(http.StatusProxyAuthRequired)
			return
		}
		if r.Method != http.MethodConnect {
			io.WriteString(w, "by proxy")
			return
		}
		to, err := net.Dial("tcp", r.Host)
		if err != nil {
			w.WriteHeader(502)
			return
		}
		w.WriteHeader(200)
		c, buffered, err := w.(http.Hijacker).Hijack()
		if err != nil {
			t.Error(err)
			return
		}
		go func() { io.Copy(to, io.MultiReader(bufio.NewReader(buffered), c)) }()
		go func() { io.Copy(c, to); c.Close() }()
	}
}

// A proxy with an authority and a login of its own, before a server with others.
func TestAProxyThatAsksWhoItIs(t *testing.T) {
	kelp, office := made.NewAuthority("kelp"), made.NewAuthority("office")
	server := secure(t, kelp, nil, asker)
	var asked []string
	p := secure(t, office, nil, tunnel(t, "tide", func(r *http.Request) {
		asked = append(asked, r.Method+" "+r.Host+" "+r.Header.Get("Authorization"))
	}))
	login := Credential{Name: "kelp-login", Hosts: []string{host(server.URL)},
		Secret: Secret{User: "skerry", Password: "pearl"}}
	through := Proxy{URL: p.URL, Authority: office.PEM,
		Credential: &Credential{Name: "office-login", Hosts: []string{host(p.URL)},
			Secret: Secret{User: "mara", Password: "tide"}}}
	get := func(p Proxy, at string) (string, error) {
		return fetchAll(New(Options{Rounds: 1}), Route{Source: "kelp", Upstreams: []Upstream{{URL: at}},
			Proxy: p, Authority: kelp.PEM, Credentials: []Credential{login}}, Request{Path: "x"})
	}
	if got, err := get(through, server.URL); got != "skerry:pearl" {
		t.Errorf("%q %v", got, err)
	}
	if len(asked) != 1 || asked[0] != "CONNECT "+host(server.URL)+" " {
		t.Errorf("the proxy saw %q", asked)
	}
	if got, err := get(through, "http://kelp.example/"); got != "by proxy" {
		t.Errorf("%q %v", got, err)
	}
	for name, change := range map[string]func(*Proxy){
		"the wrong password": func(p *Proxy) {
			p.Credential = &Credential{Name: "office-login", Hosts: p.Credential.Hosts,
				Secret: Secret{User: "mara", Password: "ebb"}}
		},
		"no login": func(p *Proxy) { p.Credential = nil },
		"another's login": func(p *Proxy) {
			p.Credential = &Credential{Name: "office-login", Hosts: []string{"127.0.0.1"},
				Secret: p.Credential.Secret}
		},
		"no authority":    func(p *Proxy) { p.Authority = "" },
		"kelp's instead":  func(p *Proxy) { p.Authority = kelp.PEM },
		"rubbish instead": func(p *Proxy) { p.Authority = "rubbish" },
	} {
		for _, at := range []string{server.URL, "http://kelp.example/"} {
			other := through
			change(&other)
			got, err := get(other, at)
			f, _ := finding.From(err)
			if err == nil || strings.HasSuffix(name, "login") != (f.Code == "credential.refused") &&
				name != "the wrong password" || strings.Contains(err.Error(), "ebb") {
				t.Errorf("%s, to %s: %q %v", name, at, got, err)
			}
		}
	}
	asked = nil
	through.Except = []string{"127.0.0.0/8"}
	if got, err := get(through, server.URL); got != "skerry:pearl" || len(asked) != 0 {
		t.Errorf("past the proxy: %q %v; it saw %q", got, err, asked)
	}
}

func TestWhatIsReachedWithoutTheProxy(t *testing.T) {
	p := Proxy{Except: []string{"kelp.example", ".Skerry.example", "10.0.0.0/8", "fd00::/8"}}
	for host, want := range map[string]bool{
		"kelp.example": true, "KELP.example.": true, "packages.kelp.example": false, "skerry.example": false,
		"a.b.skerry.example": true, "notskerry.example": false, "10.1.2.3": true, "11.1.2.3": false,
		"::ffff:10.0.0.1": true, "fd00::1": true, "fe00::1": false, "": false,
	} {
		if p.Passed(host) != want {
			t.Errorf("%q: %v", host, !want)
		}
	}
	for text, ok := range map[string]bool{
		"kelp.example": true, ".skerry.example": true, "10.0.0.0/8": true, "10.0.0.1": true,
		"[fd00::1]": true,
		"":          false, ".": false, "*.skerry.example": false, "kelp.example:443": false,
		"10.0.0.0/33":          false,
		"https://kelp.example": false, "kelp.example, a": false,
	} {
		if (CheckException(text) == nil) != ok {
			t.Errorf("%q: %v", text, CheckException(text))
		}
	}
}

func TestWhichHostsACredentialBelongsTo(t *testing.T) {
	for _, c := range []struct {
		at, host string
		want     bool
	}{
		{"https://kelp.example/x", "kelp.example", true}, {"https://KELP.example./", "kelp.example", true},
		{"https://kelp.example:443/", "kelp.example", true}, {"https://kelp.example/", "kelp.example:443",
			true},
		{"https://kelp.example:8443/", "kelp.example", false}, {"https://kelp.example:8443/",
			"kelp.example:8443", true},
		{"https://kelp.example/", "kelp.example:8443", false}, {"https://a.kelp.example/", "kelp.example",
			false},
		{"https://kelp.example.evil.example/", "kelp.example", false}, {"https://[fd00::1]/", "[fd00::1]",
			true},
	} {
		u, err := url.Parse(c.at)
		must.Do(t, err)
		if BelongsTo(u, []string{"other.example", c.host}) != c.want {
			t.Errorf("%s, %s: %v", c.at, c.host, !c.want)
		}
		r := Route{Credentials: []Credential{{Name: "a", Hosts: []string{c.host}}}}
		if u.Scheme = "http"; r.credential(u) != nil {
			t.Errorf("%s is shown a credential over plain HTTP", u)
		}
	}
	for host, ok := range map[string]bool{"kelp.example": true, "kelp.example:8443": true,
		"127.0.0.1:1":   true,
		"[fd00::1]:443": true, "": false, "*.kelp.example": false, "https://kelp.example": false,
		"kelp.example/x": false, "user@kelp.example": false, "kelp.example:": false, "kelp.example:x": false,
		"kelp example": false, "a,b": false} {
		if (CheckHost(host) == nil) != ok {
			t.Errorf("%q: %v", host, CheckHost(host))
		}
	}
}

// A secret shows itself in nothing that it could get into by mistake.
func TestASecretDoesNotShowItself(t *testing.T) {
	certificate := made.NewAuthority("kelp").Client("skerry", time.Now().Add(time.Hour))
	pair, err := ReadClientCertificate(certificate)
	must.Do(t, err)
	c := Credential{Name: "kelp-login", Secret: Secret{User: "u", Password: "pearl", Token: "t0k",
		Certificate: pair}}
	var log strings.Builder
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "c", c, "p", &c, "s", c.Secret)
	encoded, err := json.Marshal(map[string]any{"c": c, "p": &c, "s": c.Secret,
		"r": Route{Credentials: []Credential{c}}})
	must.Do(t, err)
	for _, shown := range []string{fmt.Sprint(c, &c, c.Secret), fmt.Sprintf("%v %+v %#v %s %q %x", c, c, c,
		c, c, c),
		fmt.Sprintf("%+v %#v", Route{Credentials: []Credential{c}}, []any{c.Secret, Proxy{Credential: &c}}),
		log.String(), string(encoded)} {
		if strings.Contains(shown, "pearl") || strings.Contains(shown, "t0k") ||
			strings.Contains(shown, "PrivateKey") || strings.Contains(shown, "706561726c") {
			t.Error(shown)
		}
	}
}

func TestWhatIsReadOfCertificates(t *testing.T) {
	kelp := made.NewAuthority("kelp")
	client := kelp.Client("skerry", time.Now().Add(time.Hour))
	certificate, key, _ := strings.Cut(client, "-----BEGIN PRIVATE")
	for name, c := range map[string]struct {
		text string
		read func(string) error
		says string
	}{
		"an authority":      {kelp.PEM, readAuthority, ""},
		"two":               {kelp.PEM + made.NewAuthority("b").PEM, readAuthority, ""},
		"with words around": {"kelp's\n" + kelp.PEM + "end", readAuthority, ""},
		"none":              {"", readAuthority, "no certificate in PEM"},
		"a key":             {"-----BEGIN PRIVATE" + key, readAuthority, `contains a "PRIVATE KEY"`},
		"one that signs nothing": {certificate, readAuthority,
			"is not an authority: it says that it may not"},
		"a damaged one": {"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----\n", readAuthority,
			"cannot be read"},
		"too many":        {strings.Repeat(kelp.PEM, maxPEM+1), readAuthority, "more than"},
		"a client's":      {client, readClient, ""},
		"without its key": {certificate, readClient, "a certificate and its key"},
		"with another's":  {kelp.PEM + "-----BEGIN PRIVATE" + key, readClient, "a certificate and its key"},
	} {
		err := c.read(c.text)
		if (err == nil) != (c.says == "") || err != nil && !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
}

func readAuthority(text string) error { _, _, err := ReadAuthority(text); return err }

func readClient(text string) error { _, err := ReadClientCertificate(text); return err }

// However many servers there come to be, connections are kept to so many.
func TestConnectionsAreKeptToSoManyServers(t *testing.T) {
	c := New(Options{})
	for port := range maxClients + 10 {
		to := &url.URL{Scheme: "https", Host: fmt.Sprintf("kelp.example:%d", port+1)}
		if _, err := c.http(Route{}, Upstream{}, to); err != nil {
			t.Fatal(err)
		}
	}
	if n := len(c.clients); n != 10 {
		t.Errorf("%d are kept", n)
	}
}
