package definition

import (
	"fmt"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"stockade/core/finding"
)

// Limits on one document.
const (
	maxDocument = 4 << 20 // bytes
	maxDepth    = 32

	// maxParts bounds the line ends, commas, colons and brackets of all documents together: there are at
	// most two values for each, and each is held with its place. A description of 300 sources and 300
	// groups has some 20,000.
	maxParts = 150_000
)

// parts counts what separates values in YAML, before anything of it is read.
func parts(text string) (n int) {
	for i := range len(text) {
		switch text[i] {
		case '\n', ',', ':', '[', '{':
			n++
		}
	}
	return n
}

// Text is a document as it was given.
type Text struct {
	Name string `json:"name"` // for messages, usually the path
	Text string `json:"text"`
}

// Read reads documents into one set. Findings of severity error mean that the
// set must not be used; as much as can be told is told at once.
func Read(texts ...Text) (*Set, finding.List) {
	set := NewSet()
	var told finding.Telling
	left := maxParts
	for _, t := range texts {
		if left -= parts(t.Text); left < 0 {
			told.Add(finding.New(finding.DefineTooMany, "",
				"the documents have more than %d lines, commas and colons together, so "+
					"Stockade stopped reading", maxParts).At(finding.Place{File: t.Name}))
			break
		}
		r := reader{file: t.Name, lines: strings.Split(t.Text, "\n"), set: set, told: &told,
			inherited: map[string]finding.Place{}}
		r.read(t.Text)
	}
	set.Fill()
	all := told.Told()
	all.Sort()
	return set, all
}

type reader struct {
	file  string
	lines []string
	set   *Set
	told  *finding.Telling
	// inherited are the places of what sources have from defaults
	inherited map[string]finding.Place
}

var yamlLine = regexp.MustCompile(`line (\d+)(?:: |, column (\d+): )?(.*)`)

func (r *reader) read(text string) {
	if len(text) > maxDocument {
		r.told.Add(finding.New(finding.DefineSyntax, "", "the document is larger than %d bytes", maxDocument).
			At(finding.Place{File: r.file}))
		return
	}
	var node yaml.Node
	if err := yaml.Unmarshal([]byte(text), &node); err != nil {
		message := strings.TrimPrefix(err.Error(), "yaml: ")
		place := finding.Place{File: r.file, Line: 1, Column: 1}
		if m := yamlLine.FindStringSubmatch(message); m != nil {
			place.Line, _ = strconv.Atoi(m[1])
			if m[3] != "" {
				message = m[3]
			}
		}
		r.add(finding.DefineSyntax, place, "the document is not valid YAML: %s", message)
		return
	}
	if len(node.Content) == 0 {
		r.add(finding.DefineSyntax, finding.Place{File: r.file, Line: 1, Column: 1}, "the document is empty")
		return
	}
	root := node.Content[0]
	var doc Document
	r.value(root, reflect.ValueOf(&doc).Elem(), "", 0)
	r.set.hear(text)
	r.spread(&doc)
	for _, k := range kinds {
		r.merge(k, k.of(&doc), k.of(&r.set.Document))
	}
	for path, place := range r.inherited {
		if _, said := r.set.Places[path]; !said {
			r.set.Places[path] = place
		}
	}
	for path := range r.set.Places { // those of the next document are others
		if strings.HasPrefix(path, "defaults") {
			delete(r.set.Places, path)
		}
	}
}

// merge adds the named things of one document to the set. Their places are
// in the set already; a name that another document has is told with both.
func (r *reader) merge(k kind, from, into things) {
	known := map[string]bool{}
	for _, name := range into.names() {
		known[name] = true
	}
	for _, name := range from.names() {
		at, first := k.field+"."+name, "first:"+k.field+"."+name
		if known[name] {
			r.add(finding.DefineDuplicateName, r.set.Places[at], "%s %q is also defined at %s", k.word,
				name, r.set.Places[first])
			continue
		}
		into.take(from, name)
		r.set.Places[first] = r.set.Places[at]
	}
}

func (r *reader) place(n *yaml.Node) finding.Place {
	return finding.Place{File: r.file, Line: n.Line, Column: n.Column}
}

func (r *reader) add(code finding.Code, p finding.Place, format string, args ...any) *finding.Finding {
	f := finding.New(code, "", format, args...).At(p)
	if !r.told.Full() {
		f.Excerpt = r.excerpt(p)
	}
	return r.told.Add(f)
}

func (r *reader) excerpt(p finding.Place) string { return excerpt(r.lines, p) }

