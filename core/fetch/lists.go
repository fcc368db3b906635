package fetch

import (
	"context"
	"encoding/xml"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"stockade/core/archive/text"
	"stockade/core/finding"
)

// Limits on a list of upstreams.
const (
	maxList     = 1 << 20 // bytes
	maxListed   = 16      // upstreams that are taken of one list
	maxListLine = 2048
)

// List is a file somewhere that names upstreams: a plain mirror list or a Metalink.
type List struct {
	URL      string
	Metalink bool
	Region   string
}

// Expand gives the upstreams of a route with those that its lists name behind
// its own. A list says only where to ask: what comes from there is believed for
// its signatures like everything else. root is the path of the file that a
// Metalink describes, relative to an upstream's base. A list that cannot be
// had is told; the others are used. of reads a line of a plain list: see
// ReadMirrorList.
func (c *Client) Expand(ctx context.Context, route Route, root string,
	of func(line string) string) (Route, finding.List) {
	var found finding.List
	out := route
	out.Upstreams = slices.Clone(route.Upstreams)
	for _, l := range route.Lists {
		bases, err := c.list(ctx, route, l, root, of)
		if err != nil {
			if ctx.Err() != nil {
				return out, found
			}
			f, ok := finding.From(err)
			if !ok {
				f = finding.New(finding.SourceUpstreamDown, "", "the mirror list %s cannot be "+
					"downloaded: %v",
					Shown(l.URL), err)
			}
			f.Object = "source " + route.Source
			found = append(found, f.Rated(finding.Warning))
			continue
		}
		for _, b := range bases {
			if !slices.ContainsFunc(out.Upstreams, func(u Upstream) bool {
				return strings.TrimRight(u.URL, "/") == strings.TrimRight(b.URL, "/")
			}) {
				if b.Region == "" {
					b.Region = l.Region
				}
				out.Upstreams = append(out.Upstreams, b)
			}
		}
	}
	return out, found
}

func (c *Client) list(ctx context.Context, route Route, l List, root string,
	of func(line string) string) ([]Upstream, error) {
	only := route
	only.Lists, only.Upstreams = nil, []Upstream{{URL: l.URL}}
	var data []byte
	if err := c.Get(ctx, only, Request{Max: maxList}, func(r *Response) (err error) {
		data, err = io.ReadAll(r.Body)
		return err
	}, nil); err != nil {
		return nil, err
	}
	var all []Upstream
	var err error
	if l.Metalink {
		all, err = ReadMetalink(data, root)
	} else {
		all, err = ReadMirrorList(data, of)
	}
	if err != nil {
		return nil, err
	}
	from, _ := url.Parse(l.URL)
	listed := from == nil || !nearHost(ctx, from.Hostname()) // a list from here may name what is here
	all = slices.DeleteFunc(all, func(u Upstream) bool { return !Listable(u.URL) })
	for i := range all {
		all[i].Listed = listed
	}
	if len(all) == 0 {
		return nil, finding.New(finding.SourceBadList, "",
			"the mirror list %s contains no usable server",
			Shown(l.URL))
	}
	return all[:min(len(all), maxListed)], nil
}

// Listable tells whether an address may come from a list: plain http or https,
// no user or query in it. Where it leads is judged when it is connected to.
func Listable(raw string) bool {
	u, err := url.Parse(raw)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Hostname() != "" && u.User == nil &&
		u.RawQuery == "" && u.Fragment == ""
}

// near tells whether an address is of this machine or of its own network.
func near(a netip.Addr) bool {
	a = a.Unmap()
	return a.IsLoopback() || a.IsPrivate() || a.IsLinkLocalUnicast() || a.IsLinkLocalMulticast() ||
		a.IsUnspecified() || a.IsMulticast() || shared.Contains(a) || translated.Contains(a)
}

var (
	shared     = netip.MustParsePrefix("100.64.0.0/10") // between a provider and its customers (RFC 6598)
	translated = netip.MustParsePrefix("64:ff9b::/96")  // of addresses of the older kind (RFC 6052)
)

