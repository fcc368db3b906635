package mirror

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/made"
	"stockade/internal/must"
)

// estimated works out what a build would take, as "name version: reason", sorted.
func (w *world) estimated() (*Outcome, []string) {
	w.t.Helper()
	out, err := w.builder.Estimate(w.t.Context(), w.plan)
	must.Do(w.t, err)
	var taken []string
	for _, p := range out.selection {
		line := p.Name + " " + p.Version + ": " + p.why
		if !p.wanted {
			line = p.Name + " " + p.Version + " (" + strings.TrimSpace(p.how+" for "+p.why) + ")"
		}
		taken = append(taken, line)
	}
	slices.Sort(taken)
	return out, taken
}

// Every way to say what is wanted takes what it says, with the reason; and says when it is nothing.
func TestWaysToSelectFromTheDebFamily(t *testing.T) {
	w := newWorld(t)
	w.repo.Contents = true
	w.repo.Packages = append(w.repo.Packages,
		made.Deb{Component: "core", Name: "base-tools", Version: "9", Arch: "amd64",
			Fields: "Essential: yes\nPriority: required\nSection: admin\n"},
		made.Deb{Component: "core", Name: "shell", Version: "5", Arch: "amd64",
			Fields: "Priority: required\nSection: shells\nTask: gate-desk, pump-desk\n"},
		made.Deb{Component: "field", Name: "post", Version: "1", Arch: "amd64",
			Fields: "Section: field/mail\nSource: mailroom (1)\nProvides: mail-agent (= 2)\n" +
				"Task: gate-desk\n",
			Files: []made.File{{Path: "/usr/bin/post", Mode: 0o755, Data: []byte("x")}}},
		made.Deb{Component: "field", Name: "post-light", Version: "1", Arch: "amd64",
			Fields: "Section: field/mail\nSource: mailroom\nProvides: mail-agent\nDepends: tide-data\n"},
		made.Deb{Component: "field", Name: "reporter", Version: "1", Arch: "amd64",
			Fields: "Depends: post | post-light, mail-agent\n"})
	w.publish()
	w.plan.Lists = map[string]definition.List{
		"gate":  {File: "gate", Packages: []string{"shell", "tide-tables >= 2.4", "no-such", "nor-that"}},
		"a-pc":  {Family: "deb", File: "pc", Packages: []string{"shell 4 amd64", "post 0.9 amd64"}},
		"a-pad": {Family: "rpm", File: "pad", Packages: []string{"reporter 1-1 x86_64"}},
	}
	all := definition.Want{Packages: []string{"reporter"}, Alternatives: definition.EveryAlternative}
	for name, c := range map[string]struct {
		want        definition.Want
		taken, told string
	}{
		"sections": {definition.Want{Sections: []string{"admin", "sh*"}},
			"base-tools 9: section admin, shell 5: section sh*", ""},
		"a section of a component": {definition.Want{Sections: []string{"mail"}},
			"post 1: section mail, post-light 1: section mail, tide-data 2026 (for post-light)", ""},
		"no such section": {definition.Want{Sections: []string{"admim"}}, "",
			`"section admim" matches nothing in tarn · perhaps admin is meant`},
		"a task": {definition.Want{Groups: []string{"gate-desk"}},
			"post 1: group gate-desk, shell 5: group gate-desk", ""},
		"a priority": {definition.Want{Groups: []string{"required"}},
			"base-tools 9: group required, shell 5: group required", ""},
		"what is always": {definition.Want{Groups: []string{"essential"}},
			"base-tools 9: group essential", ""},
		"no such group": {definition.Want{Groups: []string{"gate-deks"}}, "",
			`"group gate-deks" matches nothing in tarn · perhaps gate-desk is meant`},
		"built from": {definition.Want{BuiltFrom: []string{"mail*"}},
			"post 1: built from mail*, post-light 1: built from mail*, tide-data 2026 (for post-light)", ""},
		"built from its own name": {definition.Want{BuiltFrom: []string{"shell"}},
			"shell 5: built from shell", ""},
		"provided": {definition.Want{Provides: []string{"mail-agent"}}, "post 1: provides mail-agent", ""},
		"provided in a version": {definition.Want{Provides: []string{"mail-agent >= 2"}},
			"post 1: provides mail-agent >= 2", ""},
		"every one that provides it": {definition.Want{Provides: []string{"mail-agent"},
			Alternatives: definition.EveryAlternative},
			"post 1: provides mail-agent, post-light 1: provides mail-agent, " +
				"tide-data 2026 (for post-light)", ""},
		"a file": {definition.Want{Provides: []string{"/usr/bin/post"}}, "post 1: provides /usr/bin/post",
			""},
		"no such file": {definition.Want{Provides: []string{"/usr/bin/port"}}, "",
			`"provides /usr/bin/port" matches nothing in tarn`},
		"what is needed, the first of it": {definition.Want{Packages: []string{"reporter"}},
			"post 1 (for reporter), reporter 1: reporter", ""},
		"what is needed, all of it": {all, "post 1 (for reporter), post-light 1 (for reporter), " +
			"reporter 1: reporter, tide-data 2026 (for post-light)", ""},
		"a list": {definition.Want{Lists: []string{"gate"}},
			"shell 5: list gate, tide-data 2026 (for tide-tables), tide-tables 2.4.1-1: list gate",
			"of the list gate machines would take nothing from its sources for no-such and nor-that"},
		"what a machine has": {definition.Want{Lists: []string{"a-pc"}},
			"post 1: list a-pc, shell 5: list a-pc", ""},
		"what a machine of another family has": {definition.Want{Lists: []string{"a-pad"}}, "", ""},
		"with exceptions": {definition.Want{Groups: []string{"gate-desk"}, Except: []string{"post"}},
			"shell 5: group gate-desk", ""},
	} {
		t.Run(name, func(t *testing.T) {
			c.want.With, c.want.Versions = "required", 1
			w.t, w.source.Want = t, c.want
			out, taken := w.estimated()
			if got := strings.Join(taken, ", "); got != c.taken {
				t.Errorf("taken %s\nand not %s", got, c.taken)
			}
			told := ""
			for _, f := range out.Findings.With("mirror.want-no-match") {
				told += f.Text
				if strings.HasPrefix(f.WayOut, "perhaps") {
					told += " · " + f.WayOut
				}
			}
			if told != c.told {
				t.Errorf("told %q\nand not %q", told, c.told)
			}
		})
	}
}

