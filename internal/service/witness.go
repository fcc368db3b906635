package service

import (
	"context"
	"errors"
	"os"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/internal/api"
)

// journalHead gives the newest signed head.
func (s *Service) journalHead(*gin.Context) (any, error) {
	head, err := journal.Newest(s.db.Journal(), s.keys)
	if err != nil {
		return nil, err
	}
	signed, err := s.db.Journal().Checkpoint()
	return api.JournalHead{Head: signed, Key: s.keys.Public(), Entries: head.Size}, err
}

// journalProof proves that an entry is in the journal.
func (s *Service) journalProof(c *gin.Context) (any, error) {
	n, err := number(c, "number")
	if err != nil {
		return nil, err
	}
	text, err := journal.Prove(s.db.Journal(), s.keys, int64(n))
	if errors.Is(err, journal.ErrNoEntry) {
		return nil, finding.New(finding.DefineDanglingReference, "", "the journal has no entry %d", n).
			Do("run stockade journal list to see the entries")
	}
	return api.Text{Text: text}, err
}

// journalSince proves that the newest head goes on from an older one.
func (s *Service) journalSince(c *gin.Context) (any, error) {
	in, err := body[api.KeptHead](c)
	if err != nil {
		return nil, err
	}
	old, err := s.keys.Open(in.Head)
	if err != nil {
		return nil, err
	}
	text, err := journal.ProveSince(s.db.Journal(), s.keys, old)
	return api.Text{Text: text}, err
}

// witnessEvery is how often the head is written to the witness.
const witnessEvery = 5 * time.Second

// witness keeps the newest head in a file that lies elsewhere, such as on another machine's
// share: a journal that is put back to an earlier state, with all its records and seals, is
// contradicted by it. A head that contradicts the journal is never written over.
func (s *Service) witness(ctx context.Context) {
	t := time.NewTicker(witnessEvery)
	defer t.Stop()
	for last := ""; ; {
		signed, err := s.keepWitness(last)
		if err != nil && ctx.Err() == nil {
			s.log.Error("the witness was not written", "file", s.cfg.Witness, "error", err)
		}
		if last = signed; ctx.Err() != nil {
			return // written once more at the end
		}
		select {
		case <-ctx.Done():
		case <-t.C:
		}
	}
}

// keepWitness writes the newest head, unless it is the last that was written.
func (s *Service) keepWitness(last string) (signed string, err error) {
	signed, err = s.db.Journal().Checkpoint()
	if err != nil || signed == last || signed == "" {
		return last, err
	}
	if found := s.contradictsWitness(); len(found) > 0 {
		return last, found[0]
	}
	if _, err := journal.Newest(s.db.Journal(), s.keys); err != nil {
		return last, err
	}
	return signed, disk.Save(s.cfg.Witness, []byte(signed), 0o644)
}

// contradictsWitness tells when the witness knows a longer history, or another one.
func (s *Service) contradictsWitness() (out finding.List) {
	if s.cfg.Witness == "" {
		return nil
	}
	kept, err := os.ReadFile(s.cfg.Witness)
	if errors.Is(err, os.ErrNotExist) {
		return nil // it is written the first time
	}
	if err == nil {
		_, err = journal.Against(s.db.Journal(), s.keys, string(kept))
	}
	var broken *journal.Broken
	switch {
	case errors.As(err, &broken):
		out = append(out, finding.New(finding.JournalBroken, "journal",
			"the journal contradicts the head in the witness file %s: %s", s.cfg.Witness, broken.Text))
	case err != nil:
		out = append(out, finding.New(finding.JournalWitnessUnread, "journal",
			"the witness file %s cannot be compared: %v",
			s.cfg.Witness, err))
	}
	return out
}
