package service

import (
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/must"
	"stockade/internal/store"
)

// Scheduled work that was due while the service was away is told, until something of the kind
// begins; what was described after it was due, or is due just now, is not.
func TestScheduledWorkThatWasMissedIsTold(t *testing.T) {
	d := newDesk(t)
	real := d.s.now
	d.must(d.ask(api.Operator, "POST", "/definitions/record", api.Documents{Documents: []definition.Text{{
		Name: "site.yaml", Text: `stockade: 1
sources:
  tarn: {family: deb, standing: official, release: heron, components: [core], architectures: [amd64],
    upstreams: [{url: "https://north.tarn.example/tarn"}], probe_schedule: "30 3 * * *",
    signed_by: [7C1B22E05A90D4417F039E6AB2C871D0453FF1A9]}
mirrors: {barrage: {copy: tailored, from: [tarn], want: {packages: [x]}, schedule: "30 2 * * *"}}
`}}}), 200, nil)
	told := func() string {
		t.Helper()
		set, err := d.s.db.Described()
		must.Do(t, err)
		out := states{}
		must.Do(t, d.s.missed(set, out))
		var said []string
		for _, object := range []string{"mirror barrage", "source tarn"} {
			for _, f := range out.of(object).With("job.missed") {
				said = append(said, object+": "+f.WayOut)
				if f.Severity != finding.Warning {
					t.Errorf("%v", f)
				}
			}
		}
		return strings.Join(said, "; ")
	}
	if got := told(); got != "" {
		t.Errorf("described just now: %s", got)
	}
	tomorrow := real().UTC().Truncate(24*time.Hour).AddDate(0, 0, 2)
	at := func(clock time.Duration) { d.s.now = func() time.Time { return tomorrow.Add(clock) } }
	at(2*time.Hour + 33*time.Minute) // the mirror's, three minutes ago; and of the day before, both
	const build, probe = "mirror barrage: stockade mirror build barrage",
		"source tarn: stockade source probe tarn"
	if got := told(); got != build+"; "+probe {
		t.Errorf("of the day before: %q", got)
	}
	begin := func(kind, object string, started time.Time) {
		t.Helper()
		must.Do(t, d.s.db.AddJob(&store.Job{Kind: kind, Object: object, State: api.Failed, Started: started,
			Findings: "[]"}))
	}
	begin("build", "mirror barrage", tomorrow.Add(-20*time.Hour))
	begin("refresh", "source tarn", tomorrow) // another kind
	if got := told(); got != probe {
		t.Errorf("one began: %q", got)
	}
	begin("probe", "source tarn", tomorrow.Add(-time.Hour))
	if got := told(); got != "" {
		t.Errorf("both began: %q", got)
	}
	at(2*time.Hour + 36*time.Minute)
	if got := told(); got != build {
		t.Errorf("six minutes late: %q", got)
	}
}
