package mirror

import (
	"context"
	"stockade/core/archive"
	"stockade/core/finding"
	"stockade/core/upstream"
)

// keyPackages compares the keyrings in packages of the edition with what was brought in: by
// them machines elsewhere learn of the next keys of a source.
func (b *Builder) keyPackages(ctx context.Context, out *Outcome) error {
	seen := map[string]bool{}
	for i := range out.selection {
		pk := &out.selection[i]
		family, ok := pk.src.Family.(archive.KeyPackages)
		if !ok || !family.BringsKeys(pk.Package) || seen[pk.SHA256] {
			continue
		}
		seen[pk.SHA256] = true
		f, err := b.Pool.Open(pk.SHA256)
		if err != nil {
			return err
		}
		disk := finding.Watching("read " + pk.Path)
		err = family.ReadKeys(disk.ReadSeeker(f), func(path string, data []byte) {
			out.Findings = append(out.Findings,
				upstream.Published(pk.src, pk.Name+" "+pk.Version+", "+path, data, b.Now())...)
		})
		f.Close()
		err = disk.Blame(err)
		if g, ok := finding.From(err); ok && g.Code == finding.FaultCode {
			return err
		}
		if err != nil {
			out.Findings = append(out.Findings, finding.New(finding.KeyPublished, "source "+pk.src.Name,
				"the keyrings in %s cannot be read: %s", pk.Path, upstream.Saying(err)))
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
	}
	return nil
}
