package service

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/mirror"
	"stockade/internal/api"
)

// asideKey is what a finding is known by while it is set aside. One that gets worse is another,
// and so is one that says something else of the same object; numbers in it, such as its age or a
// version, may change.
type asideKey struct{ object, code, cause, severity, about string }

func keyOf(f finding.Finding) asideKey {
	return asideKey{f.Object, f.Code, f.Cause, string(f.Severity), saying(f.Text)}
}

func asideOf(e journal.Entry) asideKey {
	return asideKey{e.Object, e.Detail["code"], e.Detail["cause"], e.Detail["severity"], e.Detail["about"]}
}

// saying is a digest of what a text says, whatever numbers stand in it.
func saying(text string) string {
	said := strings.Map(func(r rune) rune {
		if unicode.IsDigit(r) {
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
func (s *Service) setApart(all finding.List) (needs finding.List, aside []api.Aside, err error) {
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, nil, err
	}
	needs, aside = finding.List{}, []api.Aside{}
	for _, f := range all {
		a, ok := now.aside[keyOf(f)]
		if now.broken != nil || !ok || !s.now().Before(a.Until) {
			needs = append(needs, f)
			continue
		}
		a.Finding = f
		aside = append(aside, a)
	}
	return needs, aside, nil
}

// handleSetAside sets a finding aside that is told now. What contradicts the journal stays.
func (s *Service) handleSetAside(c *gin.Context) (any, error) {
	in, err := body[api.AsideAsked](c)
	if err != nil {
		return nil, err
	}
	key := asideKey{in.Object, in.Code, in.Cause, string(in.Severity), saying(in.Text)}
	_, all, err := s.toldNow()
	if err != nil {
		return nil, err
	}
	told := slices.ContainsFunc(all.needsYou(), func(f finding.Finding) bool { return keyOf(f) == key })
	now := s.now()
	switch {
	case !told:
		return nil, finding.New("define.dangling-reference", finding.Harmless(in.Object),
			"nothing with the code %s needs somebody there", finding.Harmless(in.Code)).
			Do("look again: it may have been mended")
	case in.Code == "journal.broken":
		return nil, finding.New("define.bad-value", in.Object,
			"what contradicts the journal cannot be set aside")
	case strings.TrimSpace(in.Reason) == "" || len(in.Reason) > 1000:
		return nil, finding.New("define.missing-field", in.Object,
			"the reason is missing, or longer than a "+
				"thousand characters")
	case !in.Until.After(now) || in.Until.Sub(now) > asideMost:
		return nil, finding.New("define.bad-value", in.Object,
			"%s is not a date within the next year", in.Until.UTC().Format(time.DateOnly))
	}
	if err := s.record(asking(c), "finding.set-aside", in.Object, key.detail(map[string]string{
		"until": in.Until.UTC().Format(time.RFC3339), "reason": in.Reason, "text": in.Text})); err != nil {
		return nil, err
	}
	return s.overview(time.Time{})
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
		return nil, finding.New("define.dangling-reference", finding.Harmless(key.object),
			"nothing with the code %s was set aside there", finding.Harmless(key.code))
	}
	if err := s.record(asking(c), "finding.take-up", key.object,
		key.detail(map[string]string{})); err != nil {
		return nil, err
	}
	return s.overview(time.Time{})
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
func (s *Service) newSince(at time.Time, sources []string, lanes []api.Lane,
	editions []api.Edition) (*api.Since, error) {
	out := &api.Since{At: at, Roots: []api.NewRoot{}, Editions: []string{}, Moves: []api.LaneMove{},
		Failures: []api.Job{}}
	// The days are kept when a root is another than the one before, and not at each refresh.
	kept, err := s.db.AllKept("days")
	if err != nil {
		return nil, err
	}
	for _, k := range kept {
		if !k.At.After(at) || !slices.Contains(sources, k.Name) || len(out.Roots) == newMost {
			continue
		}
		var a mirror.Accepted
		_, there, err := s.db.Kept("accepted", k.Name, &a)
		if err != nil {
			return nil, err
		}
		if there {
			out.Roots = append(out.Roots, api.NewRoot{Source: k.Name, Date: a.Date, At: k.At})
		}
	}
	for _, e := range editions {
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
