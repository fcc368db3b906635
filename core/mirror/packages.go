package mirror

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"stockade/core/archive"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/core/upstream"
)

// fetchPackages brings what the pool lacks, and looks inside every package
// that the previous edition did not hold already.
func (b *Builder) fetchPackages(ctx context.Context, plan Plan, out *Outcome) error {
	known := map[string]*edition.Item{}
	for i, it := range plan.Items {
		known[it.SHA256+it.Name+"\x00"+it.Version+"\x00"+it.Arch+"\x00"+it.Source] = &plan.Items[i]
	}
	later, size := b.lackingSources(out)
	p := b.Progress("packages", out.FetchFiles-len(later), out.FetchBytes-size)
	defer p.End()
	g, inner := errgroup.WithContext(ctx)
	g.SetLimit(b.workers())
	for i := range out.selection {
		pk := &out.selection[i]
		if inner.Err() != nil {
			break
		}
		size, have := b.Pool.Has(pk.SHA256)
		have = have && size == pk.Size
		if it := known[pk.SHA256+pk.Name+"\x00"+pk.Version+"\x00"+pk.Arch+"\x00"+pk.src.Name]; have &&
			it != nil && b.asBefore(pk, it) {
			continue
		}
		g.Go(func() (err error) {
			defer finding.Catch(&err)
			if err := b.fetchSignature(inner, pk); err != nil {
				return err
			}
			if have {
				return b.inspectPooled(pk)
			}
			return b.fetchPackage(inner, pk, p)
		})
	}
	return cmp.Or(g.Wait(), ctx.Err())
}

// recognise finds the SHA-256 of packages whose index names them by SHA-512 alone:
// the previous edition says it, or the pool does. Everything else of ours knows a
// file by SHA-256.
func (b *Builder) recognise(plan Plan, out *Outcome) {
	before := map[string]string{}
	for _, it := range plan.Items {
		if it.SHA512 != "" {
			before[it.SHA512] = it.SHA256
		}
	}
	for i := range out.selection {
		p := &out.selection[i]
		if p.SHA256 != "" {
			continue
		}
		p.foreign = p.SHA512
		if sum := before[p.SHA512]; sum != "" {
			if size, ok := b.Pool.Has(sum); ok && size == p.Size {
				p.SHA256 = sum
				continue
			}
		}
		p.SHA256, _ = b.Pool.Find(upstream.Wanted(p.Path, p.Size, "", p.SHA512))
	}
}

// asBefore takes over what the previous edition knew of the same package, if
// the key that signed it still counts.
func (b *Builder) asBefore(pk *pick, it *edition.Item) bool {
	if it.Signer != "" && !slices.ContainsFunc(pk.src.Keyring.Counting(), func(c *trust.Certificate) bool {
		return c.Fingerprint == it.Signer && !c.CheckBy(pk.src.Keyring.Policy(), b.Now()).HasErrors()
	}) {
		return false
	}
	if it.Signature == "" {
		if pk.beside() != "" {
			return false // it may have been signed since
		}
	} else if raw, err := b.ReadFile(it.Signature); err != nil || len(pk.Signature) > 0 &&
		!bytes.Equal(raw, pk.Signature) {
		return false
	} else {
		pk.Signature = raw
	}
	pk.signature, pk.signer.Fingerprint = it.Signature, it.Signer
	return true
}

// beside gives the path of the detached signature on it; "" where its family has none.
func (pk *pick) beside() string { return archive.SignatureOf(pk.src.Family, pk.Path) }

// maxSignature bounds a detached signature (bytes).
const maxSignature = 64 << 10

// fetchSignature gets the detached signature of a package, where the family has
// such files and the index does not carry it. One that is not there is told later.
func (b *Builder) fetchSignature(ctx context.Context, pk *pick) error {
	beside := pk.beside()
	if beside == "" {
		return nil
	}
	if len(pk.Signature) == 0 {
		raw, err := b.Small(ctx, pk.src, beside, maxSignature)
		if errors.Is(err, fetch.ErrNotFound) {
			return nil
		}
		if err != nil {
			return unfetched(ctx, err, pk.src.Name, beside, "the index")
		}
		pk.Signature = raw
	}
	return nil
}

// unfetched says why a file could not be fetched that something names.
func unfetched(ctx context.Context, err error, source, path, by string) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if f, ok := finding.From(err); ok {
		return upstream.About(f, source)
	}
	if errors.Is(err, fetch.ErrNotFound) {
		return finding.New(finding.ContentMissing, "source "+source, "no upstream has %s, "+
			"which %s lists",
			path, by)
	}
	return finding.New(finding.SourceUpstreamDown, "source "+source, "%s could not be "+
		"downloaded: %v", path,
		err).Rated(finding.Error).
		Do("build again later: everything that was downloaded is kept")
}

