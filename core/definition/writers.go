package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// Crossing is an object that somebody changed while another was changing it: as it was when
// both began, as it is now, and as the other would have it.
type Crossing struct {
	Kind   string `json:"kind"`
	Name   string `json:"name"`
	Base   string `json:"base"`   // as a document; empty: it was not there
	Theirs string `json:"theirs"` // what is recorded now; empty: it was taken away
	Mine   string `json:"mine"`
	// Merged has what either changed; where both changed a field, it is as in Mine.
	Merged string `json:"merged"`
	// Both are the fields that both changed, and not alike: Old is theirs, and New is mine.
	Both []Field `json:"both"`
}

// Crossings compares what documents say with what was recorded when their writer began and
// with what is recorded now. It gives the objects that documents mention and that were
// changed meanwhile, and are not as the documents have them already.
func Crossings(base, now, mine *Set) ([]Crossing, error) {
	out := []Crossing{}
	was, theirs, own := base.Records(), now.Records(), mine.Records()
	for _, kind := range Kinds {
		for _, name := range slices.Sorted(maps.Keys(own[kind])) {
			b, t, m := was[kind][name], theirs[kind][name], own[kind][name]
			if same(b, t) || same(t, m) {
				continue
			}
			c := Crossing{Kind: kind, Name: name, Both: []Field{}}
			merged, err := merge(b, t, m)
			if err != nil {
				return nil, err
			}
			if len(b) > 0 && len(t) > 0 {
				c.Both = both(b, t, m)
			} else {
				c.Both = CompareFields(t, m)
			}
			for _, side := range []struct {
				text *string
				body json.RawMessage
				by   *Set
			}{{&c.Base, b, base}, {&c.Theirs, t, now}, {&c.Mine, m, mine}, {&c.Merged, merged, mine}} {
				if *side.text, err = textOf(kind, name, side.body, side.by); err != nil {
					return nil, err
				}
			}
			out = append(out, c)
		}
	}
	return out, nil
}

// same tells whether two records say the same.
func same(a, b json.RawMessage) bool {
	return len(a) > 0 == (len(b) > 0) && len(CompareFields(a, b)) == 0
}

// both gives the fields that two changed from the same beginning, and not alike.
func both(base, theirs, mine json.RawMessage) []Field {
	out := []Field{}
	changed := map[string]bool{}
	for _, f := range CompareFields(base, theirs) {
		changed[f.Path] = true
	}
	mineToo := map[string]bool{}
	for _, f := range CompareFields(base, mine) {
		mineToo[f.Path] = true
	}
	for _, f := range CompareFields(theirs, mine) {
		if changed[f.Path] && mineToo[f.Path] {
			out = append(out, f)
		}
	}
	return out
}

// merge gives what either changed; where both did, mine. A list is one value: of two that
// were both changed, mine stands. What only one of two describes is taken whole.
func merge(base, theirs, mine json.RawMessage) (json.RawMessage, error) {
	if len(base) == 0 || len(theirs) == 0 {
		return mine, nil
	}
	var b, t, m map[string]json.RawMessage
	for raw, into := range map[*json.RawMessage]*map[string]json.RawMessage{&base: &b, &theirs: &t,
		&mine: &m} {
		if err := json.Unmarshal(renewed(*raw), into); err != nil {
			return nil, err
		}
	}
	for field := range mapsOf(t, b) {
		if string(b[field]) == string(t[field]) {
			continue // they left it as it was
		}
		switch {
		case string(m[field]) == string(b[field]): // only they changed it
			if v, there := t[field]; there {
				m[field] = v
			} else {
				delete(m, field)
			}
		case isObject(b[field]) && isObject(t[field]) && isObject(m[field]):
			inner, err := merge(b[field], t[field], m[field])
			if err != nil {
				return nil, err
			}
			m[field] = inner
		}
	}
	return json.Marshal(m)
}

func isObject(raw json.RawMessage) bool { return strings.HasPrefix(string(raw), "{") }

// mapsOf gives the fields that either has.
func mapsOf(a, b map[string]json.RawMessage) map[string]bool {
	out := map[string]bool{}
	for k := range a {
		out[k] = true
	}
	for k := range b {
		out[k] = true
	}
	return out
}

// textOf writes one object as a document, in somebody's words; "" for one that is not there.
func textOf(kind, name string, body json.RawMessage, by *Set) (string, error) {
	if len(body) == 0 {
		return "", nil
	}
	one := NewSet()
	one.Words = by.Words
	if err := one.Put(kind, name, body); err != nil {
		return "", err
	}
	return one.YAML()
}

// Settled gives documents in which an object says what text does, a document of it alone;
// with the empty text it is taken out. Comments and order of everything else stay. Documents
// that do not have the object stay as they are.
func Settled(documents []Text, kind, name, text string) ([]Text, error) {
	field := ""
	for _, k := range kinds {
		if k.word == kind {
			field = k.field
		}
	}
	var value *yaml.Node
	if text != "" {
		if value = within(documentNode(text), field, name); value == nil {
			return nil, fmt.Errorf("definition: no %s %s in the text for it", kind, name)
		}
	}
	out := slices.Clone(documents)
	for i, d := range documents {
		root := documentNode(d.Text)
		if within(root, field, name) == nil {
			continue
		}
		all := valueOf(root.Content[0], field)
		for at := 0; at+1 < len(all.Content); at += 2 {
			if all.Content[at].Value != name {
				continue
			}
			if value == nil {
				all.Content = slices.Delete(all.Content, at, at+2)
			} else {
				all.Content[at+1], all.Style = value, 0
			}
			break
		}
		if len(all.Content) == 0 {
			drop(root.Content[0], field)
		}
		written, err := encoded(root)
		if err != nil {
			return nil, err
		}
		out[i].Text = written
	}
	return out, nil
}

// documentNode reads a document as nodes; nil for what is none.
func documentNode(text string) *yaml.Node {
	var n yaml.Node
	if yaml.Unmarshal([]byte(text), &n) != nil || len(n.Content) == 0 {
		return nil
	}
	return &n
}

// within gives the value of a named thing under a field of a document, or nil.
func within(document *yaml.Node, field, name string) *yaml.Node {
	if document == nil {
		return nil
	}
	return valueOf(valueOf(document.Content[0], field), name)
}

// valueOf gives the value of a key of a mapping, or nil.
func valueOf(n *yaml.Node, key string) *yaml.Node {
	if n == nil || n.Kind != yaml.MappingNode {
		return nil
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			return n.Content[i+1]
		}
	}
	return nil
}

// drop takes a key out of a mapping.
func drop(n *yaml.Node, key string) {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == key {
			n.Content = slices.Delete(n.Content, i, i+2)
			return
		}
	}
}

// encoded writes a document as people do.
func encoded(n *yaml.Node) (string, error) {
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(n); err != nil {
		return "", err
	}
	return b.String(), nil
}
