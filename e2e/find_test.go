package e2e

import (
	"context"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/internal/api"
	"stockade/internal/client"
	"stockade/internal/made"
)

// found asks for packages until the answer is as it should be: the search index follows behind.
func (s *site) found(query, what string, is func(api.FoundPackages) bool) {
	s.t.Helper()
	for began := time.Now(); ; time.Sleep(50 * time.Millisecond) {
		out, err := client.Get[api.FoundPackages](context.Background(), s.client, "/packages/find?"+query)
		if err != nil {
			s.t.Fatal(err)
		}
		if is(out) {
			return
		}
		if time.Since(began) > patience {
			s.t.Fatalf("%s: got %+v, want %s", query, out, what)
		}
	}
}

// Packages are found by what people remember of them, on the command line and in the console, and an answer
// follows what sources offer, what editions hold and what lanes show.
func TestPackagesAreFound(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	s.cli(0, "source", "refresh", "tarn")
	s.cli(0, "source", "refresh", "tarn-fixes")
	s.cli(0, "source", "refresh", "kelp")
	s.found("q=kelp-drive", "three of five sources searched", func(f api.FoundPackages) bool {
		return len(f.Items) > 0 && f.Items[0].Name == "kelp-drive" && f.Unread.All == 2 // of other families
	})
	if out := mustOut(s, "package", "find", "gate", "drives", "-o",
		"ids"); !slices.Contains(strings.Fields(out),
		"kelp-drive") {
		t.Errorf("got %q for a word of a summary, want kelp-drive", out)
	}
	for _, says := range []string{"tide-tables", "2.4.1-1", "yes", "–"} {
		if out := mustOut(s, "package", "find", "tide"); !strings.Contains(out, says) {
			t.Errorf("%q is not in\n%s", says, out)
		}
	}
	if _, log := s.cli(1, "package", "find", "tidetables"); !strings.Contains(log,
		"Did you mean tide-tables?") {
		t.Error(log)
	}
	s.cli(2, "package", "find", "tide", "--source", "tarm")
	s.cli(2, "package", "find", "tide", "--lane", "nope")
	s.cli(2, "package", "find", "tide", "--family", "debb")

	edition := s.built("steady")
	s.found("q=tide-tables&lane=steady", "what steady shows", func(f api.FoundPackages) bool {
		return len(f.Items) > 0 && f.Items[0].Name == "tide-tables" && f.Items[0].Versions[0].Offered &&
			slices.Equal(f.Items[0].Versions[0].Lanes, []string{"steady"}) &&
			slices.Equal(f.Items[0].Versions[0].Editions, []string{edition})
	})
	s.published(func(r *made.DebRepository) {
		at("sluicectl", "9.0-1")(r)
		r.Packages = append(r.Packages, made.Deb{Component: "core", Name: "gate-siren", Version: "1.0-1",
			Arch: "all", Summary: "warns who stands below"})
	})
	s.cli(0, "source", "refresh", "tarn")
	s.found("q=siren", "what was published since",
		func(f api.FoundPackages) bool { return len(f.Items) == 1 })
	s.cli(0, "mirror", "build", "barrage")
	s.cli(0, "lane", "move", "steady", "barrage/2")
	s.cli(0, "edition", "retire", edition, "--yes")
	s.found("q=tide-tables", "no edition that was retired", func(f api.FoundPackages) bool {
		return len(f.Items) > 0 && slices.Equal(f.Items[0].Versions[0].Editions, []string{"barrage/2"})
	})

	b := signedIn(t, s, "/packages")
	b.see("Type part of a name")
	b.typed(`input[aria-label="Search packages"]`, "siren")
	b.see("gate-siren")
	b.see("warns who stands below")
	b.typed(`input[aria-label="Search packages"]`, "")
	b.typed(`input[aria-label="Search packages"]`, "tidetables")
	b.see("Did you mean")
	b.click("tide-tables")
	b.see("Offered now")
	b.see("a pin selects this version")
	b.see("machines stay on 2.4.1-1")
	b.shot("packages")
}
