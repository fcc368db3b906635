package mirror

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/core/upstream"
)

// rivals tells what sources with packages of the same names come to for the machines of each
// group, and what waits behind its pins. It stops nothing: who describes the sources decides
// their priorities.
func (b *Builder) rivals(ctx context.Context, plan Plan, out *Outcome, members []int, u *solve.Universe,
	views []solve.View) error {
	source := func(k int) *upstream.Source { return plan.Sources[members[k]] }
	object := "mirror " + plan.Name
	told := map[string]bool{}
	add := func(f finding.Finding) {
		if !told[string(f.Code)+f.Text] {
			told[string(f.Code)+f.Text] = true
			out.Findings = append(out.Findings, f)
		}
	}
	for _, v := range views {
		if v.Name == "" {
			continue
		}
		if len(v.Pins) > 0 {
			b.behindPins(ctx, plan, out, members, u, v, add)
			continue
		}
		rivalry, err := u.Rivalry(ctx, v)
		if err != nil {
			return err
		}
		for _, r := range rivalry.Rivals {
			by, of := source(r.Taken), source(r.Of)
			example := fmt.Sprintf("%s %s instead of %s", r.First.Name, r.First.Version, r.Instead.Version)
			switch {
			case by.Standing == of.Standing:
			case by.Priority == of.Priority:
				one, other := by, of
				if one.Name > other.Name {
					one, other = other, one
				}
				add(finding.New(finding.PriorityTie, object,
					"%s (%s) and %s (%s) have the same priority, %d. For %s, %s %s the version of %s, "+
						"which is newer or is listed first: %s", one.Name, one.Standing,
					other.Name, other.Standing, by.Priority, packages(r.Names), v.Name,
					does(v.Name, "take"), by.Name, example))
			case of.Standing == definition.Official:
				f := finding.New(finding.PriorityShadowed, object,
					"%s %s %s of %s (%s, priority %d) from %s (%s, priority %d) instead: %s", v.Name,
					does(v.Name, "take"), packages(r.Names),
					of.Name, of.Standing,
					of.Priority, by.Name, by.Standing, by.Priority, example)
				if by.Standing == definition.House { // its own packages are meant to
					f = f.Rated(finding.Note)
				}
				add(f)
			}
		}
		for k := range members {
			if n := rivalry.Never[k]; n > 0 {
				add(finding.New(finding.PriorityNeverChosen, object,
					"no package of %s is a candidate for %s: each of its %s is replaced by "+
						"another source", source(k).Name, v.Name,
					packages(n)))
			}
		}
	}
	return nil
}

func packages(n int) string {
	if n == 1 {
		return "1 package"
	}
	return fmt.Sprintf("%d packages", n)
}

// behindPins tells of newer versions that wait behind the pins of a group, with what they were
// published for.
func (b *Builder) behindPins(ctx context.Context, plan Plan, out *Outcome, members []int, u *solve.Universe,
	v solve.View, add func(finding.Finding)) {
	waiting := u.Behind(ctx, v)
	var asked []solve.Surpassed
	for _, w := range waiting {
		asked = append(asked, solve.Surpassed{Have: w.Pinned, Newer: w.Newer, Elsewhere: w.Source})
	}
	why, found := b.reasons(ctx, out, members, asked)
	for _, f := range found {
		add(f)
	}
	group := strings.TrimSuffix(strings.TrimSuffix(v.Name, withPins), withTheirPins)
	for _, w := range waiting {
		text := fmt.Sprintf("%s %s on %s %s because of a pin. %s of %s is available", group,
			does(group, "stay"), w.Pinned.Name, w.Pinned.Version, w.Newer.Version,
			plan.Sources[members[w.Source]].Name)
		if ids := why[w.Newer]; len(ids) > 0 {
			slices.Sort(ids)
			text += ", published for " + strings.Join(ids, ", ")
		}
		add(finding.New(finding.PinHoldsBack, "mirror "+plan.Name, "%s", text))
	}
}
