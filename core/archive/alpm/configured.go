package alpm

import (
	"bytes"
	"cmp"
	"maps"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// maxConfiguration bounds one file of a machine's configuration (bytes), maxConfigured
// the databases that are read of all of them, maxIncluded how deep files include others.
const (
	maxConfiguration = 1 << 20
	maxConfigured    = 1_000
	maxIncluded      = 8
	maxRead          = 16 << 20 // bytes, files as often as they are included
)

var _ archive.Reading = Family{}

// Configuration implements archive.Reading (pacman.conf(5)): the configuration, and the
// files that it includes.
func (Family) Configuration() []string { return []string{"etc/pacman.conf", "etc/pacman.d/*"} }

// Keyrings implements archive.Reading: the client's own keyring counts for every
// database.
func (Family) Keyrings() []string {
	return []string{"etc/pacman.d/gnupg/pubring.gpg", "etc/pacman.d/gnupg/pubring.kbx"}
}

// KeyFolders implements archive.Reading: a database names none.
func (Family) KeyFolders() []string { return nil }

// MachineArchitecture implements archive.Reading.
func (Family) MachineArchitecture(goarch string) string {
	return cmp.Or(map[string]string{"amd64": "x86_64", "386": "i686", "arm64": "aarch64",
		"arm": "armv7h"}[goarch],
		goarch)
}

// ReadConfiguration implements archive.Reading. Databases that have the same servers
// and levels become components of one source.
func (Family) ReadConfiguration(files []archive.MachineFile) archive.Configured {
	r := &configuration{files: map[string]archive.MachineFile{}, seen: map[string]finding.Place{}}
	for _, f := range files {
		r.files["/"+f.Path] = f
	}
	begun := func(f archive.MachineFile) bool { return path.Base(f.Path) == "pacman.conf" }
	whole := slices.ContainsFunc(files, begun)
	for _, f := range files {
		// A configuration that another includes is read by itself where that one is not there.
		if begun(f) || !whole && path.Ext(f.Path) == ".conf" {
			r.read(f, 0)
			r.done()
		}
	}
	r.ranked()
	return r.out
}

// ranked gives sources the order of their databases as priorities: the client takes a package
// from the first that has it (pacman.conf(5), "Repository Sections").
func (r *configuration) ranked() {
	const usual, last = 50, 99
	if len(r.out.Sources) < 2 {
		return
	}
	for i := range r.out.Sources {
		s := &r.out.Sources[i]
		if s.Priority = usual + i; s.Priority > last {
			s.Priority = last
			s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
				"on the machine %s come before it, and priorities end at %d",
				finding.Count(i, "other"), last).At(s.Place).
				Do("set priority at the sources where the order matters"))
		}
	}
}

// configuration reads the files of one machine.
type configuration struct {
	files   map[string]archive.MachineFile
	options archive.ConfiguredSource // what [options] says of all
	level   string                   // SigLevel of all
	now     *archive.ConfiguredSource
	own     string                   // SigLevel of the database that is being read
	seen    map[string]finding.Place // where each database stands
	bytes   int                      // that were read
	told    bool                     // that it is too much
	full    bool                     // of databases
	out     archive.Configured
}

