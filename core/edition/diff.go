package edition

import (
	"cmp"
	"encoding/json"
	"io"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sync/errgroup"

	"stockade/core/finding"
)

// Change is one difference between two editions.
type Change struct {
	Action     string `json:"action"` // Added, Removed or Changed
	Source     string `json:"source"`
	Name       string `json:"name"`
	Arch       string `json:"arch"`
	OldVersion string `json:"old_version,omitempty"`
	NewVersion string `json:"new_version,omitempty"`
	OldSize    int64  `json:"old_size,omitempty"` // bytes
	NewSize    int64  `json:"new_size,omitempty"`
	Older      bool   `json:"older,omitempty"` // the new version is the lower one
	// Advisories are the ids of those that are about the new version.
	Advisories []string `json:"advisories,omitempty"`
	Security   bool     `json:"security,omitempty"` // one of them is about security
}

// What can become of a package.
const (
	Added   = "added"
	Removed = "removed"
	Changed = "changed"
)

// byPlace orders items as changes are: by name, architecture and source. Lists are written
// nearly in that order, which makes sorting them cheap.
func byPlace(a, b *Item) int {
	return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Arch, b.Arch), cmp.Compare(a.Source, b.Source))
}

func placed(items []Item) []*Item {
	out := make([]*Item, len(items))
	for i := range items {
		out[i] = &items[i]
	}
	if !slices.IsSortedFunc(out, byPlace) {
		slices.SortFunc(out, byPlace)
	}
	return out
}

// same gives how many items at the beginning are of one place.
func same(items []*Item) int {
	n := 0
	for n < len(items) && byPlace(items[0], items[n]) == 0 {
		n++
	}
	return n
}

// without gives the items whose files are not among others.
func without(items, others []*Item) []*Item {
	if len(items) == 1 && len(others) == 1 && items[0].SHA256 != others[0].SHA256 {
		return items
	}
	var out []*Item
	for _, x := range items {
		if !slices.ContainsFunc(others, func(y *Item) bool { return x.SHA256 == y.SHA256 }) {
			out = append(out, x)
		}
	}
	return out
}

// Differences is Diff over the lists of two editions. Lines that both have are not read: two
// editions that follow each other share most of them.
func Differences(from, to *Sealed, compare func(source, a, b string) int) ([]Change, error) {
	old, now, err := onlyIn(from, to)
	if err != nil {
		return nil, err
	}
	return Diff(old, now, compare), nil
}

// onlyIn reads the packages whose lines stand in one of two lists alone. Where one of these has
// a file that also stands in a line of both, the lists are read whole: Diff asks which files
// are on both sides.
func onlyIn(from, to *Sealed) (old, now []Item, err error) {
	x, has := from.Manifest.Lines.Find(packagesFile)
	if y, too := to.Manifest.Lines.Find(packagesFile); has && too && x.SHA256 == y.SHA256 {
		return nil, nil, nil
	}
	var a, b []string
	var g errgroup.Group
	g.Go(func() (err error) { a, err = from.lines(); return err })
	g.Go(func() (err error) { b, err = to.lines(); return err })
	if err := g.Wait(); err != nil {
		return nil, nil, err
	}
	at := make(map[string]int, len(a)) // where a line stands in a
	for i, l := range a {
		at[l] = i
	}
	shared := make([]bool, len(a))
	var mine, theirs []string
	both := map[string]bool{} // digests of files in lines of both
	for _, l := range b {
		if i, same := at[l]; same {
			shared[i] = true
			both[digestIn(l)] = true
		} else {
			mine = append(mine, l)
		}
	}
	for i, l := range a { // one that stands there twice counts as one that shares its file
		if !shared[i] {
			theirs = append(theirs, l)
		}
	}
	shares := func(l string) bool { d := digestIn(l); return d == "" || both[d] }
	if len(both) > 0 && (slices.ContainsFunc(mine, shares) || slices.ContainsFunc(theirs, shares)) {
		mine, theirs = b, a
	}
	g.Go(func() (err error) { old, err = readBriefs(theirs); return err })
	g.Go(func() (err error) { now, err = readBriefs(mine); return err })
	err = g.Wait() // before what it writes is read: the order within one return is not specified
	return old, now, err
}

