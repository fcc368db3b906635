package store

import "time"

// Account is somebody who may use the service.
type Account struct {
	Name    string    `gorm:"primaryKey" json:"name"`
	Role    string    `json:"role"`
	Created time.Time `json:"created"`
}

// Token is a secret of an account; only its digest is stored.
type Token struct {
	Hash    string    `gorm:"primaryKey" json:"-"`
	Account string    `gorm:"index" json:"account"`
	Label   string    `json:"label"`
	Created time.Time `json:"created"`
}

// Accounts gives all accounts.
func (d *DB) Accounts() ([]Account, error) { return many[Account](d, "name", 0, "") }

// AccountBy gives one account.
func (d *DB) AccountBy(name string) (Account, error) { return one[Account](d, "name = ?", name) }

// SaveAccount records an account.
func (d *DB) SaveAccount(a Account) error { return d.save(&a) }

// RemoveAccount takes an account and its tokens out.
func (d *DB) RemoveAccount(name string) error {
	if err := d.g.Where("account = ?", name).Delete(&Token{}).Error; err != nil {
		return err
	}
	return d.g.Delete(&Account{Name: name}).Error
}

// AddToken records a token's digest.
func (d *DB) AddToken(t Token) error { return d.save(&t) }

// Tokens gives all tokens, as digests.
func (d *DB) Tokens() ([]Token, error) { return many[Token](d, "account, created", 0, "") }

// TokenBy finds a token by its digest.
func (d *DB) TokenBy(hash string) (Token, error) { return one[Token](d, "hash = ?", hash) }
