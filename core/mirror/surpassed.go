package mirror

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/core/upstream"
)

// maxSurpassed bounds how many packages that stay behind are told one by one.
const maxSurpassed = 50

// surpassed tells of packages that machines would stay behind with: where a want
// stands at one source and another has something newer, and where the better
// priority has the older version. Each is told once, whatever machines it is for.
func (b *Builder) surpassed(ctx context.Context, plan Plan, out *Outcome, members []int,
	all []solve.Surpassed) finding.List {
	source := func(k int) *upstream.Source { return plan.Sources[members[k]] }
	key := func(s solve.Surpassed) string {
		return strings.Join([]string{s.Have.Name, s.Have.Version, source(s.Source).Name, s.Newer.Version,
			source(s.Elsewhere).Name}, "\x00")
	}
	told := map[string]bool{}
	all = slices.DeleteFunc(slices.Clone(all), func(s solve.Surpassed) bool {
		k := key(s)
		before := told[k]
		told[k] = true
		return before
	})
	why, found := b.reasons(ctx, out, members, all)
	counts := map[finding.Code]int{}
	for _, s := range all {
		code, rated := finding.MirrorNewerElsewhere, severity(plan)
		switch {
		case s.Behind:
			code, rated = finding.PriorityHoldsBack, finding.Warning
		case s.Needer != nil:
			code, rated = finding.MirrorNeedHoldsBack, finding.Warning
		}
		if counts[code]++; counts[code] > maxSurpassed {
			continue
		}
		have, other := source(s.Source), source(s.Elsewhere)
		text := fmt.Sprintf("%s %s is taken from %s, but %s has %s", s.Have.Name, s.Have.Version, have.Name,
			other.Name, s.Newer.Version)
		switch code {
		case finding.MirrorNeedHoldsBack:
			text = fmt.Sprintf("%s %s of %s is taken, because %s %s requires %s. %s has %s", s.Have.Name,
				s.Have.Version, have.Name, s.Needer.Name, s.Needer.Version, s.Clause, other.Name,
				s.Newer.Version)
		case finding.PriorityHoldsBack:
			text = fmt.Sprintf("machines keep %s %s of %s (priority %d), because its priority "+
				"is better. %s (priority %d) has %s",
				s.Have.Name, s.Have.Version, have.Name, have.Priority, other.Name,
				other.Priority, s.Newer.Version)
		}
		if ids := why[s.Newer]; len(ids) > 0 {
			text += ", published for " + strings.Join(ids, ", ")
		}
		found = append(found, finding.New(code, "mirror "+plan.Name, "%s", text).Rated(rated))
	}
	for _, code := range []finding.Code{finding.MirrorNewerElsewhere, finding.MirrorNeedHoldsBack,
		finding.PriorityHoldsBack} {
		if n := counts[code] - maxSurpassed; n > 0 {
			rated := finding.Warning
			if code == finding.MirrorNewerElsewhere {
				rated = severity(plan)
			}
			found = append(found, finding.New(code, "mirror "+plan.Name,
				"the same applies to %s", finding.Count(n, "further package")).Rated(rated))
		}
	}
	return found
}

// reasons gives the advisories about the newer packages, and tells which lists of them could not
// be read.
func (b *Builder) reasons(ctx context.Context, out *Outcome, members []int,
	all []solve.Surpassed) (map[*archive.Package][]string, finding.List) {
	var found finding.List
	ids := map[*archive.Package][]string{}
	for k, i := range members {
		newer := map[archive.AdvisoryPackage]*archive.Package{}
		for _, s := range all {
			if s.Elsewhere == k {
				newer[archive.AdvisoryPackage{Name: s.Newer.Name, Version: s.Newer.Version,
					Arch: s.Newer.Arch}] = s.Newer
			}
		}
		pub := out.Publications[i]
		advised, list, ok := advisoryList(pub)
		if len(newer) == 0 || !ok {
			continue
		}
		plain, err := b.lore(ctx, pub.Source, list)
		if err == nil {
			err = advised.ReadAdvisories(plain, func(a *archive.Advisory) error {
				for _, p := range a.Packages {
					if n := newer[p]; n != nil && !slices.Contains(ids[n], a.ID) {
						ids[n] = append(ids[n], a.ID)
					}
				}
				return ctx.Err()
			})
			plain.Close()
		}
		if f, ok := finding.From(upstream.About(err, pub.Source.Name)); ok && ctx.Err() == nil {
			found = append(found, f.Rated(finding.Warning))
		}
	}
	return ids, found
}
