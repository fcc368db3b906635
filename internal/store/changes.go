package store

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"

	"gorm.io/gorm"
)

// Part is what a change was of: a table, or one of the parts below. What is kept of a read is good as
// long as the parts that it was read from have not changed.
type Part string

// The parts that somebody asks for by name.
const (
	RecordRows    Part = "records"
	MachineRows   Part = "machines"
	InventoryRows Part = "inventories"
	JobRows       Part = "jobs"
	// Comparisons are what came of comparing what machines told. They are columns of machines, and no
	// change of what these told.
	Comparisons Part = "comparisons"
	// Personal is what accounts do by looking: sessions, visits, when a token was last used. Nobody else
	// sees a change of it.
	Personal Part = "personal"
)

// changes counts what was committed, by part, and tells of it.
type changes struct {
	mu   sync.Mutex
	of   map[Part]int64
	tell atomic.Pointer[func(parts []Part)]
}

// note counts a change that was committed.
func (c *changes) note(parts ...Part) {
	if len(parts) == 0 {
		return
	}
	c.mu.Lock()
	for _, p := range parts {
		c.of[p]++
	}
	c.mu.Unlock()
	if tell := c.tell.Load(); tell != nil {
		(*tell)(parts)
	}
}

// noting is where a statement notes which part it changed: at once, or when its transaction ends.
type noting interface{ note(parts ...Part) }

// gathered is what a transaction changed so far.
type gathered map[Part]bool

func (g gathered) note(parts ...Part) {
	for _, p := range parts {
		g[p] = true
	}
}

// notedAt is the setting of a session under which its noting is found.
const notedAt = "stockade:changes"

// noted gives a session whose statements note what they change.
func noted(g *gorm.DB, at noting) *gorm.DB {
	return g.Set(notedAt, at).Session(&gorm.Session{})
}

// watch has each statement that changes rows note the table.
func watch(g *gorm.DB) error {
	note := func(g *gorm.DB) {
		if g.Error != nil || g.RowsAffected == 0 {
			return
		}
		if at, ok := g.Get(notedAt); ok {
			at.(noting).note(Part(g.Statement.Table))
		}
	}
	calls := g.Callback()
	for _, err := range []error{
		calls.Create().After("gorm:create").Register("stockade:noted", note),
		calls.Update().After("gorm:update").Register("stockade:noted", note),
		calls.Delete().After("gorm:delete").Register("stockade:noted", note),
	} {
		if err != nil {
			return err
		}
	}
	return nil
}

// OnChange calls a function after each commit, with the parts that changed. It must not wait.
func (d *DB) OnChange(tell func(parts []Part)) { d.counts.tell.Store(&tell) }

// Changes counts the changes that were committed since the database was opened, of the parts that are
// named. Whoever keeps what he read asks whether the count is still the same.
func (d *DB) Changes(parts ...Part) (n int64) {
	d.counts.mu.Lock()
	defer d.counts.mu.Unlock()
	for _, p := range parts {
		n += d.counts.of[p]
	}
	return n
}

// ChangesBut counts the changes of all other parts than those that are named.
func (d *DB) ChangesBut(parts ...Part) (n int64) {
	d.counts.mu.Lock()
	defer d.counts.mu.Unlock()
	for p, times := range d.counts.of {
		if !slices.Contains(parts, p) {
			n += times
		}
	}
	return n
}

// Tx runs f in one transaction: all of it happens or nothing.
func (d *DB) Tx(f func(tx *DB) error) error {
	did := gathered{}
	if err := d.transaction(did, f); err != nil {
		return err
	}
	d.at.note(slices.Sorted(maps.Keys(did))...)
	return nil
}

// txOf is Tx for changes that count as those of one part, whatever tables they are in.
func (d *DB) txOf(part Part, f func(tx *DB) error) error {
	did := gathered{}
	if err := d.transaction(did, f); err != nil {
		return err
	}
	if len(did) > 0 {
		d.at.note(part)
	}
	return nil
}

func (d *DB) transaction(did gathered, f func(tx *DB) error) error {
	return d.g.Transaction(func(g *gorm.DB) error {
		g = noted(g, did)
		return f(&DB{g: g, read: g, at: did, counts: d.counts})
	})
}
