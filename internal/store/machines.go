package store

import (
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"stockade/core/machine"
)

// Machine is a machine of a group.
type Machine struct {
	Name     string    `gorm:"primaryKey"`
	Group    string    `gorm:"column:of_group;index"`
	Note     string    // what people wrote of it
	Enrolled time.Time // when, and by whom
	By       string
	Reported *time.Time // when it had what its list says; nil: it never reported
	Given    *time.Time // when the list was brought in, and by whom
	GivenBy  string
	Heard    int64 // when it last reported, or else was enrolled, in seconds since 1970
	Turn     int64 // how many lists were brought in
	Packages int   // on the list
	// The last comparison of the list: with what, and what came of it. Against is an edition;
	// Basis stands for that and the view of the group on it. Empty: none was made of this list.
	Against  string
	Basis    string `gorm:"index"`
	Problem  string // why it could not be made
	Current  int
	Behind   int
	Security int
	Ahead    int
	Held     int
	Stranded int
	Unknown  int
	Unsure   int `gorm:"not null;default:0"` // security updates that wait: nothing tells
	Bytes    int64
}

// Inventory is what a machine told that it has installed, and what came of comparing that;
// both packed with gzip.
type Inventory struct {
	Machine string `gorm:"primaryKey"`
	List    []byte // as it was given
	Items   []byte // JSON of machine.InstalledPackage
}

// Asked narrows machines down.
type Asked struct {
	Group  string   // of this one; empty: of any
	Groups []string // of one of these; nil: of any
	Text   string   // in the name or the note
	State  string   // one of MachineStates; empty, or another: any
	// Stale leaves machines of these groups that were last heard of before a time; nil: all.
	Stale map[string]time.Time
}

// MachineStates are what machines can be narrowed down to.
var MachineStates = map[string]string{
	"security": "security > 0",
	"behind":   "behind > 0",
	"current": "basis <> '' AND problem = '' AND behind = 0 AND security = 0 AND held = 0 AND " +
		"unknown = 0",
	"ahead":    "ahead > 0",
	"held":     "held > 0",
	"stranded": "stranded > 0",
	"unknown":  "unknown > 0 OR problem <> ''",
	"silent":   "turn = 0",
}

func (d *DB) machines(a Asked) *gorm.DB {
	q := d.read.Model(&Machine{})
	if a.Group != "" {
		q = q.Where("of_group = ?", a.Group)
	}
	if a.Groups != nil {
		q = q.Where("of_group IN ?", a.Groups)
	}
	if a.Text != "" {
		// instr and not LIKE: a text is what it is
		q = q.Where("instr(lower(name), lower(?)) > 0 OR instr(lower(note), lower(?)) > 0", a.Text, a.Text)
	}
	if where, ok := MachineStates[a.State]; ok {
		q = q.Where("(" + where + ")")
	}
	if a.Stale != nil {
		any := d.read.Where("1 = 0")
		for _, group := range slices.Sorted(maps.Keys(a.Stale)) {
			any = any.Or("of_group = ? AND heard < ?", group, a.Stale[group].Unix())
		}
		q = q.Where(any)
	}
	return q
}

// Machines gives a part of the machines that are asked for, by name, and how many there are.
func (d *DB) Machines(a Asked, from, limit int) (out []Machine, all int64, err error) {
	if err := d.machines(a).Count(&all).Error; err != nil {
		return nil, 0, err
	}
	out = []Machine{}
	return out, all, d.machines(a).Order("name").Offset(from).Limit(limit).Find(&out).Error
}

// MachinesAfter gives machines that are asked for, by name, those behind a name. Whoever goes through all
// of them so meets each once, also where others come and go meanwhile.
func (d *DB) MachinesAfter(a Asked, name string, limit int) ([]Machine, error) {
	out := []Machine{}
	return out, d.machines(a).Where("name > ?", name).Order("name").Limit(limit).Find(&out).Error
}

// MachineCount is how many machines of a group are how.
type MachineCount struct {
	Group    string `gorm:"column:of_group"`
	Machines int
	Reported int
	Compared int
	Behind   int
	Security int
	Ahead    int
	Held     int
	Stranded int
	Unknown  int
	Unsure   int   // of which nothing tells whether security updates wait
	Heard    int64 // when the one that has been silent longest was last heard of
}

// MachineCounts counts the machines of each group.
func (d *DB) MachineCounts() ([]MachineCount, error) {
	out := []MachineCount{}
	return out, d.read.Model(&Machine{}).Select("of_group, count(*) AS machines, " +
		"sum(turn > 0) AS reported, sum(basis <> '' AND problem = '') AS compared, " +
		"sum(behind > 0) AS behind, sum(security > 0) AS security, sum(ahead > 0) AS ahead, " +
		"sum(held > 0) AS held, sum(stranded > 0) AS stranded, sum(unknown > 0) AS unknown, " +
		"sum(security = 0 AND unsure > 0) AS unsure, " +
		"min(heard) AS heard").Group("of_group").Order("of_group").
		Scan(&out).Error
}

