package service

import (
	"bytes"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/core/trust"
	"stockade/internal/api"
)

// shownTo gives the edition that a machine of a group gets its files for: one that
// is named, or the one that its lane shows.
func (s *Service) shownTo(name string, g definition.Group, named string) (*edition.Sealed, api.Lane, error) {
	l, err := s.lane(g.Lane)
	if err != nil {
		return nil, l, err
	}
	if named == "" {
		named = l.Edition
	}
	if named == "" {
		return nil, l, &api.Problem{Title: "The files cannot be written", Status: 409,
			Type:   "urn:stockade:empty-lane",
			Detail: "the lane " + g.Lane + " shows no edition yet",
			WayOut: fmt.Sprintf("build the mirror, then run: stockade lane move %s %s/1. Or "+
				"name an edition: stockade group files %s --edition %s/1",
				g.Lane, l.Mirror, name, l.Mirror)}
	}
	id, err := edition.ParseID(named, l.Mirror)
	if err != nil {
		return nil, l, err
	}
	if id.Mirror != l.Mirror {
		return nil, l, finding.New(finding.DefineBadValue, "group "+name,
			"its lane %s shows editions of %s, but %s belongs to another mirror", g.Lane, l.Mirror, named)
	}
	e, _, err := s.standing(id.Mirror, id.Number)
	return e, l, err
}

// groupFiles writes the files that a machine of a group needs.
func (s *Service) groupFiles(name, at, named string) (api.Files, error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return api.Files{}, err
	}
	g, ok := set.Groups[name]
	if !ok {
		return api.Files{}, dangling("", "group", name, set.Groups)
	}
	e, l, err := s.shownTo(name, g, named)
	if err != nil {
		return api.Files{}, err
	}
	if at == "" {
		at = l.URL
		if e.Name() != l.Edition {
			at = s.PackagesURL() + "/edition/" + e.Name()
		}
	}
	site := s.site.Load()
	certificates := maps.Clone(t.certificates)
	for _, c := range site.all() {
		certificates[c.Fingerprint] = c
	}
	files, found, err := machine.ClientFiles(machine.Request{Group: name, Definition: g, Edition: e, At: at,
		Families: families.All, Certificates: certificates, Distrusted: t.Distrusted,
		Site: fingerprints(site.now()), Former: fingerprints(site.former), Barred: t.outOfUse()})
	if err != nil {
		return api.Files{}, err
	}
	out := api.Files{Group: name, At: at, Edition: e.Name(), Files: []api.File{}, Findings: found}
	for _, f := range files {
		out.Files = append(out.Files, api.File{Path: f.Path, Mode: f.Mode, Data: f.Data})
	}
	return out, nil
}

func (s *Service) handleGroups(c *gin.Context) (any, error) {
	m, all, err := s.toldNow()
	if err != nil {
		return nil, err
	}
	var out []api.Group
	for _, name := range slices.Sorted(maps.Keys(m.set.Groups)) {
		out = append(out, m.group(all, name))
	}
	return page(out, nil)
}

func (s *Service) handleGroup(c *gin.Context) (any, error) {
	m, all, err := s.toldNow()
	if err != nil {
		return nil, err
	}
	if _, ok := m.set.Groups[c.Param("name")]; !ok {
		return nil, dangling("", "group", c.Param("name"), m.set.Groups)
	}
	return m.group(all, c.Param("name")), nil
}

func (s *Service) handleGroupFiles(c *gin.Context) (any, error) {
	files, err := s.groupFiles(c.Param("name"), c.Query("at"), c.Query("edition"))
	if err != nil {
		return nil, err
	}
	if c.Query("beside") != "" {
		if files.Beside, err = s.beside(asking(c), files); err != nil {
			return nil, err
		}
	}
	if c.Query("taken") != "" || c.Query("beside") != "" {
		s.filesTaken(who(c), c.Param("name"))
	}
	return files, nil
}

// handleGroupKit gives the files of a group as one archive.
func (s *Service) handleGroupKit(c *gin.Context) (any, error) {
	name := c.Param("name")
	f, err := s.groupFiles(name, c.Query("at"), c.Query("edition"))
	if err != nil {
		return nil, err
	}
	if f.Findings.HasErrors() {
		return nil, &refusal{"The kit was not created", f.Findings}
	}
	id, err := edition.ParseID(f.Edition, "")
	if err != nil {
		return nil, err
	}
	open, _, err := s.standing(id.Mirror, id.Number)
	if err != nil {
		return nil, err
	}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	if err := s.signsFor(asking(c), f); err != nil {
		return nil, err
	}
	signer := s.site.Load().signing()
	k := machine.Kit{Group: name, Edition: f.Edition, At: f.At, Made: open.Created,
		Family: families.All[set.Groups[name].Family],
		Site:   trust.Spaced(signer.Certificate().Fingerprint),
		Key:    joined(s.site.Load().now()),
		Sign:   func(sums []byte) ([]byte, error) { return signer.DetachSign(sums, true) }}
	for _, x := range f.Files {
		k.Files = append(k.Files, archive.ClientFile{Path: x.Path, Mode: x.Mode, Data: x.Data})
	}
	var whole bytes.Buffer
	if err := k.Write(&whole); err != nil {
		return nil, err
	}
	s.filesTaken(who(c), name)
	c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", k.Name()+".tar.gz"))
	c.Data(http.StatusOK, "application/gzip", whole.Bytes())
	return nil, nil
}

// signsFor tells whether the site may sign files for machines. It signs where its own packages are found.
// That they are anywhere else is the word of a person who may decide about lanes, and is journalled.
func (s *Service) signsFor(by actor, f api.Files) error {
	if strings.HasPrefix(f.At, s.PackagesURL()+"/") {
		return nil
	}
	by.least = api.Operator
	return s.record(by, "group.sign-files", "group "+f.Group, map[string]string{"at": f.At,
		"edition": f.Edition})
}

// joined gives certificates as one keyring for gpgv(1).
func joined(certs []*trust.Certificate) (out []byte) {
	for _, c := range certs {
		out = append(out, c.Binary()...)
	}
	return out
}

// beside signs what lies beside an export for the machines of a group.
func (s *Service) beside(by actor, f api.Files) (*api.Beside, error) {
	if err := s.signsFor(by, f); err != nil {
		return nil, err
	}
	site := s.site.Load()
	b := machine.Beside{Group: f.Group, Edition: f.Edition, Site: site.main.Certificate().Fingerprint}
	for _, x := range f.Files {
		b.Files = append(b.Files, archive.ClientFile{Path: x.Path, Mode: x.Mode, Data: x.Data})
	}
	out := &api.Beside{Check: b.Check(), Sums: b.Sums(), Keyring: joined(site.now())}
	var err error
	out.Seal, err = site.signing().DetachSign(out.Sums, true)
	return out, err
}

// group describes a group; all is what is found, of machines as well.
func (m *model) group(all states, name string) api.Group {
	g := m.set.Groups[name]
	out := api.Group{Name: name, Group: g, Findings: all.of("group " + name)}
	if moves := m.force.moves(g.Lane); len(moves) > 0 {
		out.Edition = latest(moves)
	}
	return out
}