func (b *Builder) fetchPackage(ctx context.Context, pk *pick, p *upstream.Progress) error {
	src, err := placed(pk)
	if err != nil {
		return err
	}
	sum, err := b.FetchInto(ctx, src, upstream.Wanted(pk.Path, pk.Size, pk.SHA256, pk.SHA512),
		[]string{pk.Path}, p,
		func(f pool.Blob) error { return b.inspect(pk, f) })
	if err == nil {
		pk.SHA256 = sum
		p.Add("", 0, 1)
		return nil
	}
	return unfetched(ctx, err, pk.src.Name, pk.Path, "the index")
}

// placed gives the source as a package is fetched from it: from another folder
// where its index says so, on a host of the source's own.
func placed(pk *pick) (*upstream.Source, error) {
	if pk.Base == "" {
		return pk.src, nil
	}
	base, err := url.Parse(pk.Base)
	if err == nil {
		for _, up := range pk.src.Route.Upstreams {
			if u, err := url.Parse(up.URL); err == nil && u.Scheme == base.Scheme &&
				strings.EqualFold(u.Host, base.Host) {
				src := *pk.src
				src.Route.Upstreams = []fetch.Upstream{{URL: pk.Base, Region: up.Region}}
				src.Route.Lists = nil
				return &src, nil
			}
		}
	}
	return nil, finding.New(finding.ContentUnsafePath, "source "+pk.src.Name,
		"the index places %s at %s, which is not a host of the source's upstreams", pk.Path,
		fetch.Shown(pk.Base)).
		Do("exclude the package, or define that place as an upstream")
}

func (b *Builder) inspectPooled(pk *pick) error {
	f, err := b.Pool.Open(pk.SHA256)
	if err != nil {
		return err
	}
	defer f.Close()
	err = b.inspect(pk, f)
	if g, _ := finding.From(err); err == nil || g.Code == finding.FaultCode || !changed(f, pk.SHA256) {
		return err
	}
	// What it says inside now says nothing of upstream.
	if err := b.Pool.SetAside(pk.SHA256); err != nil {
		return err
	}
	return finding.New(finding.EditionDamaged, "source "+pk.src.Name,
		"%s was changed on disk after it was downloaded. Stockade moved it aside", pk.Path).
		Do("build again: the file is downloaded again")
}

// inspect compares what a package says inside with what its index says, and has
// the signature on the package itself verified.
func (b *Builder) inspect(pk *pick, f io.ReadSeeker) error {
	disk := finding.Watching("read " + pk.Path)
	in, err := pk.src.Family.Inspect(archive.PackageFile{ReadSeeker: disk.ReadSeeker(f),
		Signature: pk.Signature}, pk.src.Keyring)
	if err = disk.Blame(err); err != nil {
		if g, ok := finding.From(err); ok {
			g.Object = "source " + pk.src.Name
			g.Text = pk.Path + ": " + g.Text
			return g
		}
		return err
	}
	id := in.Identity
	if want := pk.src.Family.Identify(pk.Package); id != want {
		return finding.New(finding.ContentIdentityMismatch, "source "+pk.src.Name,
			"the package file %s contains %s %s (%s), but the index says %s %s (%s)", pk.Path,
			finding.Harmless(id.Name), finding.Harmless(id.Version), finding.Harmless(id.Arch),
			want.Name, want.Version, want.Arch)
	}
	pk.signer = in.Signer
	if len(pk.Signature) > 0 && pk.beside() != "" {
		pk.signature, err = b.Pool.Add(pk.Signature)
	}
	return err
}

// unsigned tells of packages that are not signed themselves, where machines
// look for that. In a source whose packages are signed, or were, one without a
// signature is an error: somebody on the road may have taken it off, and the
// site would sign in its place.
func unsigned(plan Plan, out *Outcome) {
	signed := map[string]bool{}
	for _, it := range plan.Items {
		signed[it.Source] = signed[it.Source] || it.Signer != ""
	}
	for _, p := range out.selection {
		signed[p.src.Name] = signed[p.src.Name] || p.signer.Fingerprint != ""
	}
	names := map[string][]string{}
	var order []string
	for _, p := range out.selection {
		if p.signer.Fingerprint == "" && p.src.Family.SignsPackages() {
			if len(names[p.src.Name]) == 0 {
				order = append(order, p.src.Name)
			}
			names[p.src.Name] = append(names[p.src.Name], p.Name)
		}
	}
	for _, name := range order {
		text := names[name][0] + " has no signature of its own"
		if len(names[name]) > 1 {
			text = finding.Names(names[name], 3) + " have no signatures of their own"
		}
		if signed[name] {
			out.Findings = append(out.Findings, finding.New(finding.ContentSignatureMissing, "source "+name,
				"%s, but other packages of this source have one, or had one before", text).
				Do("ask the owner of the upstream. Another upstream may have the signature. Or "+
					"exclude the package"))
			continue
		}
		out.Findings = append(out.Findings, finding.New(finding.ContentPackageUnsigned,
			"source "+name, "%s", text))
	}
}
