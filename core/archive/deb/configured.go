package deb

import (
	"bytes"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

var _ archive.Reading = Family{}

// lists is where apt keeps what it downloaded of sources.
const lists = "var/lib/apt/lists/"

// Configuration implements archive.Reading (sources.list(5), apt.conf(5), apt_auth.conf(5),
// apt_preferences(5)).
func (Family) Configuration() []string {
	return []string{"etc/apt/apt.conf.d/*", "etc/apt/apt.conf", "etc/apt/auth.conf",
		"etc/apt/auth.conf.d/*.conf", "etc/apt/preferences", "etc/apt/preferences.d/*",
		"etc/apt/sources.list", "etc/apt/sources.list.d/*.list", "etc/apt/sources.list.d/*.sources",
		lists + "*_InRelease", lists + "*_Release"}
}

// Keyrings implements archive.Reading (apt-secure(8)).
func (Family) Keyrings() []string {
	return []string{"etc/apt/trusted.gpg", "etc/apt/trusted.gpg.d/*.gpg", "etc/apt/trusted.gpg.d/*.asc"}
}

// KeyFolders implements archive.Reading (sources.list(5)).
func (Family) KeyFolders() []string { return []string{"etc/apt/keyrings/*", "usr/share/keyrings/*"} }

// MachineArchitecture implements archive.Reading.
func (Family) MachineArchitecture(goarch string) string {
	names := map[string]string{"386": "i386", "arm": "armhf", "ppc64le": "ppc64el", "mips64le": "mips64el"}
	if name, ok := names[goarch]; ok {
		return name
	}
	return goarch
}

// ReadConfiguration implements archive.Reading: the one-line form and that of stanzas.
func (Family) ReadConfiguration(files []archive.MachineFile) archive.Configured {
	r := &configuration{settings: settings{}, releases: map[string]map[string]string{}}
	r.Marks = "apt rejects the first line"
	for _, f := range files {
		if !r.Begin(&f) {
			continue
		}
		dir, base := path.Split(f.Path)
		switch folder := path.Base(dir); {
		case strings.HasSuffix(base, "Release"):
			r.releaseFile(base, f.Data)
		case base == "apt.conf", folder == "apt.conf.d":
			r.readSettings(f.Data)
		case base == "auth.conf", folder == "auth.conf.d":
			r.logins(f.Data)
		case base == "preferences", folder == "preferences.d":
			r.preferences(f.Data)
		case path.Ext(base) == ".sources":
			r.stanzas(f.Data)
		default:
			r.oneLines(f.Data)
		}
	}
	r.judgeSettings()
	for i := range r.Read.Sources {
		r.reach(&r.Read.Sources[i])
	}
	r.prefer()
	return r.Done()
}

// configuration reads the files of one machine.
type configuration struct {
	archive.MachineReader
	settings settings
	full     bool // of records
	known    []login
	records  []preferred
	releases map[string]map[string]string // what Release files say, by the name that apt gives them
}

// configuredEntry is one definition of a source, in either form.
type configuredEntry struct {
	line    int
	types   []string
	uris    []string
	suites  []string
	source  archive.ConfiguredSource
	options map[string]int // those that were read, by line
}

// oneLines reads the one-line form: type, perhaps options in brackets, URI, suite,
// components; what stands behind a # is a comment.
func (r *configuration) oneLines(data []byte) {
	number := 0
	for line := range bytes.Lines(data) {
		number++
		text := strings.TrimSpace(string(line))
		if hidden, ok := strings.CutPrefix(text, "#"); ok {
			if fields := strings.Fields(strings.TrimLeft(hidden, "# ")); len(fields) > 2 &&
				(fields[0] == "deb" || fields[0] == "deb-src") && strings.Contains(fields[1]+fields[2], ":") {
				r.Tell(finding.New(finding.ImportSwitchedOff, "",
					"a source is commented out here, and was not imported: %s",
					finding.Harmless(strings.Join(fields, " "))), number)
			}
			continue
		}
		if text = strings.TrimSpace(uncommented(text)); text != "" {
			r.oneLine(text, number)
		}
	}
}

// uncommented cuts a line off at the first # that is in no bracket.
func uncommented(line string) string {
	inside := false
	for i, c := range line {
		switch {
		case c == '[':
			inside = true
		case c == ']':
			inside = false
		case c == '#' && !inside:
			return line[:i]
		}
	}
	return line
}

func (r *configuration) oneLine(text string, number int) {
	e := configuredEntry{line: number, options: map[string]int{}}
	e.source.Place = r.Place(number)
	kind, rest := text, ""
	if i := strings.IndexAny(text, " \t"); i >= 0 {
		kind, rest = text[:i], text[i:]
	}
	rest = strings.TrimSpace(rest)
	if strings.HasPrefix(rest, "[") {
		inside, after, closed := strings.Cut(rest[1:], "]")
		if !closed {
			r.Tell(finding.New(finding.DefineSyntax, "", "the bracket of the options is not "+
				"closed"),
				number)
			return
		}
		for _, option := range strings.Fields(inside) {
			name, value, _ := strings.Cut(option, "=")
			r.option(&e, strings.TrimRight(name, "+-"), strings.ReplaceAll(value, ",", " "), number, name)
		}
		rest = strings.TrimSpace(after)
	}
	fields := strings.Fields(rest)
	if kind != "deb" && kind != "deb-src" {
		r.Tell(finding.New(finding.DefineSyntax, "", "a line must begin with deb or deb-src, "+
			"not %q",
			kind), number)
		return
	}
	if len(fields) < 2 {
		r.Tell(finding.New(finding.DefineSyntax, "", "a line needs a URI and a suite"),
			number)
		return
	}
	e.types, e.uris, e.suites, e.source.Components = []string{kind}, fields[:1], fields[1:2], fields[2:]
	r.take(e)
}

// stanzas reads the form of stanzas (deb822(5)): fields, with further lines behind a
// blank; lines that begin with # are comments.
func (r *configuration) stanzas(data []byte) {
	var e *configuredEntry
	field, value, at, number := "", "", 0, 0
	end := func() {
		if field != "" {
			r.field(e, field, strings.TrimSpace(value), at)
		}
		field, value = "", ""
	}
	done := func() {
		if end(); e != nil {
			r.take(*e)
		}
		e = nil
	}
	for line := range bytes.Lines(data) {
		number++
		text := strings.TrimRight(string(line), "\r\n")
		switch {
		case strings.HasPrefix(text, "#"):
		case strings.TrimSpace(text) == "":
			done()
		case text[0] == ' ' || text[0] == '\t':
			if further := strings.TrimSpace(text); further != "." {
				value += "\n" + further
			} else {
				value += "\n" // an empty line
			}
		default:
			end()
			name, rest, ok := strings.Cut(text, ":")
			if !ok {
				r.Tell(finding.New(finding.DefineSyntax, "", "the name of a field needs a colon"), number)
				continue
			}
			if e == nil {
				e = &configuredEntry{line: number, options: map[string]int{}}
				e.source.Place = r.Place(number)
			}
			field, value, at = strings.TrimSpace(name), rest, number
		}
	}
	done()
}

// field reads one of a stanza.
func (r *configuration) field(e *configuredEntry, name, value string, line int) {
	words := strings.Fields(value)
	switch strings.ToLower(name) {
	case "types":
		e.types = words
	case "uris":
		e.uris = words
	case "suites":
		e.suites = words
	case "components":
		e.source.Components = words
	case "enabled":
		e.source.Disabled = isOff(value)
	case "x-repolib-name", "description":
	default:
		options := map[string]string{"architectures": "arch", "languages": "lang", "targets": "target"}
		option := strings.ToLower(name)
		if short, ok := options[option]; ok {
			option = short
		}
		if strings.Contains(value, "-----BEGIN PGP") {
			r.option(e, option, value, line, name)
			return
		}
		r.option(e, option, strings.Join(words, " "), line, name)
	}
}

// isOff tells the words for no that the client takes (apt.conf(5)).
func isOff(value string) bool {
	return slices.Contains([]string{"no", "false", "without", "off", "disable", "0"}, strings.ToLower(value))
}

// isOn tells the words for yes.
func isOn(value string) bool {
	return slices.Contains([]string{"yes", "true", "with", "on", "enable", "1"}, strings.ToLower(value))
}

// option reads one that both forms have. said is its name as it stands there.
func (r *configuration) option(e *configuredEntry, name, value string, line int, said string) {
	s := &e.source
	add := func(f finding.Finding) { s.Findings = append(s.Findings, f.At(r.Place(line))) }
	switch name {
	case "arch":
		s.Architectures = strings.Fields(value)
		if strings.HasSuffix(said, "+") || strings.HasSuffix(said, "-") {
			s.Architectures = nil
			add(finding.New(finding.ImportToDecide, "",
				"%s=%s changes the machine's architectures, which are unknown here", said,
				value).Do("set architectures at the source"))
		}
	case "lang":
		s.Languages = strings.Fields(value) // "none": no translations
	case "signed-by":
		r.signedBy(e, value, line)
	case "trusted", "allow-insecure":
		if isOn(value) {
			s.Unchecked, s.Switch = r.Place(line), said+"="+value
		}
	case "allow-weak", "allow-downgrade-to-insecure":
		if !isOff(value) {
			add(finding.New(finding.ImportLost, "",
				"%s was not imported: Stockade always rejects weak digests and metadata that "+
					"lost its signature", said).Rated(finding.Warning))
		}
	case "check-valid-until", "valid-until-min", "valid-until-max", "check-date", "date-max-future":
		add(finding.New(finding.ImportLost, "",
			"%s was not imported: Stockade always reports release metadata that has expired",
			said).Do("set max_age to the age that release metadata may have"))
	case "target":
		usual := []string{"Packages", "Translations", "Sources"}
		other := func(v string) bool { return !slices.Contains(usual, v) }
		if slices.ContainsFunc(strings.Fields(value), other) {
			add(finding.New(finding.ImportLost, "", "%s has no equivalent and was left out", said))
		}
	case "pdiffs", "by-hash", "inrelease-path", "snapshot":
		add(finding.New(finding.ImportLost, "", "%s has no equivalent and was left out", said))
	default:
		add(finding.New(finding.ImportLost, "", "the option %q is unknown and was left out",
			said).
			Rated(finding.Warning))
	}
}

// signedBy reads a keyring: paths, fingerprints, or a certificate as it is.
func (r *configuration) signedBy(e *configuredEntry, value string, line int) {
	key := archive.ConfiguredKey{Place: r.Place(line)}
	if strings.Contains(value, "-----BEGIN PGP") {
		key.Data = []byte(value + "\n")
		e.source.KeyFiles = append(e.source.KeyFiles, key)
		return
	}
	for _, word := range strings.Fields(strings.ReplaceAll(value, ",", " ")) {
		if strings.HasPrefix(word, "/") {
			key.Path = word
			e.source.KeyFiles = append(e.source.KeyFiles, key)
			continue
		}
		e.source.Findings = append(e.source.Findings, finding.New(finding.ImportToDecide, "",
			"signed-by has the fingerprint %s, but not the file of its certificate", finding.Harmless(word)).
			At(r.Place(line)).Do("import the certificate (stockade key add FILE), and list it "+
			"under signed_by"))
	}
}

// take makes sources of what was read: one for each suite, whose URIs carry it alike.
func (r *configuration) take(e configuredEntry) {
	if len(e.types) == 0 || len(e.uris) == 0 || len(e.suites) == 0 {
		r.Tell(finding.New(finding.DefineSyntax, "", "a stanza needs Types, URIs and Suites"), e.line)
		return
	}
	if slices.Contains(e.types, "deb-src") {
		f := finding.New(finding.ImportLost, "", "sources of source packages (deb-src) were "+
			"left out")
		if !slices.Contains(e.types, "deb") {
			r.Tell(f, e.line)
			return
		}
		e.source.Findings = append(e.source.Findings, f.At(r.Place(e.line)))
	}
	for _, suite := range e.suites {
		if r.Full() { // before so many addresses are read again
			r.Take(e.source)
			return
		}
		s := e.source
		s.Family, s.Release = "deb", suite
		s.Findings = slices.Clone(e.source.Findings)
		s.Components = slices.Clone(e.source.Components)
		for _, uri := range e.uris {
			r.address(&s, uri, e.line)
		}
		if strings.Contains(suite+strings.Join(e.uris, ""), "$(ARCH)") {
			s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
				"$(ARCH) is the machine's architecture").At(r.Place(e.line)).
				Do("write the architecture itself, or $arch in a URL if there is only one"))
		}
		if len(s.URLs)+len(s.Lists) > 1 {
			s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
				"its %d URIs become upstreams of one source, in this order", len(s.URLs)+len(s.Lists)).
				At(r.Place(e.line)).Do("define a separate source for those that have other "+
				"packages").
				Rated(finding.Note))
		}
		if len(s.URLs)+len(s.Lists) > 0 {
			r.Take(s)
		}
	}
}

// address takes one URI over.
func (r *configuration) address(s *archive.ConfiguredSource, uri string, line int) {
	scheme, rest, _ := strings.Cut(uri, ":")
	switch scheme {
	case "http", "https":
		s.URLs = append(s.URLs, uri)
	case "mirror+http", "mirror+https":
		s.Lists = append(s.Lists, strings.TrimPrefix(uri, "mirror+"))
	case "mirror":
		s.Lists = append(s.Lists, "http:"+rest)
	default:
		r.Tell(finding.New(finding.ImportLost, "",
			"%s was left out: only http and https are supported",
			finding.Harmless(uri)), line)
	}
}
