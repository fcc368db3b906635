package store

import (
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/machine"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/must"
)

func open(t *testing.T) (*DB, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "stockade.db")
	db, err := Open(path)
	must.Do(t, err)
	t.Cleanup(func() { db.Close() })
	return db, path
}

func TestWhatIsDescribedComesBack(t *testing.T) {
	db, _ := open(t)
	set := definition.NewSet()
	set.Sources["tarn"] = definition.Source{Family: "deb", Release: "heron", Priority: 20}
	set.Lanes["steady"] = definition.Lane{Mirror: "barrage"}
	changes := definition.Compare(definition.NewSet(), set)
	rev, err := db.Describe(set, changes, "mara", "first", time.Now())
	if err != nil || rev.ID != 1 {
		t.Fatal(rev, err)
	}
	again, err := db.Described()
	if err != nil || len(definition.Compare(set, again)) != 0 {
		t.Fatalf("%v %+v", err, definition.Compare(set, again))
	}
	again.Remove("lane", "steady")
	if _, err := db.Describe(again, definition.Compare(set, again), "mara", "second",
		time.Now()); err != nil {
		t.Fatal(err)
	}
	if last, err := db.Described(); err != nil || len(last.Lanes) != 0 || len(last.Sources) != 1 {
		t.Errorf("%+v", last.Document)
	}
	if all, err := db.Revisions(0, 10); err != nil || len(all) != 2 || all[0].ID != 2 {
		t.Errorf("%+v %v", all, err)
	}
	if all, err := db.Revisions(2, 10); err != nil || len(all) != 1 || all[0].ID != 1 {
		t.Errorf("%+v", all)
	}
}

func TestATransactionHappensWholeOrNotAtAll(t *testing.T) {
	db, _ := open(t)
	broke := errors.New("the disk is full")
	err := db.Tx(func(tx *DB) error {
		if err := tx.AddDecision(trust.Decision{Act: trust.Vouch, Fingerprint: "A", Source: "tarn"}); err !=
			nil {
			return err
		}
		if err := tx.SaveAccount(Account{Name: "mara"}); err != nil {
			return err
		}
		return broke
	})
	if !errors.Is(err, broke) {
		t.Fatal(err)
	}
	if d, err := db.Decisions(); err != nil || len(d.Vouches()) != 0 {
		t.Errorf("%+v", d.Vouches())
	}
	if _, err := db.AccountBy("mara"); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}
}

func TestRunningJobsAreInterruptedAtTheNextStart(t *testing.T) {
	db, path := open(t)
	running, done := Job{Kind: "build", State: api.Running}, Job{Kind: "build", State: api.Done}
	must.Do(t, db.AddJob(&running))
	must.Do(t, db.AddJob(&done))
	db.Close()
	db, err := Open(path)
	must.Do(t, err)
	defer db.Close()
	if n, err := db.Interrupt(time.Now()); err != nil || n != 1 {
		t.Fatal(n, err)
	}
	j, err := db.JobBy(running.ID)
	if err != nil || j.State != api.Interrupted || j.Problem == "" || j.Ended == nil {
		t.Errorf("%+v %v", j, err)
	}
	if j, err := db.JobBy(done.ID); err != nil || j.State != api.Done {
		t.Errorf("%+v", j)
	}
	if err := db.Check(); err != nil {
		t.Error(err)
	}
}

func TestADatabaseOfANewerStockadeIsNotTouched(t *testing.T) {
	db, path := open(t)
	if err := db.g.Exec("UPDATE schema_versions SET version = 99").Error; err != nil {
		t.Fatal(err)
	}
	db.Close()
	if _, err := Open(path); err == nil {
		t.Error("it was opened")
	}
}

func TestRemovingAnAccountTakesItsTokensAlong(t *testing.T) {
	db, _ := open(t)
	must.Do(t, db.SaveAccount(Account{Name: "mara", Role: "viewer"}))
	must.Do(t, db.AddToken(Token{Hash: "h", Account: "mara"}))
	must.Do(t, db.RemoveAccount("mara"))
	if _, err := db.TokenBy("h"); !errors.Is(err, ErrNotFound) {
		t.Error("the token still opens")
	}
}