// nearHost tells whether a name resolves to any address near here. One that does
// not resolve is far away.
func nearHost(ctx context.Context, host string) bool {
	if a, err := netip.ParseAddr(host); err == nil {
		return near(a)
	}
	all, err := net.DefaultResolver.LookupNetIP(ctx, "ip", host)
	return err == nil && slices.ContainsFunc(all, near)
}

// farAway refuses to connect a server that only a list named with an address near
// here. It is asked with the address itself, when all names are resolved.
func farAway(source string, up Upstream, address string) error {
	a, err := netip.ParseAddrPort(address)
	if err != nil || near(a.Addr()) {
		return finding.New(finding.SourceBadList, "source "+source,
			"the mirror list names %s, which leads to %s: an address of this machine or its "+
				"local network",
			Shown(up.URL), address).
			Do("if you want to use it, add it as an upstream of its own")
	}
	return nil
}

// ReadMirrorList reads a plain mirror list: an address on each line, with comments
// behind a hash. of, if not nil, gives the address that a line of a list in the form of
// a family's own clients names.
func ReadMirrorList(data []byte, of func(line string) string) ([]Upstream, error) {
	var out []Upstream
	for line := range strings.Lines(string(data)) {
		line = strings.TrimSpace(line)
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if of != nil {
			line = of(line)
		}
		if len(line) > maxListLine || strings.ContainsFunc(line, func(r rune) bool {
			return r <= 0x20 || r == 0x7f
		}) {
			return nil, finding.New(finding.SourceBadList, "",
				"a line of the mirror list is not an address: %q", text.Cut(line, 80))
		}
		out = append(out, Upstream{URL: strings.TrimRight(line, "/")})
	}
	return out, nil
}

// ReadMetalink reads a Metalink (RFC 5854, and version 3 as mirror services
// write it) that describes the file root; each address in it must end in that
// path. Better preferences come first.
func ReadMetalink(data []byte, root string) ([]Upstream, error) {
	type address struct {
		Location   string `xml:"location,attr"`
		Preference string `xml:"preference,attr"` // version 3: 100 is best
		Priority   string `xml:"priority,attr"`   // RFC 5854: 1 is best
		Value      string `xml:",chardata"`
	}
	type file struct {
		Old []address `xml:"resources>url"`
		New []address `xml:"url"`
	}
	var doc struct {
		XMLName xml.Name
		Old     []file `xml:"files>file"`
		New     []file `xml:"file"`
	}
	if strings.Contains(string(data), "<!DOCTYPE") || strings.Contains(string(data), "<!ENTITY") {
		return nil, finding.New(finding.SourceBadList, "",
			"the Metalink has a document type, which is not allowed")
	}
	if err := xml.Unmarshal(data, &doc); err != nil || doc.XMLName.Local != "metalink" {
		return nil, finding.New(finding.SourceBadList, "", "the Metalink cannot be read: %s",
			why(err, doc.XMLName.Local))
	}
	type ranked struct {
		Upstream
		rank int
	}
	var all []ranked
	for _, f := range append(doc.Old, doc.New...) {
		for _, a := range append(f.Old, f.New...) {
			base, ok := strings.CutSuffix(strings.TrimSpace(a.Value), "/"+root)
			if !ok {
				continue
			}
			r := 1 << 20
			if n, err := strconv.Atoi(a.Preference); err == nil {
				r = 1000 - n
			} else if n, err := strconv.Atoi(a.Priority); err == nil {
				r = n
			}
			all = append(all, ranked{Upstream{URL: base, Region: finding.Harmless(a.Location)}, r})
		}
	}
	slices.SortStableFunc(all, func(a, b ranked) int { return a.rank - b.rank })
	var out []Upstream
	for _, r := range all {
		out = append(out, r.Upstream)
	}
	return out, nil
}

func why(err error, name string) string {
	if err != nil {
		return err.Error()
	}
	return fmt.Sprintf("it begins with %q", text.Cut(name, 80))
}