// lines gives the lines of the package list.
func (s *Sealed) lines() ([]string, error) {
	f, err := s.about(packagesFile)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	var whole strings.Builder
	if l, ok := s.Manifest.Lines.Find(packagesFile); ok {
		whole.Grow(int(min(l.Size, maxListAhead)))
	}
	if _, err := io.Copy(&whole, f); err != nil {
		return nil, finding.Doing(err, "read "+packagesFile)
	}
	out := strings.Split(whole.String(), "\n")
	return slices.DeleteFunc(out, func(l string) bool { return l == "" }), nil
}

// maxListAhead bounds the memory that is taken for a list before it is read, in bytes.
const maxListAhead = 64 << 20

// digestIn gives the digest that a line names; "" where it is not plain to see.
func digestIn(line string) string {
	const before = `"sha256":"`
	_, rest, found := strings.Cut(line, before)
	end := strings.IndexByte(rest, '"')
	if !found || strings.Contains(rest, before) || end != 64 {
		return ""
	}
	return rest[:end]
}

// readBriefs reads of lines of a package list what a difference is told by, on all processors.
func readBriefs(lines []string) ([]Item, error) {
	out := make([]Item, len(lines))
	var g errgroup.Group
	const part = 4096
	for at := 0; at < len(lines); at += part {
		g.Go(func() error {
			for i := at; i < min(at+part, len(lines)); i++ {
				if it, ok := briefly(lines[i]); ok {
					out[i] = it
				} else if err := json.Unmarshal([]byte(lines[i]), &out[i]); err != nil {
					return unreadable(err)
				}
			}
			return nil
		})
	}
	err := g.Wait() // see read
	return out, err
}

// briefly reads the first fields of a line as lists are written, up to the digest; false where it
// is written otherwise.
func briefly(line string) (it Item, ok bool) {
	at := strings.Index(line, `,"sha256":"`)
	if at < 0 {
		return it, false
	}
	// A copy of what is kept: differences outlive the lists that they were worked out from.
	rest := strings.Clone(line[:min(len(line), at+len(`,"sha256":"`)+65)])
	text := func(before string, into *string) bool {
		var found bool
		if rest, found = strings.CutPrefix(rest, before); !found {
			return false
		}
		end := strings.IndexByte(rest, '"')
		if end < 0 || strings.IndexByte(rest[:end], '\\') >= 0 {
			return false
		}
		*into, rest = rest[:end], rest[end+1:]
		return true
	}
	if !text(`{"source":"`, &it.Source) || !text(`,"name":"`, &it.Name) || !text(`,"version":"`, &it.Version) ||
		!text(`,"arch":"`, &it.Arch) {
		return it, false
	}
	text(`,"component":"`, &it.Component)
	number, found := strings.CutPrefix(rest, `,"size":`)
	end := strings.IndexByte(number, ',')
	if !found || end < 0 {
		return it, false
	}
	size, err := strconv.ParseInt(number[:end], 10, 64)
	it.Size, rest = size, number[end:]
	// What is known by another digest alone is read whole.
	return it, err == nil && text(`,"sha256":"`, &it.SHA256) && len(it.SHA256) == 64
}

func unreadable(err error) error {
	return finding.New(finding.EditionDamaged, "", "%s cannot be read: %v", packagesFile, err)
}

// Summary counts what a difference is made of.
type Summary struct {
	Changes  int   `json:"changes"`
	Security int   `json:"security"` // to versions that an advisory about security is about
	Newer    int   `json:"newer"`
	Older    int   `json:"older"`
	Added    int   `json:"added"`
	Removed  int   `json:"removed"`
	Bytes    int64 `json:"bytes"` // of the new packages: what machines that have all of it fetch
}

