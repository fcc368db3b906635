package rpm

import (
	"bytes"
	"cmp"
	"maps"
	"net/url"
	"path"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

var _ archive.Reading = Family{}

// Configuration implements archive.Reading (dnf.conf(5), dnf.modularity(7); zypper(8)):
// repository files, what the clients' own files say for all of them, what variables stand
// for, and what else decides which packages a machine sees.
func (Family) Configuration() []string {
	return []string{"etc/dnf/dnf.conf", "etc/zypp/zypp.conf", "etc/yum.repos.d/*.repo",
		"etc/zypp/repos.d/*.repo", "etc/dnf/vars/*", "etc/yum/vars/*", "etc/zypp/vars.d/*", "etc/os-release",
		"etc/dnf/modules.d/*.module", "etc/zypp/services.d/*.service", "etc/zypp/locks"}
}

// Keyrings implements archive.Reading. The keys of rpm's own keyring count for packages
// of every repository; they lie in its database, which is not read.
func (Family) Keyrings() []string { return nil }

// KeyFolders implements archive.Reading.
func (Family) KeyFolders() []string { return []string{"etc/pki/rpm-gpg/*"} }

// MachineArchitecture implements archive.Reading.
func (Family) MachineArchitecture(goarch string) string {
	return cmp.Or(map[string]string{"amd64": "x86_64", "386": "i686", "arm64": "aarch64"}[goarch], goarch)
}

// ReadConfiguration implements archive.Reading.
func (Family) ReadConfiguration(files []archive.MachineFile) archive.Configured {
	r := &configuration{vars: map[string]string{}, mains: map[string]*repository{},
		seen: map[string]finding.Place{}}
	r.Marks = "dnf skips it, and other programs may not"
	for _, f := range files {
		if dir, base := path.Split(f.Path); base == "os-release" && r.Begin(&f) {
			r.release(f.Data)
		} else if folder := path.Base(dir); (folder == "vars" || folder == "vars.d") && r.Begin(&f) {
			r.vars[base] = strings.TrimSpace(string(f.Data))
		}
	}
	for _, f := range files {
		r.file(f)
	}
	r.ranked()
	return r.Done()
}

// file reads one that is no variable.
func (r *configuration) file(f archive.MachineFile) {
	_, base := path.Split(f.Path)
	switch path.Ext(base) {
	case ".repo", ".conf":
		if !r.Begin(&f) {
			return
		}
		client := clientOf(f.Path) // whose own file is read before its repositories
		if r.mains[client] == nil {
			r.mains[client] = &repository{}
		}
		r.main = r.mains[client]
		r.repositories(f.Data)
	case ".module":
		if r.Begin(&f) {
			r.module(f.Data)
		}
	case ".service":
		if r.Begin(&f) {
			r.service(f.Data)
		}
	default:
		if base == "locks" && r.Begin(&f) {
			r.locks(f.Data)
		}
	}
}

// clientOf tells whose file one is: the two clients have a main section each.
func clientOf(file string) string {
	if strings.Contains("/"+file, "/zypp/") {
		return "zypper"
	}
	return "dnf"
}

// configuration reads the files of one machine.
type configuration struct {
	archive.MachineReader
	vars         map[string]string
	mains        map[string]*repository   // what the main section says for all, by client
	main         *repository              // that of the file which is read
	saysPriority bool                     // a repository says one
	seen         map[string]finding.Place // where each repository stands, by client and name
}

// release reads which release the machine runs (os-release(5)).
func (r *configuration) release(data []byte) {
	for line := range bytes.Lines(data) {
		if v, ok := strings.CutPrefix(strings.TrimSpace(string(line)), "VERSION_ID="); ok &&
			r.vars["releasever"] == "" {
			r.vars["releasever"] = strings.Trim(v, `"'`)
			r.vars["releasever_major"], r.vars["releasever_minor"], _ = strings.Cut(r.vars["releasever"], ".")
		}
	}
}

// repository is one section of a file.
type repository struct {
	archive.ConfiguredSource
	packages, root said // gpgcheck and repo_gpgcheck
	named          bool // it has a name=
}

// said is what a section, or the client's own file for all of them, says of a switch; without
// a place: nothing, and what holds then is the client's.
type said struct {
	on    bool
	place finding.Place
	words string // as it stands there
}

func (s said) nothing() bool { return s.place.File == "" }

// repositories reads a file of sections: [ID], names and values, with further values
// behind a blank.
func (r *configuration) repositories(data []byte) {
	var now *repository
	name, value, at, number := "", "", 0, 0
	end := func() {
		if name != "" && now != nil && now == r.main {
			r.mainValue(name, strings.TrimSpace(value), at)
		} else if name != "" && now != nil {
			r.value(now, name, strings.TrimSpace(value), at)
		}
		name, value = "", ""
	}
	done := func() {
		if end(); now != nil && now != r.main {
			r.take(now)
		}
		now = nil
	}
	for raw := range bytes.Lines(data) {
		number++
		line := strings.TrimRight(string(raw), "\r\n")
		text := strings.TrimSpace(line)
		switch {
		case text == "" || text[0] == '#' || text[0] == ';':
		case line[0] == ' ' || line[0] == '\t':
			value += "\n" + text
		case text[0] == '[':
			done()
			id, closed := strings.CutSuffix(text[1:], "]")
			if !closed || id == "" {
				r.Tell(finding.New(finding.DefineSyntax, "", "the name of a section must be in "+
					"brackets"), number)
				continue
			}
			if id == "main" {
				now = r.main
				continue
			}
			now = &repository{packages: r.main.packages, root: r.main.root}
			now.Reach = r.main.Reach
			now.Family, now.Title, now.Place = "rpm", id, r.Place(number)
		default:
			end()
			k, v, ok := strings.Cut(text, "=")
			if !ok {
				r.Tell(finding.New(finding.DefineSyntax, "",
					"a line must be NAME=VALUE or a section in brackets"),
					number)
				continue
			}
			if now == nil {
				r.Tell(finding.New(finding.DefineSyntax, "", "a value comes before the first "+
					"section").
					Do("move it below the section that it belongs to"), number)
				continue
			}
			name, value, at = strings.TrimSpace(k), v, number
		}
	}
	done()
}

// isOn reads a switch as the client does.
func isOn(value string) bool {
	return slices.Contains([]string{"1", "yes", "true", "on"}, strings.ToLower(value))
}

// value reads one of a section.
func (r *configuration) value(s *repository, name, value string, line int) {
	add := func(f finding.Finding) { s.Findings = append(s.Findings, f.At(r.Place(line))) }
	words := strings.Fields(strings.ReplaceAll(value, ",", " "))
	switch strings.ToLower(name) {
	case "baseurl":
		for _, w := range words {
			r.address(s, &s.URLs, w, line)
		}
	case "mirrorlist":
		r.address(s, &s.Lists, value, line)
	case "metalink":
		r.address(s, &s.Metalinks, value, line)
	case "enabled":
		s.Disabled = !isOn(value)
	case "gpgcheck", "pkg_gpgcheck":
		s.packages = said{isOn(value), r.Place(line), name + "=" + finding.Harmless(value)}
	case "repo_gpgcheck":
		s.root = said{isOn(value), r.Place(line), name + "=" + finding.Harmless(value)}
	case "gpgkey":
		for _, w := range words {
			r.key(s, w, line)
		}
	case "priority":
		if n, err := strconv.Atoi(value); err == nil && n >= 1 && n <= 99 {
			s.Priority, r.saysPriority = n, true
		} else {
			add(finding.New(finding.ImportToDecide, "", "the priority %q is not between 1 and "+
				"99",
				value))
		}
	case "exclude", "excludepkgs", "includepkgs":
		add(finding.New(finding.ImportToDecide, "", "%s excludes packages on the machine: %s", name,
			finding.Harmless(strings.Join(words, " "))).Do("set it as want and except at the " +
			"mirror"))
	case "cost", "module_hotfixes":
		add(finding.New(finding.ImportToDecide, "", "%s was not imported", name))
	case "sslverify":
		if !isOn(value) {
			add(finding.New(finding.ImportToDecide, "",
				"the machine does not verify the certificates of its servers (sslverify=%s)",
				finding.Harmless(value)).Do("name the authority that " +
				"issues them, under authority"))
		}
	case "username", "password", "proxy", "proxy_username", "proxy_password", "sslcacert", "sslclientcert",
		"sslclientkey":
		r.reach(&s.Reach, strings.ToLower(name), value, line)
	case "name":
		s.named = true
	case "type", "autorefresh", "keeppackages", "metadata_expire", "skip_if_unavailable", "service",
		"path",
		"countme", "retries", "timeout", "fastestmirror", "max_parallel_downloads", "enabled_metadata",
		"deltarpm",
		"gpgcakey", "failovermethod", "mirrorlist_expire":
		// how the machine's own client asks is no matter of a source
	default:
		add(finding.New(finding.ImportLost, "", "%q is unknown and was left out", name).
			Rated(finding.Warning))
	}
}

// mainValue reads one of the main section: what holds for every repository that does not
// say it itself. Only what is about where packages come from is.
func (r *configuration) mainValue(name, value string, line int) {
	switch strings.ToLower(name) {
	case "gpgcheck", "pkg_gpgcheck", "repo_gpgcheck", "sslverify", "username", "password", "proxy",
		"proxy_username", "proxy_password", "sslcacert", "sslclientcert", "sslclientkey", "excludepkgs",
		"exclude", "includepkgs":
		before := len(r.main.Findings)
		r.value(r.main, name, value, line)
		r.Read.Findings = append(r.Read.Findings, r.main.Findings[before:]...)
	}
}

// reach reads how servers are reached. Of a password only that there is one is noticed.
func (r *configuration) reach(to *archive.ConfiguredReach, name, value string, line int) {
	to.Place = r.Place(line)
	switch name {
	case "username":
		to.User, to.UserPlace = value, r.Place(line)
	case "proxy":
		to.Proxy = value
		if value == "_none_" || value == "" {
			to.Proxy, to.ProxyUser = "", ""
		}
	case "proxy_username":
		to.ProxyUser = value
	case "sslcacert":
		to.Authority = value
	case "sslclientcert":
		to.Certificate = value
	}
}

// ranked gives repositories without a priority the one that the clients give them, where
// others say one: the order is theirs.
func (r *configuration) ranked() {
	const asked = 99 // dnf.conf(5), zypper(8)
	for i := range r.Read.Sources {
		if s := &r.Read.Sources[i]; r.saysPriority && s.Priority == 0 {
			s.Priority = asked
		}
	}
}

// each calls f for each NAME=VALUE of a file of sections, with the section that it is in.
func (r *configuration) each(data []byte, f func(section, name, value string, line int)) {
	section, number := "", 0
	for line := range bytes.Lines(data) {
		number++
		text := strings.TrimSpace(string(line))
		if id, ok := strings.CutPrefix(text, "["); ok {
			section = strings.TrimSuffix(id, "]")
			continue
		}
		if name, value, ok := strings.Cut(text, "="); ok && text[0] != '#' && text[0] != ';' {
			f(section, strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(value), number)
		}
	}
}

// module tells which module streams are on, or off, on the machine (dnf's modules.d).
func (r *configuration) module(data []byte) {
	streams, lines := map[string]string{}, map[string]int{}
	states := map[string]string{}
	r.each(data, func(section, name, value string, line int) {
		switch name {
		case "stream":
			streams[section], lines[section] = value, line
		case "state":
			states[section] = value
			lines[section] = cmp.Or(lines[section], line)
		}
	})
	for _, m := range slices.Sorted(maps.Keys(lines)) {
		switch states[m] {
		case "enabled":
			r.Tell(finding.New(finding.ImportToDecide, "", "the machine has enabled the module "+
				"stream %s:%s",
				finding.Harmless(m), finding.Harmless(streams[m])).
				Do("set streams: [%q] at the want of the source that has it", m+":"+streams[m]), lines[m])
		case "disabled":
			r.Tell(finding.New(finding.ImportToDecide, "", "the machine has disabled the "+
				"module %s",
				finding.Harmless(m)).
				Do("do not list its streams in the want"), lines[m])
		}
	}
}

// service tells of what brings repositories by itself (zypper's services.d).
func (r *configuration) service(data []byte) {
	urls, lines, off := map[string]string{}, map[string]int{}, map[string]bool{}
	r.each(data, func(section, name, value string, line int) {
		switch name {
		case "url":
			urls[section], lines[section] = value, line
		case "enabled":
			off[section] = !isOn(value)
		}
	})
	for _, s := range slices.Sorted(maps.Keys(urls)) {
		if !off[s] {
			shown := urls[s]
			if u, err := url.Parse(shown); err == nil {
				u.User = nil
				shown = u.String()
			}
			r.Tell(finding.New(finding.ImportToDecide, "",
				"the service %s adds repositories from %s by itself. Stockade read the ones "+
					"that it has written so far", finding.Harmless(s), finding.Harmless(shown)).
				Do("define the sources that it may add later"), lines[s])
		}
	}
}

// locks tells which packages are kept as they are (zypper's locks): stanzas of names.
func (r *configuration) locks(data []byte) {
	number := 0
	for line := range bytes.Lines(data) {
		number++
		name, value, ok := strings.Cut(string(line), ":")
		if value = strings.TrimSpace(value); ok && strings.TrimSpace(name) == "solvable_name" && value != "" {
			r.Tell(finding.New(finding.ImportToDecide, "", "a lock keeps %s unchanged on the "+
				"machine",
				finding.Harmless(value)).
				Do("set pins with its version at the group, or except if the machine should "+
					"not have it"),
				number)
		}
	}
}

// address takes one over, with what variables stand for in the words of the language.
func (r *configuration) address(s *repository, to *[]string, raw string, line int) {
	scheme, _, _ := strings.Cut(raw, "://")
	if scheme != "http" && scheme != "https" {
		r.Tell(finding.New(finding.ImportLost, "",
			"%s was left out: only http and https are supported",
			finding.Harmless(raw)), line)
		return
	}
	if at := r.expanded(s, raw, line); !slices.Contains(*to, at) {
		*to = append(*to, at)
	} else {
		s.Findings = append(s.Findings, finding.New(finding.ImportLost, "",
			"%s is listed twice",
			finding.Harmless(at)).At(r.Place(line)))
	}
}

// expanded writes an address with the variables of the language: $release and $arch; others
// are written out.
func (r *configuration) expanded(s *repository, raw string, line int) string {
	var b strings.Builder
	for rest := raw; rest != ""; {
		before, after, ok := strings.Cut(rest, "$")
		b.WriteString(before)
		if !ok {
			break
		}
		name, tail := variable(after)
		rest = tail
		glued := tail != "" && (tail[0] == '_' || tail[0] >= 'a' && tail[0] <= 'z' || tail[0] >= '0' &&
			tail[0] <= '9')
		switch value, known := r.vars[name], r.vars[name] != ""; {
		case (name == "basearch" || name == "arch") && !glued:
			b.WriteString("$arch")
		case name == "releasever" && !glued:
			b.WriteString("$release")
			if s.Release = value; !known {
				s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
					"$releasever is the machine's release, which is unknown here").At(r.Place(line)).
					Do("set release at the source"))
			}
		case known:
			b.WriteString(value)
		default:
			b.WriteString("$" + name)
			s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
				"the variable $%s has no value here", finding.Harmless(name)).
				At(r.Place(line)).Do("write its value instead"))
		}
	}
	return b.String()
}

