// Package store keeps the service's records in SQLite through GORM: what is
// described, revisions, certificates and the decisions about them, what was
// accepted, editions, lanes, jobs, accounts and the journal.
package store

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"time"

	"github.com/glebarez/sqlite"
	"golang.org/x/mod/sumdb/tlog"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/trust"
	"stockade/internal/api"
)

// ErrNotFound is returned when a record is not there.
var ErrNotFound = errors.New("no such record")

// DB is the open database.
type DB struct{ g *gorm.DB }

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
	dsn := "file:" + path +
		"?_pragma=journal_mode(WAL)&_pragma=busy_timeout(10000)&_pragma=foreign_keys(1)" +
		"&_pragma=synchronous(FULL)"
	g, err := gorm.Open(sqlite.Open(dsn), &gorm.Config{Logger: logger.Discard, NowFunc: func() time.Time {
		return time.Now().UTC()
	}})
	if err != nil {
		return nil, fmt.Errorf("open the database %s: %w", path, err)
	}
	raw, err := g.DB()
	if err != nil {
		return nil, err
	}
	raw.SetMaxOpenConns(1) // one writer; SQLite answers faster than it locks
	db := &DB{g}
	if err := db.migrate(); err != nil {
		return nil, fmt.Errorf("bring the database %s to its newest form: %w", path, err)
	}
	return db, nil
}

// Close closes the database.
func (d *DB) Close() error {
	raw, err := d.g.DB()
	if err != nil {
		return err
	}
	return raw.Close()
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

// Tx runs f in one transaction: all of it happens or nothing.
func (d *DB) Tx(f func(tx *DB) error) error {
	return d.g.Transaction(func(g *gorm.DB) error { return f(&DB{g}) })
}

type schemaVersion struct{ Version int }

var migrations = []func(*gorm.DB) error{
	func(g *gorm.DB) error {
		return g.AutoMigrate(&Record{}, &Revision{}, &Certificate{}, &vouch{}, &bar{}, &Kept{},
			&Edition{}, &Move{}, &Job{},
			&Account{}, &Token{}, &journalEntry{}, &journalHash{}, &journalHead{})
	},
	// The newest job of each kind on each object is asked for every few seconds.
	func(g *gorm.DB) error { return g.Exec("CREATE INDEX jobs_last ON jobs (kind, object, id)").Error },
	decisionsAdded,
}

// vouch and bar are decisions as they were recorded first: a vouch that was taken back
// was deleted.
type vouch struct {
	Fingerprint string `gorm:"primaryKey"`
	Source      string `gorm:"primaryKey"`
	Evidence    string
	By          string
	At          time.Time
}

type bar struct {
	Fingerprint string `gorm:"primaryKey"`
	Reason      string
	By          string
	At          time.Time
}

// decisionsAdded makes of vouches and bars decisions that are only ever added.
func decisionsAdded(g *gorm.DB) error {
	if err := g.AutoMigrate(&Decision{}); err != nil {
		return err
	}
	for _, sql := range []string{
		"INSERT INTO decisions (act, fingerprint, source, why, `by`, at, by_hand) " +
			"SELECT 'vouch', fingerprint, source, evidence, `by`, at, 0 FROM vouches ORDER BY at",
		"INSERT INTO decisions (act, fingerprint, source, why, `by`, at, by_hand) " +
			"SELECT 'bar', fingerprint, '', reason, `by`, at, 0 FROM bars ORDER BY at",
		"DROP TABLE vouches",
		"DROP TABLE bars",
	} {
		if err := g.Exec(sql).Error; err != nil {
			return err
		}
	}
	return nil
}

func (d *DB) migrate() error {
	if err := d.g.AutoMigrate(&schemaVersion{}); err != nil {
		return err
	}
	var v schemaVersion
	d.g.Limit(1).Find(&v)
	if v.Version > len(migrations) {
		return fmt.Errorf("it was written by a newer Stockade (form %d, and %d is known)",
			v.Version, len(migrations))
	}
	for i := v.Version; i < len(migrations); i++ {
		if err := d.g.Transaction(func(g *gorm.DB) error {
			if err := migrations[i](g); err != nil {
				return err
			}
			if err := g.Exec("DELETE FROM schema_versions").Error; err != nil {
				return err
			}
			return g.Create(&schemaVersion{i + 1}).Error
		}); err != nil {
			return fmt.Errorf("step %d: %w", i+1, err)
		}
	}
	return nil
}

// Record is one described thing, as JSON.
type Record struct {
	Kind     string `gorm:"primaryKey"`
	Name     string `gorm:"primaryKey"`
	Body     string
	Revision int64
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

// Certificate is one that was brought in.
type Certificate struct {
	Fingerprint string `gorm:"primaryKey"`
	Armoured    string
	At          time.Time
	By          string
}

// Decision is one that was taken about a key. Rows are only ever added.
type Decision struct {
	ID          int64     `gorm:"primaryKey" json:"id"`
	Act         string    `json:"act"`
	Fingerprint string    `gorm:"index" json:"fingerprint"`
	Source      string    `json:"source"`
	Why         string    `json:"why"`
	By          string    `json:"by"`
	At          time.Time `json:"at"`
	ByHand      bool      `json:"by_hand"`
}

// Kept is the newest of something that is replaced whole: accepted roots,
// findings of a check, probe results. Body is JSON.
type Kept struct {
	Kind string `gorm:"primaryKey"`
	Name string `gorm:"primaryKey"`
	At   time.Time
	Body string
}

// Edition is one sealed edition that exists.
type Edition struct {
	Mirror   string    `gorm:"primaryKey" json:"mirror"`
	Number   int       `gorm:"primaryKey" json:"number"`
	Created  time.Time `json:"created"`
	Files    int       `json:"files"`
	Bytes    int64     `json:"bytes"`
	Packages int       `json:"packages"`
	Copy     string    `json:"copy"`
	Retired  bool      `json:"retired"`
}

// Move is one step of a lane.
type Move struct {
	ID      int64     `gorm:"primaryKey" json:"id"`
	Lane    string    `gorm:"index" json:"lane"`
	Mirror  string    `json:"mirror"`
	Edition int       `json:"edition"`
	At      time.Time `json:"at"`
	By      string    `json:"by"`
	Reason  string    `json:"reason"`
	Back    bool      `json:"back"` // a step back
}

// Job is a piece of work that takes time. States: running, done, failed,
// stopped, interrupted.
type Job struct {
	ID       int64 `gorm:"primaryKey"`
	Kind     string
	Object   string       `gorm:"index"`
	State    api.JobState `gorm:"index"`
	By       string
	Started  time.Time
	Ended    *time.Time
	Progress string // JSON
	Problem  string // what went wrong, in people's words
	Findings string // JSON
	Result   string // JSON
}

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

func one[T any](d *DB, where string, args ...any) (T, error) {
	var v T
	err := d.g.Where(where, args...).Limit(1).Take(&v).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = ErrNotFound
	}
	return v, err
}

func many[T any](d *DB, order string, limit int, where string, args ...any) ([]T, error) {
	out := []T{}
	q := d.g.Order(order)
	if where != "" {
		q = q.Where(where, args...)
	}
	if limit > 0 {
		q = q.Limit(limit)
	}
	return out, q.Find(&out).Error
}

func (d *DB) save(v any) error {
	return d.g.Clauses(clause.OnConflict{UpdateAll: true}).Create(v).Error
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
				Revision: rev.ID})
		}
		if err != nil {
			return rev, err
		}
	}
	return rev, nil
}