// Excerpts fills in the lines that findings are about, where they lack them.
func Excerpts(found finding.List, texts ...Text) {
	lines := map[string][]string{}
	for i := len(texts) - 1; i >= 0; i-- { // the first of a name counts
		lines[texts[i].Name] = strings.Split(texts[i].Text, "\n")
	}
	for i, f := range found {
		if f.Excerpt == "" && f.Place.Line > 0 {
			found[i].Excerpt = excerpt(lines[f.Place.File], f.Place)
		}
	}
}

// longestExcerpt bounds a line that is shown (bytes).
const longestExcerpt = 160

func excerpt(lines []string, p finding.Place) string {
	if p.Line < 1 || p.Line > len(lines) {
		return ""
	}
	if len(lines[p.Line-1]) > longestExcerpt {
		return ""
	}
	line := finding.Harmless(strings.ReplaceAll(strings.TrimRight(lines[p.Line-1], "\r"), "\t", " "))
	if finding.HasUser(line) || len(line) > longestExcerpt {
		return "" // it would be shown, logged and copied
	}
	return line + "\n" + strings.Repeat(" ", max(p.Column-1, 0)) + "^"
}

var wantType, fromType = reflect.TypeFor[Want](), reflect.TypeFor[From]()

// value decodes a node into v, which has the type that the language wants there.
func (r *reader) value(n *yaml.Node, v reflect.Value, path string, depth int) {
	if depth > maxDepth {
		r.add(finding.DefineSyntax, r.place(n), "the document is nested more than %d levels "+
			"deep", maxDepth)
		return
	}
	if n.Kind == yaml.AliasNode || n.Anchor != "" {
		r.add(finding.DefineSyntax, r.place(n), "anchors and aliases are not supported")
		return
	}
	r.set.Places[path] = r.place(n)
	if n.Kind == yaml.ScalarNode && n.Tag == "!!null" {
		return // an empty value is a field left out
	}
	switch v.Kind() {
	case reflect.Struct:
		r.structure(n, v, path, depth)
	case reflect.Map:
		if v.Type().Elem().Kind() == reflect.String {
			r.texts(n, v, path)
			return
		}
		r.named(n, v, path, depth)
	case reflect.Slice:
		r.list(n, v, path, depth)
	case reflect.String:
		if n.Kind != yaml.ScalarNode || n.Tag == "!!bool" {
			r.wrong(n, path, "text")
			return
		}
		v.SetString(n.Value)
	case reflect.Int:
		i, err := strconv.Atoi(n.Value)
		if n.Kind != yaml.ScalarNode || err != nil {
			r.wrong(n, path, "a whole number")
			return
		}
		v.SetInt(int64(i))
	case reflect.Bool:
		var b bool
		if n.Kind != yaml.ScalarNode || n.Decode(&b) != nil {
			r.wrong(n, path, "true or false")
			return
		}
		v.SetBool(b)
	}
}

// wrong tells that something else belongs there.
func (r *reader) wrong(n *yaml.Node, path, what string) {
	r.add(finding.DefineBadValue, r.place(n), "%s must be %s, but it is %s", last(path), what,
		shape(n)).Field = path
}

// structure decodes a mapping of fields, and the two things that a single word can say.
func (r *reader) structure(n *yaml.Node, v reflect.Value, path string, depth int) {
	switch {
	case v.Type() == wantType && n.Kind == yaml.ScalarNode:
		if n.Value != "everything" {
			r.add(finding.DefineBadValue, r.place(n),
				"want must be everything or a mapping such as {packages: [sluicectl]}, but it "+
					"is %q",
				n.Value).Field = path
		}
		v.Set(reflect.ValueOf(Want{Everything: true}))
	case v.Type() == fromType && n.Kind == yaml.ScalarNode && n.Tag == "!!str":
		v.Set(reflect.ValueOf(From{Source: n.Value}))
		r.set.Places[path+".source"] = r.place(n)
	case n.Kind != yaml.MappingNode:
		r.wrong(n, path, "a mapping of fields")
	default:
		r.fields(n, v, path, depth)
	}
}

// named decodes a mapping from names.
func (r *reader) named(n *yaml.Node, v reflect.Value, path string, depth int) {
	if n.Kind != yaml.MappingNode {
		r.wrong(n, path, "a mapping of names")
		return
	}
	m := reflect.MakeMap(v.Type())
	r.pairs(n, path, func(key, val *yaml.Node) {
		sub := path + "." + key.Value
		shown := strings.TrimPrefix(sub, ".")
		switch {
		case !namePattern.MatchString(key.Value):
			f := r.add(finding.DefineBadValue, r.place(key), "%q is not a valid name", key.Value)
			f.Field = shown
			f.WayOut = "a name has lower-case letters, digits, dots and hyphens, begins with a " +
				"letter or digit, and has at most 63 characters"
		case val.Kind == yaml.ScalarNode && val.Tag == "!!null":
			r.add(finding.DefineMissingField, r.place(key), "%s is empty; its fields are "+
				"missing",
				shown).Field = shown
		default:
			e := reflect.New(v.Type().Elem()).Elem()
			r.value(val, e, sub, depth+1)
			r.set.Places[shown] = r.place(key)
			m.SetMapIndex(reflect.ValueOf(key.Value), e)
		}
	})
	v.Set(m)
}

