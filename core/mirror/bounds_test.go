package mirror

import (
	"fmt"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/deb"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/solve"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/made"
	"stockade/internal/must"
)

// What an edition follows from is one value with a digest: each part of it changes the digest, and is
// named where two editions are compared; what changes no content is not.
func TestTheBasisDiffersWithEachPartOfIt(t *testing.T) {
	w := newWorld(t)
	w.plan.Groups = map[string]definition.Group{"hall": {Family: "deb", Release: "heron",
		Architectures: []string{"amd64"}, Lane: "steady"}}
	w.plan.Lists = map[string]definition.List{"desk": {Packages: []string{"sluicectl"}}}
	pub := &upstream.Publication{Source: w.source}
	pub.Accepted.Digest = "aa"
	group := func(change func(g *definition.Group)) func() {
		return func() { g := w.plan.Groups["hall"]; change(&g); w.plan.Groups["hall"] = g }
	}
	pubs := []*upstream.Publication{pub}
	made := func() *edition.Edition { return &edition.Edition{Basis: basisOf(w.plan, pubs, nil)} }
	digest := func() string { return inputs(basisOf(w.plan, pubs, nil), pubs) }
	digests := map[string]string{digest(): "nothing"}
	for _, c := range []struct {
		what    string
		change  func()
		inputs  bool
		because string // what is told of it; empty: nothing
	}{
		{"the schedule", func() { w.plan.Mirror.Schedule = "30 2 * * *" }, false, ""},
		{"how many are kept", func() { w.plan.Mirror.Keep = 9 }, false, ""},
		{"the lane of a group", group(func(g *definition.Group) { g.Lane = "trial" }), false, ""},
		{"how it is copied", func() { w.plan.Mirror.Copy = definition.Faithful }, true,
			"the mirror's copy is faithful (before: tailored)"},
		{"how again", func() { w.plan.Mirror.Copy = "tailored" }, false,
			"the mirror's copy is tailored (before: faithful)"},
		{"what is wanted", func() { w.plan.Mirror.Want.Packages = []string{"x"} }, true, "what is wanted"},
		{"a pin", group(func(g *definition.Group) { g.Pins = []string{"x = 1"} }), true,
			"group hall: its pins"},
		{"a role", group(func(g *definition.Group) { g.Roles = map[string][]string{"a": {"b"}} }), true,
			"group hall: its roles"},
		{"a baseline", group(func(g *definition.Group) { g.Baseline.List = "desk" }), true,
			"group hall: its baseline"},
		{"an architecture", group(func(g *definition.Group) { g.Architectures = []string{"arm64"} }), true,
			"group hall: its family, release or architectures"},
		{"a foreign one", group(func(g *definition.Group) { g.Foreign = []string{"i386"} }), true,
			"group hall: its family, release or architectures"},
		{"the release of a group", group(func(g *definition.Group) { g.Release = "grebe" }), true,
			"group hall: its family, release or architectures"},
		{"the name of a group", func() {
			w.plan.Groups["other"] = w.plan.Groups["hall"]
			delete(w.plan.Groups, "hall")
		}, true, "group other is new|group hall is removed"},
		{"a list", func() { w.plan.Lists["desk"] = definition.List{Packages: []string{"y"}} }, true,
			"list desk: its packages"},
		{"the keys of the site", func() { w.plan.Renewed = "AB CD" }, true,
			"the keys that the site signs with"},
		{"a source's components", func() { w.source.Spec.Components = []string{"core"} }, true,
			"source tarn: its description"},
		{"a priority", func() { w.source.Priority = 21 }, true,
			"source tarn: its priority, 21 (before: 20)"},
		{"an accepted root", func() { pub.Accepted.Digest = "bb" }, true, ""},
		{"a decision about its keys", func() { w.source.Keyring = w.keyring("elsewhere") }, true,
			"source tarn: its trusted keys"},
		{"a standing", func() { w.source.Standing = definition.Vendor }, true,
			"source tarn: its standing, vendor in place of official"},
		{"that nobody signs it", func() { w.source.Unsigned = &upstream.Unsigned{Reason: "a lab"} }, true,
			"source tarn: whether it is accepted as unsigned"},
	} {
		before := made()
		c.change()
		now := digest()
		if was, known := digests[now]; known == c.inputs && c.what != "how again" {
			t.Errorf("%s: the digest is that before (%q): got %v, want %v", c.what, was, known, !c.inputs)
		}
		digests[now] = c.what
		if got := strings.Join(edition.Because(before, made()), "|"); got != c.because {
			t.Errorf("%s: got %q, want %q", c.what, got, c.because)
		}
	}
	part := func(items, advisories, sources string) string {
		return content([]byte(items), []byte(advisories), []byte(sources))
	}
	if a, b, c, d := part("", "", ""), part("x", "", ""), part("", "y", ""), part("", "", "z"); a == b ||
		a == c || a == d || b == c || c == d {
		t.Error("packages, advisories and source packages are content, each of them")
	}
}

