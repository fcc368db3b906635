package upstream

import (
	"bytes"
	"slices"
	"strings"

	"stockade/core/definition"
	"stockade/core/fetch"
	"stockade/core/finding"
)

// maxCandidates bounds the servers that are probed because a file names them.
const maxCandidates = 64

// Candidates reads servers that might carry a source, from a file that a person has: a
// Metalink (RFC 5854), a list in the form of the family's own clients, or an address on each
// line, with its region behind it if it is known. Those that the source has already are left
// out.
func (src *Source) Candidates(data []byte) ([]fetch.Upstream, error) {
	var all []fetch.Upstream
	var err error
	if text := bytes.TrimLeft(data, " \t\r\n\ufeff"); bytes.HasPrefix(text, []byte("<")) {
		all, err = fetch.ReadMetalink(data, src.roots()[0][0].Path)
	} else {
		all, err = withRegions(data, serverOf(src.Family))
	}
	if err != nil {
		return nil, About(err, src.Name)
	}
	var out []fetch.Upstream
	for _, u := range all {
		same := func(have fetch.Upstream) bool {
			return strings.TrimRight(have.URL, "/") == strings.TrimRight(u.URL, "/")
		}
		if !fetch.Listable(u.URL) {
			return nil, finding.New(finding.SourceBadList, "source "+src.Name,
				"%s is not an address that a source can have", fetch.Shown(finding.Harmless(u.URL))).
				Do("write http or https addresses, without user and query")
		}
		if !slices.ContainsFunc(src.Route.Upstreams, same) && !slices.ContainsFunc(out, same) {
			out = append(out, u)
		}
	}
	if len(out) > maxCandidates {
		return nil, finding.New(finding.SourceBadList, "source "+src.Name,
			"the list contains %s; at most %d are probed at once", finding.Count(len(out), "further server"),
			maxCandidates).
			Do("remove servers that are far away")
	}
	return out, nil
}

// withRegions reads addresses with regions behind them.
func withRegions(data []byte, of func(line string) string) (out []fetch.Upstream, err error) {
	for line := range strings.Lines(string(data)) {
		words := strings.Fields(line)
		region := ""
		if len(words) > 1 && strings.Contains(words[0], "://") {
			line, region = words[0], strings.Join(words[1:], " ")
			region, _, _ = strings.Cut(region, "#")
		}
		read, err := fetch.ReadMirrorList([]byte(line), of)
		if err != nil {
			return nil, err
		}
		for _, u := range read {
			u.Region = finding.Harmless(strings.TrimSpace(region))
			out = append(out, u)
		}
	}
	return out, nil
}

// Ordering says how the upstreams of a source shall stand after a probe.
type Ordering struct {
	// Best keeps so many of those that were probed and count, candidates among them; 0: all that
	// are described stay, in the order of the probe.
	Best int `json:"best,omitempty"`
	// Region and Protocol ("https", "http") are those that are kept; empty: any. They need Best.
	Region   string `json:"region,omitempty"`
	Protocol string `json:"protocol,omitempty"`
}

// maxBest bounds the upstreams that are taken of a probe.
const maxBest = 32

// Check refuses an ordering that cannot be.
func (o Ordering) Check(source string) error {
	switch {
	case o.Best < 0 || o.Best > maxBest:
		return finding.New(finding.DefineBadValue, "source "+source,
			"the number to keep must be 1 to %d, not %d",
			maxBest, o.Best)
	case o.Best == 0 && (o.Region != "" || o.Protocol != ""):
		return finding.New(finding.DefineBadValue, "source "+source,
			"a region or a protocol selects among the best, but the number to keep is missing").Do(
			"add the number: --best 3")
	case o.Protocol != "" && o.Protocol != "https" && o.Protocol != "http":
		return finding.New(finding.DefineBadValue, "source "+source, "%q is not a protocol of "+
			"upstreams",
			o.Protocol).Do("write https or http")
	}
	return nil
}

// PutLast gives the upstreams of a source with one of them, by its address, behind the others.
// The error tells that it is not among them.
func PutLast(src definition.Source, name, address string) ([]definition.Upstream, error) {
	var out, last []definition.Upstream
	for _, u := range src.Upstreams {
		own, _ := u.Address()
		if expanded, err := src.Expand(name, own); err == nil {
			own = expanded
		}
		if own == address || fetch.Shown(own) == address {
			last = append(last, u)
		} else {
			out = append(out, u)
		}
	}
	if len(last) == 0 {
		return nil, finding.New(finding.DefineDanglingReference, "source "+name,
			"the source has no upstream %s",
			finding.Harmless(address)).Do("run stockade source show %s to see its upstreams", name)
	}
	return append(out, last...), nil
}

// Ordered gives the upstreams of a source as an ordering wants them, by a probe. Lists of
// servers stay, behind. The error tells that nothing would be left.
func (o Ordering) Ordered(src definition.Source, name string, probed []ProbeResult) ([]definition.Upstream,
	error) {
	if err := o.Check(name); err != nil {
		return nil, err
	}
	at := map[string][]definition.Upstream{}
	var addresses []string
	for _, u := range src.Upstreams {
		address, _ := u.Address()
		if expanded, err := src.Expand(name, address); err == nil {
			address = expanded
		}
		if _, twice := at[address]; !twice {
			addresses = append(addresses, address)
		}
		at[address] = append(at[address], u)
	}
	var out []definition.Upstream
	if o.Best == 0 {
		for _, a := range BestFirst(addresses, probed) {
			out = append(out, at[a]...)
		}
		return out, nil
	}
	described := map[string][]definition.Upstream{}
	for a, list := range at {
		described[fetch.Shown(a)] = list
	}
	byRank := func(a, b ProbeResult) int { return a.Rank - b.Rank }
	for _, p := range slices.SortedStableFunc(slices.Values(probed), byRank) {
		if len(out) == o.Best {
			break
		}
		protocol, _, _ := strings.Cut(p.Upstream.URL, "://")
		if p.Error != "" || p.Finding.Code != "" || o.Region != "" && p.Upstream.Region != o.Region ||
			o.Protocol != "" && protocol != o.Protocol {
			continue
		}
		if list := described[p.Upstream.URL]; list != nil {
			out = append(out, list[0])
			continue
		}
		if p.Upstream.Listed {
			continue // the list that named it stays, and names it again
		}
		out = append(out, definition.Upstream{URL: p.Upstream.URL, Region: p.Upstream.Region})
	}
	if len(out) == 0 {
		return nil, finding.New(finding.DefineBadValue, "source "+name,
			"none of the %d upstreams that were probed is usable and has that region and "+
				"protocol",
			len(probed)).
			Do("probe again with fewer conditions: stockade source probe %s", name)
	}
	for _, u := range src.Upstreams {
		if u.URL == "" {
			out = append(out, u)
		}
	}
	return out, nil
}
