package store

import (
	"fmt"
	"time"

	"gorm.io/gorm"
)

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
	func(g *gorm.DB) error { return g.AutoMigrate(&Credential{}) },
	func(g *gorm.DB) error { return g.AutoMigrate(&Record{}) }, // what people wrote of what is described
	// passwords, tokens that end, sessions of the console
	func(g *gorm.DB) error { return g.AutoMigrate(&Account{}, &Token{}, &Session{}) },
	func(g *gorm.DB) error { return g.AutoMigrate(&Machine{}, &Inventory{}) },
	// Whether it is known that updates are about security: machines are compared anew for that.
	func(g *gorm.DB) error {
		if err := g.AutoMigrate(&Machine{}); err != nil {
			return err
		}
		return g.Exec("UPDATE machines SET basis = ''").Error
	},
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
