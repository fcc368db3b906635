package definition

import (
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/finding"
	"stockade/internal/must"
)

const three = `stockade: 1
keys:
  brine: {fingerprint: 7C1B22E05A90D4417F039E6AB2C871D0453FF1A9, vouched_for: [brine, wrack], evidence: "call 4471"}
sources:
  brine:
    family: rpm
    upstreams: [{url: "https://packages.brine.example/el/$release/$arch"}, {metalink: "https://mirrors.brine.example/metalink?repo=el-9&arch=$arch"}]
    release: "9"
    architectures: [x86_64]
    signed_by: [brine]
  wrack:
    family: alpm
    upstreams: [{mirror_list: "https://wrack.brine.example/mirrors.txt", region: reach}]
    components: [wrack]
    architectures: [x86_64]
    signed_by: [brine]
  house: {family: rpm, standing: house, architectures: [x86_64]}
packages:
  relay-1: {source: house, name: relay, version: 1-1, architecture: noarch, sha256: aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa, size: 3, from: workshop, why: pumps}
mirrors:
  pumps:
    copy: tailored
    from: [{source: brine, want: {packages: [pumpctl], streams: ["panel:3"]}}, {source: house, want: {packages: ["*"]}}]
`

func checkThree(text string, held bool) finding.List {
	set, found := Read(Text{Name: "site.yaml", Text: text})
	return Merge(found, Check(set, Surroundings{
		Families: archive.NewRegistry(deb.Family{}, rpm.Family{}, alpm.Family{}),
		Now:      time.Now(),
		Held:     func(string) bool { return held },
	}))
}

func TestDescriptionsOfTheOtherFamiliesAndOfHousesAreRead(t *testing.T) {
	if found := checkThree(three, true); len(found) > 0 {
		t.Fatal(found)
	}
	set, _ := Read(Text{Text: three})
	route, err := set.Route("brine")
	if err != nil || len(route.Upstreams) != 1 || route.Upstreams[0].URL !=
		"https://packages.brine.example/el/9/x86_64" || len(route.Lists) != 1 || !route.Lists[0].Metalink ||
		!strings.HasSuffix(route.Lists[0].URL, "arch=x86_64") {
		t.Errorf("%+v %v", route, err)
	}
	if !set.Sources["house"].Managed() || set.Sources["brine"].Managed() ||
		strings.Join(set.HousePackages("house"), " ") != "relay-1" {
		t.Error("which source is the house's is not seen")
	}
	// Written back and read again, it is the same.
	text, err := set.YAML()
	must.Do(t, err)
	again, found := Read(Text{Text: text})
	if found.HasErrors() || len(Compare(set, again)) > 0 {
		t.Errorf("%v %v\n%s", found, Compare(set, again), text)
	}
	// A document that does not mention packages leaves them where they are.
	without, _ := Read(Text{Text: three[:strings.Index(three, "packages:\n  relay")] +
		three[strings.Index(three, "mirrors:\n  pumps"):]})
	if over := Overlay(set, without); len(over.Packages) != 1 {
		t.Error("recording took a package out")
	}
}

func TestMistakesInThemAreTold(t *testing.T) {
	for name, c := range map[string]struct{ old, new, code, says string }{
		"two addresses in one upstream": {
			`{mirror_list: "https://wrack.brine.example/mirrors.txt", region: reach}`,
			`{mirror_list: "https://a.example/x", url: "https://b.example"}`,
			"define.bad-value", "2 of them"},
		"none": {
			`{mirror_list: "https://wrack.brine.example/mirrors.txt", region: reach}`, `{region: reach}`,
			"define.bad-value", "0 of them"},
		"a password in a list's address": {`https://wrack.brine.example/mirrors.txt`,
			`https://a:b@wrack.example/mirrors.txt`, "source.credential-in-url", "wrack.example"},
		"a query where a server belongs": {`el/$release/$arch"}`, `el/?x=1"}`, "source.bad-url", "query"},
		"a stream that is none":          {`"panel:3"`, `panel`, "define.bad-value", "MODULE:STREAM"},
		"a stream that leads out":        {`"panel:3"`, `"../panel:3"`, "define.bad-value", "MODULE:STREAM"},
		"a key of a house source": {`standing: house, `, `standing: house, signed_by: [brine], `,
			"define.bad-value", "the site key signs"},
		"a package of no house": {`{source: house, name`, `{source: brine, name`,
			"define.bad-value", "not a house source"},
		"a package of no source": {`{source: house, name`, `{source: hous, name`,
			"define.dangling-reference", "house"},
		"a digest that is none": {"sha256: aaaa", "sha256: zzaa", "define.bad-value", "not a SHA-256"},
		"two of one version": {"packages:\n",
			"packages:\n  again: {source: house, name: relay, version: 1-1, architecture: noarch, sha256: " +
				strings.Repeat("b", 64) + ", size: 3, from: a, why: b}\n",
			"define.duplicate-name", "already"},
		"no upstreams, and not a house": {`standing: house`, `standing: vendor`, "define.missing-field",
			"no upstream"},
	} {
		if !strings.Contains(three, c.old) {
			t.Fatalf("%s: nothing to change", name)
		}
		found := checkThree(strings.Replace(three, c.old, c.new, 1), true).With(c.code)
		told := false
		for _, f := range found {
			told = told || strings.Contains(f.Text+f.WayOut, c.says)
		}
		if !told {
			t.Errorf("%s: %v", name, checkThree(strings.Replace(three, c.old, c.new, 1), true))
		}
	}
	if found := checkThree(three, false); len(found.With("define.bad-value")) != 1 ||
		!strings.Contains(found[0].WayOut, "package add") {
		t.Errorf("a file that is not at this site: %v", found)
	}
}
