package cli

import (
	"fmt"
	"io"
	"strings"
	"time"
	"unicode/utf8"

	"stockade/core/finding"
	"stockade/core/trust"
)

type shade string

const (
	red    shade = "31"
	yellow shade = "33"
	green  shade = "32"
	faint  shade = "2"
	bold   shade = "1"
)

func (a *app) paint(s shade, text string) string {
	if !a.colour {
		return text
	}
	return "\x1b[" + string(s) + "m" + text + "\x1b[0m"
}

// table prints rows in columns; columns whose head ends in ">" are set right.
func (a *app) table(heads []string, rows [][]string) {
	right := make([]bool, len(heads))
	width := make([]int, len(heads))
	for i, h := range heads {
		if strings.HasSuffix(h, ">") {
			heads[i], right[i] = strings.TrimSuffix(h, ">"), true
		}
		width[i] = utf8.RuneCountInString(heads[i])
	}
	for _, r := range rows {
		for i := range r {
			r[i] = finding.Harmless(r[i])
			width[i] = max(width[i], utf8.RuneCountInString(r[i]))
		}
	}
	line := func(cells []string, s shade) {
		var b strings.Builder
		for i, c := range cells {
			pad := strings.Repeat(" ", width[i]-utf8.RuneCountInString(c))
			if i > 0 {
				b.WriteString("  ")
			}
			switch {
			case right[i]:
				b.WriteString(pad + c)
			case i == len(cells)-1:
				b.WriteString(c)
			default:
				b.WriteString(c + pad)
			}
		}
		text := strings.TrimRight(b.String(), " ")
		if s != "" {
			text = a.paint(s, text)
		}
		fmt.Fprintln(a.out, text)
	}
	if len(rows) == 0 {
		return
	}
	line(heads, faint)
	for _, r := range rows {
		line(r, "")
	}
}

// size writes bytes in binary units.
func size(n int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB"}
	v, i := float64(n), 0
	for v >= 1024 && i < len(units)-1 {
		v /= 1024
		i++
	}
	if i == 0 {
		return fmt.Sprintf("%d B", n)
	}
	return fmt.Sprintf("%.1f %s", v, units[i])
}

func date(t time.Time) string {
	if t.IsZero() {
		return "–"
	}
	return t.UTC().Format("2006-01-02 15:04")
}

func age(t time.Time) string {
	if t.IsZero() {
		return "–"
	}
	return span(time.Since(t)) + " ago"
}

func span(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d days", int(d.Hours()/24))
}

// findings tells findings as people read them.
func (a *app) findings(w io.Writer, list finding.List) {
	for _, f := range list {
		s := map[finding.Severity]shade{finding.Error: red, finding.Warning: yellow,
			finding.Note: faint}[f.Severity]
		where := f.Place.String()
		if where != "" {
			where += ": "
		}
		about := f.Object
		if about != "" {
			about += ": "
		}
		fmt.Fprintf(w, "%s%s %s\n", where, a.paint(s, string(f.Severity)), f.Code)
		if f.Excerpt != "" {
			for l := range strings.Lines(f.Excerpt) {
				fmt.Fprintf(w, "    | %s", l)
			}
			fmt.Fprintln(w)
		}
		fmt.Fprintln(w, "  "+finding.Harmless(about+f.Text))
		if f.WayOut != "" {
			fmt.Fprintln(w, "  to do: "+finding.Harmless(f.WayOut))
		}
	}
}

// worst counts the findings in words: "2 errors, 1 warning".
func worst(l finding.List) string {
	if len(l) == 0 {
		return "none"
	}
	var parts []string
	for _, s := range []finding.Severity{finding.Error, finding.Warning, finding.Note} {
		if n := l.Count(s); n == 1 {
			parts = append(parts, "1 "+string(s))
		} else if n > 1 {
			parts = append(parts, fmt.Sprintf("%d %ss", n, s))
		}
	}
	return strings.Join(parts, ", ")
}

// fields prints names and values below each other.
func (a *app) fields(pairs ...string) {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, utf8.RuneCountInString(pairs[i]))
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		fmt.Fprintf(a.out, "%s  %s\n",
			a.paint(faint, pairs[i]+strings.Repeat(" ", width-utf8.RuneCountInString(pairs[i]))),
			finding.Harmless(pairs[i+1]))
	}
}

func short(fingerprint string) string { return trust.Spaced(fingerprint) }
