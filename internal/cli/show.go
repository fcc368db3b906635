package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

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

// findings prints findings for people: place, severity and code, then the text, then the fix.
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
		fmt.Fprintf(w, "%s%s %s\n", line(where), a.paint(s, string(f.Severity)), f.Code)
		for l := range strings.Lines(f.Excerpt) {
			fmt.Fprintf(w, "    | %s\n", strings.TrimRight(l, "\n"))
		}
		a.hang(w, "  ", 2, about+f.Text)
		if f.WayOut != "" {
			a.hang(w, "  Fix: ", 7, f.WayOut)
		}
	}
}

// codes names the findings of a thing, each code once: "key.expiring, key.weak".
func codes(l finding.List) string {
	var out []string
	for _, f := range l {
		if !slices.Contains(out, string(f.Code)) {
			out = append(out, string(f.Code))
		}
	}
	return first(strings.Join(out, ", "), "none")
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
	widest := 0
	for i := 0; i < len(pairs); i += 2 {
		widest = max(widest, width(pairs[i]))
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] == "" {
			continue
		}
		name := pairs[i] + strings.Repeat(" ", widest-width(pairs[i]))
		a.hang(a.out, a.paint(faint, name)+"  ", widest+2, pairs[i+1])
	}
}

func short(fingerprint string) string { return trust.Spaced(fingerprint) }
