package service

import (
	"context"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/upstream"
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
		must.Do(t, d.s.missed(&model{set: set}, out))
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
	const build, probe = "mirror barrage: run stockade mirror build barrage",
		"source tarn: run stockade source probe tarn"
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

// Work that is due while its object is worked on waits until that ends; it is not dropped.
func TestScheduledWorkWaitsForWhatRuns(t *testing.T) {
	d := newDesk(t)
	d.describe("https://north.tarn.example/tarn")
	set, err := d.s.db.Described()
	must.Do(t, err)
	end := make(chan struct{})
	_, err = d.s.jobs.start("estimate", "mirror barrage", "mara",
		func(context.Context, func(upstream.Event)) (any, finding.List, error) {
			<-end
			return nil, nil, nil
		})
	must.Do(t, err)
	builds := func() (n int) {
		t.Helper()
		all, err := d.s.db.LastJobs()
		must.Do(t, err)
		for _, j := range all {
			if j.Kind == "build" && j.Object == "mirror barrage" && j.By == "schedule" {
				n++
			}
		}
		return n
	}
	due := time.Date(2026, 11, 3, 2, 30, 0, 0, time.UTC)
	waiting := map[string]bool{}
	d.s.beginDue(set, due.Add(-time.Second), due.Add(time.Second), waiting)
	if !waiting["mirror barrage"] || builds() != 0 {
		t.Fatalf("got waiting %v and %d builds, want that it waits", waiting, builds())
	}
	d.s.beginDue(set, due.Add(time.Second), due.Add(20*time.Second), waiting)
	if !waiting["mirror barrage"] {
		t.Error("it does not wait any more")
	}
	close(end)
	d.idle()
	d.s.beginDue(set, due.Add(20*time.Second), due.Add(40*time.Second), waiting)
	if len(waiting) != 0 || builds() != 1 {
		t.Errorf("got waiting %v and %d builds, want 1", waiting, builds())
	}
	d.idle()
	d.s.beginDue(set, due.Add(40*time.Second), due.Add(60*time.Second), waiting)
	if builds() != 1 {
		t.Errorf("got %d builds, want 1", builds())
	}
}

// describe records a mirror of one source.
func (d *desk) describe(url string) {
	d.t.Helper()
	d.must(d.ask(api.Operator, "POST", "/definitions/record", api.Documents{Documents: []definition.Text{{
		Name: "site.yaml", Text: `stockade: 1
sources:
  tarn: {family: deb, standing: official, release: heron, components: [core], architectures: [amd64],
    upstreams: [{url: "` + url + `"}], signed_by: [7C1B22E05A90D4417F039E6AB2C871D0453FF1A9]}
mirrors: {barrage: {copy: tailored, from: [tarn], want: {packages: [x]}, schedule: "30 2 * * *"}}
`}}}), 200, nil)
}

// idle waits until no job runs.
func (d *desk) idle() {
	d.t.Helper()
	for until := time.Now().Add(time.Minute); time.Now().Before(until); time.Sleep(10 * time.Millisecond) {
		d.s.jobs.mu.Lock()
		running := len(d.s.jobs.running)
		d.s.jobs.mu.Unlock()
		if running == 0 {
			return
		}
	}
	d.t.Fatal("a job does not end")
}

// What a preview finds is told of its mirror until something else is found; and that a mirror was
// described otherwise since is told, as nothing found means nothing then.
func TestWhatAPreviewFindsIsToldOfItsMirror(t *testing.T) {
	d := newDesk(t)
	d.describe("http://127.0.0.1:1/tarn")
	told := func() (out string) {
		t.Helper()
		_, all, err := d.s.toldNow()
		must.Do(t, err)
		for _, f := range append(all.of("mirror barrage"), all.of("source tarn")...) {
			out += string(f.Severity) + " " + string(f.Code) + "; "
		}
		return out
	}
	if got := told(); strings.Contains(got, "mirror.not-looked-at") {
		t.Errorf("before anybody looked: got %q", got)
	}
	d.must(d.ask(api.Operator, "POST", "/mirrors/barrage/preview", nil), 200, nil)
	d.idle()
	kept, err := d.s.db.AllKept("mirror")
	must.Do(t, err)
	if len(kept) != 1 || len(decode[checked](kept[0].Body).Findings) == 0 || strings.Contains(told(),
		"not-looked-at") {
		t.Fatalf("after a preview that failed: got %v and %q", kept, told())
	}
	d.describe("http://127.0.0.1:2/tarn")
	if got := told(); !strings.Contains(got, "note mirror.not-looked-at") {
		t.Errorf("after the source was described otherwise: got %q", got)
	}
	d.must(d.ask(api.Operator, "POST", "/mirrors/barrage/estimate", nil), 200, nil)
	d.idle()
	if got := told(); strings.Contains(got, "not-looked-at") {
		t.Errorf("after somebody looked: got %q", got)
	}
}

// The editions that lanes show are verified when their mirror says so, and no others; that it was missed is
// told.
func TestEditionsAreVerifiedOnSchedule(t *testing.T) {
	d := newDesk(t)
	d.describe("http://127.0.0.1:1/tarn")
	d.must(d.ask(api.Operator, "POST", "/definitions/record", api.Documents{Documents: []definition.Text{{
		Name: "site.yaml", Text: `stockade: 1
mirrors: {barrage: {copy: tailored, from: [tarn], want: {packages: [x]}, verify_schedule: "0 4 * * *"}}
lanes: {steady: {mirror: barrage}}
`}}}), 200, nil)
	created := time.Date(2026, 11, 2, 12, 0, 0, 0, time.UTC)
	for n := range 2 {
		must.Do(t, d.s.db.SaveEdition(store.Edition{Mirror: "barrage", Number: n + 1, Created: created}))
	}
	ch, err := d.s.begin(itself("mara"))
	must.Do(t, err)
	_, err = ch.step(api.Lane{Name: "steady", Mirror: "barrage"}, store.Move{Lane: "steady",
		Mirror: "barrage", Edition: 1})
	ch.end()
	must.Do(t, err)
	verified := func() (out []string) {
		t.Helper()
		all, err := d.s.db.Jobs("", "", 0, 100)
		must.Do(t, err)
		for _, j := range all {
			if j.Kind == "verify" {
				out = append(out, j.Object+" by "+j.By)
			}
		}
		return out
	}
	due := time.Date(2026, 11, 3, 4, 0, 0, 0, time.UTC)
	set, err := d.s.db.Described()
	must.Do(t, err)
	d.s.beginDue(set, due.Add(-2*time.Minute), due.Add(-time.Second), map[string]bool{})
	if got := verified(); len(got) != 0 {
		t.Errorf("before it is due: got %v", got)
	}
	d.s.beginDue(set, due.Add(-time.Second), due.Add(time.Second), map[string]bool{})
	d.idle()
	if got := verified(); len(got) != 1 || got[0] != "edition barrage/1 by schedule" {
		t.Errorf("got %v, want the edition that the lane shows", got)
	}
	m, err := d.s.model()
	must.Do(t, err)
	tomorrow := time.Now().UTC().Truncate(24*time.Hour).AddDate(0, 0, 2)
	for after, want := range map[time.Duration]int{3 * time.Hour: 1, 4*time.Hour + time.Minute: 1} {
		d.s.now = func() time.Time { return tomorrow.Add(after) }
		out := states{}
		must.Do(t, d.s.missed(m, out))
		if found := out.of("edition barrage/1").With("job.missed"); len(found) != want {
			t.Errorf("%s into a day after days without: got %v", after, found)
		}
	}
}