// variable reads the name of one, in braces or without, and what is behind it.
func variable(text string) (name, rest string) {
	if inside, after, ok := strings.Cut(text, "}"); ok && strings.HasPrefix(inside, "{") {
		return inside[1:], after
	}
	n := 0
	for n < len(text) && (text[n] == '_' || text[n] >= 'a' && text[n] <= 'z' || text[n] >= 'A' &&
		text[n] <= 'Z' || text[n] >= '0' && text[n] <= '9') {
		n++
	}
	return text[:n], text[n:]
}

// key takes a key of a repository over: a file of the machine, or where to get it.
func (r *configuration) key(s *repository, raw string, line int) {
	if u, err := url.Parse(raw); err == nil && u.Scheme == "file" {
		s.KeyFiles = append(s.KeyFiles, archive.ConfiguredKey{Place: r.Place(line), Path: u.Path})
		return
	}
	if strings.HasPrefix(raw, "/") {
		s.KeyFiles = append(s.KeyFiles, archive.ConfiguredKey{Place: r.Place(line), Path: raw})
		return
	}
	s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
		"the machine downloads its key from %s", finding.Harmless(raw)).At(r.Place(line)).
		Do("get the key by a channel that you trust, compare its fingerprint with the owner, "+
			"and import it: stockade key add FILE"))
}

