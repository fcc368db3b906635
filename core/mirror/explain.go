package mirror

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/solve"
)

// severity is what an incomplete selection means for this mirror.
func severity(plan Plan) finding.Severity {
	if plan.Mirror.Complete == definition.Told {
		return finding.Warning
	}
	return finding.Error
}

// maxTold bounds the findings of one kind about one mirror.
const maxTold = 200

func (b *Builder) explain(ctx context.Context, plan Plan, made *Outcome, members []int,
	s *solve.Selection) finding.List {
	object := "mirror " + plan.Name
	var out finding.List
	for _, m := range s.Unmatched {
		if m.Source == solve.AllSources {
			out = append(out, unmatchedAnywhere(plan, members, m))
			continue
		}
		src := plan.Sources[members[m.Source]]
		if m.As == "everything" {
			f := finding.New("mirror.want-no-match", object, "the source %s has no packages",
				src.Name).Rated(finding.Warning)
			out = append(out, f)
			continue
		}
		f := finding.New("mirror.want-no-match", object, "%q matches nothing in %s", m.As,
			src.Name).Rated(severity(plan))
		switch {
		case len(m.Versions) > 0:
			f.WayOut = "it has " + m.Relation.Name + " in " + strings.Join(m.Versions, ", ")
		case len(m.Near) > 0:
			f.WayOut = "perhaps " + strings.Join(m.Near, " or ") + " is meant"
		}
		out = append(out, f)
	}
	var elsewhere *lookup
	missing := together(withoutPins(s.Missing, func(m solve.Missing) (string, string) {
		return m.View, m.Needer.Name + " " + m.Needer.Version + m.Clause.String() + m.Arch
	}))
	for i, m := range missing {
		if i >= maxTold {
			out = append(out, finding.New("mirror.missing-dependency", object,
				"%d further needs cannot be met", len(missing)-i).Rated(severity(plan)))
			break
		}
		none := "no source of the mirror"
		if m.View != "" {
			none = "no source that " + m.View + " sees"
		}
		f := finding.New("mirror.missing-dependency", object, "%s %s, and %s has it for %s",
			m.who(), m.Clause.String(), none, strings.Join(m.archs, ", ")).Rated(severity(plan))
		if len(m.needers) == 1 && len(m.Chain) > 1 {
			f.Text += " (wanted by way of " + strings.Join(m.Chain, " → ") + ")"
		}
		switch {
		case len(m.Excepted) > 0:
			f.WayOut = strings.Join(m.Excepted, ", ") + " would do, but is excepted"
		default:
			if elsewhere == nil {
				elsewhere = b.lookAround(ctx, plan, plan.Sources[members[0]].Spec.Family)
			}
			f.WayOut = elsewhere.advise(m.Missing)
		}
		out = append(out, f)
	}
	for _, c := range withoutPins(s.Conflicts, func(c solve.Conflict) (string, string) {
		return c.View, c.Wanted.String() + c.Arch
	}) {
		out = append(out, finding.New("mirror.conflict", object, "%s", c.String()).Rated(severity(plan)))
	}
	undecided := withoutPins(s.Undecided, func(u solve.Undecided) (string, string) {
		return u.View, u.Wanted.String() + u.Arch
	})
	for i, n := range undecided {
		if i == maxTold {
			out = append(out, finding.New("mirror.not-proved", object,
				"%d further packages were not decided on", len(undecided)-i).Rated(severity(plan)))
			break
		}
		out = append(out, finding.New("mirror.not-proved", object,
			"whether %s can be installed %s is not known: %s", n.Wanted, n.Where(),
			n.Because).Rated(severity(plan)))
	}
	for _, d := range s.Damaged {
		if f, ok := finding.From(d); ok {
			out = append(out, f.Rated(severity(plan)))
		}
	}
	return append(out, b.surpassed(ctx, plan, made, members, s.Surpassed)...)
}