func TestTheNewestJobOfEachKindIsFound(t *testing.T) {
	db, _ := open(t)
	for _, j := range []Job{{Kind: "build", Object: "mirror a", State: api.Failed},
		{Kind: "build", Object: "mirror a", State: api.Done},
		{Kind: "prove", Object: "mirror a", State: api.Failed},
		{Kind: "build", Object: "mirror b", State: api.Interrupted}} {
		must.Do(t, db.AddJob(&j))
	}
	last, err := db.LastJobs()
	if err != nil || len(last) != 3 {
		t.Fatalf("got %v, %v; want three jobs", last, err)
	}
	for _, j := range last {
		if j.Kind == "build" && j.Object == "mirror a" && j.State != api.Done {
			t.Errorf("an older job is given: %+v", j)
		}
	}
	left, err := db.Unfinished()
	if err != nil || len(left) != 2 {
		t.Fatalf("got %v, %v; want two jobs", left, err)
	}
	for i, want := range []string{"prove mirror a", "build mirror b"} {
		if got := left[i].Kind + " " + left[i].Object; got != want {
			t.Errorf("got %s, want %s", got, want)
		}
	}
}

// Vouches and bars as they were recorded first become decisions, and none is lost.
func TestDecisionsOfAnOlderDatabaseAreTakenOver(t *testing.T) {
	path := filepath.Join(t.TempDir(), "stockade.db")
	now := migrations
	migrations = now[:2]
	db, err := Open(path)
	must.Do(t, err)
	at := time.Date(2026, 11, 2, 9, 0, 0, 0, time.UTC)
	for _, v := range []any{&vouch{"A", "tarn", "call 4471", "ada", at},
		&vouch{"B", "kelp", "paper", "ada", at}, &bar{"C", "stolen", "ada", at}} {
		if err := db.g.Create(v).Error; err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	migrations = now
	if db, err = Open(path); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	d, err := db.Decisions()
	must.Do(t, err)
	v, ok := d.Vouched("A", "tarn")
	if !ok || v.Why != "call 4471" || v.By != "ada" || !v.At.Equal(at) || len(d.Vouches()) != 2 {
		t.Errorf("%+v of %d", v, len(d.Vouches()))
	}
	if b, ok := d.Barred("C"); !ok || b.Why != "stolen" {
		t.Errorf("%+v", b)
	}
	must.Do(t, db.AddDecision(trust.Decision{Act: trust.Withdraw, Fingerprint: "A", Source: "tarn"}))
	var rows int64
	if db.g.Model(&Decision{}).Count(&rows); rows != 4 {
		t.Errorf("%d rows: one was changed or removed", rows)
	}
	if d, err := db.Decisions(); err != nil || len(d.Vouches()) != 1 {
		t.Errorf("%+v", d.Vouches())
	}
}

// Who reads does not wait for who writes, and sees what was committed last.
func TestReadingGoesOnBesideATransaction(t *testing.T) {
	db, _ := open(t)
	before := db.ChangesBut()
	inside, release := make(chan bool), make(chan bool)
	done := make(chan error)
	go func() {
		done <- db.Tx(func(tx *DB) error {
			if err := tx.SaveAccount(Account{Name: "mara"}); err != nil {
				return err
			}
			if _, err := tx.AccountBy("mara"); err != nil {
				return err
			}
			inside <- true
			<-release
			return nil
		})
	}()
	<-inside
	if _, err := db.AccountBy("mara"); !errors.Is(err, ErrNotFound) {
		t.Errorf("what is not committed is read: %v", err)
	}
	release <- true
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	if _, err := db.AccountBy("mara"); err != nil {
		t.Errorf("what is committed is not read: %v", err)
	}
	if db.ChangesBut() == before {
		t.Error("a change was not counted")
	}
	if err := db.read.Create(&Account{Name: "other"}).Error; err == nil {
		t.Error("a connection for reading writes")
	}
}

func TestListsComeWithoutBodies(t *testing.T) {
	db, _ := open(t)
	j := Job{Kind: "build", Object: "mirror barrage", State: api.Done, Result: `{"large":1}`, Findings: "[]"}
	must.Do(t, db.AddJob(&j))
	set := definition.NewSet()
	set.Lanes["steady"] = definition.Lane{Mirror: "barrage"}
	if _, err := db.Describe(set, definition.Compare(definition.NewSet(), set), "mara", "first",
		time.Now()); err != nil {
		t.Fatal(err)
	}
	jobs, err := db.Jobs("", "", 0, 10)
	if err != nil || len(jobs) != 1 || jobs[0].Result != "" || jobs[0].Findings != "[]" {
		t.Errorf("%+v %v", jobs, err)
	}
	if whole, err := db.JobBy(j.ID); err != nil || whole.Result == "" {
		t.Errorf("%+v %v", whole, err)
	}
	revisions, err := db.Revisions(0, 10)
	if err != nil || len(revisions) != 1 || revisions[0].Whole != "" || revisions[0].Changes == "" {
		t.Errorf("%+v %v", revisions, err)
	}
	if whole, err := db.RevisionBy(1); err != nil || whole.Whole == "" {
		t.Errorf("%+v %v", whole, err)
	}
}

// What keeps records from being written is told as this machine's doing.
func TestAFullDiskUnderTheRecordsIsAFault(t *testing.T) {
	db, _ := open(t)
	var pages int
	if err := db.g.Raw("PRAGMA page_count").Scan(&pages).Error; err != nil {
		t.Fatal(err)
	}
	if err := db.g.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages+1)).Error; err != nil {
		t.Fatal(err)
	}
	err := db.Keep("checked", "x", strings.Repeat("x", 1<<20), time.Now())
	f, ok := Fault(fmt.Errorf("keep: %w", err))
	if !ok || f.Code != finding.FaultCode || !strings.Contains(f.Text, "the disk is full") || f.WayOut == "" {
		t.Errorf("%v: %+v", err, f)
	}
	if err := db.g.Exec("PRAGMA query_only = 1").Error; err != nil {
		t.Fatal(err)
	}
	if f, ok := Fault(db.Keep("checked", "x", "y", time.Now())); !ok || !strings.Contains(f.Text,
		"cannot be written to") {
		t.Errorf("%+v", f)
	}
	if err := db.g.Exec("PRAGMA query_only = 0").Error; err != nil {
		t.Fatal(err)
	}
	if f, ok := Fault(db.g.Exec("SELECT * FROM nowhere").Error); ok {
		t.Errorf("a mistake of the program is taken for a fault: %+v", f)
	}
}

