package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/upstream"
	"stockade/internal/api"
)

func (s *Service) handleSources(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	return page(m.sourceList())
}

// sourceList gives the sources, with what is found of them.
func (m *model) sourceList() ([]api.Source, error) {
	return m.sources.get(func() ([]api.Source, error) {
		out := []api.Source{}
		for _, name := range slices.Sorted(maps.Keys(m.set.Sources)) {
			src, err := m.source(name)
			if err != nil {
				return nil, err
			}
			out = append(out, src)
		}
		return out, nil
	})
}

func (s *Service) handleSource(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	name := c.Param("name")
	if _, ok := m.set.Sources[name]; !ok {
		return nil, dangling("", "source", name, m.set.Sources)
	}
	out, err := m.source(name)
	if err != nil {
		return nil, err
	}
	if out.Text, err = m.set.Only("source", name).YAML(); err != nil {
		return nil, err
	}
	tag, err := s.describedTag()
	c.Header("ETag", tag)
	return out, err
}

func (s *Service) handleRefresh(c *gin.Context) (any, error) {
	in, err := optional[api.Refresh](c)
	if err != nil {
		return nil, err
	}
	if in.AcceptOnce != "" && who(c).Role != api.Warden {
		return nil, &api.Problem{
			Title:  "Not allowed",
			Status: 403,
			Type:   "urn:stockade:rights",
			Detail: "only a warden may accept older release metadata",
		}
	}
	return s.startRefresh(c.Param("name"), asking(c), in.AcceptOnce)
}

func (s *Service) handleProbe(c *gin.Context) (any, error) {
	in, err := optional[api.Probing](c)
	if err != nil {
		return nil, err
	}
	return s.startProbe(c.Param("name"), who(c).Name, in.Candidates)
}

func (s *Service) editSource(verb string, edit func(*definition.Source)) handler {
	return func(c *gin.Context) (any, error) {
		name := c.Param("name")
		return refused("The source was not changed")(s.edit(asking(c), verb+" source "+name,
			func(set *definition.Set) error {
				src, ok := set.Sources[name]
				if !ok {
					return dangling("", "source", name, set.Sources)
				}
				if edit == nil {
					delete(set.Sources, name)
					for k, key := range set.Keys { // decisions for it go with it
						key.VouchedFor = slices.DeleteFunc(slices.Clone(key.VouchedFor),
							func(v string) bool {
								return v == name
							})
						set.Keys[k] = key
					}
					return nil
				}
				edit(&src)
				set.Sources[name] = src
				return nil
			}))
	}
}

// source describes a source, with what is found of it and of what it rests on.
func (m *model) source(name string) (api.Source, error) {
	set, all := m.set, m.found
	out := api.Source{
		Name:     name,
		Source:   set.Sources[name],
		Managed:  set.Sources[name].Managed(),
		Mirrors:  set.UsersOf(name),
		Findings: all.of("source " + name),
	}
	if out.Mirrors == nil {
		out.Mirrors = []string{}
	}
	for _, f := range set.Signers(name) { // what is wrong with a key is wrong with what it signs
		for _, k := range all["key "+f] {
			out.Findings = withFinding(out.Findings, k)
		}
	}
	src := set.Sources[name]
	for _, c := range append(slices.Clone(src.Credentials), set.Proxies[src.Proxy].Credential) {
		for _, f := range all["credential "+c] { // and what is wrong with what its servers are shown
			out.Findings = withFinding(out.Findings, f)
		}
	}
	for _, a := range []string{src.Authority, set.Proxies[src.Proxy].Authority} {
		for _, f := range all["authority "+a] {
			out.Findings = withFinding(out.Findings, f)
		}
	}
	out.Findings.Sort()
	var a upstream.Accepted
	at, there, err := m.keptOf("accepted", name, &a)
	if err != nil {
		return out, err
	}
	if there {
		a.Conditional = nil
		out.Accepted, out.Checked = &a, at
	}
	if at := m.kept["refresh"][name].At; at.After(out.Checked) {
		out.Checked = at
	}
	var pr probed
	if _, _, err = m.keptOf("probe", name, &pr); pr.Results != nil {
		out.Probes = pr.Results
	}
	return out, err
}

