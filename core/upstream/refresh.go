package upstream

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"stockade/core/archive"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/pool"
)

// MaxRoot bounds one file of a root (bytes).
const MaxRoot = 32 << 20

// Refresh asks the upstreams of a source for its root and judges it: signature,
// release, dates, and no going back. The first upstream whose root is good is
// the one used. An error is about this source as a whole.
func (b *Reader) Refresh(ctx context.Context, src *Source) (*Publication, error) {
	b.Tell(Event{Step: "roots", Text: src.Name, Remaining: -1})
	if a := src.Accepted; a != nil && b.Now().Before(a.Date.Add(-24*time.Hour)) {
		return nil, finding.New(finding.SiteClock, "source "+src.Name,
			"the clock of this machine says %s, but the accepted release metadata was made on "+
				"%s",
			b.Now().UTC().Format(time.DateTime), a.Date.Format(time.DateTime))
	}
	pub := &Publication{Source: src}
	if len(src.Route.Lists) > 0 {
		var told finding.List
		src.Route, told = b.Fetch.Expand(ctx, src.Route, src.roots()[0][0].Path,
			serverOf(src.Family))
		src.Route.Lists = nil
		pub.Findings = append(pub.Findings, told...)
	}
	var last error
	for i, choice := range src.roots() {
		if src.House != nil {
			last = b.refreshHouse(ctx, src, pub, i, choice)
		} else {
			last = b.refreshBy(ctx, src, pub, i, choice)
		}
		if last == nil {
			break
		}
		if !errors.Is(last, fetch.ErrNotFound) {
			break // an upstream that has it wrong is not asked for it in another form
		}
		if _, judged := finding.From(last); judged {
			break
		}
	}
	if last != nil {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if f, ok := finding.From(last); ok {
			if f.Object == "" {
				f.Object = "source " + src.Name
			}
			return pub, f
		}
		if errors.Is(last, fetch.ErrNotFound) {
			if src.Spec.Release == "" {
				return pub, finding.New(finding.SourceRootMissing, "source "+src.Name,
					"no upstream has the signed release metadata complete").Do("check the URL and the " +
					"components")
			}
			return pub, finding.New(finding.SourceRootMissing, "source "+src.Name,
				"no upstream has signed release metadata for the release %s", src.Spec.Release)
		}
		return pub, finding.New(finding.SourceUpstreamDown, "source "+src.Name,
			"no upstream can be used: %v",
			last).Rated(finding.Error).
			Do("check the network and the upstreams. Stockade still serves the last edition, " +
				"if there is one")
	}
	pub.Findings = append(pub.Findings, src.Family.CheckRoot(src.Spec, pub.Root)...)
	if src.MaxAge > 0 {
		made, what := pub.Root.Date, "its root"
		if !pub.Root.Oldest.IsZero() { // of several parts, the one that was held back
			made, what = pub.Root.Oldest, "its "+pub.Root.OldestPath
		}
		if age := b.Now().Sub(made); age > src.MaxAge {
			pub.Findings = append(pub.Findings, finding.New(finding.SourceStale, "source "+src.Name,
				"%s was made on %s, %s ago. max_age allows %s", what, made.Format(time.DateOnly),
				behind(age), behind(src.MaxAge)))
		}
	}
	pub.Findings = append(pub.Findings, besides(src, pub.Root.Signer, b.Now())...)
	pub.Findings = append(pub.Findings, idle(src, pub.Root)...)
	pub.Findings = append(pub.Findings, b.keysBeside(ctx, src, pub.Accepted.Upstream)...)
	pub.Findings = append(pub.Findings, quiet(src.Name, pub.Accepted.Published, b.Now())...)
	pub.Findings = append(pub.Findings, pub.Failures...)
	return pub, nil
}

// serverOf reads lines of lists of servers in the form that a family's clients have; nil
// where they have none of their own.
func serverOf(f archive.Family) func(line string) string {
	if l, ok := f.(archive.Listing); ok {
		return l.ServerOf
	}
	return nil
}

