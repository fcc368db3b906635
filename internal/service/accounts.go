package service

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/store"
)

// tokenID is the part of a digest by which a token or session is named.
func tokenID(hash string) string { return hash[:min(16, len(hash))] }

// describeAccount gives an account with its tokens and sessions.
func (s *Service) describeAccount(c *gin.Context, a store.Account) (api.Account, error) {
	out := api.Account{Name: a.Name, Role: a.Role, Created: a.Created, Password: a.Password != "",
		Tokens: []api.Token{}, Sessions: []api.Session{}}
	tokens, err := s.db.TokensOf(a.Name)
	if err != nil {
		return out, err
	}
	names, now := map[string]string{}, s.now() // of tokens that have not ended
	for _, t := range tokens {
		if t.Ends == nil || now.Before(*t.Ends) {
			names[t.Hash] = t.Label
		}
		out.Tokens = append(out.Tokens, api.Token{ID: tokenID(t.Hash), Name: t.Label, Created: t.Created,
			Ends: t.Ends, Used: s.used.ofToken(t.Hash, t.Used), Ended: t.Ends != nil &&
				!now.Before(*t.Ends)})
	}
	sessions, err := s.db.Sessions(a.Name)
	if err != nil {
		return out, err
	}
	for _, row := range sessions {
		used := s.used.of(row.Hash, row.Used)
		if now.Sub(row.Created) > sessionMost || now.Sub(used) > sessionIdle ||
			row.By == "password" && row.Of != passwordDigest(a.Password) {
			continue
		}
		one := api.Session{ID: tokenID(row.Hash), By: row.By, From: row.From, Agent: row.Agent,
			Began: row.Created, Used: used, Ends: row.Created.Add(sessionMost),
			Current: row.Hash == knownBy(c).session}
		if row.By == "token" {
			if names[row.Of] == "" {
				continue // its token was taken back, or has ended
			}
			one.By += ` "` + names[row.Of] + `"`
		}
		out.Sessions = append(out.Sessions, one)
	}
	return out, nil
}

