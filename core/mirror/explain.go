package mirror

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/core/upstream"
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

func (c *choosing) explain(ctx context.Context, s *solve.Selection) finding.List {
	plan, made, members := c.plan, c.out, c.members
	object := "mirror " + plan.Name
	var out finding.List
	listed := map[string][]string{}
	for _, m := range s.Unmatched {
		if m.List != "" {
			listed[m.List] = append(listed[m.List], m.Relation.String())
			continue
		}
		if m.Source == solve.AllSources {
			out = append(out, unmatchedAnywhere(plan, members, m))
			continue
		}
		src := plan.Sources[members[m.Source]]
		if m.As == "everything" {
			f := finding.New(finding.MirrorWantNoMatch, object, "the source %s has no packages",
				src.Name).Rated(finding.Warning)
			out = append(out, f)
			continue
		}
		f := finding.New(finding.MirrorWantNoMatch, object, "no package matches %q in %s", m.As,
			src.Name).Rated(severity(plan))
		switch {
		case len(m.Versions) > 0:
			f.WayOut = "want one of the versions that the source has: " + strings.Join(m.Versions, ", ")
		case len(m.Near) > 0:
			f.WayOut = "did you mean " + strings.Join(m.Near, " or ") + "?"
		}
		out = append(out, f)
	}
	out = append(out, unmatchedOf(plan, listed)...)
	missing := together(withoutPins(c, s.Missing, func(m solve.Missing) (string, string) {
		return m.View, m.Needer.Name + " " + m.Needer.Version + m.Clause.String() + m.Arch
	}))
	for i, m := range missing {
		if i >= maxTold {
			out = append(out, finding.New(finding.MirrorMissingDependency, object,
				"%s cannot be met", finding.Count(len(missing)-i, "further need")).Rated(severity(plan)))
			break
		}
		none := "no source in this mirror"
		if m.View != "" {
			none = "no source that " + m.View + " " + does(m.View, "see")
		}
		f := finding.New(finding.MirrorMissingDependency, object, "%s provides %s for %s, which %s",
			none, m.Clause.String(), strings.Join(m.archs, ", "), m.who()).Rated(severity(plan))
		if len(m.needers) == 1 && len(m.Chain) > 1 {
			f.Text += " (required by way of " + strings.Join(m.Chain, " → ") + ")"
		}
		switch {
		case len(m.Excepted) > 0:
			f.WayOut = "remove the exception for " + strings.Join(m.Excepted,
				", ") + ", which would satisfy " +
				"the dependency"
		default:
			c.lookForFixes(ctx)
			var one string
			if f.WayOut, one = c.advise(m.Missing); one != "" {
				f = f.Adding(one, object)
			}
		}
		out = append(out, f)
	}
	for _, x := range withoutPins(c, s.Conflicts, func(x solve.Conflict) (string, string) {
		return x.View, x.Wanted.String() + x.Arch
	}) {
		out = append(out, finding.New(finding.MirrorConflict, object, "%s", x.String()).Rated(severity(plan)))
	}
	undecided := withoutPins(c, s.Undecided, func(u solve.Undecided) (string, string) {
		return u.View, u.Wanted.String() + u.Arch
	})
	for i, n := range undecided {
		if i == maxTold {
			out = append(out, finding.New(finding.MirrorNotProved, object,
				"not decided: %s",
				finding.Count(len(undecided)-i, "further package")).Rated(severity(plan)))
			break
		}
		out = append(out, finding.New(finding.MirrorNotProved, object,
			"Stockade could not determine whether %s can be installed %s: %s", n.Wanted, n.Where(),
			n.Because).Rated(severity(plan)))
	}
	unaided := withoutPins(c, s.Unaided, func(u solve.Unaided) (string, string) {
		return u.View, u.Needer.String() + u.Clause.String() + u.Arch
	})
	for i, u := range unaided {
		if i == maxTold {
			out = append(out, finding.New(finding.MirrorNotByItself, object,
				"not installed unless told to: %s",
				finding.Count(len(unaided)-i, "further package")).Rated(severity(plan)))
			break
		}
		out = append(out, notByItself(u, object).Rated(severity(plan)))
	}
	for _, d := range s.Damaged {
		if f, ok := finding.From(d); ok {
			out = append(out, f.Rated(severity(plan)))
		}
	}
	out = append(out, c.sideBySide(s)...)
	return append(out, c.surpassed(ctx, plan, made, members, s.Surpassed)...)
}

