package service

import (
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"github.com/glebarez/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"

	"stockade/core/definition"
	"stockade/internal/api"
	"stockade/internal/made"
	"stockade/internal/must"
	"stockade/internal/store"
)

// behind opens the records beside the service.
func behind(t *testing.T, d *desk) *gorm.DB {
	t.Helper()
	other, err := gorm.Open(sqlite.Open(filepath.Join(d.s.cfg.Data,
		"stockade.db")+"?_pragma=busy_timeout(5000)"), &gorm.Config{Logger: logger.Discard})
	must.Do(t, err)
	raw, err := other.DB()
	must.Do(t, err)
	t.Cleanup(func() { raw.Close() })
	return other
}

// A job that ended is told to have, also while that cannot be written, and it is written as
// soon as it can be.
func TestTheEndOfAJobThatCannotBeWritten(t *testing.T) {
	d := newDesk(t)
	other := behind(t, d)
	must.Do(t, other.Exec("CREATE TRIGGER fault BEFORE UPDATE ON jobs BEGIN "+
		"SELECT RAISE(ABORT, 'the disk does not answer'); END").Error)
	sweep := func() (job api.Job) {
		t.Helper()
		d.must(d.ask(api.Operator, "POST", "/pool/sweep", nil), 200, &job)
		d.must(d.ask(api.Viewer, "GET", fmt.Sprintf("/jobs/%d/events", job.ID), nil), 200, nil)
		return job
	}
	written := func(job api.Job) (state string) {
		t.Helper()
		must.Do(t, other.Table("jobs").Where("id = ?", job.ID).Select("state").Scan(&state).Error)
		return state
	}
	first := sweep()
	var told api.Job
	d.must(d.ask(api.Viewer, "GET", fmt.Sprintf("/jobs/%d", first.ID), nil), 200, &told)
	var list api.Page[api.Job]
	d.must(d.ask(api.Viewer, "GET", "/jobs", nil), 200, &list)
	if told.State != api.Done || len(told.Result) == 0 || list.Items[0].State != api.Done ||
		list.Items[0].Result != nil {
		t.Errorf("it ended, and is told as %+v, in the list as %+v", told, list.Items[0])
	}
	var running api.Page[api.Job]
	d.must(d.ask(api.Viewer, "GET", "/jobs?state=running", nil), 200, &running)
	if len(running.Items) != 0 {
		t.Errorf("among those that run is %+v", running.Items)
	}
	if got := written(first); got != string(api.Running) {
		t.Errorf("the records say %s: the test prepares nothing", got)
	}
	must.Do(t, other.Exec("DROP TRIGGER fault").Error)
	second := sweep()
	for _, job := range []api.Job{first, second} {
		if got := written(job); got != string(api.Done) {
			t.Errorf("job %d is written as %s", job.ID, got)
		}
	}
	// What was accepted and cannot be read may name any file of the pool: none goes.
	must.Do(t, other.Exec("INSERT INTO kepts (kind, name, at, body) VALUES ('accepted', 'x', 0, '{')").Error)
	_, err := d.s.pool.Add([]byte("a file of it"))
	must.Do(t, err)
	before := poolOf(d)
	third := sweep()
	d.must(d.ask(api.Viewer, "GET", fmt.Sprintf("/jobs/%d", third.ID), nil), 200, &told)
	if told.State != api.Failed || !strings.Contains(told.Problem, "nothing was swept") || before == 0 ||
		poolOf(d) != before {
		t.Errorf("it is told as %+v; %d files of %d", told, poolOf(d), before)
	}
}

func poolOf(d *desk) (n int) {
	d.t.Helper()
	must.Do(d.t, d.s.pool.Each(func(string, int64) error { n++; return nil }))
	return n
}

