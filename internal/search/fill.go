package search

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"gorm.io/gorm"
)

const (
	batch       = 2000 // packages that are written in one transaction
	maxProvides = 200  // names that a package provides, which are looked into
	maxText     = 400  // bytes of a summary, and of a licence
	maxName     = 512  // bytes of a name
	keptOf      = 8    // lists of one source: what it offered before tells what is new
	someUnused  = 5000 // packages that no list has: so many are always kept
)

// errClosed is what a closed index answers.
var errClosed = errors.New("the search index is closed")

// Put reads a list into the index, unless it is there. read yields the packages of the list; where it fails
// the list does not come to be there. Lists of a source are numbered here, and the oldest of many go.
func (x *Index) Put(ctx context.Context, l List, read func(yield func(Package) error) error) error {
	x.filling.Lock()
	defer x.filling.Unlock()
	if x.db == nil {
		return errClosed
	}
	if l.Kind == OfSource {
		last := newest(x.lists, l.Name)
		if last != nil && last.Digest == l.Digest {
			return nil
		}
		l.Number = 1
		if last != nil {
			l.Number += last.Number
		}
	}
	now := held{List: l}
	if i := slices.IndexFunc(x.lists, func(h held) bool {
		return h.Kind == l.Kind && h.Digest == l.Digest && (l.Kind == OfEdition || h.Name == l.Name)
	}); i >= 0 {
		now.numbers = x.lists[i].numbers
	} else {
		f := filler{db: x.db.WithContext(ctx), secret: x.secret}
		if err := f.fill(read); err != nil {
			return err
		}
		now.numbers = numbersOf(f.numbers)
	}
	row := listRow{l.Kind, l.Name, l.Number, l.Digest, l.Made, now.numbers.bytes()}
	if err := x.db.WithContext(ctx).Save(&row).Error; err != nil {
		return err
	}
	lists := slices.DeleteFunc(slices.Clone(x.lists), func(h held) bool {
		return h.Kind == l.Kind && h.Name == l.Name && h.Number == l.Number
	})
	x.mu.Lock()
	x.lists = append(lists, now)
	x.mu.Unlock()
	if l.Kind == OfSource && l.Number > keptOf {
		return x.drop(func(h List) bool {
			return h.Kind == OfSource && h.Name == l.Name && h.Number <= l.Number-keptOf
		})
	}
	return nil
}

// newest gives the newest list of a source; nil if there is none.
func newest(lists []held, source string) (last *held) {
	for i, l := range lists {
		if l.Kind == OfSource && l.Name == source && (last == nil || l.Number > last.Number) {
			last = &lists[i]
		}
	}
	return last
}

// Drop takes lists out of the index.
func (x *Index) Drop(which func(List) bool) error {
	x.filling.Lock()
	defer x.filling.Unlock()
	if x.db == nil {
		return errClosed
	}
	return x.drop(which)
}