// take ends a section.
func (r *configuration) take(s *repository) {
	if len(s.URLs)+len(s.Lists)+len(s.Metalinks) == 0 {
		r.Tell(finding.New(finding.DefineSyntax, "",
			"the repository %s has no usable baseurl, mirrorlist or metalink", finding.Harmless(s.Title)),
			s.Place.Line)
		return
	}
	client := clientOf(r.File)
	if first, twice := r.seen[client+" "+s.Title]; twice {
		s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
			"the section [%s] is also at %s. The machine merges them, and which values win is "+
				"unknown here",
			finding.Harmless(s.Title), first).At(s.Place).Do("remove one of the two sources"))
	} else {
		r.seen[client+" "+s.Title] = s.Place
	}
	if len(s.Lists) > 0 && len(s.Metalinks) > 0 {
		s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "",
			"the repository has a mirrorlist and a metalink; the client uses only one of them").At(s.Place).
			Do("keep the upstream that the machine uses"))
	}
	note := func(way, format string, args ...any) {
		s.Findings = append(s.Findings, finding.New(finding.ImportToDecide, "", format, args...).At(s.Place).
			Rated(finding.Note).Do("%s", way))
	}
	if !s.named {
		note("none needed", "it has no name=, so clients call it %s", finding.Harmless(s.Title))
	}
	const way = "check whether the upstream has repomd.xml.asc. Stockade rejects unsigned metadata"
	switch {
	case !s.packages.nothing() && !s.packages.on && !s.root.on: // neither root nor packages
		s.Unchecked, s.Switch = s.packages.place, s.packages.words
	case !s.packages.nothing() && !s.packages.on:
		note(way, "the machine verifies the signature of the metadata, but not those of "+
			"packages (%s)",
			s.packages.words)
	case s.packages.nothing():
		note(way, "it is unknown whether the machine verifies signatures on packages (gpgcheck "+
			"is not set)")
	}
	switch {
	case s.root.nothing():
		note(way, "it is unknown whether the machine verifies the signature of the metadata "+
			"(repo_gpgcheck is not set)")
	case !s.root.on:
		note(way, "the machine does not verify the signature of the metadata (%s)", s.root.words)
	}
	r.Take(s.ConfiguredSource)
}
