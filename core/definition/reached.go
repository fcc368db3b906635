package definition

import (
	"fmt"
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/fetch"
	"stockade/core/finding"
)

// servers are those of a source that is imported.
type servers struct {
	all   []string            // of https addresses, as hosts of a credential
	hosts map[string][]string // by the user that an address had in it
	users []string            // in the order in which they stood
	named map[string]string   // the host of each user's first address
	// what was not taken over, since it may have a secret in it: addresses, and parts of others by host
	unread int
	cut    []string
}

// take gives an address without user and password, and without what of its query may be a secret; a
// list of servers is asked for with the rest. It remembers where the address leads. One that cannot be
// read is not written anywhere: "".
func (s *servers) take(raw string, list bool) string {
	u, err := url.Parse(raw)
	if err != nil {
		s.unread++
		return ""
	}
	if u.RawQuery != "" || u.Fragment != "" {
		plain, secret := "", true
		if list {
			plain, secret = fetch.PlainQuery(u.RawQuery)
		}
		if secret || u.Fragment != "" {
			s.cut = append(s.cut, finding.Harmless(u.Hostname()))
		}
		u.RawQuery, u.Fragment, u.RawFragment = plain, "", ""
		user := u.User
		u.User = nil
		raw = u.String()
		u.User = user
	}
	user := u.User
	u.User = nil
	host := strings.TrimSuffix(strings.ToLower(u.Host), ":443")
	switch {
	case fetch.CheckHost(host) != nil || strings.Contains(host, "$"): // a variable is no host yet
		host = ""
	case u.Scheme != "https":
		host = ""
	case !slices.Contains(s.all, host):
		s.all = append(s.all, host)
	}
	if user == nil {
		return raw
	}
	if name := user.Username(); !slices.Contains(s.users, name) {
		s.users = append(s.users, name)
		s.named[name] = finding.Harmless(u.Hostname())
	}
	if host != "" {
		s.hosts[user.Username()] = append(s.hosts[user.Username()], host)
	}
	return u.String()
}

// reached writes how the servers of a source are reached: what they are shown, who
// certifies them, and by which proxy. Secrets are not taken over.
func (i *Imported) reached(m Machine, name string, c archive.ConfiguredSource, of servers, s *Source,
	tell func(finding.Finding)) {
	object, decide := "source "+name, finding.ImportToDecide
	if of.unread > 0 {
		tell(finding.New(decide, object,
			"%s cannot be parsed and may contain a password, so it was not imported",
			finding.Count(of.unread, "address")).Rated(finding.Error).
			Do("write it as a URL, and save the password as a credential"))
	}
	for _, host := range of.cut {
		tell(finding.New(decide, object,
			"the address of %s has a query or fragment, which may be a password, so it was not "+
				"imported", host).
			Do("save the password as a credential"))
	}
	for _, user := range of.users {
		tell(finding.New(finding.SourceCredentialInURL, object,
			"the URL of %s contains the user %q. Neither the user nor a password was imported",
			of.named[user],
			user).Do("remove user and password from the URL on the machine"))
		i.login(name, user, of.hosts[user], c.Place, s, tell)
	}
	if r := c.Reach; r.User != "" {
		i.login(name, r.User, of.all, r.UserPlace, s, tell)
	}
	if r := c.Reach; r.Certificate != "" {
		i.shown(name+"-certificate", Credential{Kind: Certificate, Hosts: of.all}, s, tell,
			finding.New(decide, object,
				"the machine uses the client certificate %s, which was not imported",
				finding.Harmless(r.Certificate)).
				At(r.Place))
	}
	if r := c.Reach; r.Authority != "" {
		called := i.keyName(fileName(r.Authority, name+"-roots"), "authority:"+r.Authority)
		a := Authority{File: path.Join("/", m.Root, r.Authority)}
		if data, err := m.ReadKey(r.Authority); err == nil {
			i.Files[a.File] = data
		}
		i.Set.Authorities[called] = a
		i.Set.Places["authorities."+called] = r.Place
		s.Authority = called
	}
	if r := c.Reach; r.Proxy != "" {
		i.proxy(r, s, tell)
	}
}