// estimated works out what a build would take.
func (w *world) estimated() *Outcome {
	w.t.Helper()
	out, err := w.builder.Estimate(w.t.Context(), w.plan)
	must.Do(w.t, err)
	return out
}

// Of many that are alike some are named, and the others counted.
func TestOfManySomeAreNamed(t *testing.T) {
	for n, want := range map[int]string{1: "p0 requires", 2: "p0 and p1 require", 3: "p0, p1 and p2 require",
		4: "p0, p1, p2 and 1 other require", 9: "p0, p1, p2 and 6 others require"} {
		var by need
		for i := range n {
			by.needers = append(by.needers, fmt.Sprint("p", i))
		}
		if got := by.who(); got != want {
			t.Errorf("%d: %q", n, got)
		}
	}
}

// Needs that are lacking are told up to a bound, and how many more there are.
func TestManyNeedsThatAreLackingAreCounted(t *testing.T) {
	w := newWorld(t)
	w.plan.Mirror.Complete = "told"
	w.source.Want = definition.Want{With: "required", Versions: 1}
	for i := range maxTold + 7 {
		name := fmt.Sprintf("float-%03d", i)
		w.repo.Packages = append(w.repo.Packages, made.Deb{Component: "core", Name: name, Version: "1",
			Arch: "amd64", Fields: fmt.Sprintf("Depends: libabsent-%03d\n", i)})
		w.source.Want.Packages = append(w.source.Want.Packages, name)
	}
	w.publish()
	out := w.estimated()
	found := out.Findings.With("mirror.missing-dependency")
	if len(found) != maxTold+1 || !strings.Contains(found[maxTold].Text, "7 further needs cannot be met") ||
		found[maxTold].Severity != finding.Warning {
		t.Errorf("%d are told, the last %v", len(found), found[len(found)-1])
	}
	if len(out.Refusals) != maxTold || out.Refused != maxTold+7 {
		t.Errorf("%d of %d refusals", len(out.Refusals), out.Refused)
	}
}

// Packages that machines stay behind with are told once each, up to a bound; what a want holds back is
// as bad as the mirror is strict, what a priority does never more than a warning.
func TestWhatIsSurpassedIsToldOnceAndCounted(t *testing.T) {
	w := newWorld(t)
	w.beside("3.0-1", 70)
	out := &Outcome{Publications: []*upstream.Publication{{Source: w.plan.Sources[0]},
		{Source: w.plan.Sources[1]}}}
	var all []solve.Surpassed
	add := func(n int, behind bool) {
		for i := range n {
			have, newer := &archive.Package{}, &archive.Package{}
			have.Name, have.Version = fmt.Sprint("float-", i), "1"
			if behind {
				have.Name = fmt.Sprint("buoy-", i)
			}
			newer.Name, newer.Version = have.Name, "2"
			for _, arch := range []string{"amd64", "arm64"} { // once, whatever it is for
				all = append(all, solve.Surpassed{Arch: arch, Have: have, Newer: newer, Elsewhere: 1,
					Behind: behind})
			}
		}
	}
	add(maxSurpassed+1, false)
	add(maxSurpassed+4, true)
	for complete, rated := range map[string]finding.Severity{definition.Told: finding.Warning,
		"strict": finding.Error} {
		w.plan.Mirror.Complete = complete
		found := w.builder.surpassed(t.Context(), w.plan, out, []int{0, 1}, all)
		for code, c := range map[string]struct {
			first, last string
			rated       finding.Severity
		}{
			"mirror.newer-elsewhere": {"float-0 1 is taken from tarn, but kelp has 2",
				"the same applies to 1 further package", rated},
			"priority.holds-back": {"machines keep buoy-0 1 of tarn (priority 20), because its priority is " +
				"better. kelp (priority 70) has 2", "the same applies to 4 further packages",
				finding.Warning},
		} {
			of := found.With(finding.Code(code))
			if len(of) != maxSurpassed+1 || of[0].Text != c.first || of[maxSurpassed].Text != c.last {
				t.Errorf("%s, %s: %d, the first %v, the last %v", complete, code, len(of), of[0],
					of[len(of)-1])
			}
			for _, f := range of {
				if f.Severity != c.rated || f.Object != "mirror barrage" {
					t.Errorf("%s: %v", complete, f)
				}
			}
		}
	}
	all = all[:2*maxSurpassed]
	if found := w.builder.surpassed(t.Context(), w.plan, out, []int{0, 1}, all); len(found) != maxSurpassed {
		t.Errorf("%d are told of %d", len(found), maxSurpassed)
	}
}

