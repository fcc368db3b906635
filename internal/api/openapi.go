package api

import (
	"encoding/json"
	"reflect"
	"strings"
	"time"
)

// OpenAPI writes the OpenAPI 3.1 document from the table of routes.
func OpenAPI(version string) []byte {
	d := &describer{schemas: map[string]any{}, types: map[string]reflect.Type{}}
	paths := map[string]map[string]any{}
	problem := d.ref(reflect.TypeFor[Problem]())
	// What jobs end with, and what their streams send.
	for _, result := range []any{Outcome{}, Preview{}, Examination{}, Where{}, JobEvent{}, News{}} {
		d.ref(reflect.TypeOf(result))
	}
	for _, r := range Routes {
		op := map[string]any{"operationId": r.Name, "summary": r.Summary}
		if r.Role != Open {
			op["security"] = []any{map[string]any{"token": []string{}}}
			op["description"] = "Needs the role " + r.Role + "."
		}
		var params []any
		for part := range strings.SplitSeq(r.Path, "/") {
			if strings.HasPrefix(part, "{") {
				params = append(params, map[string]any{
					"name":     strings.Trim(part, "{}"),
					"in":       "path",
					"required": true,
					"schema":   map[string]any{"type": "string"},
				})
			}
		}
		for _, q := range r.Query {
			params = append(params, map[string]any{
				"name":        q.Name,
				"in":          "query",
				"description": q.Summary,
				"schema":      map[string]any{"type": "string"},
			})
		}
		if params != nil {
			op["parameters"] = params
		}
		if _, file := r.Request.(Octets); file {
			op["requestBody"] = map[string]any{"required": true, "content": map[string]any{
				"application/octet-stream": map[string]any{}}}
		} else if r.Request != nil {
			op["requestBody"] = map[string]any{"required": true,
				"content": map[string]any{
					"application/json": map[string]any{"schema": d.ref(reflect.TypeOf(r.Request))}}}
		}
		ok := map[string]any{"description": "done"}
		switch {
		case r.Stream != "":
			ok["content"] = map[string]any{r.Stream: map[string]any{}}
		case r.Response != nil:
			ok["content"] = map[string]any{
				"application/json": map[string]any{"schema": d.ref(reflect.TypeOf(r.Response))}}
		}
		op["responses"] = map[string]any{"200": ok,
			"default": map[string]any{"description": "a problem (RFC 9457)",
				"content": map[string]any{"application/problem+json": map[string]any{"schema": problem}}}}
		if paths[r.Path] == nil {
			paths[r.Path] = map[string]any{}
		}
		paths[r.Path][strings.ToLower(r.Method)] = op
	}
	doc := map[string]any{
		"openapi": "3.1.0",
		"info":    map[string]any{"title": "Stockade", "version": version},
		"servers": []any{map[string]any{"url": Base}},
		"paths":   paths,
		"components": map[string]any{
			"schemas":         d.schemas,
			"securitySchemes": map[string]any{"token": map[string]any{"type": "http", "scheme": "bearer"}},
		},
	}
	out, err := json.MarshalIndent(doc, "", " ")
	if err != nil {
		panic("api: the description does not marshal: " + err.Error())
	}
	return append(out, '\n')
}

type describer struct {
	schemas map[string]any
	types   map[string]reflect.Type // by the name of their schema
}

var (
	timeType = reflect.TypeFor[time.Time]()
	rawType  = reflect.TypeFor[json.RawMessage]()
)

func (d *describer) ref(t reflect.Type) any {
	switch {
	case t == timeType:
		return map[string]any{"type": "string", "format": "date-time"}
	case t == rawType:
		return map[string]any{}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return d.ref(t.Elem())
	case reflect.Slice:
		if t.Elem().Kind() == reflect.Uint8 {
			return map[string]any{"type": "string", "contentEncoding": "base64"}
		}
		return map[string]any{"type": "array", "items": d.ref(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": d.ref(t.Elem())}
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Int, reflect.Int64, reflect.Uint32, reflect.Int32:
		return map[string]any{"type": "integer"}
	case reflect.String:
		if v, few := reflect.Zero(t).Interface().(interface{ Values() []string }); few {
			return map[string]any{"type": "string", "enum": v.Values()}
		}
		return map[string]any{"type": "string"}
	case reflect.Struct:
		name := schemaName(t)
		if other := d.types[name]; other != nil && other != t {
			panic("api: " + t.String() + " and " + other.String() + " would both be described as " + name)
		}
		d.types[name] = t
		if _, done := d.schemas[name]; !done {
			d.schemas[name] = nil // holds the place while it is described
			s := map[string]any{"type": "object", "properties": map[string]any{}}
			var required []string
			d.fields(t, s["properties"].(map[string]any), &required)
			if required != nil {
				s["required"] = required
			}
			d.schemas[name] = s
		}
		return map[string]any{"$ref": "#/components/schemas/" + name}
	}
	return map[string]any{}
}

func (d *describer) fields(t reflect.Type, into map[string]any, required *[]string) {
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous && f.Tag.Get("json") == "" {
			d.fields(f.Type, into, required)
			continue
		}
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if !f.IsExported() || name == "-" {
			continue
		}
		if name == "" {
			name = f.Name
		}
		into[name] = d.ref(f.Type)
		if !strings.Contains(options, "omit") {
			*required = append(*required, name)
		}
	}
}

// schemaName is the type's name, with its package where two share one.
func schemaName(t reflect.Type) string {
	name := t.Name()
	if i := strings.IndexByte(name, '['); i >= 0 {
		arg := name[i+1 : len(name)-1]
		return name[:i] + "Of" + arg[strings.LastIndexAny(arg, "./")+1:]
	}
	switch {
	case strings.HasSuffix(t.PkgPath(), "internal/api"):
		return name
	case strings.HasSuffix(t.PkgPath(), "core/definition"):
		return "Defined" + name
	case strings.HasSuffix(t.PkgPath(), "core/edition") && name == "Change":
		return "PackageChange"
	case strings.HasSuffix(t.PkgPath(), "core/edition") && name == "Summary":
		return "PackageSummary"
	case strings.HasSuffix(t.PkgPath(), "core/edition") && name == "Item":
		return name
	case strings.HasSuffix(t.PkgPath(), "core/edition"):
		return "Sealed" + name
	case strings.HasSuffix(t.PkgPath(), "core/journal"):
		return "Journal" + name
	case strings.HasSuffix(t.PkgPath(), "core/archive"):
		return "Archive" + name
	}
	return name
}