func (r *configuration) read(f archive.MachineFile, depth int) {
	place := func(line int) finding.Place { return finding.Place{File: f.Name, Line: line, Column: 1} }
	tell := func(line int, g finding.Finding) { r.out.Findings = append(r.out.Findings, g.At(place(line))) }
	if f.Unmarked() {
		tell(1, archive.Marked("pacman rejects the first line"))
	}
	if len(f.Data) > maxConfiguration {
		tell(1, finding.New(finding.ContentTooLarge, "", "the file is %d bytes long; the limit "+
			"is %d",
			len(f.Data),
			maxConfiguration))
		return
	}
	if r.bytes += len(f.Data) + 1<<10; r.bytes > maxRead {
		if r.bytes -= len(f.Data) + 1<<10; !r.told {
			tell(1, finding.New(finding.ContentTooLarge, "",
				"files include each other so often that Stockade did not read all of them"))
		}
		r.told = true
		return
	}
	number := 0
	for raw := range bytes.Lines(f.Data) {
		number++
		line := strings.TrimSpace(string(raw))
		if line == "" || line[0] == '#' {
			continue
		}
		if line[0] == '[' {
			r.done()
			name, closed := strings.CutSuffix(line[1:], "]")
			switch {
			case !closed || name == "":
				tell(number, finding.New(finding.DefineSyntax, "", "the name of a section must "+
					"be in brackets"))
			case name != "options":
				r.now, r.own = &archive.ConfiguredSource{Place: place(number)}, r.level
				r.now.Family, r.now.Title, r.now.Components = "alpm", name, []string{name}
				r.now.Architectures = slices.Clone(r.options.Architectures)
				r.now.OwnArchitecture = r.options.OwnArchitecture
				if first, twice := r.seen[name]; twice {
					r.now.Findings = append(r.now.Findings, finding.New(finding.ImportToDecide, "",
						"the section [%s] is also at %s, and the client rejects a second one",
						finding.Harmless(name), first).At(place(number)).Do(
						"remove one of the two"))
				} else {
					r.seen[name] = place(number)
				}
			}
			continue
		}
		name, value, _ := strings.Cut(line, "=")
		name, value = strings.TrimSpace(name), strings.TrimSpace(value)
		if name == "Include" {
			r.include(value, depth, func(g finding.Finding) { tell(number, g) })
			continue
		}
		if r.now == nil && name == "Server" {
			tell(number, finding.New(finding.DefineSyntax, "", "a Server line is outside the "+
				"section of a database").
				Do("move it below the section that it belongs to"))
			continue
		}
		if r.now == nil {
			r.option(name, value, func(g finding.Finding) { tell(number, g) })
			continue
		}
		r.database(name, value, place(number))
	}
}

// include reads the files that another one includes.
func (r *configuration) include(pattern string, depth int, tell func(finding.Finding)) {
	if depth == maxIncluded {
		tell(finding.New(finding.DefineSyntax, "", "files include each other more than %d "+
			"levels deep",
			maxIncluded))
		return
	}
	found := false
	for _, name := range slices.Sorted(maps.Keys(r.files)) {
		if ok, err := path.Match(pattern, name); err == nil && ok {
			r.read(r.files[name], depth+1)
			found = true
		}
	}
	if !found {
		tell(finding.New(finding.ImportToDecide, "",
			"the file includes %s, which is not among the files that were supplied",
			finding.Harmless(pattern)).Do("import the whole root (--root), or list its servers " +
			"directly"))
	}
}

// option reads one of [options].
func (r *configuration) option(name, value string, tell func(finding.Finding)) {
	switch name {
	case "Architecture":
		for _, word := range strings.Fields(value) {
			if word == "auto" { // that of the machine (pacman.conf(5))
				r.options.OwnArchitecture = true
			} else {
				r.options.Architectures = append(r.options.Architectures, word)
			}
		}
	case "SigLevel":
		r.level = value
	case "IgnorePkg", "IgnoreGroup":
		tell(finding.New(finding.ImportToDecide, "", "%s keeps packages unchanged on the "+
			"machine: %s", name,
			finding.Harmless(value)).Do("set pins at the group"))
	}
}

// database reads one of a database.
func (r *configuration) database(name, value string, at finding.Place) {
	s := r.now
	add := func(f finding.Finding) { s.Findings = append(s.Findings, f.At(at)) }
	switch name {
	case "Server":
		base, release, ok := located(value)
		switch {
		case value == "":
			add(finding.New(finding.DefineSyntax, "", "a server needs an address"))
		case slices.Contains(s.URLs, base) && s.Release == release:
			add(finding.New(finding.ImportLost, "", "%s is listed twice", finding.Harmless(value)))
		case !strings.HasPrefix(value, "http://") && !strings.HasPrefix(value, "https://"):
			add(finding.New(finding.ImportLost, "",
				"%s was left out: only http and https are supported",
				finding.Harmless(value)))
		case !ok:
			add(finding.New(finding.ImportToDecide, "",
				"in %s the variables are in places where a source cannot have them",
				finding.Harmless(value)).Do("set upstreams and release so that the address is " +
				"right"))
		case len(s.URLs) > 0 && s.Release != release:
			add(finding.New(finding.ImportToDecide, "",
				"%s has its databases elsewhere than the server before it",
				finding.Harmless(value)).Do("define a separate source for it"))
		default:
			s.URLs, s.Release = append(s.URLs, base), release
		}
	case "SigLevel":
		r.own = value
		if isUnchecked(value) {
			s.Unchecked, s.Switch = at, "SigLevel = "+value
		}
	case "CacheServer":
		add(finding.New(finding.ImportLost, "",
			"the cache %s was left out: it has packages, but no databases", finding.Harmless(value)))
	case "Usage":
	default:
		add(finding.New(finding.ImportLost, "", "%q is unknown and was left out", name).
			Rated(finding.Warning))
	}
}