// sideBySide tells of packages of one name that were taken for several architectures of one machine,
// where one of the family's clients does not install these together: a proof is for the others.
// Nothing is told where everything is wanted, since a copy of it all has both anyway.
func (c *choosing) sideBySide(s *solve.Selection) finding.List {
	client := c.plan.Sources[c.members[0]].Family.Rules().OneArchitecture
	if client == "" {
		return nil
	}
	archs := map[string][]string{} // by name, of what is for no machine in particular nothing
	for _, x := range s.Chosen {
		own := c.plan.Sources[c.members[x.Source]].Family.Rank(x.Arch, "") < 0
		if own && x.For != "everything" && !slices.Contains(archs[x.Name], x.Arch) {
			archs[x.Name] = append(archs[x.Name], x.Arch)
		}
	}
	var names []string
	for name, all := range archs {
		if slices.ContainsFunc(c.architectures(), func(machine string) bool {
			n := 0
			for _, a := range all {
				if c.plan.Sources[c.members[0]].Family.Rank(a, machine) >= 0 {
					n++
				}
			}
			return n > 1
		}) {
			names = append(names, name)
		}
	}
	if len(names) == 0 {
		return nil
	}
	slices.Sort(names)
	first := names[0]
	return finding.List{finding.New(finding.MirrorOneArchitecture, "mirror "+c.plan.Name,
		"%s taken for more than one architecture, for example %s (%s). %s cannot install both "+
			"on one machine, so nothing that requires both can be installed with it",
		finding.Count(len(names), "name")+" "+was(len(names)), first, strings.Join(archs[first], ", "),
		client)}
}

// architectures gives those that the sources of the family offer.
func (c *choosing) architectures() (out []string) {
	for _, i := range c.members {
		for _, a := range c.plan.Sources[i].Spec.Architectures {
			if !slices.Contains(out, a) {
				out = append(out, a)
			}
		}
	}
	return out
}

func was(n int) string {
	if n == 1 {
		return "is"
	}
	return "are"
}

// notByItself tells of a package that a client does not install by itself.
func notByItself(u solve.Unaided, object string) finding.Finding {
	f := finding.New(finding.MirrorNotByItself, object, "%s", u.String())
	switch {
	case u.First == nil || u.First == u.Meets:
		return f.Do("exclude %s, or the package that conflicts with it", u.Needer.Name)
	case u.First.Name == u.Meets.Name:
		return f.Do("exclude %[1]s %[2]s where it is not needed, pin \"%[1]s = %[3]s\" for the "+
			"group, or name %[1]s=%[3]s on the machine", u.First.Name, u.First.Version,
			u.Meets.Version)
	}
	return f.Do("install %s first on the machine and try again, or exclude %s where it is not "+
		"needed",
		u.Meets.Name, u.First.Name)
}

// unmatchedAnywhere tells of a want of the mirror that machines of no view would
// take anything for.
func unmatchedAnywhere(plan Plan, members []int, m solve.Unmatched) finding.Finding {
	f := finding.New(finding.MirrorWantNoMatch, "mirror "+plan.Name,
		"no package that machines would take matches %q", m.As).Rated(severity(plan))
	switch {
	case len(m.Offers) > 0:
		var have []string
		for _, o := range m.Offers {
			src := plan.Sources[members[o.Source]]
			have = append(have, fmt.Sprintf("%s in %s (priority %d)", o.Version, src.Name, src.Priority))
		}
		f.WayOut = "choose another version, or change the priorities: the sources have " + m.Relation.Name +
			" " + strings.Join(have, ", ") +
			"; machines take only the best priority"
	case len(m.Near) > 0:
		f.WayOut = "did you mean " + strings.Join(m.Near, " or ") + "?"
	}
	return f
}