func (b *Reader) refreshBy(ctx context.Context, src *Source, pub *Publication, index int,
	choice archive.RootChoice) error {
	old := src.Accepted
	if old != nil && (old.Choice != index || len(old.Files) != len(choice) || !b.haveAll(old.Files)) {
		old = nil
	}
	var lacking []fetch.Upstream // that have no root, where another has one
	err := b.Fetch.Get(ctx, src.Route, b.rootRequest(choice[0], old), func(r *fetch.Response) error {
		files := map[string][]byte{}
		said := map[string]conditionals{}
		fresh := map[string]bool{}
		take := func(f archive.RootFile, r *fetch.Response) error {
			if r.NotModified {
				return b.takeOld(old, f.Path, files)
			}
			data, err := io.ReadAll(r.Body)
			files[f.Path], fresh[f.Path] = data, true
			said[conditionalKey(r.Upstream, f.Path)] = conditionals{r.ETag, r.LastModified}
			return err
		}
		if err := take(choice[0], r); err != nil {
			return err
		}
		only := src.Route
		only.Upstreams = []fetch.Upstream{r.Upstream}
		for _, f := range choice[1:] {
			known := old
			if fresh[f.Signs] {
				known = nil // a signature of before is on something else
			}
			// A signature is asked for even where what it signs did not change: a key that was
			// renewed, or replaced, signs the same bytes again.
			err := b.Fetch.Get(ctx, only, b.rootRequest(f, known), func(r *fetch.Response) error {
				return take(f, r)
			}, nil)
			if f.Signs != "" && errors.Is(err, fetch.ErrNotFound) {
				return finding.New(finding.ContentSignatureBad, "source "+src.Name,
					"%s has %s, but no signature %s beside it",
					fetch.Shown(r.Upstream.URL), f.Signs, f.Path).Because("none")
			}
			if err != nil {
				return err
			}
		}
		root, err := b.readRoot(src, choice, files)
		if err != nil {
			return About(err, src.Name)
		}
		if err := b.judge(src, root); err != nil {
			return err
		}
		return b.accept(src, pub, index, choice, files, root, r.Upstream, said)
	}, func(f *fetch.Failure) {
		b.Logger().Warn("upstream failed", "source", src.Name, "upstream", fetch.Shown(f.Upstream.URL),
			"error",
			f.Err)
		if !errors.Is(f.Err, fetch.ErrNotFound) {
			pub.Failures = append(pub.Failures, f.Told(src.Name))
		} else {
			lacking = append(lacking, f.Upstream)
		}
	})
	if err != nil || len(lacking) == 0 {
		return err
	}
	// They are not asked first for every file that stands in it.
	route := slices.DeleteFunc(slices.Clone(src.Route.Upstreams), func(u fetch.Upstream) bool {
		return slices.ContainsFunc(lacking, func(l fetch.Upstream) bool { return l.URL == u.URL })
	})
	src.Route.Upstreams = append(route, lacking...)
	for _, u := range lacking {
		pub.Failures = append(pub.Failures, finding.New(finding.SourceUpstreamDown, "source "+src.Name,
			"%s: it has no %s, but another upstream has", fetch.Shown(u.URL), choice[0].Path))
	}
	return nil
}

// rootRequest asks for a file of a root, conditionally where an upstream told
// how to the last time.
func (b *Reader) rootRequest(f archive.RootFile, old *Accepted) fetch.Request {
	req := fetch.Request{Path: f.Path, Max: MaxRoot}
	if old != nil {
		req.Known = func(u fetch.Upstream) (string, string) {
			c := old.Conditional[conditionalKey(u, f.Path)]
			return c.ETag, c.LastModified
		}
	}
	return req
}

func conditionalKey(u fetch.Upstream, path string) string { return u.URL + " " + path }

// takeOld takes a file of the accepted root from the pool.
func (b *Reader) takeOld(old *Accepted, path string, files map[string][]byte) error {
	for _, f := range old.Files {
		if f.Path == path {
			data, err := b.ReadFile(f.SHA256)
			files[path] = data
			return err
		}
	}
	return fmt.Errorf("the accepted release metadata has no %s", path)
}

func (b *Reader) haveAll(files []AcceptedFile) bool {
	for _, f := range files {
		if _, ok := b.Pool.Has(f.SHA256); !ok {
			return false
		}
	}
	return len(files) > 0
}

