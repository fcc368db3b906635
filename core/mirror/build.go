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
	"strings"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/core/solve"
)

// Plan is what a build starts from.
type Plan struct {
	Name     string
	Mirror   definition.Mirror
	Sources  []*Source // those of the mirror, in its order
	Others   []*Source // defined and enabled, but not in the mirror: asked who has what is missing
	Number   int       // of the edition to be made
	Previous *Edition  // the newest edition that stands; nil: none
	Items    []Item    // its packages
	Journal  string    // the signed head of the site's journal
}

// Outcome is what came of a build or an estimate.
type Outcome struct {
	Mirror       string         `json:"mirror"`
	Unchanged    bool           `json:"unchanged"` // nothing changed upstream: no edition was made
	Edition      *Edition       `json:"edition,omitempty"`
	Files        int            `json:"files"`
	Bytes        int64          `json:"bytes"`       // of all packages that are chosen
	FetchFiles   int            `json:"fetch_files"` // packages that the pool lacks
	FetchBytes   int64          `json:"fetch_bytes"` //
	FreeBytes    int64          `json:"free_bytes"`  // on the disk of the pool
	Seconds      int            `json:"seconds"`     // to fetch, at the rate of the last transfers; -1: unknown
	Packages     int            `json:"packages"`
	Wanted       int            `json:"wanted"`
	BySource     map[string]int `json:"by_source"`
	Findings     finding.List   `json:"findings"`
	Publications []*Publication `json:"-"`
	selection    []pick
	lists        [][]List
}

// pick is a chosen package with its source.
type pick struct {
	*archive.Package
	src       *Source
	wanted    bool
	why       string
	signature string         // SHA-256 of the detached signature beside it
	signer    archive.Signer // of the package itself
}

// spare is how much must stay free on the disk after a build (bytes).
const spare = 64 << 20