// withoutPins leaves out what is the same with the pins of groups as it is without them. key gives
// the name of the view, and what is the same.
func withoutPins[T any](c *choosing, all []T, key func(T) (view, what string)) (out []T) {
	told := map[string][]string{} // in which views
	for _, x := range all {
		view, what := key(x)
		if slices.ContainsFunc(told[what], func(v string) bool { return v == view || c.covers(v, view) }) {
			continue
		}
		told[what] = append(told[what], view)
		out = append(out, x)
	}
	return out
}

// covers tells whether a view is that of all groups of another, without their pins.
func (c *choosing) covers(view, pinned string) bool {
	if len(c.pins[view]) > 0 || len(c.pins[pinned]) == 0 {
		return false
	}
	return !slices.ContainsFunc(c.groupsOf[pinned], func(g string) bool {
		return !slices.Contains(c.groupsOf[view], g)
	})
}

// need is something missing with everything that needs it.
type need struct {
	solve.Missing
	needers, archs []string
}

// who names the first three that need it and counts the others.
func (n need) who() string {
	if len(n.needers) == 1 {
		return n.needers[0] + " requires"
	}
	return finding.Names(n.needers, 3) + " require"
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
		if !slices.Contains(out[i].archs, m.On) {
			out[i].archs = append(out[i].archs, m.On)
		}
	}
	return out
}

// unmatchedOf tells of what stands on lists and is nowhere, once for each list.
func unmatchedOf(plan Plan, listed map[string][]string) (out finding.List) {
	for _, list := range slices.Sorted(maps.Keys(listed)) {
		names := listed[list]
		slices.Sort(names)
		out = append(out, finding.New(finding.MirrorWantNoMatch, "mirror "+plan.Name,
			"no source has a package for these names of the list %s: %s", list,
			finding.Names(names, 5)).Rated(severity(plan)).
			Do("add a source that has them, or remove them from the list"))
	}
	return out
}

// Looking around asks so many sources at once. For fixes it takes no longer than this where nobody says
// otherwise.
const (
	aroundAtOnce = 6
	aroundTime   = 12 * time.Second
)

// lookForFixes is lookAround for what could be advised: a build is not kept waiting for it.
func (c *choosing) lookForFixes(ctx context.Context) {
	c.lookAround(ctx, cmp.Or(c.Builder.LookAround, aroundTime))
}

// fetchAround fetches what the defined sources that are not in the mirror publish, within a time. It says of
// which nothing was fetched, and why.
func (c *choosing) fetchAround(ctx context.Context, sources []*upstream.Source,
	within time.Duration) map[*upstream.Source]error {
	fetching, cancel := context.WithTimeout(ctx, within)
	defer cancel()
	quiet := *c.Builder
	quiet.Sink = nil
	pubs, failed := make([]*upstream.Publication, len(sources)), make([]error, len(sources))
	var g errgroup.Group
	g.SetLimit(aroundAtOnce)
	for i, src := range sources {
		g.Go(func() error {
			if fetching.Err() == nil {
				if pubs[i], failed[i] = quiet.Refresh(fetching, src); failed[i] == nil {
					_, failed[i] = quiet.Lists(fetching, pubs[i])
				}
			}
			if fetching.Err() != nil && (failed[i] != nil || pubs[i] == nil) {
				failed[i] = fmt.Errorf("its indexes were not downloaded within %s, the time "+
					"for reading other sources", within)
			}
			return nil
		})
	}
	_ = g.Wait() // the errors are in failed
	out := map[*upstream.Source]error{}
	for i, src := range sources {
		if failed[i] != nil {
			out[src] = failed[i]
		} else {
			c.out.Besides = append(c.out.Besides, pubs[i])
		}
	}
	return out
}

