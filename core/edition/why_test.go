package edition

import "testing"

// Each way in which a package comes into an edition has its words.
func TestReasonsInWords(t *testing.T) {
	for want, it := range map[string]Item{
		"wanted: tide-tables >= 2":       {Wanted: true, For: "tide-tables >= 2", How: HowRecommended},
		"required by sluicectl":          {For: "sluicectl"},
		"recommended by sluicectl":       {For: "sluicectl", How: HowRecommended},
		"suggested by sluicectl":         {For: "sluicectl", How: HowSuggested},
		"supplements installed packages": {How: HowSupplements},
		"wanted":                         {Wanted: true},
		"":                               {How: HowRecommended},
	} {
		if got := it.Reason(); got != want {
			t.Errorf("%q and not %q", got, want)
		}
	}
}

// The one for the same machines is followed, and of these the wanted one.
func TestWhichOfSeveralAReasonIs(t *testing.T) {
	of := Item{Arch: "amd64"}
	for _, c := range []struct{ better, worse Item }{
		{Item{Arch: "amd64"}, Item{Arch: "arm64"}},
		{Item{Arch: "amd64"}, Item{Arch: "arm64", Wanted: true}},
		{Item{Arch: "amd64", Wanted: true}, Item{Arch: "amd64"}},
		{Item{Arch: "all", Wanted: true}, Item{Arch: "arm64"}},
	} {
		if rank(c.better, of) <= rank(c.worse, of) {
			t.Errorf("%+v before %+v", c.worse, c.better)
		}
	}
}