// MachineBy gives one machine.
func (d *DB) MachineBy(name string) (Machine, error) { return one[Machine](d, "name = ?", name) }

// MachinesOf gives those of a group that reported, and were last compared with something else.
func (d *DB) MachinesOf(group, basis string, limit int) ([]Machine, error) {
	return many[Machine](d, "name", limit, "of_group = ? AND turn > 0 AND basis <> ?", group, basis)
}

// AddMachine records a new machine.
func (d *DB) AddMachine(m Machine) error { return d.g.Create(&m).Error }

// MoveMachines puts the machines of a group into another.
func (d *DB) MoveMachines(from, to string) error {
	return d.g.Model(&Machine{}).Where("of_group = ?", from).Update("of_group", to).Error
}

// notCompared is what is known of a list that was not compared with anything: nothing.
func notCompared(with map[string]any) map[string]any {
	for _, column := range []string{"against", "basis", "problem"} {
		with[column] = ""
	}
	for _, column := range []string{"current", "behind", "security", "ahead", "held", "stranded", "unknown",
		"unsure", "bytes"} {
		with[column] = 0
	}
	return with
}

// SaveMachine records what people change of a machine. In another group what it has is compared
// anew.
func (d *DB) SaveMachine(m Machine) error {
	changed := map[string]any{"note": m.Note}
	if old, err := d.MachineBy(m.Name); err != nil {
		return err
	} else if old.Group != m.Group {
		changed["of_group"] = m.Group
		changed = notCompared(changed)
	}
	return d.g.Model(&Machine{}).Where("name = ?", m.Name).Updates(changed).Error
}

// ForgetCompared forgets what came of comparing the machines of a group, whose lane shows nothing. It
// is no change of anything else: see Changes.
func (d *DB) ForgetCompared(group string) (machines int64, err error) {
	err = d.txOf(Comparisons, func(tx *DB) error {
		done := tx.g.Model(&Machine{}).Where("of_group = ? AND basis <> ''", group).
			Updates(notCompared(map[string]any{}))
		machines = done.RowsAffected
		return done.Error
	})
	return machines, err
}

// RemoveMachine forgets a machine and what it told.
func (d *DB) RemoveMachine(name string) error {
	if err := d.g.Delete(&Inventory{Machine: name}).Error; err != nil {
		return err
	}
	return d.g.Delete(&Machine{Name: name}).Error
}

// InventoryBy gives what a machine told last.
func (d *DB) InventoryBy(name string) (Inventory, error) {
	return one[Inventory](d, "machine = ?", name)
}

// GiveInventory keeps what a machine told.
func (d *DB) GiveInventory(m Machine, list []byte) error {
	return d.Tx(func(tx *DB) error {
		if err := tx.g.Clauses(clause.OnConflict{UpdateAll: true}).
			Create(&Inventory{Machine: m.Name, List: list}).Error; err != nil {
			return err
		}
		done := tx.g.Model(&Machine{}).Where("name = ?", m.Name).Updates(notCompared(map[string]any{
			"reported": m.Reported, "given": m.Given, "given_by": m.GivenBy, "packages": m.Packages,
			"heard": m.Heard, "turn": gorm.Expr("turn + 1")}))
		if done.Error == nil && done.RowsAffected == 0 {
			return ErrNotFound // it was taken out meanwhile
		}
		return done.Error
	})
}

// Compared is what came of comparing what a machine told the Turn-th time.
type Compared struct {
	Machine string
	Turn    int64
	Against string
	Basis   string
	Problem string
	machine.Comparison
	Items []byte
}

// KeepCompared keeps what came of comparisons, of machines that told nothing else meanwhile. It is
// no change of anything else: see Changes.
func (d *DB) KeepCompared(all []Compared) error {
	return d.txOf(Comparisons, func(tx *DB) error {
		for _, c := range all {
			done := tx.g.Model(&Machine{}).Where("name = ? AND turn = ?", c.Machine, c.Turn).
				Updates(map[string]any{"against": c.Against, "basis": c.Basis, "problem": c.Problem,
					"current": c.Current, "behind": c.Behind, "security": c.Security, "ahead": c.Ahead,
					"held": c.Held, "stranded": c.Stranded, "unknown": c.Unknown, "unsure": c.Unsure,
					"bytes": c.Bytes})
			if done.Error != nil {
				return done.Error
			}
			if done.RowsAffected == 0 {
				continue
			}
			if err := tx.g.Model(&Inventory{}).Where("machine = ?", c.Machine).
				Update("items", c.Items).Error; err != nil {
				return err
			}
		}
		return nil
	})
}
