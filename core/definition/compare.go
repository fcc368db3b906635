package definition

import (
	"bytes"
	"encoding/json"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

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
	// Of a list: what went out of it and what came in, as people read it.
	Gone []string `json:"gone,omitempty"`
	Came []string `json:"came,omitempty"`
	// Order is a list as it is now, where nothing but its order changed.
	Order []string `json:"order,omitempty"`
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
			f := Field{Path: p, Old: a[p], New: b[p]}
			f.items()
			out = append(out, f)
		}
	}
	return out
}

// items says of a list that changed what went and what came.
func (f *Field) items() {
	var old, now []any
	listed := func(text string, into *[]any) bool {
		return text == "" || json.Unmarshal([]byte(text), into) == nil
	}
	if !listed(f.Old, &old) || !listed(f.New, &now) {
		return
	}
	left := map[string]int{}
	for _, v := range now {
		left[said(v)]++
	}
	for _, v := range old {
		if text := said(v); left[text] > 0 {
			left[text]--
		} else {
			f.Gone = append(f.Gone, text)
		}
	}
	for _, v := range slices.Backward(now) {
		if text := said(v); left[text] > 0 {
			left[text]--
			f.Came = append(f.Came, text)
		}
	}
	slices.Reverse(f.Came)
	if len(f.Gone)+len(f.Came) == 0 {
		for _, v := range now {
			f.Order = append(f.Order, said(v))
		}
	}
}

// said gives a value as people read it: what names a thing first, then what else it has.
func said(v any) string {
	switch v := v.(type) {
	case string:
		return v
	case []any:
		var all []string
		for _, e := range v {
			all = append(all, said(e))
		}
		return strings.Join(all, ", ")
	case map[string]any:
		var all []string
		for _, k := range slices.Sorted(maps.Keys(v)) {
			text := said(v[k])
			switch {
			case k == "source" || k == "url":
				all = slices.Insert(all, 0, text)
			case v[k] == true:
				all = append(all, k)
			case text != "":
				all = append(all, k+" "+text)
			}
		}
		return strings.Join(all, "; ")
	}
	text, _ := json.Marshal(v)
	return string(text)
}

func flatten(into map[string]string, path string, raw []byte) {
	if len(raw) == 0 {
		return
	}
	var v any
	if json.Unmarshal(renewed(raw), &v) != nil {
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
	s.speak(&n)
	return encoded(&n)
}

// plainStyle takes the JSON look off, and writes wants as the language has them.
func plainStyle(n *yaml.Node, key string) {
	if n.Kind == yaml.ScalarNode && n.Style == yaml.DoubleQuotedStyle {
		n.Style = 0
	}
	if n.Kind == yaml.MappingNode || n.Kind == yaml.SequenceNode {
		n.Style = 0
	}
	if key == "from" && n.Kind == yaml.SequenceNode {
		for i, c := range n.Content {
			if want := valueOf(c, "want"); want != nil && len(want.Content) == 0 && len(c.Content) == 4 {
				n.Content[i] = valueOf(c, "source")
			}
		}
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
