package solve

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/crillab/gophersat/solver"

	"stockade/core/archive"
)

// proveMost is up to how many wanted packages of one architecture conflicts
// are looked for. Beyond it (a whole distribution) only needs are proved.
const proveMost = 5000

// prove shows for every wanted package whose needs can be met that a set of
// packages of the mirror exists in which it can be installed: every need met,
// nothing in conflict, one version of each name.
func (s *selector) prove(roots map[string][]offer) {
	inside := map[string][]offer{} // what the mirror will have, by real and provided name
	for p, c := range s.chosen {
		o := offer{p, c.Source}
		if !s.runs(o, s.arch) {
			continue
		}
		inside[p.Name] = append(inside[p.Name], o)
		for _, v := range p.Provides {
			if v.Name != p.Name {
				inside[v.Name] = append(inside[v.Name], o)
			}
		}
	}
	var wanted []offer
	for _, with := range slices.Sorted(maps.Keys(roots)) {
		wanted = append(wanted, roots[with]...)
	}
	if len(wanted) > proveMost {
		return
	}
	seen := map[*archive.Package]bool{}
	for _, w := range wanted {
		if seen[w.Package] || s.support[w.Package] != supported {
			continue
		}
		seen[w.Package] = true
		s.proveOne(w)
	}
}

// maxCases bounds the rules that one conditional need becomes.
const maxCases = 4096

// rule is one constraint of the proof with the words to explain it.
type rule struct {
	lits    []int
	between [2]string
	because string // empty: not a conflict
}

func (s *selector) proveOne(w offer) {
	number := map[*archive.Package]int{}
	var packages []offer
	id := func(o offer) int {
		if n, ok := number[o.Package]; ok {
			return n
		}
		number[o.Package] = len(packages) + 1
		packages = append(packages, o)
		return len(packages)
	}
	rules := []rule{{lits: []int{id(w)}}}
	for at := 0; at < len(packages); at++ {
		o := packages[at]
		rel, err := s.relations(o.Package)
		if err != nil {
			return
		}
		for _, c := range rel.Requires {
			// One literal that says that nothing meets a relation is one rule for
			// each thing that does.
			all := [][]int{{-(at + 1)}}
			for _, r := range c {
				not := r.Not
				r.Not = false
				var ids []int
				for _, cand := range s.usable(r) {
					if _, in := s.chosen[cand.Package]; in {
						ids = append(ids, id(cand))
					}
				}
				if !not {
					for i := range all {
						all[i] = append(all[i], ids...)
					}
					continue
				}
				var each [][]int
				for _, lits := range all {
					for _, n := range ids {
						each = append(each, append(slices.Clone(lits), -n))
					}
				}
				if all = each; len(all) == 0 || len(all) > maxCases {
					all = nil // it holds whatever happens (or has more cases than can be looked at)
					break
				}
			}
			because := ""
			if c.Conditional() && len(positive(c)) == 0 {
				because = o.Name + " excludes " + strings.ReplaceAll(c.String(), "not ", "")
			}
			for _, lits := range all {
				rules = append(rules, rule{lits: lits, between: [2]string{o.String(), ""}, because: because})
			}
		}
	}
	byName := map[string][]int{}
	for i, o := range packages {
		byName[o.Name] = append(byName[o.Name], i+1)
	}
	for name, ids := range byName {
		for i := range ids {
			for j := i + 1; j < len(ids); j++ {
				a, b := packages[ids[i]-1], packages[ids[j]-1]
				if !s.family.Exclusive(a.Package, b.Package) {
					continue
				}
				rules = append(rules, rule{lits: []int{-ids[i], -ids[j]}, between: [2]string{a.String(), b.String()},
					because: "only one version of " + name + " can be installed"})
			}
		}
	}
	for i, o := range packages {
		rel, _ := s.relations(o.Package)
		for _, r := range rel.Conflicts {
			for _, other := range s.candidates(r, s.arch) {
				n, in := number[other.Package]
				// A package does not conflict with itself, nor with its own other versions.
				if in && other.Package != o.Package && other.Name != o.Name {
					rules = append(rules, rule{lits: []int{-(i + 1), -n}, between: [2]string{o.String(), other.String()},
						because: fmt.Sprintf("%s excludes %s", o.Name, r)})
				}
			}
		}
	}
	if satisfiable(rules) {
		return
	}
	c := Conflict{Wanted: w.Package, Arch: s.arch, Because: "its needs exclude each other"}
	// The shortest explanation: one exclusion without which it would do.
	for i, r := range rules {
		if r.because != "" && satisfiable(slices.Concat(rules[:i], rules[i+1:])) {
			c.Between, c.Because = r.between, r.because
			break
		}
	}
	s.out.Conflicts = append(s.out.Conflicts, c)
}

func satisfiable(rules []rule) bool {
	cnf := make([][]int, len(rules))
	for i, r := range rules {
		cnf[i] = r.lits
	}
	return solver.New(solver.ParseSlice(cnf)).Solve() == solver.Sat
}

// String explains a conflict in one sentence.
func (c Conflict) String() string {
	s := c.Wanted.String() + " cannot be installed on " + c.Arch + ": " + c.Because
	if c.Between[0] != "" && c.Between[1] != "" {
		s += " (" + strings.Join(c.Between[:], " against ") + ")"
	}
	return s
}
