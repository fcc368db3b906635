// Package search is an index of packages: of what sources offer, and of what editions hold. It finds them by
// parts of their names and by words of what is said of them.
//
// The index is made from lists that are kept elsewhere, and is no record. An index that is lost, damaged or
// of another form is made anew, and the lists are read into it again. Nothing is trusted or served because
// of it: who asks it gets names to look at.
//
// A package is one row for each source, name, version, architecture and digest, however many editions hold
// it; what is said of it is a row of its own, which the versions of a package share. A list is the numbers
// of its packages (Numbers), so that hundreds of editions of one mirror cost little more than one.
//
// Costs, measured with 4 lists of 65,000 packages (bench/search_test.go): see docs/performance.md.
package search

import (
	"errors"
	"fmt"
	"os"
	"sync"

	"github.com/glebarez/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/logger"
)

// form is the number of the form of the database: an index of another one is made anew.
const form = 2

// Package is one package as a list has it. Size is bytes.
type Package struct {
	Source, Name, Version, Arch string
	Digest                      string // of its file, lower-case hexadecimal
	Size                        int64
	Text
}

// Text is what is said of a package. An edition's own list has less of it than the index of a source.
type Text struct {
	Summary, Section, Origin, Licence string
	Provides                          []string // names; the first maxProvides are looked into
}

// Kind is what a list is of.
type Kind string

// The kinds of lists.
const (
	OfSource  Kind = "source"
	OfEdition Kind = "edition"
)

// List names packages that belong together: what a source offered when its metadata was accepted, or what an
// edition holds.
type List struct {
	Kind   Kind
	Name   string // of the source, or of the mirror
	Number int    // of the edition; of a source it counts what was accepted
	Digest string // of what the list was read from
	Made   int64  // when an edition was made (seconds since 1970): a restored site may give its number again
}

// held is a list with its packages.
type held struct {
	List
	numbers Numbers
}

// Index is an open index. It may be used by several at once; one fills it at a time.
type Index struct {
	path    string
	secret  []byte     // of the keys of its rows
	filling sync.Mutex // taken before mu

	mu    sync.RWMutex // who only asks holds it for reading; db and lists change under both
	db    *gorm.DB
	lists []held
}

// The tables. Names and texts are found by the virtual tables names_in and words_in, which hold no text.
type (
	nameRow struct {
		ID   int64 `gorm:"primaryKey"`
		Name string
		Low  string `gorm:"index"` // the name in small letters
	}
	textRow struct {
		ID       int64 `gorm:"primaryKey"`
		NameID   int64 `gorm:"index"`
		Key      int64
		Summary  string
		Section  string
		Origin   string
		Licence  string
		Provides string // names, one a line
	}
	packageRow struct {
		ID      int64 `gorm:"primaryKey"`
		TextID  int64 `gorm:"index"`
		Key     int64
		Says    int // how many fields of its text say something
		Source  string
		Version string
		Arch    string
		Digest  string
		Size    int64
	}
	listRow struct {
		Kind    Kind   `gorm:"primaryKey"`
		Name    string `gorm:"primaryKey"`
		Number  int    `gorm:"primaryKey"`
		Digest  string
		Made    int64
		Numbers []byte
	}
)

func (nameRow) TableName() string    { return "names" }
func (textRow) TableName() string    { return "texts" }
func (packageRow) TableName() string { return "packages" }
func (listRow) TableName() string    { return "lists" }

// readers is how many questions are answered at once.
const readers = 4

// Open opens the index at path. One that cannot be used is removed, and an empty one made.
func Open(path string) (*Index, error) {
	x := &Index{path: path}
	err := x.open()
	if err != nil {
		if err = errors.Join(x.shut(), remove(path)); err == nil {
			err = x.open()
		}
	}
	if err != nil {
		return nil, fmt.Errorf("open the search index %s: %w", path, err)
	}
	return x, nil
}

func remove(path string) (failed error) {
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Remove(path + end); err != nil && !errors.Is(err, os.ErrNotExist) {
			failed = errors.Join(failed, err)
		}
	}
	return failed
}

func (x *Index) open() error {
	f, err := os.OpenFile(x.path, os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	// It is made anew where it is not whole, so nothing waits for the disk.
	g, err := gorm.Open(sqlite.Open("file:"+x.path+"?_pragma=journal_mode(WAL)&_pragma=synchronous(OFF)"+
		"&_pragma=busy_timeout(10000)&_pragma=cache_size(-16000)"),
		&gorm.Config{Logger: logger.Discard, SkipDefaultTransaction: true})
	if err != nil {
		return err
	}
	x.db = g
	raw, err := g.DB()
	if err != nil {
		return err
	}
	raw.SetMaxOpenConns(readers + 1)
	raw.SetMaxIdleConns(readers + 1)
	var now int
	if err := g.Raw("PRAGMA user_version").Scan(&now).Error; err != nil {
		return err
	}
	switch now {
	case form:
	case 0:
		if err := x.make(); err != nil {
			return err
		}
	default:
		return fmt.Errorf("it is of form %d, and not %d", now, form)
	}
	if err := g.Raw("SELECT secret FROM secrets").Row().Scan(&x.secret); err != nil {
		return err
	}
	var rows []listRow
	if err := g.Order("kind, name, number").Find(&rows).Error; err != nil {
		return err
	}
	x.lists = nil
	for _, r := range rows {
		n, err := readNumbers(r.Numbers)
		if err != nil {
			return fmt.Errorf("the list %s/%d: %w", r.Name, r.Number, err)
		}
		x.lists = append(x.lists, held{List{r.Kind, r.Name, r.Number, r.Digest, r.Made}, n})
	}
	return nil
}

func (x *Index) make() error {
	if err := x.db.AutoMigrate(nameRow{}, textRow{}, packageRow{}, listRow{}); err != nil {
		return err
	}
	for _, do := range []string{
		"CREATE UNIQUE INDEX of_name ON names(name)",
		"CREATE UNIQUE INDEX of_text ON texts(key)",
		"CREATE UNIQUE INDEX of_package ON packages(key)",
		"CREATE VIRTUAL TABLE names_in USING fts5(low, content='', tokenize='trigram')",
		"CREATE VIRTUAL TABLE words_in USING fts5(words, content='', detail=none, prefix='1 2 3', " +
			"tokenize='unicode61 remove_diacritics 2')",
		"CREATE TABLE secrets(secret BLOB)",
		"INSERT INTO secrets VALUES (randomblob(32))",
		fmt.Sprintf("PRAGMA user_version = %d", form),
	} {
		if err := x.db.Exec(do).Error; err != nil {
			return err
		}
	}
	return nil
}

// Close closes the index. Whoever fills it is waited for.
func (x *Index) Close() error {
	x.filling.Lock()
	defer x.filling.Unlock()
	x.mu.Lock()
	defer x.mu.Unlock()
	return x.shut()
}

func (x *Index) shut() error {
	if x.db == nil {
		return nil
	}
	raw, err := x.db.DB()
	x.db = nil
	if err != nil {
		return err
	}
	return raw.Close()
}

// Clear empties the index.
func (x *Index) Clear() error {
	x.filling.Lock()
	defer x.filling.Unlock()
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.db == nil {
		return errClosed
	}
	if err := errors.Join(x.shut(), remove(x.path)); err != nil {
		return err
	}
	return x.open()
}

// Lists gives the lists that the index has, by kind, name and number.
func (x *Index) Lists() []List {
	x.mu.RLock()
	defer x.mu.RUnlock()
	out := make([]List, len(x.lists))
	for i, l := range x.lists {
		out[i] = l.List
	}
	return out
}
