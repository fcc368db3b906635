package edition

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
)

// Basis is what an edition was made from besides the packages themselves: definitions, decisions,
// and what was told. It is sealed with the edition. A build makes a new edition where its basis
// differs from that of the last one, even if the packages are the same: the edition's record,
// its proofs and machines' files would say something else.
//
// Which publication of a source an edition was made from (its digest, date and upstream) is not part
// of it: a publication in which nothing of a mirror changed makes no new edition.
type Basis struct {
	Mirror  definition.Mirror `json:"mirror"` // without its schedule, and how many editions it keeps
	Sources []BasisSource     `json:"sources"`
	// Beside are sources that machines have from elsewhere, and that proofs rest on.
	Beside []BasisSource `json:"beside,omitempty"`
	Groups []BasisGroup  `json:"groups,omitempty"`
	Lists  []BasisList   `json:"lists,omitempty"`
	// SiteKeys are the keys that the site signs with, where they are not the first one alone.
	SiteKeys string `json:"site_keys,omitempty"`
	Told     []Told `json:"told,omitempty"`
}

// UnmarshalJSON reads a basis. Editions of before have the baseline of their mirror under its former name.
func (b *Basis) UnmarshalJSON(raw []byte) error {
	type plain Basis
	if err := json.Unmarshal(raw, (*plain)(b)); err != nil || !bytes.Contains(raw, []byte(`"footing"`)) {
		return err
	}
	var former struct {
		Mirror struct {
			Footing definition.Baseline `json:"footing"`
		} `json:"mirror"`
	}
	if err := json.Unmarshal(raw, &former); err != nil {
		return err
	}
	if b.Mirror.Baseline.IsZero() {
		b.Mirror.Baseline = former.Mirror.Footing
	}
	return nil
}

// BasisSource is a source as it was described, and who may sign it.
type BasisSource struct {
	archive.Source
	Standing string `json:"standing"`
	Priority int    `json:"priority"`
	// Signers are the keys that count for it, each since which decision, and the rules for them.
	Signers []string `json:"signers"`
	// Unsigned is the reason why nobody has to sign it; empty: somebody has to.
	Unsigned      string `json:"unsigned,omitempty"`
	SecurityFixes bool   `json:"security_fixes,omitempty"`
}

// BasisGroup is a group as far as it decides what is taken and proved.
type BasisGroup struct {
	Name          string              `json:"name"`
	Family        string              `json:"family"`
	Release       string              `json:"release,omitempty"`
	Architectures []string            `json:"architectures,omitempty"`
	Foreign       []string            `json:"foreign,omitempty"`
	Pins          []string            `json:"pins,omitempty"`
	Roles         map[string][]string `json:"roles,omitempty"`
	Baseline      definition.Baseline `json:"baseline,omitzero"`
}

// BasisList is a list of packages, by the digest of what is on it.
type BasisList struct {
	Name   string `json:"name"`
	Family string `json:"family,omitempty"`
	SHA256 string `json:"sha256"`
}

// Told is a finding about packages, priorities or pins.
type Told struct {
	Code   finding.Code `json:"code"`
	Object string       `json:"object,omitempty"`
	Text   string       `json:"text"`
}

// ToldOf gives what is told of packages, priorities and pins. What is told of sources and keys is left out:
// it changes with the clock (an age, days to an end), and lists of findings have it anyway.
func ToldOf(found finding.List) (out []Told) {
	for _, f := range found {
		switch area, _, _ := strings.Cut(string(f.Code), "."); area {
		case "mirror", "content", "pin", "priority", "lane":
			out = append(out, Told{f.Code, f.Object, f.Text})
		}
	}
	slices.SortFunc(out, func(a, b Told) int {
		return strings.Compare(string(a.Code)+a.Object+a.Text, string(b.Code)+b.Object+b.Text)
	})
	return slices.Compact(out)
}