func (x *Index) drop(which func(List) bool) error {
	var left []held
	for _, h := range x.lists {
		if !which(h.List) {
			left = append(left, h)
			continue
		}
		if err := x.db.Delete(&listRow{Kind: h.Kind, Name: h.Name, Number: h.Number}).Error; err != nil {
			return err
		}
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	x.lists = left
	return nil
}

// Unused tells whether most of what the index holds is in no list any more. It is not taken out: whoever
// fills the index clears it, and reads the lists that there are again.
func (x *Index) Unused() (bool, error) {
	x.filling.Lock()
	defer x.filling.Unlock()
	if x.db == nil {
		return false, errClosed
	}
	sets := make([]Numbers, len(x.lists))
	for i, h := range x.lists {
		sets[i] = h.numbers
	}
	var packages int64
	if err := x.db.Model(packageRow{}).Count(&packages).Error; err != nil {
		return false, err
	}
	used := union(sets).Len()
	return packages-used > max(used, someUnused), nil
}

// filler reads one list into the tables. Rows are handed to the database many at once, as one JSON text: it
// is read there in a tenth of the time that as many statements take.
type filler struct {
	db      *gorm.DB
	secret  []byte
	waiting []Package
	numbers []int64
}

// fill reads a list. What was read is kept where reading fails: it is in no list, and does no harm.
func (f *filler) fill(read func(yield func(Package) error) error) error {
	if err := read(func(p Package) error {
		f.waiting = append(f.waiting, bounded(p))
		if len(f.waiting) < batch {
			return nil
		}
		return f.write()
	}); err != nil {
		return err
	}
	return f.write()
}

// bounded cuts what is too long to be looked into. Texts of upstreams are as long as they like.
func bounded(p Package) Package {
	p.Name, p.Version, p.Arch = cut(p.Name, maxName), cut(p.Version, maxName), cut(p.Arch, maxName)
	p.Section, p.Origin = cut(p.Section, maxName), cut(p.Origin, maxName)
	p.Summary, p.Licence = cut(p.Summary, maxText), cut(p.Licence, maxText)
	provides := make([]string, 0, min(len(p.Provides), maxProvides))
	for _, name := range p.Provides {
		if len(provides) < maxProvides && len(name) <= maxName && name != p.Name &&
			!slices.Contains(provides, name) {
			provides = append(provides, name)
		}
	}
	p.Provides = provides
	return p
}

// says counts the fields that say something: of two texts of one package, the one that says more is kept.
// The index of a source says more than the list of an edition.
func (t Text) says() (n int) {
	for _, field := range []string{t.Summary, t.Section, t.Origin, t.Licence} {
		if field != "" {
			n++
		}
	}
	return n + min(len(t.Provides), 1)
}

func cut(s string, most int) string {
	if len(s) > most {
		s = s[:most]
	}
	return strings.ToValidUTF8(s, "")
}

// key is what tells one row from another: the first half of a digest over its parts and their lengths. It
// is keyed with a secret of the index, so that nobody can name two packages such that they meet.
func (f *filler) key(parts ...string) int64 {
	h := sha256.New()
	h.Write(f.secret)
	for _, p := range parts {
		h.Write(binary.AppendUvarint(nil, uint64(len(p))))
		h.Write([]byte(p))
	}
	return int64(binary.BigEndian.Uint64(h.Sum(nil)))
}

// write brings what waits into the tables, all or nothing.
func (f *filler) write() error {
	if len(f.waiting) == 0 {
		return nil
	}
	defer func() { f.waiting = f.waiting[:0] }()
	return f.db.Transaction(func(tx *gorm.DB) error {
		keys := make([]int64, len(f.waiting))
		for i, p := range f.waiting {
			keys[i] = f.key(p.Source, p.Name, p.Version, p.Arch, p.Digest)
		}
		var there []packageRow
		if err := with(tx, "packages", "key", keys, &there); err != nil {
			return err
		}
		of := map[int64]packageRow{}
		for _, r := range there {
			of[r.Key] = r
		}
		var lacking []int // those whose text is not there
		for i, k := range keys {
			if r, ok := of[k]; !ok || f.waiting[i].says() > r.Says {
				lacking = append(lacking, i)
				of[k] = packageRow{ID: r.ID, Says: f.waiting[i].says()} // a list may name a package twice
			}
		}
		texts, err := f.texts(tx, lacking)
		if err != nil {
			return err
		}
		next, err := last(tx, "packages")
		if err != nil {
			return err
		}
		var rows [][]any
		for n, i := range lacking {
			p, r := &f.waiting[i], of[keys[i]]
			if r.ID == 0 {
				next++
				r.ID = next
				of[keys[i]] = r
			}
			rows = append(rows, []any{r.ID, texts[n], keys[i], p.says(), p.Source, p.Version, p.Arch,
				p.Digest,
				p.Size})
		}
		for _, k := range keys {
			f.numbers = append(f.numbers, of[k].ID)
		}
		return put(tx, "packages(id, text_id, key, says, source, version, arch, digest, size)", rows)
	})
}

// with gives the rows of a table that have some values in a column.
func with(tx *gorm.DB, table, column string, values, into any) error {
	text, err := json.Marshal(values)
	if err != nil {
		return err
	}
	return tx.Table(table).Where(column+" IN (SELECT value FROM json_each(?))", string(text)).Find(into).Error
}

// last gives the greatest number in a table.
func last(tx *gorm.DB, table string) (n int64, err error) {
	return n, tx.Raw("SELECT coalesce(max(id), 0) FROM " + table).Scan(&n).Error
}

// put writes rows into columns of a table, over those that have their numbers.
func put(tx *gorm.DB, into string, rows [][]any) error {
	if len(rows) == 0 {
		return nil
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return err
	}
	values := make([]string, len(rows[0]))
	for i := range values {
		values[i] = fmt.Sprintf("json_extract(value, '$[%d]')", i)
	}
	return tx.Exec("INSERT OR REPLACE INTO "+into+" SELECT "+strings.Join(values, ", ")+" FROM json_each(?)",
		string(text)).Error
}

// texts gives the numbers of what is said of those that are lacking, and writes what is not there.
func (f *filler) texts(tx *gorm.DB, lacking []int) ([]int64, error) {
	if len(lacking) == 0 {
		return nil, nil
	}
	keys, names := make([]int64, len(lacking)), make([]string, len(lacking))
	for n, i := range lacking {
		p := &f.waiting[i]
		names[n] = p.Name
		keys[n] = f.key(append([]string{p.Name, p.Summary, p.Section, p.Origin, p.Licence}, p.Provides...)...)
	}
	var there []textRow
	if err := with(tx, "texts", "key", keys, &there); err != nil {
		return nil, err
	}
	of := map[int64]int64{}
	for _, r := range there {
		of[r.Key] = r.ID
	}
	named, err := putNames(tx, names)
	if err != nil {
		return nil, err
	}
	next, err := last(tx, "texts")
	if err != nil {
		return nil, err
	}
	var rows, words [][]any
	out := make([]int64, len(lacking))
	for n, i := range lacking {
		p := &f.waiting[i]
		if of[keys[n]] == 0 {
			next++
			of[keys[n]] = next
			provides := strings.Join(p.Provides, "\n")
			rows = append(rows, []any{next, named[p.Name], keys[n], p.Summary, p.Section, p.Origin, p.Licence,
				provides})
			words = append(words, []any{next, strings.Join([]string{p.Name, p.Summary, p.Section, p.Origin,
				provides}, " ")})
		}
		out[n] = of[keys[n]]
	}
	return out, errors.Join(put(tx, "texts(id, name_id, key, summary, section, origin, licence, provides)",
		rows), put(tx, "words_in(rowid, words)", words))
}

// putNames gives the numbers of names, and writes those that are not there.
func putNames(tx *gorm.DB, names []string) (map[string]int64, error) {
	var there []nameRow
	if err := with(tx, "names", "name", names, &there); err != nil {
		return nil, err
	}
	out := map[string]int64{}
	for _, r := range there {
		out[r.Name] = r.ID
	}
	next, err := last(tx, "names")
	if err != nil {
		return nil, err
	}
	var rows, parts [][]any
	for _, name := range names {
		if out[name] == 0 {
			next++
			out[name] = next
			low := strings.ToLower(name)
			rows, parts = append(rows, []any{next, name, low}), append(parts, []any{next, low})
		}
	}
	return out, errors.Join(put(tx, "names(id, name, low)", rows), put(tx, "names_in(rowid, low)", parts))
}