// Whoever keeps what was read of one part reads it again after a change of that part, and of no other.
func TestChangesAreCountedByPart(t *testing.T) {
	db, _ := open(t)
	must.Do(t, db.AddMachine(Machine{Name: "gate-1", Group: "gatehouse"}))
	var told [][]Part
	db.OnChange(func(parts []Part) { told = append(told, parts) })
	for _, c := range []struct {
		what  string
		do    func() error
		parts []Part // that it is told of
	}{
		{"a record by itself", func() error { return db.SaveAccount(Account{Name: "mara"}) },
			[]Part{"accounts"}},
		{"a report", func() error { return db.GiveInventory(Machine{Name: "gate-1"}, []byte("x")) },
			[]Part{InventoryRows, MachineRows}},
		{"what came of comparing it", func() error {
			return db.KeepCompared([]Compared{{Machine: "gate-1", Turn: 1, Basis: "b"}})
		}, []Part{Comparisons}},
		{"a comparison of what was told before", func() error {
			return db.KeepCompared([]Compared{{Machine: "gate-1", Turn: 7, Basis: "b"}})
		}, nil},
		{"a visit", func() error { return db.KeepQuietly("visit", "mara", 1, time.Now()) },
			[]Part{Personal}},
		{"a job", func() error { return db.AddJob(&Job{Kind: "build"}) }, []Part{JobRows}},
		{"two at once, one of them within", func() error {
			return db.Tx(func(tx *DB) error {
				if err := tx.Keep("days", "tarn", 1, time.Now()); err != nil {
					return err
				}
				return tx.Tx(func(tx *DB) error { return tx.SaveEdition(Edition{Mirror: "barrage"}) })
			})
		}, []Part{"editions", "kepts"}},
		{"what was undone", func() error {
			err := db.Tx(func(tx *DB) error {
				_ = tx.SaveEdition(Edition{Mirror: "drives"})
				return ErrNotFound
			})
			if !errors.Is(err, ErrNotFound) {
				t.Error(err)
			}
			return nil
		}, nil},
		{"what changes nothing", func() error { return db.Drop("days", "kelp") }, nil},
	} {
		told = nil
		before := map[Part]int64{}
		for _, p := range c.parts {
			before[p] = db.Changes(p)
		}
		others := db.ChangesBut(c.parts...)
		must.Do(t, c.do())
		if len(c.parts) == 0 && len(told) != 0 || len(c.parts) > 0 && (len(told) != 1 ||
			!slices.Equal(told[0], c.parts)) {
			t.Errorf("%s: told of %v, want %v", c.what, told, c.parts)
		}
		for p, n := range before {
			if db.Changes(p) != n+1 {
				t.Errorf("%s: %s was counted %d times", c.what, p, db.Changes(p)-n)
			}
		}
		if db.ChangesBut(c.parts...) != others {
			t.Errorf("%s: something else was counted", c.what)
		}
	}
}