func TestWaysToSelectFromTheOtherFamilies(t *testing.T) {
	r := newRPMWorld(t)
	r.rpm.Packages = append(r.rpm.Packages, made.RPM{Name: "pump-doc", Version: "1-1", Arch: "noarch"},
		made.RPM{Name: "old-pump", Version: "1-1", Arch: "noarch"})
	r.rpm.Groups = `<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE comps PUBLIC "-//Brine//comps//EN" "comps.dtd">
<comps><group><id>pumps</id><name>Pumps</name><packagelist><packagereq type="mandatory">libbrine</packagereq>
<packagereq type="default">tables</packagereq><packagereq type="optional">pump-doc</packagereq>
<packagereq type="conditional" requires="x">old-pump</packagereq></packagelist></group>
<group><id>more</id><packagelist><packagereq type="mandatory">pump-doc</packagereq></packagelist></group>
<category><id>pumps</id><grouplist><groupid>more</groupid></grouplist></category>
<environment><id>station</id><grouplist><groupid>pumps</groupid></grouplist>
<optionlist><groupid>more</groupid></optionlist></environment></comps>`
	r.republish()
	a := newALPMWorld(t)
	a.alpm.Packages[1].Groups, a.alpm.Packages[3].Groups = []string{"sounding"}, []string{"sounding", "desk"}
	a.republish()
	for name, c := range map[string]struct {
		in    *world
		want  definition.Want
		taken string
	}{
		"a group": {r.world, definition.Want{Groups: []string{"pumps"}},
			"libbrine 3.4-1: group pumps, tables 1-1: group pumps"},
		"a group with what is optional": {r.world, definition.Want{Groups: []string{"pumps"},
			With: "suggested"},
			"libbrine 3.4-1: group pumps, old-pump 1-1: group pumps, pump-doc 1-1: group pumps, " +
				"tables 1-1: group pumps"},
		"an environment": {r.world, definition.Want{Groups: []string{"station"}},
			"libbrine 3.4-1: group station, tables 1-1: group station"},
		"a file": {r.world, definition.Want{Provides: []string{"/usr/share/brine/table"}},
			"tables 1-1: provides /usr/share/brine/table"},
		"a capability": {r.world, definition.Want{Provides: []string{"libbrine >= 3"}},
			"libbrine 3.4-1: provides libbrine >= 3"},
		"a group of the other": {a.world, definition.Want{Groups: []string{"sounding"}},
			"libecho 1.9-1: group sounding, paper 7-1: group sounding"},
		"a name that is provided": {a.world, definition.Want{Provides: []string{"bus"}},
			"serial 1-1: provides bus"},
	} {
		t.Run(name, func(t *testing.T) {
			if c.want.Versions = 1; c.want.With == "" {
				c.want.With = "required"
			}
			c.in.t, c.in.source.Want = t, c.want
			if _, taken := c.in.estimated(); strings.Join(taken, ", ") != c.taken {
				t.Errorf("taken %s\nand not %s", strings.Join(taken, ", "), c.taken)
			}
		})
	}
}

