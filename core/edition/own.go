package edition

// Own gives the SHA-256 of those files of an edition that no upstream has: the indexes and signatures of
// this site, the lists of its manifest, what upstream published when it was made, and packages that were
// added to the house by hand. Everything else is the package files of upstreams, which can be fetched again
// by their digests. house is what stands as the upstream of a house source.
func (s *Sealed) Own(house string) ([]string, error) {
	byHand := map[string]bool{}
	for _, src := range s.Sources {
		byHand[src.Name] = src.Upstream == house
	}
	upstreams := map[string]bool{}
	if err := s.Items(func(it Item) error {
		if !byHand[it.Source] {
			upstreams[it.SHA256] = true
		}
		return nil
	}); err != nil {
		return nil, err
	}
	if err := s.SourcePackages(func(p SourcePackage) error {
		for _, f := range p.Files {
			upstreams[f.SHA256] = true
		}
		return nil
	}); err != nil {
		return nil, err
	}
	var out []string
	seen := map[string]bool{}
	for l, err := range s.Files() {
		if err != nil {
			return nil, err
		}
		if !upstreams[l.SHA256] && !seen[l.SHA256] {
			seen[l.SHA256] = true
			out = append(out, l.SHA256)
		}
	}
	return out, nil
}