// Each table of the records refuses to be written to, one after the other, while things are
// changed: whoever asked is told so, and either all of a change is recorded or nothing.
func TestEachTableThatCannotBeWrittenTo(t *testing.T) {
	d := newDesk(t)
	other := behind(t, d)
	var tables []string
	if err := other.Raw("SELECT name FROM sqlite_master WHERE type = 'table' " +
		"AND name NOT LIKE 'sqlite_%' ORDER BY name").
		Scan(&tables).Error; err != nil || len(tables) < 8 {
		t.Fatalf("%v %v", tables, err)
	}
	counts := func() string {
		var out []string
		for _, table := range tables {
			var n int64
			if err := other.Table(table).Count(&n).Error; err != nil {
				t.Fatal(err)
			}
			out = append(out, fmt.Sprint(table, " ", n))
		}
		return strings.Join(out, ", ")
	}
	exec := func(sql string) {
		t.Helper()
		if err := other.Exec(sql).Error; err != nil {
			t.Fatal(err)
		}
	}
	n := 0
	changes := map[string]func() (string, string, string, any){
		"record": func() (string, string, string, any) {
			text := fmt.Sprintf("stockade: 1\nproxies:\n  gate-%d:\n"+
				"    url: http://proxy.reach.example:3128\n", n)
			return api.Operator, "POST", "/definitions/record",
				api.Documents{Documents: []definition.Text{{Name: "reach.yaml", Text: text}}}
		},
		"bring a key in": func() (string, string, string, any) {
			key := made.Keys(made.Owner{Name: "Tarn archive"})[0].Certificate()
			return api.Operator, "POST", "/keys", api.KeyData{Data: key.Binary()}
		},
		"make an account": func() (string, string, string, any) {
			return api.Warden, "POST", "/accounts", api.NewAccount{Name: fmt.Sprint("keeper-", n),
				Role: api.Viewer}
		},
		"remove an account": func() (string, string, string, any) {
			return api.Warden, "DELETE", "/accounts/a-operator-gone", nil
		},
	}
	// No table can be written to.
	for i, table := range tables {
		exec(fmt.Sprintf("CREATE TRIGGER fault%d BEFORE INSERT ON `%s` BEGIN "+
			"SELECT RAISE(ABORT, 'the disk does not answer'); END", i, table))
	}
	before := counts()
	for _, name := range []string{"record", "bring a key in", "make an account"} {
		role, method, path, body := changes[name]()
		if w := d.ask(role, method, path, body); w.Code != 500 || counts() != before {
			t.Errorf("nothing can be written, and %s: %d %s", name, w.Code, w.Body)
		}
	}
	for i := range tables {
		exec(fmt.Sprintf("DROP TRIGGER fault%d", i))
	}
	failed := 0
	for _, table := range tables {
		for _, when := range []string{"INSERT", "UPDATE", "DELETE"} {
			exec(fmt.Sprintf("CREATE TRIGGER fault BEFORE %s ON `%s` BEGIN "+
				"SELECT RAISE(ABORT, 'the disk does not answer'); END", when, table))
			for name, change := range changes {
				n++
				before := counts()
				role, method, path, body := change()
				w := d.ask(role, method, path, body)
				if w.Code == 200 {
					continue
				}
				after := counts()
				if before != after {
					t.Errorf("%s of %s fails, and %s left half of it:\n%s\n%s", when, table, name, before,
						after)
				}
				if w.Code == 500 {
					failed++
					if d.problemOf(name, w) != "internal" || !strings.Contains(w.Body.String(),
						"the disk does not answer") {
						t.Errorf("%s of %s fails, and %s says: %s", when, table, name, w.Body)
					}
				}
			}
			exec("DROP TRIGGER fault")
			var r api.Report
			d.must(d.ask(api.Viewer, "POST", "/journal/verify", api.Against{}), 200, &r)
			if !r.Holds {
				t.Fatalf("%s of %s failed, and the journal does not hold: %+v", when, table, r)
			}
		}
	}
	if failed < 6 {
		t.Errorf("only %d changes failed", failed)
	}
	n++
	role, method, path, body := changes["record"]()
	d.must(d.ask(role, method, path, body), 200, nil)
}