// Summarise counts changes.
func Summarise(changes []Change) Summary {
	out := Summary{Changes: len(changes)}
	for _, c := range changes {
		switch {
		case c.Action == Added:
			out.Added++
		case c.Action == Removed:
			out.Removed++
		case c.Older:
			out.Older++
		default:
			out.Newer++
		}
		if c.Security {
			out.Security++
		}
		out.Bytes += c.NewSize
	}
	return out
}

// MattersFirst orders changes by what somebody has to know first: security, newer versions,
// older ones, what came, what went.
func MattersFirst(changes []Change) {
	rank := func(c Change) int {
		switch {
		case c.Security:
			return 0
		case c.Action == Changed && !c.Older:
			return 1
		case c.Action == Changed:
			return 2
		case c.Action == Added:
			return 3
		}
		return 4
	}
	slices.SortStableFunc(changes, func(a, b Change) int { return cmp.Compare(rank(a), rank(b)) })
}

// Diff compares the packages of two editions, by source, name and architecture;
// compare orders versions within a source, and is called by several goroutines. Where several
// versions of a package are held, each that is only on one side is told.
func Diff(from, to []Item, compare func(source, a, b string) int) []Change {
	var old, now []*Item
	var g errgroup.Group
	g.Go(func() error { old = placed(from); return nil })
	g.Go(func() error { now = placed(to); return nil })
	g.Wait()
	// In two halves, none of which has a place of the other.
	var first []Change
	o, n := len(old)/2, 0
	if o > 0 {
		middle := old[o]
		before := func(x *Item, _ struct{}) int { return cmp.Or(byPlace(x, middle), 1) }
		o, _ = slices.BinarySearchFunc(old, struct{}{}, before)
		n, _ = slices.BinarySearchFunc(now, struct{}{}, before)
		g.Go(func() error { first = diff(old[:o], now[:n], max(len(old), len(now)), compare); return nil })
	}
	second := diff(old[o:], now[n:], max(len(old)-o, len(now)-n), compare)
	g.Wait()
	return append(first, second...)
}

// diff is Diff for items in the order of their places, with room for so many changes.
func diff(old, now []*Item, room int, compare func(source, a, b string) int) []Change {
	out := make([]Change, 0, room)
	for len(old) > 0 || len(now) > 0 {
		var was, is []*Item
		switch {
		case len(now) == 0:
			was = old[:same(old)]
		case len(old) == 0:
			is = now[:same(now)]
		default:
			at := byPlace(old[0], now[0])
			if at <= 0 {
				was = old[:same(old)]
			}
			if at >= 0 {
				is = now[:same(now)]
			}
		}
		old, now = old[len(was):], now[len(is):]
		out = changed(out, was, is, compare)
	}
	return out
}

// changed appends the changes of one place: a name, an architecture and a source.
func changed(out []Change, was, is []*Item, compare func(source, a, b string) int) []Change {
	gone, come := without(was, is), without(is, was)
	for _, items := range [][]*Item{gone, come} {
		if len(items) < 2 {
			continue
		}
		slices.SortFunc(items, func(a, b *Item) int { return compare(a.Source, a.Version, b.Version) })
	}
	begun := len(out)
	for i := range max(len(gone), len(come)) { // the newest became the newest
		var c Change
		if i < len(gone) {
			x := gone[len(gone)-1-i]
			c = Change{Action: Removed, Source: x.Source, Name: x.Name, Arch: x.Arch, OldVersion: x.Version,
				OldSize: x.Size}
		}
		if i < len(come) {
			x := come[len(come)-1-i]
			if c.Action == Removed {
				c.Action = Changed
				c.Older = compare(x.Source, x.Version, c.OldVersion) < 0
			} else {
				c = Change{Action: Added, Source: x.Source, Name: x.Name, Arch: x.Arch}
			}
			c.NewVersion, c.NewSize = x.Version, x.Size
		}
		out = append(out, c)
	}
	slices.SortFunc(out[begun:], func(a, b Change) int {
		return cmp.Or(cmp.Compare(a.OldVersion, b.OldVersion), cmp.Compare(a.NewVersion, b.NewVersion))
	})
	return out
}