// shoal is another source of the deb family, that is in no mirror.
func shoal(t *testing.T, packages ...made.Deb) *Source {
	t.Helper()
	other := newWorld(t)
	other.repo.Origin, other.repo.Label, other.repo.Packages = "Shoal", "Shoal", packages
	other.publish()
	other.source.Name, other.source.Spec.Name, other.source.Route.Source = "shoal", "shoal", "shoal"
	return other.source
}

// What machines have from elsewhere meets needs, and is not taken; and each proof says beside what
// it was made.
func TestFootings(t *testing.T) {
	absent := made.Deb{Component: "core", Name: "libabsent", Version: "3", Arch: "amd64",
		Fields: "Depends: base\n"}
	base := made.Deb{Component: "core", Name: "base", Version: "1", Arch: "amd64",
		Fields: "Essential: yes\n"}
	old := made.Deb{Component: "core", Name: "buoy-old", Version: "1", Arch: "amd64",
		Fields: "Conflicts: buoy\n"}
	pc := func(lines ...string) map[string]definition.List {
		return map[string]definition.List{"pc": {Family: "deb", File: "pc", Packages: lines}}
	}
	for name, c := range map[string]struct {
		footing   definition.Footing
		lists     map[string]definition.List
		elsewhere []made.Deb
		proved    int
		told      string // code and a part of the text or way out
	}{
		"nothing": {elsewhere: []made.Deb{absent, base},
			told: "mirror.missing-dependency the defined source shoal has libabsent 3: " +
				"stockade amend mirror barrage --from shoal, or "},
		"what its machines always have": {elsewhere: []made.Deb{func() made.Deb {
			e := absent
			e.Fields = "Essential: yes\n"
			return e
		}()}, told: "mirror.missing-dependency shoal has libabsent 3, which its machines always have"},
		"a source": {footing: definition.Footing{Sources: []string{"shoal"}},
			elsewhere: []made.Deb{absent, base}, proved: 1},
		"a source that lacks something itself": {footing: definition.Footing{Sources: []string{"shoal"}},
			elsewhere: []made.Deb{absent}, told: "mirror.missing-dependency libabsent 3 needs base"},
		"a machine that has it": {footing: definition.Footing{List: "pc"}, lists: pc("libabsent 3 amd64"),
			elsewhere: []made.Deb{absent, base}, proved: 1},
		"a machine that has what nobody knows": {footing: definition.Footing{List: "pc"},
			lists: pc("libabsent 2"), elsewhere: []made.Deb{absent, base}, proved: 1,
			told: "mirror.footing-unknown the list pc has 1 package, and no defined source that could be " +
				"read has 1 of these in that version, libabsent"},
		"a machine that has something else": {footing: definition.Footing{List: "pc"},
			lists:     pc("base 1 amd64"),
			elsewhere: []made.Deb{base}, told: "mirror.missing-dependency buoy 1 needs libabsent"},
		"a machine whose own excludes it": {footing: definition.Footing{List: "pc"},
			lists:     pc("libabsent 3 amd64", "base 1 amd64", "buoy-old 1 amd64"),
			elsewhere: []made.Deb{absent, base, old}, told: "mirror.conflict buoy-old excludes buoy"},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.source.Want = definition.Want{Packages: []string{"buoy"}, With: "required", Versions: 1}
			w.plan.Others = []*Source{shoal(t, c.elsewhere...)}
			w.plan.Mirror.Footing, w.plan.Lists = c.footing, c.lists
			out, taken := w.estimated()
			if strings.Join(taken, ", ") != "buoy 1: buoy" {
				t.Errorf("taken %v", taken)
			}
			if p := out.Proofs[0]; p.Proved != c.proved || (p.Beside == "") != c.footing.IsZero() ||
				!strings.Contains(p.Beside, c.footing.List+strings.Join(c.footing.Sources, "")) ||
				p.Proved > 0 && strings.Join(p.Rests, " ") != "libabsent" {
				t.Errorf("proof %+v", p)
			}
			told := ""
			for _, f := range out.Findings {
				told += f.Code + " " + f.Text + "\n" + f.Code + " " + f.WayOut + "\n"
			}
			code, part, _ := strings.Cut(c.told, " ")
			if c.told == "" && told != "" || !strings.Contains(told, code) || !strings.Contains(told, part) {
				t.Errorf("told\n%s", told)
			}
		})
	}
}

