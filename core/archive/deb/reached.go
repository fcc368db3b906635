package deb

import (
	"bytes"
	"net/url"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// settings are those of the client, by their whole names in small letters.
type settings map[string]setting

type setting struct {
	name, value string // as it stands there
	place       finding.Place
}

// read reads a file of settings (apt.conf(5)): A::B "x"; and A { B "x"; }; with comments of
// three kinds. What is no setting in either form is passed over, as the client would refuse
// the file.
func (r *configuration) readSettings(data []byte) {
	var scopes, words []string
	t := settingTokens{rest: string(data), whole: len(data)}
	end := func() {
		if len(words) > 1 {
			name := strings.Join(append(slices.Clone(scopes), words[0]), "::")
			line := 1 + bytes.Count(data[:t.whole-len(t.rest)], []byte("\n"))
			r.settings[strings.ToLower(name)] = setting{name, words[1], r.Place(line)}
		}
		words = nil
	}
	for t.next() {
		switch {
		case t.quoted:
			words = append(words, t.token)
		case t.token == "{":
			name := ""
			if len(words) > 0 {
				name = words[0]
			}
			if scopes, words = append(scopes, name), nil; len(scopes) > 16 {
				return
			}
		case t.token == "}":
			end()
			scopes = scopes[:max(len(scopes)-1, 0)]
		case t.token == ";":
			end()
		default:
			words = append(words, t.token)
		}
	}
}

// settingTokens takes a file of settings apart.
type settingTokens struct {
	rest, token string
	whole       int // how long it was
	quoted      bool
}

func (t *settingTokens) next() bool {
	for {
		t.rest = strings.TrimLeft(t.rest, " \t\r\n")
		end := ""
		switch {
		case t.rest == "":
			return false
		case strings.HasPrefix(t.rest, "//"), t.rest[0] == '#':
			end = "\n"
		case strings.HasPrefix(t.rest, "/*"):
			end = "*/"
		}
		if end == "" {
			break
		}
		_, t.rest, _ = strings.Cut(t.rest, end)
	}
	if t.quoted = t.rest[0] == '"'; t.quoted {
		t.token, t.rest, _ = strings.Cut(t.rest[1:], "\"")
		return true
	}
	n := strings.IndexAny(t.rest, " \t\r\n;{}\"")
	if n < 0 {
		n = len(t.rest)
	}
	n = max(n, 1)
	t.token, t.rest = t.rest[:n], t.rest[n:]
	return true
}

// judgeSettings tells of those that let packages in whoever signed them.
func (r *configuration) judgeSettings() {
	for _, name := range []string{"acquire::allowinsecurerepositories",
		"acquire::allowdowngradetoinsecurerepositories",
		"acquire::allowweakrepositories", "apt::get::allowunauthenticated"} {
		if s := r.settings[name]; isOn(s.value) {
			r.Read.Findings = append(r.Read.Findings, finding.New(finding.SourceUnsigned, "",
				"%s %q makes the machine accept unsigned packages from every source",
				finding.Harmless(s.name),
				s.value).At(s.place).Do("remove the setting"))
		}
	}
}

// login is who the machine says it is to some servers; the password is not kept.
type login struct {
	scheme, host, path, user string
	place                    finding.Place
}

// logins reads a file of them (apt_auth.conf(5)): machine, login and password, each with a
// word behind it.
func (r *configuration) logins(data []byte) {
	var now *login
	word, number := "", 0
	done := func() {
		if now != nil && now.user != "" && len(r.known) < maxRecords {
			r.known = append(r.known, *now)
		}
		now = nil
	}
	for line := range bytes.Lines(data) {
		number++
		text := strings.TrimSpace(string(line))
		if strings.HasPrefix(text, "#") {
			continue
		}
		for _, w := range strings.Fields(text) {
			switch {
			case word == "machine":
				done()
				now = &login{place: r.Place(number)}
				if scheme, rest, ok := strings.Cut(w, "://"); ok {
					now.scheme, w = scheme, rest
				}
				now.host, now.path, _ = strings.Cut(w, "/")
			case word == "login" && now != nil:
				now.user = w
			case word == "password":
			case w == "machine" || w == "login" || w == "password":
				word = w
				continue
			default:
				r.Tell(finding.New(finding.DefineSyntax, "",
					"expected machine, login or password here"),
					number)
			}
			word = ""
		}
	}
	done()
}

// reach says how the servers of a source are reached: by the proxy of the settings, with
// the first login that fits.
func (r *configuration) reach(s *archive.ConfiguredSource) {
	for _, raw := range slices.Concat(s.URLs, s.Lists) {
		u, err := url.Parse(raw)
		if err != nil {
			continue
		}
		at, of := "acquire::"+u.Scheme+"::", strings.ToLower(u.Hostname())
		proxy := r.said(at+"proxy::"+of, at+"proxy")
		if proxy.value == "" && u.Scheme == "https" {
			proxy = r.settings["acquire::http::proxy"]
		}
		if proxy.value != "" && !strings.EqualFold(proxy.value, "direct") {
			s.Reach.Proxy, s.Reach.Place = proxy.value, proxy.place
		}
		if v := r.said(at+of+"::cainfo", at+"cainfo"); v.value != "" {
			s.Reach.Authority, s.Reach.Place = v.value, v.place
		}
		if v := r.said(at+of+"::sslcert", at+"sslcert"); v.value != "" {
			s.Reach.Certificate, s.Reach.Place = v.value, v.place
		}
		if v := r.said(at+of+"::verify-peer", at+"verify-peer"); isOff(v.value) {
			s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
				"the machine does not verify the certificate of %s (%s %q)", u.Hostname(),
				finding.Harmless(v.name),
				v.value).At(v.place).Do("name the authority that issues it, under authority"))
		}
		i := slices.IndexFunc(r.known, func(l login) bool {
			return (l.scheme == u.Scheme || l.scheme == "" && u.Scheme == "https") &&
				strings.EqualFold(l.host, u.Host) && strings.HasPrefix(strings.TrimPrefix(u.Path, "/"),
				l.path)
		})
		if i >= 0 && u.User == nil {
			s.Reach.User, s.Reach.UserPlace = r.known[i].user, r.known[i].place
		}
	}
}

// said gives the first of some settings that there is.
func (r *configuration) said(names ...string) setting {
	for _, n := range names {
		if s, ok := r.settings[n]; ok {
			return s
		}
	}
	return setting{}
}