// Each table of the records cannot be read, one after the other, while everything is asked for: an
// answer that needs it says that it cannot be given. Nothing is told to be absent, and nobody to be
// a stranger, for that; the right token is counted as no guess.
func TestEachTableThatCannotBeRead(t *testing.T) {
	d := newDesk(t)
	key := made.Keys(made.Owner{Name: "Tarn archive"})[0].Certificate()
	d.must(d.ask(api.Operator, "POST", "/keys", api.KeyData{Data: key.Binary()}), 200, nil)
	d.must(d.ask(api.Operator, "POST", "/definitions/record", api.Documents{Documents: []definition.Text{{
		Name: "reach.yaml", Text: `stockade: 1
sources:
  tarn: {family: deb, standing: official, release: heron, components: [core], architectures: [amd64],
    upstreams: [{url: "http://127.0.0.1:9/tarn"}], signed_by: [archive], priority: 20}
keys:
  archive: {fingerprint: ` + key.Fingerprint + `}
mirrors:
  barrage: {copy: tailored, from: [tarn], want: {packages: [sluicectl]}}
lanes: {steady: {mirror: barrage}}
groups: {gatehouse: {family: deb, release: heron, architectures: [amd64], lane: steady}}
`}}}), 200, nil)
	d.must(d.ask(api.Operator, "POST", "/machines", api.Enrolling{Group: "gatehouse",
		Names: []string{"gate-1"}}), 200, nil)
	var job api.Job
	d.must(d.ask(api.Operator, "POST", "/pool/sweep", nil), 200, &job)
	d.must(d.ask(api.Viewer, "GET", fmt.Sprintf("/jobs/%d/events", job.ID), nil), 200, nil)
	must.Do(t, d.s.db.SaveEdition(store.Edition{Mirror: "barrage", Number: 1, Copy: "tailored"}))

	names := strings.NewReplacer("/accounts/{name}", "/accounts/a-viewer", "/sources/{name}", "/sources/tarn",
		"/mirrors/{name}", "/mirrors/barrage", "/lanes/{name}", "/lanes/steady", "/groups/{name}",
		"/groups/gatehouse", "/machines/{name}", "/machines/gate-1", "{fingerprint}", key.Fingerprint,
		"{mirror}", "barrage", "{number}", "1", "{kind}", "source", "{id}", "1", "{name}", "tarn")
	asked := map[string]int{}
	ask := func(path string) int {
		return d.ask(api.Warden, "GET", path, nil).Code
	}
	for _, r := range api.Routes {
		if path := names.Replace(r.Path); r.Method == http.MethodGet && r.Name != "events" {
			asked[path] = ask(path)
		}
	}
	given := 0
	for _, code := range asked {
		if code == 200 {
			given++
		}
	}
	if given < len(asked)*2/3 {
		t.Fatalf("of %d answers %d are given while all can be read: %v", len(asked), given, asked)
	}
	other := behind(t, d)
	var tables []string
	must.Do(t, other.Raw("SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' "+
		"AND sql NOT LIKE 'CREATE VIRTUAL%' ORDER BY name").Scan(&tables).Error)
	refused := 0
	for _, table := range tables {
		if strings.Contains(table, "search") || strings.Contains(table, "_fts") {
			continue
		}
		must.Do(t, other.Exec("ALTER TABLE `"+table+"` RENAME TO `"+table+"_away`").Error)
		for path, before := range asked {
			switch code := ask(path); code {
			case before:
			case 500:
				refused++
			default:
				t.Errorf("%s cannot be read, and GET %s is answered with %d, and with %d before", table, path,
					code, before)
			}
		}
		must.Do(t, other.Exec("ALTER TABLE `"+table+"_away` RENAME TO `"+table+"`").Error)
		for path, before := range asked {
			if code := ask(path); code != before {
				t.Errorf("%s can be read again, and GET %s is answered with %d, and with %d before", table,
					path, code, before)
			}
		}
	}
	if refused < 2*len(asked) {
		t.Errorf("only %d answers were refused", refused)
	}
}
