package store

import "time"

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

// Moves gives the steps of a lane, newest first.
func (d *DB) Moves(lane string) ([]Move, error) {
	return many[Move](d, "id DESC", 100, "lane = ?", lane)
}

// AddMove records a step of a lane.
func (d *DB) AddMove(m Move) error { return d.g.Create(&m).Error }
