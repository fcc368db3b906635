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
		t.Fatalf("%v, %v", last, err)
	}
	for _, j := range last {
		if j.Kind == "build" && j.Object == "mirror a" && j.State != api.Done {
			t.Errorf("an older job is given: %+v", j)
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
