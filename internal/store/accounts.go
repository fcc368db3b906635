package store

import (
	"time"
)

// Account is somebody who may use the service.
type Account struct {
	Name    string    `gorm:"primaryKey" json:"name"`
	Role    string    `json:"role"`
	Created time.Time `json:"created"`
	// Password is argon2id over one that its person chose, as a PHC string; empty: none.
	Password string `json:"-"`
}

// Token is a secret of an account; only its digest is stored.
type Token struct {
	Hash    string     `gorm:"primaryKey" json:"-"`
	Account string     `gorm:"index" json:"account"`
	Label   string     `json:"label"`
	Created time.Time  `json:"created"`
	Ends    *time.Time `json:"ends"` // nil: never
	Used    *time.Time `json:"used"` // nil: not since this is kept
}

// Session is somebody signed in to the console; only the digest of its cookie is stored.
// Mac binds the record to the service's secret: one that was written by somebody else
// does not count.
type Session struct {
	Hash    string `gorm:"primaryKey"`
	Account string `gorm:"index"`
	By      string // "token" or "password"
	Of      string // digest of the token, or of the record of the password
	Created time.Time
	Used    time.Time
	From    string // address
	Agent   string // what the browser calls itself
	Mac     string
}

// Accounts gives all accounts.
func (d *DB) Accounts() ([]Account, error) { return many[Account](d, "name", 0, "") }

// AccountBy gives one account.
func (d *DB) AccountBy(name string) (Account, error) { return one[Account](d, "name = ?", name) }

// SaveAccount records an account.
func (d *DB) SaveAccount(a Account) error { return d.save(&a) }

// EndKnown removes the tokens and sessions of an account.
func (d *DB) EndKnown(account string) error {
	for _, of := range []any{&Token{}, &Session{}} {
		if err := d.g.Where("account = ?", account).Delete(of).Error; err != nil {
			return err
		}
	}
	return nil
}

// RemoveAccount takes an account out, with its tokens, sessions and drafts.
func (d *DB) RemoveAccount(name string) error {
	if err := d.EndKnown(name); err != nil {
		return err
	}
	if err := d.g.Where("name = ? AND kind IN ?", name, OfAccounts).Delete(&Kept{}).Error; err != nil {
		return err
	}
	return d.g.Delete(&Account{Name: name}).Error
}

// OfAccounts are the kinds of what is kept that belong to the account of their name.
var OfAccounts = []string{"draft", "visit"}

// AddToken records a token's digest.
func (d *DB) AddToken(t Token) error { return d.save(&t) }

// RemoveToken forgets a token.
func (d *DB) RemoveToken(hash string) error {
	return d.g.Delete(&Token{Hash: hash}).Error
}

// Tokens gives all tokens, as digests.
func (d *DB) Tokens() ([]Token, error) { return many[Token](d, "account, created", 0, "") }

// TokensOf gives those of an account, the oldest first.
func (d *DB) TokensOf(account string) ([]Token, error) {
	return many[Token](d, "created", 0, "account = ?", account)
}

// TokenBy finds a token by its digest.
func (d *DB) TokenBy(hash string) (Token, error) { return one[Token](d, "hash = ?", hash) }

// AddSession records a session. It is no change of anything else: see Changes.
func (d *DB) AddSession(s Session) error {
	return d.txOf(Personal, func(tx *DB) error { return tx.g.Create(&s).Error })
}

// SessionBy finds a session by its digest.
func (d *DB) SessionBy(hash string) (Session, error) { return one[Session](d, "hash = ?", hash) }

// Sessions gives those of an account, the newest first; of all for none.
func (d *DB) Sessions(account string) ([]Session, error) {
	if account == "" {
		return many[Session](d, "created DESC", 0, "")
	}
	return many[Session](d, "created DESC", 0, "account = ?", account)
}

// EndSession forgets a session.
func (d *DB) EndSession(hash string) error {
	return d.txOf(Personal, func(tx *DB) error { return tx.g.Delete(&Session{Hash: hash}).Error })
}

// EndSessions forgets those that were last used before a time, or begun before another.
func (d *DB) EndSessions(used, created time.Time) error {
	return d.txOf(Personal, func(tx *DB) error {
		return tx.g.Where("used < ? OR created < ?", used, created).Delete(&Session{}).Error
	})
}

// Used notes when tokens and sessions, by their digests, were last used. It is no change
// of anything else: see Changes.
func (d *DB) Used(tokens, sessions map[string]time.Time) error {
	return d.txOf(Personal, func(tx *DB) error {
		for hash, at := range tokens {
			if err := tx.g.Model(&Token{}).Where("hash = ?", hash).Update("used", at).Error; err != nil {
				return err
			}
		}
		for hash, at := range sessions {
			if err := tx.g.Model(&Session{}).Where("hash = ?", hash).Update("used", at).Error; err != nil {
				return err
			}
		}
		return nil
	})
}
