package mirror

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"stockade/core/definition"
	"stockade/internal/must"
)

// told gives what a group takes, in one line, and what it does not.
func (w *Where) told(group string) string {
	var lines []string
	for _, g := range w.Groups {
		if g.Group != group {
			continue
		}
		for _, o := range g.Offers {
			lines = append(lines, fmt.Sprintf("%v %s of %s: %s", o.Taken, o.Version, o.Source, o.Why))
		}
		if g.Why != "" {
			lines = append(lines, g.Why)
		}
	}
	return strings.Join(lines, "\n")
}

// What each source has of a name, and what machines of each group would take of it.
func TestWhereAPackageIsAndWhoWouldTakeIt(t *testing.T) {
	w := newWorld(t)
	w.beside("3.0-1", 70)
	w.gatehouse("tide-tables = 2.3-1")
	w.plan.Groups["bench"] = definition.Group{Family: "deb", Release: "heron", Lane: "trial",
		Architectures: []string{"amd64"}}
	w.plan.Groups["pumps"] = definition.Group{Family: "rpm", Lane: "pumps", Architectures: []string{"x86_64"}}
	where := func(name string) *Where {
		t.Helper()
		x, err := w.builder.Where(t.Context(), name, w.plan.Sources, []Plan{w.plan})
		must.Do(t, err)
		return x
	}
	x := where("tide-tables")
	var has []string
	for _, h := range x.Has {
		has = append(has, h.Source+" "+h.Version+" "+h.Arch)
	}
	if got := strings.Join(has, ", "); got != "tarn 2.3-1 amd64, tarn 2.4.1-1 amd64, kelp 3.0-1 amd64" &&
		got != "tarn 2.4.1-1 amd64, tarn 2.3-1 amd64, kelp 3.0-1 amd64" {
		t.Errorf("%s", got)
	}
	for group, want := range map[string]string{
		"gatehouse": "true 2.3-1 of tarn: it is the version of the pin\n" +
			"false 2.4.1-1 of tarn: machines stay on 2.3-1\nfalse 3.0-1 of kelp: machines stay on 2.3-1",
		"bench": "true 2.4.1-1 of tarn: tarn has the best priority of those that have it (20), and this " +
			"is the newest there\nfalse 2.3-1 of tarn: 2.4.1-1 is newer\n" +
			"false 3.0-1 of kelp: tarn comes first: its priority is 20, and not 70",
	} {
		if got := x.told(group); got != want {
			t.Errorf("%s:\n%s", group, got)
		}
	}
	if x := where("sluicectl"); x.told("bench") != "true 1.4-1 of tarn: nothing else that machines see "+
		"is called so" {
		t.Error(x.told("bench"))
	}
	if x := where("tide-table"); len(x.Has) != 0 || len(x.Near) != 1 || x.Near[0] != "tide-tables" ||
		!strings.Contains(x.told("bench"), "none of the sources that they see has it for amd64") {
		t.Errorf("%+v", x)
	}
	w.plan.Mirror.Want.Except = []string{"slu*"}
	if x := where("sluicectl"); x.told("bench") != "false 1.4-1 of tarn: it is excepted\nnothing is taken" {
		t.Error(x.told("bench"))
	}

	// Of a source that cannot be read it is said that nothing is known, and of who sees it too.
	w.broken = func(rw http.ResponseWriter, _ *http.Request) bool {
		rw.WriteHeader(http.StatusServiceUnavailable)
		return true
	}
	x = where("tide-tables")
	if len(x.Unread) != 1 || x.Unread[0].Source != "tarn" || len(x.Has) != 1 ||
		!strings.Contains(x.told("bench"), "it is not known: tarn cannot be read") {
		t.Errorf("%+v", x)
	}
	for _, name := range []string{"", "a b", "../x", strings.Repeat("x", 300)} {
		if _, err := w.builder.Where(t.Context(), name, nil, nil); err == nil {
			t.Errorf("%q was looked for", name)
		}
	}
}

// What module streams hide is not taken, and who provides a name is told.
func TestWhereWithModuleStreamsAndProvides(t *testing.T) {
	w := newRPMWorld(t)
	w.plan.Groups = map[string]definition.Group{"pumps": {Family: "rpm", Release: "9", Lane: "steady",
		Architectures: []string{"x86_64"}}}
	for streams, want := range map[string]string{
		"": "true 2-1 of brine: nothing else that machines see is called so\nfalse 3-1 of brine: " +
			"machines do not see it: its module stream is not on",
		"panel:3": "true 3-1 of brine: nothing else that machines see is called so\nfalse 2-1 of brine: " +
			"machines do not see it: its module stream is not on",
	} {
		w.source.Want.Streams = strings.Fields(streams)
		x, err := w.builder.Where(t.Context(), "panel", w.plan.Sources, []Plan{w.plan})
		if err != nil || x.told("pumps") != want {
			t.Errorf("with %q: %v\n%s", streams, err, x.told("pumps"))
		}
	}
	w.rpm.Packages[1].Provides = []string{"pump-library = 3"}
	w.republish()
	x, err := w.builder.Where(t.Context(), "pump-library", w.plan.Sources, []Plan{w.plan})
	if err != nil || len(x.Has) != 0 || len(x.Provided) != 1 || x.Provided[0].Name != "libbrine" {
		t.Errorf("%+v, %v", x, err)
	}
}
