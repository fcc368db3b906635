package mirror

import (
	"context"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/solve"
	"stockade/core/upstream"
)

// streams reads the list of module streams of a source; nil where it has none.
func (b *Builder) streams(ctx context.Context, plan Plan, out *Outcome, i int) (archive.Streams, error) {
	src := plan.Sources[i]
	family, ok := src.Family.(archive.Streamed)
	var list archive.IndexFile
	if ok {
		list, ok = family.StreamList(src.Spec, out.Publications[i].Root)
	}
	if !ok {
		for _, want := range src.Want.Streams {
			out.Findings = append(out.Findings, finding.New(finding.MirrorStreamMissing, "mirror "+plan.Name,
				"%s has no module streams, but %q is wanted from it", src.Name, want).Rated(severity(plan)))
		}
		return nil, nil
	}
	plain, err := b.lore(ctx, src, list)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	known, err := family.ReadStreams(plain)
	if err != nil {
		return nil, upstream.About(err, src.Name)
	}
	names := known.Names()
	for _, want := range src.Want.Streams {
		if slices.Contains(names, want) {
			continue
		}
		f := finding.New(finding.MirrorStreamMissing, "mirror "+plan.Name, "%s has no module stream %q",
			src.Name, want).Rated(severity(plan))
		module, _, _ := strings.Cut(want, ":")
		near := slices.DeleteFunc(names, func(n string) bool { return !strings.HasPrefix(n, module+":") })
		if len(near) > 0 {
			f.WayOut = "the source has " + strings.Join(near, ", ")
		}
		out.Findings = append(out.Findings, f)
	}
	return known, nil
}

// hide keeps from each view the packages that its machines do not see for the
// module streams that are on there: those of the sources that they see.
func hide(plan Plan, out *Outcome, members []int, lists []archive.Streams, views []solve.View) {
	told := map[string]bool{}
	for v := range views {
		view := &views[v]
		var seen []archive.Streams
		var enabled []string
		var family archive.Streamed
		for k, i := range members {
			if view.Sources != nil && !slices.Contains(view.Sources, k) {
				continue
			}
			for _, w := range plan.Sources[i].Want.Streams {
				if !slices.Contains(enabled, w) {
					enabled = append(enabled, w)
				}
			}
			if lists[k] != nil {
				seen, family = append(seen, lists[k]), plan.Sources[i].Family.(archive.Streamed)
			}
		}
		if len(seen) == 0 {
			continue
		}
		active := family.Activate(seen, enabled)
		out.Findings = append(out.Findings, doubts(plan, view.Name, active.Doubts(), told)...)
		view.Hides = func(p *archive.Package) bool {
			if s := active.Of(p); s != "" {
				out.streams[p] = s
			}
			return !active.Sees(p)
		}
	}
}

// doubts tells what is not known of the streams of a view, or cannot be had; what was
// told of another is not told again.
func doubts(plan Plan, view string, d archive.StreamDoubts, told map[string]bool) (found finding.List) {
	once := func(key string, f finding.Finding) {
		if !told[key] {
			told[key] = true
			found = append(found, f)
		}
	}
	object := "mirror " + plan.Name
	if d.GaveUp {
		once(view, finding.New(finding.MirrorNotProved, object,
			"the module streams of machines could not be determined: the cost is out of "+
				"proportion to the indexes").Rated(severity(plan)))
	}
	for _, off := range d.Off {
		once(off.Stream+off.Why, finding.New(finding.MirrorStreamMissing, object,
			"machines cannot enable the module stream %s: %s", off.Stream, off.Why).Rated(severity(plan)).
			Do("add a source that has it, or choose another stream"))
	}
	for _, open := range d.Open {
		once(open, finding.New(finding.MirrorStreamOpen, object,
			"several builds of the module stream %s are equally good and require different "+
				"modules. Which of them machines have enabled, and so what they can use, is "+
				"unknown", open))
	}
	return found
}

// ofStreams notes of packages of module streams which stream they are of. Where one is
// of several, a view that has one of them on says which.
func (out *Outcome) ofStreams(list archive.Streams, p *archive.Package) {
	if list == nil {
		return
	}
	if s := list.Of(p); s != "" {
		out.streams[p] = s
	}
}
