package mirror

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/core/upstream"
)

// Where is which sources have packages of a name, and which of them comes first for the machines
// of each group, as sources are now. Whether an edition has it is another matter: a tailored copy
// has what is wanted and what that needs.
type Where struct {
	Name string `json:"name"`
	Has  []Held `json:"has"`
	// Provided are packages of another name that provide this one.
	Provided []Held     `json:"provided"`
	Groups   []TakenBy  `json:"groups"`
	Near     []string   `json:"near,omitempty"` // names that may be meant, where no source has it
	Unread   []Unread   `json:"unread"`         // sources of which it is not known
	Asked    []*AskedOf `json:"asked"`          // the others
	// Publications are what sources offered when they were asked.
	Publications []*upstream.Publication `json:"-"`
}

// Held is a package that a source has.
type Held struct {
	Source        string `json:"source"`
	Name          string `json:"name"`
	Version       string `json:"version"`
	Arch          string `json:"architecture"`
	Component     string `json:"component,omitempty"`
	Section       string `json:"section,omitempty"`
	Licence       string `json:"licence,omitempty"`
	Origin        string `json:"origin,omitempty"` // the source package that it was built from
	Summary       string `json:"summary,omitempty"`
	Size          int64  `json:"size"`
	InstalledSize int64  `json:"installed_size,omitempty"`
	// Built is when it was built, where its index says so; that of deb does not.
	Built time.Time `json:"built,omitzero"`
}

// AskedOf is a source that was asked.
type AskedOf struct {
	Source   string    `json:"source"`
	Standing string    `json:"standing"`
	Priority int       `json:"priority"`
	Date     time.Time `json:"root_date"`
}

// Unread is a source that could not be asked.
type Unread struct {
	Source string `json:"source"`
	Why    string `json:"why"`
}

// TakenBy is what the machines of a group would take.
type TakenBy struct {
	Group  string `json:"group"`
	Lane   string `json:"lane"`
	Mirror string `json:"mirror"`
	Copy   string `json:"copy"` // of the mirror: a tailored one may carry none of it
	Arch   string `json:"architecture"`
	Offers []Seen `json:"offers"` // what they see, the one that is taken first
	None   bool   `json:"none"`   // none of the sources that they see has it
	// Why tells why nothing is taken, or that it is not known what is.
	Why string `json:"why,omitempty"`
}

// Seen is a package that machines of a group see.
type Seen struct {
	Source  string `json:"source"`
	Version string `json:"version"`
	Arch    string `json:"architecture"`
	Taken   bool   `json:"taken"`
	Why     string `json:"why"`
}

// whereAtOnce is how many sources are read at once.
const whereAtOnce = 4

// maxProvided bounds the packages that are told which provide a name.
const maxProvided = 100

// asked is what was read of one source.
type asked struct {
	pub   *upstream.Publication
	lists []upstream.List
	has   []*archive.Package
	near  string
}

