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
	a := &activation{Active: &Active{of: map[string]*Stream{}, active: map[string]string{}, listed: map[string]bool{}, names: map[string]bool{}},
		builds: map[string][]*Stream{}, preferred: map[string]string{}, tie: map[string]bool{}}
	for _, l := range lists {
		for module, stream := range l.Defaults {
			if a.preferred[module] == "" {
				a.preferred[module] = stream
			}
		}
		for _, s := range l.All {
			a.builds[s.Module] = append(a.builds[s.Module], s)
			for _, p := range s.Packages {
				a.listed[p] = true
			}
		}
	}
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
		for _, s := range a.builds[module] {
			if s.Name != on.Name || s.needs() != on.needs() {
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
	builds    map[string][]*Stream // by module, as repositories have them
	preferred map[string]string    // the stream that a module is on with, where it has the choice
	tie       map[string]bool      // builds of its stream that need different things would do alike
	tried     int
}

// maxTried bounds how many builds are tried: needs that need each other in many
// ways could be tried for ever.
const maxTried = 20_000

// on puts a module on in one of some streams, or in any where none is named. It
// gives the reason where that cannot be, and leaves everything as it was then.
// path is what is being put on already.
func (a *activation) on(module string, streams []string, path []string) string {
	if s := a.of[module]; s != nil {
		if len(streams) == 0 || slices.Contains(streams, s.Name) {
			return ""
		}
		return fmt.Sprintf("%s is on as %s", module, s)
	}
	if len(path) > 32 || slices.Contains(path, module) {
		return module + " needs itself"
	}
	order := streams
	if len(order) == 0 {
		for _, s := range a.builds[module] {
			if !slices.Contains(order, s.Name) {
				order = append(order, s.Name)
			}
		}
		slices.Sort(order)
	}
	if p := a.preferred[module]; slices.Contains(order, p) { // that one first
		order = append([]string{p}, slices.DeleteFunc(slices.Clone(order), func(s string) bool { return s == p })...)
	}
	why := fmt.Sprintf("no repository has %s in the stream %s", module, strings.Join(streams, " or "))
	if len(streams) == 0 {
		why = "no repository has the module " + module
	}
	for _, stream := range order {
		found, best, tie := map[string]*Stream(nil), 0, false
		for _, s := range a.builds[module] {
			if s.Name != stream {
				continue
			}
			if a.tried++; a.tried > maxTried {
				return "working it out would cost too much"
			}
			before := maps.Clone(a.of)
			reason := a.with(s, append(slices.Clone(path), module))
			if reason != "" {
				why = s.String() + " needs what is not there: " + reason
			} else if cost := s.least()<<16 + a.unasked(before); found == nil || cost < best {
				tie = found != nil && s.least() > 0
				found, best = a.of, cost
			} else if s.needs() != found[module].needs() && found[module].least() > 0 {
				tie = true
			}
			a.of = before
		}
		if found != nil {
			a.of = found
			a.tie[module] = tie
			return ""
		}
	}
	return why
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
func (a *activation) with(s *Stream, path []string) string {
	if len(s.Needs) == 0 {
		a.of[s.Module] = s
		return ""
	}
	before := maps.Clone(a.of)
	why := ""
	for _, needs := range s.Needs {
		a.of[s.Module] = s
		if why = a.meet(needs, path); why == "" {
			return ""
		}
		a.of = maps.Clone(before)
	}
	return why
}

func (a *activation) meet(needs []StreamNeed, path []string) string {
	for _, n := range needs {
		if n.Module == Platform {
			continue
		}
		allowed := []string{}
		for _, s := range a.builds[n.Module] {
			if n.allows(s.Name) && !slices.Contains(allowed, s.Name) {
				allowed = append(allowed, s.Name)
			}
		}
		if len(allowed) == 0 {
			return n.String()
		}
		slices.Sort(allowed)
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
	return len(a.names) == 0 || !slices.ContainsFunc(p.Provides, func(v Provide) bool { return a.names[v.Name] })
}