// A group's own footing counts for its machines alone; and what it has changes what a build begins
// with.
func TestAFootingOfAGroup(t *testing.T) {
	w := newWorld(t)
	w.source.Want = definition.Want{Packages: []string{"buoy"}, With: "required", Versions: 1}
	w.plan.Others = []*Source{shoal(t, made.Deb{Component: "core", Name: "libabsent", Version: "3",
		Arch: "amd64"})}
	group := definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"}}
	having := group
	having.Footing = definition.Footing{Sources: []string{"shoal"}}
	w.plan.Groups = map[string]definition.Group{"bare": group, "having": having}
	out, _ := w.estimated()
	var proofs []string
	for _, p := range out.Proofs {
		proofs = append(proofs, p.String())
	}
	if got := strings.Join(proofs,
		"; "); got != "0 of 1 wanted can be installed by the group bare on amd64; "+
		"1 of 1 wanted can be installed by the group having on amd64, beside what they have from shoal" {
		t.Error(got)
	}
	before := out.Inputs
	w.plan.Groups["having"] = group
	if out, _ = w.estimated(); out.Inputs == before {
		t.Error("without its footing a build begins with the same")
	}
}

// Sets of the mirror and roles of groups are wanted, and proved to go together for the machines that
// they are about.
func TestSetsGoTogetherOrAreToldWhyNot(t *testing.T) {
	w := newWorld(t)
	w.repo.Packages = append(w.repo.Packages,
		made.Deb{Component: "core", Name: "desk", Version: "1", Arch: "amd64",
			Fields: "Depends: rail (= 1)\n"},
		made.Deb{Component: "core", Name: "shelf", Version: "1", Arch: "amd64",
			Fields: "Depends: rail (>= 2)\n"},
		made.Deb{Component: "core", Name: "rail", Version: "1", Arch: "amd64"},
		made.Deb{Component: "core", Name: "rail", Version: "2", Arch: "amd64"})
	w.publish()
	w.source.Want = definition.Want{}
	w.plan.Mirror.Together = [][]string{{"desk", "sluicectl"}, {"shelf", "tide-tables >= 2.4"}}
	group := definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"}}
	both := group
	both.Roles = map[string][]string{"clerk": {"desk", "shelf", "tide-data"}, "keeper": {"desk", "no-such"}}
	w.plan.Groups = map[string]definition.Group{"hall": group, "office": both}
	out, taken := w.estimated()
	for _, want := range []string{"desk 1: desk", "rail 1 (for desk)", "rail 2 (for shelf)",
		"tide-data 2026: role clerk of office: tide-data"} {
		if !slices.Contains(taken, want) {
			t.Errorf("%s is not in %v", want, taken)
		}
	}
	var sets []string
	for _, p := range out.Proofs {
		for _, s := range p.Sets {
			sets = append(sets, fmt.Sprint(strings.TrimPrefix(p.View, "the group "), ": ", s.Name, " ",
				s.Proved))
		}
	}
	slices.Sort(sets)
	// desk needs the rail that does not come first, since shelf has the other taken
	if got := strings.Join(sets, "\n"); got != strings.TrimSpace(`
hall: the set of desk, sluicectl false
hall: the set of shelf, tide-tables >= 2.4 true
office: the role clerk of office false
office: the role keeper of office false
office: the set of desk, sluicectl false
office: the set of shelf, tide-tables >= 2.4 true`) {
		t.Error(got)
	}
	at := slices.IndexFunc(out.Findings, func(f finding.Finding) bool { return f.Code == "mirror.conflict" })
	if at < 0 || !strings.Contains(out.Findings[at].Text,
		"the role clerk of office cannot be installed by the group "+
			"office on amd64") {
		t.Errorf("findings %v", out.Findings)
	}
	if n := out.Findings.With("mirror.want-no-match"); len(n) != 1 || !strings.Contains(n[0].Text,
		"role keeper of office: no-such") {
		t.Errorf("told of what is not there: %v", n)
	}
	for _, r := range out.Refusals {
		var ways []string
		for _, way := range r.WaysOut {
			ways = append(ways, way.Kind+" "+way.Name)
		}
		if r.Wanted == "the role clerk of office" && strings.Join(ways, ", ") != "leave desk, leave shelf" {
			t.Errorf("ways out: %v", ways)
		}
	}
}

