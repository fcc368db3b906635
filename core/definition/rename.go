package definition

import (
	"encoding/json"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"sync"

	"stockade/core/finding"
)

// schemaTree is the schema as plain values; x-names tells which texts name something.
var schemaTree = sync.OnceValue(func() map[string]any { return schemaOf(reflect.TypeFor[Document]()) })

// Rename gives an object another name, and has everything that names it follow. It changes nothing
// but names: what is kept of the object elsewhere is up to who keeps it. An error tells that there
// is no such object, that the name is taken, or that it is none.
func (s *Set) Rename(kind, from, to string) error {
	object := kind + " " + finding.Harmless(from)
	all := s.things(kind)
	switch {
	case all == nil || kind == "rule" || kind == "package":
		return finding.New(finding.DefineBadValue, object, "objects of the kind %q have no name",
			kind)
	case !slices.Contains(all.names(), from):
		return unknown(object, kind, from, all.names())
	case !IsName(to):
		return finding.New(finding.DefineBadValue, object, "%q is not a valid name", to).
			Do("a name has lower-case letters, digits, dots and hyphens")
	case slices.Contains(all.names(), to):
		return finding.New(finding.DefineDuplicateName, object, "a %s named %s already exists", kind, to).
			Do("choose another name")
	}
	r := renaming{kind: kind, from: from, to: to}
	tree := schemaTree()["properties"].(map[string]any)
	records := s.Records()
	for _, k := range kinds {
		section, _ := tree[k.field].(map[string]any)
		each, _ := section["additionalProperties"].(map[string]any)
		for name, raw := range records[k.word] {
			var value any
			if err := json.Unmarshal(raw, &value); err != nil {
				return err
			}
			n := r.changed
			value = r.follow(each, value)
			if r.changed == n {
				continue
			}
			body, err := json.Marshal(value)
			if err == nil {
				err = s.Put(k.word, name, body)
			}
			if err != nil {
				return fmt.Errorf("rename %s: %w", object, err)
			}
		}
	}
	body := all.record(from)
	s.Remove(kind, from)
	if err := s.Put(kind, to, body); err != nil {
		return err
	}
	if said, ok := s.Words[objectID(kind, from)]; ok {
		delete(s.Words, objectID(kind, from))
		own := regexp.MustCompile(`(?m)^(\s+["']?)` + regexp.QuoteMeta(from) + `(["']?\s*:)`)
		if at := own.FindStringSubmatchIndex(said); at != nil {
			s.Words[objectID(kind, to)] = said[:at[3]] + to + said[at[4]:]
		}
	}
	return nil
}

// renaming follows a name through values, by the schema.
type renaming struct {
	kind, from, to string
	changed        int
}

func (r *renaming) follow(schema map[string]any, value any) any {
	if of, ok := schema["x-names"].(string); ok {
		if text, ok := value.(string); ok && of == r.kind && text == r.from {
			r.changed++
			return r.to
		}
		return value
	}
	switch v := value.(type) {
	case []any:
		items, _ := schema["items"].(map[string]any)
		for i := range v {
			v[i] = r.follow(items, v[i])
		}
	case map[string]any:
		fields := schema
		for _, way := range ways(schema) {
			if _, ok := way["properties"]; ok {
				fields = way
			}
		}
		properties, _ := fields["properties"].(map[string]any)
		each, _ := fields["additionalProperties"].(map[string]any)
		for name, inner := range v {
			of, ok := properties[name].(map[string]any)
			if !ok {
				of = each
			}
			v[name] = r.follow(of, inner)
		}
	}
	return value
}

// ways gives what a value may be, where the schema has several forms for it.
func ways(schema map[string]any) (out []map[string]any) {
	switch all := schema["oneOf"].(type) {
	case []any:
		for _, one := range all {
			if m, ok := one.(map[string]any); ok {
				out = append(out, m)
			}
		}
	case []map[string]any:
		out = all
	}
	return out
}
