package deb

import (
	"bytes"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// preferred is one record of a machine's preferences (apt_preferences(5)).
type preferred struct {
	packages, pin string
	rank          int // the higher, the sooner; a source of which nothing is said has 500
	place         finding.Place
	// explained is what the file says of it in words, where Stockade wrote it: the source and
	// its priority. It counts where the rank says the same.
	explained string
	priority  int
}

// explains reads the explanation that Stockade writes above a record.
func (p *preferred) explains(text string) {
	name, said, ok := strings.Cut(strings.TrimPrefix(text, "source "), ", priority ")
	if n, err := strconv.Atoi(said); ok && err == nil && strings.HasPrefix(text, "source ") {
		p.explained, p.priority = name, n
	}
}

// about tells whether a record was written by Stockade for a source: it is called as its
// address ends, and the rank is the one that its priority gives.
func (p preferred) about(s archive.ConfiguredSource) bool {
	return p.explained != "" && p.rank == basePin-p.priority && len(s.URLs) == 1 &&
		strings.HasSuffix(strings.TrimRight(s.URLs[0], "/"), "/"+p.explained)
}

// maxRecords bounds the preferences, and the logins, that are read of a machine: each is
// compared with each source.
const maxRecords = 1000

// downgrades is the rank from which the client installs an older version in place of a newer one
// (apt_preferences(5)).
const downgrades = 1000

// usualRank is that of a source of which no record says anything.
const usualRank = 500

// preferences reads a file of them: stanzas of Package, Pin and Pin-Priority.
func (r *configuration) preferences(data []byte) {
	var now preferred
	rank, number, begun := "", 0, 0
	done := func() {
		if begun == 0 {
			return
		}
		n, err := strconv.Atoi(rank)
		if err != nil || now.packages == "" || now.pin == "" {
			r.Tell(finding.New(finding.DefineSyntax, "",
				"a record needs Package, Pin and a number as Pin-Priority"), begun)
		} else {
			now.rank, now.place = n, r.Place(begun)
			if len(r.records) < maxRecords {
				r.records = append(r.records, now)
			} else if !r.full {
				r.full = true
				r.Tell(finding.New(finding.ContentTooLarge, "",
					"there are more than %d preferences. The others were left out", maxRecords), begun)
			}
		}
		now, rank, begun = preferred{}, "", 0
	}
	for line := range bytes.Lines(data) {
		number++
		text := strings.TrimSpace(string(line))
		if text == "" {
			done()
			continue
		}
		name, value, ok := strings.Cut(text, ":")
		if strings.HasPrefix(text, "#") || !ok {
			continue
		}
		value = strings.TrimSpace(value)
		switch strings.ToLower(name) {
		case "package":
			now.packages = value
		case "pin":
			now.pin = value
		case "pin-priority":
			rank = value
		case "explanation":
			now.explains(value)
			continue
		default:
			continue
		}
		if begun == 0 {
			begun = number
		}
	}
	done()
}

// prefer ranks the sources by the records: the first of all packages that fits one counts.
// On the scale of the language a source of which nothing is said keeps 50, and the order of
// the others is kept.
func (r *configuration) prefer() {
	ranks := map[int]int{} // of a source's number
	for _, p := range r.records {
		if p.rank >= downgrades {
			r.Read.Findings = append(r.Read.Findings, finding.New(finding.ImportToDecide, "",
				"the preference for %q (%d) makes the machine downgrade packages. Machines of "+
					"a lane never do that by themselves", p.pin, p.rank).At(p.place).
				Do("to keep an older version, set pins at the group of the machine"))
		}
		if p.packages != "*" {
			r.preferPackages(p)
			continue
		}
		if n := slices.IndexFunc(r.Read.Sources, p.about); n >= 0 &&
			!slices.ContainsFunc(r.Read.Sources[n+1:], p.about) {
			r.Read.Sources[n].Priority = p.priority
			continue
		}
		fits, unknown := r.fitting(p)
		for _, n := range fits {
			if _, ranked := ranks[n]; !ranked {
				ranks[n] = p.rank
			}
		}
		if len(fits) == 0 {
			why := "it matches none of the sources that were read"
			if unknown != "" {
				why = "only the release metadata of a source has its " + unknown
			}
			r.Read.Findings = append(r.Read.Findings, finding.New(finding.ImportToDecide, "",
				"the preference for %q (%d) was not imported: %s", p.pin, p.rank,
				why).At(p.place).
				Do("set priority at the source: 1 is asked first, 99 last, 50 is the default"))
		}
	}
	var all []int
	for _, rank := range ranks {
		all = append(all, rank)
	}
	for n, rank := range ranks {
		s := &r.Read.Sources[n]
		s.Priority = onScale(rank, all)
		if rank < 0 {
			s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
				"the machine installs from this source only what other preferences name "+
					"(Pin-Priority %d)", rank).
				At(s.Place).Do("set want at this source, under from of the mirror"))
		}
	}
}