// source makes what the core needs of a described source. It is an error that no key
// counts for it.
func (s *Service) source(set *definition.Set, t *trusted, name string) (*upstream.Source, error) {
	out, err := s.sourceAsDescribed(set, t, name)
	if err == nil && out.Unsigned != nil {
		return out, out.Unsigned.Ended(name, s.now())
	}
	if err == nil && out.House == nil && len(out.Keyring.Counting()) == 0 {
		err = t.WhyNone(name, set.Signers(name), t.certificates)
	}
	return out, err
}

func (s *Service) sourceAsDescribed(set *definition.Set, t *trusted, name string) (*upstream.Source, error) {
	src, ok := set.Sources[name]
	if !ok {
		return nil, dangling("", "source", name, set.Sources)
	}
	if src.Managed() {
		return s.houseSource(set, name)
	}
	out, err := upstream.Described(set, name, families.All)
	if err == nil {
		err = s.unlock(set, t, &out.Route)
	}
	if err != nil {
		return nil, err
	}
	out.Keyring = t.keyring(set, name, s.now)
	out.Vouched = map[string]edition.Vouch{}
	for _, f := range set.Signers(name) {
		if v, ok := t.Vouched(f, name); ok {
			out.Vouched[f] = edition.Vouch{Evidence: v.Why, By: v.By, At: v.At}
		}
	}
	if out.Unsigned != nil {
		now, err := s.ledger.read(s.db, s.keys)
		if err != nil {
			return nil, err
		}
		by := now.unsigned[name]
		out.Unsigned.By, out.Unsigned.At = by.by, by.at
	}
	var a upstream.Accepted
	if _, there, err := s.db.Kept("accepted", name, &a); err != nil {
		return nil, err
	} else if there {
		out.Accepted = &a
	}
	return out, nil
}

// checked is what was found out about a source the last time.
type checked struct {
	Findings finding.List `json:"findings"`
	// Revision is the newest one of the description that was looked at; 0: it is not known.
	Revision int64 `json:"revision,omitempty"`
}

// keepAccepted remembers the root that was found good. Another job may have
// accepted a newer one of the same source meanwhile: that one stays.
func (s *Service) keepAccepted(p *upstream.Publication) error {
	ch, err := s.begin(itself("stockade"))
	if err != nil {
		return err
	}
	defer ch.end()
	a := p.Accepted
	if err := ch.stillSigned(a.Signer, a.Source); err != nil {
		return err
	}
	var now *upstream.Accepted
	var kept upstream.Accepted
	if _, there, err := s.db.Kept("accepted", a.Source, &kept); err != nil {
		return err
	} else if there {
		now = &kept
	}
	if !p.MayAccept(now) {
		return nil
	}
	if err := s.db.Keep("accepted", a.Source, a, s.now().UTC()); err != nil {
		return err
	}
	if p.Changed {
		day := s.now().UTC().Format(time.DateOnly)
		seen := map[string]int{}
		if _, _, err := s.db.Kept("days", a.Source, &seen); err != nil {
			return err
		}
		seen[day]++
		for len(seen) > 120 {
			delete(seen, slices.Min(slices.Collect(maps.Keys(seen))))
		}
		return s.db.Keep("days", a.Source, seen, s.now().UTC())
	}
	return nil
}

func (s *Service) startRefresh(name string, by actor, acceptOnce string) (api.Job, error) {
	set, err := s.db.Described()
	if err != nil {
		return api.Job{}, err
	}
	if _, ok := set.Sources[name]; !ok {
		return api.Job{}, dangling("", "source", name, set.Sources)
	}
	return s.jobs.start("refresh", "source "+name, by.name,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			release, err := s.sweeping.use(ctx) // a house source is published into the pool here
			if err != nil {
				return nil, nil, err
			}
			defer release()
			t, set, err := s.trustedAndSet() // now, and not before it waited
			if err != nil {
				return nil, nil, err
			}
			if _, still := set.Sources[name]; !still {
				return nil, nil, dangling("", "source", name, set.Sources)
			}
			src, err := s.source(set, t, name)
			if err != nil {
				return nil, nil, s.judged(name, nil, err)
			}
			src.AcceptOnce = acceptOnce
			b := s.reader(sink)
			pub, err := b.Refresh(ctx, src)
			if err != nil {
				return nil, nil, s.judged(name, nil, err)
			}
			if _, err := b.Lists(ctx, pub); err != nil {
				return nil, pub.Findings, s.judged(name, pub.Findings, err)
			}
			if err := s.pool.Flush(); err != nil {
				return nil, nil, err
			}
			if err := s.keepAccepted(pub); err != nil {
				return nil, nil, s.judged(name, pub.Findings, err)
			}
			if acceptOnce != "" {
				if err := s.record(by.forJob(), "source.accept-once", "source "+name,
					map[string]string{"reason": acceptOnce,
						"root": pub.Accepted.Date.Format(time.RFC3339)}); err != nil {
					return nil, nil, err
				}
			}
			return map[string]any{
					"changed":   pub.Changed,
					"root_date": pub.Root.Date,
					"upstream":  pub.Accepted.Upstream,
					"signer":    pub.Root.Signer,
				},
				pub.Findings, s.judged(name, pub.Findings, nil)
		})
}