// lookAround reads the indexes of the defined sources that are not in the mirror, once, and puts
// them into the universe as sources that no view sees. One that cannot be read is named where
// something is said to be in none.
func (c *choosing) lookAround(ctx context.Context, within time.Duration) {
	if c.looked {
		return
	}
	c.looked = true
	var around, fetched []*upstream.Source
	for _, src := range c.plan.Others {
		if src.Spec.Family == c.family() && !slices.ContainsFunc(c.outside, func(o outside) bool {
			return o.Name == src.Name
		}) {
			around = append(around, src)
			if !slices.ContainsFunc(c.out.Besides,
				func(p *upstream.Publication) bool { return p.Source == src }) {
				fetched = append(fetched, src)
			}
		}
	}
	unread := c.fetchAround(ctx, fetched, within)
	for _, src := range around {
		if err := unread[src]; err != nil {
			c.unread = append(c.unread, Unread{src.Name, upstream.Saying(err)})
			continue
		}
		k, _, err := c.put(ctx, src, c.plan.Mirror.Want.Except...)
		if err != nil {
			c.unread = append(c.unread, Unread{src.Name, upstream.Saying(err)})
			continue
		}
		c.spare = append(c.spare, k)
	}
}

// advise says which defined sources have what is missing, and names the one that can be added, where
// it is one.
func (c *choosing) advise(m solve.Missing) (way, one string) {
	if way := c.unseen(m); way != "" {
		return way, ""
	}
	var have []string
	always := true
	for _, k := range c.spare {
		what, essential := c.u.Meets(m, k)
		if what == "" {
			continue
		}
		one = c.u.Source(k).Name
		have = append(have, one+" has "+what)
		always = always && essential
	}
	switch {
	case len(have) > 0 && always:
		return "list a source under baseline that has the package. The source " + strings.Join(have, "; ") +
			"; its machines always have these packages installed", ""
	case len(have) == 1:
		return "run stockade amend mirror " + c.plan.Name + " --from " + one + ": the source " + have[0] +
			". If the machines get it from elsewhere, list " + one + " under baseline instead", one
	case len(have) > 1:
		return "add a source that has the package under from, or under baseline if the machines get it " +
			"from elsewhere. The source " + strings.Join(have, "; "), ""
	}
	for _, o := range c.outside {
		if what, _ := c.u.Meets(m, o.at); what != "" {
			return "list " + o.Name + " under baseline of these machines too: it has " + what +
				" and is in the baseline of other machines. Or remove " + m.Chain[0], ""
		}
	}
	if len(c.unread) > 0 {
		var names []string
		for _, u := range c.unread {
			names = append(names, u.Source+" ("+u.Why+")")
		}
		return fmt.Sprintf("define a source that provides it, or remove %s. These sources could not be read "+
			"and may provide it: %s", m.Chain[0], finding.Names(names, 3)), ""
	}
	return "define a source that provides it, or remove " + m.Chain[0] + ". No defined source provides it", ""
}

// unseen says what of the mirror's own sources would meet a need, and what keeps the machines from
// it; "" where nothing would.
func (c *choosing) unseen(m solve.Missing) string {
	for k := range c.members {
		what, _ := c.u.Meets(m, k)
		if what == "" {
			continue
		}
		what += " of " + c.u.Source(k).Name
		for _, pin := range c.pins[m.View] {
			if strings.HasPrefix(what, pin.Name+" ") {
				return "change or remove the pin " + pin.String() + ": it excludes " + what +
					", which would satisfy the dependency"
			}
		}
		return "check the wanted module streams and the sources of the group: " + what +
			" would satisfy the dependency, but these machines cannot use it"
	}
	return ""
}
