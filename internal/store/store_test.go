package store

import (
	"errors"
	"path/filepath"
	"testing"
	"time"

	"stockade/core/definition"
	"stockade/internal/api"
)

func open(t *testing.T) (*DB, string) {
	t.Helper()
	path := filepath.Join(t.TempDir(), "stockade.db")
	db, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
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
	if last, _ := db.Described(); len(last.Lanes) != 0 || len(last.Sources) != 1 {
		t.Errorf("%+v", last.Document)
	}
	if all, err := db.Revisions(0, 10); err != nil || len(all) != 2 || all[0].ID != 2 {
		t.Errorf("%+v %v", all, err)
	}
	if all, _ := db.Revisions(2, 10); len(all) != 1 || all[0].ID != 1 {
		t.Errorf("%+v", all)
	}
}

func TestATransactionHappensWholeOrNotAtAll(t *testing.T) {
	db, _ := open(t)
	broke := errors.New("the disk is full")
	err := db.Tx(func(tx *DB) error {
		if err := tx.SaveVouch(Vouch{Fingerprint: "A", Source: "tarn"}); err != nil {
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
	if v, _ := db.Vouches(); len(v) != 0 {
		t.Errorf("%+v", v)
	}
	if _, err := db.AccountBy("mara"); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}
}

func TestRunningJobsAreInterruptedAtTheNextStart(t *testing.T) {
	db, path := open(t)
	running, done := Job{Kind: "build", State: api.Running}, Job{Kind: "build", State: api.Done}
	db.AddJob(&running)
	db.AddJob(&done)
	db.Close()
	db, err := Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if n, err := db.Interrupt(time.Now()); err != nil || n != 1 {
		t.Fatal(n, err)
	}
	j, err := db.JobBy(running.ID)
	if err != nil || j.State != api.Interrupted || j.Problem == "" || j.Ended == nil {
		t.Errorf("%+v %v", j, err)
	}
	if j, _ := db.JobBy(done.ID); j.State != api.Done {
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
	db.SaveAccount(Account{Name: "mara", Role: "viewer"})
	db.AddToken(Token{Hash: "h", Account: "mara"})
	if err := db.RemoveAccount("mara"); err != nil {
		t.Fatal(err)
	}
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
		if err := db.AddJob(&j); err != nil {
			t.Fatal(err)
		}
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
