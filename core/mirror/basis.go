package mirror

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"maps"
	"slices"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/upstream"
)

// basisOf gives what an edition follows from, as far as it is known before anything is chosen.
func basisOf(plan Plan, publications, besides []*upstream.Publication) *edition.Basis {
	b := &edition.Basis{Mirror: plan.Mirror}
	// these change nothing of an edition
	b.Mirror.Schedule, b.Mirror.VerifySchedule, b.Mirror.Keep = "", "", 0
	if plan.Mirror.Copy == definition.Tailored {
		b.SiteKeys = plan.Renewed
	}
	for _, p := range publications {
		b.Sources = append(b.Sources, basisOfSource(p.Source))
	}
	for _, p := range besides {
		b.Beside = append(b.Beside, basisOfSource(p.Source))
	}
	for _, name := range slices.Sorted(maps.Keys(plan.Groups)) {
		g := plan.Groups[name]
		b.Groups = append(b.Groups, edition.BasisGroup{Name: name, Family: g.Family, Release: g.Release,
			Architectures: g.Architectures, Foreign: g.Foreign, Pins: g.Pins, Roles: g.Roles,
			Baseline: g.Baseline})
	}
	for _, name := range slices.Sorted(maps.Keys(plan.Lists)) {
		l := plan.Lists[name]
		b.Lists = append(b.Lists, edition.BasisList{Name: name, Family: l.Family,
			SHA256: digestOf(l.Packages)})
	}
	return b
}

// basisOfSource is what an edition follows from of a source.
func basisOfSource(s *upstream.Source) edition.BasisSource {
	out := edition.BasisSource{Source: s.Spec, Standing: s.Standing, Priority: s.Priority,
		Signers: s.Keyring.Decided()}
	out.SecurityFixes = s.SecurityFixes
	if s.Unsigned != nil {
		out.Unsigned = s.Unsigned.Reason
	}
	return out
}

// inputs is a digest over a basis and the publications: over everything that an edition follows
// from.
func inputs(b *edition.Basis, publications []*upstream.Publication) string {
	var digests []string
	for _, p := range publications {
		digests = append(digests, p.Source.Name+" "+p.Accepted.Digest)
	}
	return digestOf([]any{b, digests})
}

func digestOf(v any) string {
	text, err := json.Marshal(v)
	if err != nil {
		panic("mirror: plain values do not marshal: " + err.Error())
	}
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}
