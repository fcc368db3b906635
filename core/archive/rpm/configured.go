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

// maxConfiguration bounds one file of a machine's configuration (bytes), maxConfigured
// the repositories that are read of all of them.
const (
	maxConfiguration = 1 << 20
	maxConfigured    = 10_000
)

var _ archive.Reading = Family{}

// Configuration implements archive.Reading (dnf.conf(5); zypper(8)): repository files, and
// what their variables stand for.
func (Family) Configuration() []string {
	return []string{"etc/yum.repos.d/*.repo", "etc/zypp/repos.d/*.repo", "etc/dnf/vars/*", "etc/os-release"}
}

// Keyrings implements archive.Reading. The keys of rpm's own keyring count for packages
// of every repository; they lie in its database, which is not read.
func (Family) Keyrings() []string { return nil }

// MachineArchitecture implements archive.Reading.
func (Family) MachineArchitecture(goarch string) string {
	return cmp.Or(map[string]string{"amd64": "x86_64", "386": "i686", "arm64": "aarch64"}[goarch], goarch)
}

// ReadConfiguration implements archive.Reading.
func (Family) ReadConfiguration(files []archive.MachineFile) archive.Configured {
	r := &configuration{vars: map[string]string{}}
	for _, f := range files {
		dir, base := path.Split(f.Path)
		switch {
		case len(f.Data) > maxConfiguration:
			r.file = f.Name
			r.tell(finding.New("content.too-large", "", "it is %d bytes long, and at most %d are read",
				len(f.Data), maxConfiguration), 0)
		case base == "os-release":
			r.release(f.Data)
		case strings.HasSuffix(dir, "vars/"):
			r.vars[base] = strings.TrimSpace(string(f.Data))
		}
	}
	for _, f := range files {
		if path.Ext(f.Path) == ".repo" && len(f.Data) <= maxConfiguration {
			r.file = f.Name
			r.repositories(f.Data)
		}
	}
	if len(r.out.Sources) > maxConfigured {
		r.out.Sources = r.out.Sources[:maxConfigured]
		r.tell(finding.New("content.too-large", "",
			"there are more than %d repositories; the others are left out",
			maxConfigured), 0)
	}
	return r.out
}

// configuration reads the files of one machine.
type configuration struct {
	file string
	vars map[string]string
	out  archive.Configured
}

func (r *configuration) place(line int) finding.Place {
	if line == 0 {
		return finding.Place{File: r.file}
	}
	return finding.Place{File: r.file, Line: line, Column: 1}
}

func (r *configuration) tell(f finding.Finding, line int) {
	r.out.Findings = append(r.out.Findings, f.At(r.place(line)))
}

// release reads which release the machine runs (os-release(5)).
func (r *configuration) release(data []byte) {
	for line := range bytes.Lines(data) {
		if v, ok := strings.CutPrefix(strings.TrimSpace(string(line)), "VERSION_ID="); ok &&
			r.vars["releasever"] == "" {
			r.vars["releasever"] = strings.Trim(v, `"'`)
		}
	}
}

// repository is one section of a file.
type repository struct {
	archive.ConfiguredSource
	packages, root said // gpgcheck and repo_gpgcheck
}

// said is what a section says of a switch; line 0: nothing, and what holds then is the
// client's and stands elsewhere.
type said struct {
	on   bool
	line int
}

