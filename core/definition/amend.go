package definition

import (
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// Amendment is one change to a mirror or a group that leads out of a refusal.
type Amendment struct {
	Kind    string `json:"kind"`              // AddSource, LiftExcept, …
	Name    string `json:"name"`              // of the source, or of the package
	Version string `json:"version,omitempty"` // of MovePin: what the pin names from now on
	Object  string `json:"object,omitempty"`  // what is changed, such as "mirror barrage"
}

// The kinds of amendments.
const (
	AddSource  = "source" // take from another source, too
	LiftExcept = "except" // no longer except a package
	MovePin    = "pin"    // let a pin name another version
	LeaveOut   = "leave"  // leave a package out of the sets that go together
)

// amendments are what is done for each kind, by what it is done to: "except mirror".
var amendments = map[string]func(s *Set, name string, a Amendment) bool{
	AddSource + " mirror":  (*Set).addSource,
	LiftExcept + " mirror": (*Set).liftExcept,
	MovePin + " group":     (*Set).movePin,
	LeaveOut + " mirror":   (*Set).leaveOutOfMirror,
	LeaveOut + " group":    (*Set).leaveOutOfGroup,
}

// Amend makes the change. Whether what is described then has findings is up to Check. An error
// tells that there is no such object or source, that it cannot be changed so, or that there is
// nothing to change.
func (s *Set) Amend(a Amendment) error {
	kind, name, _ := strings.Cut(a.Object, " ")
	object := finding.Harmless(a.Object)
	change, ok := amendments[a.Kind+" "+kind]
	if !ok {
		return finding.New(finding.DefineBadValue, "", "a change of %q cannot set %q",
			a.Object, a.Kind).
			Do("for a mirror, change a source, an exception or a package of its sets; for a " +
				"group, change a pin or a package of its roles")
	}
	if all := s.things(kind).names(); !slices.Contains(all, name) {
		return unknown(object, kind, name, all)
	}
	if sources := s.things("source").names(); a.Kind == AddSource && !slices.Contains(sources, a.Name) {
		return unknown(object, "source", a.Name, sources)
	}
	if a.Kind == MovePin && a.Version == "" {
		return finding.New(finding.DefineBadValue, object, "the new version of the pin of %s "+
			"is missing",
			finding.Harmless(a.Name))
	}
	if !change(s, name, a) {
		return finding.New(finding.DefineBadValue, object, "it %s, so nothing would change", a.idle()).
			Do("run stockade %s show %s to see its definition", kind, name)
	}
	return nil
}

func unknown(object, kind, name string, among []string) finding.Finding {
	f := finding.New(finding.DefineDanglingReference, object, "no %s is named %q", kind, name)
	if near := Nearest(name, among); near != "" {
		f = f.Do("did you mean %q?", near)
	}
	return f
}

// String says what an amendment does, such as "mirror barrage takes from kelp, too".
func (a Amendment) String() string {
	object, what := finding.Harmless(a.Object), finding.Harmless(a.Name)
	switch a.Kind {
	case AddSource:
		return object + " takes from " + what + ", too"
	case LiftExcept:
		return object + " no longer excludes " + what
	case MovePin:
		return object + " pins " + what + " to " + finding.Harmless(a.Version)
	}
	return object + " no longer has " + what + " in its package sets"
}

// idle says why an amendment has nothing to do.
func (a Amendment) idle() string {
	what := finding.Harmless(a.Name)
	switch a.Kind {
	case AddSource:
		return "already takes from " + what
	case LiftExcept:
		return "has no exception that matches " + what
	case MovePin:
		return "has no pin of " + what + " to change, or it already is " + finding.Harmless(a.Version)
	}
	return "has " + what + " in none of its package sets"
}

func (s *Set) addSource(name string, a Amendment) bool {
	m := s.Mirrors[name]
	if slices.ContainsFunc(m.From, func(f From) bool { return f.Source == a.Name }) {
		return false
	}
	from := From{Source: a.Name}
	if m.Copy == Faithful && !m.Want.Everything {
		from.Want.Everything = true // it takes sources whole, and says so at each
	}
	m.From = append(slices.Clone(m.From), from)
	s.Mirrors[name] = m
	return true
}

// liftExcept takes out whatever excepts the package: a pattern goes with all that it is about.
func (s *Set) liftExcept(name string, a Amendment) bool {
	m := s.Mirrors[name]
	lifted := false
	left := func(except []string) []string {
		return without(except, &lifted, func(p string) bool { return archive.Matches(p, a.Name) })
	}
	m.Want.Except = left(m.Want.Except)
	m.From = slices.Clone(m.From)
	for i := range m.From {
		m.From[i].Want.Except = left(m.From[i].Want.Except)
	}
	s.Mirrors[name] = m
	return lifted
}

func (s *Set) movePin(name string, a Amendment) bool {
	g := s.Groups[name]
	moved := false
	g.Pins = slices.Clone(g.Pins)
	for i, pin := range g.Pins {
		r, err := archive.ParseWant(pin)
		if err != nil || r.Name != a.Name || r.Version == a.Version {
			continue
		}
		r.Version = a.Version
		g.Pins[i], moved = r.String(), true
	}
	s.Groups[name] = g
	return moved
}

func (s *Set) leaveOutOfMirror(name string, a Amendment) bool {
	m := s.Mirrors[name]
	left := false
	m.Together = slices.Clone(m.Together)
	for i := range m.Together {
		m.Together[i] = without(m.Together[i], &left, a.about)
	}
	m.Together = slices.DeleteFunc(m.Together, func(set []string) bool { return len(set) == 0 })
	s.Mirrors[name] = m
	return left
}

func (s *Set) leaveOutOfGroup(name string, a Amendment) bool {
	g := s.Groups[name]
	left := false
	roles := map[string][]string{}
	for role, set := range g.Roles {
		if set = without(set, &left, a.about); len(set) > 0 {
			roles[role] = set
		}
	}
	if left {
		g.Roles = roles
	}
	s.Groups[name] = g
	return left
}

// about tells whether what is wanted is the package, in whichever version.
func (a Amendment) about(want string) bool {
	r, err := archive.ParseWant(want)
	return err == nil && r.Name == a.Name
}

// without gives a list without what is gone, and notes that something went.
func without(list []string, went *bool, gone func(string) bool) []string {
	left := slices.DeleteFunc(slices.Clone(list), gone)
	*went = *went || len(left) < len(list)
	if len(left) == 0 {
		return nil
	}
	return left
}
