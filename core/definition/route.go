package definition

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"stockade/core/fetch"
	"stockade/core/finding"
)

// variables gives what variables in the addresses of a source stand for: those that every
// source has, and its own.
func (src Source) variables() map[string]string {
	out := maps.Clone(src.Values)
	if out == nil {
		out = map[string]string{}
	}
	if release := strings.Trim(src.Release, "/"); release != "" {
		out["release"] = release
	}
	if len(src.Architectures) == 1 {
		out["arch"] = src.Architectures[0]
	}
	if len(src.Components) == 1 {
		out["component"] = src.Components[0]
	}
	return out
}

// Expand replaces variables in an upstream's URL. A variable that is unknown
// or empty is source.bad-url.
func (src Source) Expand(name, raw string) (string, error) {
	known := src.variables()
	var bad []string
	out := expandVariables(raw, func(v string) string {
		if known[v] == "" {
			bad = append(bad, v)
		}
		return known[v]
	})
	if bad == nil {
		return out, nil
	}
	f := finding.New(finding.SourceBadURL, "source "+name, "the variable $%s in %q has no value",
		bad[0], fetch.Shown(raw))
	switch {
	case bad[0] == "":
		f.Text = fmt.Sprintf("a $ in %q is not followed by the name of a variable", fetch.Shown(raw))
		return "",
			f.Do("write %%24 for the character itself. A variable has lower-case letters, " +
				"digits and underscores, and begins with a letter")
	case bad[0] == "arch" && len(src.Architectures) > 1, bad[0] == "component" && len(src.Components) > 1:
		return "", f.Do("define one source for each value: the variable stands for one, and this source " +
			"has several")
	case len(known) == 0:
		return "", f.Do("write the value itself, or set it under values")
	}
	return "", f.Do("use one of the built-in variables $%s, or define your own under values",
		strings.Join(slices.Sorted(maps.Keys(known)), ", $"))
}

// expandVariables replaces $name: small letters, digits and underlines behind a letter.
func expandVariables(s string, value func(string) string) string {
	var b strings.Builder
	for i := 0; i < len(s); {
		if s[i] != '$' {
			b.WriteByte(s[i])
			i++
			continue
		}
		j := i + 1
		for j < len(s) && (s[j] >= 'a' && s[j] <= 'z' || s[j] == '_' || j > i+1 && s[j] >= '0' &&
			s[j] <= '9') {
			j++
		}
		b.WriteString(value(s[i+1 : j]))
		i = j
	}
	return b.String()
}

// Route gives how a source is reached, without secrets: Credentials of it, and the
// proxy's, have their names and hosts alone.
func (s *Set) Route(name string) (fetch.Route, error) {
	src, ok := s.Sources[name]
	if !ok {
		return fetch.Route{}, fmt.Errorf("no source is named %s", name)
	}
	r := fetch.Route{Source: name, Redirects: src.Redirects,
		Authority: s.Authorities[src.Authority].Certificates}
	for _, u := range src.Upstreams {
		address, field := u.Address()
		expanded, err := src.Expand(name, address)
		if err != nil {
			return r, err
		}
		if field != "url" {
			r.Lists = append(r.Lists,
				fetch.List{URL: expanded, Metalink: field == "metalink", Region: u.Region})
			continue
		}
		r.Upstreams = append(r.Upstreams, fetch.Upstream{URL: expanded, Region: u.Region})
	}
	for _, c := range src.Credentials {
		r.Credentials = append(r.Credentials, fetch.Credential{Name: c, Hosts: s.Credentials[c].Hosts})
	}
	if p, ok := s.Proxies[src.Proxy]; ok {
		r.Proxy = fetch.Proxy{URL: p.URL, Authority: s.Authorities[p.Authority].Certificates,
			Except: p.NoProxy}
		if p.Credential != "" {
			r.Proxy.Credential = &fetch.Credential{Name: p.Credential,
				Hosts: s.Credentials[p.Credential].Hosts}
		}
	}
	return r, nil
}

// CredentialUsers gives the sources and proxies that name a credential, as objects.
func (s *Set) CredentialUsers(name string) (out []string) {
	for _, p := range slices.Sorted(maps.Keys(s.Proxies)) {
		if s.Proxies[p].Credential == name {
			out = append(out, "proxy "+p)
		}
	}
	for _, src := range slices.Sorted(maps.Keys(s.Sources)) {
		if slices.Contains(s.Sources[src].Credentials, name) {
			out = append(out, "source "+src)
		}
	}
	return out
}
