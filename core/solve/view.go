package solve

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"stockade/core/archive"
)

// View is one kind of machines that a selection is made for: which sources they
// see, on which architectures, and what is wanted for them.
type View struct {
	// Name is told with what was found: "the group gatehouse". Empty: all
	// machines that could use the mirror.
	Name          string
	Architectures []string
	Foreign       []string // architectures that the machines have turned on beside their own
	Sources       []int    // that are seen; nil: all that are not outside
	// Ranks decide between sources, as the machines' client is configured (archive.Configuration).
	// What a source has of components that are not in here is not seen, unless the source is in
	// here whole or not at all. Sources that are not in here are ranked by their priority.
	Ranks Ranks
	Wants []int // which of the wants; nil: all
	// Pins are versions that the machines stay on. Other versions of those names
	// are not seen, where a source has the pinned one; of a family whose clients exclude
	// (archive.PinExcludes), also where none has.
	Pins []archive.Relation
	// Hides tells of packages that the machines do not see although they see their
	// source; nil: none.
	Hides func(p *archive.Package) bool
	// Together are wants that are proved to go together, beside each by itself.
	Together []Together
	// Beside is told with what was proved: what the machines have from elsewhere.
	Beside string
	// Every asks of every package that was taken whether it can be installed, and not of what is
	// wanted alone.
	Every bool
}

// Ranks are the ranks of repositories, by source and component.
type Ranks map[Repository]int

// Repository is a component of a source; of "", the whole source.
type Repository struct {
	Source    int
	Component string
}

// RanksOf gives the ranks of a client's repositories. at gives the number of a source by its name.
func RanksOf(c archive.Configuration, at func(source string) (int, bool)) Ranks {
	out := Ranks{}
	for _, r := range c.Repositories {
		if k, ok := at(r.Name); ok {
			out[Repository{k, r.Component}] = r.Rank
		}
	}
	return out
}

// Together is wants of a view whose packages shall be installable side by side.
type Together struct {
	Name  string
	Group string // whose own it is; empty: of the mirror
	Wants []int
	// Loose tells that nothing is asked where a want has nothing for the architecture: no machines
	// are known that would need it.
	Loose bool

	wants []string // as they were written
}

// Everyone is the view of all machines that could use the universe: every source,
// on every architecture that one of them has.
func (u *Universe) Everyone() View {
	var v View
	for _, src := range u.sources {
		for _, a := range src.Architectures {
			if !slices.Contains(v.Architectures, a) {
				v.Architectures = append(v.Architectures, a)
			}
		}
	}
	return v
}

// Proof says what was shown for the machines of one view and architecture: that
// so many of the wanted packages can be installed from what was taken.
type Proof struct {
	View   string `json:"view,omitempty"` // its name; empty: all machines that could use the mirror
	Arch   string `json:"architecture"`
	Wanted int    `json:"wanted"`
	Proved int    `json:"proved"`
	// Every tells that all that was taken was asked about, and not what is wanted alone.
	Every bool        `json:"every,omitempty"`
	Sets  []ProvedSet `json:"sets,omitempty"` // that shall go together
	// Beside is what the machines have from elsewhere; empty: nothing.
	Beside string `json:"beside,omitempty"`
	// Rests are the names of what they have from there, and packages of the mirror need.
	Rests []string `json:"rests_on,omitempty"`
}

// ProvedSet is a set of wanted packages that shall go together.
type ProvedSet struct {
	Name     string   `json:"name"`
	Packages []string `json:"packages"`
	Proved   bool     `json:"proved"`
}

// String says it in words: "12 of 12 wanted can be installed by the group gatehouse
// on amd64".
func (p Proof) String() string {
	view := p.View
	if view == "" {
		view = "machines of no group"
	}
	what := "wanted"
	if p.Every {
		what = "packages"
	}
	s := fmt.Sprintf("%d of %d %s can be installed by %s on %s", p.Proved, p.Wanted, what, view, p.Arch)
	if p.Beside != "" {
		s += ", beside " + p.Beside
	}
	if len(p.Sets) > 0 {
		good := 0
		for _, set := range p.Sets {
			if set.Proved {
				good++
			}
		}
		s += fmt.Sprintf("; %d of %d sets can be installed together", good, len(p.Sets))
	}
	return s
}