// login writes that servers are shown a user with a password.
func (i *Imported) login(name, user string, hosts []string, at finding.Place, s *Source,
	tell func(finding.Finding)) {
	i.shown(name+"-login", Credential{Kind: Login, User: user, Hosts: hosts}, s, tell,
		finding.New(finding.ImportToDecide, "source "+name,
			"the machine logs in as %q; the password was not imported", user).At(at))
}

// shown writes a credential, and what a person has to do so that it has a secret.
func (i *Imported) shown(base string, c Credential, s *Source, tell func(finding.Finding),
	f finding.Finding) {
	if len(c.Hosts) == 0 {
		tell(f.Do("write the server's name with https: a credential is for named hosts and is " +
			"never sent over plain HTTP. Then define a credential"))
		return
	}
	slices.Sort(c.Hosts)
	c.Hosts = slices.Compact(c.Hosts)
	base, called := base[:min(len(base), 60)], ""
	// one of a vendor's for all its sources
	for _, known := range slices.Sorted(maps.Keys(i.Set.Credentials)) {
		if k := i.Set.Credentials[known]; k.Kind == c.Kind && k.User == c.User && slices.Equal(k.Hosts,
			c.Hosts) {
			called = known
		}
	}
	for n := 1; called == ""; n++ {
		next := base
		if n > 1 {
			next = fmt.Sprintf("%s-%d", base, n)
		}
		if _, taken := i.Set.Credentials[next]; !taken {
			called = next
		}
	}
	i.Set.Credentials[called] = c
	i.Set.Places["credentials."+called] = f.Place
	s.Credentials = append(s.Credentials, called)
	way := "stockade credential add " + called
	if c.Kind == Certificate {
		way += " --file PEM, with certificate and key"
	}
	tell(f.Do("after recording the source, run: %s", way))
}

// proxy writes by which one servers are reached; one for all sources that name it.
func (i *Imported) proxy(r archive.ConfiguredReach, s *Source, tell func(finding.Finding)) {
	raw := r.Proxy
	if !strings.Contains(raw, "://") {
		raw = "http://" + raw
	}
	u, err := url.Parse(raw)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" {
		tell(finding.New(finding.ImportToDecide, "",
			"the machine uses the proxy %s, which cannot be imported",
			fetch.Shown(raw)).At(r.Place).Do("define a proxy under proxies, and name it at the " +
			"source"))
		return
	}
	user := r.ProxyUser
	if u.User != nil {
		user, u.User = u.User.Username(), nil
	}
	u.Path, u.RawQuery, u.Fragment = strings.TrimRight(u.Path, "/"), "", ""
	p := Proxy{URL: u.String()}
	base := strings.Split(u.Hostname(), ".")[0]
	if !IsName(base) || len(base) > 40 || strings.Trim(base, "0123456789") == "" {
		base = "proxy"
	}
	called := i.keyName(base, "proxy:"+p.URL+" "+user)
	if user != "" {
		p.Credential = called + "-login"
		i.Set.Credentials[p.Credential] = Credential{Kind: Login, User: user,
			Hosts: []string{strings.ToLower(u.Host)}}
		tell(finding.New(finding.ImportToDecide, "",
			"the machine logs in to the proxy %s as %q; the password was not imported", fetch.Shown(p.URL),
			user).At(r.Place).
			Do("after recording the proxy, run: stockade credential add %s", p.Credential))
	}
	i.Set.Proxies[called] = p
	i.Set.Places["proxies."+called] = r.Place
	s.Proxy = called
}

// fileName makes a name of a file's.
func fileName(file, otherwise string) string {
	if base := strings.ToLower(strings.TrimSuffix(path.Base(file), path.Ext(file))); IsName(base) {
		return base
	}
	return otherwise
}
