package definition

import (
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/archive"
	"stockade/core/archive/alpm"
	"stockade/core/archive/deb"
	"stockade/core/archive/rpm"
	"stockade/core/finding"
	"stockade/core/trust"
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
	for _, c := range []struct {
		name     string
		change   []string
		now      time.Time
		code     string
		severity finding.Severity
		line     int
		text     string
	}{
		{"until its date it is a warning", nil, ordinary, "source.unsigned", finding.Warning, 10,
			"acknowledged until 2027-03-01: the club has no key"},
		{"its last day counts", nil, day("2027-03-01T23:59:59Z"), "source.unsigned", finding.Warning, 10,
			"the club"},
		{"then it is an error", nil, day("2027-03-02T00:00:00Z"), "source.unsigned", finding.Error, 10,
			"was acknowledged until 2027-03-01"},
		{"where no clock is known it is a warning", nil, time.Time{}, "source.unsigned", finding.Warning, 10,
			"the club"},
		{"without a reason", []string{`reason: "the club has no key", `, ""}, ordinary, "define.missing-field",
			finding.Error, 10, "reason"},
		{"without an end", []string{", until: 2027-03-01", ""}, ordinary, "define.missing-field",
			finding.Error, 10, "until"},
		{"until a day that is none", []string{"2027-03-01", "2027-02-30"}, ordinary, "define.bad-value",
			finding.Error, 10, `"2027-02-30" is no date`},
		{"for ever", []string{"2027-03-01", "2029-03-01"}, ordinary, "define.bad-value", finding.Error, 10,
			"two years are the most"},
		{"a word too many", []string{"until:", "who: mara, until:"}, ordinary, "define.unknown-field",
			finding.Error, 10, "who"},
		{"plain HTTP is an error all the same", []string{"https://loch", "http://loch"}, ordinary,
			"source.plain-http", finding.Error, 6, "nothing signs it"},
		{"a faithful copy", []string{"copy: tailored", "copy: faithful", "packages: [sounding]",
			"everything: true"}, ordinary, "define.bad-value", finding.Error, 12, "is not signed"},
		{"signed and unsigned at once", []string{"    unsigned:", keyed}, ordinary, "define.bad-value",
			finding.Error, 11, "signed_by says who signs it, and unsigned that nobody does"},
		{"of packages that are signed themselves", append(rpmOf, "    unsigned:", keyed), ordinary,
			"key.unvouched", finding.Error, 9, "nobody vouched for"},
	} {
		t.Run(c.name, func(t *testing.T) {
			text := strings.NewReplacer(c.change...).Replace(unsignedSite)
			set, read := Read(Text{Name: "loch.yaml", Text: text})
			found := Merge(read, Check(set, Surroundings{Now: c.now,
				Families: archive.NewRegistry(deb.Family{}, rpm.Family{}, alpm.Family{})}))
			var met bool
			for _, f := range found {
				met = met || f.Code == c.code && f.Severity == c.severity && f.Place.Line == c.line &&
					strings.Contains(f.Text, c.text)
				if f.Code == "define.bad-value" && c.code != f.Code {
					t.Errorf("told beside it: %v", f)
				}
			}
			if !met {
				t.Errorf("no %s at line %d that says %q: %v", c.code, c.line, c.text, found)
			}
		})
	}
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
	for _, c := range []struct {
		name, by string
		vouched  []string
		severity finding.Severity
		says     []string
	}{
		{"none of one", "[only]", nil, finding.Error, []string{"nobody vouched for only (" + three +
			") for"}},
		{"none of several", "[ring]", nil, finding.Error, []string{
			"nobody vouched for any of the 2 certificates of ring for this source; one that signs it is " +
				"enough"}},
		{"none of any", "[ring, only]", nil, finding.Error, []string{"any of the 2 certificates of ring",
			"for only (" + three + ")"}},
		{"one of several", "[ring]", []string{two}, finding.Note, []string{
			"nobody vouched for ring (" + one + ") for this source; another that it names counts"}},
		{"another", "[ring, only]", []string{three}, finding.Note, []string{
			"any of the 2 certificates of ring for this source; another that it names counts"}},
		{"all", "[ring, only]", []string{one, two, three}, finding.Note, nil},
	} {
		t.Run(c.name, func(t *testing.T) {
			around.Vouched = func(f, source string) bool {
				return source == "loch" && slices.Contains(c.vouched, f)
			}
			text := strings.Replace(unsignedSite, `    unsigned: {reason: "the club has no key", until: 2027-03-01}`,
				"    signed_by: "+c.by, 1) + "keys:\n  ring: {file: both.asc, fingerprints: [" + one + ", " +
				two + "]}\n  only: {fingerprint: " + three + "}\n"
			set, read := Read(Text{Name: "/reach/loch.yaml", Text: text})
			found := Merge(read, Check(set, around)).With("key.unvouched")
			if len(found) != len(c.says) {
				t.Fatalf("%d findings, and %d were meant: %v", len(found), len(c.says), found)
			}
			for i, f := range found {
				if f.Severity != c.severity || !strings.Contains(f.Text, c.says[i]) || f.Place.Line != 10 {
					t.Errorf("%s: %v", f.Severity, f)
				}
				if strings.Contains(f.Text, "any of") &&
					!strings.Contains(f.WayOut, "stockade key examine both.asc --source loch tells which") {
					t.Errorf("the way out: %s", f.WayOut)
				}
			}
		})
	}
}

