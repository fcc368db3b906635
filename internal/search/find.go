package search

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"
	"unicode"

	"gorm.io/gorm"

	"stockade/core/definition"
)

// Match is how a name fits a question, the best first.
type Match int

// How names fit.
const (
	Exact    Match = iota // it is the name
	Begins                // the name begins so
	Contains              // the name has all of the words in it
	Said                  // the words stand in the name or in what is said of it
)

// Question is what is looked for.
type Question struct {
	// Text is words, all of which must be found, or a pattern with * and ? that a whole name fits.
	Text string
	Most int // names that are given
	// Counts tells whether a list counts; nil: each does. A package that no counted list has is not found.
	Counts func(List) bool
	// Within tells which of the counted lists must have a package, one of them at least; nil: any.
	Within func(List) bool
	// Fits tells whether a package counts; nil: each does.
	Fits func(Package) bool
}

// Hit is a name that fits, with its packages.
type Hit struct {
	Name     string
	Match    Match
	Packages []Held
}

// Held is a package with the counted lists that have it.
type Held struct {
	Package
	In []List
}

// How much one question looks at.
const (
	maxWords    = 8
	chunk       = 64   // names that are looked at together
	maxPackages = 2000 // of the names of one chunk
)

// Find gives the names that fit best. more tells that there are further ones, or that a name has more
// packages than are looked at. It ends with the error of ctx when that ends.
func (x *Index) Find(ctx context.Context, q Question) (hits []Hit, more bool, err error) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if x.db == nil {
		return nil, false, errClosed
	}
	s := search{db: x.db.WithContext(ctx), Question: q, seen: map[int64]bool{}}
	for _, l := range x.lists {
		if q.Counts == nil || q.Counts(l.List) {
			s.lists = append(s.lists, l)
		}
	}
	low := plain(q.Text)
	s.words = strings.Fields(low)
	s.words = s.words[:min(len(s.words), maxWords)]
	if len(s.words) == 0 {
		return nil, false, nil
	}
	for _, stage := range s.stages(low) {
		if err := s.run(stage); err != nil {
			return nil, false, err
		}
		if len(s.hits) > q.Most {
			return s.hits[:q.Most], true, nil
		}
	}
	return s.hits, s.more, nil
}

// plain gives a text in small letters, without what cannot be looked for.
func plain(text string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return unicode.ToLower(r)
	}, strings.ToValidUTF8(text, " ")))
}

// search is one question under way.
type search struct {
	db    *gorm.DB
	lists []held
	Question
	words []string
	seen  map[int64]bool // names that were looked at
	hits  []Hit
	more  bool
}

// stage is a way to find names: a query of their numbers, which ends as soon as there are enough.
type stage struct {
	match Match
	query string
	args  []any
}

func (s *search) stages(low string) (out []stage) {
	if strings.ContainsAny(low, "*?") {
		return []stage{s.pattern(low)}
	}
	if len(s.words) == 1 {
		out = append(out, stage{Exact, "SELECT id FROM names WHERE low = ?", []any{low}},
			stage{Begins, "SELECT id FROM names WHERE low >= ? AND low < ? ORDER BY low",
				[]any{low, low + "\U0010ffff"}})
	}
	if within, ok := trigrams(s.words); ok {
		query, args := "SELECT n.rowid FROM names_in n WHERE names_in MATCH ?", []any{within}
		for _, w := range s.words {
			if len([]rune(w)) < 3 {
				query += " AND EXISTS (SELECT 1 FROM names WHERE id = n.rowid AND instr(low, ?) > 0)"
				args = append(args, w)
			}
		}
		out = append(out, stage{Contains, query, args})
	}
	if said := beginnings(s.words); said != "" {
		out = append(out, stage{Said, "SELECT t.name_id FROM words_in w JOIN texts t ON t.id = w.rowid " +
			"WHERE words_in MATCH ?", []any{said}})
	}
	return out
}

// pattern finds names that fit a pattern whole.
func (s *search) pattern(low string) stage {
	glob := strings.NewReplacer("[", "[[]").Replace(low)
	fixed := low[:strings.IndexAny(low, "*?")]
	query, args := "SELECT id FROM names WHERE low GLOB ?", []any{glob}
	if fixed != "" {
		query, args = query+" AND low >= ? AND low < ?", append(args, fixed, fixed+"\U0010ffff")
	} else if within, ok := trigrams(strings.FieldsFunc(low, func(r rune) bool {
		return r == '*' || r == '?'
	})); ok {
		query += " AND id IN (SELECT rowid FROM names_in WHERE names_in MATCH ?)"
		args = append(args, within)
	}
	return stage{Contains, query + " ORDER BY low", args}
}

// trigrams gives the words of three letters and more as a question to the index of parts of names.
func trigrams(words []string) (string, bool) {
	var out []string
	for _, w := range words {
		if len([]rune(w)) >= 3 {
			out = append(out, quoted(w))
		}
	}
	return strings.Join(out, " AND "), len(out) > 0
}

