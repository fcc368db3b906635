package definition

import (
	"reflect"
	"strings"

	"stockade/core/finding"
)

// Defaults are what the sources of one document have where they do not say it
// themselves. Each field is the field of Source of the same name.
type Defaults struct {
	Family        string   `yaml:"family" json:"family,omitempty" doc:"The format of the repositories"`
	Standing      string   `yaml:"standing" json:"standing,omitempty" doc:"Who is responsible for the sources" enum:"official,vendor,community,house"`
	Release       string   `yaml:"release" json:"release,omitempty" doc:"The release"`
	Components    []string `yaml:"components" json:"components,omitempty" doc:"The components of the release"`
	Architectures []string `yaml:"architectures" json:"architectures,omitempty" doc:"The architectures"`
	Languages     []string `yaml:"languages" json:"languages,omitempty" doc:"Languages of translated descriptions that faithful mirrors copy"`
	SignedBy      []string `yaml:"signed_by" json:"signed_by,omitempty" doc:"The keys that may sign the sources"`
	Priority      int      `yaml:"priority" json:"priority,omitempty" doc:"Priority from 1 (best) to 99" least:"1" most:"99"`
	MaxAge        Age      `yaml:"max_age" json:"max_age,omitempty" doc:"Maximum age of the release metadata"`
	Proxy         string   `yaml:"proxy" json:"proxy,omitempty" doc:"The proxy for the upstreams"`
	Credentials   []string `yaml:"credentials" json:"credentials,omitempty" doc:"Credentials for the upstreams"`
	Authority     string   `yaml:"authority" json:"authority,omitempty" doc:"The certificate authority of the upstreams"`
	Redirects     []string `yaml:"redirects" json:"redirects,omitempty" doc:"Further hosts that the upstreams may redirect to"`
}

// spread gives each source of a document what it leaves out. What a source says itself,
// also as an empty list, stays.
func (r *reader) spread(doc *Document) {
	from := reflect.ValueOf(doc.Defaults)
	for name, src := range doc.Sources {
		to := reflect.ValueOf(&src).Elem()
		for i := range from.NumField() {
			field := from.Type().Field(i)
			have := to.FieldByName(field.Name)
			if from.Field(i).IsZero() || !have.IsZero() {
				continue
			}
			have.Set(from.Field(i))
			r.inherit("defaults."+field.Tag.Get("yaml"), "sources."+name+"."+field.Tag.Get("yaml"))
		}
		doc.Sources[name] = src
		if src.Family == "" {
			r.add(finding.DefineMissingField, r.set.Place("sources."+name),
				"the source %s has no family",
				name).Field = "sources." + name + ".family"
		}
	}
}

// inherit gives values that come from defaults the places where they stand there.
func (r *reader) inherit(from, to string) {
	for path, place := range r.set.Places {
		if rest, ok := strings.CutPrefix(path, from); ok && (rest == "" || rest[0] == '.') {
			r.inherited[to+rest] = place
		}
	}
}
