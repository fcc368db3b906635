package machine

import (
	"fmt"
	"strings"
	"testing"

	"stockade/core/archive"
	"stockade/core/edition"
	"stockade/internal/must"
)

// Of a difference machines see what is of their sources, for their architectures: those of now and
// those of before. What a pin of theirs keeps from them is told beside it.
func TestWhatMachinesSeeOfADifference(t *testing.T) {
	change := func(action, source, name, arch, old, now string) edition.Change {
		return edition.Change{Action: action, Source: source, Name: name, Arch: arch, OldVersion: old,
			NewVersion: now, NewSize: int64(5 * min(1, len(now)))}
	}
	secure := change(edition.Changed, "tarn", "valve", "all", "1", "2")
	secure.Security = true
	changes := []edition.Change{
		change(edition.Removed, "left", "gauge", "amd64", "3", ""),
		change(edition.Changed, "tarn", "gate", "amd64", "1.0-1", "1.1-1"),
		change(edition.Changed, "tarn", "pump", "arm64", "1", "2"), // for other machines
		change(edition.Changed, "far", "pump", "amd64", "1", "2"),  // of a source that they do not see
		change(edition.Added, "come", "buoy", "i386", "", "7"),     // for an architecture beside theirs
		change(edition.Changed, "tarn", "tide", "amd64", "1.0-1", "1.0-2"),
		change(edition.Removed, "tarn", "weir", "amd64", "1", ""),
		secure,
	}
	pins := func(texts ...string) (out []archive.Relation) {
		for _, text := range texts {
			r, err := archive.ParseWant(text)
			must.Do(t, err)
			out = append(out, r)
		}
		return out
	}
	before := View{Sources: []string{"tarn", "left"}, Architectures: []string{"amd64"}}
	after := View{Sources: []string{"tarn", "come"}, Architectures: []string{"amd64"},
		Foreign: []string{"i386"}, Pins: pins("gate = 1.0-1", "tide >= 1.0-2", "weir = 1", "pump = 1")}
	var got []string
	seen := Difference(before, after, families["deb"], changes)
	for _, s := range seen {
		got = append(got, strings.TrimSpace(fmt.Sprint(s.Name, " ", s.Pin)))
	}
	if text := strings.Join(got, ", "); text != "valve, gate gate = 1.0-1, tide, buoy, gauge, weir" {
		t.Errorf("%s", text)
	}
	if s := Summarise(seen); s.Changes != 6 || s.Security != 1 || s.Newer != 3 || s.Added != 1 ||
		s.Removed != 2 || s.Bytes != 20 {
		t.Errorf("%+v", s)
	}
	if changes[0].Name != "gauge" {
		t.Error("what it was given was put into another order")
	}
}

// A move that takes packages away from machines says which, once for all their architectures.
func TestWhatAMoveTakesAwayIsTold(t *testing.T) {
	from, to := &edition.Edition{Mirror: "barrage", Number: 2}, &edition.Edition{Mirror: "barrage", Number: 1}
	change := func(action, name, arch string) SeenChange {
		return SeenChange{Change: edition.Change{Action: action, Name: name, Arch: arch, OldVersion: "1"}}
	}
	seen := []SeenChange{change(edition.Changed, "tide", "amd64"), change(edition.Added, "gate", "amd64")}
	if found := Removals("gatehouse", from, to, seen); len(found) > 0 {
		t.Errorf("nothing is taken away, and got %v", found)
	}
	for _, name := range []string{"lamp", "buoy", "horn", "pump", "lamp"} {
		seen = append(seen, change(edition.Removed, name, "amd64"))
	}
	found := Removals("gatehouse", from, to, append(seen, change(edition.Removed, "lamp", "arm64")))
	if len(found) != 1 || found[0].Object != "group gatehouse" ||
		!strings.HasPrefix(found[0].Text, "barrage/1 has no version of lamp, buoy, horn and 1 other, which") {
		t.Errorf("got %v", found)
	}
}