// through goes through machines two at a time, and does something after the first two.
func through(t *testing.T, db *DB, a Asked, then func()) (names []string) {
	t.Helper()
	for last := ""; ; {
		part, err := db.MachinesAfter(a, last, 2)
		must.Do(t, err)
		if len(part) == 0 {
			return names
		}
		for _, m := range part {
			names, last = append(names, m.Name), m.Name
		}
		then()
		then = func() {}
	}
}

// Who takes a list away meets each machine once, whatever comes and goes meanwhile.
func TestMachinesThatComeAndGoMoveNoOthers(t *testing.T) {
	db, _ := open(t)
	for _, name := range []string{"pump-1", "pump-2", "pump-3", "pump-4", "pump-5"} {
		must.Do(t, db.AddMachine(Machine{Name: name, Group: "pump-house"}))
	}
	got := through(t, db, Asked{}, func() {
		must.Do(t, db.RemoveMachine("pump-1"))
		must.Do(t, db.AddMachine(Machine{Name: "pump-0", Group: "pump-house"}))
		must.Do(t, db.AddMachine(Machine{Name: "pump-01", Group: "pump-house"}))
	})
	if want := "pump-1 pump-2 pump-3 pump-4 pump-5"; strings.Join(got, " ") != want {
		t.Errorf("got %q, want %q", got, want)
	}
}

// Machines are found by what is asked of them, and each state leaves those of which it is true.
func TestMachinesAreFoundByWhatIsAsked(t *testing.T) {
	db, _ := open(t)
	now := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	report := func(name string, c machine.Comparison, problem string) {
		t.Helper()
		must.Do(t, db.GiveInventory(Machine{Name: name, Reported: &now, Heard: now.Unix()}, []byte("list")))
		m, err := db.MachineBy(name)
		must.Do(t, err)
		must.Do(t, db.KeepCompared([]Compared{{Machine: name, Turn: m.Turn, Against: "barrage/1", Basis: "b",
			Problem: problem, Comparison: c}}))
	}
	for _, m := range []Machine{{Name: "gate-north", Group: "gatehouse", Note: "by the lock, 100%"},
		{Name: "gate-south", Group: "gatehouse"},
		{Name: "pump-1", Group: "pump-house", Note: "Under the Gate"},
		{Name: "pump-2", Group: "pump-house"}, {Name: "pump-3", Group: "pump-house", Note: "a_b"},
		{Name: "pump-4", Group: "pump-house"}, {Name: "new-1", Group: "gatehouse"}} {
		m.Heard = now.Add(-48 * time.Hour).Unix()
		must.Do(t, db.AddMachine(m))
	}
	report("gate-north", machine.Comparison{Behind: 2, Security: 1}, "")
	report("gate-south", machine.Comparison{Current: 3}, "")
	report("pump-1", machine.Comparison{Ahead: 1, Stranded: 1}, "")
	report("pump-2", machine.Comparison{Held: 1}, "")
	report("pump-3", machine.Comparison{Unknown: 1}, "")
	report("pump-4", machine.Comparison{}, "its list cannot be read")
	for _, c := range []struct {
		asked Asked
		want  string
	}{
		{Asked{}, "gate-north gate-south new-1 pump-1 pump-2 pump-3 pump-4"},
		{Asked{Text: "gate"}, "gate-north gate-south pump-1"},
		{Asked{Text: "GATE-"}, "gate-north gate-south"},
		{Asked{Text: "%"}, "gate-north"},
		{Asked{Text: "_"}, "pump-3"},
		{Asked{Text: "nobody"}, ""},
		{Asked{Group: "gatehouse"}, "gate-north gate-south new-1"},
		{Asked{Groups: []string{"gatehouse", "pump-house"}, Text: "-1"}, "new-1 pump-1"},
		{Asked{Groups: []string{}}, ""},
		{Asked{State: "security"}, "gate-north"},
		{Asked{State: "behind"}, "gate-north"},
		{Asked{State: "current"}, "gate-south pump-1"},
		{Asked{State: "ahead"}, "pump-1"},
		{Asked{State: "held"}, "pump-2"},
		{Asked{State: "stranded"}, "pump-1"},
		{Asked{State: "unknown"}, "pump-3 pump-4"},
		{Asked{State: "silent"}, "new-1"},
		{Asked{State: "stranded", Group: "gatehouse"}, ""},
		{Asked{Stale: map[string]time.Time{"gatehouse": now.Add(-time.Hour), "pump-house": now}}, "new-1"},
		{Asked{Stale: map[string]time.Time{"gatehouse": now.Add(time.Hour)}}, "gate-north gate-south new-1"},
		{Asked{Stale: map[string]time.Time{}}, ""},
	} {
		var names []string
		for from := 0; ; from += 2 { // as pages have them
			part, all, err := db.Machines(c.asked, from, 2)
			must.Do(t, err)
			for _, m := range part {
				names = append(names, m.Name)
			}
			if from+len(part) >= int(all) {
				break
			}
		}
		if got := strings.Join(names, " "); got != c.want {
			t.Errorf("%+v: got %q, want %q", c.asked, got, c.want)
		}
		if got := strings.Join(through(t, db, c.asked, func() {}), " "); got != c.want {
			t.Errorf("%+v, one after another: got %q, want %q", c.asked, got, c.want)
		}
	}
	counts, err := db.MachineCounts()
	must.Do(t, err)
	if len(counts) != 2 || counts[0].Group != "gatehouse" || counts[0].Machines != 3 ||
		counts[0].Reported != 2 || counts[0].Security != 1 || counts[1].Unknown != 1 ||
		counts[1].Compared != 3 {
		t.Errorf("got %+v", counts)
	}
}

