package mirror

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/core/upstream"
)

// choosing takes from the sources of one family. The sources of its universe are those of the
// mirror, then what machines have from elsewhere, then what was looked at for advice.
type choosing struct {
	*Builder
	plan    Plan
	out     *Outcome
	members []int // of the plan's sources
	u       *solve.Universe

	outside   []outside           // that machines have from elsewhere
	baselines map[string][]int    // the sources that a baseline comes to, by its key
	groupsOf  map[string][]string // of a view, by its name
	pins      map[string][]archive.Relation
	looked    bool
	unread    []Unread // those that could not be looked at
	spare     []int    // defined sources that are neither in the mirror nor in a baseline
}

func (c *choosing) family() string { return c.plan.Sources[c.members[0]].Spec.Family }

// groups reads the sets of packages that a source lists apart, where some are wanted.
func (c *choosing) groups(ctx context.Context, i int) (map[string][]archive.Membership, error) {
	src := c.plan.Sources[i]
	grouped, ok := src.Family.(archive.Grouped)
	if !ok || len(src.Want.Groups)+len(c.plan.Mirror.Want.Groups) == 0 {
		return nil, nil
	}
	list, ok := grouped.GroupList(src.Spec, c.out.Publications[i].Root)
	if !ok {
		return nil, nil
	}
	plain, err := c.lore(ctx, src, list)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	groups, err := grouped.ReadGroups(plain)
	return groups, upstream.About(err, src.Name)
}

// beside is a baseline in words, and what it comes to.
type beside struct{ definition.Baseline }

// baseline gives that of a group, as far as it is of the family; of "", and where a group has none,
// that of the mirror.
func (c *choosing) baseline(group string) beside {
	f := c.plan.Mirror.Baseline
	if own := c.plan.Groups[group].Baseline; !own.IsZero() {
		f = own
	}
	if c.plan.Lists[f.List].Family != c.family() {
		f.List = ""
	}
	f.Sources = slices.DeleteFunc(slices.Clone(f.Sources), func(name string) bool {
		return !slices.ContainsFunc(c.plan.Others, func(s *upstream.Source) bool {
			return s.Name == name && s.Spec.Family == c.family()
		})
	})
	return beside{f}
}

// outside is a source that machines of some group have from elsewhere, at its place in the universe.
type outside struct {
	*upstream.Source
	at int
}

func (b beside) key() string { return b.List + "\x00" + strings.Join(b.Sources, "\x00") }

func (b beside) String() string {
	var parts []string
	if b.List != "" {
		parts = append(parts, "the baseline of the list "+b.List)
	}
	if len(b.Sources) > 0 {
		parts = append(parts, "their packages from "+strings.Join(b.Sources, ", "))
	}
	return strings.Join(parts, " and ")
}

// elsewhere reads what machines of each view have from elsewhere.
func (c *choosing) elsewhere(ctx context.Context) error {
	baselines := map[string]beside{"": c.baseline("")}
	for group, g := range c.plan.Groups {
		if g.Family == c.family() {
			baselines[group] = c.baseline(group)
		}
	}
	at := map[string]int{}
	for _, group := range slices.Sorted(maps.Keys(baselines)) {
		b := baselines[group]
		if _, done := c.baselines[b.key()]; done {
			continue
		}
		sources := []int{}
		for _, name := range b.Sources {
			if _, in := at[name]; !in {
				src := c.plan.Others[slices.IndexFunc(c.plan.Others, func(s *upstream.Source) bool {
					return s.Name == name
				})]
				k, pub, err := c.put(ctx, src)
				if err != nil {
					return upstream.About(err, name)
				}
				if err := c.pathsOf(ctx, pub, k, c.u); err != nil {
					return err
				}
				at[name] = k
				c.outside = append(c.outside, outside{src, k})
			}
			sources = append(sources, at[name])
		}
		if l := c.plan.Lists[b.List]; b.List != "" {
			key := "list " + b.List
			if _, in := at[key]; !in {
				k, err := c.installed(ctx, b.List, l)
				if err != nil {
					return err
				}
				at[key] = k
			}
			sources = append(sources, at[key])
		}
		c.baselines[b.key()] = sources
	}
	return nil
}

