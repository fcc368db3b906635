package mirror

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/edition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/core/pool"
	"stockade/core/solve"
	"stockade/core/trust"
	"stockade/core/upstream"
)

// Plan is what a build starts from.
type Plan struct {
	Name    string
	Mirror  definition.Mirror
	Sources []*upstream.Source          // those of the mirror, in its order
	Groups  map[string]definition.Group // those that follow a lane of the mirror
	// defined and enabled, but not in the mirror: asked who has what is missing
	Others   []*upstream.Source
	Number   int              // of the edition to be made
	Previous *edition.Edition // the newest edition that stands; nil: none
	Alike    string           // Outcome.Inputs of a build that came to nothing new since; "": none
	Items    []edition.Item   // its packages
	Journal  string           // the signed head of the site's journal
	Lists    map[string]definition.List
	// Every asks of every package that is taken whether it can be installed, and not of what is
	// wanted alone; For names one of which the whole way to install it is to be told.
	Every bool
	For   string
	// Renewed names the keys that the site signs with, where they are not the one alone
	// that it began with.
	Renewed string
}

// Outcome is what came of a build or an estimate.
type Outcome struct {
	Mirror     string           `json:"mirror"`
	Unchanged  bool             `json:"unchanged"`        // nothing changed upstream: no edition was made
	Inputs     string           `json:"inputs,omitempty"` // digest over all that the content follows from
	Edition    *edition.Edition `json:"edition,omitempty"`
	Files      int              `json:"files"`
	Bytes      int64            `json:"bytes"`       // of all packages that are chosen
	FetchFiles int              `json:"fetch_files"` // packages that the pool lacks
	FetchBytes int64            `json:"fetch_bytes"` //
	FreeBytes  int64            `json:"free_bytes"`  // on the disk of the pool
	// to fetch, at the rate of the last transfers; -1: unknown
	Seconds  int            `json:"seconds"`
	Packages int            `json:"packages"`
	Wanted   int            `json:"wanted"`
	BySource map[string]int `json:"by_source"`
	Findings finding.List   `json:"findings"`
	Proofs   []solve.Proof  `json:"proofs"` // what was proved, for whom; none where nothing changed
	// Refused counts what cannot be installed; what is not among Refusals is told as findings alone.
	Refused int `json:"refused,omitempty"`
	// Refusals are why what is wanted cannot be installed, each with its ways out, as far as that
	// was worked out.
	Refusals     []solve.Refusal         `json:"refusals,omitempty"`
	Certified    []Certified             `json:"certified,omitempty"` // see Plan.For
	Publications []*upstream.Publication `json:"-"`
	// Besides are what sources offered that are not in the mirror and were looked at.
	Besides   []*upstream.Publication `json:"-"`
	views     []machine.View
	all       []machine.Source        // as machines are told of them
	ungrouped map[string]machine.View // what machines of no group would see, by family
	selection []pick
	lists     [][]upstream.List
	streams   map[*archive.Package]string // the module stream that a package is of
	sources   []sourcePick                // that come along
	basis     *edition.Basis              // as far as it is known before anything is chosen
}

// pick is a chosen package with its source.
type pick struct {
	*archive.Package
	src       *upstream.Source
	wanted    bool
	why, how  string
	foreign   string         // SHA-512, where its index names it by that alone
	signature string         // SHA-256 of the detached signature beside it
	signer    archive.Signer // of the package itself
}

// Spare is how much must stay free on the disk after a build (bytes).
const Spare = 64 << 20