// Each way out was tried: with it the package can be installed, and it says what comes along.
func TestWaysOutLeadOut(t *testing.T) {
	w := newWorld(t)
	w.repo.Packages = append(w.repo.Packages,
		made.Deb{Component: "core", Name: "gate", Version: "1", Arch: "amd64",
			Fields: "Depends: rail (>= 2), paint | libabsent, tide-data\n"},
		made.Deb{Component: "core", Name: "rail", Version: "1", Arch: "amd64"},
		made.Deb{Component: "core", Name: "rail", Version: "2", Arch: "amd64"},
		made.Deb{Component: "core", Name: "paint", Version: "1", Arch: "amd64"})
	w.publish()
	w.plan.Others = []*Source{shoal(t, made.Deb{Component: "core", Name: "libabsent", Version: "3",
		Arch:   "amd64",
		Fields: "Depends: brush\n"}, made.Deb{Component: "core", Name: "brush", Version: "1",
		Arch: "amd64"})}
	for name, c := range map[string]struct {
		except    []string
		pins      []string
		ways      []string
		parts     string
		installed bool // without the pin it is
	}{
		"an exception, or a source": {except: []string{"paint"},
			ways: []string{"except paint +[paint 1 (amd64)]",
				"source shoal +[libabsent 3 (amd64) brush 1 (amd64)]"},
			parts: "gate 1 (amd64) needs paint or libabsent"},
		"an exception of more than this": {except: []string{"pai*"}, ways: []string{"except paint +[]",
			"source shoal +[libabsent 3 (amd64) brush 1 (amd64)]"},
			parts: "gate 1 (amd64) needs paint or libabsent"},
		"a pin": {pins: []string{"rail = 1", "tide-data = 2026"}, ways: []string{"pin rail 2 +[]"},
			parts: "gate 1 (amd64) needs rail >= 2"},
		"both: what is so without the pin too is told once": {except: []string{"paint"},
			pins: []string{"rail = 1"}, ways: []string{"except paint +[paint 1 (amd64)]",
				"source shoal +[libabsent 3 (amd64) brush 1 (amd64)]"},
			parts: "gate 1 (amd64) needs paint or libabsent"},
	} {
		t.Run(name, func(t *testing.T) {
			w.t = t
			w.source.Want = definition.Want{Packages: []string{"gate"}, With: "required", Versions: 1,
				Except: c.except}
			w.plan.Groups = map[string]definition.Group{"hall": {Family: "deb", Release: "heron",
				Architectures: []string{"amd64"}, Pins: c.pins}}
			out, _ := w.estimated()
			if len(out.Refusals) == 0 {
				t.Fatalf("nothing is refused: %+v", out.Proofs)
			}
			r := out.Refusals[len(out.Refusals)-1]
			var ways []string
			for _, x := range r.WaysOut {
				ways = append(ways, fmt.Sprint(strings.TrimSpace(x.Kind+" "+x.Name+" "+x.Version), " +",
					x.Packages))
				if x.Files != len(x.Packages) || (x.Bytes > 0) != (x.Files > 0) {
					t.Errorf("%+v", x)
				}
			}
			if fmt.Sprint(ways) != fmt.Sprint(c.ways) {
				t.Errorf("ways out %v, and not %v", ways, c.ways)
			}
			if got := strings.Join(r.Parts, "; "); c.parts != "" && got != c.parts || !r.Minimal {
				t.Errorf("because %s", got)
			}
		})
	}
}

