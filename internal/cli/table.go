package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode"
	"unicode/utf8"

	"stockade/core/finding"
)

// column is one column of a table.
type column struct {
	head  string
	right bool // numbers stand right
	spare int  // which goes first where a table is too wide: the highest; 0 never goes
	cut   cut  // how a cell is made shorter; the zero value: not at all
}

// cut is how a cell that is too long is made shorter.
type cut int

const (
	whole  cut = iota
	atEnd      // words behind the last that fits go
	middle     // groups of a fingerprint in the middle go
)

// How short a cell may be made (characters): while there are columns that can be left
// out instead, and when there are none.
const (
	comfortable = 18
	least       = 12
)

const leastFingerprint = len("7F42 8E86 … 64F2 55B0") - len("…") + 1

func (c column) least(cells int) int {
	if c.cut == middle {
		return leastFingerprint
	}
	return max(cells, width(c.head))
}

// shortened gives text in at most n characters.
func (c column) shortened(text string, n int) string {
	if width(text) <= n {
		return text
	}
	if c.cut == middle {
		groups := strings.Fields(text)
		for keep := len(groups) - 1; keep > 1; keep-- {
			front := (keep + 1) / 2
			short := strings.Join(groups[:front], " ") + " … " +
				strings.Join(groups[len(groups)-(keep-front):], " ")
			if width(short) <= n {
				return short
			}
		}
	}
	cutAt := []rune(text)[:n-1]
	for i := len(cutAt) - 1; i > n/2; i-- { // at a word, where there is one not far
		if unicode.IsSpace(cutAt[i]) {
			cutAt = cutAt[:i]
			break
		}
	}
	return strings.TrimRight(string(cutAt), " ,;:") + "…"
}

func width(s string) int { return utf8.RuneCountInString(s) }

// table prints rows in columns. Where it is wider than the terminal, long texts are
// shortened, then columns left out, the least important first; and it is said so.
func (a *app) table(columns []column, rows [][]string) {
	if len(rows) == 0 {
		return
	}
	for _, r := range rows {
		for i := range r {
			r[i] = line(r[i])
		}
	}
	shown, widths, short := fit(columns, rows, a.room())
	a.row(columns, shown, widths, faint, func(i int) string { return columns[i].head })
	for _, r := range rows {
		a.row(columns, shown, widths, "", func(i int) string { return columns[i].shortened(r[i], widths[i]) })
	}
	var gone []string
	for i, c := range columns {
		if !slices.Contains(shown, i) {
			gone = append(gone, c.head)
		}
	}
	if len(gone) > 0 {
		a.say("Columns left out to fit: %s; use --wide to show all", strings.Join(gone, ", "))
	} else if short {
		a.say("Columns shortened to fit; use --wide to show all")
	}
}

// fit says which columns are shown in room characters, how wide each is, and whether
// a cell is shortened. No room: all of them, whole.
func fit(columns []column, rows [][]string, room int) (shown, widths []int, short bool) {
	natural := make([]int, len(columns))
	for i, c := range columns {
		natural[i] = width(c.head)
		for _, r := range rows {
			natural[i] = max(natural[i], width(r[i]))
		}
		shown = append(shown, i)
	}
	total := func(w []int) (n int) {
		for _, i := range shown {
			n += w[i] + 2
		}
		return n - 2
	}
	shorten := func(to int) []int {
		w := slices.Clone(natural)
		for total(w) > room {
			widest := -1
			for _, i := range shown {
				if columns[i].cut != whole && w[i] > columns[i].least(to) && (widest < 0 ||
					w[i] > w[widest]) {
					widest = i
				}
			}
			if widest < 0 {
				break
			}
			w[widest]--
		}
		return w
	}
	close := func(w []int) []int { // what was shortened at a word or a group leaves room
		for _, i := range shown {
			needs := width(columns[i].head)
			for _, r := range rows {
				needs = max(needs, width(columns[i].shortened(r[i], w[i])))
			}
			w[i] = needs
		}
		return w
	}
	for {
		if room == 0 || total(natural) <= room {
			return shown, natural, false
		}
		if w := shorten(comfortable); total(w) <= room {
			return shown, close(w), true
		}
		most := -1
		for at, i := range shown {
			if columns[i].spare > 0 && (most < 0 || columns[i].spare > columns[shown[most]].spare) {
				most = at
			}
		}
		if most < 0 {
			return shown, close(shorten(least)), true
		}
		shown = slices.Delete(shown, most, most+1)
	}
}

func (a *app) row(columns []column, shown, widths []int, s shade, cell func(int) string) {
	var b strings.Builder
	for at, i := range shown {
		c := cell(i)
		pad := strings.Repeat(" ", max(widths[i]-width(c), 0))
		if at > 0 {
			b.WriteString("  ")
		}
		if columns[i].right {
			b.WriteString(pad + c)
		} else {
			b.WriteString(c + pad)
		}
	}
	text := strings.TrimRight(b.String(), " ")
	if s != "" {
		text = a.paint(s, text)
	}
	fmt.Fprintln(a.out, text)
}

// line makes a text harmless and one line of it.
func line(s string) string {
	if strings.ContainsAny(s, "\n\r\t") {
		s = strings.Join(strings.Fields(s), " ")
	}
	return finding.Harmless(s)
}

// wrapped breaks text between words into lines of at most n characters; a word that
// is longer stands alone. n of 0: one line.
func wrapped(text string, n int) []string {
	if n <= 0 || width(text) <= n {
		return []string{text}
	}
	var lines []string
	now := ""
	for _, word := range strings.Fields(text) {
		switch {
		case now == "":
			now = word
		case width(now)+1+width(word) <= n:
			now += " " + word
		default:
			lines = append(lines, now)
			now = word
		}
	}
	return append(lines, now)
}

// hang writes text behind a lead, and its further lines below the text. lead is as
// wide as indent says: it may have colours in it.
func (a *app) hang(to io.Writer, lead string, indent int, text string) {
	room := 0
	if a.width > 0 {
		room = max(a.width-indent, 2*least)
	}
	for i, l := range wrapped(line(text), room) {
		if i > 0 {
			lead = strings.Repeat(" ", indent)
		}
		fmt.Fprintln(to, lead+l)
	}
}

// room is how wide a table may be; 0: as it is.
func (a *app) room() int {
	if a.wide {
		return 0
	}
	return a.width
}

// reflowed breaks the paragraphs of a help text anew.
func reflowed(text string, n int) string {
	var out []string
	for p := range strings.SplitSeq(text, "\n\n") {
		if strings.HasPrefix(p, "  ") {
			out = append(out, p)
			continue
		}
		out = append(out, strings.Join(wrapped(strings.Join(strings.Fields(p), " "), n), "\n"))
	}
	return strings.Join(out, "\n\n")
}