// Estimate does everything up to the first package download, and stores only
// roots and indexes. Findings tell what would keep the build from a seal.
func (b *Builder) Estimate(ctx context.Context, plan Plan) (*Outcome, error) {
	out := &Outcome{
		Mirror:   plan.Name,
		BySource: map[string]int{},
		Findings: finding.List{},
		Proofs:   []solve.Proof{},
		streams:  map[*archive.Package]string{},
	}
	for _, src := range plan.Sources {
		pub, err := b.Refresh(ctx, src)
		if pub != nil && pub.Root != nil {
			out.Publications = append(out.Publications, pub)
		}
		if err != nil {
			return out, err
		}
		out.Findings = append(out.Findings, pub.Findings...)
	}
	if out.Findings.HasErrors() {
		return out, out.Findings
	}
	if err := b.besides(ctx, plan, out); err != nil {
		return out, err
	}
	out.basis = basisOf(plan, out.Publications, out.Besides)
	out.Inputs = inputs(out.basis, slices.Concat(out.Publications, out.Besides))
	if p := plan.Previous; p != nil && (p.Inputs == out.Inputs || plan.Alike == out.Inputs) {
		out.Unchanged = true
		return out, nil
	}
	for _, pub := range out.Publications {
		lists, err := b.Lists(ctx, pub)
		if err != nil {
			return out, err
		}
		out.lists = append(out.lists, lists)
	}
	b.Tell(upstream.Event{Step: "select", Remaining: -1})
	if err := b.choose(ctx, plan, out); err != nil {
		return out, err
	}
	if err := b.sourcePackages(ctx, plan, out); err != nil {
		return out, err
	}
	b.recognise(plan, out)
	b.measure(out)
	return out, nil
}

// measure works out what is still to be fetched.
func (b *Builder) measure(out *Outcome) {
	seen := map[string]bool{}
	for _, p := range out.selection {
		key := p.SHA256 + p.SHA512
		if seen[key] {
			continue
		}
		seen[key] = true
		out.Files++
		out.Bytes += p.Size
		if size, ok := b.Pool.Has(p.SHA256); !ok || size != p.Size { // SHA-512 alone was recognised before
			out.FetchFiles++
			out.FetchBytes += p.Size
		}
	}
	for _, s := range out.sources {
		for _, f := range s.Files {
			if seen[f.SHA256] {
				continue
			}
			seen[f.SHA256] = true
			out.Files++
			out.Bytes += f.Size
			if size, ok := b.Pool.Has(f.SHA256); !ok || size != f.Size {
				out.FetchFiles++
				out.FetchBytes += f.Size
			}
		}
	}
	out.Seconds = -1
	if rate := b.Fetch.Rate(); rate > 0 {
		out.Seconds = int(out.FetchBytes / rate)
	}
	free, err := b.Pool.Free()
	if err == nil {
		out.FreeBytes = free
		if out.FetchBytes+Spare > free {
			out.Findings = append(out.Findings, finding.New(finding.MirrorWillNotFit, "mirror "+out.Mirror,
				"%d bytes must be downloaded. The disk has %d bytes free, of which %d must "+
					"stay free",
				out.FetchBytes, free, int64(Spare)))
		}
	}
}

// made is the time of the edition to be made. Clients ask whether something changed
// since a second: no two editions of a mirror are of the same one.
func (b *Builder) made(plan Plan) time.Time {
	now := b.Now().UTC()
	if p := plan.Previous; p != nil {
		if next := p.Created.Truncate(time.Second).Add(time.Second); now.Before(next) &&
			next.Sub(now) <= time.Second {
			return next
		}
	}
	return now
}

