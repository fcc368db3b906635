package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"golang.org/x/mod/sumdb/tlog"

	"stockade/core/journal"
)

type journalEntry struct {
	Number int64 `gorm:"primaryKey;autoIncrement:false"`
	At     time.Time
	By     string
	Action string `gorm:"index"`
	Object string `gorm:"index"`
	Text   []byte
}

type journalHash struct {
	Index int64 `gorm:"primaryKey;autoIncrement:false"`
	Hash  []byte
}

type journalHead struct {
	ID   int `gorm:"primaryKey;autoIncrement:false"`
	Text string
}

// Journal gives the database as the journal's store.
func (d *DB) Journal() journal.Store { return journalStore{d} }

type journalStore struct{ d *DB }

func (s journalStore) Size() (int64, error) {
	var n *int64
	err := s.d.read.Model(&journalEntry{}).Select("MAX(number) + 1").Scan(&n).Error
	if n == nil {
		return 0, err
	}
	return *n, err
}

// hashesAtOnce is how many hashes one question names.
const hashesAtOnce = 500

func (s journalStore) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for from := 0; from < len(indexes); from += hashesAtOnce {
		part := indexes[from:min(from+hashesAtOnce, len(indexes))]
		rows, err := many[journalHash](s.d, "`index`", 0, "`index` IN ?", part)
		if err != nil {
			return nil, fmt.Errorf("the journal's hash %d: %w", part[0], err)
		}
		of := make(map[int64][]byte, len(rows))
		for _, r := range rows {
			of[r.Index] = r.Hash
		}
		for i, x := range part {
			hash, ok := of[x]
			if !ok {
				return nil, fmt.Errorf("the journal's hash %d: %w", x, journal.ErrNoHash)
			}
			copy(out[from+i][:], hash)
		}
	}
	return out, nil
}

func (s journalStore) Append(text []byte, e journal.Entry, first int64, hashes []tlog.Hash,
	checkpoint string) error {
	return s.d.Tx(func(tx *DB) error {
		if err := tx.g.Create(&journalEntry{Number: e.Number, At: e.At, By: e.By, Action: e.Action,
			Object: e.Object, Text: text}).Error; err != nil {
			return err
		}
		for i, h := range hashes {
			if err := tx.g.Create(&journalHash{Index: first + int64(i), Hash: h[:]}).Error; err != nil {
				return err
			}
		}
		return tx.save(&journalHead{ID: 1, Text: checkpoint})
	})
}

func (s journalStore) Checkpoint() (string, error) {
	h, err := one[journalHead](s.d, "id = 1")
	if errors.Is(err, ErrNotFound) {
		return "", nil
	}
	return h.Text, err
}

func (s journalStore) Each(first int64, f func(int64, []byte) error) error {
	const page = 500
	for from := first - 1; ; {
		rows, err := many[journalEntry](s.d, "number", page, "number > ?", from)
		if err != nil {
			return err
		}
		for _, r := range rows {
			if err := f(r.Number, r.Text); err != nil {
				return err
			}
			from = r.Number
		}
		if len(rows) < page {
			return nil
		}
	}
}

// JournalPage gives the newest entries before a number (negative: all),
// perhaps only those about an object or of an action, and those since a time (zero: all). Numbers
// order them, and not times: a clock may have been put back.
func (d *DB) JournalPage(before int64, limit int, like string, since time.Time) ([]journal.Entry, error) {
	if before < 0 {
		before = 1 << 62
	}
	where, args := "number < ?", []any{before}
	if like != "" {
		// instr and not LIKE: a text is what it is
		where += " AND (instr(lower(object), lower(?)) > 0 OR instr(lower(action), lower(?)) > 0 OR " +
			"instr(lower(`by`), lower(?)) > 0)"
		args = append(args, like, like, like)
	}
	if !since.IsZero() {
		where += " AND at >= ?"
		args = append(args, since.UTC())
	}
	rows, err := many[journalEntry](d, "number DESC", limit, where, args...)
	out := make([]journal.Entry, 0, len(rows))
	for _, r := range rows {
		var e journal.Entry
		if json.Unmarshal(r.Text, &e) != nil { // what can be told of it; verifying the journal tells the rest
			e = journal.Entry{Number: r.Number, At: r.At, By: r.By, Action: r.Action, Object: r.Object,
				Detail: map[string]string{"damaged": "the text of this entry cannot be read"}}
		}
		out = append(out, e)
	}
	return out, err
}
