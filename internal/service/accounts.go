package service

import (
	"errors"
	"strings"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

func (s *Service) handleAccounts(c *gin.Context) (any, error) {
	rows, err := s.db.Accounts()
	var out []api.Account
	for _, a := range rows {
		out = append(out, api.Account{Name: a.Name, Role: a.Role, Created: a.Created})
	}
	return page(out, err)
}

func (s *Service) addAccount(c *gin.Context) (any, error) {
	in, err := body[api.NewAccount](c)
	if err != nil {
		return nil, err
	}
	if in.Role != api.Viewer && in.Role != api.Operator && in.Role != api.Warden {
		return nil, finding.New("define.bad-value", "account "+in.Name,
			"the role %q is not viewer, operator or warden", in.Role)
	}
	if in.Name == "" || len(in.Name) > 64 || finding.Harmless(in.Name) != in.Name ||
		strings.ContainsAny(in.Name, " \t/") || strings.Trim(in.Name, ".") == "" {
		return nil, finding.New("define.bad-value", "account", "the name %q does not fit", in.Name).Do(
			"give 1 to 64 letters without spaces")
	}
	if _, err := s.db.AccountBy(in.Name); err == nil {
		return nil, finding.New("define.duplicate-name", "account "+in.Name,
			"there is an account of this name").Do("take another name; or remove that account first: "+
			"stockade account remove %s", in.Name)
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	token := secret()
	return api.NewToken{Account: in.Name, Token: token}, s.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveAccount(store.Account{Name: in.Name, Role: in.Role, Created: s.now().UTC()}); err !=
			nil {
			return err
		}
		if err := tx.AddToken(store.Token{Hash: tokenHash(token), Account: in.Name, Label: "first",
			Created: s.now().UTC()}); err != nil {
			return err
		}
		return s.write(tx, who(c).Name, "account.add", "account "+in.Name, map[string]string{"role": in.Role,
			"token": tokenHash(token)})
	})
}

// noAccount tells that nobody has a name, and the nearest that somebody has.
func (s *Service) noAccount(name string) error {
	all, err := s.db.Accounts()
	if err != nil {
		return err
	}
	known := map[string]store.Account{}
	for _, a := range all {
		known[a.Name] = a
	}
	return dangling("", "account", name, known)
}

func (s *Service) removeAccount(c *gin.Context) (any, error) {
	name := c.Param("name")
	a, err := s.db.AccountBy(name)
	if errors.Is(err, store.ErrNotFound) {
		return nil, s.noAccount(name)
	}
	if err != nil {
		return nil, err
	}
	if name == who(c).Name {
		return nil, finding.New("define.bad-value", "account "+name,
			"this is the account that asks; another warden has to remove it")
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	return api.Account{Name: a.Name, Role: a.Role, Created: a.Created}, s.db.Tx(func(tx *store.DB) error {
		if err := tx.RemoveAccount(name); err != nil {
			return err
		}
		return s.write(tx, who(c).Name, "account.remove", "account "+name, nil)
	})
}