// What a machine reports that was removed meanwhile is not kept, and what came of comparing it neither.
func TestARemovedMachineReportsNothing(t *testing.T) {
	db, _ := open(t)
	must.Do(t, db.AddMachine(Machine{Name: "gate-1", Group: "gatehouse"}))
	must.Do(t, db.GiveInventory(Machine{Name: "gate-1"}, []byte("list")))
	must.Do(t, db.RemoveMachine("gate-1"))
	if err := db.GiveInventory(Machine{Name: "gate-1"}, []byte("list")); !errors.Is(err, ErrNotFound) {
		t.Errorf("got %v, want that there is no such machine", err)
	}
	must.Do(t, db.KeepCompared([]Compared{{Machine: "gate-1", Turn: 1, Items: []byte("x")}}))
	if in, err := db.InventoryBy("gate-1"); !errors.Is(err, ErrNotFound) {
		t.Errorf("a list of it is kept: %+v %v", in, err)
	}
	// One that is enrolled again under the name has told nothing.
	must.Do(t, db.AddMachine(Machine{Name: "gate-1", Group: "gatehouse"}))
	if m, err := db.MachineBy("gate-1"); err != nil || m.Turn != 0 || m.Basis != "" {
		t.Errorf("got %+v %v", m, err)
	}
}

// The journal is read page by page, each entry once, and its filters say what they are.
func TestTheJournalIsReadPageByPage(t *testing.T) {
	db, _ := open(t)
	keys, err := journal.NewKeys(make([]byte, 32))
	must.Do(t, err)
	at := time.Date(2026, 12, 1, 12, 0, 0, 0, time.UTC)
	for i := range 23 {
		by, object := "mara", fmt.Sprintf("lane l-%d", i)
		if i%5 == 0 {
			by = "odd_name"
		}
		if i == 17 { // a clock that was put back
			at = at.Add(-24 * time.Hour)
		}
		must.Do(t, journal.Write(db.Journal(), keys, journal.Entry{At: at.Add(time.Duration(i) * time.Minute),
			By: by, Action: "lane.move", Object: object}))
	}
	read := func(like string, since time.Time) (out []int64) {
		for cursor := int64(-1); ; {
			page, err := db.JournalPage(cursor, 4, like, since)
			must.Do(t, err)
			for _, e := range page {
				out, cursor = append(out, e.Number), e.Number
			}
			if len(page) < 4 || cursor == 0 {
				return out
			}
		}
	}
	all := read("", time.Time{})
	if len(all) != 23 || all[0] != 22 || all[22] != 0 || !slices.IsSortedFunc(all, func(a, b int64) int {
		return int(b - a)
	}) {
		t.Errorf("got %v", all)
	}
	if got := read("odd_name", time.Time{}); !slices.Equal(got, []int64{20, 15, 10, 5, 0}) {
		t.Errorf("by whom: got %v", got)
	}
	if got := read("%", time.Time{}); len(got) != 0 {
		t.Errorf("by a text that nothing has: got %v", got)
	}
	if got := read("LANE.", time.Time{}); len(got) != 23 {
		t.Errorf("by the action: got %v", got)
	}
	if got := read("l-1", time.Time{}); len(got) != 11 {
		t.Errorf("by object: got %v", got)
	}
	// Entries behind those with an earlier time are found: numbers order them, and not times.
	since := time.Date(2026, 12, 1, 12, 10, 0, 0, time.UTC)
	if got := read("", since); !slices.Equal(got, []int64{16, 15, 14, 13, 12, 11, 10}) {
		t.Errorf("since a time: got %v", got)
	}
}
