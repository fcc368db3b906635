// Package store keeps the service's records in SQLite through GORM: what is
// described, revisions, certificates and the decisions about them, what was
// accepted, editions, lanes, jobs, accounts and the journal.
package store

import (
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/glebarez/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"

	"stockade/core/finding"
)

// ErrNotFound is returned when a record is not there.
var ErrNotFound = errors.New("no such record")

// DB is the open database. One connection writes; several read beside it, each what
// was committed last. Within a transaction everything is read through its own.
type DB struct {
	g, read *gorm.DB
	at      noting   // where changes are noted
	counts  *changes // of what was committed
}

// readers is how many connections read.
const readers = 4

// Open opens or makes the database at path and brings it to the newest form.
func Open(path string) (*DB, error) {
	// The database, and what SQLite lays beside it, is for its owner alone.
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, finding.Doing(err, "open the database %s", path)
	}
	err = errors.Join(f.Chmod(0o600), f.Close())
	if err != nil {
		return nil, finding.Doing(err, "keep the database %s from others", path)
	}
	for _, beside := range []string{"-wal", "-shm"} {
		if err := os.Chmod(path+beside, 0o600); err != nil && !errors.Is(err, os.ErrNotExist) {
			return nil, finding.Doing(err, "keep the database %s from others", path)
		}
	}
	g, err := connect(path, "&_pragma=synchronous(FULL)", 1) // SQLite answers faster than it locks
	if err != nil {
		return nil, err
	}
	if err := watch(g); err != nil {
		return nil, err
	}
	counts := &changes{of: map[Part]int64{}}
	g = noted(g, counts)
	db := &DB{g: g, read: g, at: counts, counts: counts}
	if err := db.migrate(); err != nil {
		return nil, fmt.Errorf("bring the database %s to its newest form: %w", path, err)
	}
	if db.read, err = connect(path, "&_pragma=query_only(1)", readers); err != nil {
		return nil, err
	}
	return db, nil
}

func connect(path, pragmas string, most int) (*gorm.DB, error) {
	dsn := "file:" + path +
		"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)" + pragmas
	g, err := gorm.Open(sqlite.Open(dsn), &gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true,
		NowFunc: func() time.Time {
			return time.Now().UTC()
		}})
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	raw, err := g.DB()
	if err != nil {
		return nil, err
	}
	raw.SetMaxOpenConns(most)
	raw.SetMaxIdleConns(most)
	return g, nil
}

// Close closes the database.
func (d *DB) Close() error {
	var failed error
	for _, g := range []*gorm.DB{d.read, d.g} {
		raw, err := g.DB()
		if err == nil {
			err = raw.Close()
		}
		failed = errors.Join(failed, err)
	}
	return failed
}

// Check asks SQLite whether the file is sound.
func (d *DB) Check() error {
	var answer string
	if err := d.g.Raw("PRAGMA integrity_check").Scan(&answer).Error; err != nil {
		return err
	}
	if answer != "ok" {
		return fmt.Errorf("the database is damaged: %s", answer)
	}
	return nil
}

func one[T any](d *DB, where string, args ...any) (T, error) {
	var v T
	err := d.read.Where(where, args...).Limit(1).Take(&v).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrNotFound
	}
	return v, err
}

func many[T any](d *DB, order string, limit int, where string, args ...any) ([]T, error) {
	out := []T{}
	q := d.read.Order(order)
	if where != "" {
		q = q.Where(where, args...)
	}
	if limit > 0 {
		q = q.Limit(limit)
	}
	return out, q.Find(&out).Error
}

// list is many without the columns that a list does not show.
func list[T any](d *DB, omit []string, order string, limit int, where string, args ...any) ([]T, error) {
	out := []T{}
	return out, d.read.Omit(omit...).Order(order).Limit(limit).Where(where, args...).Find(&out).Error
}

func (d *DB) save(v any) error {
	return d.g.Clauses(clause.OnConflict{UpdateAll: true}).Create(v).Error
}