// Build makes an edition, or tells why not. The outcome is there in either case.
func (b *Builder) Build(ctx context.Context, plan Plan) (*Outcome, error) {
	ctx, failures := upstream.Gather(ctx)
	out, err := b.Estimate(ctx, plan)
	if err != nil || out.Unchanged {
		return out, err
	}
	if out.Findings.HasErrors() {
		return out, errorsOf(out.Findings)
	}
	err = b.fetchPackages(ctx, plan, out)
	if err == nil {
		err = b.fetchSources(ctx, out)
	}
	out.Findings = append(out.Findings, failures.Told()...)
	if err != nil {
		return out, err
	}
	if err := b.keyPackages(ctx, out); err != nil {
		return out, err
	}
	b.Tell(upstream.Event{Step: "write", Remaining: -1})
	files := edition.NewCollection()
	e := &edition.Edition{Format: edition.ListBySource, Mirror: plan.Name, Number: plan.Number,
		Created: b.made(plan), Copy: plan.Mirror.Copy,
		SiteKey: b.Site.Certificate().Fingerprint, Inputs: out.Inputs,
		Packages: len(out.selection), Findings: out.Findings, Journal: plan.Journal,
		Views: out.editionViews(), Proofs: out.Proofs}
	var items bytes.Buffer
	enc := json.NewEncoder(&items)
	for _, p := range out.selection {
		path := p.src.Name + "/" + p.Path
		if err := files.Add(edition.Line{Path: path, Size: p.Size, SHA256: p.SHA256}); err != nil {
			return out, upstream.About(err, p.src.Name)
		}
		if p.signature != "" {
			beside := archive.SignatureOf(p.src.Family, path)
			size, ok := b.Pool.Has(p.signature)
			if !ok {
				return out, upstream.About(b.lacks(p.signature, beside), p.src.Name)
			}
			if err := files.Add(edition.Line{Path: beside, Size: size, SHA256: p.signature}); err != nil {
				return out, upstream.About(err, p.src.Name)
			}
		}
		enc.Encode(edition.Item{Source: p.src.Name, Name: p.Name, Version: p.Version, Arch: p.Arch,
			Component: p.Component, Size: p.Size,
			SHA256: p.SHA256, SHA512: p.foreign, Path: path, Origin: p.Origin,
			Summary: p.Summary, Licence: p.Licence, Attributes: out.attributes(p.Package),
			Signer:    p.signer.Fingerprint,
			Signature: p.signature, For: p.why, How: p.how, Wanted: p.wanted})
	}
	sources, err := out.sourceFiles(files)
	if err != nil {
		return out, err
	}
	unsigned(plan, out)
	if missing := out.Findings.With(finding.ContentSignatureMissing); len(missing) > 0 {
		return out, missing
	}
	e.Findings = out.Findings
	advisories, err := b.advisories(ctx, out)
	if err != nil {
		return out, err
	}
	e.Advisories = bytes.Count(advisories, []byte("\n"))
	for i, pub := range out.Publications {
		e.Sources = append(e.Sources, b.describe(pub, plan, out, i))
	}
	e.Content = content(items.Bytes(), advisories, sources)
	basis := *out.basis
	basis.Told = edition.ToldOf(e.Findings)
	e.Basis = &basis
	if plan.Previous != nil {
		e.Because = edition.Because(plan.Previous, e)
		if plan.Previous.Content != e.Content {
			e.Because = append(e.Because, "its packages or their metadata")
		} else if plan.Mirror.Copy == definition.Faithful && publishedSince(plan.Previous, e) {
			e.Because = append(e.Because, "what the upstream published") // its own words are part of the copy
		}
		if len(e.Because) == 0 {
			out.Unchanged = true // upstream published, and nothing of it concerns this mirror
			return out, nil
		}
	}
	for i, pub := range out.Publications {
		es := e.Sources[i]
		if plan.Mirror.Copy == definition.Faithful {
			var notes finding.List
			notes, err = b.copyIndexes(ctx, pub, files)
			out.Findings = append(out.Findings, notes...)
			e.Findings = out.Findings
		} else {
			err = b.writeIndexes(ctx, pub, out, i, e, files)
		}
		if err == nil {
			err = b.keepRoot(pub, es, files)
		}
		if err != nil {
			return out, upstream.About(err, pub.Source.Name)
		}
	}
	record, err := edition.About(e, b.certificates(plan), items.Bytes(), advisories, sources, files,
		b.Pool.Add)
	if err != nil {
		return out, err
	}
	if err := b.seal(ctx, e, files, record); err != nil {
		return out, err
	}
	out.Edition = e
	return out, nil
}

