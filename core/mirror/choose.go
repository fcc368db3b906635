package mirror

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/core/solve"
)

// seen works out what the groups that follow the mirror's lanes see of it.
func (b *Builder) seen(plan Plan, out *Outcome) error {
	var sources []machine.Source
	for i, p := range out.Publications {
		sources = append(sources, machine.Source{ClientSource: b.describe(p, plan, out, i).Client(),
			Standing: p.Source.Standing})
	}
	out.all = sources
	for _, name := range slices.Sorted(maps.Keys(plan.Groups)) {
		v, err := machine.See(name, plan.Groups[name], b.Families, sources)
		if err != nil {
			return err
		}
		for _, f := range v.Findings() {
			// What machines' files say of this is told where they are written.
			if f.Code != finding.PinInstalledOnly && f.Code != finding.SourceArchitectureMissing {
				out.Findings = append(out.Findings, f)
			}
		}
		if len(v.Sources) == 0 && len(v.Left) == 0 {
			out.Findings = append(out.Findings, finding.New(finding.SourceReleaseUnsupported, "group "+name,
				"its machines can use nothing of the mirror %s, which has no source of the "+
					"family %s", plan.Name,
				v.Family))
		}
		out.views = append(out.views, v)
	}
	out.ungrouped = b.ungrouped(plan, out)
	if len(out.views) > 0 {
		return nil
	}
	for _, family := range slices.Sorted(maps.Keys(out.ungrouped)) {
		told := slices.DeleteFunc(slices.Clone(out.ungrouped[family].Told), func(f finding.Finding) bool {
			return f.Severity != finding.Error
		})
		out.Findings = append(out.Findings, told...)
	}
	return nil
}

func (b *Builder) choose(ctx context.Context, plan Plan, out *Outcome) error {
	if err := b.seen(plan, out); err != nil {
		return err
	}
	byFamily := map[string][]int{}
	var families []string
	for i, s := range plan.Sources {
		if _, seen := byFamily[s.Spec.Family]; !seen {
			families = append(families, s.Spec.Family)
		}
		byFamily[s.Spec.Family] = append(byFamily[s.Spec.Family], i)
	}
	unmatched := map[string]int{} // wants of the mirror, by how many families have nothing for them
	for _, family := range families {
		if err := b.chooseFamily(ctx, plan, out, byFamily[family], len(families), unmatched); err != nil {
			return err
		}
	}
	slices.SortStableFunc(out.selection, func(x, y pick) int {
		return cmp.Or(strings.Compare(x.src.Name, y.src.Name), x.Index-y.Index, x.Ordinal-y.Ordinal)
	})
	for _, p := range out.selection {
		out.BySource[p.src.Name]++
		if p.wanted {
			out.Wanted++
		}
	}
	if plan.For != "" && len(out.Certified) == 0 {
		out.Certified = []Certified{{Package: plan.For, Packages: []Installed{},
			Because: "no package of that name is taken"}}
	}
	out.Packages = len(out.selection)
	out.Findings = append(out.Findings, astray(plan, out)...)
	return nil
}