// Estimate does everything up to the first package download, and stores only
// roots and indexes. Findings tell what would keep the build from a seal.
func (b *Builder) Estimate(ctx context.Context, plan Plan) (*Outcome, error) {
	out := &Outcome{Mirror: plan.Name, BySource: map[string]int{}, Findings: finding.List{}}
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
	if p := plan.Previous; p != nil && p.Inputs == inputs(plan, out.Publications) {
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
	b.tell(Event{Step: "select", Remaining: -1})
	if err := b.choose(ctx, plan, out); err != nil {
		return out, err
	}
	out.Findings = append(out.Findings, b.apart(plan, out)...)
	b.measure(out)
	return out, nil
}

// inputs is a digest over everything that the content of an edition follows from.
func inputs(plan Plan, pubs []*Publication) string {
	h := sha256.New()
	m := plan.Mirror
	m.Schedule, m.Keep = "", 0 // these change no content
	enc := json.NewEncoder(h)
	enc.Encode(m)
	for _, p := range pubs {
		enc.Encode(p.Source.Spec)
		enc.Encode([]any{p.Source.Priority, p.Accepted.Digest})
	}
	return hex.EncodeToString(h.Sum(nil))
}

func (b *Builder) choose(ctx context.Context, plan Plan, out *Outcome) error {
	byFamily := map[string][]int{}
	var families []string
	for i, s := range plan.Sources {
		if _, seen := byFamily[s.Spec.Family]; !seen {
			families = append(families, s.Spec.Family)
		}
		byFamily[s.Spec.Family] = append(byFamily[s.Spec.Family], i)
	}
	for _, family := range families {
		if err := b.chooseFamily(ctx, plan, out, byFamily[family]); err != nil {
			return err
		}
	}
	slices.SortStableFunc(out.selection, func(x, y pick) int {
		return cmp.Or(strings.Compare(x.src.Name, y.src.Name), x.Index-y.Index, x.Ordinal-y.Ordinal)
	})
	for _, p := range out.selection {
		out.BySource[p.src.Name]++
		if p.wanted {
			out.Wanted++
		}
	}
	out.Packages = len(out.selection)
	return nil
}

func (b *Builder) chooseFamily(ctx context.Context, plan Plan, out *Outcome, members []int) error {
	var sources []solve.Source
	for _, i := range members {
		s := plan.Sources[i]
		sources = append(sources, solve.Source{Name: s.Name, Priority: s.Priority, Architectures: s.Spec.Architectures, Except: s.Want.Except})
	}
	u := solve.NewUniverse(plan.Sources[members[0]].Family, sources)
	var wants []solve.Want
	for k, i := range members {
		src := plan.Sources[i]
		seen, err := b.streams(ctx, plan, out, i)
		if err != nil {
			return err
		}
		for n, l := range out.lists[i] {
			if err := b.Read(src, n, l, func(p *archive.Package, _ []byte) error {
				if seen(p) {
					u.Add(k, p)
				}
				return ctx.Err()
			}); err != nil {
				return err
			}
		}
		if src.Want.Everything {
			wants = append(wants, solve.Want{Source: k, Relation: archive.Relation{Name: "*"}, As: "everything"})
		}
		for _, w := range src.Want.Packages {
			r, err := archive.ParseWant(w)
			if err != nil {
				return err
			}
			wants = append(wants, solve.Want{Source: k, Relation: r, With: src.Want.With, Versions: max(src.Want.Versions, 1), As: w})
		}
	}
	if err := b.paths(ctx, plan, out, members, u); err != nil {
		return err
	}
	s, err := u.Select(ctx, wants, b.Proof)
	if f, ok := finding.From(err); ok {
		f.Object = "mirror " + plan.Name
		return f
	}
	if err != nil {
		return err
	}
	for _, c := range s.Chosen {
		out.selection = append(out.selection, pick{Package: c.Package, src: plan.Sources[members[c.Source]], wanted: c.Wanted, why: c.For})
	}
	out.Findings = append(out.Findings, b.explain(ctx, plan, members, s)...)
	return nil
}

// severity is what an incomplete selection means for this mirror.
func severity(plan Plan) finding.Severity {
	if plan.Mirror.Complete == "told" {
		return finding.Warning
	}
	return finding.Error
}

// maxTold bounds the findings of one kind about one mirror.
const maxTold = 200

func (b *Builder) explain(ctx context.Context, plan Plan, members []int, s *solve.Selection) finding.List {
	object := "mirror " + plan.Name
	var out finding.List
	for _, m := range s.Unmatched {
		src := plan.Sources[members[m.Source]]
		if m.As == "everything" {
			f := finding.New("mirror.want-no-match", object, "the source %s has no packages", src.Name).Rated(finding.Warning)
			out = append(out, f)
			continue
		}
		f := finding.New("mirror.want-no-match", object, "%q matches nothing in %s", m.As, src.Name).Rated(severity(plan))
		switch {
		case len(m.Versions) > 0:
			f.WayOut = "it has " + m.Relation.Name + " in " + strings.Join(m.Versions, ", ")
		case len(m.Near) > 0:
			f.WayOut = "perhaps " + strings.Join(m.Near, " or ") + " is meant"
		}
		out = append(out, f)
	}
	var elsewhere *lookup
	missing := together(s.Missing)
	for i, m := range missing {
		if i >= maxTold {
			out = append(out, finding.New("mirror.missing-dependency", object, "%d further needs cannot be met", len(missing)-i).Rated(severity(plan)))
			break
		}
		f := finding.New("mirror.missing-dependency", object, "%s %s, and no source of the mirror has it for %s",
			m.who(), m.Clause.String(), strings.Join(m.archs, ", ")).Rated(severity(plan))
		if len(m.needers) == 1 && len(m.Chain) > 1 {
			f.Text += " (wanted by way of " + strings.Join(m.Chain, " → ") + ")"
		}
		switch {
		case len(m.Excepted) > 0:
			f.WayOut = strings.Join(m.Excepted, ", ") + " would do, but is excepted"
		default:
			if elsewhere == nil {
				elsewhere = b.lookAround(ctx, plan, plan.Sources[members[0]].Spec.Family)
			}
			f.WayOut = elsewhere.advise(m.Missing)
		}
		out = append(out, f)
	}
	for _, c := range s.Conflicts {
		out = append(out, finding.New("mirror.conflict", object, "%s", c.String()).Rated(severity(plan)))
	}
	for i, n := range s.Undecided {
		if i == maxTold {
			out = append(out, finding.New("mirror.not-proved", object, "%d further packages were not decided on", len(s.Undecided)-i).Rated(severity(plan)))
			break
		}
		out = append(out, finding.New("mirror.not-proved", object, "whether %s can be installed on %s is not known: %s", n.Wanted, n.Arch, n.Because).Rated(severity(plan)))
	}
	for _, d := range s.Damaged {
		if f, ok := finding.From(d); ok {
			out = append(out, f.Rated(severity(plan)))
		}
	}
	return out
}

// need is something missing with everything that needs it.
type need struct {
	solve.Missing
	needers, archs []string
}

// who names the first three that need it and counts the others.
func (n need) who() string {
	switch {
	case len(n.needers) == 1:
		return n.needers[0] + " needs"
	case len(n.needers) <= 3:
		return strings.Join(n.needers, " and ") + " need"
	}
	return fmt.Sprintf("%s and %d others need", strings.Join(n.needers[:3], ", "), len(n.needers)-3)
}

// together merges what is missing alike for several packages or architectures.
func together(all []solve.Missing) (out []need) {
	at := map[string]int{}
	for _, m := range all {
		i, seen := at[m.Clause.String()]
		if !seen {
			i = len(out)
			at[m.Clause.String()] = i
			out = append(out, need{Missing: m})
		}
		if who := m.Needer.Name + " " + m.Needer.Version; !slices.Contains(out[i].needers, who) {
			out[i].needers = append(out[i].needers, who)
		}
		if !slices.Contains(out[i].archs, m.Arch) {
			out[i].archs = append(out[i].archs, m.Arch)
		}
	}
	return out
}

// lookup knows what the other defined sources have.
type lookup struct {
	universe map[string]*solve.Universe // by source
	order    []string
}

// lookAround reads the indexes of the defined sources that are not in the
// mirror. A source that cannot be read is passed over: this is advice.
func (b *Builder) lookAround(ctx context.Context, plan Plan, family string) *lookup {
	l := &lookup{universe: map[string]*solve.Universe{}}
	quiet := *b
	quiet.Sink = nil
	for _, src := range plan.Others {
		if src.Spec.Family != family {
			continue
		}
		pub, err := quiet.Refresh(ctx, src)
		if err != nil {
			continue
		}
		lists, err := quiet.Lists(ctx, pub)
		if err != nil {
			continue
		}
		u := solve.NewUniverse(src.Family, []solve.Source{{Name: src.Name, Priority: src.Priority, Architectures: src.Spec.Architectures}})
		for n, x := range lists {
			if err = quiet.Read(src, n, x, func(p *archive.Package, _ []byte) error { u.Add(0, p); return nil }); err != nil {
				break
			}
		}
		if err == nil {
			l.universe[src.Name] = u
			l.order = append(l.order, src.Name)
		}
	}
	return l
}

func (l *lookup) advise(m solve.Missing) string {
	var have []string
	for _, name := range l.order {
		if what, ok := l.universe[name].Meets(m.Clause, m.Arch); ok {
			have = append(have, name+" has "+what)
		}
	}
	if len(have) > 0 {
		return "the defined source " + strings.Join(have, "; ") + ": add it under from"
	}
	return "no defined source has it: describe one that does, or take " + m.Chain[0] + " out"
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
		if size, ok := b.Pool.Has(p.SHA256); !ok || size != p.Size {
			out.FetchFiles++
			out.FetchBytes += p.Size
		}
	}
	out.Seconds = -1
	if rate := b.Fetch.Rate(); rate > 0 {
		out.Seconds = int(out.FetchBytes / rate)
	}
	free, err := b.Pool.Free()
	if err == nil {
		out.FreeBytes = free
		if out.FetchBytes+spare > free {
			out.Findings = append(out.Findings, finding.New("mirror.will-not-fit", "mirror "+out.Mirror,
				"%d bytes are to be fetched, and the disk has %d free (%d must stay free)", out.FetchBytes, free, int64(spare)))
		}
	}
}