// located takes a server's address apart: the upstream, and the folder of a database
// below it as a release says it; empty for that which the family has anyway.
func located(server string) (base, release string, ok bool) {
	server = strings.TrimRight(server, "/")
	if before, usual := strings.CutSuffix(server, "/$repo/os/$arch"); usual && !strings.Contains(before,
		"$") {
		return before, "", true
	}
	i := strings.Index(server, "$")
	if i < 0 { // the same folder for whatever it is
		return server, "./", true
	}
	cut := strings.LastIndexByte(server[:i], '/')
	if cut < len("https://") {
		return "", "", false
	}
	folder := strings.NewReplacer("$repo", "$component").Replace(server[cut+1:])
	if rest := strings.NewReplacer("$component", "", "$arch", "").Replace(folder); strings.Contains(rest,
		"$") {
		return "", "", false
	}
	return server[:cut], folder + "/", true
}

// isUnchecked tells whether a level lets packages in without a valid signature: the
// last word about whether they need one, and about whose counts, holds.
func isUnchecked(level string) bool {
	optional, anybody := false, false
	for _, word := range strings.Fields(level) {
		switch strings.TrimPrefix(word, "Package") {
		case "Never", "Optional":
			optional = true
		case "Required":
			optional = false
		case "TrustAll":
			anybody = true
		case "TrustedOnly":
			anybody = false
		}
	}
	return optional || anybody
}

// done ends a database: it is a component of the source before it, where that has the same
// servers, or a source of its own. One that stands elsewhere in the file is asked at another
// turn, so that it is no part of a source further up.
func (r *configuration) done() {
	s := r.now
	if r.now = nil; s == nil {
		return
	}
	if len(s.URLs) == 0 {
		r.out.Findings = append(r.out.Findings, append(s.Findings, finding.New(finding.DefineSyntax, "",
			"the database %s has no usable server",
			finding.Harmless(s.Components[0])).At(s.Place))...)
		if s.Unchecked.File != "" {
			r.out.Findings = append(r.out.Findings, finding.New(finding.SourceUnsigned, "",
				"for the database %s, the machine accepts packages that no one signed (%s)",
				finding.Harmless(s.Components[0]), s.Switch).At(s.Unchecked).Do(
				"remove the setting"))
		}
		return
	}
	if s.Unchecked.File == "" && isUnchecked(r.own) {
		s.Unchecked, s.Switch = s.Place, "SigLevel = "+r.own+" of [options]"
	}
	s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
		"it is unknown whether the databases are signed (SigLevel = %s)", cmp.Or(finding.Harmless(r.own),
			"as the client has it")).At(s.Place).Rated(finding.Note).
		Do("check whether the upstream has .db.sig. Stockade rejects an unsigned database"))
	if n := len(r.out.Sources); n > 0 {
		if o := &r.out.Sources[n-1]; slices.Equal(o.URLs, s.URLs) && o.Release == s.Release &&
			slices.Equal(o.Architectures, s.Architectures) && o.Switch == s.Switch && s.Release != "./" {
			o.Components = append(o.Components, s.Components...)
			o.Findings = append(o.Findings, s.Findings...)
			return
		}
	}
	switch n := len(r.out.Sources); {
	case n < maxConfigured:
		r.out.Sources = append(r.out.Sources, *s)
	case !r.full:
		r.full = true
		r.out.Findings = append(r.out.Findings, finding.New(finding.ContentTooLarge, "",
			"there are more than %d databases. The others were left out", maxConfigured).At(s.Place))
	}
}
