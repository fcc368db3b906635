package service

import (
	"errors"
	"fmt"
	"sync"
	"testing"

	"stockade/core/edition"
	"stockade/internal/api"
	"stockade/internal/must"
	"stockade/internal/store"
)

// What serves machines is found out once, and again when a change was journalled; not for what machines
// report and jobs come to.
func TestWhatServesMachinesIsRememberedUntilSomethingChanges(t *testing.T) {
	d := newDesk(t)
	asked := 0
	var fails error
	ask := func() ([]store.Move, error) {
		return remembered(&d.s.heads, func(h *heads) map[string][]store.Move { return h.steps }, "steady",
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
	must.Do(t, d.s.db.AddJob(&job))
	must.Do(t, d.s.db.SaveJob(job))
	must.Do(t, d.s.db.AddMachine(store.Machine{Name: "lamp-1", Group: "gatehouse"}))
	must.Do(t, d.s.db.GiveInventory(store.Machine{Name: "lamp-1", Group: "gatehouse", Turn: 1}, nil))
	must.Do(t, d.s.db.Keep("mirror", "barrage", checked{}, d.s.now()))
	if ask(); asked != 2 {
		t.Error("what a machine reports, or how a job stands, is taken for a change of what machines see")
	}
	d.must(d.ask(api.Warden, "POST", "/accounts", api.NewAccount{Name: "mara", Role: api.Viewer}), 200, nil)
	if m, _ := ask(); asked != 3 || m[0].Edition != 3 {
		t.Errorf("after a change the old answer is given: %v", m)
	}
}

// Editions that are open are bounded in what they take, and those that are used stay.
func TestOpenEditionsAreBoundedInBytes(t *testing.T) {
	var c editionCache
	c.held, c.briefs = map[string]*heldEdition{}, map[string]*edition.Edition{}
	lines := make(edition.Lines, cacheBytes/8/100)
	for n := range 20 {
		c.uses++
		e := &edition.Sealed{Edition: &edition.Edition{Mirror: "barrage", Number: n},
			Manifest: edition.Manifest{Lines: lines}}
		ready := make(chan struct{})
		close(ready)
		c.held[fmt.Sprint("barrage/", n)] = &heldEdition{ready: ready, sealed: e, used: c.uses}
		c.held["barrage/0"].used = c.uses // it is asked for all the time
		c.leave()
	}
	var bytes int64
	for _, h := range c.held {
		bytes += h.sealed.Held()
	}
	if bytes > cacheBytes || len(c.held) < 2 || c.held["barrage/0"] == nil || c.held["barrage/19"] == nil {
		t.Errorf("%d editions are held, %d bytes", len(c.held), bytes)
	}
}

// An edition that many ask for at once is opened once, and one that cannot be opened is tried again.
func TestAnEditionIsOpenedOnce(t *testing.T) {
	d := newDesk(t)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			if _, err := d.s.editions.open(d.s, "barrage", 1); err == nil {
				t.Error("there is none")
			}
		})
	}
	all.Wait()
	if len(d.s.editions.held) != 0 {
		t.Error("what could not be opened is kept")
	}
}