// texts decodes a mapping from variables to what they stand for.
func (r *reader) texts(n *yaml.Node, v reflect.Value, path string) {
	if n.Kind != yaml.MappingNode {
		r.wrong(n, path, "a mapping of variables to texts")
		return
	}
	out := map[string]string{}
	r.pairs(n, path, func(key, val *yaml.Node) {
		sub := path + "." + key.Value
		r.set.Places[sub] = r.place(val)
		switch {
		case !variablePattern.MatchString(key.Value):
			f := r.add(finding.DefineBadValue, r.place(key), "%q is not a valid name of a "+
				"variable", key.Value)
			f.Field, f.WayOut = sub, "it has lower-case letters, digits and underscores, and "+
				"begins with a letter"
		case reserved[key.Value]:
			f := r.add(finding.DefineBadValue, r.place(key), "$%s is a built-in variable of "+
				"sources",
				key.Value)
			f.Field, f.WayOut = sub, "choose another name for the variable"
		case val.Kind != yaml.ScalarNode || val.Tag == "!!null":
			r.wrong(val, sub, "text")
		default:
			out[key.Value] = val.Value
		}
	})
	v.Set(reflect.ValueOf(out))
}

// variablePattern is what a variable can be called; reserved are those that every source has.
var (
	variablePattern = regexp.MustCompile(`^[a-z][a-z0-9_]{0,31}$`)
	reserved        = map[string]bool{"release": true, "arch": true, "component": true}
)

// list decodes a sequence.
func (r *reader) list(n *yaml.Node, v reflect.Value, path string, depth int) {
	if n.Kind != yaml.SequenceNode {
		r.wrong(n, path, "a list")
		return
	}
	out := reflect.MakeSlice(v.Type(), 0, len(n.Content))
	for i, c := range n.Content {
		e := reflect.New(v.Type().Elem()).Elem()
		r.value(c, e, path+"."+strconv.Itoa(i), depth+1)
		out = reflect.Append(out, e)
	}
	v.Set(out)
}

// fields decodes those of a mapping, and tells which are not known and which lack.
func (r *reader) fields(n *yaml.Node, v reflect.Value, path string, depth int) {
	known := map[string]int{}
	var names []string
	for i := range v.NumField() {
		tag := v.Type().Field(i).Tag
		if name := tag.Get("yaml"); name != "-" && name != "" {
			known[name] = i
			names = append(names, name)
			if former := tag.Get("was"); former != "" {
				known[former] = i
			}
		}
	}
	given := map[string]bool{}
	r.pairs(n, path, func(key, val *yaml.Node) {
		i, ok := known[key.Value]
		if !ok {
			r.unknown(key, path, names)
			return
		}
		field := v.Type().Field(i)
		name := field.Tag.Get("yaml")
		sub := strings.TrimPrefix(path+"."+name, ".")
		if _, twice := given[name]; twice { // under the former name and the present one
			f := r.add(finding.DefineDuplicateName, r.place(key), "%s has %s and %s; they are two names of "+
				"one field", last(path), name, field.Tag.Get("was"))
			f.Field, f.WayOut = sub, "remove "+field.Tag.Get("was")
			return
		}
		given[name] = val.Tag != "!!null"
		if name != key.Value {
			r.former(key, sub, name)
		}
		before := len(r.told.Found)
		r.value(val, v.Field(i), sub, depth+1)
		if len(r.told.Found) == before {
			r.bounds(val, field.Tag, v.Field(i), sub)
		}
	})
	for _, name := range names {
		if v.Type().Field(known[name]).Tag.Get("need") == "yes" && !given[name] {
			r.missing(n, path, name)
		}
	}
}

// unknown tells of a field that there is none of, and which is meant.
func (r *reader) unknown(key *yaml.Node, path string, names []string) {
	f := r.add(finding.DefineUnknownField, r.place(key), "no field is named %q in %s", key.Value, last(path))
	f.Field = strings.TrimPrefix(path+"."+key.Value, ".")
	f.WayOut = "the fields are " + strings.Join(names, ", ")
	if near := Nearest(key.Value, names); near != "" {
		f.Fix = finding.Fix{Old: key.Value, New: near}
		f.WayOut = fmt.Sprintf("did you mean %q?", near)
	}
}

