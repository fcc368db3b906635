package rpm

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"stockade/core/archive"
)

// streams is what one list of module streams says.
type streams struct {
	all      []*stream
	defaults map[string]string // module → its default stream
	once     sync.Once
	of       map[string]string // packages, as artifact writes them → a stream
}

var _ archive.Streams = (*streams)(nil)

// Names implements archive.Streams.
func (l *streams) Names() (out []string) {
	for _, s := range l.all {
		out = append(out, s.String())
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Of implements archive.Streams.
func (l *streams) Of(p *archive.Package) string {
	l.once.Do(func() {
		l.of = map[string]string{}
		for _, s := range l.all {
			for _, name := range s.Packages {
				l.of[name] = s.String()
			}
		}
	})
	return l.of[artifact(p)]
}

// stream is one build of a module stream.
type stream struct {
	Module, Name, Context string
	Version               uint64
	Packages              []string       // as artifact writes them
	Names                 []string       // of those packages that can be installed
	Needs                 [][]streamNeed // one of these, whole
}

// String is MODULE:STREAM.
func (s *stream) String() string { return s.Module + ":" + s.Name }

// needs writes what the build needs, the same for all that need the same.
func (s *stream) needs() string { return fmt.Sprint(s.Needs) }

// least is how many other modules it needs at least.
func (s *stream) least() int {
	least := 0
	for i, set := range s.Needs {
		n := 0
		for _, x := range set {
			if x.Module != platform {
				n++
			}
		}
		if i == 0 || n < least {
			least = n
		}
	}
	return least
}

// streamNeed is another module that must be active, in one of some streams.
type streamNeed struct {
	Module string
	Of     []string // empty: any
	Not    []string
}

func (n streamNeed) allows(stream string) bool {
	return !slices.Contains(n.Not, stream) && (len(n.Of) == 0 || slices.Contains(n.Of, stream))
}

// String writes it as lists do.
func (n streamNeed) String() string {
	text := strings.Join(n.Of, " or ")
	for _, x := range n.Not {
		text += " not " + x
	}
	return strings.TrimSpace(n.Module + " " + text)
}

// platform is the module that stands for the machine's own system. What it is, the
// mirror does not know: whatever is asked of it counts as met.
const platform = "platform"

// active is which module streams a machine has on, and what it sees for that.
type active struct {
	of       map[string]*stream // by module: one of the builds that are on
	packages map[string]string  // those of active streams, as artifact writes them → the stream
	listed   map[string]bool    // packages of any stream
	names    map[string]bool    // of packages of active streams
	doubts   archive.StreamDoubts
}

// activate works out which streams are on: those that are enabled, and of other
// modules the default, with all that these need. Of each module one stream is on,
// and of its builds those that need the same: what needs the fewest others, where
// there is a choice, and then what puts on the fewest that nobody asked for.
// A stream whose needs cannot be met is off. The lists are of all repositories that
// the machine sees.
func activate(lists []*streams, enabled []string) *active {
	a := newActivation(lists)
	for _, e := range enabled {
		module, stream, _ := strings.Cut(e, ":")
		a.preferred[module], a.asked[module] = stream, append(a.asked[module], stream)
	}
	for _, e := range enabled {
		module, stream, _ := strings.Cut(e, ":")
		if why := a.on(module, []string{stream}, nil); why != "" && len(a.builds[module]) > 0 {
			a.doubts.Off = append(a.doubts.Off, archive.OffStream{Stream: e, Why: why})
		}
	}
	for _, module := range slices.Sorted(maps.Keys(a.preferred)) {
		if a.asked[module] == nil {
			a.on(module, []string{a.preferred[module]}, nil)
		}
	}
	for module, on := range a.of {
		if a.tie[module] {
			a.doubts.Open = append(a.doubts.Open, on.String())
		}
		needs := on.needs()
		for _, s := range a.builds[module][on.Name] {
			if s.needs() != needs {
				continue
			}
			for _, p := range s.Packages {
				a.packages[p] = s.String()
			}
			for _, n := range s.Names {
				a.names[n] = true
			}
		}
	}
	slices.Sort(a.doubts.Open)
	return a.active
}

type activation struct {
	*active
	builds    map[string]map[string][]*stream // by module and stream, as repositories have them
	streams   map[string][]string             // of each module, in order
	preferred map[string]string               // the stream that a module is on with, where it has the choice
	// the streams that are enabled: their modules are on with no other
	asked map[string][]string
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

func newActivation(lists []*streams) *activation {
	a := &activation{
		active: &active{
			of:       map[string]*stream{},
			packages: map[string]string{},
			listed:   map[string]bool{},
			names:    map[string]bool{},
		},
		builds:    map[string]map[string][]*stream{},
		streams:   map[string][]string{},
		preferred: map[string]string{},
		tie:       map[string]bool{},
		asked:     map[string][]string{},
		left:      activationBase,
	}
	for _, l := range lists {
		for module, stream := range l.defaults {
			if a.preferred[module] == "" {
				a.preferred[module] = stream
			}
		}
		for _, s := range l.all {
			if a.builds[s.Module] == nil {
				a.builds[s.Module] = map[string][]*stream{}
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
		a.doubts.GaveUp = true
	}
	return !a.doubts.GaveUp
}

const tooMuch = "determining it would cost too much"

// on puts a module on in one of some streams. It gives the reason where that cannot
// be, and leaves everything as it was then. path is what is being put on already.
func (a *activation) on(module string, streams []string, path []string) string {
	if s := a.of[module]; s != nil {
		if slices.Contains(streams, s.Name) {
			return ""
		}
		return fmt.Sprintf("%s is enabled as %s", module, s)
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
func (a *activation) best(builds []*stream, path []string) (found map[string]*stream, why string) {
	least, cost, tie := 0, 0, false
	var needs string
	before := a.of
	for _, s := range builds {
		if !a.spend(len(before) + len(s.Needs)) {
			return nil, tooMuch
		}
		a.of = maps.Clone(before)
		if reason := a.with(s, path); reason != "" {
			why = s.String() + " requires what does not exist: " + reason
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
func (a *activation) unasked(before map[string]*stream) (n int) {
	for module := range a.of {
		if before[module] == nil && a.preferred[module] == "" {
			n++
		}
	}
	return n
}

// with puts one build on with what it needs.
func (a *activation) with(s *stream, path []string) (why string) {
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

func (a *activation) meet(needs []streamNeed, path []string) string {
	for _, n := range needs {
		if n.Module == platform {
			continue
		}
		if !a.spend(len(a.streams[n.Module]) * (1 + len(n.Of) + len(n.Not))) {
			return tooMuch
		}
		var allowed []string
		for _, stream := range a.streams[n.Module] {
			if n.allows(stream) && (a.asked[n.Module] == nil || slices.Contains(a.asked[n.Module], stream)) {
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

// Of implements archive.ActiveStreams.
func (a *active) Of(p *archive.Package) string { return a.packages[artifact(p)] }

// Sees implements archive.ActiveStreams: one of an active stream is seen; one
// of other streams is not; nor one of no stream whose name, or a name that it
// provides, is that of a package of an active stream.
func (a *active) Sees(p *archive.Package) bool {
	key := artifact(p)
	if a.packages[key] != "" {
		return true
	}
	if a.listed[key] || a.names[p.Name] {
		return false
	}
	return len(a.names) == 0 || !slices.ContainsFunc(p.Provides, func(v archive.Provide) bool {
		return a.names[v.Name]
	})
}

// Doubts implements archive.ActiveStreams.
func (a *active) Doubts() archive.StreamDoubts { return a.doubts }