// besides refreshes the sources that machines have from elsewhere: what can be installed follows
// from them too.
func (b *Builder) besides(ctx context.Context, plan Plan, out *Outcome) error {
	named := slices.Clone(plan.Mirror.Baseline.Sources)
	for _, g := range plan.Groups {
		named = append(named, g.Baseline.Sources...)
	}
	slices.Sort(named)
	for _, name := range slices.Compact(named) {
		i := slices.IndexFunc(plan.Others, func(s *upstream.Source) bool { return s.Name == name })
		if i < 0 {
			return finding.New(finding.DefineBadValue, "mirror "+plan.Name,
				"the source %s cannot be a baseline source, because it is disabled or part of "+
					"the mirror itself", name).
				Do("enable it, or remove it under baseline")
		}
		pub, err := b.Refresh(ctx, plan.Others[i])
		if err != nil {
			return err
		}
		out.Besides = append(out.Besides, pub)
	}
	return nil
}

// put reads a source that is not in the mirror into the universe, as one outside.
func (c *choosing) put(ctx context.Context, src *upstream.Source, except ...string) (int,
	*upstream.Publication, error) {
	quiet := *c.Builder
	quiet.Sink = nil
	at := slices.IndexFunc(c.out.Besides, func(p *upstream.Publication) bool { return p.Source == src })
	if at < 0 {
		pub, err := quiet.Refresh(ctx, src)
		if err != nil {
			return 0, nil, err
		}
		at = len(c.out.Besides)
		c.out.Besides = append(c.out.Besides, pub)
	}
	pub := c.out.Besides[at]
	lists, err := quiet.Lists(ctx, pub)
	if err != nil {
		return 0, nil, err
	}
	k := c.u.AddSource(solve.Source{Name: src.Name, Priority: src.Priority,
		Architectures: src.Spec.Architectures, Outside: true, Except: except})
	for n, l := range lists {
		if err := quiet.Read(src, n, l, func(p *archive.Package, _ []byte) error {
			c.u.Add(k, p)
			return ctx.Err()
		}); err != nil {
			return 0, nil, err
		}
	}
	return k, pub, nil
}

// listTime is how long sources are waited for that say what the packages on a list need: a proof rests on
// it.
const listTime = 24 * time.Hour

// installed puts what an example machine has installed into the universe. What its packages need
// and provide is looked up in the defined sources, by name and version.
func (c *choosing) installed(ctx context.Context, name string, l definition.List) (int, error) {
	have := l.Installed()
	c.lookAround(ctx, listTime)
	archs := c.architectures()
	k := c.u.AddSource(solve.Source{Name: "list " + name, Priority: 100, Architectures: archs, Outside: true,
		Installed: true})
	var unknown []string
	for _, id := range have {
		p := c.known(id, k)
		if p == nil {
			unknown = append(unknown, id.Name)
			p = &archive.Package{Name: id.Name, Version: id.Version, Arch: id.Arch}
			if p.Arch == "" {
				p.Arch = archs[0]
			}
		}
		c.u.Add(k, p)
	}
	if n := len(unknown); n > 0 {
		c.out.Findings = append(c.out.Findings, finding.New(finding.MirrorBaselineUnknown,
			"mirror "+c.plan.Name,
			"the list %s has %s, and no defined source that could be read has %d of them in "+
				"that version, for example %s. For these only name and version are known, not "+
				"what they require and provide",
			name, packages(len(have)), n, strings.Join(unknown[:min(3, n)], ", ")))
	}
	return k, nil
}

// known gives a copy of a package of that name and version that some source has; nil: none has it.
func (c *choosing) known(id archive.Identity, before int) *archive.Package {
	version := func(v string) string { // programs that print lists leave the epoch out
		if i := strings.IndexByte(v, ':'); i >= 0 && !strings.Contains(id.Version, ":") {
			return v[i+1:]
		}
		return v
	}
	for k := range before {
		for _, p := range c.u.Called(id.Name, k) {
			if version(p.Version) == id.Version && (id.Arch == "" || id.Arch == p.Arch) {
				there := *p
				return &there
			}
		}
	}
	return nil
}