// former reports a field by its former name, which is still read.
func (r *reader) former(key *yaml.Node, path, name string) {
	f := r.add(finding.DefineFormerName, r.place(key),
		"the field %s is now named %s. Stockade reads both names",
		key.Value, name)
	f.Field, f.WayOut = path, "rename it to "+name
	f.Fix = finding.Fix{Old: key.Value, New: name}
}

// missing tells of a field that has to be there.
func (r *reader) missing(n *yaml.Node, path, name string) {
	at := r.set.Place(path)
	if path == "" {
		at = r.place(n)
	}
	f := r.add(finding.DefineMissingField, at, "%s is missing the field %s", last(path), name)
	f.Field = strings.TrimPrefix(path+"."+name, ".")
	if name == "stockade" {
		f.WayOut = "begin the document with \"stockade: 1\""
	}
}

// bounds checks the enumeration and the range that a field's tag gives.
func (r *reader) bounds(n *yaml.Node, tag reflect.StructTag, v reflect.Value, path string) {
	if e := tag.Get("enum"); e != "" && v.Kind() == reflect.String && v.String() != "" {
		words := strings.Split(e, ",")
		for _, w := range words {
			if w == v.String() {
				return
			}
		}
		f := r.add(finding.DefineBadValue, r.place(n), "%s is %q; it must be one of %s", last(path),
			v.String(), strings.Join(words, ", "))
		f.Field = path
		if near := Nearest(v.String(), words); near != "" {
			f.Fix = finding.Fix{Old: v.String(), New: near}
			f.WayOut = fmt.Sprintf("did you mean %q?", near)
		}
		return
	}
	if l := tag.Get("least"); l != "" && v.Kind() == reflect.Int {
		least, _ := strconv.Atoi(l)
		most, _ := strconv.Atoi(tag.Get("most"))
		if i := int(v.Int()); i < least || i > most {
			meant := fmt.Sprintf("from %d to %d", least, most)
			if least == most {
				meant = l
			}
			r.add(finding.DefineBadValue, r.place(n), "%s is %d; it must be %s", last(path), i,
				meant).Field = path
		}
	}
}

// pairs walks a mapping and tells keys that stand twice.
func (r *reader) pairs(n *yaml.Node, path string, f func(key, val *yaml.Node)) {
	seen := map[string]*yaml.Node{}
	for i := 0; i+1 < len(n.Content); i += 2 {
		key := n.Content[i]
		if key.Kind != yaml.ScalarNode {
			r.add(finding.DefineSyntax, r.place(key), "expected a name, found %s", shape(key))
			continue
		}
		if first, twice := seen[key.Value]; twice {
			r.add(finding.DefineDuplicateName, r.place(key), "%q is also listed at %s",
				strings.TrimPrefix(path+
					"."+key.Value, "."), r.place(first))
			continue
		}
		seen[key.Value] = key
		f(key, n.Content[i+1])
	}
}

// IsName tells whether text can be the name of something that is described.
func IsName(text string) bool { return namePattern.MatchString(text) }

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{0,62}$`)

func last(path string) string {
	if path == "" {
		return "the document"
	}
	return path
}

func shape(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "a mapping"
	case yaml.SequenceNode:
		return "a list"
	}
	if len(n.Value) > 60 {
		return "a long text"
	}
	return fmt.Sprintf("%q", n.Value)
}

// Nearest gives the known name that a person most likely meant, or "".
func Nearest(word string, known []string) string {
	best, bestDistance := "", max(len(word)/3, 1)+1
	for _, k := range known {
		if apart := len(k) - len(word); apart >= bestDistance || -apart >= bestDistance {
			continue // they are at least that far from each other
		}
		if d := distance(word, k); d < bestDistance {
			best, bestDistance = k, d
		}
	}
	return best
}

// maxWord is how long words may be that are compared (bytes).
const maxWord = 64

// distance counts the insertions, deletions, replacements and swaps of
// neighbours between two words (bytes).
func distance(a, b string) int {
	if len(a) > maxWord || len(b) > maxWord {
		return 1000
	}
	var rows [3][maxWord + 1]int // the row before the last, the last, this one
	before, last, now := &rows[0], &rows[1], &rows[2]
	for j := range len(b) + 1 {
		last[j] = j
	}
	for i := 1; i <= len(a); i++ {
		now[0] = i
		for j := 1; j <= len(b); j++ {
			cost := 1
			if a[i-1] == b[j-1] {
				cost = 0
			}
			now[j] = min(last[j]+1, now[j-1]+1, last[j-1]+cost)
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				now[j] = min(now[j], before[j-2]+1)
			}
		}
		before, last, now = last, now, before
	}
	return last[len(b)]
}
