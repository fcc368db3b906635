package definition

import (
	"crypto/x509"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"stockade/core/fetch"
	"stockade/core/finding"
)

// soon is how long before its end a certificate is told of.
const soon = 30 * 24 * time.Hour

func (c *checker) authority(name string, a Authority) {
	object, path := "authority "+name, "authorities."+name
	text := a.Certificates
	if a.File != "" && c.around.ReadFile != nil {
		data, err := c.around.ReadFile(c.ResolveAuthority(name))
		switch {
		case err == nil:
			text = string(data)
		case text == "":
			c.add(finding.AuthorityUnreadable, object, path+".file", "the file %s cannot be read",
				c.ResolveAuthority(name)).WayOut = lookFor(a.File)
			return
		}
	}
	if text == "" {
		if a.File == "" {
			c.add(finding.DefineMissingField, object, path+".file", "the authority has neither "+
				"file nor certificates")
		}
		return
	}
	certs, _, err := fetch.ReadAuthority(text)
	if err != nil {
		c.adopt(err, finding.AuthorityUnreadable, object, path)
		return
	}
	ended := 0
	for _, cert := range certs {
		switch left := cert.NotAfter.Sub(c.around.Now); {
		case left <= 0:
			ended++
		case left < soon:
			c.add(finding.AuthorityExpiring, object, path, "the certificate of %q expires on %s",
				cert.Subject,
				cert.NotAfter.UTC().Format(time.DateOnly))
		}
	}
	if ended == len(certs) {
		last := slices.MaxFunc(certs, func(a, b *x509.Certificate) int {
			return a.NotAfter.Compare(
				b.NotAfter)
		})
		c.add(finding.AuthorityExpired, object, path, "the last certificate, of %q, expired on "+
			"%s",
			last.Subject, last.NotAfter.UTC().Format(time.DateOnly))
	}
}

// Limits on a secret (bytes).
const (
	maxSecret = 4 << 10
	maxPair   = 256 << 10
)

// Read reads the secret of a credential as its owner hands it over: a password, a token, or
// a client certificate with its key in PEM. until is when it ends by itself; zero: never.
func (c Credential) Read(text string) (s fetch.Secret, until time.Time, err error) {
	bad := func(format string, args ...any) (fetch.Secret, time.Time, error) {
		return fetch.Secret{}, time.Time{}, finding.New(finding.DefineBadValue, "credential", format,
			args...).
			Do("supply the secret exactly as its owner gave it to you")
	}
	if c.Kind == Certificate {
		if len(text) > maxPair {
			return bad("the certificate with its key is larger than %d bytes", maxPair)
		}
		pair, err := fetch.ReadClientCertificate(text)
		if err != nil {
			return bad("%v", err)
		}
		return fetch.Secret{Certificate: pair}, pair.Leaf.NotAfter, nil
	}
	text = strings.TrimRight(text, "\r\n") // as a file ends
	what := map[string]string{Login: "password"}[c.Kind]
	if what == "" {
		what = c.Kind
	}
	switch {
	case text == "":
		return bad("the %s is empty", what)
	case len(text) > maxSecret:
		return bad("the %s is longer than %d bytes", what, maxSecret)
	case strings.ContainsFunc(text, unicode.IsControl):
		return bad("the %s contains a control character, perhaps a line break", what)
	case c.Kind == Token && strings.ContainsFunc(text, func(r rune) bool { return r <= ' ' || r > '~' }):
		return bad("the token contains a space or a character that tokens cannot have (RFC " +
			"6750)")
	case c.Kind == Token:
		return fetch.Secret{Token: text}, until, nil
	}
	return fetch.Secret{User: c.User, Password: text}, until, nil
}