// A mirror that takes its sources whole takes another one whole: what one package brings along is not
// what that costs.
func TestAWayOutThatTakesASourceWholeSaysNotHowLittle(t *testing.T) {
	everything := definition.Want{Everything: true}
	for name, m := range map[string]struct {
		mirror definition.Mirror
		source definition.Want
	}{
		"faithful": {definition.Mirror{Copy: definition.Faithful, Complete: "told"}, everything},
		"tailored, everything": {definition.Mirror{Copy: "tailored", Complete: "told", Want: everything},
			definition.Want{}},
	} {
		w := newWorld(t)
		w.plan.Mirror, w.source.Want = m.mirror, m.source
		w.plan.Others = []*Source{shoal(t, made.Deb{Component: "core", Name: "libabsent", Version: "3",
			Arch: "amd64"})}
		out, _ := w.estimated()
		found := false
		for _, r := range out.Refusals {
			for _, way := range r.WaysOut {
				found = found || way.Kind == definition.AddSource && way.Name == "shoal"
				if way.Object != "mirror barrage" || len(way.Packages) != 0 || way.Files != 0 ||
					way.Bytes != 0 {
					t.Errorf("%s: %+v", name, way)
				}
			}
		}
		if !found {
			t.Errorf("%s: %+v", name, out.Refusals)
		}
	}
}

// What is wanted is known by what it is, and not by how it is called.
func TestWantsThatAreCalledLikeOthers(t *testing.T) {
	w := newWorld(t)
	w.repo.Packages = append(w.repo.Packages,
		made.Deb{Component: "core", Name: "role", Version: "2", Arch: "amd64"},
		made.Deb{Component: "core", Name: "list", Version: "2", Arch: "amd64"})
	w.publish()
	w.source.Want = definition.Want{}
	w.plan.Mirror.Want = definition.Want{Packages: []string{"role >= 2", "list >= 2", "list >= 3"},
		With: "required", Versions: 1}
	group := definition.Group{Family: "deb", Release: "heron", Architectures: []string{"amd64"}}
	others := group
	others.Roles = map[string][]string{"desk": {"tide-data"}}
	w.plan.Groups = map[string]definition.Group{"gate": group, "gatehouse": others}
	out, taken := w.estimated()
	if got := strings.Join(taken, ", "); got != "list 2: list >= 2, role 2: role >= 2, tide-data 2026: "+
		"role desk of gatehouse: tide-data" {
		t.Error(got)
	}
	f := out.Findings.With("mirror.want-no-match")
	if len(f) != 1 || !strings.Contains(f[0].Text, `"list >= 3" matches nothing`) {
		t.Errorf("%v", f)
	}
	for _, p := range out.Proofs {
		if want := map[bool]int{true: 3, false: 2}[p.View == "the group gatehouse"]; p.Wanted != want {
			t.Errorf("%+v", p)
		}
	}
}

// A footing that names a source which cannot be read is refused, and no proof is said to stand on it.
func TestAFootingThatIsNotThere(t *testing.T) {
	w := newWorld(t)
	w.plan.Mirror.Footing = definition.Footing{Sources: []string{"shoal"}}
	if _, err := w.builder.Estimate(t.Context(), w.plan); err == nil || !strings.Contains(err.Error(),
		"the source shoal from elsewhere") {
		t.Errorf("%v", err)
	}
}

