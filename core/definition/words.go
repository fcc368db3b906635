package definition

import (
	"net/url"
	"path"
	"slices"
	"strings"
	"unicode"

	"stockade/core/finding"
)

// Standings: whose source it is.
const (
	Official  = "official"
	Vendor    = "vendor"
	Community = "community"
	House     = "house"
)

// Standings lists them, the nearest to the operating system first.
var Standings = []string{Official, Vendor, Community, House}

// The two ways in which a mirror copies.
const (
	Faithful = "faithful" // byte for byte
	Tailored = "tailored" // chosen packages, indexes written anew
)

// What becomes of a mirror of which not everything can be installed.
const (
	Strict = "strict" // no seal
	Told   = "told"   // sealed, with the findings
)

// Which needs come along. They are the words of the language; selection knows the same.
const (
	Required    = "required"
	Recommended = "recommended"
	Suggested   = "suggested"
)

// What parts of a repository are called that most machines do not want, and releases that
// become another one.
var (
	debugWords   = []string{"debug", "debuginfo", "debugsource", "dbg", "dbgsym"}
	testingWords = []string{"testing", "unstable", "experimental", "proposed", "staging", "preview", "beta",
		"nightly", "candidate"}
	aliasWords = []string{"stable", "oldstable", "oldoldstable", "testing", "unstable", "latest", "current",
		"rolling"}
)

// wordsOf takes names apart: letters, in small ones.
func wordsOf(names ...string) []string {
	return strings.FieldsFunc(strings.ToLower(strings.Join(names, " ")),
		func(r rune) bool { return !unicode.IsLetter(r) })
}

// named tells what a source is called that a person may not have meant: sections with
// debugging symbols or unreleased packages, and a release that moves. Whether it moves, a
// root tells for certain; there, a service tells it.
func (c *checker) named(object, at, name string, src Source, servers []*url.URL) {
	if src.Disabled {
		return
	}
	names := append(slices.Clone(src.Components), name, src.Release)
	for _, u := range servers {
		names = append(names, path.Base(path.Dir(u.Path)), path.Base(u.Path))
	}
	among := func(some []string) string {
		for _, w := range wordsOf(names...) {
			if slices.Contains(some, w) {
				return w
			}
		}
		return ""
	}
	if w := among(debugWords); w != "" {
		c.add(finding.SourceDebugEnabled, object, at, "the name contains %q, so the section "+
			"probably has debugging symbols", w)
	}
	if w := among(testingWords); w != "" {
		c.add(finding.SourceTestingEnabled, object, at,
			"the name contains %q, so the section probably has unreleased packages", w)
	}
	first, _, _ := strings.Cut(strings.ToLower(src.Release), "-")
	if first, _, _ = strings.Cut(first, "/"); c.around.Vouched == nil && slices.Contains(aliasWords, first) {
		c.add(finding.SourceReleaseAlias, object, at+".release",
			"the name of the release, %q, is usual for a release in preparation", src.Release)
	}
}