// astray tells of packages that machines would look for elsewhere: a faithful copy
// has upstream's words, and they name another place than the mirror.
func astray(plan Plan, out *Outcome) (found finding.List) {
	if plan.Mirror.Copy != definition.Faithful {
		return nil
	}
	first, count := map[string]pick{}, map[string]int{}
	for _, p := range out.selection {
		if p.Base != "" {
			if count[p.src.Name]++; count[p.src.Name] == 1 {
				first[p.src.Name] = p
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(first)) {
		found = append(found, finding.New(finding.ContentPlacedElsewhere, "source "+name,
			"the index sends machines to %s instead of the mirror for %d packages, for example "+
				"%s",
			first[name].Base, count[name], first[name].Name))
	}
	return found
}

// chooseFamily takes from the sources of one family. A want of the mirror that
// matches nothing is told by the last of the families for which that is so.
func (b *Builder) chooseFamily(ctx context.Context, plan Plan, out *Outcome, members []int, families int,
	unmatched map[string]int) error {
	var sources []solve.Source
	for _, i := range members {
		s := plan.Sources[i]
		sources = append(sources, solve.Source{Name: s.Name, Priority: s.Priority,
			Architectures: s.Spec.Architectures,
			Except:        slices.Concat(s.Want.Except, plan.Mirror.Want.Except)})
	}
	u := solve.NewUniverse(plan.Sources[members[0]].Family, sources)
	c := &choosing{Builder: b, plan: plan, out: out, members: members, u: u, baselines: map[string][]int{},
		groupsOf: map[string][]string{}, pins: map[string][]archive.Relation{}}
	streams := make([]archive.Streams, len(members))
	for k, i := range members {
		var err error
		if streams[k], err = b.streams(ctx, plan, out, i); err != nil {
			return err
		}
	}
	for k, i := range members {
		src := plan.Sources[i]
		groups, err := c.groups(ctx, i)
		if err != nil {
			return err
		}
		for n, l := range out.lists[i] {
			if err := b.Read(src, n, l, func(p *archive.Package, _ []byte) error {
				out.ofStreams(streams[k], p)
				p.Groups = append(p.Groups, groups[p.Name]...)
				u.Add(k, p)
				return ctx.Err()
			}); err != nil {
				return err
			}
		}
	}
	if err := c.elsewhere(ctx); err != nil {
		return err
	}
	wants, err := wantsOf(plan, members)
	if err != nil {
		return err
	}
	wants, sets, err := c.sets(wants)
	if err != nil {
		return err
	}
	if err := c.paths(ctx, wants); err != nil {
		return err
	}
	views := c.views(wants, sets)
	hide(plan, out, members, streams, views)
	if err := b.rivals(ctx, plan, out, members, u, views); err != nil {
		return err
	}
	s, err := u.Select(ctx, wants, views, b.Proof)
	if f, ok := finding.From(err); ok {
		f.Object = "mirror " + plan.Name
		return f
	}
	if err != nil {
		return err
	}
	for _, c := range s.Chosen {
		out.selection = append(out.selection, pick{Package: c.Package, src: plan.Sources[members[c.Source]],
			wanted: c.Wanted, why: c.For, how: c.How})
	}
	out.Proofs = append(out.Proofs, s.Proofs...)
	if err := c.certify(ctx, s, views); err != nil {
		return err
	}
	if s.Unseen > 0 {
		out.Findings = append(out.Findings, finding.New(finding.MirrorStreamOff, "mirror "+plan.Name,
			"no machine can use %s that came along, because their module streams are not "+
				"enabled. Whether they can be installed was not proved", packages(s.Unseen)))
	}
	here := map[string]bool{} // what is wanted twice, in a set too, is told once
	s.Unmatched = slices.DeleteFunc(s.Unmatched, func(m solve.Unmatched) bool {
		if m.Source != solve.AllSources || m.Group != "" {
			return false
		}
		key := m.As + "\x00" + m.Relation.Name
		if here[key] {
			return true
		}
		here[key] = true
		unmatched[key]++
		return unmatched[key] < families
	})
	out.Findings = append(out.Findings, c.explain(ctx, s)...)
	c.waysOut(ctx, s, views)
	return nil
}

// wantsOf gives what is wanted of the sources of one family: of each alone, and
// of all of them.
func wantsOf(plan Plan, members []int) (out []solve.Want, err error) {
	family := plan.Sources[members[0]].Spec.Family
	add := func(w definition.Want, source int) error {
		put := func(by solve.By, texts []string, as string) error {
			for _, text := range texts {
				r, err := archive.ParseWant(text)
				if err != nil {
					return err
				}
				out = append(out, solve.Want{Source: source, By: by, Relation: r, With: w.With,
					Versions: max(w.Versions, 1), As: as + text, Only: w.Only,
					Alternatives: w.Alternatives == definition.EveryAlternative})
			}
			return nil
		}
		for _, x := range []struct {
			by    solve.By
			texts []string
			as    string
		}{{solve.ByName, w.Packages, ""}, {solve.ByProvided, w.Provides, "provides "},
			{solve.BySection, w.Sections, "section "}, {solve.ByGroup, w.Groups, "group "},
			{solve.ByOrigin, w.BuiltFrom, "built from "}} {
			if err := put(x.by, x.texts, x.as); err != nil {
				return err
			}
		}
		for _, name := range w.Lists {
			l := plan.Lists[name]
			if l.Family != "" && l.Family != family {
				continue
			}
			from := len(out)
			if err := put(solve.ByName, l.Wants(), ""); err != nil {
				return err
			}
			for i := range out[from:] {
				out[from+i].As, out[from+i].List = "list "+name, name
			}
		}
		return nil
	}
	for k, i := range members {
		src := plan.Sources[i]
		if plan.Mirror.Everything(definition.From{Source: src.Name, Want: src.Want}) {
			out = append(out, solve.Want{Source: k, Relation: archive.Relation{Name: "*"}, As: "everything"})
		}
		if err := add(src.Want, k); err != nil {
			return nil, err
		}
	}
	return out, add(plan.Mirror.Want, solve.AllSources)
}

// sight is a view that several groups may share, with or without pins.
type sight struct {
	solve.View
	groups []string
}

// name tells whose view it is.
func (s *sight) name() string {
	out, pins := "the group ", withPins
	if len(s.groups) > 1 {
		out, pins = several, withTheirPins
	}
	out += finding.Names(s.groups, 3)
	if len(s.Pins) > 0 {
		out += pins
	}
	return out
}

// does gives a verb as it is said of a view: of one group, or of several.
func does(view, verb string) string {
	if strings.HasPrefix(view, several) {
		return verb
	}
	return verb + "s"
}

const (
	several       = "the groups "
	withPins      = " with its pins"
	withTheirPins = " with their pins"
)

// viewsOf gives the views that a choice is made and proved for: that of each group
// which follows the mirror, once more with its pins where it has some; and for
// what no group sees, that of all machines that could use it. Groups that see the
// same share one.
func (c *choosing) views(wants []solve.Want, sets map[string][]solve.Together) []solve.View {
	plan, out, members := c.plan, c.out, c.members
	place := map[string]int{}
	for k, i := range members {
		place[plan.Sources[i].Name] = k
	}
	covered := map[string][]int{} // by architecture: sources that a group sees
	var sights []*sight
	add := func(group string, v solve.View) {
		same := func(s *sight) bool {
			return slices.Equal(s.Sources, v.Sources) && slices.Equal(s.Architectures, v.Architectures) &&
				slices.Equal(s.Foreign, v.Foreign) && slices.Equal(s.Wants, v.Wants) &&
				maps.Equal(s.Ranks, v.Ranks) &&
				slices.EqualFunc(s.Pins, v.Pins, func(a, b archive.Relation) bool {
					return a.String() == b.String()
				})
		}
		if i := slices.IndexFunc(sights, same); i >= 0 {
			sights[i].groups = append(sights[i].groups, group)
			return
		}
		sights = append(sights, &sight{v, []string{group}})
	}
	for _, v := range out.views {
		if v.Family != plan.Sources[members[0]].Spec.Family || len(v.Sources) == 0 {
			continue
		}
		view := solve.View{Architectures: v.Architectures, Foreign: v.Foreign, Every: plan.Every,
			Together: slices.Concat(sets[""], sets[v.Group]), Wants: c.wantsOf(v.Group, wants)}
		view.Ranks = ranksOf(v, plan, members)
		for _, name := range v.Sources {
			k := place[name]
			view.Sources = append(view.Sources, k)
			for _, a := range slices.Concat(v.Architectures, v.Foreign) {
				if slices.Contains(plan.Sources[members[k]].Spec.Architectures, a) {
					covered[a] = append(covered[a], k)
				}
			}
		}
		beside := c.baseline(v.Group)
		view.Sources, view.Beside = append(view.Sources, c.baselines[beside.key()]...), beside.String()
		add(v.Group, view)
		if len(v.Pins) > 0 {
			view.Pins = v.Pins
			add(v.Group, view)
		}
	}
	var views []solve.View
	for _, s := range sights {
		s.Name = s.name()
		c.groupsOf[s.Name], c.pins[s.Name] = s.groups, s.Pins
		views = append(views, s.View)
	}
	return append(views, c.uncovered(wants, sets[""], covered)...)
}

// uncovered gives the views of machines of no group, for what no group sees.
func (c *choosing) uncovered(wants []solve.Want, sets []solve.Together,
	covered map[string][]int) (views []solve.View) {
	plan, members := c.plan, c.members
	beside := c.baseline("")
	sets = slices.Clone(sets)
	for i := range sets {
		sets[i].Loose = true
	}
	var sees []int
	all := c.out.ungrouped[c.family()]
	for k, i := range members {
		if all.Sees(plan.Sources[i].Name) {
			sees = append(sees, k)
		}
	}
	sees = append(sees, c.baselines[beside.key()]...)
	archs := c.architectures()
	ranks := ranksOf(all, plan, members)
	for _, a := range archs {
		v := solve.View{Architectures: []string{a}, Wants: []int{}, Sources: sees, Every: plan.Every,
			Together: sets, Beside: beside.String(), Ranks: ranks}
		for n, w := range wants {
			if w.Group != "" {
				continue
			}
			alone := w.Source != solve.AllSources && !slices.Contains(covered[a], w.Source) &&
				slices.Contains(plan.Sources[members[w.Source]].Spec.Architectures, a)
			if alone || w.Source == solve.AllSources && len(covered[a]) == 0 {
				v.Wants = append(v.Wants, n)
			}
		}
		if len(v.Wants) > 0 {
			views = append(views, v)
		}
	}
	return views
}

// editionViews gives the views of the groups.
func (out *Outcome) editionViews() []edition.View {
	views := []edition.View{}
	for _, v := range out.views {
		views = append(views, edition.View{Group: v.Group, Family: v.Family,
			Architectures: v.Architectures, Foreign: v.Foreign, Sources: v.Sources, Pins: v.PinTexts(),
			Asked: v.Asked})
	}
	return views
}

// ranksOf gives the ranks of a view's repositories. members are the sources of its universe.
func ranksOf(v machine.View, plan Plan, members []int) solve.Ranks {
	return solve.RanksOf(v.Client, func(source string) (int, bool) {
		k := slices.IndexFunc(members, func(i int) bool { return plan.Sources[i].Name == source })
		return k, k >= 0
	})
}

// ungrouped gives what machines of no group would see: of each family every source.
func (b *Builder) ungrouped(plan Plan, out *Outcome) map[string]machine.View {
	views := map[string]machine.View{}
	for _, s := range plan.Sources {
		family := s.Spec.Family
		if _, done := views[family]; done {
			continue
		}
		v, err := machine.See("", definition.Group{Family: family}, b.Families, out.all)
		if err != nil {
			panic("mirror: a group without pins has a bad pin: " + err.Error())
		}
		views[family] = v
	}
	return views
}