// Surpassed is a package that machines of a view would take, while a source that
// they see has a newer version.
type Surpassed struct {
	View, Arch string
	Have       *archive.Package
	Source     int
	Newer      *archive.Package
	Elsewhere  int
	// Behind tells that the newer one stands at a worse priority.
	Behind bool
	// Needer needs a version that the newer one is not, and does not stay behind for another reason:
	// Clause says which. nil: nothing but the want, or the priority, keeps machines from it.
	Needer *archive.Package
	Clause archive.Clause
}

// begin turns to the machines of one view and architecture.
func (s *selector) begin(v View, arch string) {
	s.view, s.arch = v, arch
	s.nodes, s.meetings, s.question = map[*archive.Package]*node{}, map[meetingKey]*meeting{}, nil
	s.namesakes = map[string]*called{}
	s.lacking = nil
	s.sees = make([]bool, len(s.sources))
	for i := range s.sources {
		s.sees[i] = v.Sources == nil && !s.sources[i].Outside || slices.Contains(v.Sources, i)
	}
	s.ranked = make([]bool, len(s.sources))
	for r := range v.Ranks {
		s.ranked[r.Source] = true
	}
	s.relied, s.rests = map[*archive.Package]bool{}, map[string]bool{}
	s.hidden = map[*archive.Package]bool{}
	s.pinned = map[pinKey]string{}
	alone := s.rules.Pins == archive.PinExcludes
	for _, p := range v.Pins {
		// A pin that prefers does nothing for an architecture that no source has the version for.
		for _, a := range append([]string{arch}, v.Foreign...) {
			if alone || slices.ContainsFunc(s.called(p.Name), func(o offer) bool {
				return !s.sources[o.source].Installed && s.runs(o, a) && s.isIn(o, p)
			}) {
				s.pinned[pinKey{p.Name, a}] = p.Version
			}
		}
	}
	s.stand()
}

// pinKey is what a pin is about: packages of a name on one architecture.
type pinKey struct{ name, arch string }

// runs tells whether machines of the view that is being looked at could take an
// offer, on an architecture.
func (s *selector) runs(o offer, arch string) bool {
	if !s.seesOffer(o) || !s.Universe.runs(o, arch) {
		return false
	}
	if s.sources[o.source].Installed {
		return true
	}
	if pin, pinned := s.pinned[pinKey{o.Name, arch}]; pinned && s.family.CompareVersions(o.Version,
		pin) != 0 {
		return false
	}
	return s.view.Hides == nil || !s.hides(o.Package)
}

// seesOffer tells whether machines of the view that is being looked at see the repository of an
// offer.
func (s *selector) seesOffer(o offer) bool {
	if !s.sees[o.source] || !s.ranked[o.source] {
		return s.sees[o.source]
	}
	_, seen := s.rankOf(o)
	return seen
}

// rankOf gives the rank that the view has for the repository of an offer.
func (s *selector) rankOf(o offer) (int, bool) {
	if r, whole := s.view.Ranks[Repository{o.source, ""}]; whole {
		return r, true
	}
	r, ok := s.view.Ranks[Repository{o.source, o.Component}]
	return r, ok
}

// hides asks the view about each package once.
func (s *selector) hides(p *archive.Package) bool {
	hidden, asked := s.hidden[p]
	if !asked {
		hidden = s.view.Hides(p)
		s.hidden[p] = hidden
	}
	return hidden
}

