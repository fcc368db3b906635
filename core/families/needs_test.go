package families

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/solve"
	"stockade/core/trust"
	"stockade/internal/made"
	"stockade/internal/must"
)

// needs are what a package of a town needs.
type needs []archive.Relation

func (n needs) Relations() (archive.Relations, error) {
	var out archive.Relations
	for _, r := range n {
		out.Requires = append(out.Requires, archive.Clause{r})
	}
	return out, nil
}

func needsAsDeb(p archive.Package) string {
	all, _ := p.Needs.(needs)
	var texts []string
	for _, r := range all {
		texts = append(texts, fmt.Sprintf("%s (%s %s)", r.Name, string(r.Op), r.Version))
	}
	if len(texts) == 0 {
		return ""
	}
	return "Depends: " + strings.Join(texts, ", ") + "\n"
}

func needsAsWords(p archive.Package, blank string) (out []string) {
	all, _ := p.Needs.(needs)
	for _, r := range all {
		out = append(out, r.Name+blank+string(r.Op)+blank+r.Version)
	}
	return out
}

// installers ask a client whether it would install one package, by name.
var installers = map[string]func(t *testing.T, root, name string) bool{
	"apt-get": func(t *testing.T, root, name string) bool {
		text := run(t, root, append(aptIn(t, root), "-s", "install", name)...)
		return strings.Contains(text, "Inst "+name+" ")
	},
	"dnf": func(t *testing.T, root, name string) bool {
		with := slices.DeleteFunc(dnfIn(t, root), func(a string) bool { return a == "--setopt=strict=0" })
		return picked(run(t, root, append(with, "--best", "install", name)...), dnfLine)[name] != ""
	},
	"zypper": func(t *testing.T, root, name string) bool {
		text := run(t, root, append(zypperIn(t, root), "install", "--dry-run", "--details",
			"--no-recommends", name)...)
		return regexp.MustCompile(`(?m)^`+name+` *\n +\S+ *\n`).MatchString(text) &&
			!strings.Contains(text, "Problem: ")
	},
	"pacman": func(t *testing.T, root, name string) bool {
		text := run(t, root, append(pacmanIn(t, root), "-Sp", "--print-format", "%n %v", name)...)
		return regexp.MustCompile(`(?m)^` + name + ` \S+$`).MatchString(text)
	},
}

// Whether a package can be installed by its name, where needs ask for versions of which a source, or
// a source of another priority, has others too: what is proved is what the real client does.
func TestWhatIsProvedOfVersionsIsWhatTheRealClientDoes(t *testing.T) {
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0]
	for _, c := range choosers {
		t.Run(c.name, func(t *testing.T) {
			t.Parallel()
			if _, err := exec.LookPath(c.name); err != nil {
				t.Fatal("the client is not there: make tools")
			}
			c.further, c.all = nil, c.own
			compared, no, unaided := 0, 0, 0
			for n, r := range cases(t, 12, 41) {
				u := newTown(c, r)
				u.pins = nil
				u.needing(r)
				ours, by := u.installable(t)
				unaided += by
				theirs := u.installsEach(t, key, ours, installers[c.name])
				for name, can := range ours {
					compared++
					if !can {
						no++
					}
					if can != theirs[name] {
						t.Errorf("case %d, %s: we say %v, and the client %v, of\n%s", n, name, can,
							theirs[name], u.told())
					}
				}
			}
			t.Logf("%d packages were compared; %d cannot be installed, of %d needs because another version "+
				"comes first", compared, no, unaided)
			if compared < 60 || no < 8 {
				t.Errorf("%d comparisons, of which %d are no: that is none", compared, no)
			}
		})
	}
}

// installsEach asks the client of each name by itself whether it would install it.
func (u *town) installsEach(t *testing.T, key *trust.SiteKey, names map[string]bool,
	installs func(t *testing.T, root, name string) bool) map[string]bool {
	t.Helper()
	out := map[string]bool{}
	u.asks = func(t *testing.T, root string, _ []string) map[string]string {
		u.readied(t, root)
		for name := range names {
			out[name] = installs(t, root, name)
		}
		return nil
	}
	u.theirs(t, key, nil)
	return out
}

// readied has the client ask for its lists.
func (u *town) readied(t *testing.T, root string) {
	t.Helper()
	switch u.name {
	case "apt-get":
		must.Do(t, os.WriteFile(filepath.Join(root, "status"), nil, 0o644))
		run(t, root, append(aptIn(t, root), "update")...)
	case "zypper":
		run(t, root, append(zypperIn(t, root), "refresh")...)
	case "pacman":
		run(t, root, append(pacmanIn(t, root), "-Sy")...)
	}
}

// needing gives packages needs of others of a later number, so that none goes in a circle; of names
// that some source has.
func (u *town) needing(r *rand.Rand) {
	ops := []archive.Op{archive.Equal, archive.GreaterOrEqual, archive.LessOrEqual, archive.Equal}
	known := map[string]needs{} // one name and version is one package wherever it is
	number := func(name string) (n int) { fmt.Sscanf(name, "p%d", &n); return n }
	for i := range u.packages {
		kept := u.packages[i][:0]
		for _, p := range u.packages[i] {
			if number(p.Name) < 7 {
				kept = append(kept, p)
			}
		}
		u.packages[i] = kept
		for k := range kept {
			id := kept[k].Name + " " + kept[k].Version
			all, have := known[id]
			if have {
				kept[k].Needs = all
				continue
			}
			for range r.IntN(3) {
				if to := number(kept[k].Name) + 1 + r.IntN(3); to < 7 {
					all = append(all, archive.Relation{Name: fmt.Sprintf("p%d", to),
						Op: ops[r.IntN(len(ops))], Version: u.versions[r.IntN(len(u.versions))]})
				}
			}
			kept[k].Needs, known[id] = all, all
		}
	}
}

// told tells what there is.
func (u *town) told() string {
	text := ""
	for i, packages := range u.packages {
		for _, p := range packages {
			text += fmt.Sprintf("s%d (priority %d) has %s %s, which needs %v\n", i, u.priority[i], p.Name,
				p.Version, needsAsWords(p, " "))
		}
	}
	return text
}

// installable gives what we say of each name, where machines see everything, and how many needs are
// met by versions alone that do not come first.
func (u *town) installable(t *testing.T) (can map[string]bool, unaided int) {
	t.Helper()
	universe := u.universe()
	can = map[string]bool{}
	var wants []solve.Want
	everything := []int{}
	for i := range u.packages {
		everything = append(everything, len(wants))
		wants = append(wants, solve.Want{Source: i, Relation: archive.Relation{Name: "*"}})
		for _, p := range u.packages[i] {
			can[p.Name] = false
		}
	}
	view := u.view(t)
	view.Name, view.Wants = "all", everything
	views := []solve.View{view}
	var names []string
	for name := range can {
		names = append(names, name)
		view.Name, view.Wants = name, []int{len(wants)}
		views = append(views, view)
		wants = append(wants, solve.Want{Source: solve.AllSources, Relation: archive.Relation{Name: name},
			Versions: 1, With: "required"})
	}
	s, err := universe.Select(t.Context(), wants, views, solve.Limits{})
	must.Do(t, err)
	for _, p := range s.Proofs {
		if slices.Contains(names, p.View) {
			can[p.View] = p.Wanted > 0 && p.Proved == p.Wanted
		}
	}
	return can, len(s.Unaided)
}