// upstream.Source packages that cannot come along are told: of a family whose repositories have none, of a
// house source, and those that are in no list.
func TestSourcePackagesThatAreNotThereAreTold(t *testing.T) {
	rpms, house := newRPMWorld(t).world, newWorld(t)
	house.source.House = &upstream.House{}
	for _, w := range []*world{rpms, house} {
		out := &Outcome{Publications: []*upstream.Publication{{Source: w.source}}}
		if err := w.builder.sourcePackages(t.Context(), w.plan, out); err != nil || len(out.Findings) > 0 {
			t.Errorf("they are not wanted: %v %v", out.Findings, err)
		}
		w.plan.Mirror.Want.SourcePackages = true
		if err := w.builder.sourcePackages(t.Context(), w.plan, out); err != nil || len(out.Findings) != 1 ||
			out.Findings[0].Code != "mirror.source-missing" ||
			out.Findings[0].Text != w.source.Name+" lists no source packages, so they are left out" {
			t.Errorf("%v %v", out.Findings, err)
		}
		// Wanted of the source alone comes to the same.
		w.plan.Mirror.Want.SourcePackages, w.source.Want.SourcePackages, out.Findings = false, true, nil
		if err := w.builder.sourcePackages(t.Context(), w.plan, out); err != nil || len(out.Findings) != 1 {
			t.Errorf("%v %v", out.Findings, err)
		}
	}
	src := &upstream.Source{Name: "tarn"}
	for n, says := range map[int]string{0: "", 1: ": tide 0", 3: ": tide 0, tide 1 and tide 2",
		4: ": tide 0, tide 1, tide 2 and 1 other", 6: ": tide 0, tide 1, tide 2 and 3 others"} {
		asked, found := map[sourceID][]string{}, map[sourceID]bool{{"there", "1"}: true}
		asked[sourceID{"there", "1"}] = []string{"x"}
		for i := range n {
			asked[sourceID{"tide", fmt.Sprint(i)}] = []string{"y"}
		}
		got := lacking(Plan{Name: "barrage"}, src, asked, found)
		if len(got) != min(n, 1) || n > 0 && !strings.HasSuffix(got[0].Text, says) {
			t.Errorf("%d: %v", n, got)
		}
	}
}

// Two editions of a mirror are never of one second; a clock that was put back is followed.
func TestEditionsAreNotOfOneSecond(t *testing.T) {
	at := time.Date(2026, 3, 1, 12, 0, 0, 400e6, time.UTC)
	for name, c := range map[string]struct {
		previous *time.Time
		want     time.Time
	}{
		"the first": {nil, at},
		"one of this second": {new(at.Add(-300 * time.Millisecond)),
			at.Truncate(time.Second).Add(time.Second)},
		"one of the last":     {new(at.Add(-time.Second)), at},
		"one of tomorrow":     {new(at.Add(24 * time.Hour)), at},
		"one of a year ahead": {new(at.AddDate(1, 0, 0)), at},
	} {
		b := &Builder{}
		b.Now = func() time.Time { return at.In(time.FixedZone("east", 7200)) }
		var plan Plan
		if c.previous != nil {
			plan.Previous = &edition.Edition{Created: *c.previous}
		}
		if got := b.made(plan); !got.Equal(c.want) || got.Location() != time.UTC {
			t.Errorf("%s: %v, and not %v", name, got, c.want)
		}
	}
}

// Who a view is of: all of a few groups by name, of many three.
func TestAViewIsCalledByItsGroups(t *testing.T) {
	for _, c := range []struct {
		groups, want string
		pins         bool
	}{
		{"hall", "the group hall", false},
		{"hall", "the group hall with its pins", true},
		{"bench hall", "the groups bench and hall", false},
		{"bench gate hall", "the groups bench, gate and hall", false},
		{"bench gate hall pump", "the groups bench, gate, hall and 1 other", false},
		{"bench gate hall pump weir x", "the groups bench, gate, hall and 3 others", false},
	} {
		s := &sight{groups: strings.Fields(c.groups)}
		if c.pins {
			s.Pins = []archive.Relation{{}}
		}
		if got := s.name(); got != c.want {
			t.Errorf("%q, and not %q", got, c.want)
		}
	}
}

