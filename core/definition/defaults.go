package definition

import (
	"reflect"
	"strings"

	"stockade/core/finding"
)

// Defaults are what the sources of one document have where they do not say it
// themselves. Each field is the field of Source of the same name.
type Defaults struct {
	Family        string   `yaml:"family" json:"family,omitempty" doc:"The repository format"`
	Standing      string   `yaml:"standing" json:"standing,omitempty" doc:"Whose sources they are" enum:"official,vendor,community,house"`
	Release       string   `yaml:"release" json:"release,omitempty" doc:"The release"`
	Components    []string `yaml:"components" json:"components,omitempty" doc:"The parts of the release"`
	Architectures []string `yaml:"architectures" json:"architectures,omitempty" doc:"The machine architectures"`
	Languages     []string `yaml:"languages" json:"languages,omitempty" doc:"Translated descriptions"`
	SignedBy      []string `yaml:"signed_by" json:"signed_by,omitempty" doc:"The keys that may sign them"`
	Priority      int      `yaml:"priority" json:"priority,omitempty" doc:"1 (asked first) to 99 (asked last)" least:"1" most:"99"`
	MaxAge        Age      `yaml:"max_age" json:"max_age,omitempty" doc:"How old their roots may get"`
	Proxy         string   `yaml:"proxy" json:"proxy,omitempty" doc:"The proxy by which they are reached"`
	Credentials   []string `yaml:"credentials" json:"credentials,omitempty" doc:"What their servers may be shown"`
	Authority     string   `yaml:"authority" json:"authority,omitempty" doc:"Who certifies their servers"`
	Redirects     []string `yaml:"redirects" json:"redirects,omitempty" doc:"Further hosts to which their upstreams may send"`
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