// ReadFile gives a small file of the pool, checked against its name.
func (b *Reader) ReadFile(sha string) ([]byte, error) {
	f, err := b.Pool.Open(sha)
	if err != nil {
		return nil, pool.Gone(err, "the file "+sha)
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, 1<<30))
	if err != nil {
		return nil, finding.Doing(err, "read the file %s of the pool", sha)
	}
	if sum := sha256.Sum256(data); hex.EncodeToString(sum[:]) != sha {
		return nil, finding.New(finding.EditionDamaged, "", "the file %s of the pool was changed on disk",
			sha)
	}
	return data, nil
}

// judge compares a verified root with the definition, the clock and the root
// that was accepted before.
func (b *Reader) judge(src *Source, r *archive.Root) error {
	object := "source " + src.Name
	now := b.Now()
	for _, f := range src.Family.CheckRoot(src.Spec, r) {
		if f.Severity == finding.Error && f.Code == finding.SourceReleaseMismatch {
			return f
		}
	}
	if !r.Expires.IsZero() && now.After(r.Expires) {
		return finding.New(finding.SourceExpiredIndex, object, "the release metadata expired "+
			"on %s",
			r.Expires.Format(time.DateTime))
	}
	if r.Date.After(now.Add(24 * time.Hour)) {
		return finding.New(finding.SourceFutureIndex, object,
			"the release metadata is dated %s, but the clock of this machine says %s",
			r.Date.Format(time.DateTime), now.UTC().Format(time.DateTime))
	}
	old := src.Accepted
	if old == nil || src.AcceptOnce != "" {
		return nil
	}
	if r.Date.Before(old.Date) {
		return finding.New(finding.SourceOlderThanAccepted, object,
			"the release metadata was made on %s, but one made on %s was accepted before",
			r.Date.Format(time.DateTime), old.Date.Format(time.DateTime)).
			Do("wait, or use another upstream. To accept it once, run: stockade source refresh "+
				"%s --accept-once \"the reason\"", src.Name)
	}
	for p, now := range r.Dates {
		if was, ok := old.Dates[p]; ok && now.Before(was) {
			return finding.New(finding.SourceOlderThanAccepted, object,
				"%s was signed on %s, but one signed on %s was accepted before", p, now.Format(time.DateTime),
				was.Format(time.DateTime)).
				Do("wait, or use another upstream. To accept it once, run: stockade source "+
					"refresh %s --accept-once \"the reason\"", src.Name)
		}
	}
	for _, said := range []struct{ what, now, before string }{
		{"origin", r.Origin, old.Origin}, {"label", r.Label, old.Label},
		{"codename", r.Codename, old.Codename}, {"name", nameOf(r.Suite, r.Codename),
			nameOf(old.Suite, old.Codename)},
	} {
		if said.now != said.before {
			return anotherRepository(src, "the release metadata has the %s %q, but the one "+
				"accepted before has %q",
				said.what, said.now, said.before)
		}
	}
	return nil
}

// nameOf is what a repository calls itself where it has no codename: with one,
// its suite may come to be another.
func nameOf(suite, codename string) string {
	if codename != "" {
		return codename
	}
	return suite
}

func anotherRepository(src *Source, format string, args ...any) finding.Finding {
	return finding.New(finding.SourceOtherRepository, "source "+src.Name, format, args...).
		Do("ask the owner of the upstream why. To accept it once, run: stockade source refresh "+
			"%s --accept-once \"the reason\"",
			src.Name)
}

// sample compares the names in the lists of a publication with those of the root
// that was accepted before: another repository of the same owner has a valid
// signature too. What the lists have becomes known for the next time.
func (b *Reader) sample(ctx context.Context, pub *Publication, lists []List) error {
	src := pub.Source
	if !pub.Changed && pub.Accepted.Samples != nil || src.House != nil {
		pub.Judged = true
		return nil
	}
	pub.Accepted.Samples = map[string][]string{}
	for n, l := range lists {
		var names archive.Sampler
		if err := b.Read(src, n, l, func(p *archive.Package, _ []byte) error {
			names.Add(p.Name)
			return ctx.Err()
		}); err != nil {
			return err
		}
		key := l.Component + "/" + l.Arch
		pub.Accepted.Samples[key] = names.Names()
		if old := src.Accepted; old != nil && src.AcceptOnce == "" &&
			archive.OfAnother(old.Samples[key], names.Names()) {
			return anotherRepository(src,
				"the index %s has hardly any of the package names that it had before, so it is "+
					"from another repository",
				l.Used.Path)
		}
	}
	pub.Judged = true
	return nil
}

