package service

import (
	"errors"
	"path/filepath"
	"testing"

	"stockade/internal/must"
	"stockade/internal/store"
)

// What serves machines is found out once, and again when something was committed.
func TestWhatServesMachinesIsRememberedUntilSomethingChanges(t *testing.T) {
	db, err := store.Open(filepath.Join(t.TempDir(), "stockade.db"))
	must.Do(t, err)
	t.Cleanup(func() { db.Close() })
	s := &Service{db: db}
	asked := 0
	var fails error
	ask := func() ([]store.Move, error) {
		return remembered(s, func(h *heads) map[string][]store.Move { return h.steps }, "steady",
			func() ([]store.Move, error) { asked++; return []store.Move{{Edition: asked}}, fails })
	}
	fails = errors.New("not now")
	if _, err := ask(); err == nil {
		t.Fatal("an error was taken for an answer")
	}
	fails = nil
	for range 3 {
		if m, err := ask(); err != nil || m[0].Edition != 2 || asked != 2 {
			t.Fatalf("%v %v after %d questions: an error was remembered, or an answer was not", m, err, asked)
		}
	}
	job := store.Job{Kind: "build"}
	must.Do(t, db.AddJob(&job))
	must.Do(t, db.SaveJob(job))
	if ask(); asked != 2 {
		t.Error("how a job stands is taken for a change of what machines see")
	}
	must.Do(t, db.Tx(func(tx *store.DB) error { return tx.SaveAccount(store.Account{Name: "mara"}) }))
	if m, _ := ask(); asked != 3 || m[0].Edition != 3 {
		t.Errorf("after a change the old answer is given: %v", m)
	}
}
