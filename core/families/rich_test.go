package families

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"testing"

	"stockade/core/archive"
	"stockade/core/archive/rpm"
	"stockade/internal/made"
)

// rich is what a package needs and conflicts with, in rpm's own words.
type rich struct {
	owner               string
	requires, conflicts []string
}

func (w rich) Relations() (archive.Relations, error) {
	var out archive.Relations
	for _, text := range w.requires {
		if text[0] != '(' {
			out.Requires = append(out.Requires, archive.Clause{{Name: text}})
			continue
		}
		clauses, err := rpm.ParseRequirement(text, w.owner)
		if err != nil {
			return out, err
		}
		out.Requires = append(out.Requires, clauses...)
	}
	for _, text := range w.conflicts {
		if text[0] != '(' {
			out.Conflicts = append(out.Conflicts, archive.Relation{Name: text})
			continue
		}
		clauses, err := rpm.ParseRich(text, true)
		if err != nil {
			return out, err
		}
		out.Requires = append(out.Requires, clauses...)
	}
	return out, nil
}

// enrich gives packages of one version boolean requirements, of themselves too.
func (u *town) enrich(r *rand.Rand) {
	u.pins = nil
	self := ""
	name := func() string {
		if r.IntN(4) == 0 && self != "" {
			return self
		}
		return fmt.Sprintf("p%d", r.IntN(8))
	}
	ops := []string{"and", "or", "if", "unless", "or", "if"}
	expression := func() string {
		op := ops[r.IntN(len(ops))]
		text := fmt.Sprintf("(%s %s %s)", name(), op, name())
		if (op == "if" || op == "unless") && r.IntN(3) == 0 {
			text = text[:len(text)-1] + " else " + name() + ")"
		}
		return text
	}
	var all []archive.Package
	for n := range 8 {
		if r.IntN(6) == 0 {
			continue
		}
		self = fmt.Sprintf("p%d", n)
		w := rich{owner: self}
		for range r.IntN(3) {
			text := expression()
			if r.IntN(4) == 0 {
				text = name()
			}
			w.requires = append(w.requires, text)
		}
		if r.IntN(3) == 0 {
			self = "" // what conflicts with itself is nothing that clients agree on
			w.conflicts = append(w.conflicts, name())
		}
		all = append(all, archive.Package{Name: fmt.Sprintf("p%d", n), Version: "1.0-1", Arch: u.own,
			Needs: w})
	}
	u.packages, u.priority = [][]archive.Package{all}, []int{20}
}

// Boolean requirements, those that name the package itself among them, are proved as dnf and zypper
// understand them.
func TestBooleanRequirementsAreProvedAsTheRealClientsUnderstandThem(t *testing.T) {
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	for _, c := range choosers {
		if c.family != "rpm" {
			continue
		}
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath(c.name); err != nil {
				t.Fatal("the client is not there: make tools")
			}
			compared, no := 0, 0
			for n, r := range cases(t, 5, 97) {
				u := &town{chooser: c}
				u.enrich(r)
				ours, _ := u.installable(t)
				theirs := u.installsEach(t, key, ours, installers[c.name])
				for name, can := range ours {
					compared++
					if !can {
						no++
					}
					if can != theirs[name] {
						text := ""
						for _, p := range u.packages[0] {
							text += fmt.Sprintf("%s needs %q, conflicts with %q\n", p.Name,
								p.Needs.(rich).requires, p.Needs.(rich).conflicts)
						}
						t.Errorf("case %d, %s: got %v, and the client says %v, of\n%s", n, name, can,
							theirs[name], text)
					}
				}
			}
			t.Logf("%d packages were compared; %d cannot be installed", compared, no)
			if compared < 25 || no < 4 {
				t.Errorf("got %d comparisons, %d times no: that is no comparison", compared, no)
			}
		})
	}
}
