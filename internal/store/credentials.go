package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"time"

	"stockade/core/finding"
)

// Credential is the secret of a credential, sealed, with what it was given for. What is
// sealed opens only together with the rest.
type Credential struct {
	Name   string `gorm:"primaryKey"`
	Kind   string
	User   string
	Hosts  string    // as JSON: a list of texts
	Until  time.Time // zero: without an end of its own
	Sealed []byte    `json:",omitempty"`
	By     string
	At     time.Time
}

// For gives the hosts that it was given for.
func (c Credential) For() (hosts []string) {
	if json.Unmarshal([]byte(c.Hosts), &hosts) != nil {
		return nil // then it is given for none
	}
	return hosts
}

// Bound is what the secret is sealed together with.
func (c Credential) Bound() []byte {
	c.Sealed, c.Until, c.At = nil, c.Until.UTC(), c.At.UTC()
	raw, err := json.Marshal(c)
	if err != nil {
		panic("store: plain values do not marshal: " + err.Error())
	}
	return raw
}

// Digest is what an entry of the journal says of it.
func (c Credential) Digest() string {
	h := sha256.New()
	h.Write(c.Bound())
	h.Write(c.Sealed)
	return hex.EncodeToString(h.Sum(nil))
}

// Credentials gives all secrets that were given.
func (d *DB) Credentials() ([]Credential, error) { return many[Credential](d, "name", 0, "") }

// SaveCredential records one, in place of what was given before.
func (d *DB) SaveCredential(c Credential) error { return d.save(&c) }

// RemoveCredential forgets one.
func (d *DB) RemoveCredential(name string) error {
	if err := d.g.Delete(&Credential{Name: name}).Error; err != nil {
		return finding.Doing(err, "forget the secret of %s", name)
	}
	return nil
}
