package e2e

import (
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"stockade/internal/api"
	"stockade/internal/must"
)

// What a change takes away is shown with what stands on it, and asked about, on each road.
func TestWhatStandsOnWhatIsTakenAwayIsAskedAbout(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.house()
	s.built("steady")
	before := cliJSON[[]api.Source](s, "source", "list")
	text, _ := s.cli(0, "describe")
	doc := filepath.Join(s.dir, "changed.yaml")
	write := func(old, new string) {
		t.Helper()
		if !strings.Contains(text, old) {
			t.Fatalf("the description has no %q", old)
		}
		must.Write(t, doc, strings.Replace(text, old, new, 1))
	}
	// One upstream of two.
	north := "- url: " + s.scenario.North.URL + "/tarn\n        region: north\n"
	if !strings.Contains(text, north) {
		north = text[strings.Index(text, "- url: "+s.scenario.North.URL):]
		north = north[:strings.Index(north[1:], "- url")+1]
	}
	write(north, "")
	_, err := s.cli(2, "record", doc)
	for _, want := range []string{"upstream " + s.scenario.North.URL, "is removed",
		"the mirrors barrage", "keeps 1 upstream", "add --yes"} {
		if !strings.Contains(err, want) {
			t.Errorf("without %q: %s", want, err)
		}
	}
	if now := cliJSON[[]api.Source](s, "source", "list"); len(now) != len(before) ||
		len(cliJSON[api.Source](s, "source", "show", "tarn").Upstreams) != 2 {
		t.Error("something was changed without being asked")
	}
	_, err = s.cli(0, "compare", doc)
	if !strings.Contains(err, "keeps 1 upstream") {
		t.Errorf("compare: %s", err)
	}
	s.cli(0, "record", doc, "--yes")
	// The way back takes nothing away.
	must.Write(t, doc, text)
	s.cli(0, "record", doc)

	// What the key has signed, and what would stop without it.
	tarn := s.scenario.TarnKey.Certificate().Fingerprint
	shown := cliJSON[struct {
		Signed api.Signed `json:"signed"`
	}](s, "key", "show", tarn).Signed
	for _, want := range []api.SignedRoot{{Source: "tarn"}, {Source: "tarn", Edition: "barrage/1"},
		{Source: "tarn-fixes", Edition: "barrage/1"}} {
		if !slices.ContainsFunc(shown.Roots, func(r api.SignedRoot) bool {
			return r.Source == want.Source && r.Edition == want.Edition && !r.At.IsZero() && !r.Date.IsZero()
		}) {
			t.Errorf("it does not tell that the key signed %+v: %+v", want, shown.Roots)
		}
	}
	if slices.ContainsFunc(shown.Roots, func(r api.SignedRoot) bool { return r.Source == "kelp" }) {
		t.Errorf("the key of another: %+v", shown.Roots)
	}
	if !slices.Contains(shown.Stops.Sources, "tarn") || !slices.Contains(shown.Stops.Mirrors, "barrage") ||
		!slices.Contains(shown.Stops.Groups, "gatehouse") {
		t.Errorf("what stops without it: %+v", shown.Stops)
	}
	brine := s.scenario.BrineKey.Certificate().Fingerprint
	s.cli(0, "mirror", "build", "pumps")
	shown = cliJSON[struct {
		Signed api.Signed `json:"signed"`
	}](s, "key", "show", brine).Signed
	if len(shown.Packages) != 1 || shown.Packages[0].Source != "brine-drivers" ||
		shown.Packages[0].Edition != "pumps/1" || shown.Packages[0].Packages == 0 {
		t.Errorf("packages that carry its signature: %+v", shown.Packages)
	}
	_, err = s.cli(2, "key", "bar", tarn, "--reason", "lost")
	if !strings.Contains(err, "no other vouched key covers these") || !strings.Contains(err,
		"gatehouse") {
		t.Errorf("barring: %s", err)
	}
}
