package service

import (
	"fmt"
	"slices"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/core/mirror"
	"stockade/internal/api"
)

// shownTo gives the edition that a machine of a group gets its files for: one that
// is named, or the one that its lane shows.
func (s *Service) shownTo(name string, g definition.Group, edition string) (*openEdition, api.Lane, error) {
	l, err := s.lane(g.Lane)
	if err != nil {
		return nil, l, err
	}
	if edition == "" {
		edition = l.Edition
	}
	if edition == "" {
		return nil, l, &api.Problem{Title: "The files cannot be written", Status: 409,
			Type:   "urn:stockade:empty-lane",
			Detail: "the lane " + g.Lane + " shows no edition yet",
			WayOut: fmt.Sprintf("build the mirror, then: stockade lane move %s %s/1; or name an edition: "+
				"stockade group files %s --edition %s/1",
				g.Lane, l.Mirror, name, l.Mirror)}
	}
	mirrorName, number, err := parseEdition(edition, l.Mirror)
	if err != nil {
		return nil, l, err
	}
	if mirrorName != l.Mirror {
		return nil, l, finding.New("define.bad-value", "group "+name,
			"its lane %s shows editions of %s, and %s is of another mirror", g.Lane, l.Mirror, edition)
	}
	e, _, err := s.standing(mirrorName, number)
	return e, l, err
}

// viewOf gives what the machines of a group see of an edition.
func viewOf(name string, g definition.Group, e *mirror.Edition) (machine.View, error) {
	var sources []machine.Source
	for _, src := range e.Sources {
		sources = append(sources, machine.Source{Source: src.Source, Standing: src.Standing,
			Suite: src.Suite, Codename: src.Codename})
	}
	return machine.See(name, g, families.All, sources)
}

// groupFiles writes the files that a machine of a group needs.
func (s *Service) groupFiles(name, at, edition string) (api.Files, error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return api.Files{}, err
	}
	g, ok := set.Groups[name]
	if !ok {
		return api.Files{}, dangling("", "group", name, set.Groups)
	}
	e, l, err := s.shownTo(name, g, edition)
	if err != nil {
		return api.Files{}, err
	}
	if at == "" {
		at = l.URL
		if e.Name() != l.Edition {
			at = s.PackagesURL() + "/edition/" + e.Name()
		}
	}
	if err := archive.CheckAddress(at); err != nil {
		return api.Files{}, err
	}
	view, err := viewOf(name, g, e.Edition)
	if err != nil {
		return api.Files{}, err
	}
	if len(view.Sources) == 0 {
		f := finding.New("source.release-unsupported", "group "+name, "its machines see no source of %s",
			e.Name())
		if len(view.Left) > 0 {
			f.Text += ": " + view.Left[0].Source + " is left out, for " + view.Left[0].Why
		}
		return api.Files{}, f.Rated(finding.Error)
	}
	out := api.Files{Group: name, At: at, Edition: e.Name(),
		Files: []api.File{}, Findings: append(finding.List{}, view.Findings()...)}
	c := archive.Client{Lane: g.Lane, At: at, Architectures: g.Architectures, Pins: view.Pins}
	if len(g.Architectures) > 0 {
		c.Architectures = slices.Concat(g.Architectures, view.Foreign)
	}
	for _, src := range e.Sources {
		if !view.Sees(src.Name) {
			continue
		}
		cs, notes := s.clientSource(t, e, src)
		out.Findings = append(out.Findings, notes...)
		c.Sources = append(c.Sources, cs)
	}
	files, notes, err := families.All[g.Family].ClientFiles(c)
	if err != nil {
		return api.Files{}, err
	}
	out.Findings = append(out.Findings, notes...)
	for _, f := range files {
		out.Files = append(out.Files, api.File{Path: f.Path, Mode: f.Mode, Data: f.Data})
	}
	if !e.Proved(view) {
		out.Findings = append(out.Findings, finding.New("mirror.not-proved", "group "+name,
			"%s was not proved for this group as it is described now: the group, its pins or its lane "+
				"were changed since it was built", e.Name()).
			Do("stockade mirror build %s", e.Mirror))
	}
	items, err := s.items(e.Mirror, e.Number)
	if err != nil {
		return out, err
	}
	for _, p := range c.Pins {
		if !slices.ContainsFunc(items, func(i mirror.Item) bool {
			return i.Name == p.Name && i.Version == p.Version
		}) {
			out.Findings = append(out.Findings, finding.New("pin.no-match", "group "+name,
				"%s is not in %s", p.String(), e.Name()))
		}
	}
	return out, nil
}

// clientSource gives a source of an edition as machines are told of it. Priorities
// are those of the edition: they are what was proved. A key that was barred since
// is left out.
func (s *Service) clientSource(t *trusted, e *openEdition, src mirror.EditionSource) (archive.ClientSource,
	finding.List) {
	out := archive.ClientSource{Source: src.Source, Priority: src.Priority,
		Tailored: src.Tailored, Streams: src.Streams,
		Origin: src.Origin, Label: src.Label, Suite: src.Suite, Codename: src.Codename}
	var found finding.List
	site := s.site.Certificate()
	for _, f := range src.Keys {
		if why := t.distrusted(f, src.Name); why != "" {
			found = append(found, finding.New("key.barred", "source "+src.Name,
				"machines of %s checked it with the key %s, which %s: they are not told to trust it, and "+
					"what it alone signed will not install", e.Name(), f, why).
				Do("build %s anew, and move its lanes", e.Mirror))
			continue
		}
		if f == site.Fingerprint {
			out.Keys = append(out.Keys, archive.ClientKey{Fingerprint: f, Binary: site.Binary(),
				Armoured: site.Armoured()})
		} else if cert, ok := t.certificates[f]; ok {
			out.Keys = append(out.Keys, archive.ClientKey{Fingerprint: f, Binary: cert.Binary(),
				Armoured: cert.Armoured()})
		} else {
			found = append(found, finding.New("key.missing", "source "+src.Name,
				"the certificate %s, which machines need for %s, is not there", f, e.Name()))
		}
	}
	if len(out.Keys) == 0 && len(src.Keys) > 0 {
		found = append(found, finding.New("key.missing", "source "+src.Name,
			"no key is left that machines could check it with: they will refuse it"))
	}
	return out, found
}
