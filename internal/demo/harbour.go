package demo

import (
	"os"
	"path/filepath"
	"time"

	"stockade/core/trust"
	"stockade/internal/made"
)

// Harbour is another site of Skerry Reach, the harbour office's, as far as it is seen from
// the barrage: its key, and what it states about the keys of Tarn and Kelp.
type Harbour struct{ Key *trust.SiteKey }

// NewHarbour makes its key.
func NewHarbour() *Harbour {
	return &Harbour{made.Keys(made.Owner{Name: "Harbour office", Address: "stockade@harbour.skerry.example",
		Age: older})[0]}
}

// State gives its statement, as of a time. change, which may be nil, amends what it says.
func (h *Harbour) State(s *Scenario, at time.Time, change func(*trust.Statement)) ([]byte, error) {
	tarn, kelp := s.TarnKey.Certificate(), s.KelpKey.Certificate()
	compared := at.Add(-20 * 24 * time.Hour)
	st := trust.Statement{At: at.UTC().Truncate(time.Second), Bars: []trust.StatedBar{},
		Vouches: []trust.Stated{
			{Fingerprint: tarn.Fingerprint, Source: "tarn", Family: "deb", Release: "heron",
				Evidence: "Printed in the harbour's copy of the Tarn handbook, page 12", By: "ola",
				At: compared},
			{Fingerprint: kelp.Fingerprint, Source: "kelp", Family: "deb", Release: "heron",
				Evidence: "Read out by Kelp's service desk at the yard", By: "per", At: compared},
		}, Certificates: tarn.Armoured() + kelp.Armoured()}
	if change != nil {
		change(&st)
	}
	return h.Key.State(st)
}

// Write writes a statement, and the fingerprint that the harbour's warden reads out.
func (h *Harbour) Write(dir string, s *Scenario, at time.Time) error {
	text, err := h.State(s, at, nil)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(dir, "statement.asc"), text, 0o644); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(dir, "read-out.txt"),
		[]byte(trust.Spaced(h.Key.Certificate().Fingerprint)+"\n"), 0o644)
}
