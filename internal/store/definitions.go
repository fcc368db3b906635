package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"stockade/core/definition"
)

// Record is one described thing, as JSON.
type Record struct {
	Kind     string `gorm:"primaryKey"`
	Name     string `gorm:"primaryKey"`
	Body     string
	Revision int64
	Said     string // what a person wrote of it, with comments; empty: nobody wrote more than it says
}

// Revision is one change of what is described.
type Revision struct {
	ID      int64 `gorm:"primaryKey"`
	At      time.Time
	By      string
	Summary string
	Changes string // []definition.Change as JSON
	Whole   string // the whole description after it, as YAML
}

// Described reads everything that is described.
func (d *DB) Described() (*definition.Set, error) {
	records, err := many[Record](d, "kind, name", 0, "")
	if err != nil {
		return nil, err
	}
	set := definition.NewSet()
	for _, r := range records {
		if err := set.Put(r.Kind, r.Name, []byte(r.Body)); err != nil {
			return nil, err
		}
		if r.Said != "" {
			set.Words[r.Kind+" "+r.Name] = r.Said
		}
	}
	return set, nil
}

// DescribedDigest is a digest over all that is described, as it is recorded.
func (d *DB) DescribedDigest() (string, error) {
	records, err := many[Record](d, "kind, name", 0, "")
	h := sha256.New()
	for _, r := range records {
		fmt.Fprintf(h, "%s\x00%s\x00%d\x00%s\n", r.Kind, r.Name, len(r.Body), r.Body)
	}
	return hex.EncodeToString(h.Sum(nil)), err
}

// DescribedSince gives when a thing that is described came to be as it is.
func (d *DB) DescribedSince(kind, name string) (time.Time, error) {
	r, err := one[Record](d, "kind = ? AND name = ?", kind, name)
	if err != nil {
		return time.Time{}, err
	}
	rev, err := d.RevisionBy(r.Revision)
	return rev.At, err
}

// RevisionsOf gives, of each thing that is described, the revision since which it is as it is, by kind
// and name: "mirror barrage". It reads one row for each.
func (d *DB) RevisionsOf() (map[string]int64, error) {
	var rows []Record
	if err := d.read.Select("kind", "name", "revision").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make(map[string]int64, len(rows))
	for _, r := range rows {
		out[r.Kind+" "+r.Name] = r.Revision
	}
	return out, nil
}

// LastRevision gives the number of the newest revision; 0 where nothing was recorded yet.
func (d *DB) LastRevision() (int64, error) {
	all, err := d.Revisions(0, 1)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	return all[0].ID, nil
}

// IsDescribed tells whether a thing of that kind and name is described now.
func (d *DB) IsDescribed(kind, name string) (bool, error) {
	_, err := one[Record](d, "kind = ? AND name = ?", kind, name)
	if errors.Is(err, ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// Describe records the changes that lead to target, as one revision.
func (d *DB) Describe(target *definition.Set, changes []definition.Change, by, summary string,
	at time.Time) (Revision, error) {
	raw, err := json.Marshal(changes)
	if err != nil {
		return Revision{}, err
	}
	whole, err := target.YAML()
	if err != nil {
		return Revision{}, err
	}
	rev := Revision{At: at, By: by, Summary: summary, Changes: string(raw), Whole: whole}
	if err := d.g.Create(&rev).Error; err != nil {
		return rev, err
	}
	bodies := target.Records()
	for _, c := range changes {
		if c.Action == "remove" {
			err = d.g.Delete(&Record{Kind: c.Kind, Name: c.Name}).Error
		} else {
			err = d.save(&Record{Kind: c.Kind, Name: c.Name, Body: string(bodies[c.Kind][c.Name]),
				Revision: rev.ID, Said: target.WordsOf(c.Kind, c.Name)})
		}
		if err != nil {
			return rev, err
		}
	}
	return rev, nil
}

// Say keeps what a person wrote of things that are described and did not change: "kind name" →
// text, empty where nothing more than they say.
func (d *DB) Say(words map[string]string) error {
	for id, text := range words {
		kind, name, _ := strings.Cut(id, " ")
		if err := d.g.Model(&Record{}).Where("kind = ? AND name = ?", kind, name).
			Update("said", text).Error; err != nil {
			return err
		}
	}
	return nil
}

// Revisions gives the newest revisions before a number (0: all), without the descriptions
// after them.
func (d *DB) Revisions(before int64, limit int) ([]Revision, error) {
	if before <= 0 {
		before = 1 << 62
	}
	return list[Revision](d, []string{"whole"}, "id DESC", limit, "id < ?", before)
}

// EachRevision calls f for every revision after a number (0: all), oldest first, a few at a
// time.
func (d *DB) EachRevision(after int64, f func(Revision) error) error {
	const page = 50
	for from := after; ; {
		rows, err := many[Revision](d, "id", page, "id > ?", from)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if err := f(r); err != nil {
				return err
			}
			from = r.ID
		}
		if len(rows) < page {
			return nil
		}
	}
}

// RevisionBy gives one revision.
func (d *DB) RevisionBy(id int64) (Revision, error) { return one[Revision](d, "id = ?", id) }