// publishedSince tells whether an upstream published something else than an earlier edition was made from.
func publishedSince(was, is *edition.Edition) bool {
	return slices.ContainsFunc(is.Sources, func(s edition.Source) bool {
		return !slices.ContainsFunc(was.Sources, func(o edition.Source) bool {
			return o.Name == s.Name && o.RootDigest == s.RootDigest
		})
	})
}

// attributes gives what a family alone knows of a package.
func (out *Outcome) attributes(p *archive.Package) map[string]string {
	if s := out.streams[p]; s != "" {
		return map[string]string{"stream": s}
	}
	return nil
}

// errorsOf leaves the errors of a list.
func errorsOf(l finding.List) finding.List {
	return slices.DeleteFunc(slices.Clone(l), func(f finding.Finding) bool {
		return f.Severity != finding.Error
	})
}

// content is a digest over the packages of an edition, and what is told of them.
func content(items, advisories, sources []byte) string {
	h := sha256.New()
	h.Write(items)
	h.Write(advisories)
	h.Write(sources)
	return hex.EncodeToString(h.Sum(nil))
}

func (b *Builder) describe(pub *upstream.Publication, plan Plan, out *Outcome, i int) edition.Source {
	s := pub.Source
	es := edition.Source{Source: s.Spec, Standing: s.Standing, Priority: s.Priority,
		Tailored: plan.Mirror.Copy == definition.Tailored,
		Origin:   pub.Root.Origin, Label: pub.Root.Label, Suite: pub.Root.Suite, Codename: pub.Root.Codename,
		RootDate:   pub.Root.Date,
		RootDigest: pub.Accepted.Digest, Signer: pub.Root.Signer, Upstream: pub.Accepted.Upstream,
		Packages: out.BySource[s.Name], Streams: s.Want.Streams, SecurityFixes: s.SecurityFixes}
	for _, p := range out.sources {
		if p.src == s {
			es.SourcePackages++
		}
	}
	if u := s.Unsigned; u != nil {
		es.Unsigned = edition.Unsigned{Reason: u.Reason, Until: u.Until, By: u.By, At: u.At}
	}
	if s.House == nil {
		es.Vouched = s.Vouched[es.Signer.Fingerprint]
		for _, f := range pub.Accepted.Files {
			es.Roots = append(es.Roots, edition.Index{Path: f.Path, SHA256: f.SHA256})
		}
	}
	for _, l := range out.lists[i] {
		es.Indexes = append(es.Indexes, edition.Index{Path: l.Used.Path, SHA256: l.SHA256})
	}
	if es.Tailored {
		es.Keys = b.signs(s.Family).Fingerprints()
	}
	if !es.Tailored || s.Family.SignsPackages() {
		for _, c := range s.Keyring.Counting() {
			if !slices.Contains(es.Keys, c.Fingerprint) {
				es.Keys = append(es.Keys, c.Fingerprint)
			}
		}
	}
	return es
}

// lacks tells why the pool has not what was taken into it: it is gone, or this machine could not
// look.
func (b *Builder) lacks(sum, path string) error {
	f, err := b.Pool.Open(sum)
	if err != nil {
		return pool.Gone(err, path)
	}
	f.Close()
	return finding.New(finding.FaultCode, "", "%s in the pool could not be read before, and "+
		"can be read now", path).
		Do("run it again")
}

// keepRoot keeps, in an edition, the root that it was made from as upstream signed it, and
// the certificate that did. A faithful copy has the root itself.
func (b *Builder) keepRoot(pub *upstream.Publication, es edition.Source, files *edition.Collection) error {
	for _, r := range es.Roots {
		size, ok := b.Pool.Has(r.SHA256)
		if !ok {
			return b.lacks(r.SHA256, r.Path)
		}
		if err := files.Add(edition.Line{Path: es.RootPath(r.Path), Size: size,
			SHA256: r.SHA256}); err != nil {
			return err
		}
	}
	for _, c := range pub.Source.Keyring.Counting() {
		if c.Fingerprint != es.Signer.Fingerprint || len(es.Roots) == 0 {
			continue
		}
		data := []byte(c.Armoured())
		sum, err := b.Pool.Add(data)
		if err != nil {
			return err
		}
		return files.Add(edition.Line{Path: edition.SignerPath(c.Fingerprint), Size: int64(len(data)),
			SHA256: sum})
	}
	return nil
}

