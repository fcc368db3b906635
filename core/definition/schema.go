package definition

import (
	"encoding/json"
	"reflect"
	"strconv"
	"strings"
)

// Schema gives the language as a JSON Schema (draft 2020-12), for editors and forms. The
// annotation x-names says of a text that it names something: the kind of what is described,
// or a family.
func Schema() []byte {
	s := schemaOf(reflect.TypeFor[Document]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Stockade definitions"
	out, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		panic("definition: the schema does not marshal: " + err.Error())
	}
	return append(out, '\n')
}

func schemaOf(t reflect.Type) map[string]any {
	switch t.Kind() {
	case reflect.Struct:
		properties := map[string]any{}
		var need []string
		for i := range t.NumField() {
			f := t.Field(i)
			name := f.Tag.Get("yaml")
			if name == "-" || name == "" {
				continue
			}
			p := schemaOf(f.Type)
			p["description"] = f.Tag.Get("doc")
			if e := f.Tag.Get("enum"); e != "" {
				p["enum"] = strings.Split(e, ",")
			}
			if l := f.Tag.Get("least"); l != "" {
				p["minimum"], _ = strconv.Atoi(l)
				p["maximum"], _ = strconv.Atoi(f.Tag.Get("most"))
			}
			if of := f.Tag.Get("names"); of != "" {
				target := p
				if items, is := p["items"].(map[string]any); is {
					target = items
				}
				target["x-names"] = of
			}
			if f.Tag.Get("need") == "yes" {
				need = append(need, name)
			}
			properties[name] = p
		}
		s := map[string]any{"type": "object", "properties": properties, "additionalProperties": false}
		if len(need) > 0 {
			s["required"] = need
		}
		if t == wantType {
			return map[string]any{"oneOf": []any{map[string]any{"const": "everything"}, s}}
		}
		if t == fromType {
			return map[string]any{"oneOf": []any{map[string]any{"type": "string"}, s}}
		}
		return s
	case reflect.Map:
		pattern := namePattern
		if t.Elem().Kind() == reflect.String {
			pattern = variablePattern
		}
		return map[string]any{"type": "object",
			"propertyNames":        map[string]any{"pattern": pattern.String()},
			"additionalProperties": schemaOf(t.Elem())}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": schemaOf(t.Elem())}
	case reflect.Int:
		return map[string]any{"type": "integer"}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	}
	return map[string]any{"type": "string"}
}