// quoted makes a text one word of a question, whatever it is made of.
func quoted(w string) string { return `"` + strings.ReplaceAll(w, `"`, `""`) + `"` }

// beginnings gives the words as a question to the index of what is said: each begins a word there. A word is
// letters and digits; what stands between them parts two.
func beginnings(words []string) string {
	var out []string
	for _, w := range words {
		for _, part := range strings.FieldsFunc(w, func(r rune) bool {
			return !unicode.IsLetter(r) && !unicode.IsDigit(r)
		}) {
			out = append(out, quoted(part)+"*")
		}
	}
	return strings.Join(out, " AND ")
}

// run looks at the names that a stage finds until there are more than are asked for.
func (s *search) run(st stage) error {
	rows, err := s.db.Raw(st.query, st.args...).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var ids []int64
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return err
		}
		if s.seen[id] {
			continue
		}
		s.seen[id] = true
		if ids = append(ids, id); len(ids) == chunk {
			if err := s.look(st.match, ids); err != nil || len(s.hits) > s.Most {
				return err
			}
			ids = ids[:0]
		}
	}
	if err := rows.Err(); err != nil {
		return err
	}
	return s.look(st.match, ids)
}

// look takes what counts of some names as hits, shorter names first where they fit alike.
func (s *search) look(match Match, ids []int64) error {
	if len(ids) == 0 {
		return nil
	}
	var rows []found
	if err := s.db.Raw(`SELECT n.name AS name, t.summary, t.section, t.origin, t.licence, t.provides,
			p.id, p.source, p.version, p.arch, p.digest, p.size
		FROM names n JOIN texts t ON t.name_id = n.id JOIN packages p ON p.text_id = t.id
		WHERE n.id IN ? LIMIT ?`, ids, maxPackages+1).Scan(&rows).Error; err != nil {
		return err
	}
	if len(rows) > maxPackages {
		rows, s.more = rows[:maxPackages], true
	}
	of := map[string]*Hit{}
	for _, r := range rows {
		p := r.asPackage()
		if s.Fits != nil && !s.Fits(p) {
			continue
		}
		h, within := Held{Package: p}, false
		for _, l := range s.lists {
			if l.numbers.Has(r.ID) {
				h.In = append(h.In, l.List)
				within = within || s.Within == nil || s.Within(l.List)
			}
		}
		if !within {
			continue
		}
		if of[r.Name] == nil {
			of[r.Name] = &Hit{Name: r.Name, Match: match}
		}
		of[r.Name].Packages = append(of[r.Name].Packages, h)
	}
	byLength := func(a, b string) int {
		return cmp.Or(cmp.Compare(len(a), len(b)), strings.Compare(a, b))
	}
	if match == Begins {
		byLength = strings.Compare
	}
	for _, name := range slices.SortedFunc(maps.Keys(of), byLength) {
		s.hits = append(s.hits, *of[name])
	}
	return nil
}

// found is a row of what is found.
type found struct {
	ID                                      int64
	Name, Summary, Section, Origin, Licence string
	Provides, Source, Version, Arch, Digest string
	Size                                    int64
}

func (r found) asPackage() Package {
	p := Package{Source: r.Source, Name: r.Name, Version: r.Version, Arch: r.Arch, Digest: r.Digest,
		Size: r.Size,
		Text: Text{Summary: r.Summary, Section: r.Section, Origin: r.Origin, Licence: r.Licence}}
	if r.Provides != "" {
		p.Provides = strings.Split(r.Provides, "\n")
	}
	return p
}

// maxNear is how many names of each likeness are compared with one that was not found.
const maxNear = 1000

// Near gives a name of the index that may be meant where one was not found; empty if none is near. It looks
// at names that begin or end alike, or have one of its parts.
func (x *Index) Near(ctx context.Context, name string) (string, error) {
	x.mu.RLock()
	defer x.mu.RUnlock()
	if x.db == nil {
		return "", errClosed
	}
	low := []rune(plain(name))
	first, end := string(low[:(len(low)+1)/2]), string(low[len(low)/2:])
	if first == "" {
		return "", nil
	}
	var names []string
	if err := x.db.WithContext(ctx).Raw("SELECT name FROM names WHERE low >= ? AND low < ? LIMIT ?", first,
		first+"\U0010ffff", maxNear).Scan(&names).Error; err != nil {
		return "", err
	}
	parts := strings.FieldsFunc(string(low), func(r rune) bool { return !unicode.IsLetter(r) })
	for _, part := range append(parts, end) {
		within, ok := trigrams([]string{part})
		if !ok {
			continue
		}
		var more []string
		if err := x.db.WithContext(ctx).Raw("SELECT name FROM names WHERE id IN (SELECT rowid FROM names_in "+
			"WHERE names_in MATCH ? LIMIT ?)", within, maxNear).Scan(&more).Error; err != nil {
			return "", err
		}
		names = append(names, more...)
	}
	return definition.Nearest(string(low), names), nil
}