// apart asks of each family whether machines could tell the sources of the mirror
// apart, before anything is fetched for them: what could not is no view.
func (b *Builder) apart(plan Plan, out *Outcome) finding.List {
	var found finding.List
	views := map[string]*archive.Client{}
	for i, pub := range out.Publications {
		s := pub.Source
		v := views[s.Spec.Family]
		if v == nil {
			v = &archive.Client{Lane: plan.Name, At: "/" + plan.Name}
			views[s.Spec.Family] = v
		}
		es := b.describe(pub, plan, out, i)
		v.Sources = append(v.Sources, archive.ClientSource{Source: es.Source, Priority: es.Priority, Tailored: es.Tailored, Streams: es.Streams,
			Origin: es.Origin, Label: es.Label, Suite: es.Suite, Codename: es.Codename})
	}
	for _, s := range plan.Sources {
		v := views[s.Spec.Family]
		if v == nil {
			continue
		}
		delete(views, s.Spec.Family)
		_, notes, err := s.Family.ClientFiles(*v)
		if f, ok := finding.From(err); ok {
			found = append(found, f)
		}
		found = append(found, notes.With("priority.ambiguous")...)
	}
	return found
}

// Build makes an edition, or tells why not. The outcome is there in either case.
func (b *Builder) Build(ctx context.Context, plan Plan) (*Outcome, error) {
	out, err := b.Estimate(ctx, plan)
	if err != nil || out.Unchanged {
		return out, err
	}
	if out.Findings.HasErrors() {
		return out, errorsOf(out.Findings)
	}
	if err := b.fetchPackages(ctx, plan, out); err != nil {
		return out, err
	}
	b.tell(Event{Step: "write", Remaining: -1})
	files := newCollect()
	e := &Edition{Format: 1, Mirror: plan.Name, Number: plan.Number, Created: b.Now().UTC(), Copy: plan.Mirror.Copy,
		SiteKey: b.Site.Certificate().Fingerprint, Inputs: inputs(plan, out.Publications), Packages: len(out.selection), Findings: out.Findings, Journal: plan.Journal}
	var items bytes.Buffer
	enc := json.NewEncoder(&items)
	for _, p := range out.selection {
		path := p.src.Name + "/" + p.Path
		if err := files.add(Line{path, p.Size, p.SHA256}); err != nil {
			return out, about(err, p.src.Name)
		}
		if size, ok := b.Pool.Has(p.signature); ok {
			if err := files.add(Line{path + ".sig", size, p.signature}); err != nil {
				return out, about(err, p.src.Name)
			}
		}
		enc.Encode(Item{Source: p.src.Name, Name: p.Name, Version: p.Version, Arch: p.Arch, Component: p.Component, Size: p.Size,
			SHA256: p.SHA256, Path: path, Origin: p.Origin, Summary: p.Summary, Licence: p.Licence, Stream: p.Stream, Signer: p.signer.Fingerprint,
			Signature: p.signature, For: p.why, Wanted: p.wanted})
	}
	unsigned(plan, out)
	if missing := out.Findings.With("content.signature-missing"); len(missing) > 0 {
		return out, missing
	}
	e.Findings = out.Findings
	advisories, err := b.advisories(ctx, out)
	if err != nil {
		return out, err
	}
	e.Advisories = bytes.Count(advisories, []byte("\n"))
	e.Content = content(plan, items.Bytes(), advisories)
	if plan.Previous != nil && plan.Mirror.Copy == "tailored" && plan.Previous.Content == e.Content {
		out.Unchanged = true // upstream published, and nothing of it concerns this mirror
		return out, nil
	}
	for i, pub := range out.Publications {
		es := b.describe(pub, plan, out, i)
		e.Sources = append(e.Sources, es)
		if plan.Mirror.Copy == "faithful" {
			var notes finding.List
			notes, err = b.copyIndexes(ctx, pub, out.lists[i], files)
			out.Findings = append(out.Findings, notes...)
			e.Findings = out.Findings
		} else {
			err = b.writeIndexes(ctx, pub, out, i, e, files)
		}
		if err != nil {
			return out, about(err, pub.Source.Name)
		}
	}
	aboutEdition, err := b.finish(plan, e, items.Bytes(), advisories, files)
	if err != nil {
		return out, err
	}
	b.tell(Event{Step: "seal", Remaining: -1})
	if err := b.Pool.Flush(); err != nil {
		return out, fmt.Errorf("make the pool durable: %w", err)
	}
	if err := ctx.Err(); err != nil {
		return out, err
	}
	if err := b.seal(e, files.manifest(), aboutEdition); err != nil {
		return out, err
	}
	out.Edition = e
	return out, nil
}

