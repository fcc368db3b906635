package definition

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/trust"
	"stockade/internal/made/kept"
	"stockade/internal/must"
)

const unsignedSite = `stockade: 1
sources:
  loch:
    family: deb
    standing: community
    upstreams: [{url: "https://loch.example/deb"}]
    release: heron
    components: [core]
    architectures: [amd64]
    unsigned: {reason: "the club has no key", until: 2027-03-01}
mirrors:
  soundings: {copy: tailored, from: [loch], want: {packages: [sounding]}}
`

// What an acknowledgement that nobody signs a source changes, and what it does not.
func TestAcknowledgingThatNobodySigns(t *testing.T) {
	day := func(text string) time.Time {
		d, err := time.Parse(time.RFC3339, text)
		must.Do(t, err)
		return d
	}
	ordinary := day("2026-11-26T12:00:00Z")
	rpmOf := []string{"family: deb", "family: rpm", "    components: [core]\n", "", "amd64", "x86_64"}
	keyed := "    signed_by: [7C1B22E05A90D4417F039E6AB2C871D0453FF1A9]\n    unsigned:"
	var all strings.Builder
	for _, c := range []struct {
		name   string
		change []string
		now    time.Time
	}{
		{"until its date it is a warning", nil, ordinary},
		{"its last day counts", nil, day("2027-03-01T23:59:59Z")},
		{"then it is an error", nil, day("2027-03-02T00:00:00Z")},
		{"where no clock is known it is a warning", nil, time.Time{}},
		{"without a reason", []string{`reason: "the club has no key", `, ""}, ordinary},
		{"without an end", []string{", until: 2027-03-01", ""}, ordinary},
		{"until a day that is none", []string{"2027-03-01", "2027-02-30"}, ordinary},
		{"for as long as there may be", []string{"2027-03-01", "2028-11-25"}, ordinary},
		{"for ever", []string{"2027-03-01", "2028-11-27"}, ordinary},
		{"a word too many", []string{"until:", "who: mara, until:"}, ordinary},
		{"plain HTTP is an error all the same", []string{"https://loch", "http://loch"}, ordinary},
		{"a faithful copy", []string{"copy: tailored", "copy: faithful", "packages: [sounding]",
			"everything: true"}, ordinary},
		{"signed and unsigned at once", []string{"    unsigned:", keyed}, ordinary},
		{"of packages that are signed themselves", append(rpmOf, "    unsigned:", keyed), ordinary},
		{"of such, in plain HTTP", append(rpmOf, "    unsigned:", keyed, "https://loch", "http://loch"),
			ordinary},
	} {
		text := strings.NewReplacer(c.change...).Replace(unsignedSite)
		set, read := Read(Text{Name: "loch.yaml", Text: text})
		found := Merge(read, Check(set, Surroundings{Now: c.now,
			Families: archive.NewRegistry(deb.Family{}, rpm.Family{}, alpm.Family{})}))
		fmt.Fprintf(&all, "# %s\n%s", c.name, kept.Findings(found))
	}
	kept.Same(t, "unsigned.txt", all.String())
	// What has ended keeps nobody from recording something else.
	set, _ := Read(Text{Name: "loch.yaml", Text: unsignedSite})
	found := Check(set, Surroundings{Now: day("2027-03-02T00:00:00Z"),
		Families: archive.NewRegistry(deb.Family{})})
	if !found.HasErrors() || len(Blocking(found)) > 0 || Proposed(found).HasErrors() {
		t.Errorf("ended: %v", found)
	}
	// Written anew, it is read to the same.
	out, err := set.YAML()
	must.Do(t, err)
	again, _ := Read(Text{Name: "again.yaml", Text: out})
	if got := again.Sources["loch"].Unsigned; got != set.Sources["loch"].Unsigned ||
		got.Until != "2027-03-01" {
		t.Errorf("%+v from\n%s", got, out)
	}
}

