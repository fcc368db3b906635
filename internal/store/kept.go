package store

import (
	"encoding/json"
	"errors"
	"time"
)

// Kept is the newest of something that is replaced whole: accepted roots,
// findings of a check, probe results. Body is JSON.
type Kept struct {
	Kind string `gorm:"primaryKey"`
	Name string `gorm:"primaryKey"`
	At   time.Time
	Body string
}

// Keep replaces the newest of something.
func (d *DB) Keep(kind, name string, v any, at time.Time) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return d.save(&Kept{Kind: kind, Name: name, At: at, Body: string(raw)})
}

// KeepQuietly replaces the newest of something that is an account's own: it is no change of
// anything else, see Changes.
func (d *DB) KeepQuietly(kind, name string, v any, at time.Time) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return d.txOf(Personal, func(tx *DB) error {
		return tx.save(&Kept{Kind: kind, Name: name, At: at, Body: string(raw)})
	})
}

// Kept reads it, and tells whether there is any: an error says nothing of that.
func (d *DB) Kept(kind, name string, v any) (at time.Time, there bool, err error) {
	k, err := one[Kept](d, "kind = ? AND name = ?", kind, name)
	if errors.Is(err, ErrNotFound) {
		return time.Time{}, false, nil
	}
	if err == nil {
		err = json.Unmarshal([]byte(k.Body), v)
	}
	return k.At, err == nil, err
}

// AllKept gives everything of one kind.
func (d *DB) AllKept(kind string) ([]Kept, error) { return many[Kept](d, "name", 0, "kind = ?", kind) }

// EveryKept gives everything that is kept, but of accounts: by kind and name.
func (d *DB) EveryKept() (map[string]map[string]Kept, error) {
	all, err := many[Kept](d, "kind", 0, "kind NOT IN ?", OfAccounts)
	out := map[string]map[string]Kept{}
	for _, k := range all {
		if out[k.Kind] == nil {
			out[k.Kind] = map[string]Kept{}
		}
		out[k.Kind][k.Name] = k
	}
	return out, err
}

// Called moves what is kept of something to another name.
func (d *DB) Called(kind, from, to string) error {
	return d.g.Model(&Kept{}).Where("kind = ? AND name = ?", kind, from).Update("name", to).Error
}

// Drop forgets it.
func (d *DB) Drop(kind, name string) error {
	return d.g.Delete(&Kept{Kind: kind, Name: name}).Error
}