// What a build cannot take of a source as a whole is told, as bad as the mirror is strict.
func TestASourceThatHasNothingOfWhatIsWanted(t *testing.T) {
	w := newWorld(t)
	w.repo.Packages = nil
	w.publish()
	w.plan.Mirror.Complete = definition.Told
	w.source.Want = definition.Want{Everything: true}
	out := w.estimated()
	if f := out.Findings.With("mirror.want-no-match"); len(f) != 1 || f[0].Severity != finding.Warning ||
		f[0].Text != "the source tarn has no packages" {
		t.Errorf("%v", out.Findings)
	}
	for complete, rated := range map[string]finding.Severity{definition.Told: finding.Warning,
		"strict": finding.Error} {
		w = newWorld(t)
		w.plan.Mirror.Complete, w.source.Want.Streams = complete, []string{"deck:1"}
		out = w.estimated()
		if f := out.Findings.With("mirror.stream-missing"); len(f) != 1 || f[0].Severity != rated ||
			f[0].Text != `tarn has no module streams, but "deck:1" is wanted from it` {
			t.Errorf("%s: %v", complete, out.Findings)
		}
	}
	certs := make([]*trust.Certificate, upstream.MaxExamined+1)
	if _, err := w.builder.Examine(t.Context(), *w.source, certs); codeOf(err) != "content.too-large" {
		t.Errorf("%v", err)
	}
}

// A house source is published anew when something of it changed, in the pool or beside it, and never
// dates back.
func TestAHouseSourceIsPublishedWhenSomethingChanged(t *testing.T) {
	spec := archive.Source{Family: "deb", Release: "heron", Components: []string{"lamps"},
		Architectures: []string{"amd64"}}
	w := newHouse(t, deb.Family{}, spec, func() ([]byte, error) {
		return made.BuildDeb("Package: lamp-ctl\nVersion: 1\nArchitecture: amd64\n"+
			"Maintainer: Workshop <w@skerry.example>\nDescription: lamps\n", nil, "gz")
	})
	spec.Name = "house"
	last := w.source.House
	var lamp HousePackage
	for path, sum := range last.Files {
		if strings.HasSuffix(path, ".deb") {
			size, _ := w.builder.Pool.Has(sum)
			lamp = HousePackage{SHA256: sum, Size: size}
		}
	}
	publish := func(last *upstream.House, packages ...HousePackage) (*upstream.House, error) {
		return w.builder.PublishHouse(spec, deb.Family{}, packages, last)
	}
	if again, err := publish(last, lamp); err != nil || again != last {
		t.Errorf("nothing changed, and it is published anew: %v", err)
	}
	w.now = w.now.Add(-time.Hour)
	if none, err := publish(last); err != nil || none.Digest == last.Digest || !none.Time.After(last.Time) {
		t.Errorf("%+v %v", none, err)
	}
	larger := lamp
	larger.Size++
	gone := HousePackage{SHA256: strings.Repeat("0", 64), Size: 1}
	unsigned := lamp
	unsigned.Signature = gone.SHA256
	for name, c := range map[string]struct {
		packages   []HousePackage
		code, says string
	}{
		"two of one path": {[]HousePackage{lamp, lamp}, "content.unsafe-path",
			"two packages have the path "},
		"another size": {[]HousePackage{larger}, "edition.damaged",
			"lamp-ctl of the house source was changed"},
		"one that is gone": {[]HousePackage{gone}, "edition.damaged",
			"of the house source is missing from the pool"},
		"one whose signature is":    {[]HousePackage{unsigned}, "edition.damaged", gone.SHA256},
		"a good one beside another": {[]HousePackage{lamp, gone}, "edition.damaged", gone.SHA256},
	} {
		got, err := publish(last, c.packages...)
		if f, _ := finding.From(err); got != nil || string(f.Code) != c.code || f.Object != "source house" ||
			!strings.Contains(f.Text, c.says) {
			t.Errorf("%s: %v", name, err)
		}
	}
	// Behind the program's back: another file under the package's digest.
	file := w.builder.Pool.(*pool.Dir).Path(lamp.SHA256)
	raw := []byte(must.Read(t, file))
	must.Do(t, os.Chmod(file, 0o644))
	must.Do(t, os.WriteFile(file, flip(slices.Clone(raw)), 0o644))
	if got, err := publish(last, lamp, gone); got != nil || !is(err, "edition.damaged",
		"of the house source was changed in the pool") {
		t.Errorf("a package that was changed in the pool: %v", err)
	}
	must.Do(t, os.WriteFile(file, raw, 0o644))
	// One of its files is gone from the pool: it is written anew, and says a later time.
	for path, sum := range last.Files {
		if !strings.HasSuffix(path, ".deb") {
			must.Do(t, w.builder.Pool.SetAside(sum))
			break
		}
	}
	if anew, err := publish(last, lamp); err != nil || anew == last || !anew.Time.After(last.Time) {
		t.Errorf("%+v %v", anew, err)
	}
}

func codeOf(err error) string {
	f, _ := finding.From(err)
	return string(f.Code)
}
