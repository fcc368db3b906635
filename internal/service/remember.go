package service

import (
	"stockade/core/definition"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/store"
)

// A source that is taken out and described again is the same repository: the root that
// was accepted of it last goes on guarding against older ones.

// remember keeps what was accepted of a source that is taken out.
func (s *Service) remember(tx *store.DB, set *definition.Set, name string) error {
	var a upstream.Accepted
	if _, there, err := tx.Kept("accepted", name, &a); err != nil || !there {
		return err
	}
	for _, id := range set.Identities(name) {
		if err := tx.Keep("remembered", id, a, s.now().UTC()); err != nil {
			return err
		}
	}
	return nil
}

// recall puts what was accepted of the same repository before in force for a
// source that is described anew.
func (s *Service) recall(tx *store.DB, set *definition.Set, name string) error {
	var newest *upstream.Accepted
	for _, id := range set.Identities(name) {
		var a upstream.Accepted
		_, there, err := tx.Kept("remembered", id, &a)
		if err != nil {
			return err
		}
		if there && (newest == nil || a.Date.After(newest.Date)) {
			newest = &a
		}
	}
	if newest == nil {
		return nil
	}
	newest.Source = name
	return tx.Keep("accepted", name, newest, s.now().UTC())
}

// endDecisions takes back the decisions for a source that is taken out: whoever
// describes it again needs a warden to decide again.
func (ch *change) endDecisions(tx *store.DB, t *trusted, source string, done map[vouching]bool) error {
	for _, v := range append(t.Vouches(), t.Waiting()...) {
		id := vouching{v.Fingerprint, v.Source}
		if v.Source != source || done[id] {
			continue
		}
		done[id] = true
		if err := ch.decide(tx, trust.Decision{Act: trust.Withdraw, Fingerprint: v.Fingerprint,
			Source: source,
			Why:    "the source was removed from the definitions"}); err != nil {
			return err
		}
	}
	return nil
}