func (c *checker) credential(name string, k Credential) {
	object, path := "credential "+name, "credentials."+name
	switch {
	case k.Kind == Login && k.User == "":
		c.add(finding.DefineMissingField, object, path+".user", "a login needs a user")
	case k.Kind == Login && (strings.Contains(k.User, ":") || finding.Harmless(k.User) != k.User):
		c.add(finding.DefineBadValue, object, path+".user",
			"the user %q contains a colon or a control character, which a login cannot have "+
				"(RFC 7617)",
			k.User)
	case k.Kind != Login && k.User != "":
		c.add(finding.DefineBadValue, object, path+".user", "only a login has a user, and this "+
			"credential is a %s",
			k.Kind).
			WayOut = "remove the user, or set kind: login"
	}
	if len(k.Hosts) == 0 {
		c.add(finding.DefineMissingField, object, path+".hosts", "the credential lists no hosts")
	}
	for i, h := range k.Hosts {
		if err := fetch.CheckHost(h); err != nil {
			c.adopt(err, finding.DefineBadValue, object, path+".hosts."+strconv.Itoa(i))
		}
	}
	users := c.CredentialUsers(name)
	if len(users) == 0 {
		c.add(finding.CredentialUnused, object, path, "no source and no proxy uses it")
	}
	if c.around.Given == nil || len(users) == 0 {
		return
	}
	hosts, until, ok := c.around.Given(name, k)
	if !ok {
		f := c.add(finding.CredentialMissing, object, path, "its secret was not saved yet")
		f.WayOut = "stockade credential add " + name
		if hosts != nil {
			f.Text = "its secret was saved for another kind or another user"
		}
		return
	}
	for _, h := range k.Hosts {
		if !slices.Contains(hosts, h) {
			f := c.add(finding.CredentialMissing, object, path+".hosts",
				"its secret was saved for %s, so Stockade does not send it to %s", strings.Join(hosts,
					", "), h)
			f.WayOut = "if you want that, save the secret again: stockade credential add " + name
		}
	}
	next := "get the renewed certificate from its owner and save it: stockade credential add " + name +
		" --file PEM"
	switch left := until.Sub(c.around.Now); {
	case until.IsZero():
	case left <= 0:
		c.add(finding.CredentialExpired, object, path, "the client certificate expired on %s",
			until.UTC().Format(time.DateOnly)).WayOut = next
	case left < soon:
		c.add(finding.CredentialExpiring, object, path, "the client certificate expires on %s",
			until.UTC().Format(time.DateOnly)).WayOut = next
	}
}

func (c *checker) proxy(name string, p Proxy) {
	object, path := "proxy "+name, "proxies."+name
	u, ok := c.url(object, path+".url", p.URL)
	for i, e := range p.NoProxy {
		if err := fetch.CheckException(e); err != nil {
			c.adopt(err, finding.DefineBadValue, object, path+".no_proxy."+strconv.Itoa(i))
		}
	}
	if p.Authority != "" {
		reference(c, object, path+".authority", "authority", p.Authority, c.Authorities)
		if ok && u.Scheme == "http" {
			c.add(finding.DefineBadValue, object, path+".authority",
				"an authority is set, but %s is reached without TLS", p.URL)
		}
	}
	if p.Credential == "" || !reference(c, object, path+".credential", "credential", p.Credential,
		c.Credentials) {
		return
	}
	k := c.Credentials[p.Credential]
	if k.Kind == Certificate {
		c.add(finding.DefineBadValue, object, path+".credential",
			"%s is a client certificate, but a proxy needs a login or a token", p.Credential)
	}
	if ok && !fetch.BelongsTo(u, k.Hosts) {
		c.add(finding.CredentialNoHost, object, path+".credential", "%s is not in the hosts of "+
			"%s", p.Credential,
			u.Host).
			WayOut = "set hosts: [" + u.Host + "] at the credential"
	}
}

// shown checks what the servers of a source are shown, and who certifies them.
func (c *checker) shown(object, path string, src Source, servers []*url.URL) {
	if src.Authority != "" {
		reference(c, object, path+".authority", "authority", src.Authority, c.Authorities)
		if len(servers) > 0 && !slices.ContainsFunc(servers,
			func(u *url.URL) bool { return u.Scheme == "https" }) {
			c.add(finding.DefineBadValue, object, path+".authority",
				"an authority is set, but none of the servers uses https")
		}
	}
	seen := map[string]bool{}
	for i, name := range src.Credentials {
		at := path + ".credentials." + strconv.Itoa(i)
		if !reference(c, object, at, "credential", name, c.Credentials) || seen[name] {
			continue
		}
		seen[name] = true
		hosts, its := c.Credentials[name].Hosts, false
		for _, u := range servers {
			if !fetch.BelongsTo(u, hosts) {
				continue
			}
			its = true
			if u.Scheme == "http" {
				c.add(finding.CredentialPlainHTTP, object, at, "%s is for %s, which is reached "+
					"without TLS",
					name, u.Host)
			}
		}
		its = its || slices.ContainsFunc(src.Redirects, func(h string) bool {
			return fetch.BelongsTo(&url.URL{Scheme: "https", Host: h}, hosts)
		})
		if !its && len(servers) > 0 && len(hosts) > 0 {
			c.add(finding.CredentialNoHost, object, at, "%s is for %s, which is not a server "+
				"of this source",
				name, strings.Join(hosts, ", "))
		}
	}
}