func (s *Service) handleAccounts(c *gin.Context) (any, error) {
	rows, err := s.db.Accounts()
	if err != nil {
		return nil, err
	}
	var out []api.Account
	for _, a := range rows {
		one, err := s.describeAccount(c, a)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return page(out, nil)
}

// ofAccount finds the account that a call is about, for wardens and for itself.
func (s *Service) ofAccount(c *gin.Context) (store.Account, error) {
	name := c.Param("name")
	if me := who(c); me.Name != name && me.Role != api.Warden {
		return store.Account{}, notTheirs(me, "only wardens may see other accounts")
	}
	a, err := s.db.AccountBy(name)
	if errors.Is(err, store.ErrNotFound) {
		return a, s.noAccount(name)
	}
	return a, err
}

func notTheirs(me store.Account, why string) error {
	return &api.Problem{Title: "Not allowed", Status: 403, Type: "urn:stockade:rights",
		Detail: me.Name + " is " + roleNamed(me.Role) + ": " +
			why, WayOut: "ask the owner of the account, or a warden"}
}

func (s *Service) handleAccount(c *gin.Context) (any, error) {
	a, err := s.ofAccount(c)
	if err != nil {
		return nil, err
	}
	return s.describeAccount(c, a)
}

// changed answers with an account as it is after a change.
func (s *Service) changed(c *gin.Context, name string, err error) (any, error) {
	if err != nil {
		return nil, err
	}
	a, err := s.db.AccountBy(name)
	if err != nil {
		return nil, err
	}
	return s.describeAccount(c, a)
}

func knownRole(account, role string) error {
	if role != api.Viewer && role != api.Operator && role != api.Warden {
		return finding.New(finding.DefineBadValue, "account "+account,
			"the role %q does not exist; roles are viewer, operator and warden", role)
	}
	return nil
}

func (s *Service) addAccount(c *gin.Context) (any, error) {
	in, err := body[api.NewAccount](c)
	if err != nil {
		return nil, err
	}
	if err := knownRole(in.Name, in.Role); err != nil {
		return nil, err
	}
	if in.Name == "" || len(in.Name) > 64 || finding.Harmless(in.Name) != in.Name ||
		strings.ContainsAny(in.Name, " \t/") || strings.Trim(in.Name, ".") == "" {
		return nil, finding.New(finding.DefineBadValue, "account", "the name %q is not valid", in.Name).Do(
			"use 1 to 64 letters without spaces")
	}
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	if _, err := s.db.AccountBy(in.Name); err == nil {
		return nil, finding.New(finding.DefineDuplicateName, "account "+in.Name,
			"an account of this name already exists").Do("choose another name, or remove that "+
			"account first: stockade account remove %s", in.Name)
	}
	if in.Role == api.Warden {
		if err := s.mayMakeWarden(in.Name); err != nil {
			return nil, err
		}
	}
	var made api.NewToken
	err = s.db.Tx(func(tx *store.DB) error {
		err := tx.SaveAccount(store.Account{Name: in.Name, Role: in.Role, Created: s.now().UTC()})
		if err != nil {
			return err
		}
		made, err = ch.firstToken(tx, in.Name, "account.add", knownBy(c).ends,
			map[string]string{"role": in.Role})
		return err
	})
	return made, err
}

// firstToken makes the token that an account begins with, and writes the entry that says so. It does
// not last longer than the token by which it was asked for, if that one ends.
func (ch *change) firstToken(tx *store.DB, account, action string, ends *time.Time,
	detail map[string]string) (api.NewToken, error) {
	token := secret()
	row := store.Token{Hash: tokenHash(token), Account: account, Label: "first", Created: ch.now().UTC(),
		Ends: ends}
	detail["token"], detail["ends"] = row.Hash, endText(ends)
	return api.NewToken{Account: account, Token: token},
		errors.Join(tx.AddToken(row), ch.write(tx, action, "account "+account, detail))
}

// mayMakeWarden refuses another warden where a rule asks for two: whoever makes an account has its
// first token, and would be both of them.
func (s *Service) mayMakeWarden(name string) error {
	set, err := s.db.Described()
	if err != nil {
		return err
	}
	for _, rule := range slices.Sorted(maps.Keys(set.Rules)) {
		if set.Rules[rule].TwoPersons {
			return finding.New(finding.AccountSecondPerson, "account "+name,
				"the rule %s asks two wardens to vouch. Whoever creates a warden gets that "+
					"warden's first token, so one person could vouch twice", rule).
				Do("the person who runs the service creates the account and hands over its "+
					"token: stockade serve --new-warden %s", name)
		}
	}
	return nil
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
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	a, err := s.ofAccount(c)
	if err != nil {
		return nil, err
	}
	if a.Name == who(c).Name {
		return nil, finding.New(finding.DefineBadValue, "account "+a.Name,
			"you cannot remove your own account; another warden can")
	}
	out, err := s.describeAccount(c, a)
	if err != nil {
		return nil, err
	}
	return out, s.db.Tx(func(tx *store.DB) error {
		if err := tx.RemoveAccount(a.Name); err != nil {
			return err
		}
		return ch.write(tx, "account.remove", "account "+a.Name, nil)
	})
}

// setRole gives an account another role. Its tokens, its password and its sessions end: what was
// given out for one role is not worth another. The answer has the token that it begins anew with. A
// warden cannot take the rights from themselves: one stays that way.
func (s *Service) setRole(c *gin.Context) (any, error) {
	in, err := body[api.RoleGiven](c)
	if err != nil {
		return nil, err
	}
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	a, err := s.ofAccount(c)
	if err != nil {
		return nil, err
	}
	if err := knownRole(a.Name, in.Role); err != nil {
		return nil, err
	}
	if a.Name == who(c).Name {
		return nil, finding.New(finding.DefineBadValue, "account "+a.Name,
			"you cannot change your own role; another warden can")
	}
	if a.Role == in.Role {
		return nil, finding.New(finding.DefineBadValue, "account "+a.Name,
			"the account already has the role %s", in.Role).
			Do("to end its sessions and tokens, give it another role or remove the account")
	}
	if in.Role == api.Warden {
		if err := s.mayMakeWarden(a.Name); err != nil {
			return nil, err
		}
	}
	before := a.Role
	a.Role, a.Password = in.Role, ""
	var made api.NewToken
	err = s.db.Tx(func(tx *store.DB) error {
		if err := tx.EndKnown(a.Name); err != nil {
			return err
		}
		if err := tx.SaveAccount(a); err != nil {
			return err
		}
		made, err = ch.firstToken(tx, a.Name, "account.role", knownBy(c).ends,
			map[string]string{"role": in.Role, "before": before})
		return err
	})
	return made, err
}

// tokensOf bounds how many tokens an account has.
const tokensOf = 50

// addToken makes a further token. A warden gives none to another warden: what two of them
// decide is decided by two accounts.
func (s *Service) addToken(c *gin.Context) (any, error) {
	in, err := body[api.TokenAsked](c)
	if err != nil {
		return nil, err
	}
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	a, err := s.ofAccount(c)
	if err != nil {
		return nil, err
	}
	by := knownBy(c)
	if a.Role == api.Warden && a.Name != by.account.Name {
		return nil, notTheirs(by.account, "a warden creates the tokens of their account "+
			"themselves")
	}
	object := "account " + a.Name
	if in.Name == "" || len(in.Name) > 64 || finding.Harmless(in.Name) != in.Name ||
		strings.TrimSpace(in.Name) != in.Name {
		return nil, finding.New(finding.DefineBadValue, object, "the name %q of a token is not "+
			"valid",
			in.Name).Do("use 1 to 64 characters that say what the token is for")
	}
	have, err := s.db.TokensOf(a.Name)
	if err != nil {
		return nil, err
	}
	for _, t := range have {
		if t.Label == in.Name {
			return nil, finding.New(finding.DefineDuplicateName, object,
				"the account already has a token named %q", in.Name).
				Do("choose another name, or revoke that token first")
		}
	}
	if len(have) >= tokensOf {
		return nil, finding.New(finding.DefineBadValue, object, "the account has %d tokens, "+
			"which is the limit",
			len(have)).Do("revoke tokens that are no longer used")
	}
	if in.Ends != nil {
		at := in.Ends.UTC().Truncate(time.Second)
		if in.Ends = &at; !at.After(s.now()) {
			return nil, finding.New(finding.DefineBadValue, object, "the expiry date %s is not "+
				"in the future",
				at.Format(time.RFC3339))
		}
	}
	if by.ends != nil && (in.Ends == nil || in.Ends.After(*by.ends)) {
		return nil, finding.New(finding.DefineBadValue, object,
			"your token expires at %s, and a token that it creates cannot last longer",
			by.ends.Format(time.RFC3339)).Do("choose an earlier expiry date, or use a token " +
			"without one")
	}
	token := secret()
	row := store.Token{Hash: tokenHash(token), Account: a.Name, Label: in.Name, Created: s.now().UTC(),
		Ends: in.Ends}
	detail := map[string]string{"name": in.Name, "token": row.Hash, "ends": endText(row.Ends)}
	return api.NewToken{Account: a.Name, Token: token}, s.db.Tx(func(tx *store.DB) error {
		if err := tx.AddToken(row); err != nil {
			return err
		}
		return ch.write(tx, "account.add-token", object, detail)
	})
}

// endText is when a token ends, as entries say it.
func endText(ends *time.Time) string {
	if ends == nil {
		return "never"
	}
	return ends.UTC().Format(time.RFC3339)
}

// removeToken takes a token back, by its id or name. The last one of an account without a
// password stays.
func (s *Service) removeToken(c *gin.Context) (any, error) {
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	a, err := s.ofAccount(c)
	if err != nil {
		return nil, err
	}
	have, err := s.db.TokensOf(a.Name)
	if err != nil {
		return nil, err
	}
	for _, t := range have {
		if tokenID(t.Hash) != c.Param("id") && t.Label != c.Param("id") {
			continue
		}
		if len(have) == 1 && a.Password == "" {
			return nil, finding.New(finding.DefineBadValue, "account "+a.Name,
				"the account would have nothing left to sign in with").
				Do("create another token or set a password first, or remove the account")
		}
		return s.changed(c, a.Name, s.db.Tx(func(tx *store.DB) error {
			if err := tx.RemoveToken(t.Hash); err != nil {
				return err
			}
			return ch.write(tx, "account.remove-token", "account "+a.Name,
				map[string]string{"name": t.Label, "token": t.Hash})
		}))
	}
	return nil, absentOf(a.Name, "token", c.Param("id"))
}

func absentOf(account, what, id string) error {
	return finding.New(finding.DefineDanglingReference, "account "+account,
		"the account has no %s %q", what,
		id).Do("run stockade account show %s to see what it has", account)
}

// setPassword chooses the password of the account that asks. Who came by a token that ends
// cannot: a password lasts longer.
func (s *Service) setPassword(c *gin.Context) (any, error) {
	in, err := body[api.PasswordGiven](c)
	if err != nil {
		return nil, err
	}
	by := knownBy(c)
	object := "account " + c.Param("name")
	if c.Param("name") != by.account.Name {
		return nil, notTheirs(by.account, "only the owner of an account sets its password")
	}
	switch {
	case by.ends != nil:
		return nil, finding.New(finding.DefineBadValue, object,
			"your token expires at %s, and a password would last longer",
			by.ends.Format(time.RFC3339)).Do("use a token that does not expire")
	case utf8.RuneCountInString(in.Password) < wordLeast || len(in.Password) > wordMost ||
		!utf8.ValidString(in.Password):
		return nil, finding.New(finding.DefineBadValue, object, "the password is not valid").
			Do("use at least %d characters and at most %d bytes", wordLeast, wordMost)
	case strings.Count(in.Password, in.Password[:1]) == len(in.Password):
		return nil, finding.New(finding.DefineBadValue, object, "the password is too easy to guess").
			Do("use several words that only you would combine")
	}
	if by.byWord {
		_, right, err := s.byPassword(c.Request.Context(), by.account.Name, in.Before)
		if err != nil {
			return nil, err
		}
		if !right {
			return nil, finding.New(finding.DefineBadValue, object, "the current password is "+
				"not right").
				Do("enter it again, or sign in with a token")
		}
	}
	s.hashing <- struct{}{}
	record := passwordRecord(in.Password)
	<-s.hashing
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	err = ch.keepPassword(by.account.Name, record, "account.set-password")
	if err == nil && by.byWord { // the session that asked goes on
		err = s.rebind(by.session, passwordDigest(record))
	}
	return s.changed(c, by.account.Name, err)
}

// keepPassword records a password, or that there is none; s.writing is held.
func (ch *change) keepPassword(name, record, action string) error {
	a, err := ch.db.AccountBy(name)
	if err != nil {
		return err
	}
	a.Password = record
	return ch.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveAccount(a); err != nil {
			return err
		}
		return ch.write(tx, action, "account "+name,
			map[string]string{"password": passwordDigest(record)})
	})
}

