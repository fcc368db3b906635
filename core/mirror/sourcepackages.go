package mirror

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"slices"

	"golang.org/x/sync/errgroup"

	"stockade/core/archive"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/upstream"
)

// sourcePick is a source package that comes along with what was built from it.
type sourcePick struct {
	*archive.SourcePackage
	src   *upstream.Source
	built []string // names of what is taken that was built from it
}

// sourceID names a source package.
type sourceID struct{ name, version string }

func (id sourceID) String() string { return id.name + " " + id.version }

// maxLackingSources bounds the source packages that are told one by one to be in no list.
const maxLackingSources = 3

// sourcePackages looks the source packages up that packages were built from which are taken, where
// that is wanted.
func (b *Builder) sourcePackages(ctx context.Context, plan Plan, out *Outcome) error {
	for _, pub := range out.Publications {
		src := pub.Source
		if !src.Want.SourcePackages && !plan.Mirror.Want.SourcePackages {
			continue
		}
		sourced, ok := src.Family.(archive.Sourced)
		if !ok || src.House != nil {
			out.Findings = append(out.Findings, finding.New(finding.MirrorSourceMissing, "mirror "+plan.Name,
				"%s lists no source packages, so they are left out", src.Name))
			continue
		}
		asked := map[sourceID][]string{}
		for _, p := range out.selection {
			if p.src == src {
				name, version := sourced.SourceOf(p.Package)
				id := sourceID{name, version}
				asked[id] = append(asked[id], p.Name)
			}
		}
		found := map[sourceID]bool{}
		for _, x := range sourced.SourceLists(src.Spec, pub.Root) {
			plain, err := b.lore(ctx, src, x.Files[0])
			if err != nil {
				return err
			}
			err = sourced.ReadSources(x, plain, func(name, version string) bool {
				id := sourceID{name, version}
				return len(asked[id]) > 0 && !found[id]
			}, func(p *archive.SourcePackage) error {
				id := sourceID{p.Name, p.Version}
				found[id] = true
				built := slices.Compact(slices.Sorted(slices.Values(asked[id])))
				out.sources = append(out.sources, sourcePick{p, src, built})
				return ctx.Err()
			})
			plain.Close()
			if err != nil {
				return upstream.About(err, src.Name)
			}
		}
		out.Findings = append(out.Findings, lacking(plan, src, asked, found)...)
	}
	return nil
}

// lacking tells of source packages that stand in no list.
func lacking(plan Plan, src *upstream.Source, asked map[sourceID][]string,
	found map[sourceID]bool) finding.List {
	var none []string
	for id := range asked {
		if !found[id] {
			none = append(none, id.String())
		}
	}
	if len(none) == 0 {
		return nil
	}
	slices.Sort(none)
	return finding.List{finding.New(finding.MirrorSourceMissing, "mirror "+plan.Name,
		"no index of %s has the source packages of these packages: %s", src.Name,
		finding.Names(none, maxLackingSources))}
}

// fetchSources brings the files of source packages that the pool lacks.
func (b *Builder) fetchSources(ctx context.Context, out *Outcome) error {
	lacking, size := b.lackingSources(out)
	p := b.Progress("source packages", len(lacking), size)
	defer p.End()
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(b.workers())
	for _, l := range lacking {
		g.Go(func() (err error) {
			defer finding.Catch(&err)
			s, f := l.of, l.of.Files[l.file]
			_, err = b.FetchInto(inner, s.src, upstream.Wanted(f.Path, f.Size, f.SHA256, ""),
				[]string{f.Path}, p,
				func(blob pool.Blob) error {
					if l.file > 0 {
						return nil
					}
					disk := finding.Watching("read " + f.Path)
					err := s.src.Family.(archive.Sourced).InspectSource(s.SourcePackage, disk.Reader(blob))
					return upstream.About(disk.Blame(err), s.src.Name)
				})
			if err != nil {
				return unfetched(inner, err, s.src.Name, f.Path, "the list of source packages")
			}
			p.Add("", 0, 1)
			return nil
		})
	}
	return cmp.Or(g.Wait(), ctx.Err())
}

// lackingFile is a file of a source package that the pool lacks; the first is its description.
type lackingFile struct {
	of   *sourcePick
	file int
}

// lackingSources gives the files of source packages that the pool lacks, each once, and their size.
func (b *Builder) lackingSources(out *Outcome) (lacking []lackingFile, size int64) {
	seen := map[string]bool{}
	for i := range out.sources {
		for k, f := range out.sources[i].Files {
			if have, ok := b.Pool.Has(f.SHA256); ok && have == f.Size || seen[f.SHA256] {
				continue
			}
			seen[f.SHA256] = true
			lacking = append(lacking, lackingFile{&out.sources[i], k})
			size += f.Size
		}
	}
	return lacking, size
}

// sourceFiles puts the files of source packages into an edition, and gives what it says of them.
func (out *Outcome) sourceFiles(files *edition.Collection) ([]byte, error) {
	var text bytes.Buffer
	enc := json.NewEncoder(&text)
	for _, s := range out.sources {
		line := edition.SourcePackage{Source: s.src.Name, Name: s.Name, Version: s.Version,
			Component: s.Component, Built: s.built}
		for _, f := range s.Files {
			l := edition.Line{Path: s.src.Name + "/" + f.Path, Size: f.Size, SHA256: f.SHA256}
			if err := files.Add(l); err != nil {
				return nil, upstream.About(err, s.src.Name)
			}
			line.Files = append(line.Files, edition.SourceFile(l))
		}
		if err := enc.Encode(line); err != nil {
			return nil, err
		}
	}
	return text.Bytes(), nil
}

// sourcesOf gives the source packages of one source; nil: none were asked for.
func (out *Outcome) sourcesOf(src *upstream.Source) (all []*archive.SourcePackage) {
	for _, s := range out.sources {
		if s.src == src {
			all = append(all, s.SourcePackage)
		}
	}
	return all
}