// Because tells in words what one edition says otherwise than an earlier one of its mirror, its
// packages left aside. None: nothing.
func Because(was, is *Edition) []string {
	if was.Basis == nil {
		return []string{was.Name() + " has no record of what it was made from"}
	}
	var out []string
	add := func(same bool, format string, args ...any) {
		if !same {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	a, b := was.Basis, is.Basis
	wantsOf := func(m definition.Mirror) any { return []any{m.From, m.Want, m.Together} }
	add(a.Mirror.Copy == b.Mirror.Copy, "the mirror's copy is %s (before: %s)", b.Mirror.Copy, a.Mirror.Copy)
	add(alike(wantsOf(a.Mirror), wantsOf(b.Mirror)), "what is wanted")
	add(a.Mirror.Complete == b.Mirror.Complete, "complete is %s (before: %s)", b.Mirror.Complete,
		a.Mirror.Complete)
	add(alike(a.Mirror.Baseline, b.Mirror.Baseline), "the baseline of the mirror")
	add(a.SiteKeys == b.SiteKeys, "the keys that the site signs with")
	out = append(out, eachNamed("source", a.Sources, b.Sources, func(s BasisSource) string { return s.Name },
		BasisSource.differs)...)
	out = append(out, eachNamed("baseline source", a.Beside, b.Beside,
		func(s BasisSource) string { return s.Name }, BasisSource.differs)...)
	out = append(out, eachNamed("group", a.Groups, b.Groups, func(g BasisGroup) string { return g.Name },
		BasisGroup.differs)...)
	out = append(out, eachNamed("list", a.Lists, b.Lists, func(l BasisList) string { return l.Name },
		func(x, y BasisList) []string {
			if x != y {
				return []string{"its packages"}
			}
			return nil
		})...)
	out = append(out, eachNamed("source", was.Sources, is.Sources, func(s Source) string { return s.Name },
		Source.publishedOtherwise)...)
	add(alike(was.Views, is.Views), "the views of groups")
	add(alike(was.Proofs, is.Proofs), "the proof")
	add(alike(a.Told, b.Told), "the findings")
	return slices.Compact(out)
}

// alike compares values that have no pointers, as they are written: an empty list is none.
func alike(a, b any) bool {
	x, err := json.Marshal(a)
	y, also := json.Marshal(b)
	if err != nil || also != nil {
		panic("edition: plain values do not marshal: " + errors.Join(err, also).Error())
	}
	blank := func(text []byte) bool {
		return slices.Contains([]string{"null", "[]", "{}"}, string(text))
	}
	return bytes.Equal(x, y) || blank(x) && blank(y)
}

// eachNamed compares lists of things that have names.
func eachNamed[T any](kind string, was, is []T, name func(T) string,
	differs func(was, is T) []string) (out []string) {
	find := func(in []T, of string) int {
		return slices.IndexFunc(in, func(x T) bool { return name(x) == of })
	}
	for _, x := range is {
		at := find(was, name(x))
		if at < 0 {
			out = append(out, fmt.Sprintf("%s %s is new", kind, name(x)))
			continue
		}
		for _, what := range differs(was[at], x) {
			out = append(out, fmt.Sprintf("%s %s: %s", kind, name(x), what))
		}
	}
	for _, x := range was {
		if find(is, name(x)) < 0 {
			out = append(out, fmt.Sprintf("%s %s is removed", kind, name(x)))
		}
	}
	return out
}

func (s BasisSource) differs(now BasisSource) (out []string) {
	for _, x := range []struct {
		what string
		same bool
	}{
		{"its description", alike(s.Source, now.Source)},
		{"its standing, " + now.Standing + " in place of " + s.Standing, s.Standing == now.Standing},
		{fmt.Sprintf("its priority, %d (before: %d)", now.Priority, s.Priority),
			s.Priority == now.Priority},
		{"its trusted keys", slices.Equal(s.Signers, now.Signers)},
		{"whether it is accepted as unsigned", s.Unsigned == now.Unsigned},
		{"whether its updates are security fixes", s.SecurityFixes == now.SecurityFixes},
	} {
		if !x.same {
			out = append(out, x.what)
		}
	}
	return out
}

func (g BasisGroup) differs(now BasisGroup) (out []string) {
	for _, x := range []struct {
		what string
		same bool
	}{
		{"its family, release or architectures", g.Family == now.Family && g.Release == now.Release &&
			alike(g.Architectures, now.Architectures) && alike(g.Foreign, now.Foreign)},
		{"its pins", alike(g.Pins, now.Pins)},
		{"its roles", alike(g.Roles, now.Roles)},
		{"its baseline", alike(g.Baseline, now.Baseline)},
	} {
		if !x.same {
			out = append(out, x.what)
		}
	}
	return out
}

// publishedOtherwise tells what machines' files, or the record of who signed, say otherwise of a
// source since its upstream published again.
func (s Source) publishedOtherwise(now Source) (out []string) {
	if s.Origin != now.Origin || s.Label != now.Label || s.Suite != now.Suite || s.Codename != now.Codename {
		out = append(out, "its origin, label, suite or codename")
	}
	if s.Signer.Fingerprint != now.Signer.Fingerprint {
		out = append(out, "its signer")
	}
	if !slices.Equal(s.Keys, now.Keys) {
		out = append(out, "its keys on machines")
	}
	if !alike(s.Streams, now.Streams) {
		out = append(out, "its module streams")
	}
	return out
}