// Where reads what sources offer now and tells of one name. plans are those of the mirrors that
// groups follow; what is in none of them is told, and taken by nobody.
func (b *Builder) Where(ctx context.Context, name string, sources []*upstream.Source, plans []Plan) (*Where,
	error) {
	if f, ok := finding.From(archive.CheckName(name)); ok {
		return nil, f.Do("enter the whole name of a package")
	}
	out := &Where{Name: name, Has: []Held{}, Provided: []Held{}, Groups: []TakenBy{}, Unread: []Unread{},
		Asked: []*AskedOf{}}
	read := make([]*asked, len(sources))
	failed := make([]error, len(sources))
	quiet := *b
	quiet.Sink = nil
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(whereAtOnce)
	var mu sync.Mutex
	done := 0
	for i, src := range sources {
		g.Go(func() (err error) {
			defer finding.Catch(&err)
			read[i], failed[i] = quiet.ask(inner, name, src, func(h Held) {
				mu.Lock()
				defer mu.Unlock()
				if len(out.Provided) < maxProvided {
					out.Provided = append(out.Provided, h)
				}
			})
			mu.Lock()
			defer mu.Unlock()
			done++
			b.Tell(upstream.Event{Step: "read", Text: src.Name, Files: done, FilesTotal: len(sources),
				Remaining: -1})
			return inner.Err()
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	bySource := map[string]*asked{}
	for i, src := range sources {
		if a := read[i]; a != nil && a.pub != nil && a.pub.Root != nil {
			out.Publications = append(out.Publications, a.pub)
		}
		if failed[i] != nil {
			out.Unread = append(out.Unread, Unread{src.Name, upstream.Saying(failed[i])})
			continue
		}
		bySource[src.Name] = read[i]
		out.Asked = append(out.Asked, &AskedOf{src.Name, src.Standing, src.Priority, read[i].pub.Root.Date})
		for _, p := range read[i].has {
			out.Has = append(out.Has, held(src.Name, p))
		}
		if near := read[i].near; near != "" && !slices.Contains(out.Near, near) && len(out.Near) < 5 {
			out.Near = append(out.Near, near)
		}
	}
	if len(out.Has) > 0 {
		out.Near = nil
	}
	slices.SortFunc(out.Provided, func(a, b Held) int {
		return cmp.Or(strings.Compare(a.Source, b.Source), strings.Compare(a.Name, b.Name),
			strings.Compare(a.Version, b.Version), strings.Compare(a.Arch, b.Arch))
	})
	for _, plan := range plans {
		if err := quiet.takenBy(ctx, out, plan, bySource); err != nil {
			return nil, err
		}
	}
	slices.SortStableFunc(out.Groups, func(a, b TakenBy) int { return strings.Compare(a.Group, b.Group) })
	return out, nil
}

func held(source string, p *archive.Package) Held {
	return Held{Source: source, Name: p.Name, Version: p.Version, Arch: p.Arch, Component: p.Component,
		Section: p.Section, Licence: p.Licence, Origin: p.Origin, Summary: p.Summary, Size: p.Size,
		InstalledSize: p.InstalledSize, Built: built(p)}
}

// built gives when a package was built; the zero time where that is not said, or cannot be.
func built(p *archive.Package) time.Time {
	if p.Built <= 0 || p.Built > 1<<36 {
		return time.Time{}
	}
	return time.Unix(p.Built, 0).UTC()
}

// ask reads the lists of one source for a name.
func (b *Builder) ask(ctx context.Context, name string, src *upstream.Source, provides func(Held)) (*asked,
	error) {
	a := &asked{}
	var err error
	if a.pub, err = b.Refresh(ctx, src); err != nil {
		return a, err
	}
	if a.lists, err = b.Lists(ctx, a.pub); err != nil {
		return a, err
	}
	seen := map[string]bool{}
	var names []string
	for n, l := range a.lists {
		if err := b.Read(src, n, l, func(p *archive.Package, _ []byte) error {
			switch {
			case p.Name == name:
				if id := p.Version + "\x00" + p.Arch + "\x00" + p.SHA256 + p.SHA512; !seen[id] {
					seen[id] = true
					a.has = append(a.has, p)
				}
			case slices.ContainsFunc(p.Provides, func(v archive.Provide) bool { return v.Name == name }):
				provides(held(src.Name, p))
			case len(seen) == 0:
				names = append(names, p.Name)
			}
			return ctx.Err()
		}); err != nil {
			return a, err
		}
	}
	if len(a.has) == 0 {
		a.near = definition.Nearest(name, names)
	}
	return a, nil
}

// takenBy works out what the machines of the groups that follow one mirror take.
func (b *Builder) takenBy(ctx context.Context, out *Where, plan Plan, read map[string]*asked) error {
	o := &Outcome{Mirror: plan.Name, streams: map[*archive.Package]string{}}
	unread := ""
	for _, src := range plan.Sources {
		a := read[src.Name]
		if a == nil {
			unread = src.Name
			break
		}
		o.Publications = append(o.Publications, a.pub)
		o.lists = append(o.lists, a.lists)
	}
	if unread != "" {
		for group, g := range plan.Groups {
			out.Groups = append(out.Groups, TakenBy{Group: group, Lane: g.Lane, Mirror: plan.Name,
				Copy: plan.Mirror.Copy,
				Arch: strings.Join(g.Architectures, ", "), Offers: []Seen{},
				Why: "unknown: " + unread + " cannot be read"})
		}
		return nil
	}
	if err := b.seen(plan, o); err != nil {
		return err
	}
	for _, v := range o.views {
		var members []int
		for i, src := range plan.Sources {
			if src.Spec.Family == v.Family {
				members = append(members, i)
			}
		}
		if len(members) == 0 || len(v.Sources) == 0 {
			continue
		}
		var sources []solve.Source
		streams := make([]archive.Streams, len(members))
		view := solve.View{Name: v.Group, Architectures: v.Architectures, Foreign: v.Foreign, Pins: v.Pins}
		for k, i := range members {
			src := plan.Sources[i]
			sources = append(sources, solve.Source{Name: src.Name, Priority: src.Priority,
				Architectures: src.Spec.Architectures,
				Except:        slices.Concat(src.Want.Except, plan.Mirror.Want.Except)})
			var err error
			if streams[k], err = b.streams(ctx, plan, o, i); err != nil {
				return err
			}
			if slices.Contains(v.Sources, src.Name) {
				view.Sources = append(view.Sources, k)
			}
		}
		view.Ranks = ranksOf(v, plan, members)
		u := solve.NewUniverse(plan.Sources[members[0]].Family, sources)
		for k, i := range members {
			for _, p := range read[plan.Sources[i].Name].has {
				o.ofStreams(streams[k], p)
				u.Add(k, p)
			}
		}
		views := []solve.View{view}
		hide(plan, o, members, streams, views)
		for _, arch := range view.Architectures {
			t := TakenBy{Group: v.Group, Lane: plan.Groups[v.Group].Lane, Mirror: plan.Name, Arch: arch,
				Copy:   plan.Mirror.Copy,
				Offers: []Seen{}}
			for _, x := range u.Choose(ctx, views[0], arch, out.Name).Offers {
				t.Offers = append(t.Offers, Seen{plan.Sources[members[x.Source]].Name, x.Version,
					x.Package.Arch,
					x.Taken, x.Why})
			}
			switch {
			case len(t.Offers) == 0:
				t.None, t.Why = true, "no source that they can use has it for "+arch
			case !t.Offers[0].Taken:
				t.Why = "no candidate"
			}
			out.Groups = append(out.Groups, t)
		}
	}
	return nil
}