// onScale puts a rank on the scale from 1 to 99, in the order of all of them.
func onScale(rank int, all []int) int {
	above, below := []int{}, []int{}
	for _, other := range all {
		switch {
		case other > usualRank && !slices.Contains(above, other):
			above = append(above, other)
		case other < usualRank && !slices.Contains(below, other):
			below = append(below, other)
		}
	}
	slices.Sort(above)
	slices.SortFunc(below, func(a, b int) int { return b - a })
	if n := slices.Index(above, rank); n >= 0 {
		return 50 - max((n+1)*min(10, 49/len(above)), 1)
	}
	if n := slices.Index(below, rank); n >= 0 {
		return 50 + max((n+1)*min(10, 49/len(below)), 1)
	}
	return 50
}

// fitting gives the sources that a record is about; where none is, perhaps what of it
// only a root could tell.
func (r *configuration) fitting(p preferred) (out []int, unknown string) {
	kind, what, _ := strings.Cut(p.pin, " ")
	what = strings.TrimSpace(what)
	var labelled []int // what only its root could tell for certain, its address and release tell
	for n, s := range r.Read.Sources {
		switch kind {
		case "origin":
			host := strings.Trim(what, "\"")
			if slices.ContainsFunc(slices.Concat(s.URLs, s.Lists), func(raw string) bool {
				u, err := url.Parse(raw)
				return err == nil && strings.EqualFold(u.Hostname(), host)
			}) {
				out = append(out, n)
			}
		case "release":
			says, known := r.saysOf(s)
			if known {
				if fitsRelease(what, s, says) {
					out = append(out, n)
				}
				continue
			}
			fits, cannot := ofRelease(what, s)
			if fits {
				r.byWord(p)
			}
			if fits {
				out = append(out, n)
			}
			if cannot != "" {
				unknown = cannot
			}
			if isLabelled(what, s) {
				labelled = append(labelled, n)
			}
		}
	}
	if len(out) == 0 && len(labelled) == 1 {
		return labelled, ""
	}
	return out, unknown
}

// ofRelease tells whether a source is one that "release n=heron,c=core" is about. What only
// its root says cannot be compared.
func ofRelease(what string, s archive.ConfiguredSource) (fits bool, unknown string) {
	fits = what != ""
	named, called := false, false // one release has two names, and a source is called by one of them
	for part := range strings.SplitSeq(what, ",") {
		name, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok {
			name, value = "a", name
		}
		switch name {
		case "n", "a":
			ok, err := path.Match(value, s.Release)
			named, called = true, called || ok && err == nil
		case "c":
			fits = fits && slices.Equal(s.Components, []string{value})
		default:
			known := map[string]string{"o": "origin", "l": "label", "v": "version", "b": "architecture"}
			fits, unknown = false, known[name]
		}
	}
	return fits && (called || !named), unknown
}

// isLabelled tells whether a record is about the release of a source and gives it the label
// that its address ends in, as the files do that a Stockade writes for its machines. What a
// repository without dists/ calls its release, if it does, only its root says.
func isLabelled(what string, s archive.ConfiguredSource) bool {
	label, release := false, strings.HasSuffix(s.Release, "/")
	for part := range strings.SplitSeq(what, ",") {
		name, value, _ := strings.Cut(strings.TrimSpace(part), "=")
		switch name {
		case "l":
			label = len(s.URLs) == 1 && strings.HasSuffix(strings.TrimRight(s.URLs[0], "/"), "/"+value)
		case "n", "a":
			release = release || value == s.Release
		}
	}
	return label && release
}

// preferPackages tells what a record about single packages becomes.
func (r *configuration) preferPackages(p preferred) {
	kind, what, _ := strings.Cut(p.pin, " ")
	what = strings.TrimSpace(what)
	p.packages = strings.ReplaceAll(p.packages+" ", everyArch+" ", " ")
	names := strings.Fields(p.packages)
	shown := finding.Harmless(strings.Join(names, " "))
	add := func(way, format string, args ...any) {
		f := finding.New(finding.ImportToDecide, "", format, args...).At(p.place)
		r.Read.Findings = append(r.Read.Findings, f.Rated(finding.Note).Do("%s", way))
	}
	switch {
	case p.rank < 0:
		add("set except: ["+strings.Join(names, ", ")+"] at the want of the mirror",
			"the machine never installs %s (Pin-Priority %d)", shown, p.rank)
	case kind == "version" && !strings.ContainsAny(what, "*?[/") && !strings.ContainsAny(p.packages, "*?[/:"):
		var pins []string
		for _, n := range names {
			pins = append(pins, strconv.Quote(n+" = "+what))
		}
		add("set pins: ["+strings.Join(pins, ", ")+"] at the group of the machine",
			"the machine stays on %s %s", shown, finding.Harmless(what))
	case kind == "version":
		add("set pins with whole versions at the group of the machine",
			"the machine stays on versions %s of %s", finding.Harmless(what), shown)
	default:
		add("set want at the right source, under from of the mirror",
			"the machine has its own priority for %s of %q (Pin-Priority %d)", shown, what, p.rank)
	}
}