// sets adds the wants of sets that shall go together, and gives the sets: under "" those of the
// mirror, and of each group its roles.
func (c *choosing) sets(wants []solve.Want) ([]solve.Want, map[string][]solve.Together, error) {
	out := map[string][]solve.Together{}
	with := c.plan.Mirror.Want.With
	if with == "" {
		with = definition.Required
	}
	add := func(group, name, as string, texts []string) error {
		t := solve.Together{Name: name, Group: group}
		for _, text := range texts {
			r, err := archive.ParseWant(text)
			if err != nil {
				return err
			}
			t.Wants = append(t.Wants, len(wants))
			wants = append(wants, solve.Want{Source: solve.AllSources, Relation: r, With: with, Versions: 1,
				As: as + text, Group: group,
				Alternatives: c.plan.Mirror.Want.Alternatives == definition.EveryAlternative})
		}
		out[group] = append(out[group], t)
		return nil
	}
	for _, set := range c.plan.Mirror.Together {
		if err := add("", "the set of "+strings.Join(set, ", "), "", set); err != nil {
			return nil, nil, err
		}
	}
	for _, group := range slices.Sorted(maps.Keys(c.plan.Groups)) {
		g := c.plan.Groups[group]
		if g.Family != c.family() {
			continue
		}
		for _, role := range slices.Sorted(maps.Keys(g.Roles)) {
			name := fmt.Sprintf("the role %s of %s", role, group)
			if err := add(group, name, "role "+role+" of "+group+": ", g.Roles[role]); err != nil {
				return nil, nil, err
			}
		}
	}
	return wants, out, nil
}

// wantsOf gives the wants that are there for the machines of a group; nil: all.
func (c *choosing) wantsOf(group string, wants []solve.Want) []int {
	var out []int
	others := false
	for i, w := range wants {
		if w.Group != "" && w.Group != group {
			others = true
			continue
		}
		out = append(out, i)
	}
	if !others {
		return nil
	}
	return out
}

// paths asks lists of files for what packages need, or is wanted, by path and nothing is known to
// have. Only where something is asked for is a list fetched.
func (c *choosing) paths(ctx context.Context, wants []solve.Want) error {
	for k, i := range c.members {
		if err := c.Builder.pathsOf(ctx, c.out.Publications[i], k, c.u, wants...); err != nil {
			return err
		}
	}
	return nil
}

// Certified is a way to install a package: the answer to whether the machines of a view can, in
// full. Nil packages: there is none.
type Certified struct {
	View     string      `json:"view,omitempty"`
	Arch     string      `json:"architecture"`
	Package  string      `json:"package"`
	Packages []Installed `json:"packages"`
	Because  string      `json:"because,omitempty"` // there is none, or it is not known
}

// Installed is a package that would be installed.
type Installed struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Arch    string `json:"architecture"`
	Source  string `json:"source"`
	For     string `json:"for,omitempty"` // what needs it
	Size    int64  `json:"size"`
	// Outside tells that machines have its source from elsewhere.
	Outside bool `json:"outside,omitempty"`
}

