package deb

import (
	"bytes"
	"fmt"
	"path"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
)

// What a machine has downloaded of its sources tells which of them a preference is about: a
// Release file says its origin, label, suite and codename, and the line of a source only where it
// lies. Nothing here is verified, and nothing but preferences is judged by it.

// maxReleaseHead bounds the lines that are read of a Release file: its fields come before its sums.
const maxReleaseHead = 64

// releaseFile reads the fields of a Release file of the machine, by the name that apt gave it.
func (r *configuration) releaseFile(name string, data []byte) {
	fields, n := map[string]string{}, 0
	for line := range bytes.Lines(data) {
		key, value, ok := strings.Cut(string(line), ":")
		if key = strings.ToLower(key); slices.Contains([]string{"md5sum", "sha1", "sha256"}, key) {
			break
		}
		if _, twice := fields[key]; ok && !twice {
			fields[key] = strings.TrimSpace(value)
		}
		if n++; n > maxReleaseHead {
			break
		}
	}
	r.releases[name] = fields
}

// saysOf gives what the Release file of a source says, where the machine has it.
func (r *configuration) saysOf(s archive.ConfiguredSource) (map[string]string, bool) {
	for _, raw := range s.URLs {
		_, rest, _ := strings.Cut(raw, "://")
		if _, host, login := strings.Cut(rest, "@"); login {
			rest = host
		}
		at := strings.TrimRight(rest, "/") + "/"
		if flat := strings.HasSuffix(s.Release, "/"); flat {
			at += strings.TrimSuffix(s.Release, "/")
		} else {
			at += "dists/" + s.Release
		}
		for _, file := range []string{"InRelease", "Release"} {
			if says, ok := r.releases[aptFileName(at+"/"+file)]; ok {
				return says, true
			}
		}
	}
	return nil, false
}

// aptFileName gives the name of the file in which apt keeps what lies at an address.
func aptFileName(at string) string {
	var b strings.Builder
	for i := range len(at) {
		switch c := at[i]; {
		case c == '/':
			b.WriteByte('_')
		case strings.IndexByte("\\|{}[]<>\"^~_=!@#$%^&*", c) >= 0 || c <= ' ' || c > '~':
			fmt.Fprintf(&b, "%%%02x", c)
		default:
			b.WriteByte(c)
		}
	}
	return b.String()
}

// fitsRelease reports whether a source is one that "release o=Tarn,n=heron,c=core" is about, by what
// its Release file says. apt compares without regard to case, and takes patterns.
func fitsRelease(what string, s archive.ConfiguredSource, says map[string]string) bool {
	like := func(pattern, value string) bool {
		ok, err := path.Match(strings.ToLower(pattern), strings.ToLower(value))
		return err == nil && ok
	}
	for part := range strings.SplitSeq(what, ",") {
		name, value, named := strings.Cut(strings.TrimSpace(part), "=")
		fits := false
		switch {
		case !named: // a word alone is a suite or a codename
			fits = like(name, says["suite"]) || like(name, says["codename"])
		case name == "c":
			fits = slices.Equal(s.Components, []string{value})
		case name == "b":
			fits = len(s.Architectures) == 0 || slices.Equal(s.Architectures, []string{value})
		default:
			field, known := map[string]string{"a": "suite", "n": "codename", "o": "origin", "l": "label",
				"v": "version"}[name]
			fits = known && like(value, says[field])
		}
		if !fits {
			return false
		}
	}
	return what != ""
}

// byWord tells that a preference is judged by how the line of a source names its release.
func (r *configuration) byWord(p preferred) {
	f := finding.New(finding.ImportToDecide, "",
		"whether the preference for %q applies to a source was determined from the release in "+
			"its line. The suite and codename are only in its Release file", p.pin).
		At(p.place).Rated(finding.Note).
		Do("import the whole root (--root), with %s of a machine that has run apt-get update", lists)
	if !slices.ContainsFunc(r.Read.Findings, func(o finding.Finding) bool {
		return o.Text == f.Text && o.Place == f.Place
	}) {
		r.Read.Findings = append(r.Read.Findings, f)
	}
}