func (b *Reader) accept(src *Source, pub *Publication, index int, choice archive.RootChoice,
	files map[string][]byte, root *archive.Root, from fetch.Upstream, said map[string]conditionals) error {
	a := Accepted{Source: src.Name, At: b.Now().UTC(), Date: root.Date, Expires: root.Expires,
		Origin: root.Origin, Label: root.Label,
		Suite: root.Suite, Codename: root.Codename, Signer: root.Signer, Upstream: fetch.Shown(from.URL),
		Choice: index,
		Dates:  root.Dates, Version: root.Version, Conditional: map[string]conditionals{},
		Offers: Offers{root.Components, root.Architectures}}
	sums, digest := digestsOfRoot(choice, files)
	told, err := src.unpinned(digest)
	if err != nil {
		return err
	}
	for i, f := range choice {
		if _, err := b.Pool.Add(files[f.Path]); err != nil {
			return err
		}
		a.Files = append(a.Files, AcceptedFile{Path: f.Path, SHA256: sums[i]})
	}
	a.Digest = digest
	pub.Findings = append(pub.Findings, told...)
	pub.Changed = src.Accepted == nil || src.Accepted.Digest != a.Digest
	if src.Accepted != nil {
		a.Published = slices.Clone(src.Accepted.Published)
	}
	if n := len(a.Published); n == 0 || root.Date.After(a.Published[n-1]) {
		a.Published = append(a.Published, root.Date)
	}
	a.Published = a.Published[max(0, len(a.Published)-maxPublished):]
	if !pub.Changed {
		a.Samples, pub.Judged = src.Accepted.Samples, true
		for k, v := range src.Accepted.Conditional { // what other upstreams said of these very bytes
			a.Conditional[k] = v
		}
	}
	for k, v := range said {
		a.Conditional[k] = v
	}
	pub.Root, pub.Accepted = root, a
	return nil
}

// MayAccept tells whether what was found good takes the place of what was accepted
// meanwhile (nil: nothing): not before its lists were looked at, and not over a newer
// root, unless a person takes it once.
func (p *Publication) MayAccept(now *Accepted) bool {
	if !p.Judged {
		return false
	}
	return now == nil || p.Source.AcceptOnce != "" || !now.Date.After(p.Accepted.Date)
}

// ReadAccepted reads the accepted root again from the pool, and verifies it
// anew: a key that was barred since does not count any more.
func (b *Reader) ReadAccepted(src *Source) (*archive.Root, error) {
	if src.Accepted == nil {
		return nil, finding.New(finding.SourceRootMissing, "source "+src.Name,
			"no release metadata of this source was accepted yet").
			Do("run stockade source refresh %s", src.Name)
	}
	files := map[string][]byte{}
	for _, f := range src.Accepted.Files {
		data, err := b.ReadFile(f.SHA256)
		if err != nil {
			return nil, About(err, src.Name)
		}
		files[f.Path] = data
	}
	choices := src.roots()
	if src.Accepted.Choice >= len(choices) {
		return nil, finding.New(finding.SourceRootMissing, "source "+src.Name,
			"the accepted release metadata is for an earlier form of the definition")
	}
	choice := choices[src.Accepted.Choice]
	for _, f := range choice {
		if _, ok := files[f.Path]; !ok {
			return nil, finding.New(finding.SourceRootMissing, "source "+src.Name,
				"the accepted release metadata has no %s: it is for an earlier form of the "+
					"definition", f.Path).
				Do("run stockade source refresh %s", src.Name)
		}
	}
	root, err := b.readRoot(src, choice, files)
	return root, About(err, src.Name)
}

// behind writes a length of time in two units at most.
func behind(d time.Duration) string {
	unit := func(n int, one, many string) string {
		if n == 1 {
			return "1 " + one
		}
		return fmt.Sprintf("%d %s", n, many)
	}
	two := func(whole string, m int, part string) string {
		if m == 0 {
			return whole
		}
		return whole + " " + part
	}
	switch m := int(d.Minutes()); {
	case m < 60:
		return fmt.Sprintf("%d min", max(m, 1))
	case m < 24*60:
		return two(fmt.Sprintf("%d h", m/60), m%60, fmt.Sprintf("%d min", m%60))
	default:
		return two(unit(m/(24*60), "day", "days"), m/60%24, fmt.Sprintf("%d h", m/60%24))
	}
}