// certify works out what would be installed with the packages that the plan asks about.
func (c *choosing) certify(ctx context.Context, s *solve.Selection, views []solve.View) error {
	if c.plan.For == "" {
		return nil
	}
	taken := map[*archive.Package]bool{}
	for _, x := range s.Chosen {
		taken[x.Package] = true
	}
	for _, v := range views {
		for _, arch := range v.Architectures {
			for _, x := range s.Chosen {
				if x.Name != c.plan.For || !c.u.Sees(v, arch, x) {
					continue
				}
				if at := slices.IndexFunc(s.Unaided, func(u solve.Unaided) bool {
					return u.View == v.Name && u.Arch == arch && slices.Contains(u.Stops, x.Package)
				}); at >= 0 {
					c.out.Certified = append(c.out.Certified, Certified{View: v.Name, Arch: arch,
						Package: x.String(), Packages: []Installed{},
						Because: "only when told to: " + s.Unaided[at].String()})
					continue
				}
				found, err := c.u.Installable(ctx, solve.Query{View: v, Arch: arch, Limits: c.Proof,
					Packages: []*archive.Package{x.Package},
					Admitted: func(p *archive.Package) bool { return taken[p] }})
				one := Certified{View: v.Name, Arch: arch, Package: x.String(), Packages: []Installed{}}
				switch {
				case errors.Is(err, solve.ErrUndecided):
					one.Because = "the search did not finish in time"
				case err != nil:
					return err
				case found == nil:
					one.Because = "it cannot be installed from the selected packages"
				}
				for _, f := range found {
					src := c.u.Source(f.Source)
					one.Packages = append(one.Packages, Installed{f.Name, f.Version, f.Arch, src.Name, f.For,
						f.Size, src.Outside})
				}
				c.out.Certified = append(c.out.Certified, one)
			}
		}
	}
	return nil
}

// maxLedOut bounds the refusals for which ways out are tried, and maxTrial each trial.
const (
	maxLedOut = 12
	maxTrial  = 2 * time.Second
)

// waysOut keeps why what is wanted cannot be installed, with the ways out that were tried.
func (c *choosing) waysOut(ctx context.Context, s *solve.Selection, views []solve.View) {
	if len(s.Refusals) == 0 {
		return
	}
	c.lookForFixes(ctx)
	taken := map[*archive.Package]bool{}
	for _, x := range s.Chosen {
		taken[x.Package] = true
	}
	refusals := withoutPins(c, s.Refusals, func(r solve.Refusal) (string, string) {
		return r.View, r.Wanted + r.Arch
	})
	c.out.Refused += len(refusals)
	for i, r := range refusals {
		at := slices.IndexFunc(views, func(v solve.View) bool {
			return v.Name == r.View && slices.Contains(v.Architectures, r.Arch)
		})
		if i < maxLedOut && at >= 0 && ctx.Err() == nil {
			r.Tried = true
			limits := c.Proof
			limits.Each = min(limits.Patience(), maxTrial)
			r.WaysOut = c.u.WaysOut(ctx, r, solve.Ways{View: views[at], Spare: c.spare, Limits: limits,
				Taken: func(p *archive.Package) bool { return taken[p] }})
			for k := range r.WaysOut {
				r.WaysOut[k].Object = c.changed(r.WaysOut[k], r)
				if w := &r.WaysOut[k]; c.takesMore(w.Amendment) {
					w.Packages, w.Files, w.Bytes = nil, 0, 0
				}
			}
		}
		if len(c.out.Refusals) < maxTold {
			c.out.Refusals = append(c.out.Refusals, r)
		}
	}
}

// takesMore tells whether a change lets more in than the packages that it was tried for: a source
// that is taken whole, or a pattern that is about others, too.
func (c *choosing) takesMore(a definition.Amendment) bool {
	m := c.plan.Mirror
	switch a.Kind {
	case definition.AddSource:
		return m.Copy == definition.Faithful || m.Want.Everything
	case definition.LiftExcept:
		except := slices.Clone(m.Want.Except)
		for _, src := range c.plan.Sources {
			except = append(except, src.Want.Except...)
		}
		return slices.ContainsFunc(except,
			func(p string) bool { return p != a.Name && archive.Matches(p, a.Name) })
	}
	return false
}

// changed names what is described otherwise by a way out.
func (c *choosing) changed(w solve.WayOut, r solve.Refusal) string {
	switch {
	case w.Kind == definition.MovePin:
		for _, v := range c.out.views {
			for _, p := range v.Pins {
				if p.Name == w.Name && slices.Contains(c.groupsOf[r.View], v.Group) {
					return "group " + v.Group
				}
			}
		}
	case w.Kind == definition.LeaveOut && r.Group != "":
		return "group " + r.Group
	}
	return "mirror " + c.plan.Name
}