// Revisions gives the newest revisions before a number (0: all).
func (d *DB) Revisions(before int64, limit int) ([]Revision, error) {
	if before > 0 {
		return many[Revision](d, "id DESC", limit, "id < ?", before)
	}
	return many[Revision](d, "id DESC", limit, "")
}

// EachRevision calls f for every revision, oldest first, a few at a time.
func (d *DB) EachRevision(f func(Revision) error) error {
	const page = 50
	for from := int64(0); ; {
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

// Certificates gives all certificates.
func (d *DB) Certificates() ([]Certificate, error) {
	return many[Certificate](d, "at, fingerprint", 0, "")
}

// CertificateBy gives one certificate.
func (d *DB) CertificateBy(fingerprint string) (Certificate, error) {
	return one[Certificate](d, "fingerprint = ?", fingerprint)
}

// SaveCertificate brings one in; one that is there is renewed.
func (d *DB) SaveCertificate(c Certificate) error { return d.save(&c) }

// Decisions gives those that are recorded, in their order.
func (d *DB) Decisions() (*trust.Decisions, error) {
	rows, err := many[Decision](d, "id", 0, "")
	out := &trust.Decisions{}
	for _, r := range rows {
		out.Add(trust.Decision{Act: trust.Act(r.Act), Fingerprint: r.Fingerprint,
			Source: r.Source, Why: r.Why,
			By: r.By, At: r.At, ByHand: r.ByHand})
	}
	return out, err
}

// AddDecision records one more.
func (d *DB) AddDecision(n trust.Decision) error {
	return d.g.Create(&Decision{Act: string(n.Act), Fingerprint: n.Fingerprint, Source: n.Source, Why: n.Why,
		By: n.By, At: n.At, ByHand: n.ByHand}).Error
}

// Keep replaces the newest of something.
func (d *DB) Keep(kind, name string, v any, at time.Time) error {
	raw, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return d.save(&Kept{Kind: kind, Name: name, At: at, Body: string(raw)})
}

// Kept reads it; ErrNotFound when there is none.
func (d *DB) Kept(kind, name string, v any) (time.Time, error) {
	k, err := one[Kept](d, "kind = ? AND name = ?", kind, name)
	if err != nil {
		return time.Time{}, err
	}
	return k.At, json.Unmarshal([]byte(k.Body), v)
}

// AllKept gives everything of one kind.
func (d *DB) AllKept(kind string) ([]Kept, error) { return many[Kept](d, "name", 0, "kind = ?", kind) }

// Drop forgets it.
func (d *DB) Drop(kind, name string) error { return d.g.Delete(&Kept{Kind: kind, Name: name}).Error }

// Editions gives the editions of a mirror, or of all, newest first.
func (d *DB) Editions(mirror string) ([]Edition, error) {
	if mirror == "" {
		return many[Edition](d, "mirror, number DESC", 0, "")
	}
	return many[Edition](d, "number DESC", 0, "mirror = ?", mirror)
}

// EditionBy gives one edition.
func (d *DB) EditionBy(mirror string, number int) (Edition, error) {
	return one[Edition](d, "mirror = ? AND number = ?", mirror, number)
}

// SaveEdition makes an edition exist, or changes its record.
func (d *DB) SaveEdition(e Edition) error { return d.save(&e) }

// Moves gives the steps of a lane, newest first.
func (d *DB) Moves(lane string) ([]Move, error) {
	return many[Move](d, "id DESC", 100, "lane = ?", lane)
}

// AddMove records a step of a lane.
func (d *DB) AddMove(m Move) error { return d.g.Create(&m).Error }

// AddJob records a new job.
func (d *DB) AddJob(j *Job) error { return d.g.Create(j).Error }

// SaveJob records how a job stands.
func (d *DB) SaveJob(j Job) error { return d.save(&j) }

// JobBy gives one job.
func (d *DB) JobBy(id int64) (Job, error) { return one[Job](d, "id = ?", id) }

// Jobs gives the newest jobs before a number (0: all), perhaps of one state.
func (d *DB) Jobs(state string, before int64, limit int) ([]Job, error) {
	if before == 0 {
		before = 1 << 62
	}
	if state == "" {
		return many[Job](d, "id DESC", limit, "id < ?", before)
	}
	return many[Job](d, "id DESC", limit, "id < ? AND state = ?", before, state)
}

// LastJobs gives the newest job of each kind on each object.
func (d *DB) LastJobs() ([]Job, error) {
	return many[Job](d, "id", 0, "id IN (SELECT MAX(id) FROM jobs GROUP BY kind, object)")
}

// Interrupt marks the jobs that were running when the service ended.
func (d *DB) Interrupt(at time.Time) (int64, error) {
	r := d.g.Model(&Job{}).Where("state = ?", api.Running).Updates(map[string]any{"state": api.Interrupted,
		"ended":   at,
		"problem": "the service ended while it ran; run it again: what was verified is kept"})
	return r.RowsAffected, r.Error
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
	err := s.d.g.Model(&journalEntry{}).Select("MAX(number) + 1").Scan(&n).Error
	if n == nil {
		return 0, err
	}
	return *n, err
}

func (s journalStore) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	for i, x := range indexes {
		h, err := one[journalHash](s.d, "`index` = ?", x)
		if err != nil {
			return nil, fmt.Errorf("the journal's hash %d: %w", x, err)
		}
		copy(out[i][:], h.Hash)
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
// perhaps only those about an object or of an action.
func (d *DB) JournalPage(before int64, limit int, like string) ([]journal.Entry, error) {
	if before < 0 {
		before = 1 << 62
	}
	where, args := "number < ?", []any{before}
	if like != "" {
		where += " AND (object LIKE ? OR action LIKE ? OR `by` LIKE ?)"
		args = append(args, "%"+like+"%", "%"+like+"%", "%"+like+"%")
	}
	rows, err := many[journalEntry](d, "number DESC", limit, where, args...)
	out := make([]journal.Entry, 0, len(rows))
	for _, r := range rows {
		var e journal.Entry
		if json.Unmarshal(r.Text, &e) == nil {
			out = append(out, e)
		}
	}
	return out, err
}
