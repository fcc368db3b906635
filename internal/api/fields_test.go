package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"stockade/core/definition"
	"stockade/internal/must"
)

const fieldsHead = `# Fields of the definition language

<!-- written from core/definition; make documents writes it anew -->

All fields, by the section of the document that they belong to. ` + "`[]`" + ` marks the entries of a list. [The
definition language](definition.md) explains how the fields work together.
`

// schema is as much of a JSON Schema as fields are written from.
type schema struct {
	Type        string            `json:"type"`
	Description string            `json:"description"`
	Enum        []string          `json:"enum"`
	Minimum     *int              `json:"minimum"`
	Maximum     *int              `json:"maximum"`
	Names       string            `json:"x-names"`
	Items       *schema           `json:"items"`
	Properties  map[string]schema `json:"properties"`
	Each        json.RawMessage   `json:"additionalProperties"`
	Required    []string          `json:"required"`
	OneOf       []schema          `json:"oneOf"`
}

func (s schema) each(t *testing.T) (each schema, is bool) {
	if len(s.Each) == 0 || s.Each[0] != '{' {
		return schema{}, false
	}
	must.Do(t, json.Unmarshal(s.Each, &each))
	return each, true
}

// fields writes the reference of the fields.
func fields(t *testing.T) string {
	var whole schema
	must.Do(t, json.Unmarshal(definition.Schema(), &whole))
	var b strings.Builder
	b.WriteString(fieldsHead)
	for _, section := range slices.Sorted(maps.Keys(whole.Properties)) {
		s := whole.Properties[section]
		fmt.Fprintf(&b, "\n## %s\n\n%s.\n", section, s.Description)
		if each, is := s.each(t); is {
			s = each
		}
		if len(s.Properties) == 0 {
			continue
		}
		b.WriteString("\n| field | type | meaning | default | example |\n|---|---|---|---|---|\n")
		s.rows(t, &b, "")
	}
	return b.String()
}

func (s schema) rows(t *testing.T, b *strings.Builder, before string) {
	for _, name := range slices.Sorted(maps.Keys(s.Properties)) {
		p := s.Properties[name]
		text, example, _ := strings.Cut(p.Description, " Example: ")
		text, usual, _ := strings.Cut(text, " Default: ")
		if example != "" {
			example = "`" + example + "`"
		}
		need := ""
		if slices.Contains(s.Required, name) {
			need = ", required"
		}
		fmt.Fprintf(b, "| `%s%s` | %s%s | %s | %s | %s |\n", before, name, p.kind(t), need,
			strings.TrimSuffix(text, "."), strings.TrimSuffix(usual, "."), strings.ReplaceAll(example, "|",
				"\\|"))
		inner, path := p, before+name+"."
		if p.Items != nil {
			inner, path = *p.Items, before+name+"[]."
		}
		for _, o := range inner.OneOf {
			if len(o.Properties) > 0 {
				inner = o
			}
		}
		if name == "want" && before != "" { // as at the mirror
			continue
		}
		inner.rows(t, b, path)
	}
}

// kind says of a field what its value is.
func (s schema) kind(t *testing.T) string {
	switch {
	case len(s.Enum) > 0:
		return strings.Join(s.Enum, ", ")
	case s.Minimum != nil && *s.Minimum != *s.Maximum:
		return fmt.Sprintf("%d to %d", *s.Minimum, *s.Maximum)
	case s.Minimum != nil:
		return fmt.Sprint(*s.Minimum)
	case s.Names != "":
		return "name of a " + s.Names
	case len(s.OneOf) > 0:
		return "a word or a mapping"
	case s.Items != nil && s.Items.Names != "":
		return "names of " + s.Items.Names + "s"
	case s.Items != nil:
		return "list"
	case len(s.Properties) > 0:
		return "mapping"
	}
	if _, is := s.each(t); is {
		return "mapping by name"
	}
	return map[string]string{"string": "text", "integer": "number", "boolean": "true or false"}[s.Type]
}

// docs/fields.md lists the fields that the language has, each with its meaning.
func TestTheReferenceOfFieldsIsCurrent(t *testing.T) {
	const path = "../../docs/fields.md"
	text := fields(t)
	if *update {
		must.Write(t, path, text)
	}
	if must.Read(t, path) != text {
		t.Errorf("%s is not current: make documents", path)
	}
	for _, has := range []string{"| `upstreams[].url` |", "| `priority` | 1 to 99 |",
		"| `baseline.sources` |",
		"| `want.packages` | list |", "| `from[].source` |"} {
		if !strings.Contains(text, has) {
			t.Errorf("%s has no row %q", path, has)
		}
	}
}