// surpassed tells of what was taken where machines see something newer: of each
// name the version that they would take is compared with all that they see.
// Where a want itself says that older ones are meant, nothing is told.
func (s *selector) surpassed(meant map[string]bool) {
	taken := map[string]offer{}
	var names []string
	for p, c := range s.chosen {
		o := offer{p, c.Source}
		if !s.runs(o, s.arch) || meant[p.Name] {
			continue
		}
		best, seen := taken[p.Name]
		if !seen {
			names = append(names, p.Name)
		}
		if !seen || s.before(o, best) {
			taken[p.Name] = o
		}
	}
	slices.Sort(names)
	begun := len(s.out.Surpassed)
	for _, name := range names {
		have := taken[name]
		var newer offer
		for _, o := range s.called(name) {
			if !s.spend(1) {
				return
			}
			if !s.runs(o, s.arch) || s.excepted(o) || s.sources[o.source].Outside ||
				!s.forAll(o) && !s.forAll(have) &&
					s.family.Rank(o.Arch, s.arch) != s.family.Rank(have.Arch, s.arch) ||
				s.family.CompareVersions(o.Version, have.Version) <= 0 {
				continue
			}
			if newer.Package == nil || s.before(o, newer) {
				newer = o
			}
		}
		if newer.Package == nil {
			continue
		}
		s.out.Surpassed = append(s.out.Surpassed, Surpassed{View: s.view.Name, Arch: s.arch,
			Have: have.Package, Source: have.source,
			Newer: newer.Package, Elsewhere: newer.source, Behind: s.order(newer) > s.order(have)})
	}
	s.heldBack(s.out.Surpassed[begun:])
}

// heldBack says which of those that stay behind do so for what needs just that version. What needs
// it and stays behind itself counts only where a need holds that in turn: packages that need each
// other in one version hold nothing.
func (s *selector) heldBack(all []Surpassed) {
	if len(all) == 0 {
		return
	}
	at := map[*archive.Package]*Surpassed{}
	for i := range all {
		at[all[i].Have] = &all[i]
	}
	holding := s.holding()
	for more := true; more; {
		more = false
		for i := range all {
			x := &all[i]
			if x.Needer != nil {
				continue
			}
			for _, h := range holding[x.Have.Name] {
				if behind := at[h.needer]; (behind == nil || behind.Needer != nil) &&
					s.heldBy(h.clause, offer{x.Have, x.Source}) &&
					!s.heldBy(h.clause, offer{x.Newer, x.Elsewhere}) {
					x.Needer, x.Clause, more = h.needer, h.clause, true
					break
				}
			}
		}
	}
}

// held is a need that asks for versions of one name.
type held struct {
	needer *archive.Package
	clause archive.Clause
}

// holding gives the needs of what was taken that ask for versions of one name and nothing else, by
// that name, in the order of who needs it.
func (s *selector) holding() map[string][]held {
	out := map[string][]held{}
	for p, c := range s.chosen {
		if !s.runs(offer{p, c.Source}, s.arch) {
			continue
		}
		for _, terms := range s.needsOf(p).requires {
			clause := archive.Clause{}
			for _, t := range terms {
				if t.not || t.Op == "" || t.Name != terms[0].Name {
					clause = nil
					break
				}
				clause = append(clause, t.Relation)
			}
			if len(clause) > 0 {
				out[clause[0].Name] = append(out[clause[0].Name], held{p, clause})
			}
		}
	}
	for _, all := range out {
		slices.SortFunc(all, func(a, b held) int {
			return cmp.Or(strings.Compare(a.needer.String(), b.needer.String()),
				strings.Compare(a.clause.String(), b.clause.String()))
		})
	}
	return out
}

// heldBy tells whether one of the relations of a clause is met by an offer of their name.
func (s *selector) heldBy(c archive.Clause, o offer) bool {
	return slices.ContainsFunc(c, func(r archive.Relation) bool { return s.isIn(o, r) })
}

// order puts offers as clients ask for them: by the rank that the view has for their repository,
// and where it has none, by the priority of their source.
func (s *selector) order(o offer) int {
	if s.ranked[o.source] {
		if r, ok := s.rankOf(o); ok {
			return r
		}
	}
	place := 0
	if s.rules.InOrder {
		place = o.source
	}
	return archive.RankOf(s.sources[o.source].Priority, place)
}

// before tells whether machines would take an offer rather than another of its
// name: the better priority, and among equals the newer version.
func (s *selector) before(a, b offer) bool {
	if d := s.order(a) - s.order(b); d != 0 {
		return d < 0
	}
	return s.family.CompareVersions(a.Version, b.Version) > 0
}