// unmatchedAnywhere tells of a want of the mirror that machines of no view would
// take anything for.
func unmatchedAnywhere(plan Plan, members []int, m solve.Unmatched) finding.Finding {
	f := finding.New("mirror.want-no-match", "mirror "+plan.Name,
		"%q matches nothing that machines would take from its sources", m.As).Rated(severity(plan))
	switch {
	case len(m.Offers) > 0:
		var have []string
		for _, o := range m.Offers {
			src := plan.Sources[members[o.Source]]
			have = append(have, fmt.Sprintf("%s in %s (priority %d)", o.Version, src.Name, src.Priority))
		}
		f.WayOut = "there is " + m.Relation.Name + " " + strings.Join(have, ", ") +
			"; machines take it from the best priority alone"
	case len(m.Near) > 0:
		f.WayOut = "perhaps " + strings.Join(m.Near, " or ") + " is meant"
	}
	return f
}

// withoutPins leaves out what is the same with the pins of a group as it is without
// them. key gives the name of the view, and what is the same.
func withoutPins[T any](all []T, key func(T) (view, what string)) (out []T) {
	told := map[[2]string]bool{}
	for _, x := range all {
		view, what := key(x)
		if told[[2]string{strings.TrimSuffix(view, withPins), what}] {
			continue
		}
		told[[2]string{view, what}] = true
		out = append(out, x)
	}
	return out
}

// need is something missing with everything that needs it.
type need struct {
	solve.Missing
	needers, archs []string
}

// who names the first three that need it and counts the others.
func (n need) who() string {
	switch {
	case len(n.needers) == 1:
		return n.needers[0] + " needs"
	case len(n.needers) <= 3:
		return strings.Join(n.needers, " and ") + " need"
	}
	return fmt.Sprintf("%s and %d others need", strings.Join(n.needers[:3], ", "), len(n.needers)-3)
}

// together merges what is missing alike for several packages or architectures.
func together(all []solve.Missing) (out []need) {
	at := map[string]int{}
	for _, m := range all {
		i, seen := at[m.View+"\x00"+m.Clause.String()]
		if !seen {
			i = len(out)
			at[m.View+"\x00"+m.Clause.String()] = i
			out = append(out, need{Missing: m})
		}
		if who := m.Needer.Name + " " + m.Needer.Version; !slices.Contains(out[i].needers, who) {
			out[i].needers = append(out[i].needers, who)
		}
		if !slices.Contains(out[i].archs, m.Arch) {
			out[i].archs = append(out[i].archs, m.Arch)
		}
	}
	return out
}

// lookup knows what the other defined sources have.
type lookup struct {
	universe map[string]*solve.Universe // by source
	order    []string
}

// lookAround reads the indexes of the defined sources that are not in the
// mirror. A source that cannot be read is passed over: this is advice.
func (b *Builder) lookAround(ctx context.Context, plan Plan, family string) *lookup {
	l := &lookup{universe: map[string]*solve.Universe{}}
	quiet := *b
	quiet.Sink = nil
	for _, src := range plan.Others {
		if src.Spec.Family != family {
			continue
		}
		pub, err := quiet.Refresh(ctx, src)
		if err != nil {
			continue
		}
		lists, err := quiet.Lists(ctx, pub)
		if err != nil {
			continue
		}
		u := solve.NewUniverse(src.Family,
			[]solve.Source{{Name: src.Name, Priority: src.Priority, Architectures: src.Spec.Architectures}})
		for n, x := range lists {
			if err = quiet.Read(src, n, x, func(p *archive.Package, _ []byte) error {
				u.Add(0, p)
				return nil
			}); err != nil {
				break
			}
		}
		if err == nil {
			l.universe[src.Name] = u
			l.order = append(l.order, src.Name)
		}
	}
	return l
}

func (l *lookup) advise(m solve.Missing) string {
	var have []string
	for _, name := range l.order {
		if what, ok := l.universe[name].Meets(m.Clause, m.Arch); ok {
			have = append(have, name+" has "+what)
		}
	}
	if len(have) > 0 {
		return "the defined source " + strings.Join(have, "; ") + ": add it under from"
	}
	return "no defined source has it: describe one that does, or take " + m.Chain[0] + " out"
}
