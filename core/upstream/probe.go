package upstream

import (
	"cmp"
	"context"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"stockade/core/archive"
	"stockade/core/fetch"
	"stockade/core/finding"
)

// ProbeResult is what one upstream of a source did when it was probed.
type ProbeResult struct {
	fetch.Probe
	RootDate time.Time       `json:"root_date,omitzero"`
	Finding  finding.Finding `json:"finding,omitzero"` // why its root does not count
	Score    Score           `json:"score"`
	Rank     int             `json:"rank"` // 1: the best of those that were probed with it
	// Candidate tells that the source does not have it: a file named it for the probe.
	Candidate bool `json:"candidate,omitempty"`
}

// Score says how good an upstream is, of 100, in comparison with the best of each part among
// those that were probed with it. One that is down, or whose root does not count, has none.
type Score struct {
	Fresh     int `json:"fresh"`      // of 40: all for the newest root, none for one that is a week behind
	FirstByte int `json:"first_byte"` // of 30: all for the quickest, half where it takes twice as long
	Rate      int `json:"rate"`       // of 30: all for the fastest, half where it is half as fast
}

// Of is the whole.
func (s Score) Of() int { return s.Fresh + s.FirstByte + s.Rate }

// Limits of a probe: upstreams at once, and bytes of a file of the source by which the rate
// is measured.
const (
	probedAtOnce = 4
	sampled      = 4 << 20
	staleAfter   = 7 * 24 * time.Hour
)

// Probe asks every upstream of a source for its root and a part of a list of packages, a few
// side by side, and compares them. What was measured of each while others were measured
// beside it is what a build would have of it, which fetches from several too. What was not asked
// to the end, as it was told to stop, is no answer: the error is then the context's.
func (b *Reader) Probe(ctx context.Context, src *Source) ([]ProbeResult, finding.List, error) {
	if src.House != nil {
		return []ProbeResult{}, nil, nil
	}
	var found finding.List
	choices := slices.Clone(src.roots())
	src.Route, found = b.Fetch.Expand(ctx, src.Route, choices[0][0].Path, serverOf(src.Family))
	if src.Accepted != nil && src.Accepted.Choice < len(choices) { // that form first
		at := src.Accepted.Choice
		accepted := choices[at]
		choices = slices.Insert(slices.Delete(choices, at, at+1), 0, accepted)
	}
	all := slices.Concat(src.Route.Upstreams, src.Further)
	out := make([]ProbeResult, len(all))
	p := b.Progress("probe", len(out), 0)
	var g errgroup.Group
	g.SetLimit(probedAtOnce)
	for i, u := range all {
		g.Go(func() error {
			out[i] = b.probeOne(ctx, src, choices, u)
			out[i].Candidate = i >= len(src.Route.Upstreams)
			p.Add(fetch.Shown(u.URL), out[i].Bytes, 1)
			return nil
		})
	}
	g.Wait() // what went wrong is in the results
	p.End()
	if ctx.Err() != nil {
		return nil, nil, ctx.Err()
	}
	compareProbes(out)
	return out, append(found, probeFindings("source "+src.Name, out)...), nil
}

// probeOne measures one upstream by its root, in the first of the forms that it has.
func (b *Reader) probeOne(ctx context.Context, src *Source, choices []archive.RootChoice,
	u fetch.Upstream) (r ProbeResult) {
	var choice archive.RootChoice
	for _, choice = range choices {
		if r.Probe = b.Fetch.ProbeOne(ctx, src.Route, u, choice[0].Path, MaxRoot); !r.Missing {
			break
		}
	}
	r.Upstream.URL = fetch.Shown(r.Upstream.URL)
	if r.Error != "" {
		return r
	}
	files := map[string][]byte{choice[0].Path: r.Body}
	for _, f := range choice[1:] {
		p := b.Fetch.ProbeOne(ctx, src.Route, u, f.Path, MaxRoot)
		if p.Error != "" && !p.Missing {
			r.Error = f.Path + ": " + p.Error
			return r
		}
		files[f.Path] = p.Body
	}
	root, err := b.readRoot(src, choice, files)
	if err != nil {
		var told bool
		if r.Finding, told = finding.From(err); !told {
			r.Error = err.Error()
		}
		return r
	}
	if src.Unsigned != nil {
		_, digest := digestsOfRoot(choice, files)
		if _, err := src.unpinned(digest); err != nil {
			r.Finding, _ = finding.From(err)
			return r
		}
	}
	r.RootDate = root.Date
	lists, err := src.Family.Indexes(src.Spec, root)
	if err != nil || len(lists) == 0 || len(lists[0].Files) == 0 || len(lists[0].Files[0].Paths) == 0 {
		return r // its rate is that of the root
	}
	// A root is too small to tell a rate.
	if bytes, rate, err := b.Fetch.Sample(ctx, src.Route, u, lists[0].Files[0].Paths[0],
		sampled); err == nil {
		r.Bytes, r.Rate = bytes, rate
	}
	return r
}