// One key that counts is enough: the others are a note then, and those of one name are one
// finding.
func TestKeysThatNobodyVouchedForAreToldOnce(t *testing.T) {
	around, certs := around(t)
	one, two, three := certs[0].Fingerprint, certs[1].Fingerprint, certs[2].Fingerprint
	around.Barred, around.Awaiting = nil, nil
	around.Certificate = func(f string) (*trust.Certificate, bool) {
		for _, c := range certs {
			if c.Fingerprint == f {
				return c, true
			}
		}
		return nil, false
	}
	const weir = "  weir: {family: rpm, architectures: [x86_64], signed_by: [only], upstreams: " +
		"[{url: \"https://weir.example\"}]}\n"
	keys := "keys:\n  ring: {file: both.asc, fingerprints: [" + one + ", " + two +
		"]}\n  only: {fingerprint: " +
		three + "}\n  three: {fingerprints: [" + one + ", " + two + ", " + three +
		"]}\n  loose: {fingerprints: [" +
		one + ", " + two + "]}\n"
	var all strings.Builder
	for _, c := range []struct {
		name, by string
		vouched  []string
	}{
		{"none of one", "[only]", nil},
		{"none of several", "[ring]", nil},
		{"none of any", "[ring, only]", nil},
		{"one of several", "[ring]", []string{two}},
		{"another", "[ring, only]", []string{three}},
		{"another, first", "[only, ring]", []string{three}},
		{"all", "[ring, only]", []string{one, two, three}},
		{"one of three", "[three, only]", []string{one}},
		{"none of several without a file", "[loose]", nil},
	} {
		around.Vouched = func(f, source string) bool {
			return source == "loch" && slices.Contains(c.vouched, f)
		}
		text := strings.NewReplacer(`unsigned: {reason: "the club has no key", until: 2027-03-01}`,
			"signed_by: "+c.by, "mirrors:", weir+"mirrors:").Replace(unsignedSite) + keys
		set, read := Read(Text{Name: "/reach/loch.yaml", Text: text})
		fmt.Fprintf(&all, "# %s\n%s", c.name, kept.Findings(Merge(read, Check(set, around))))
	}
	kept.Same(t, "unvouched.txt", alike(all.String(), certs))
}

// Whoever holds a key that is vouched for, for sources of several owners, signs for all.
func TestAKeyOfSeveralOwnersIsTold(t *testing.T) {
	const text = `stockade: 1
keys: {desk: {fingerprint: 7C1B22E05A90D4417F039E6AB2C871D0453FF1A9, vouched_for: [tarn, fixes], evidence: "call 1"}}
sources:
  tarn: {family: deb, standing: official, upstreams: [{url: "https://north.tarn.example/tarn"}], release: ./, architectures: [amd64], signed_by: [desk]}
  fixes: {family: deb, standing: official, upstreams: [{url: "https://fixes.tarn.example/x"}], release: ./, architectures: [amd64], signed_by: [desk]}
`
	var all strings.Builder
	for _, c := range []struct {
		name   string
		change []string
	}{
		{"of one domain", nil},
		{"of two domains", []string{"fixes.tarn.example", "kelp.example"}},
		{"of one that is known", []string{"fixes.tarn.example", "192.0.2.7"}},
		{"of two standings", []string{"fixes: {family: deb, standing: official",
			"fixes: {family: deb, standing: vendor"}},
		{"not vouched for the other", []string{"fixes.tarn.example", "kelp.example", "[tarn, fixes]",
			"[tarn]"}},
		{"not named by the other",
			[]string{"fixes.tarn.example", "kelp.example", "signed_by: [desk]}\n  fixes",
				"signed_by: []}\n  fixes"}},
		{"the other is disabled", []string{"fixes: {family", "fixes: {disabled: true, family",
			"fixes.tarn.example", "kelp.example"}},
	} {
		set, read := Read(Text{Name: "x.yaml", Text: strings.NewReplacer(c.change...).Replace(text)})
		found := Merge(read, Check(set, Surroundings{Families: archive.NewRegistry(deb.Family{})}))
		fmt.Fprintf(&all, "# %s\n%s", c.name, kept.Findings(found))
	}
	kept.Same(t, "shared.txt", all.String())
}