// repositories reads a file of sections: [ID], names and values, with further values
// behind a blank.
func (r *configuration) repositories(data []byte) {
	var now *repository
	name, value, at, number := "", "", 0, 0
	end := func() {
		if name != "" && now != nil {
			r.value(now, name, strings.TrimSpace(value), at)
		}
		name, value = "", ""
	}
	done := func() {
		if end(); now != nil {
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
				r.tell(finding.New("define.syntax", "", "a section has its name in brackets"), number)
				continue
			}
			if id == "main" {
				continue // of the client itself
			}
			now = &repository{}
			now.Family, now.Title, now.Place = "rpm", id, r.place(number)
		default:
			end()
			k, v, ok := strings.Cut(text, "=")
			if !ok {
				r.tell(finding.New("define.syntax", "", "a line is NAME=VALUE, or a section in brackets"),
					number)
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
	add := func(f finding.Finding) { s.Findings = append(s.Findings, f.At(r.place(line))) }
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
		s.packages = said{isOn(value), line}
	case "repo_gpgcheck":
		s.root = said{isOn(value), line}
	case "gpgkey":
		for _, w := range words {
			r.key(s, w, line)
		}
	case "priority":
		if n, err := strconv.Atoi(value); err == nil && n >= 1 && n <= 99 {
			s.Priority = n
		} else {
			add(finding.New("import.to-decide", "", "the priority %q is not from 1 to 99",
				finding.Harmless(value)))
		}
	case "exclude", "excludepkgs", "includepkgs":
		add(finding.New("import.to-decide", "", "%s keeps packages out on the machine: %s", name,
			finding.Harmless(strings.Join(words, " "))).Do("write it as want: and except: of the mirror"))
	case "cost", "module_hotfixes", "sslverify", "sslcacert", "sslclientcert", "sslclientkey", "proxy":
		add(finding.New("import.to-decide", "", "%s is not taken over", name))
	case "username", "password", "proxy_username", "proxy_password":
		add(finding.New("source.credential-in-url", "", "%s stands in the file; it was not taken over", name))
	case "name", "type", "autorefresh", "keeppackages", "metadata_expire", "skip_if_unavailable", "service",
		"path",
		"countme", "retries", "timeout", "fastestmirror", "max_parallel_downloads", "enabled_metadata",
		"deltarpm",
		"gpgcakey", "failovermethod", "mirrorlist_expire":
		// how the machine's own client asks is no matter of a source
	default:
		add(finding.New("import.lost", "", "%q is not known, and is left out", finding.Harmless(name)).
			Rated(finding.Warning))
	}
}

// address takes one over, with what variables stand for in the words of the language.
func (r *configuration) address(s *repository, to *[]string, raw string, line int) {
	scheme, _, _ := strings.Cut(raw, "://")
	if scheme != "http" && scheme != "https" {
		r.tell(finding.New("import.lost", "", "%s is left out: upstreams are reached by http and https alone",
			finding.Harmless(raw)), line)
		return
	}
	out := strings.NewReplacer("$basearch", "$arch", "${basearch}", "$arch").Replace(raw)
	if strings.Contains(out, "$releasever") || strings.Contains(out, "${releasever}") {
		out = strings.NewReplacer("$releasever", "$release", "${releasever}", "$release").Replace(out)
		if s.Release = r.vars["releasever"]; s.Release == "" {
			s.Findings = append(s.Findings, finding.New("import.to-decide", "",
				"$releasever stands for the machine's release, which is not known here").At(r.place(line)).
				Do("write release:"))
		}
	}
	names := slices.SortedFunc(maps.Keys(r.vars), func(a, b string) int { // the longer name first
		return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b))
	})
	for _, name := range names {
		if name != "releasever" {
			out = strings.NewReplacer("$"+name, r.vars[name], "${"+name+"}", r.vars[name]).Replace(out)
		}
	}
	*to = append(*to, out)
}

// key takes a key of a repository over: a file of the machine, or where to get it.
func (r *configuration) key(s *repository, raw string, line int) {
	if u, err := url.Parse(raw); err == nil && u.Scheme == "file" {
		s.KeyFiles = append(s.KeyFiles, archive.ConfiguredKey{Place: r.place(line), Path: u.Path})
		return
	}
	if strings.HasPrefix(raw, "/") {
		s.KeyFiles = append(s.KeyFiles, archive.ConfiguredKey{Place: r.place(line), Path: raw})
		return
	}
	s.Findings = append(s.Findings, finding.New("import.to-decide", "",
		"its key is fetched from %s by the machine", finding.Harmless(raw)).At(r.place(line)).
		Do("get it on a road that you trust, compare its fingerprint with its owner, and bring it in: "+
			"stockade key add FILE"))
}

// take ends a section.
func (r *configuration) take(s *repository) {
	if len(s.URLs)+len(s.Lists)+len(s.Metalinks) == 0 {
		r.tell(finding.New("define.syntax", "",
			"the repository %s has no baseurl, mirrorlist or metalink that can be "+
				"used", finding.Harmless(s.Title)), s.Place.Line)
		return
	}
	note := func(way, format string, args ...any) {
		s.Findings = append(s.Findings, finding.New("import.to-decide", "", format, args...).At(s.Place).
			Rated(finding.Note).Do("%s", way))
	}
	const way = "an unsigned root is refused here: look whether upstream has repomd.xml.asc"
	switch {
	case s.packages.line > 0 && !s.packages.on && !s.root.on: // neither root nor packages
		s.Unchecked, s.Switch = r.place(s.packages.line), "gpgcheck=0"
	case s.packages.line > 0 && !s.packages.on:
		note(way, "the machine checks the signature of its root alone, and of packages none (gpgcheck=0)")
	case s.packages.line == 0:
		note(way, "whether the machine checks signatures on packages is not said here (gpgcheck)")
	}
	switch {
	case s.root.line == 0:
		note(way, "whether the machine checks the signature of its root is not said here (repo_gpgcheck)")
	case !s.root.on:
		note(way, "the machine does not check the signature of its root (repo_gpgcheck=0)")
	}
	r.out.Sources = append(r.out.Sources, s.ConfiguredSource)
}