// errorsOf leaves the errors of a list.
func errorsOf(l finding.List) finding.List {
	return slices.DeleteFunc(slices.Clone(l), func(f finding.Finding) bool { return f.Severity != finding.Error })
}

// content is a digest over what machines would see of a tailored edition.
func content(plan Plan, items, advisories []byte) string {
	h := sha256.New()
	enc := json.NewEncoder(h)
	for _, s := range plan.Sources {
		enc.Encode(s.Spec)
		enc.Encode(s.Priority)
	}
	enc.Encode(plan.Mirror.Copy)
	h.Write(items)
	h.Write(advisories)
	return hex.EncodeToString(h.Sum(nil))
}

func (b *Builder) describe(pub *Publication, plan Plan, out *Outcome, i int) EditionSource {
	s := pub.Source
	es := EditionSource{Source: s.Spec, Standing: s.Standing, Priority: s.Priority, Tailored: plan.Mirror.Copy == "tailored",
		Origin: pub.Root.Origin, Label: pub.Root.Label, Suite: pub.Root.Suite, Codename: pub.Root.Codename, RootDate: pub.Root.Date,
		RootDigest: pub.Accepted.Digest, Signer: pub.Root.Signer, Upstream: pub.Accepted.Upstream, Packages: out.BySource[s.Name], Streams: s.Want.Streams}
	for _, l := range out.lists[i] {
		es.Indexes = append(es.Indexes, EditionIndex{l.Used.Path, l.SHA256})
	}
	if es.Tailored {
		es.Keys = []string{b.Site.Certificate().Fingerprint}
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

// writeIndexes writes the repository of one source of a tailored mirror.
func (b *Builder) writeIndexes(ctx context.Context, pub *Publication, out *Outcome, i int, e *Edition, files *collect) error {
	src := pub.Source
	chosen := map[[2]int]*archive.Package{}
	for _, p := range out.selection {
		if p.src == src {
			chosen[[2]int{p.Index, p.Ordinal}] = p.Package
		}
	}
	return src.Family.Write(archive.Writing{
		Source: src.Spec, Root: pub.Root, Time: e.Created, Note: e.Name(), Sign: b.Site,
		Each: func(list func(archive.IndexChoice) bool, want func(*archive.Package) bool, f func(*archive.Package, []byte) error) error {
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
		Open:    func(f archive.IndexFile) (io.ReadCloser, error) { return b.lore(ctx, src, f) },
		Package: func(p *archive.Package) (io.ReadSeekCloser, error) { return b.Pool.Open(p.SHA256) },
		Put: func(path string, data []byte) error {
			sum, err := b.Pool.Add(data)
			if err != nil {
				return err
			}
			return files.add(Line{src.Name + "/" + path, int64(len(data)), sum})
		},
	})
}

// copyIndexes takes the root and the companions of a faithful mirror over.
func (b *Builder) copyIndexes(ctx context.Context, pub *Publication, lists []List, files *collect) (finding.List, error) {
	src := pub.Source
	put := func(path, sum string) error {
		size, ok := b.Pool.Has(sum)
		if !ok {
			return finding.New("edition.damaged", "", "%s is gone from the pool", path)
		}
		return files.add(Line{src.Name + "/" + path, size, sum})
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
	have := map[string]bool{}
	for _, l := range lists {
		have[l.SHA256] = true
	}
	companions := src.Family.Companions(src.Spec, pub.Root)
	var total int64
	for _, c := range companions {
		total += max(c.Size, 0)
	}
	p := b.progress("indexes", len(companions), total)
	for _, c := range companions {
		if c.Signature != "" {
			if err := b.signedCompanion(ctx, src, c, put); err != nil {
				return nil, err
			}
			p.add("", 0, 1)
			continue
		}
		sum := c.SHA256
		if size, ok := b.Pool.Has(c.SHA256); !ok || !c.Fits(size) {
			var err error
			sum, err = b.fetchInto(ctx, src, pool.Want{Name: c.Path, Size: c.Size, SHA256: c.SHA256, SHA512: c.SHA512}, c.Paths, p, nil)
			if err != nil {
				if errors.Is(err, fetch.ErrNotFound) && !c.Required {
					if _, judged := finding.From(err); !judged {
						p.add("", max(c.Size, 0), 1)
						continue // upstream names it and does not have it; clients take another form
					}
				}
				return nil, err
			}
		}
		p.add("", 0, 1)
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
func (b *Builder) otherRoots(ctx context.Context, pub *Publication, put func(path, sum string) error) (notes finding.List, err error) {
	src := pub.Source
	for i, choice := range src.Family.Roots(src.Spec) {
		if i == pub.Accepted.Choice {
			continue
		}
		data := map[string][]byte{}
		for _, f := range choice {
			var err error
			if data[f.Path], err = b.small(ctx, src, f.Path, maxRoot); err != nil {
				data = nil
				break
			}
		}
		if data == nil {
			continue
		}
		root, err := src.Family.ReadRoot(src.Spec, choice, data, src.Keyring)
		if err != nil || !sameRoot(root, pub.Root) {
			notes = append(notes, finding.New("source.root-forms-differ", "source "+src.Name, "%s does not say the same as %s, or its signature is of another publication; it is left out of the copy",
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

// finish puts what an edition says of itself in: keys, packages, README, edition.json.
func (b *Builder) finish(plan Plan, e *Edition, items, advisories []byte, files *collect) ([]byte, error) {
	add := func(path string, data []byte) error {
		sum, err := b.Pool.Add(data)
		if err != nil {
			return err
		}
		return files.add(Line{path, int64(len(data)), sum})
	}
	site := b.Site.Certificate()
	if err := add("about/keys/"+site.Fingerprint+".asc", []byte(site.Armoured())); err != nil {
		return nil, err
	}
	for _, s := range plan.Sources {
		if plan.Mirror.Copy == "faithful" || s.Family.SignsPackages() {
			for _, c := range s.Keyring.Counting() {
				if err := add("about/keys/"+c.Fingerprint+".asc", []byte(c.Armoured())); err != nil {
					return nil, err
				}
			}
		}
	}
	if err := add(packagesFile, items); err != nil {
		return nil, err
	}
	if len(advisories) > 0 {
		if err := add(advisoriesFile, advisories); err != nil {
			return nil, err
		}
	}
	if err := add(readmeFile, readme(e)); err != nil {
		return nil, err
	}
	raw, err := json.MarshalIndent(e, "", "  ")
	if err != nil {
		return nil, err
	}
	return raw, add(editionFile, raw)
}

func readme(e *Edition) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `Stockade edition %s, made %s

This folder is a whole offline mirror. What each file is stands in "manifest";
"seal.asc" is the signature of the site that made it, with the key
%s.

To check it, with sha256sum and an OpenPGP tool and nothing else:

    gpg --import about/keys/%s.asc
    gpg --fingerprint            compare it with the one above, as you got it on another road
    gpg --verify seal.asc manifest
    sha256sum --quiet -c manifest

To use it, point machines at this folder or put it behind any web server. Each
source lies in a folder of its own, as its upstream lays it out:

`, e.Name(), e.Created.Format("2006-01-02 15:04 MST"), e.SiteKey, e.SiteKey)
	for _, s := range e.Sources {
		how := "indexes written anew, signed with the site key"
		if !s.Tailored {
			how = "copied byte for byte, signed by " + strings.Join(s.Keys, ", ")
		}
		release := ""
		if s.Release != "" {
			release = "release " + s.Release + ", "
		}
		fmt.Fprintf(&b, "    %s/    %s, %s%s: %d packages, %s\n", s.Name, s.Family, release, strings.Join(s.Architectures, " "), s.Packages, how)
	}
	b.WriteString(`
The files that a machine needs for it come from a Stockade service:

    stockade group files GROUP --at /path/of/this/folder --out ROOT
`)
	return []byte(b.String())
}