// rebind lets a session go on with another password of its account.
func (s *Service) rebind(session, of string) error {
	row, err := s.db.SessionBy(session)
	if err != nil {
		return err
	}
	if err := s.db.EndSession(session); err != nil {
		return err
	}
	row.Of = of
	row.Mac = s.bound(row)
	return s.db.AddSession(row)
}

func (s *Service) removePassword(c *gin.Context) (any, error) {
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	a, err := s.ofAccount(c)
	if err != nil {
		return nil, err
	}
	if a.Password == "" {
		return nil, finding.New(finding.DefineDanglingReference, "account "+a.Name,
			"the account has no password")
	}
	have, err := s.db.TokensOf(a.Name)
	if err != nil {
		return nil, err
	}
	if len(have) == 0 {
		return nil, finding.New(finding.DefineBadValue, "account "+a.Name,
			"the account would have nothing left to sign in with").Do("create a token first, or " +
			"remove the account")
	}
	return s.changed(c, a.Name, ch.keepPassword(a.Name, "", "account.remove-password"))
}

func (s *Service) endSession(c *gin.Context) (any, error) {
	a, err := s.ofAccount(c)
	if err != nil {
		return nil, err
	}
	rows, err := s.db.Sessions(a.Name)
	if err != nil {
		return nil, err
	}
	for _, row := range rows {
		if tokenID(row.Hash) == c.Param("id") {
			s.log.Info("session ended", "account", a.Name, "by", who(c).Name)
			return s.changed(c, a.Name, s.db.EndSession(row.Hash))
		}
	}
	return nil, absentOf(a.Name, "session", c.Param("id"))
}