// writeIndexes writes the repository of one source of a tailored mirror.
func (b *Builder) writeIndexes(ctx context.Context, pub *upstream.Publication, out *Outcome, i int,
	e *edition.Edition, files *edition.Collection) error {
	src := pub.Source
	chosen := map[[2]int]*archive.Package{}
	for _, p := range out.selection {
		if p.src == src {
			chosen[[2]int{p.Index, p.Ordinal}] = p.Package
		}
	}
	// What cannot be read here is nothing that upstream should be told of.
	reading := finding.Watching("read the packages of " + src.Name)
	return reading.Blame(src.Family.Write(archive.Writing{
		Source: src.Spec, Root: pub.Root, Time: e.Created, Note: e.Name(), Sign: b.signs(src.Family),
		Each: func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool,
			f func(*archive.Package, []byte) error) error {
			seen := map[string]bool{}
			for n, l := range out.lists[i] {
				if !list(l.IndexChoice) {
					continue
				}
				if err := b.Read(src, n, l, func(p *archive.Package, raw []byte) error {
					c, ok := chosen[[2]int{n, p.Ordinal}]
					// A package for all architectures may stand in several lists.
					if key := p.Name + "\x00" + p.Version + "\x00" + p.Arch; ok && want(p) && !seen[key] {
						seen[key] = true
						return f(c, raw)
					}
					return nil
				}); err != nil {
					return err
				}
			}
			return nil
		},
		Sources: out.sourcesOf(src),
		Open:    func(f archive.IndexFile) (io.ReadCloser, error) { return b.lore(ctx, src, f) },
		Package: b.packages(reading),
		Put: func(path string, data []byte) error {
			sum, err := b.Pool.Add(data)
			if err != nil {
				return err
			}
			return files.Add(edition.Line{Path: src.Name + "/" + path, Size: int64(len(data)), SHA256: sum})
		},
	}))
}

// packages opens packages of the pool for a family that writes about them.
func (b *Builder) packages(reading *finding.Watch) func(*archive.Package) (io.ReadSeekCloser, error) {
	return func(p *archive.Package) (io.ReadSeekCloser, error) {
		f, err := b.Pool.Open(p.SHA256)
		if err != nil {
			return nil, pool.Gone(err, p.Path)
		}
		return struct {
			io.ReadSeeker
			io.Closer
		}{reading.ReadSeeker(f), f}, nil
	}
}

