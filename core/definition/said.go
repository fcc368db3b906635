package definition

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"stockade/core/finding"
)

// objectID names an object among all: "source tarn".
func objectID(kind, name string) string { return kind + " " + name }

// hear keeps the words of a document for each object in it.
func (s *Set) hear(text string) {
	document := documentNode(text)
	if document == nil || document.Content[0].Kind != yaml.MappingNode {
		return
	}
	above := aboveSections(document)
	for _, k := range kinds {
		all := valueOf(document.Content[0], k.field)
		if all == nil || all.Kind != yaml.MappingNode {
			continue
		}
		for i := 0; i+1 < len(all.Content); i += 2 {
			key, value := *all.Content[i], *all.Content[i+1]
			if said := above[k.field]; i == 0 && said != "" {
				key.HeadComment = strings.Trim(said+"\n"+key.HeadComment, "\n")
			}
			if value.Kind != yaml.MappingNode || k.word == "package" {
				continue
			}
			words, err := encoded(alone(k.field, harmless(&key), harmless(&value)))
			if err == nil && (strings.Contains(words, "#") || !inOrder(k.field, &value)) {
				s.Words[objectID(k.word, key.Value)] = words
			}
		}
	}
}

// aboveSections gives the comments that stand at the head of a document or above one of its
// sections, by the section: they are kept with the first object of it, for they belong to
// none. What stands above a field that has no objects is of the next section.
func aboveSections(document *yaml.Node) map[string]string {
	out := map[string]string{}
	said := []string{document.HeadComment}
	fields := document.Content[0].Content
	for i := 0; i+1 < len(fields); i += 2 {
		said = append(said, fields[i].HeadComment, fields[i].LineComment)
		if all := fields[i+1]; all.Kind == yaml.MappingNode && len(all.Content) > 0 &&
			slices.ContainsFunc(kinds, func(k kind) bool { return k.field == fields[i].Value }) {
			out[fields[i].Value] = strings.Trim(strings.Join(said, "\n"), "\n")
			said = nil
		}
	}
	return out
}

// inOrder tells whether the fields of an object stand in the order in which they are written
// anew.
func inOrder(field string, object *yaml.Node) bool {
	var known []string
	document := reflect.TypeFor[Document]()
	for i := range document.NumField() {
		if f := document.Field(i); f.Tag.Get("yaml") == field {
			for j := range f.Type.Elem().NumField() {
				known = append(known, f.Type.Elem().Field(j).Tag.Get("yaml"))
			}
		}
	}
	last := -1
	for i := 0; i+1 < len(object.Content); i += 2 {
		at := slices.Index(known, object.Content[i].Value)
		if at < last {
			return false
		}
		last = at
	}
	return true
}

// alone is a document of one object.
func alone(field string, key, value *yaml.Node) *yaml.Node {
	scalar := func(text, tag string) *yaml.Node {
		return &yaml.Node{Kind: yaml.ScalarNode, Tag: tag,
			Value: text}
	}
	mapping := func(content ...*yaml.Node) *yaml.Node {
		return &yaml.Node{Kind: yaml.MappingNode,
			Content: content}
	}
	return &yaml.Node{Kind: yaml.DocumentNode, Content: []*yaml.Node{mapping(scalar("stockade", "!!str"),
		scalar("1", "!!int"), scalar(field, "!!str"), mapping(key, value))}}
}

// harmless gives a node with comments that may be shown: without those that have a password
// in an address, and without what turns a line round.
func harmless(n *yaml.Node) *yaml.Node {
	out := *n
	for _, c := range []*string{&out.HeadComment, &out.LineComment, &out.FootComment} {
		var kept []string
		for line := range strings.SplitSeq(*c, "\n") {
			if line != "" && !finding.HasUser(line) {
				kept = append(kept, finding.Harmless(line))
			}
		}
		*c = strings.Join(kept, "\n")
	}
	out.Content = nil
	for _, c := range n.Content {
		out.Content = append(out.Content, harmless(c))
	}
	return &out
}

// spoken gives an object as it was written by a person, with what is recorded now: the fields
// that are another are written anew, and comments and order stay. nil where nobody wrote it.
func (s *Set) spoken(kind kind, name string, canonical *yaml.Node) (key, value *yaml.Node) {
	words := s.Words[objectID(kind.word, name)]
	if words == "" {
		return nil, nil
	}
	document := documentNode(words)
	value = within(document, kind.field, name)
	if value == nil || value.Kind != yaml.MappingNode {
		return nil, nil
	}
	all := valueOf(document.Content[0], kind.field)
	key = all.Content[0]
	heard, _ := Read(Text{Text: words})
	var was, is map[string]json.RawMessage
	things := kind.of(&heard.Document)
	if !slices.Contains(things.names(), name) || json.Unmarshal(things.record(name), &was) != nil ||
		json.Unmarshal(kind.of(&s.Document).record(name), &is) != nil {
		return nil, nil
	}
	for field := range mapsOf(was, is) {
		if string(was[field]) == string(is[field]) {
			continue
		}
		now := valueOf(canonical, field)
		switch old := valueOf(value, field); {
		case now == nil:
			drop(value, field)
		case old == nil:
			value.Content = append(value.Content, &yaml.Node{Kind: yaml.ScalarNode, Tag: "!!str",
				Value: field}, now)
			value.Style = 0
		default:
			now.HeadComment, now.LineComment, now.FootComment = old.HeadComment, old.LineComment,
				old.FootComment
			*old = *now
		}
	}
	return key, value
}

// speak puts what people wrote in place of what is written anew.
func (s *Set) speak(document *yaml.Node) {
	if len(s.Words) == 0 || len(document.Content) == 0 {
		return
	}
	for _, k := range kinds {
		all := valueOf(document.Content[0], k.field)
		if all == nil {
			continue
		}
		for i := 0; i+1 < len(all.Content); i += 2 {
			if key, value := s.spoken(k, all.Content[i].Value, all.Content[i+1]); key != nil {
				all.Content[i], all.Content[i+1] = key, value
			}
		}
	}
}

// WordsOf gives what a person wrote of an object, as it is now; "" where nobody wrote more than
// is recorded.
func (s *Set) WordsOf(kind, name string) string {
	if s.Words[objectID(kind, name)] == "" {
		return ""
	}
	text, err := s.Only(kind, name).YAML()
	if err != nil {
		return ""
	}
	return text
}
