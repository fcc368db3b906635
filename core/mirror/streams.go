package mirror

import (
	"context"
	"slices"
	"strings"

	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/solve"
)

// streams reads the list of module streams of a source; nil where it has none.
func (b *Builder) streams(ctx context.Context, plan Plan, out *Outcome, i int) (*archive.Streams, error) {
	src := plan.Sources[i]
	l := src.Family.Lore(src.Spec, out.Publications[i].Root)
	if l.Streams == nil {
		for _, want := range src.Want.Streams {
			out.Findings = append(out.Findings, finding.New("mirror.stream-missing", "mirror "+plan.Name,
				"%s has no module streams, and %q is wanted of it", src.Name, want).Rated(severity(plan)))
		}
		return nil, nil
	}
	plain, err := b.lore(ctx, src, *l.Streams)
	if err != nil {
		return nil, err
	}
	defer plain.Close()
	known, err := l.ReadStreams(plain)
	if err != nil {
		return nil, about(err, src.Name)
	}
	for _, want := range src.Want.Streams {
		if slices.ContainsFunc(known.All, func(s *archive.Stream) bool { return s.String() == want }) {
			continue
		}
		f := finding.New("mirror.stream-missing", "mirror "+plan.Name, "%s has no module stream %q", src.Name,
			want).Rated(severity(plan))
		if near := streamsOf(known, strings.SplitN(want, ":", 2)[0]); len(near) > 0 {
			f.WayOut = "it has " + strings.Join(near, ", ")
		}
		out.Findings = append(out.Findings, f)
	}
	return known, nil
}

func streamsOf(known *archive.Streams, module string) (out []string) {
	for _, s := range known.All {
		if s.Module == module && !slices.Contains(out, s.String()) {
			out = append(out, s.String())
		}
	}
	slices.Sort(out)
	return out
}

// hide keeps from each view the packages that its machines do not see for the
// module streams that are on there: those of the sources that they see.
func hide(plan Plan, out *Outcome, members []int, lists []*archive.Streams, views []solve.View) {
	told := map[string]bool{}
	for v := range views {
		view := &views[v]
		var seen []*archive.Streams
		var enabled []string
		key := func(*archive.Package) string { return "" }
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
				seen, key = append(seen, lists[k]), lists[k].Key
			}
		}
		if len(seen) == 0 {
			continue
		}
		active := archive.Activate(seen, enabled)
		if active.GaveUp && !told[view.Name] {
			told[view.Name] = true
			out.Findings = append(out.Findings, finding.New("mirror.not-proved", "mirror "+plan.Name,
				"which module streams machines have on could not be worked out: it would cost out of all "+
					"proportion to their lists").Rated(severity(plan)))
		}
		for _, off := range active.Off {
			if told[off.Stream+off.Why] {
				continue
			}
			told[off.Stream+off.Why] = true
			out.Findings = append(out.Findings, finding.New("mirror.stream-missing", "mirror "+plan.Name,
				"machines cannot have the module stream %s on: %s", off.Stream,
				off.Why).Rated(severity(plan)).
				Do("add a source that has it, or want another stream"))
		}
		for _, open := range active.Open {
			if told[open] {
				continue
			}
			told[open] = true
			out.Findings = append(out.Findings, finding.New("mirror.stream-open", "mirror "+plan.Name,
				"builds of the module stream %s that need different modules would do alike: which of them "+
					"machines have on, and so what they see, is not known", open))
		}
		view.Hides = func(p *archive.Package) bool {
			k := key(p)
			if s := active.Of(k); s != "" {
				p.Stream = s
			}
			return !active.Sees(p, k)
		}
	}
}

// name says of packages of module streams which stream they are of. Where one is of
// several, a view that has one of them on says which.
func name(lists []*archive.Streams) func(source int, p *archive.Package) {
	of := make([]map[string]string, len(lists))
	for k, l := range lists {
		if l == nil {
			continue
		}
		of[k] = map[string]string{}
		for _, s := range l.All {
			for _, p := range s.Packages {
				of[k][p] = s.String()
			}
		}
	}
	return func(source int, p *archive.Package) {
		if l := lists[source]; l != nil {
			p.Stream = of[source][l.Key(p)]
		}
	}
}
