package service

import (
	"crypto/sha256"
	"encoding/hex"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/upstream"
	"stockade/internal/api"
)

// asideKey is what a finding is known by while it is set aside. One that gets worse is another,
// and so is one that says something else of the same object; numbers in it, such as its age or a
// version, may change.
type asideKey struct{ object, code, cause, severity, about string }

func keyOf(f finding.Finding) asideKey {
	return asideKey{f.Object, string(f.Code), f.Cause, string(f.Severity), saying(f.Text)}
}

func asideOf(e journal.Entry) asideKey {
	about := e.Detail["about"]
	if text := e.Detail["text"]; text != "" { // until December 2026 the digest left all digits out
		about = saying(text)
	}
	return asideKey{e.Object, e.Detail["code"], e.Detail["cause"], e.Detail["severity"], about}
}

// saying is a digest of what a text says, whatever numbers stand in it: the digits of words that begin
// with one, such as counts, dates and versions, are left out. Those of names are not, since libtide2 and
// libtide3 are two packages.
func saying(text string) string {
	within, number := false, false // a word; one that begins with a digit
	said := strings.Map(func(r rune) rune {
		switch word := unicode.IsLetter(r) || unicode.IsDigit(r); {
		case unicode.IsSpace(r):
			within, number = false, false
		case word && !within:
			within, number = true, unicode.IsDigit(r)
		}
		if number && unicode.IsDigit(r) {
			return -1
		}
		return r
	}, text)
	sum := sha256.Sum256([]byte(said))
	return hex.EncodeToString(sum[:8])
}

// asideMost is how far ahead something can be set aside.
const asideMost = 366 * 24 * time.Hour

// setApart takes out of what needs somebody what was set aside and is so still.
func (m *model) setApart(all finding.List, at time.Time) (needs finding.List, aside []api.Aside) {
	now := m.force
	needs, aside = finding.List{}, []api.Aside{}
	for _, f := range all {
		a, ok := now.aside[keyOf(f)]
		if now.broken != nil || !ok || !at.Before(a.Until) {
			needs = append(needs, f)
			continue
		}
		a.Finding = f
		aside = append(aside, a)
	}
	return needs, aside
}

// handleSetAside sets a finding aside that is told now. What contradicts the journal stays.
func (s *Service) handleSetAside(c *gin.Context) (any, error) {
	in, err := body[api.AsideAsked](c)
	if err != nil {
		return nil, err
	}
	key := asideKey{in.Object, string(in.Code), in.Cause, string(in.Severity), saying(in.Text)}
	_, all, err := s.toldNow()
	if err != nil {
		return nil, err
	}
	told := slices.ContainsFunc(all.needsYou(), func(f finding.Finding) bool { return keyOf(f) == key })
	now := s.now()
	switch {
	case !told:
		return nil, finding.New(finding.DefineDanglingReference, finding.Harmless(in.Object),
			"no finding with the code %s needs attention there", finding.Harmless(string(in.Code))).
			Do("reload the list: the problem may be solved")
	case in.Code == finding.JournalBroken:
		return nil, finding.New(finding.DefineBadValue, in.Object,
			"a contradiction with the journal cannot be snoozed")
	case strings.TrimSpace(in.Reason) == "" || len(in.Reason) > 1000:
		return nil, finding.New(finding.DefineMissingField, in.Object,
			"the reason is missing, or longer than a "+
				"thousand characters")
	case !in.Until.After(now) || in.Until.Sub(now) > asideMost:
		return nil, finding.New(finding.DefineBadValue, in.Object,
			"%s is not a date within the next year", in.Until.UTC().Format(time.DateOnly))
	}
	if err := s.record(asking(c), "finding.set-aside", in.Object, key.detail(map[string]string{
		"until": in.Until.UTC().Format(time.RFC3339), "reason": in.Reason, "text": in.Text})); err != nil {
		return nil, err
	}
	return s.told()
}

func (k asideKey) detail(more map[string]string) map[string]string {
	more["code"], more["severity"], more["about"] = k.code, k.severity, k.about
	if k.cause != "" {
		more["cause"] = k.cause
	}
	return more
}

func (s *Service) handleTakeUp(c *gin.Context) (any, error) {
	key := asideKey{c.Query("object"), c.Query("code"), c.Query("cause"), c.Query("severity"),
		saying(c.Query("text"))}
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, err
	}
	if _, ok := now.aside[key]; !ok {
		return nil, finding.New(finding.DefineDanglingReference, finding.Harmless(key.object),
			"no finding with the code %s is snoozed there", finding.Harmless(key.code))
	}
	if err := s.record(asking(c), "finding.take-up", key.object,
		key.detail(map[string]string{"text": c.Query("text")})); err != nil {
		return nil, err
	}
	return s.told()
}

// A visit ends when nobody looked for so long.
const visitGap = 30 * time.Minute

type visit struct {
	Seen  time.Time `json:"seen"`
	Since time.Time `json:"since"` // when the visit before was last seen
}

// handleVisit notes that an account looks, and tells since when it did not.
func (s *Service) handleVisit(c *gin.Context) (any, error) {
	name, now := who(c).Name, s.now().UTC()
	var v visit
	_, there, err := s.db.Kept("visit", name, &v)
	if err != nil {
		return nil, err
	}
	if there && now.Sub(v.Seen) > visitGap {
		v.Since = v.Seen
	}
	v.Seen = now
	if err := s.db.KeepQuietly("visit", name, v, now); err != nil {
		return nil, err
	}
	if v.Since.IsZero() {
		return api.Visit{}, nil
	}
	return api.Visit{Since: &v.Since}, nil
}

// How much of what is new is told.
const (
	newMost     = 50
	entriesMost = 1000
)

// newSince gives what happened since a time.
func (s *Service) newSince(m *model, at time.Time, lanes []api.Lane) (*api.Since, error) {
	out := &api.Since{At: at, Roots: []api.NewRoot{}, Editions: []string{}, Moves: []api.LaneMove{},
		Failures: []api.Job{}}
	// The days are kept when a root is another than the one before, and not at each refresh.
	for _, name := range slices.Sorted(maps.Keys(m.kept["days"])) {
		k := m.kept["days"][name]
		if _, there := m.set.Sources[name]; !there || !k.At.After(at) || len(out.Roots) == newMost {
			continue
		}
		var a upstream.Accepted
		_, there, err := m.keptOf("accepted", name, &a)
		if err != nil {
			return nil, err
		}
		if there {
			out.Roots = append(out.Roots, api.NewRoot{Source: name, Date: a.Date, At: k.At})
		}
	}
	for _, e := range m.editionsOf("") {
		if e.Created.After(at) && len(out.Editions) < newMost {
			out.Editions = append(out.Editions, e.Name)
		}
	}
	for _, l := range lanes {
		for _, step := range l.History {
			if step.At.After(at) && len(out.Moves) < newMost {
				out.Moves = append(out.Moves, api.LaneMove{Lane: l.Name, Step: step})
			}
		}
	}
	failed, err := s.db.FailedSince(at, newMost)
	if err != nil {
		return nil, err
	}
	for _, j := range failed {
		out.Failures = append(out.Failures, s.jobs.brief(j))
	}
	rows, err := s.db.JournalPage(-1, entriesMost, "", time.Time{})
	if err != nil {
		return nil, err
	}
	for _, e := range rows {
		if !e.At.After(at) {
			break
		}
		out.Entries++
	}
	return out, nil
}
