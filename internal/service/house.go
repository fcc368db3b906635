package service

import (
	"encoding/base64"
	"errors"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/store"
)

// houseSource makes what the core needs of a house source: its repository is
// published anew into the pool where anything of it changed.
func (s *Service) houseSource(set *definition.Set, name string) (*upstream.Source, error) {
	src := set.Sources[name]
	age, err := src.MaxAge.Duration()
	if err != nil {
		return nil, err
	}
	var site []trust.Known
	for _, c := range s.site.Load().now() {
		site = append(site, trust.Known{Certificate: c, VouchedFor: []string{name}})
	}
	out := &upstream.Source{Name: name, Standing: src.Standing, Priority: src.Priority,
		Spec:          src.Archive(name),
		SecurityFixes: src.SecurityFixes,
		Family:        families.All[src.Family], MaxAge: age,
		Keyring: trust.NewKeyring(name, site, s.now)}
	var packages []mirror.HousePackage
	for _, id := range set.HousePackages(name) {
		p := set.Packages[id]
		packages = append(packages, mirror.HousePackage{SHA256: p.SHA256,
			Size: int64(p.Size), Signature: p.Signature})
	}
	s.publishing.Lock()
	defer s.publishing.Unlock()
	var last *upstream.House
	var kept upstream.House
	if _, there, err := s.db.Kept("house", name, &kept); err != nil {
		return nil, err
	} else if there {
		last = &kept
	}
	if out.House, err = s.builder(nil).PublishHouse(out.Spec, out.Family, packages, last); err != nil {
		return nil, err
	}
	if out.House != last {
		if err := s.pool.Flush(); err != nil {
			return nil, err
		}
		if err := s.db.Keep("house", name, out.House, s.now().UTC()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// houseFiles gives the digests of everything in the pool that house sources
// stand on: the packages that any revision knows, and what was published last.
func (s *Service) houseFiles() (map[string]bool, error) {
	out := map[string]bool{}
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	add := func(set *definition.Set) {
		for _, p := range set.Packages {
			out[p.SHA256], out[p.Signature] = true, true
		}
	}
	add(set)
	// A revision can be restored, and a package that was removed with it.
	if err := s.db.EachRevision(0, func(r store.Revision) error {
		if strings.Contains(r.Whole, "\npackages:") {
			old, _ := definition.Read(definition.Text{Name: "revision", Text: r.Whole})
			add(old)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for name, src := range set.Sources {
		var h upstream.House
		if !src.Managed() {
			continue
		}
		if _, _, err := s.db.Kept("house", name, &h); err != nil {
			return nil, err
		}
		for _, sum := range h.Files {
			out[sum] = true
		}
	}
	delete(out, "")
	return out, nil
}

// maxUpload bounds a package that is added by hand (bytes).
const maxUpload = 16 << 30

// addPackage takes a package file into a house source.
func (s *Service) addPackage(source string, in api.NewPackage, body io.Reader,
	by actor) (api.HousePackage, error) {
	none := api.HousePackage{}
	t, set, err := s.trustedAndSet()
	if err != nil {
		return none, err
	}
	if _, ok := set.Sources[source]; !ok {
		return none, dangling("", "source", source, set.Sources)
	}
	handed := mirror.Handed{Set: set, Source: source, From: in.From, Why: in.Why, By: by.name,
		Signature: in.Signature, Family: families.All[set.Sources[source].Family]}
	if err := handed.Check(); err != nil {
		return none, err
	}
	release, err := s.sweeping.now() // before the whole file has come
	if err != nil {
		return none, err
	}
	release()
	if handed.File, err = s.upload(body, "source "+source); err != nil {
		return none, err
	}
	defer os.Remove(handed.File.Name())
	defer handed.File.Close()
	if release, err = s.sweeping.now(); err != nil {
		return none, err
	}
	defer release()
	for _, other := range slices.Sorted(maps.Keys(set.Sources)) {
		o := set.Sources[other]
		if o.Family != set.Sources[source].Family || o.Managed() || o.Disabled {
			continue
		}
		if ms, _ := s.source(set, t, other); ms != nil {
			handed.Others = append(handed.Others, ms)
		}
	}
	id, rec, found, err := s.builder(nil).TakeIn(handed, t.Everybody(t.certificates, s.now))
	if err != nil {
		return none, err
	}
	j, err := s.edit(by, "add "+rec.Name+" "+rec.Version+" to "+source,
		func(set *definition.Set) error {
			set.Packages[id] = rec
			return nil
		})
	if errors.Is(err, errRefused) {
		return none, &refusal{"The package was not added", definition.Blocking(j.Findings)}
	}
	if err != nil {
		return none, err
	}
	for _, sum := range []string{rec.SHA256, rec.Signature} {
		if err := s.keepHouse(sum); err != nil { // the package is added all the same
			s.log.Warn("a copy of a package of a house source could not be kept", "package", id,
				"error", err)
		}
	}
	err = s.record(by, "package.add", "source "+source, map[string]string{
		"package":   rec.Name + " " + rec.Version,
		"given":     rec.Given,
		"from":      rec.From,
		"why":       rec.Why,
		"signed_by": rec.SignedBy,
	})
	return api.HousePackage{ID: id, Package: rec, Findings: found, Revision: j.Revision}, err
}

// upload keeps what is sent in a file of its own, which the caller removes.
func (s *Service) upload(body io.Reader, object string) (*os.File, error) {
	tmp, err := os.CreateTemp(filepath.Join(s.cfg.Data, "tmp"), "upload-")
	if err != nil {
		return nil, finding.Doing(err, "take the file in")
	}
	n, err := io.Copy(tmp, io.LimitReader(body, maxUpload+1))
	if err == nil && n > maxUpload {
		err = finding.New(finding.ContentTooLarge, object, "the file has more than %d bytes",
			int64(maxUpload))
	}
	if err != nil {
		tmp.Close()
		os.Remove(tmp.Name())
		return nil, finding.Doing(err, "take the file in")
	}
	return tmp, nil
}

// removePackage takes a package out of a house source; the file stays as long
// as a revision or an edition knows it.
func (s *Service) removePackage(id string, by actor) (api.Judgement, error) {
	j, err := s.edit(by, "remove package "+id, func(set *definition.Set) error {
		if _, ok := set.Packages[id]; !ok {
			return dangling("", "package", id, set.Packages)
		}
		delete(set.Packages, id)
		return nil
	})
	if err != nil {
		return j, err
	}
	return j, s.record(by, "package.remove", "package "+id, nil)
}

func (s *Service) housePackages(source string) ([]api.HousePackage, error) {
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	if _, ok := set.Sources[source]; source != "" && !ok {
		return nil, dangling("", "source", source, set.Sources)
	}
	var out []api.HousePackage
	for _, id := range slices.Sorted(maps.Keys(set.Packages)) {
		if p := set.Packages[id]; source == "" || p.Source == source {
			out = append(out, api.HousePackage{ID: id, Package: p, Findings: finding.List{}})
		}
	}
	return out, nil
}

func (s *Service) handleAddPackage(c *gin.Context) (any, error) {
	in := api.NewPackage{From: c.Query("from"), Why: c.Query("why")}
	var err error
	if in.Signature, err = base64.StdEncoding.DecodeString(c.Query("signature")); err != nil {
		return nil, &api.Problem{
			Title:  "The request could not be read",
			Status: 400,
			Type:   "urn:stockade:request",
			Detail: "the signature is not base64",
		}
	}
	return s.addPackage(c.Param("name"), in, c.Request.Body, asking(c))
}

func (s *Service) handleHousePackages(c *gin.Context) (any, error) {
	if name := c.Query("source"); name != "" {
		m, err := s.model()
		if err != nil {
			return nil, err
		}
		if src, ok := m.set.Sources[name]; ok && !src.Managed() {
			return nil, badQuery("source", name, "the source has upstreams; packages can only "+
				"be added to a house source without upstreams")
		}
	}
	return page(s.housePackages(c.Query("source")))
}

func (s *Service) handleRemovePackage(c *gin.Context) (any, error) {
	return refused("The package was not removed")(s.removePackage(c.Param("id"), asking(c)))
}
