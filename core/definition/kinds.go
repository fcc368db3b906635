package definition

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
)

// things are all things of one kind, by name.
type things interface {
	names() []string
	record(name string) json.RawMessage
	put(name string, body []byte) error
	remove(name string)
	take(from things, name string) bool
	lay(over things)
}

// kind is one kind of thing that is described: the word for one of them, the field of a
// document under which they stand, and where a set keeps them.
type kind struct {
	word, field string
	of          func(*Document) things
}

// kinds is the one list of them, in the order in which they depend on each other.
var kinds = []kind{
	{"rule", "rules", func(d *Document) things { return named[Rule](d.Rules) }},
	{"authority", "authorities", func(d *Document) things { return named[Authority](d.Authorities) }},
	{"credential", "credentials", func(d *Document) things { return named[Credential](d.Credentials) }},
	{"proxy", "proxies", func(d *Document) things { return named[Proxy](d.Proxies) }},
	{"key", "keys", func(d *Document) things { return named[Key](d.Keys) }},
	{"source", "sources", func(d *Document) things { return named[Source](d.Sources) }},
	{"package", "packages", func(d *Document) things { return named[Package](d.Packages) }},
	{"list", "lists", func(d *Document) things { return named[List](d.Lists) }},
	{"mirror", "mirrors", func(d *Document) things { return named[Mirror](d.Mirrors) }},
	{"lane", "lanes", func(d *Document) things { return named[Lane](d.Lanes) }},
	{"group", "groups", func(d *Document) things { return named[Group](d.Groups) }},
}

// Kinds gives the kinds of things that are described, in the order in which
// they depend on each other, in the singular.
var Kinds = func() (out []string) {
	for _, k := range kinds {
		out = append(out, k.word)
	}
	return out
}()

// things gives those of a kind, or nil where there is no such kind.
func (s *Set) things(word string) things {
	for _, k := range kinds {
		if k.word == word {
			return k.of(&s.Document)
		}
	}
	return nil
}

type named[T any] map[string]T

func (m named[T]) names() []string { return slices.Sorted(maps.Keys(m)) }

func (m named[T]) record(name string) json.RawMessage {
	data, err := json.Marshal(m[name])
	if err != nil {
		panic("definition: plain values do not marshal: " + err.Error())
	}
	return data
}

func (m named[T]) put(name string, body []byte) error {
	var v T
	if err := json.Unmarshal(renewed(body), &v); err != nil {
		return fmt.Errorf("the record of %s is damaged: %w", name, err)
	}
	m[name] = v
	return nil
}

func (m named[T]) remove(name string) { delete(m, name) }

func (m named[T]) take(from things, name string) bool {
	_, had := m[name]
	v, has := from.(named[T])[name]
	if has {
		m[name] = v
	} else {
		delete(m, name)
	}
	return had || has
}

func (m named[T]) lay(over things) { maps.Copy(m, over.(named[T])) }

// Records gives every described thing as JSON, by kind and name.
func (s *Set) Records() map[string]map[string]json.RawMessage {
	out := map[string]map[string]json.RawMessage{}
	for _, k := range kinds {
		all := k.of(&s.Document)
		out[k.word] = map[string]json.RawMessage{}
		for _, name := range all.names() {
			out[k.word][name] = all.record(name)
		}
	}
	return out
}

// Put reads one recorded thing into the set.
func (s *Set) Put(kind, name string, body []byte) error {
	all := s.things(kind)
	if all == nil {
		return fmt.Errorf("definition: unknown kind %q", kind)
	}
	return all.put(name, body)
}

// Remove takes one thing out of the set.
func (s *Set) Remove(kind, name string) {
	if all := s.things(kind); all != nil {
		all.remove(name)
	}
}

// Names gives the names of all things of a kind, sorted.
func (s *Set) Names(kind string) []string {
	if all := s.things(kind); all != nil {
		return all.names()
	}
	return nil
}

// Take makes one thing what it is in another set: changed, added, or removed. It
// tells whether either set has it. Packages of house sources are taken by their id.
func (s *Set) Take(from *Set, kind, name string) bool {
	all := s.things(kind)
	if all == nil || !all.take(from.things(kind), name) {
		return false
	}
	id := objectID(kind, name)
	if delete(s.Words, id); from.Words[id] != "" {
		s.Words[id] = from.Words[id]
	}
	return true
}

// Only gives a set of one thing of s, without what it names.
func (s *Set) Only(kind, name string) *Set {
	one := NewSet()
	one.Take(s, kind, name)
	return one
}

// Overlay gives a copy of recorded with everything that given describes put
// over it. Places are given's.
func Overlay(recorded, given *Set) *Set {
	out := NewSet()
	for _, k := range kinds {
		all := k.of(&out.Document)
		all.lay(k.of(&recorded.Document))
		all.lay(k.of(&given.Document))
	}
	out.Places = given.Places
	maps.Copy(out.Words, recorded.Words)
	for kind, records := range given.Records() { // what is written anew is said anew
		for name := range records {
			if id := objectID(kind, name); given.Words[id] == "" {
				delete(out.Words, id)
			} else {
				out.Words[id] = given.Words[id]
			}
		}
	}
	return out
}

// formerFields are the fields of records of before that have another name now, with that name.
var formerFields = map[string]string{"footing": "baseline"}

// renewed gives a record with the present names of its fields. Records of before stay as they were
// written, because the journal covers them; whoever reads one reads it through here.
func renewed(record json.RawMessage) json.RawMessage {
	var fields map[string]json.RawMessage
	for former, name := range formerFields {
		if !bytes.Contains(record, []byte(`"`+former+`"`)) {
			continue
		}
		if json.Unmarshal(record, &fields) != nil || fields[former] == nil {
			return record
		}
		fields[name] = fields[former]
		delete(fields, former)
		record, _ = json.Marshal(fields) // of raw values: they marshal
	}
	return record
}
