package deb

import (
	"fmt"
	"net/url"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// siteRecord stands for a record that recognises a source by the host of its address. The address
// is known only when the files are printed.
const siteRecord = "site"

// letter is one thing that preferences may ask of a Release file (apt_preferences(5)).
type letter struct{ name, value string }

// lasting gives the letters that recognise a source and do not change while it stays the same
// repository: origin, label and codename. The suite changes when a distribution makes its next
// release ("stable" becomes "oldstable"), so it is asked for only where there is no codename.
func lasting(s archive.ClientSource) (out []letter) {
	label := s.Label
	if s.Tailored {
		label = s.Name // as the copy's Release says it
	}
	for _, l := range []letter{{"o", s.Origin}, {"l", label}, {"n", s.Codename}} {
		if plainPin(l.value) {
			out = append(out, l)
		}
	}
	if !plainPin(s.Codename) && plainPin(s.Suite) {
		out = append(out, letter{"a", s.Suite})
	}
	return out
}

// said gives what a source's Release says for a letter.
func said(s archive.ClientSource, name string) string {
	switch name {
	case "o":
		return s.Origin
	case "l":
		if s.Tailored {
			return s.Name
		}
		return s.Label
	case "n":
		return s.Codename
	}
	return s.Suite
}

// fits reports whether a record of these letters would take a source for its own: apt compares
// without regard to case.
func fits(letters []letter, s archive.ClientSource) bool {
	return !slices.ContainsFunc(letters, func(l letter) bool {
		return !strings.EqualFold(l.value, said(s, l.name))
	})
}

// plainPin reports whether apt takes a value as it stands: not as a pattern, and not as ended by a
// comma.
func plainPin(v string) bool {
	return v != "" && len(v) <= 200 && finding.Harmless(v) == v && strings.TrimSpace(v) == v &&
		!strings.ContainsAny(v, ",*?[]\\/\"'")
}

func written(letters []letter) string {
	var parts []string
	for _, l := range letters {
		parts = append(parts, l.name+"="+l.value)
	}
	return "release " + strings.Join(parts, ",")
}

// recognise gives, for each of some sources, the records by which the client's preferences
// recognise it. A source whose Release says nothing of itself is recognised by its components,
// and if it has none, or shares them, by the host of its address: these records stand behind all
// others, and so are about what nothing else recognised.
//
// Two sources of different priorities that one record would fit are an error: the worse could
// borrow the priority of the better by saying the same of itself.
func recognise(all []archive.ClientSource) ([][]string, finding.List) {
	letters := make([][]letter, len(all))
	for i, s := range all {
		letters[i] = lasting(s)
		if len(letters[i]) > 0 && slices.ContainsFunc(all, func(o archive.ClientSource) bool {
			return o.Priority != s.Priority && fits(letters[i], o)
		}) && plainPin(s.Suite) && !slices.Contains(letters[i], letter{"a", s.Suite}) {
			letters[i] = append(letters[i], letter{"a", s.Suite})
		}
	}
	records := make([][]string, len(all))
	var found finding.List
	clash := func(s, other archive.ClientSource, by string) {
		found = append(found, finding.New(finding.PriorityAmbiguous, "source "+other.Name,
			"apt would use the priority of %s for it, %d instead of %d, because both match %q",
			s.Name, s.Priority, other.Priority, by))
	}
	for i, s := range all {
		if len(letters[i]) == 0 {
			records[i] = unlabelled(all, letters, i)
		} else {
			records[i] = []string{written(letters[i])}
		}
		for k, other := range all {
			if i == k || s.Priority == other.Priority {
				continue
			}
			switch {
			case len(letters[i]) > 0 && fits(letters[i], other):
				clash(s, other, records[i][0])
			case len(letters[i])+len(letters[k]) == 0 && slices.Contains(records[i], siteRecord) && i < k &&
				slices.Contains(unlabelled(all, letters, k), siteRecord):
				clash(s, other, "the host of both addresses")
			}
		}
	}
	return records, found
}

// unlabelled gives the records of a source whose Release says nothing of itself.
func unlabelled(all []archive.ClientSource, letters [][]letter, i int) (out []string) {
	s := all[i]
	for _, component := range s.Components {
		shared := false
		for k, other := range all {
			shared = shared || k != i && len(letters[k]) == 0 && other.Priority != s.Priority &&
				slices.Contains(other.Components, component)
		}
		if shared || !plainPin(component) {
			return []string{siteRecord}
		}
		out = append(out, "release c="+component)
	}
	if len(out) == 0 {
		out = []string{siteRecord}
	}
	return out
}

// prefer writes the records that give sources their priorities. Those that recognise a source by
// what its Release says come first: the others fit more than the source that they are about.
func prefer(t *archive.Text, repositories []archive.Repository, at string) {
	order := func(r archive.Repository) int {
		switch {
		case slices.Contains(r.Recognised, siteRecord):
			return 2
		case strings.HasPrefix(r.Recognised[0], "release c="):
			return 1
		}
		return 0
	}
	sorted := slices.Clone(repositories)
	slices.SortStableFunc(sorted, func(a, b archive.Repository) int { return order(a) - order(b) })
	for _, s := range sorted {
		for _, record := range s.Recognised {
			if record == siteRecord {
				record = fmt.Sprintf("origin %q", siteOf(at))
			}
			t.Line("")
			t.Line("Explanation: source %s, priority %d", s.Name, s.Priority)
			t.Line("Package: *")
			t.Line("Pin: %s", record)
			t.Line("Pin-Priority: %d", basePin-s.Priority)
		}
	}
}

// siteOf gives what apt has as the site of a source: the host of a URL, and nothing for a folder.
func siteOf(at string) string {
	u, err := url.Parse(at)
	if err != nil || strings.HasPrefix(at, "/") {
		return ""
	}
	return u.Hostname()
}
