package service

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

// A secret is sealed (XChaCha20-Poly1305) under a key that is made of the passphrase which
// opens the site key, together with what it was given for: kind, user and hosts. A
// description that is changed afterwards leads it to no other server. It is never given
// out again.

// given gives the secrets that count: those that an entry of the journal explains.
func (s *Service) given(now *inForce) (map[string]store.Credential, error) {
	all, err := s.db.Credentials()
	if err != nil {
		return nil, err
	}
	out := map[string]store.Credential{}
	for _, c := range all {
		if now.secrets[c.Name] == c.Digest() {
			out[c.Name] = c
		}
	}
	return out, nil
}

// fits tells whether a secret is that of a described credential.
func fits(g store.Credential, c definition.Credential) bool {
	return g.Kind == c.Kind && g.User == c.User
}

// unlock puts the secrets into a route, each for the hosts that it is described for and
// was given for. One that lacks stays in the route, so that what is told can name it.
func (s *Service) unlock(set *definition.Set, t *trusted, route *fetch.Route) error {
	all := make([]*fetch.Credential, 0, len(route.Credentials)+1)
	for i := range route.Credentials {
		all = append(all, &route.Credentials[i])
	}
	if route.Proxy.Credential != nil {
		all = append(all, route.Proxy.Credential)
	}
	for _, c := range all {
		g, ok := t.given[c.Name]
		described := set.Credentials[c.Name]
		if !ok || !fits(g, described) {
			continue
		}
		if len(g.Sealed) < s.vault.NonceSize() {
			return damagedSecret(c.Name)
		}
		nonce, sealed := g.Sealed[:s.vault.NonceSize()], g.Sealed[s.vault.NonceSize():]
		text, err := s.vault.Open(nil, nonce, sealed, g.Bound())
		if err != nil {
			return damagedSecret(c.Name)
		}
		if c.Secret, _, err = described.Read(string(text)); err != nil {
			return damagedSecret(c.Name)
		}
		c.Hosts = slices.DeleteFunc(slices.Clone(described.Hosts), func(h string) bool {
			return !slices.Contains(g.For(), h)
		})
	}
	return nil
}

func damagedSecret(name string) error {
	return finding.New(finding.CredentialMissing, "credential "+name,
		"the secret cannot be decrypted: the record is damaged").
		Do("save the secret again: stockade credential add %s", name)
}

// credential describes one for the API, without its secret.
func credential(set *definition.Set, t *trusted, all states, name string) api.Credential {
	c := set.Credentials[name]
	out := api.Credential{Name: name, Kind: c.Kind, User: c.User, Hosts: c.Hosts, GivenFor: []string{},
		UsedBy: append([]string{}, set.CredentialUsers(name)...), Findings: all.of("credential " + name)}
	if g, ok := t.given[name]; ok {
		out.Given, out.By = &g.At, g.By
		out.GivenFor = append(out.GivenFor, g.For()...)
		if !g.Until.IsZero() {
			out.Until = &g.Until
		}
	}
	return out
}

func (s *Service) credentials() (*definition.Set, *trusted, states, error) {
	m, err := s.model()
	if err != nil {
		return nil, nil, nil, err
	}
	return m.set, m.trusted, m.found, nil
}

func (s *Service) handleCredentials(c *gin.Context) (any, error) {
	set, t, all, err := s.credentials()
	if err != nil {
		return nil, err
	}
	var out []api.Credential
	for _, name := range slices.Sorted(maps.Keys(set.Credentials)) {
		out = append(out, credential(set, t, all, name))
	}
	return page(out, nil)
}

func (s *Service) oneCredential(name string) (any, error) {
	set, t, all, err := s.credentials()
	if err != nil {
		return nil, err
	}
	if _, ok := set.Credentials[name]; !ok {
		return nil, dangling("", "credential", name, set.Credentials)
	}
	return credential(set, t, all, name), nil
}

func (s *Service) handleCredential(c *gin.Context) (any, error) {
	return s.oneCredential(c.Param("name"))
}

// giveSecret takes a secret, in place of what was given before.
func (s *Service) giveSecret(c *gin.Context) (any, error) {
	in, err := body[api.Secret](c)
	if err != nil {
		return nil, err
	}
	name := c.Param("name")
	if err := s.seal(name, in.Secret, asking(c)); err != nil {
		return nil, err
	}
	return s.oneCredential(name)
}

func (s *Service) seal(name, secret string, by actor) error {
	ch, err := s.begin(by)
	if err != nil {
		return err
	}
	defer ch.end()
	if err := s.explained(); err != nil {
		return err // hosts that somebody wrote into the records are not what the warden means
	}
	set, err := s.db.Described()
	if err != nil {
		return err
	}
	described, ok := set.Credentials[name]
	if !ok {
		f, _ := finding.From(dangling("", "credential", name, set.Credentials))
		if f.WayOut == "" {
			f = f.Do("define the credential first, with kind, hosts and user, under " +
				"credentials in a document, and record it")
		}
		return f
	}
	_, until, err := described.Read(secret)
	if err != nil {
		f, _ := finding.From(err)
		f.Object = "credential " + name
		return f
	}
	hosts, err := json.Marshal(described.Hosts)
	if err != nil {
		return err
	}
	row := store.Credential{Name: name, Kind: described.Kind, User: described.User, Hosts: string(hosts),
		Until: until.UTC().Truncate(time.Second), By: by.name, At: s.now().UTC().Truncate(time.Second)}
	nonce := make([]byte, s.vault.NonceSize())
	rand.Read(nonce)
	row.Sealed = s.vault.Seal(nonce, nonce, []byte(secret), row.Bound())
	return s.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveCredential(row); err != nil {
			return err
		}
		return ch.write(tx, "credential.add", "credential "+name, map[string]string{
			"kind": row.Kind, "user": row.User, "hosts": strings.Join(described.Hosts, ", "),
			"given": row.Digest()})
	})
}

// forgetSecret forgets a secret. What is described of the credential stays.
func (s *Service) forgetSecret(c *gin.Context) (any, error) {
	name := c.Param("name")
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	t, set, err := s.trustedAndSet()
	if err != nil {
		return nil, err
	}
	if _, ok := set.Credentials[name]; !ok {
		return nil, dangling("", "credential", name, set.Credentials)
	}
	if _, ok := t.given[name]; !ok {
		return nil, finding.New(finding.CredentialMissing, "credential "+name,
			"the credential has no secret to remove").
			Do("to remove the credential itself, record a definition without it: stockade " +
				"record --whole PATH")
	}
	if err := s.db.Tx(func(tx *store.DB) error { return ch.forget(tx, name) }); err != nil {
		return nil, err
	}
	return s.oneCredential(name)
}

func (ch *change) forget(tx *store.DB, name string) error {
	if err := tx.RemoveCredential(name); err != nil {
		return err
	}
	return ch.write(tx, "credential.remove", "credential "+name, nil)
}

// forgetUndescribed forgets the secrets of credentials that a change takes out of the
// description: described again under the same name, they are given again.
func (ch *change) forgetUndescribed(tx *store.DB, p *proposal) error {
	for _, name := range slices.Sorted(maps.Keys(p.trusted.given)) {
		if _, still := p.target.Credentials[name]; still {
			continue
		}
		if err := ch.forget(tx, name); err != nil {
			return fmt.Errorf("remove the secret of %s: %w", name, err)
		}
	}
	return nil
}
