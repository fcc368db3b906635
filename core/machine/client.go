package machine

import (
	"slices"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/trust"
)

// Request asks for what a machine of a group needs to use an edition.
type Request struct {
	Group      string
	Definition definition.Group
	Edition    *edition.Sealed
	At         string // URL or folder where the packages are found
	Families   archive.Registry
	// Certificates are all that are there, the site's among them, by fingerprint.
	Certificates map[string]*trust.Certificate
	// Distrusted tells why a key does not count any more for a source, though the
	// edition was made with it; "" where it does.
	Distrusted func(fingerprint, source string) string
	// Site are the fingerprints of the keys that the site signs with now, and Former of
	// those that it did before: whoever trusts one of them for a source is to trust all
	// of Site for it, so that a machine is ready before the key changes.
	Site, Former []string
	// Barred are the fingerprints of all keys that were barred or retired, whatever they signed.
	Barred []string
}

// Of gives the view of a group on an edition.
func Of(group string, g definition.Group, families archive.Registry, e *edition.Edition) (View, error) {
	var sources []Source
	for _, src := range e.Sources {
		sources = append(sources, Source{ClientSource: src.Client(), Standing: src.Standing})
	}
	return See(group, g, families, sources)
}

// ClientFiles gives the files that a machine of a group needs, with what is to be told
// of them: sources that it does not see, keys that it is not told to trust, pins that
// are not in the edition, and where the edition was not proved for the group as it is
// described now. A group that sees nothing is an error.
func ClientFiles(r Request) ([]archive.ClientFile, finding.List, error) {
	if err := archive.CheckAddress(r.At); err != nil {
		return nil, nil, err
	}
	view, err := Of(r.Group, r.Definition, r.Families, r.Edition.Edition)
	if err != nil {
		return nil, nil, err
	}
	if at := slices.IndexFunc(view.Told, isError); at >= 0 {
		return nil, nil, view.Told[at]
	}
	if len(view.Sources) == 0 {
		return nil, nil, r.blind(view)
	}
	found := append(finding.List{}, view.Findings()...)
	keys := map[string][]archive.ClientKey{}
	for _, src := range r.Edition.Sources {
		if view.Sees(src.Name) {
			var notes finding.List
			keys[src.Name], notes = r.trusted(src)
			found = append(found, notes...)
		}
	}
	client := view.Client
	client.Repositories = slices.Clone(client.Repositories)
	for i, repository := range client.Repositories {
		client.Repositories[i].Keys = keys[repository.Name]
	}
	client.Untrusted = r.untrusted(keys)
	g := r.Definition
	files, err := archive.PrintFiles(r.Families[g.Family], client, g.Lane, r.At)
	if err != nil {
		return nil, nil, err
	}
	if !view.Proved(r.Edition.Edition) {
		found = append(found, finding.New(finding.MirrorNotProved, "group "+r.Group,
			"%s was not proved for this group as it is defined now: the group, its pins or its "+
				"lane changed after the build", r.Edition.Name()).
			Do("run stockade mirror build %s", r.Edition.Mirror))
	}
	pins, err := r.unmatched(view.Pins)
	return files, append(found, pins...), err
}

// untrusted gives the keys that machines must not trust any more: those barred or retired, and former
// keys of the site, as far as no source needs them.
func (r Request) untrusted(needed map[string][]archive.ClientKey) (out []string) {
	for _, f := range slices.Concat(r.Barred, r.Former) {
		needs := func(k archive.ClientKey) bool { return k.Fingerprint == f }
		inUse := slices.Contains(r.Site, f) || slices.Contains(out, f)
		for _, keys := range needed {
			inUse = inUse || slices.ContainsFunc(keys, needs)
		}
		if !inUse {
			out = append(out, f)
		}
	}
	slices.Sort(out)
	return out
}

func isError(f finding.Finding) bool { return f.Severity == finding.Error }

// blind tells why a group sees nothing.
func (r Request) blind(view View) error {
	f := finding.New(finding.SourceReleaseUnsupported, "group "+r.Group,
		"its machines cannot use any source of %s",
		r.Edition.Name())
	if len(view.Left) > 0 {
		f.Text += ": " + view.Left[0].Source + " is omitted: " + view.Left[0].Why
	}
	return f.Rated(finding.Error)
}

// unmatched tells of pins whose version is not in the edition.
func (r Request) unmatched(pins []archive.Relation) (found finding.List, err error) {
	if len(pins) == 0 {
		return nil, nil
	}
	there := map[[2]string]bool{}
	if err := r.Edition.Items(func(i edition.Item) error {
		there[[2]string{i.Name, i.Version}] = true
		return nil
	}); err != nil {
		return nil, err
	}
	for _, p := range pins {
		if !there[[2]string{p.Name, p.Version}] {
			found = append(found, finding.New(finding.PinNoMatch, "group "+r.Group, "%s is not in %s",
				p.String(), r.Edition.Name()))
		}
	}
	return found, nil
}

// keys gives those that machines are told to trust for a source: what its edition was
// made with, and for what the site signs, those that it signs with now.
func (r Request) keys(src edition.Source) []string {
	out := slices.Clone(src.Keys)
	ofSite := src.Tailored || slices.ContainsFunc(src.Keys, func(f string) bool {
		return slices.Contains(r.Site, f) || slices.Contains(r.Former, f)
	})
	for _, f := range r.Site {
		if ofSite && !slices.Contains(out, f) {
			out = append(out, f)
		}
	}
	return out
}

// trusted gives the keys that machines are told to trust for a source of an edition. A key that
// was barred since is left out.
func (r Request) trusted(src edition.Source) (out []archive.ClientKey, found finding.List) {
	for _, f := range r.keys(src) {
		if why := r.Distrusted(f, src.Name); why != "" {
			found = append(found, finding.New(finding.KeyBarred, "source "+src.Name,
				"the machines' files for %s leave out the key %s, because it %s. What only "+
					"this key signed cannot be installed", r.Edition.Name(), f, why).
				Do("build %s again and move its lanes. On machines that do not get these "+
					"files, run: %s",
					r.Edition.Mirror, r.Families[src.Family].Untrust(src.Name, f)))
			continue
		}
		cert, ok := r.Certificates[f]
		if !ok {
			found = append(found, finding.New(finding.KeyMissing, "source "+src.Name,
				"the certificate %s, which machines need for %s, is missing", f, r.Edition.Name()))
			continue
		}
		out = append(out,
			archive.ClientKey{Fingerprint: f, Binary: cert.Binary(), Armoured: cert.Armoured()})
	}
	if len(out) == 0 && len(src.Keys) > 0 {
		found = append(found, finding.New(finding.KeyMissing, "source "+src.Name,
			"no key is left for machines to verify it with, so they will reject it"))
	}
	return out, found
}
