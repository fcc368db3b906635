package families

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"stockade/core/archive"
	"stockade/internal/made"
	"stockade/internal/must"
)

// wired is what a package of a town needs and conflicts with, by name.
type wired struct{ requires, conflicts []string }

func (w wired) Relations() (archive.Relations, error) {
	var out archive.Relations
	for _, r := range w.requires {
		out.Requires = append(out.Requires, archive.Clause{{Name: r}})
	}
	for _, r := range w.conflicts {
		out.Conflicts = append(out.Conflicts, archive.Relation{Name: r})
	}
	return out, nil
}

// wire gives packages one version each, and needs, names that they provide, and conflicts.
func (u *town) wire(r *rand.Rand) {
	u.pins = nil
	name := func() string {
		if r.IntN(3) == 0 {
			return fmt.Sprintf("v%d", r.IntN(3))
		}
		return fmt.Sprintf("p%d", r.IntN(12))
	}
	for i := range u.packages {
		for k := range u.packages[i] {
			p := &u.packages[i][k]
			var w wired
			for range r.IntN(3) {
				w.requires = append(w.requires, name())
			}
			if r.IntN(3) == 0 {
				w.conflicts = append(w.conflicts, name())
			}
			if r.IntN(2) == 0 {
				p.Provides = append(p.Provides, archive.Provide{Name: name()})
			}
			p.Needs = w
		}
	}
}

// Where a dependency can be satisfied in several ways, pacman takes the first and does not go back
// when that leads to a conflict: what is proved is what it installs.
func TestAProofForPacmanTakesTheFirstProviderAsPacmanDoes(t *testing.T) {
	c := choosers[slices.IndexFunc(choosers, func(c chooser) bool { return c.name == "pacman" })]
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	compared, no, first := 0, 0, 0
	for n, r := range cases(t, 20, 61) {
		u := newTown(c, r)
		u.wire(r)
		ours, by := u.installable(t)
		first += by
		theirs := u.installsEach(t, key, ours, pacmanInstalls)
		for name, can := range ours {
			compared++
			if !can {
				no++
			}
			if can != theirs[name] {
				t.Errorf("case %d, %s: got %v, and pacman says %v, of\n%s", n, name, can, theirs[name],
					u.wires())
			}
		}
	}
	t.Logf("%d packages were compared; %d cannot be installed; %d findings name what is taken first",
		compared, no, first)
	if compared < 150 || no < 30 || first < 10 {
		t.Errorf("got %d comparisons, %d and %d times no: that is no comparison", compared, no, first)
	}
}

// pacmanInstalls has pacman install a package for its records alone, and forgets it again: what it
// only prints it does not look through for conflicts.
func pacmanInstalls(t *testing.T, root, name string) bool {
	t.Helper()
	c := exec.Command("pacman", append(pacmanIn(t, root)[1:], "-S", "--dbonly", "--noscriptlet", name)...)
	c.Env = append(os.Environ(), "LC_ALL=C.UTF-8", "HOME="+root)
	err := c.Run()
	must.Do(t, errors.Join(os.RemoveAll(filepath.Join(root, "var/lib/pacman/local")),
		os.RemoveAll(filepath.Join(root, "cache")))) // where another file of the same name may lie
	return err == nil
}

// wires tells what there is.
func (u *town) wires() string {
	text := ""
	for i, packages := range u.packages {
		for _, p := range packages {
			w, _ := p.Needs.(wired)
			text += fmt.Sprintf(
				"s%d (priority %d) %s has %s %s: needs %v, provides %v, conflicts with %v\n", i,
				u.priority[i], p.Component, p.Name, p.Version, w.requires, p.Provides, w.conflicts)
		}
	}
	return text
}
