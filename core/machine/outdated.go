package machine

import (
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
)

// Outdated tells what the files that machines of a group have for one edition say otherwise than
// those for another. A lane can be moved at any time, and the files stay on the machines: a source
// that its client does not recognise any more gets the client's usual priority, and one that the
// files do not name is not seen. A group that saw nothing before has no files that could be outdated.
//
// It compares what Stockade would write. What a machine has if nobody brought it the files for
// the first edition is not known here.
func Outdated(group string, g definition.Group, families archive.Registry,
	from, to *edition.Edition) (finding.List, error) {
	was, err := Of(group, g, families, from)
	if err != nil {
		return nil, err
	}
	will, err := Of(group, g, families, to)
	if err != nil || len(was.Client.Repositories) == 0 {
		return nil, err
	}
	var out finding.List
	tell := func(text string, args ...any) {
		out = append(out, finding.New(finding.LaneFilesOutdated, "group "+group, text, args...).
			Do("write the files again and install them on the machines: stockade group files %s", group))
	}
	for _, r := range will.Client.Repositories {
		at := slices.IndexFunc(was.Client.Repositories, func(o archive.Repository) bool {
			return o.Name == r.Name && o.Component == r.Component
		})
		if at < 0 {
			tell("machines with the files for %s do not use %s, which %s contains", from.Name(), naming(r),
				to.Name())
			continue
		}
		if what := differing(was.Client.Repositories[at], r); len(what) > 0 {
			tell("%s of %s changed between %s and %s. Machines have the files for the first, "+
				"so what they install may differ from what was proved",
				finding.Names(what, len(what)), naming(r), from.Name(), to.Name())
		}
	}
	for _, r := range was.Client.Repositories {
		if !will.Client.Sees(r.Name, r.Component) {
			tell("machines with the files for %s use %s, which %s does not contain: their "+
				"updates fail",
				from.Name(), naming(r), to.Name())
		}
	}
	return append(out, newKeys(group, will, from, to)...), nil
}

// naming names a repository as people know it.
func naming(r archive.Repository) string {
	if r.Component != "" && r.Component != r.Name {
		return r.Component + " of " + r.Name
	}
	return r.Name
}

// differing names what machines' files say differently of a repository.
func differing(a, b archive.Repository) (out []string) {
	for _, x := range []struct {
		name string
		same bool
	}{
		{"the origin, label or codename", slices.Equal(a.Recognised, b.Recognised)},
		{"the priority", a.Priority == b.Priority},
		{"the release", a.Release == b.Release},
		{"the components", slices.Equal(a.Components, b.Components)},
		{"the architectures", slices.Equal(a.Architectures, b.Architectures)},
		{"the languages", slices.Equal(a.Languages, b.Languages)},
		{"the module streams", slices.Equal(a.Streams, b.Streams)},
		{"the source packages", a.SourcePackages == b.SourcePackages},
		{"the copy", a.Tailored == b.Tailored},
	} {
		if !x.same {
			out = append(out, x.name)
		}
	}
	return out
}

// newKeys tells of keys that a source is checked with on the later edition alone.
func newKeys(group string, will View, from, to *edition.Edition) (out finding.List) {
	for _, src := range to.Sources {
		at := slices.IndexFunc(from.Sources, func(o edition.Source) bool { return o.Name == src.Name })
		if at < 0 || !will.Sees(src.Name) {
			continue
		}
		var more []string
		for _, k := range src.Keys {
			if !slices.Contains(from.Sources[at].Keys, k) {
				more = append(more, k)
			}
		}
		if len(more) > 0 {
			out = append(out, finding.New(finding.LaneFilesOutdated, "group "+group,
				"machines with the files for %s do not trust the key %s, which also verifies "+
					"%s of %s",
				from.Name(), strings.Join(more, ", "), src.Name, to.Name()).
				Do("write the files again and install them on the machines: stockade group "+
					"files %s", group))
		}
	}
	return out
}
