package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Kinds gives the kinds of things that are described, in the order in which
// they depend on each other, in the singular.
var Kinds = []string{"proxy", "key", "source", "package", "mirror", "lane", "group"}

// Change is what becomes of one described thing.
type Change struct {
	Kind   string  `json:"kind"`
	Name   string  `json:"name"`
	Action string  `json:"action"` // add, change or remove
	Fields []Field `json:"fields"`
}

// Field is one value that changes. Texts are as they are, other values as JSON writes
// them; empty: absent.
type Field struct {
	Path string `json:"path"`
	Old  string `json:"old,omitempty"`
	New  string `json:"new,omitempty"`
}

// Records gives every described thing as JSON, by kind and name.
func (s *Set) Records() map[string]map[string]json.RawMessage {
	out := map[string]map[string]json.RawMessage{}
	put := func(kind string, m any) {
		out[kind] = map[string]json.RawMessage{}
		v := reflect.ValueOf(m)
		for _, k := range v.MapKeys() {
			data, err := json.Marshal(v.MapIndex(k).Interface())
			if err != nil {
				panic("definition: plain values do not marshal: " + err.Error())
			}
			out[kind][k.String()] = data
		}
	}
	put("key", s.Keys)
	put("proxy", s.Proxies)
	put("source", s.Sources)
	put("package", s.Packages)
	put("mirror", s.Mirrors)
	put("lane", s.Lanes)
	put("group", s.Groups)
	return out
}

// Put reads one recorded thing into the set.
func (s *Set) Put(kind, name string, body []byte) error {
	switch kind {
	case "key":
		return put(s.Keys, name, body)
	case "proxy":
		return put(s.Proxies, name, body)
	case "source":
		return put(s.Sources, name, body)
	case "package":
		return put(s.Packages, name, body)
	case "mirror":
		return put(s.Mirrors, name, body)
	case "lane":
		return put(s.Lanes, name, body)
	case "group":
		return put(s.Groups, name, body)
	}
	return fmt.Errorf("definition: unknown kind %q", kind)
}

func put[T any](into map[string]T, name string, body []byte) error {
	var v T
	if err := json.Unmarshal(body, &v); err != nil {
		return fmt.Errorf("the record of %s is damaged: %w", name, err)
	}
	into[name] = v
	return nil
}

// Remove takes one thing out of the set.
func (s *Set) Remove(kind, name string) {
	switch kind {
	case "key":
		delete(s.Keys, name)
	case "proxy":
		delete(s.Proxies, name)
	case "source":
		delete(s.Sources, name)
	case "package":
		delete(s.Packages, name)
	case "mirror":
		delete(s.Mirrors, name)
	case "lane":
		delete(s.Lanes, name)
	case "group":
		delete(s.Groups, name)
	}
}

// Names gives the names of all things of a kind, sorted.
func (s *Set) Names(kind string) []string {
	switch kind {
	case "key":
		return slices.Sorted(maps.Keys(s.Keys))
	case "proxy":
		return slices.Sorted(maps.Keys(s.Proxies))
	case "source":
		return slices.Sorted(maps.Keys(s.Sources))
	case "package":
		return slices.Sorted(maps.Keys(s.Packages))
	case "mirror":
		return slices.Sorted(maps.Keys(s.Mirrors))
	case "lane":
		return slices.Sorted(maps.Keys(s.Lanes))
	case "group":
		return slices.Sorted(maps.Keys(s.Groups))
	}
	return nil
}

// Take makes one thing what it is in another set: changed, added, or removed. It
// tells whether either set has it. Packages of house sources are taken by their id.
func (s *Set) Take(from *Set, kind, name string) bool {
	switch kind {
	case "key":
		return take(s.Keys, from.Keys, name)
	case "proxy":
		return take(s.Proxies, from.Proxies, name)
	case "source":
		return take(s.Sources, from.Sources, name)
	case "package":
		return take(s.Packages, from.Packages, name)
	case "mirror":
		return take(s.Mirrors, from.Mirrors, name)
	case "lane":
		return take(s.Lanes, from.Lanes, name)
	case "group":
		return take(s.Groups, from.Groups, name)
	}
	return false
}

