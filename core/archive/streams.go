package archive

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Streams is what one list of module streams says.
type Streams struct {
	All      []*Stream
	Defaults map[string]string       // module → its default stream
	Key      func(p *Package) string // a package as the list names it
}

// Stream is one build of a module stream.
type Stream struct {
	Module, Name, Context string
	Version               uint64
	Packages              []string       // as Key writes them
	Names                 []string       // of those packages that can be installed
	Needs                 [][]StreamNeed // one of these, whole
}

// String is MODULE:STREAM.
func (s *Stream) String() string { return s.Module + ":" + s.Name }

// needs writes what the build needs, the same for all that need the same.
func (s *Stream) needs() string { return fmt.Sprint(s.Needs) }

// least is how many other modules it needs at least.
func (s *Stream) least() int {
	least := 0
	for i, set := range s.Needs {
		n := 0
		for _, x := range set {
			if x.Module != Platform {
				n++
			}
		}
		if i == 0 || n < least {
			least = n
		}
	}
	return least
}

// StreamNeed is another module that must be active, in one of some streams.
type StreamNeed struct {
	Module string
	Of     []string // empty: any
	Not    []string
}

func (n StreamNeed) allows(stream string) bool {
	return !slices.Contains(n.Not, stream) && (len(n.Of) == 0 || slices.Contains(n.Of, stream))
}

// String writes it as lists do.
func (n StreamNeed) String() string {
	text := strings.Join(n.Of, " or ")
	for _, x := range n.Not {
		text += " not " + x
	}
	return strings.TrimSpace(n.Module + " " + text)
}

// Platform is the module that stands for the machine's own system. What it is, the
// mirror does not know: whatever is asked of it counts as met.
const Platform = "platform"

// Active is which module streams a machine has on, and what it sees for that.
type Active struct {
	of     map[string]*Stream // by module: one of the builds that are on
	active map[string]string  // packages of active streams, as keys → the stream
	listed map[string]bool    // packages of any stream
	names  map[string]bool    // of packages of active streams
	Off    []OffStream        // enabled, and cannot be on
	// Open are streams of which builds that need different modules could be on, and
	// none that needs nothing: which of them a machine has on cannot be told from here.
	Open []string
	// GaveUp tells that working it out would cost out of proportion to the lists: what
	// is on is not known then.
	GaveUp bool
}

// OffStream is a stream that was asked for and cannot be on.
type OffStream struct{ Stream, Why string }

// Activate works out which streams are on: those that are enabled, and of other
// modules the default, with all that these need. Of each module one stream is on,
// and of its builds those that need the same: what needs the fewest others, where
// there is a choice, and then what puts on the fewest that nobody asked for.
// A stream whose needs cannot be met is off. The lists are of all repositories that
// the machine sees.
func Activate(lists []*Streams, enabled []string) *Active {
	a := newActivation(lists)
	asked := map[string]bool{}
	for _, e := range enabled {
		module, stream, _ := strings.Cut(e, ":")
		a.preferred[module], asked[module] = stream, true
	}
	for _, e := range enabled {
		module, stream, _ := strings.Cut(e, ":")
		if why := a.on(module, []string{stream}, nil); why != "" && len(a.builds[module]) > 0 {
			a.Off = append(a.Off, OffStream{e, why})
		}
	}
	for _, module := range slices.Sorted(maps.Keys(a.preferred)) {
		if !asked[module] {
			a.on(module, []string{a.preferred[module]}, nil)
		}
	}
	for module, on := range a.of {
		if a.tie[module] {
			a.Open = append(a.Open, on.String())
		}
		needs := on.needs()
		for _, s := range a.builds[module][on.Name] {
			if s.needs() != needs {
				continue
			}
			for _, p := range s.Packages {
				a.active[p] = s.String()
			}
			for _, n := range s.Names {
				a.names[n] = true
			}
		}
	}
	slices.Sort(a.Open)
	return a.Active
}

type activation struct {
	*Active
	builds    map[string]map[string][]*Stream // by module and stream, as repositories have them
	streams   map[string][]string             // of each module, in order
	preferred map[string]string               // the stream that a module is on with, where it has the choice
	// builds of its stream that need different things would do alike
	tie  map[string]bool
	left int // steps
}

// Working out what is on costs so many steps at the most: some, and more for each
// build. Needs that need each other in many ways could be tried for ever.
const (
	activationBase  = 1_000_000
	activationBuild = 200
)

