package definition_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"stockade/core/definition"
)

const standing = `stockade: 1
authorities: {reach: {certificates: x}}
credentials: {login: {kind: login, user: u, hosts: [a.example]}, office-login: {kind: login, user: u, hosts: [p.example]}}
proxies: {office: {url: "http://p.example", credential: office-login, authority: reach}}
keys:
  one: {fingerprint: 1111111111111111111111111111111111111111}
  two: {fingerprint: 2222222222222222222222222222222222222222}
sources:
  both: {family: deb, standing: vendor, upstreams: [{url: "http://a.example"}, {url: "http://b.example"}], release: r, components: [c], architectures: [amd64], signed_by: [one, two], credentials: [login]}
  single: {family: deb, standing: vendor, upstreams: [{url: "http://c.example"}], release: r, components: [c], architectures: [amd64], signed_by: ["1111111111111111111111111111111111111111"], proxy: office}
  unused: {family: deb, standing: vendor, upstreams: [{url: "http://d.example"}], release: r, components: [c], architectures: [amd64], signed_by: [two], authority: reach}
mirrors:
  m1: {copy: faithful, from: [both]}
  m2: {copy: faithful, from: [single, both]}
lanes: {l1: {mirror: m1}, l2: {mirror: m2}}
groups:
  g1: {family: deb, release: r, architectures: [amd64], lane: l1}
  g2: {family: deb, release: r, architectures: [amd64], lane: l2}
`

func stood(t *testing.T, text string) *definition.Set {
	t.Helper()
	set, found := definition.Read(definition.Text{Name: "standing.yaml", Text: text})
	if found.HasErrors() {
		t.Fatal(found)
	}
	return set
}

// told writes what stands on a thing on one line.
func told(d definition.Dependents) string {
	var out []string
	for _, p := range []struct {
		sign  string
		names []string
	}{{"p", d.Proxies}, {"s", d.Sources}, {"a", d.Alone}, {"m", d.Mirrors}, {"l", d.Lanes}, {"g", d.Groups}} {
		if len(p.names) > 0 {
			out = append(out, p.sign+":"+strings.Join(p.names, ","))
		}
	}
	return strings.Join(out, " ")
}

func TestWhatStandsOnEachKindOfThing(t *testing.T) {
	set := stood(t, standing)
	for what, want := range map[string]string{
		"source both":     "m:m1,m2 l:l1,l2 g:g1,g2",
		"source unused":   "",
		"mirror m1":       "l:l1 g:g1",
		"lane l2":         "g:g2",
		"group g1":        "",
		"key one":         "s:both,single a:single m:m1,m2 l:l1,l2 g:g1,g2",
		"key two":         "s:both,unused a:unused m:m1,m2 l:l1,l2 g:g1,g2",
		"proxy office":    "s:single m:m2 l:l2 g:g2",
		"authority reach": "p:office s:single,unused m:m2 l:l2 g:g2",

		"credential login":        "s:both m:m1,m2 l:l1,l2 g:g1,g2",
		"credential office-login": "p:office s:single m:m2 l:l2 g:g2",

		"key 1111 1111 1111 1111 1111  1111 1111 1111 1111 1111": "s:both,single a:single m:m1,m2 " +
			"l:l1,l2 g:g1,g2",
	} {
		kind, name, _ := strings.Cut(what, " ")
		d := set.Dependents(kind, name)
		if got := told(d); got != want || d.None() != (want == "") {
			t.Errorf("%s: %q, and %q was meant (none: %v)", what, got, want, d.None())
		}
	}
}

func TestWhatAChangeTakesAwayIsTold(t *testing.T) {
	from := stood(t, standing)
	for _, c := range []struct {
		name string
		edit func(*definition.Set)
		want []string
	}{
		{"nothing", func(*definition.Set) {}, nil},
		{"something on which nothing stands", func(s *definition.Set) {
			delete(s.Sources, "unused")
			delete(s.Groups, "g1")
		}, nil},
		{"a mirror and its lane", func(s *definition.Set) {
			delete(s.Mirrors, "m1")
			delete(s.Lanes, "l1")
		}, []string{"mirror m1 removed 0 l:l1 g:g1", "lane l1 removed 0 g:g1"}},
		{"a key", func(s *definition.Set) { delete(s.Keys, "one") },
			[]string{"key one removed 0 s:both,single a:single m:m1,m2 l:l1,l2 g:g1,g2"}},
		{"a source out of use", func(s *definition.Set) {
			src := s.Sources["both"]
			src.Disabled = true
			s.Sources["both"] = src
		}, []string{"source both disabled 0 m:m1,m2 l:l1,l2 g:g1,g2"}},
		{"one of two upstreams", func(s *definition.Set) {
			src := s.Sources["both"]
			src.Upstreams = src.Upstreams[1:]
			s.Sources["both"] = src
		}, []string{"upstream http://a.example removed 1 s:both m:m1,m2 l:l1,l2 g:g1,g2"}},
		{"upstreams in another order", func(s *definition.Set) {
			src := s.Sources["both"]
			src.Upstreams = []definition.Upstream{src.Upstreams[1], src.Upstreams[0]}
			s.Sources["both"] = src
		}, nil},
		{"the only upstream", func(s *definition.Set) {
			src := s.Sources["single"]
			src.Upstreams = nil
			s.Sources["single"] = src
		}, []string{"upstream http://c.example removed 0 s:single a:single m:m2 l:l2 g:g2"}},
	} {
		to := stood(t, standing)
		c.edit(to)
		var got []string
		for _, l := range definition.Losses(from, to) {
			got = append(got, fmt.Sprintf("%s %s %s %d %s", l.Kind, l.Name, l.How, l.Left,
				told(l.Dependents)))
		}
		if !slices.Equal(got, c.want) {
			t.Errorf("%s:\n%q\nand meant was\n%q", c.name, got, c.want)
		}
	}
}