// Whoever holds a key that is vouched for, for sources of several owners, signs for all.
func TestAKeyOfSeveralOwnersIsTold(t *testing.T) {
	const text = `stockade: 1
keys: {desk: {fingerprint: 7C1B22E05A90D4417F039E6AB2C871D0453FF1A9, vouched_for: [tarn, fixes], evidence: "call 1"}}
sources:
  tarn: {family: deb, standing: official, upstreams: [{url: "https://north.tarn.example/tarn"}], release: ./, architectures: [amd64], signed_by: [desk]}
  fixes: {family: deb, standing: official, upstreams: [{url: "https://fixes.tarn.example/x"}], release: ./, architectures: [amd64], signed_by: [desk]}
`
	for name, c := range map[string]struct {
		change []string
		says   string
	}{
		"of one domain": {nil, ""},
		"of two domains": {[]string{"fixes.tarn.example", "kelp.example"},
			"fixes (official, kelp.example) and tarn (official, tarn.example)"},
		"of one that is known": {[]string{"fixes.tarn.example", "192.0.2.7"}, ""},
		"of two standings": {[]string{"fixes: {family: deb, standing: official",
			"fixes: {family: deb, standing: vendor"}, "fixes (vendor, tarn.example) and tarn (official"},
		"not vouched for the other": {[]string{"fixes.tarn.example", "kelp.example", "[tarn, fixes]",
			"[tarn]"}, ""},
		"not named by the other": {[]string{"fixes.tarn.example", "kelp.example"}, ""},
		"the other is disabled": {[]string{"fixes: {family", "fixes: {disabled: true, family",
			"fixes.tarn.example", "kelp.example"}, ""},
	} {
		set, read := Read(Text{Name: "x.yaml", Text: strings.NewReplacer(c.change...).Replace(text)})
		if name == "not named by the other" {
			src := set.Sources["fixes"]
			src.SignedBy = nil
			set.Sources["fixes"] = src
		}
		found := Merge(read, Check(set, Surroundings{Families: archive.NewRegistry(deb.Family{})})).With(
			"key.shared")
		if c.says == "" && len(found) > 0 || c.says != "" && (len(found) != 1 ||
			found[0].Severity != finding.Note || !strings.Contains(found[0].Text, c.says)) {
			t.Errorf("%s: %v", name, found)
		}
	}
}
