package e2e

import (
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"stockade/core/mirror"
	"stockade/internal/api"
)

// Where a package is, and which one machines would take, is told on the command line, over the
// network and in the console alike; and a machine then takes it.
func TestWhereAPackageIs(t *testing.T) {
	t.Parallel()
	s := newSite(t)
	s.described()
	out := mustOut(s, "package", "where", "tide-tables")
	for _, says := range []string{"tarn    2.4.1-1  all         20  official",
		"gatehouse (amd64, lane steady)\n" +
			"  takes 2.4.1-1 of tarn: a pin selects this version\n        2.3.0-1 of tarn: machines stay " +
			"on 2.4.1-1",
		"test-bench (amd64, lane trial)\n  takes 2.4.1-1 of tarn: it is the newest of tarn"} {
		if !strings.Contains(out, says) {
			t.Errorf("%q is not in\n%s", says, out)
		}
	}
	if out := mustOut(s, "package", "where", "tide-tables", "--group", "gatehouse"); strings.Contains(out,
		"test-bench") {
		t.Error(out)
	}
	if out := mustOut(s, "package", "where", "kelp-drive", "-o", "ids"); out != "kelp\n" {
		t.Error(out)
	}
	if _, log := s.cli(1, "package", "where", "tidetables"); !strings.Contains(log,
		"did you mean tide-tables?") {
		t.Error(log)
	}
	if _, log := s.cli(1, "package", "where", "tide tables"); !strings.Contains(log, "content.bad-name") {
		t.Error(log)
	}
	var w mirror.Where
	job := s.job("/packages/where", api.WhereAsked{Name: "sluicectl"})
	raw, err := json.Marshal(job.Result)
	if err == nil {
		err = json.Unmarshal(raw, &w)
	}
	if err != nil || len(w.Asked) == 0 || len(w.Has) == 0 || w.Has[0].Source != "tarn" {
		t.Errorf("%s, %v", raw, err)
	}
	// Why an edition has a package, down to what is wanted.
	if _, log := s.cli(2, "mirror", "show", "barrage", "--why", "libkelp7"); !strings.Contains(log,
		"barrage has no edition yet") {
		t.Error(log)
	}
	s.built("steady")
	if out := mustOut(s, "mirror", "show", "barrage", "--why", "libkelp7"); out != "in barrage/1\n"+
		"libkelp7 7.2-0kelp1 (amd64) of kelp: required by kelp-drive\n"+
		"  kelp-drive 7.2-0kelp1 (amd64) of kelp: wanted: kelp-drive\n" {
		t.Error(out)
	}
	if _, log := s.cli(2, "mirror", "show", "barrage", "--why", "libkelp"); !strings.Contains(log,
		`did you mean "libkelp7"?`) {
		t.Error(log)
	}

	// A source that does not answer is said to be unknown; what others have is told.
	s.scenario.Vendor.Fault(func(w http.ResponseWriter, _ *http.Request) bool {
		w.WriteHeader(http.StatusServiceUnavailable)
		return true
	})
	if _, log := s.cli(0, "package", "where", "tide-tables"); !strings.Contains(log,
		"unknown for kelp") {
		t.Error(log)
	}
	s.scenario.Vendor.Fault(nil)
}