func take[T any](to, from map[string]T, name string) bool {
	_, had := to[name]
	v, has := from[name]
	if has {
		to[name] = v
	} else {
		delete(to, name)
	}
	return had || has
}

// Overlay gives a copy of recorded with everything that given describes put
// over it. Places are given's.
func Overlay(recorded, given *Set) *Set {
	out := NewSet()
	for _, s := range []*Set{recorded, given} {
		maps.Copy(out.Keys, s.Keys)
		maps.Copy(out.Proxies, s.Proxies)
		maps.Copy(out.Sources, s.Sources)
		maps.Copy(out.Packages, s.Packages)
		maps.Copy(out.Mirrors, s.Mirrors)
		maps.Copy(out.Lanes, s.Lanes)
		maps.Copy(out.Groups, s.Groups)
	}
	out.Places = given.Places
	return out
}

// Compare gives the changes that lead from one set to another.
func Compare(from, to *Set) []Change {
	var out []Change
	before, after := from.Records(), to.Records()
	for _, kind := range Kinds {
		names := map[string]bool{}
		for n := range before[kind] {
			names[n] = true
		}
		for n := range after[kind] {
			names[n] = true
		}
		for _, n := range slices.Sorted(maps.Keys(names)) {
			old, was := before[kind][n]
			now, is := after[kind][n]
			c := Change{Kind: kind, Name: n}
			switch {
			case was && !is:
				c.Action = "remove"
			case is && !was:
				c.Action = "add"
			case bytes.Equal(old, now):
				continue
			default:
				c.Action = "change"
			}
			c.Fields = CompareFields(old, now)
			if c.Action == "change" && len(c.Fields) == 0 {
				continue
			}
			out = append(out, c)
		}
	}
	return out
}

// CompareFields compares two JSON objects value by value.
func CompareFields(old, now []byte) []Field {
	a, b := map[string]string{}, map[string]string{}
	flatten(a, "", old)
	flatten(b, "", now)
	paths := map[string]bool{}
	for p := range a {
		paths[p] = true
	}
	for p := range b {
		paths[p] = true
	}
	out := []Field{}
	for _, p := range slices.Sorted(maps.Keys(paths)) {
		if a[p] != b[p] {
			out = append(out, Field{Path: p, Old: a[p], New: b[p]})
		}
	}
	return out
}

func flatten(into map[string]string, path string, raw []byte) {
	if len(raw) == 0 {
		return
	}
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return
	}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		if m, ok := v.(map[string]any); ok {
			for k, e := range m {
				walk(strings.TrimPrefix(path+"."+k, "."), e)
			}
			return
		}
		if s, ok := v.(string); ok {
			into[path] = s
			return
		}
		text, _ := json.Marshal(v)
		into[path] = string(text)
	}
	walk(path, v)
}

// YAML writes the set back as a document.
func (s *Set) YAML() (string, error) {
	raw, err := json.Marshal(s.Document)
	if err != nil {
		return "", err
	}
	// JSON is YAML: reading it as nodes keeps the order of fields.
	var n yaml.Node
	if err := yaml.Unmarshal(raw, &n); err != nil {
		return "", err
	}
	plainStyle(&n, "")
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(&n); err != nil {
		return "", err
	}
	return b.String(), nil
}

// plainStyle takes the JSON look off, and writes wants as the language has them.
func plainStyle(n *yaml.Node, key string) {
	if n.Kind == yaml.ScalarNode && n.Style == yaml.DoubleQuotedStyle {
		n.Style = 0
	}
	if n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode {
		n.Style = 0
	}
	if n.Kind == yaml.SequenceNode && !slices.ContainsFunc(n.Content, func(c *yaml.Node) bool {
		return c.Kind != yaml.ScalarNode
	}) {
		n.Style = yaml.FlowStyle
	}
	if key == "want" && n.Kind == yaml.MappingNode {
		for i := 0; i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == "everything" {
				*n = yaml.Node{Kind: yaml.ScalarNode, Value: "everything"}
				return
			}
		}
	}
	for i, c := range n.Content {
		k := ""
		if n.Kind == yaml.MappingNode && i%2 == 1 {
			k = n.Content[i-1].Value
		}
		plainStyle(c, k)
	}
}
