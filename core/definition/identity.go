package definition

import (
	"maps"
	"net/url"
	"path"
	"slices"
	"strings"

	"stockade/core/finding"
	"stockade/core/trust"
)

// Signers gives the fingerprints of the keys that a source names under signed_by.
func (s *Set) Signers(source string) (out []string) {
	for _, k := range s.Sources[source].SignedBy {
		under := []string{k}
		if key, ok := s.Keys[k]; ok {
			under = key.All()
		}
		for _, text := range under {
			if f, err := trust.ParseFingerprint(text); err == nil {
				out = append(out, f)
			}
		}
	}
	return out
}

// Identities are what a source is known by whatever it is called: where it comes from,
// and the key, release and components that it has. A source that is taken out and
// described again, under this name or another, is the same repository.
func (s *Set) Identities(name string) (out []string) {
	src := s.Sources[name]
	add := func(parts ...string) { out = append(out, strings.Join(parts, "|")) }
	for _, u := range src.Upstreams {
		address, _ := u.Address()
		if expanded, err := src.Expand(name, address); err == nil {
			add("at", src.Family, src.Release, plainAddress(expanded))
		}
	}
	if src.Release != "" && len(src.Components) > 0 {
		components := strings.Join(slices.Sorted(slices.Values(src.Components)), " ")
		for _, f := range s.Signers(name) {
			add("by", src.Family, src.Release, components, f)
		}
	}
	return out
}

// plainAddress writes an address as all spellings of it are written: without its
// scheme, user, default port and closing slash, the host in small letters.
func plainAddress(raw string) string {
	u, err := url.Parse(raw)
	if err != nil {
		return raw
	}
	host := strings.TrimSuffix(strings.ToLower(u.Hostname()), ".")
	if p := u.Port(); p != "" && !(u.Scheme == "http" && p == "80" || u.Scheme == "https" && p == "443") {
		host += ":" + p
	}
	return host + path.Clean("/"+u.Path)
}

// later are the errors that do not keep a description from being recorded: they are
// about decisions that come afterwards, and builds refuse until they are made.
var later = map[finding.Code]bool{
	finding.KeyMissing:    true,
	finding.KeyUnvouched:  true,
	finding.KeyExpired:    true,
	finding.KeyRevoked:    true,
	finding.KeyBarred:     true,
	finding.KeyCannotSign: true,
	finding.KeyWeak:       true,

	finding.CredentialMissing: true,

	finding.KeyAwaitingSecond: true,
	finding.CredentialExpired: true,
	finding.AuthorityExpired:  true,
}

// Proposed rates what is found in a document that is to be recorded: what keeps it
// from that stays an error; what is only still to be decided is told as a warning.
func Proposed(l finding.List) finding.List {
	out := append(finding.List{}, l...)
	for i, f := range out {
		if f.Severity == finding.Error && decidedLater(f) {
			out[i] = f.Rated(finding.Warning)
		}
	}
	out.Sort()
	return out
}

// decidedLater tells whether a finding is about a decision that comes after recording.
func decidedLater(f finding.Finding) bool {
	// That an acknowledgement has ended keeps a source from being used, and nobody from recording.
	if f.Code == finding.SourceUnsigned && f.Cause == ended {
		return true
	}
	// A key that this very document names, with a file that is not there, is no later decision.
	return later[f.Code] && !(f.Code == finding.KeyMissing && strings.HasPrefix(f.Object, "key "))
}

// Blocking gives the findings that keep a description from being recorded.
func Blocking(l finding.List) finding.List {
	return slices.DeleteFunc(slices.Clone(l), func(f finding.Finding) bool {
		return f.Severity != finding.Error || decidedLater(f)
	})
}

// Sources gives the names of the sources that changes add or remove.
func Sources(changes []Change, action string) []string {
	names := map[string]bool{}
	for _, c := range changes {
		if c.Kind == "source" && c.Action == action {
			names[c.Name] = true
		}
	}
	return slices.Sorted(maps.Keys(names))
}
