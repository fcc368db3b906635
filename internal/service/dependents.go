package service

import (
	"fmt"
	"maps"
	"slices"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/api"
)

func (s *Service) handleDependents(c *gin.Context) (any, error) {
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	kind, name := c.Param("kind"), c.Param("name")
	_, err = trust.ParseFingerprint(name)
	if byFingerprint := kind == "key" && err == nil; !byFingerprint {
		if err := isDescribed(set, kind, name); err != nil {
			return nil, err
		}
	}
	return s.dependents(set, kind, name)
}

// isDescribed tells why there is no such thing in a set, or nil.
func isDescribed(set *definition.Set, kind, name string) error {
	if !slices.Contains(definition.Kinds, kind) {
		return finding.New(finding.DefineDanglingReference, "", "%q is not a kind of object",
			kind).Do("the kinds are %v", definition.Kinds)
	}
	all := map[string]bool{}
	for _, n := range set.Names(kind) {
		all[n] = true
	}
	if !all[name] {
		return dangling("", kind, name, all)
	}
	return nil
}

// signed tells all that a key has signed here, and what would stop without it.
func (s *Service) signed(fingerprint string) (api.Signed, error) {
	out := api.Signed{Fingerprint: fingerprint, Roots: []api.SignedRoot{}, Packages: []api.SignedPackages{},
		Unread: []string{}}
	t, set, err := s.trustedAndSet()
	if err != nil {
		return out, err
	}
	if t.certificates[fingerprint] == nil && s.site.Load().by(fingerprint) == nil {
		return out, dangling("", "key", fingerprint, t.certificates)
	}
	var stops []string
	for _, name := range set.Dependents("key", fingerprint).Sources {
		others := slices.DeleteFunc(fingerprints(t.keyring(set, name, s.now).Counting()),
			func(f string) bool { return f == fingerprint })
		if _, counts := t.Vouched(fingerprint, name); counts && len(others) == 0 {
			stops = append(stops, name)
		}
	}
	out.Stops = set.StandingOn(stops)
	for _, name := range set.Names("source") {
		var a upstream.Accepted
		_, there, err := s.db.Kept("accepted", name, &a)
		if err != nil {
			return out, err
		}
		if there && a.Signer.Is(fingerprint) {
			out.Roots = append(out.Roots, api.SignedRoot{Source: name, Date: a.Date, At: a.Signer.At})
		}
	}
	standing, err := s.db.Editions("")
	if err != nil {
		return out, err
	}
	for _, e := range standing {
		if e.Retired {
			continue
		}
		if err := s.signedIn(&out, e.Mirror, e.Number); err != nil {
			return out, err
		}
	}
	return out, nil
}

// signedIn adds what a key has signed of one edition.
func (s *Service) signedIn(out *api.Signed, name string, number int) error {
	open, err := s.editions.open(s, name, number)
	if f, ok := finding.From(err); ok && f.Code != finding.FaultCode {
		out.Unread = append(out.Unread, fmt.Sprintf("%s/%d", name, number))
		return nil
	}
	if err != nil {
		return err
	}
	own := false
	for _, src := range open.Sources {
		if src.Signer.Is(out.Fingerprint) && src.Upstream != "" {
			out.Roots = append(out.Roots, api.SignedRoot{Source: src.Name, Edition: open.Name(),
				Date: src.RootDate, At: src.Signer.At})
		}
		own = own || families.All[src.Family] != nil && families.All[src.Family].SignsPackages()
	}
	if !own {
		return nil
	}
	count := map[string]int{}
	if err := open.Items(func(i edition.Item) error {
		if i.Signer == out.Fingerprint {
			count[i.Source]++
		}
		return nil
	}); err != nil {
		return err
	}
	for _, src := range slices.Sorted(maps.Keys(count)) {
		out.Packages = append(out.Packages, api.SignedPackages{Edition: open.Name(), Source: src,
			Packages: count[src]})
	}
	return nil
}

func (s *Service) handleSigned(c *gin.Context) (any, error) { return s.signed(c.Param("fingerprint")) }

// dependents tells what stands on a thing, and which editions have something of it.
func (s *Service) dependents(set *definition.Set, kind, name string) (api.Dependents, error) {
	out := api.Dependents{Kind: kind, Name: name, Dependents: set.Dependents(kind, name),
		Editions: []string{}, Unread: []string{}}
	var has func(e *edition.Edition) bool
	switch kind {
	case "source":
		has = func(e *edition.Edition) bool {
			return slices.ContainsFunc(e.Sources, func(src edition.Source) bool { return src.Name == name })
		}
	case "mirror":
		has = func(e *edition.Edition) bool { return e.Mirror == name }
	case "key":
		of := set.Keys[name].All()
		if f, err := trust.ParseFingerprint(name); err == nil {
			of = []string{f}
		}
		has = func(e *edition.Edition) bool {
			return slices.ContainsFunc(of, func(f string) bool { return restsOn(e, f) })
		}
	case "group":
		counts, err := s.db.MachineCounts()
		for _, n := range counts {
			if n.Group == name {
				out.Machines = n.Machines
			}
		}
		return out, err
	default:
		return out, nil
	}
	standing, err := s.db.Editions("")
	if err != nil {
		return out, err
	}
	for _, e := range standing {
		if e.Retired {
			continue
		}
		open, err := s.editions.brief(s, e.Mirror, e.Number)
		if err != nil { // what is wrong with it is told at the edition
			out.Unread = append(out.Unread, fmt.Sprintf("%s/%d", e.Mirror, e.Number))
			continue
		}
		if has(open) {
			out.Editions = append(out.Editions, open.Name())
		}
	}
	return out, nil
}