// copyIndexes takes the root and the companions of a faithful mirror over.
func (b *Builder) copyIndexes(ctx context.Context, pub *upstream.Publication,
	files *edition.Collection) (finding.List, error) {
	src := pub.Source
	put := func(path, sum string) error {
		size, ok := b.Pool.Has(sum)
		if !ok {
			return b.lacks(sum, path)
		}
		return files.Add(edition.Line{Path: src.Name + "/" + path, Size: size, SHA256: sum})
	}
	for _, f := range pub.Accepted.Files {
		if err := put(f.Path, f.SHA256); err != nil {
			return nil, err
		}
	}
	notes, err := b.otherRoots(ctx, pub, put)
	if err != nil {
		return nil, err
	}
	companions := src.Family.Companions(src.Spec, pub.Root)
	slices.SortStableFunc(companions, func(a, b archive.Companion) int { return cmp.Compare(a.Path, b.Path) })
	var total int64
	for _, c := range companions {
		if c.Signature != "" {
			continue // how long it is is not known before
		}
		if _, here := b.Pool.Find(upstream.Wanted(c.Path, c.Size, c.SHA256, c.SHA512)); !here {
			total += max(c.Size, 0)
		}
	}
	p := b.Progress("indexes", len(companions), total)
	defer p.End()
	for _, c := range companions {
		if c.Signature != "" {
			left, err := b.signedCompanion(ctx, src, c, put)
			if err != nil {
				return nil, err
			}
			notes = append(notes, left...)
			p.Add("", 0, 1)
			continue
		}
		sum, ok := b.Pool.Find(upstream.Wanted(c.Path, c.Size, c.SHA256, c.SHA512))
		if !ok {
			var err error
			sum, err = b.FetchInto(ctx, src, upstream.Wanted(c.Path, c.Size, c.SHA256, c.SHA512), c.Paths, p,
				nil)
			if err != nil {
				if errors.Is(err, fetch.ErrNotFound) && !c.Required {
					if _, judged := finding.From(err); !judged {
						p.Add("", max(c.Size, 0), 1)
						continue // upstream names it and does not have it; clients take another form
					}
				}
				return nil, unfetched(ctx, err, src.Name, c.Path, "the release metadata")
			}
		}
		p.Add("", 0, 1)
		for _, place := range c.Places {
			if err := put(place, sum); err != nil {
				return nil, err
			}
		}
	}
	return notes, nil
}

// otherRoots takes the root's other forms along, where upstream has them, they
// verify, and they say the same.
func (b *Builder) otherRoots(ctx context.Context, pub *upstream.Publication,
	put func(path, sum string) error) (notes finding.List, err error) {
	src := pub.Source
	for i, choice := range src.Family.Roots(src.Spec) {
		if i == pub.Accepted.Choice {
			continue
		}
		data := map[string][]byte{}
		for _, f := range choice {
			var lacks error
			if data[f.Path], lacks = b.Small(ctx, src, f.Path, upstream.MaxRoot); lacks == nil {
				continue
			}
			left, err := leftOut(ctx, lacks, src.Name, f.Path)
			if err != nil {
				return notes, err
			}
			notes, data = append(notes, left...), nil
			break
		}
		if data == nil {
			continue
		}
		root, differs := src.Family.ReadRoot(src.Spec, choice, data, src.Keyring)
		if differs != nil || !sameRoot(root, pub.Root) {
			notes = append(notes, finding.New(finding.SourceRootFormsDiffer, "source "+src.Name,
				"%s differs from %s, or its signature is from another publication. It is left "+
					"out of the copy",
				choice[0].Path, pub.Root.Paths[0]))
			continue
		}
		for _, f := range choice {
			sum, err := b.Pool.Add(data[f.Path])
			if err != nil {
				return notes, err
			}
			if err := put(f.Path, sum); err != nil {
				return notes, err
			}
		}
	}
	return notes, ctx.Err()
}

// sameRoot tells whether two roots are of one publication.
func sameRoot(a, b *archive.Root) bool {
	return a.Date.Equal(b.Date) && maps.Equal(a.Entries, b.Entries)
}

// certificates gives those that machines need for an edition: the site's, and for what
// upstream signed, upstream's.
func (b *Builder) certificates(plan Plan) []*trust.Certificate {
	out := b.Site.Certificates()
	for _, s := range plan.Sources {
		if plan.Mirror.Copy == definition.Faithful || s.Family.SignsPackages() {
			out = append(out, s.Keyring.Counting()...)
		}
	}
	return out
}

// seal makes what was taken in durable, and seals the edition.
func (b *Builder) seal(ctx context.Context, e *edition.Edition, files *edition.Collection,
	record []byte) error {
	b.Tell(upstream.Event{Step: "seal", Remaining: -1})
	m, err := files.Manifest(b.Pool.Add)
	if err != nil {
		return err
	}
	if err := b.Pool.Flush(); err != nil {
		return fmt.Errorf("make the pool durable: %w", err)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return edition.Seal(disk.OS, b.Editions, e, m, record, b.Site)
}