// judged keeps what a refresh found, and journals a refusal.
func (s *Service) judged(name string, found finding.List, err error) error {
	all := append(finding.List{}, found...)
	if f, ok := finding.From(err); ok {
		all = append(all, f)
		if jerr := s.record(itself("stockade"), "source.refused", "source "+name,
			map[string]string{"code": string(f.Code),
				"text": f.Text}); jerr != nil {
			return jerr
		}
	}
	if kerr := s.db.Keep("refresh", name, checked{Findings: all}, s.now().UTC()); kerr != nil {
		return kerr
	}
	return err
}

func (s *Service) startProbe(name, by string, candidates []byte) (api.Job, error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return api.Job{}, err
	}
	src, err := s.source(set, t, name)
	if src == nil {
		return api.Job{}, err
	}
	if src.House != nil {
		return api.Job{}, finding.New(finding.DefineBadValue, "source "+name,
			"the source has no upstreams to probe: its packages are added by hand").
			Do("run stockade package list --source %s to see them", name)
	}
	if len(candidates) > 0 {
		further, err := src.Candidates(candidates)
		if err != nil {
			return api.Job{}, err
		}
		src.Further = further
	}
	return s.jobs.start("probe", "source "+name, by,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			results, found, err := s.reader(sink).Probe(ctx, src)
			if err != nil {
				return nil, nil, err
			}
			if err := s.db.Keep("probe", name, probed{results, found}, s.now().UTC()); err != nil {
				return nil, nil, err
			}
			return results, found, nil
		})
}

type probed struct {
	Results  []upstream.ProbeResult `json:"results"`
	Findings finding.List           `json:"findings"`
}

// orderUpstreams puts the upstreams of a source in the order of its last probe. It is a
// revision like any other: the order before is one step away.
func (s *Service) orderUpstreams(c *gin.Context) (any, error) {
	name := c.Param("name")
	in, err := optional[api.Ordering](c)
	if err == nil {
		err = in.Check(name)
	}
	if err != nil {
		return nil, err
	}
	if in.Last != "" {
		return s.reorder(c, in.Look, name, fmt.Sprintf("put %s last among the upstreams of %s", in.Last,
			name),
			func(src definition.Source) ([]definition.Upstream, error) {
				return upstream.PutLast(src, name, in.Last)
			})
	}
	var last probed
	at, there, err := s.db.Kept("probe", name, &last)
	if err == nil && !there {
		set, err := s.db.Described()
		if err != nil {
			return nil, err
		}
		if _, ok := set.Sources[name]; !ok {
			return nil, dangling("", "source", name, set.Sources)
		}
		return nil, finding.New(finding.DefineBadValue, "source "+name, "the source was not "+
			"probed yet").
			Do("run stockade source probe %s", name)
	}
	if err != nil {
		return nil, err
	}
	summary := fmt.Sprintf("put the upstreams of %s in the order of the probe of %s", name,
		at.UTC().Format(time.DateTime))
	return s.reorder(c, in.Look, name, summary, func(src definition.Source) ([]definition.Upstream, error) {
		return in.Ordered(src, name, last.Results)
	})
}

// reorder changes how the upstreams of a source stand, or only says what that would change.
func (s *Service) reorder(c *gin.Context, look bool, name, summary string,
	ordered func(definition.Source) ([]definition.Upstream, error)) (any, error) {
	order := func(set *definition.Set) (err error) {
		src, ok := set.Sources[name]
		if !ok {
			return dangling("", "source", name, set.Sources)
		}
		if src.Upstreams, err = ordered(src); err != nil {
			return err
		}
		set.Sources[name] = src
		return nil
	}
	if look {
		return s.would(order)
	}
	return refused("The source was not changed")(s.edit(asking(c), summary, order))
}