// compareProbes gives each its score.
func compareProbes(all []ProbeResult) {
	var newest time.Time
	var quickest time.Duration
	var fastest int64
	counts := func(r ProbeResult) bool { return !r.RootDate.IsZero() }
	for _, r := range all {
		if !counts(r) {
			continue
		}
		if r.RootDate.After(newest) {
			newest = r.RootDate
		}
		if quickest == 0 || r.FirstByte < quickest {
			quickest = r.FirstByte
		}
		fastest = max(fastest, r.Rate)
	}
	for i, r := range all {
		if !counts(r) {
			continue
		}
		behind := min(newest.Sub(r.RootDate), staleAfter)
		all[i].Score = Score{Fresh: 40 - int(40*behind/staleAfter),
			FirstByte: int(30 * quickest / max(r.FirstByte, 1)), Rate: int(30 * r.Rate / max(fastest, 1))}
	}
	// One that is behind comes after all that are not, however fast it is.
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	newestOf := func(r ProbeResult) int {
		if counts(r) && r.RootDate.Equal(newest) {
			return 0
		}
		return 1
	}
	slices.SortStableFunc(order, func(a, b int) int {
		return cmp.Or(newestOf(all[a])-newestOf(all[b]), all[b].Score.Of()-all[a].Score.Of())
	})
	for rank, i := range order {
		all[i].Rank = rank + 1
	}
}

// probeFindings tells of upstreams that are down, refused, or behind.
func probeFindings(object string, all []ProbeResult) (found finding.List) {
	var newest time.Time
	for _, r := range all {
		if r.RootDate.After(newest) {
			newest = r.RootDate
		}
	}
	last := ""
	for _, r := range all {
		if !r.Candidate {
			last = r.Upstream.URL
		}
	}
	// The one that stands last already cannot be put there.
	behindOthers := func(f finding.Finding, r ProbeResult) finding.Finding {
		if r.Upstream.URL == last {
			if f.Code == finding.SourceUpstreamsDisagree {
				f = f.Do("ask its owner why it lags behind. This upstream is last in the order already")
			}
			return f
		}
		return f.OfUpstream(r.Upstream.URL)
	}
	down, own := 0, 0
	for _, r := range all {
		if r.Candidate { // what is wrong with it is nothing that is wrong with the source
			continue
		}
		own++
		switch {
		case r.Error != "":
			down++
			found = append(found, behindOthers(finding.New(finding.SourceUpstreamDown, object, "%s: %s",
				r.Upstream.URL, r.Error), r))
		case r.Finding.Code != "":
			found = append(found, r.Finding)
		case r.RootDate.Before(newest):
			found = append(found, behindOthers(finding.New(finding.SourceUpstreamsDisagree, object,
				"%s is behind by %s: its release metadata is from %s, but another upstream has "+
					"one from %s",
				r.Upstream.URL, behind(newest.Sub(r.RootDate)), r.RootDate.Format(time.DateTime),
				newest.Format(time.DateTime)), r))
		}
	}
	if down == own { // there is no next one
		for i := range found {
			found[i] = found[i].Rated(finding.Error).
				Do("check the network and the upstreams. Stockade still serves the last " +
					"edition, if there is one")
		}
	}
	if own < 2 || down == own { // none has a place behind one that is better
		for i := range found {
			found[i].Way = finding.Way{}
		}
	}
	return found
}

// BestFirst gives addresses in the order of a probe, the best first; those that were not probed
// stand behind, in the order in which they stood.
func BestFirst(addresses []string, probed []ProbeResult) []string {
	ranks := map[string]int{}
	for _, r := range probed {
		ranks[r.Upstream.URL] = r.Rank
	}
	of := func(address string) int {
		if rank, ok := ranks[fetch.Shown(address)]; ok {
			return rank
		}
		return len(probed) + 1
	}
	return slices.SortedStableFunc(slices.Values(addresses), func(a, b string) int { return of(a) - of(b) })
}