func newActivation(lists []*Streams) *activation {
	a := &activation{
		Active: &Active{
			of:     map[string]*Stream{},
			active: map[string]string{},
			listed: map[string]bool{},
			names:  map[string]bool{},
		},
		builds:    map[string]map[string][]*Stream{},
		streams:   map[string][]string{},
		preferred: map[string]string{},
		tie:       map[string]bool{},
		left:      activationBase,
	}
	for _, l := range lists {
		for module, stream := range l.Defaults {
			if a.preferred[module] == "" {
				a.preferred[module] = stream
			}
		}
		for _, s := range l.All {
			if a.builds[s.Module] == nil {
				a.builds[s.Module] = map[string][]*Stream{}
			}
			if a.builds[s.Module][s.Name] == nil {
				a.streams[s.Module] = append(a.streams[s.Module], s.Name)
			}
			a.builds[s.Module][s.Name] = append(a.builds[s.Module][s.Name], s)
			for _, p := range s.Packages {
				a.listed[p] = true
			}
			a.left += activationBuild
		}
	}
	for _, streams := range a.streams {
		slices.Sort(streams)
	}
	return a
}

// spend tells whether there is enough left to go on.
func (a *activation) spend(n int) bool {
	if a.left -= n + 1; a.left < 0 {
		a.GaveUp = true
	}
	return !a.GaveUp
}

const tooMuch = "working it out would cost too much"

// on puts a module on in one of some streams. It gives the reason where that cannot
// be, and leaves everything as it was then. path is what is being put on already.
func (a *activation) on(module string, streams []string, path []string) string {
	if s := a.of[module]; s != nil {
		if slices.Contains(streams, s.Name) {
			return ""
		}
		return fmt.Sprintf("%s is on as %s", module, s)
	}
	if len(path) > 32 || slices.Contains(path, module) {
		return module + " needs itself"
	}
	path = append(slices.Clone(path), module)
	if p := a.preferred[module]; slices.Contains(streams, p) { // that one first
		streams = append([]string{p}, slices.DeleteFunc(slices.Clone(streams), func(s string) bool {
			return s == p
		})...)
	}
	why := fmt.Sprintf("no repository has %s in the stream %s", module, strings.Join(streams, " or "))
	for _, stream := range streams {
		found, reason := a.best(a.builds[module][stream], path)
		if found != nil {
			a.of = found
			return ""
		}
		if reason != "" {
			why = reason
		}
	}
	return why
}

// best tries the builds of one stream and gives what is on with the best of them; nil
// and the reason where none can be on.
func (a *activation) best(builds []*Stream, path []string) (found map[string]*Stream, why string) {
	least, cost, tie := 0, 0, false
	var needs string
	before := a.of
	for _, s := range builds {
		if !a.spend(len(before) + len(s.Needs)) {
			return nil, tooMuch
		}
		a.of = maps.Clone(before)
		if reason := a.with(s, path); reason != "" {
			why = s.String() + " needs what is not there: " + reason
			continue
		}
		now := s.least()<<16 + a.unasked(before)
		switch {
		case found == nil || now < cost:
			tie = found != nil && s.least() > 0
			found, cost, least, needs = a.of, now, s.least(), s.needs()
		case least > 0 && s.needs() != needs:
			tie = true
		}
	}
	a.of = before
	if found != nil {
		a.tie[builds[0].Module] = tie
	}
	return found, why
}

// unasked counts the modules that are on since, and would not be by themselves.
func (a *activation) unasked(before map[string]*Stream) (n int) {
	for module := range a.of {
		if before[module] == nil && a.preferred[module] == "" {
			n++
		}
	}
	return n
}

// with puts one build on with what it needs.
func (a *activation) with(s *Stream, path []string) (why string) {
	before := a.of
	a.of = maps.Clone(before)
	a.of[s.Module] = s
	for i, needs := range s.Needs {
		if i > 0 {
			a.of = maps.Clone(before)
			a.of[s.Module] = s
		}
		if why = a.meet(needs, path); why == "" {
			return ""
		}
	}
	if why != "" {
		a.of = before
	}
	return why
}

func (a *activation) meet(needs []StreamNeed, path []string) string {
	for _, n := range needs {
		if n.Module == Platform {
			continue
		}
		if !a.spend(len(a.streams[n.Module]) * (1 + len(n.Of) + len(n.Not))) {
			return tooMuch
		}
		var allowed []string
		for _, stream := range a.streams[n.Module] {
			if n.allows(stream) {
				allowed = append(allowed, stream)
			}
		}
		if len(allowed) == 0 {
			return n.String()
		}
		if why := a.on(n.Module, allowed, path); why != "" {
			return n.String() + " (" + why + ")"
		}
	}
	return ""
}

// Of gives the active stream that a package is of, "" where it is of none.
func (a *Active) Of(key string) string { return a.active[key] }

// Sees tells whether a machine sees a package. One of an active stream it does; one
// of other streams it does not; nor one of no stream whose name, or a name that it
// provides, is that of a package of an active stream.
func (a *Active) Sees(p *Package, key string) bool {
	if a.active[key] != "" {
		return true
	}
	if a.listed[key] || a.names[p.Name] {
		return false
	}
	return len(a.names) == 0 || !slices.ContainsFunc(p.Provides, func(v Provide) bool {
		return a.names[v.Name]
	})
}
