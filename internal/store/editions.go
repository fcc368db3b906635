package store

import "time"

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