// The certificate of a yes is all that would be installed, from what is taken alone; with every
// package asked about, all that is taken is counted.
func TestACertificateAndEvery(t *testing.T) {
	w := newWorld(t)
	w.source.Want.Packages = []string{"sluicectl", "buoy"}
	w.plan.Every, w.plan.For = true, "sluicectl"
	out, taken := w.estimated()
	if p := out.Proofs[0]; !p.Every || p.Wanted != len(taken) || p.Proved != len(taken)-1 {
		t.Errorf("of %d taken, the proof is %+v", len(taken), p)
	}
	if len(out.Certified) != 1 {
		t.Fatalf("%+v", out.Certified)
	}
	var names []string
	for _, p := range out.Certified[0].Packages {
		names = append(names, p.Name+" for "+p.For+" of "+p.Source)
	}
	if got := strings.Join(names, ", "); got != "sluicectl for  of tarn, libtide2 for sluicectl of tarn, "+
		"tide-data for sluicectl of tarn" {
		t.Error(got)
	}
	w.plan.For = "nowhere"
	out, _ = w.estimated()
	if c := out.Certified; len(c) != 1 || c[0].Because != "nothing of that name is taken" {
		t.Errorf("%+v", c)
	}
	w.plan.For = "buoy"
	out, _ = w.estimated()
	if c := out.Certified; len(c) != 1 || len(c[0].Packages) != 0 ||
		!strings.Contains(c[0].Because, "no way") {
		t.Errorf("%+v", c)
	}
}

// Essential packages are always there: what excludes them cannot be installed, unless it replaces
// them, or excludes other versions than machines see. They meet no need unless they are taken.
func TestWhatIsAlwaysThereStays(t *testing.T) {
	for name, c := range map[string]struct {
		fields string // of the package that is wanted
		own    string // further fields of the essential one
		beside string // fields of another package
		proved int
		taken  string
		parts  string
	}{
		"excluded": {fields: "Conflicts: base-tools\n",
			parts: "odd 1 (amd64) excludes base-tools; base-tools 9 (amd64) is always there"},
		"excluded by another word": {fields: "Breaks: tools (<= 9)\n", own: "Provides: tools (= 9)\n",
			parts: "odd 1 (amd64) excludes tools <= 9; base-tools 9 (amd64) is always there"},
		"an older one excluded": {fields: "Conflicts: base-tools (<< 9)\n", proved: 1},
		"replaced":              {fields: "Conflicts: base-tools\nReplaces: base-tools\n", proved: 1},
		"one of two replaced": {fields: "Conflicts: tools\nReplaces: base-tools\n", own: "Provides: tools\n",
			beside: "Essential: yes\nProvides: tools\n",
			parts:  "odd 1 (amd64) excludes tools; more-tools 1 (amd64) is always there"},
		"it excludes": {own: "Conflicts: odd\n",
			parts: "base-tools excludes odd; base-tools 9 (amd64) is always there"},
		"needed": {fields: "Depends: base-tools (>= 9)\n", proved: 1, taken: "base-tools 9 (for odd), "},
		"needed by way of what it lacks": {fields: "Depends: base-tools\n", own: "Depends: nowhere\n",
			taken: "base-tools 9 (for odd), ",
			parts: "odd 1 (amd64) needs base-tools; base-tools 9 (amd64) needs nowhere"},
		"beside": {fields: "", own: "Depends: nowhere\n", proved: 1},
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorld(t)
			w.repo.Packages = []made.Deb{
				{Component: "core", Name: "base-tools", Version: "9", Arch: "amd64",
					Fields: "Essential: yes\n" + c.own},
				{Component: "core", Name: "more-tools", Version: "1", Arch: "amd64", Fields: c.beside},
				{Component: "core", Name: "odd", Version: "1", Arch: "amd64", Fields: c.fields}}
			w.publish()
			w.source.Want = definition.Want{Packages: []string{"odd"}, With: "required", Versions: 1}
			out, taken := w.estimated()
			if got := strings.Join(taken, ", "); got != c.taken+"odd 1: odd" {
				t.Errorf("taken %s", got)
			}
			if p := out.Proofs[0]; p.Proved != c.proved {
				t.Errorf("%+v %v", p, out.Findings)
			}
			parts := ""
			if len(out.Refusals) > 0 {
				slices.Sort(out.Refusals[0].Parts)
				parts = strings.Join(out.Refusals[0].Parts, "; ")
			}
			want := strings.Split(c.parts, "; ")
			slices.Sort(want)
			if parts != strings.Join(want, "; ") {
				t.Errorf("because %q", parts)
			}
		})
	}
}
