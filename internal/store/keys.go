package store

import (
	"time"

	"stockade/core/trust"
)

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
