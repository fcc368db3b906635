package service

import (
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/store"

	"github.com/gin-gonic/gin"
)

// houseSource makes what the core needs of a house source: its repository is
// published anew into the pool where anything of it changed.
func (s *Service) houseSource(set *definition.Set, name string) (*mirror.Source, error) {
	src := set.Sources[name]
	age, err := src.MaxAge.Duration()
	if err != nil {
		return nil, err
	}
	site := s.site.Certificate()
	out := &mirror.Source{Name: name, Standing: src.Standing, Priority: src.Priority, Spec: src.Archive(name),
		Family: families.All[src.Family], MaxAge: age,
		Keyring: trust.NewKeyring(name, []trust.Known{{Certificate: site, VouchedFor: []string{name}}},
			s.now)}
	var packages []mirror.HousePackage
	for _, id := range set.HousePackages(name) {
		p := set.Packages[id]
		packages = append(packages, mirror.HousePackage{SHA256: p.SHA256,
			Size: int64(p.Size), Signature: p.Signature})
	}
	s.publishing.Lock()
	defer s.publishing.Unlock()
	var last *mirror.House
	var kept mirror.House
	if _, err := s.db.Kept("house", name, &kept); err == nil {
		last = &kept
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, err
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
	if err := s.db.EachRevision(func(r store.Revision) error {
		if strings.Contains(r.Whole, "\npackages:") {
			old, _ := definition.Read(definition.Text{Name: "revision", Text: r.Whole})
			add(old)
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for name, src := range set.Sources {
		var h mirror.House
		if !src.Managed() {
			continue
		}
		if _, err := s.db.Kept("house", name, &h); err == nil {
			for _, sum := range h.Files {
				out[sum] = true
			}
		}
	}
	delete(out, "")
	return out, nil
}

// maxUpload bounds a package that is added by hand (bytes).
const maxUpload = 16 << 30

var notInNames = regexp.MustCompile(`[^a-z0-9.-]+`)

// packageID makes the name that a house package is recorded by.
func packageID(p *archive.Package, sum string) string {
	id := strings.Trim(notInNames.ReplaceAllString(strings.ToLower(p.Name+"-"+p.Version+"."+p.Arch), "-"),
		".-")
	return id[:min(len(id), 50)] + "-" + sum[:8]
}

// addPackage takes a package file into a house source.
func (s *Service) addPackage(source string, in api.NewPackage, body io.Reader,
	by string) (api.HousePackage, error) {
	none := api.HousePackage{}
	t, set, err := s.trustedAndSet()
	if err != nil {
		return none, err
	}
	src, ok := set.Sources[source]
	if !ok {
		return none, dangling("", "source", source, set.Sources)
	}
	object := "source " + source
	if !src.Managed() {
		return none, finding.New("define.bad-value", object,
			"it is not a house source without upstreams, so nothing can be added to it").
			Do("describe one: standing: house, and no upstreams")
	}
	if strings.TrimSpace(in.From) == "" || strings.TrimSpace(in.Why) == "" {
		return none, finding.New("define.missing-field", object,
			"where the file came from, or what it is for, is missing").Do(
			"give --from and --why: whoever looks at it later will want to know")
	}
	if release, err := s.sweeping.now(); err != nil { // before the whole file has come
		return none, err
	} else {
		release()
	}
	tmp, err := os.CreateTemp(filepath.Join(s.cfg.Data, "tmp"), "upload-")
	if err != nil {
		return none, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	n, err := io.Copy(tmp, io.LimitReader(body, maxUpload+1))
	if err != nil {
		return none, fmt.Errorf("take the file in: %w", err)
	}
	if n > maxUpload {
		return none, finding.New("content.too-large", object, "the file has more than %d bytes",
			int64(maxUpload))
	}
	given, long, err := digestsOf(tmp)
	if err != nil {
		return none, err
	}
	release, err := s.sweeping.now()
	if err != nil {
		return none, err
	}
	defer release()
	b := s.builder(nil)
	taken, err := b.TakeIntoHouse(src.Archive(source), families.All[src.Family], tmp,
		in.Signature, t.Everybody(t.certificates, s.now))
	if err != nil {
		f, ok := finding.From(err)
		if !ok {
			return none, err
		}
		if f.Object == "" {
			f.Object = object
		}
		switch f.Code { // the general ways out are about upstreams
		case "content.digest-mismatch":
			f = f.Do("get the file again from where it came from, and compare its digest with its owner")
		case "content.malformed-package":
			f = f.Do("give a package file of the family %s", src.Family)
		}
		return none, f
	}
	p := taken.Package
	rec := definition.Package{Source: source, Name: p.Name, Version: p.Version, Architecture: p.Arch,
		SHA256: taken.SHA256, Size: int(taken.Size), Signature: taken.Signature,
		Given: given, From: finding.Harmless(in.From), Why: finding.Harmless(in.Why), By: by,
		At: s.now().UTC().Format(time.RFC3339)}
	if f, ok := finding.From(taken.Unsure); ok {
		rec.SignedBy = "not verified: " + f.Text
	} else if taken.Signer.Fingerprint != "" {
		rec.SignedBy = taken.Signer.Fingerprint
	}
	for _, id := range set.HousePackages(source) {
		if o := set.Packages[id]; o.Name == rec.Name && o.Version == rec.Version &&
			o.Architecture == rec.Architecture {
			if o.Given == given {
				return none, finding.New("define.duplicate-name", object,
					"this very file is in it already, as %s", id)
			}
			return none, finding.New("define.duplicate-name", object,
				"%s %s (%s) is in it already, with other content, as %s", rec.Name,
				rec.Version, rec.Architecture, id).
				Do("give the new build a version of its own, or remove the other first: stockade package "+
					"remove %s", id)
		}
	}
	var others []*mirror.Source
	for _, other := range slices.Sorted(maps.Keys(set.Sources)) {
		if o := set.Sources[other]; o.Family == src.Family && !o.Managed() && !o.Disabled {
			if ms, _ := s.source(set, t, other); ms != nil {
				others = append(others, ms)
			}
		}
	}
	found := finding.List{}
	offers, unknown := b.Offered(archive.Identity{Name: p.Name, Version: p.Version, Arch: p.Arch}, given,
		long, others)
	for _, other := range unknown {
		found = append(found, finding.New("house.not-compared", object,
			"what %s offers is not here to be looked at, so whether %s %s is there too is not known",
			other, p.Name, p.Version).
			Do("stockade source refresh %s; then take the package out and add it again", other))
	}
	for _, o := range offers {
		if o.Same {
			found = append(found, finding.New("house.offered-elsewhere", object,
				"%s offers %s %s too, with the same bytes", o.Source, p.Name, p.Version))
		} else {
			found = append(found, finding.New("house.other-bytes", object,
				"%s offers %s %s too, and its bytes are others: its index gives the digest %s", o.Source,
				p.Name, p.Version, o.Digest))
		}
	}
	id := packageID(p, given)
	j, err := s.change(by, api.Warden, "add "+p.Name+" "+p.Version+" to "+source,
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
	err = s.record(by, "package.add", "source "+source, map[string]string{
		"package":   p.Name + " " + p.Version,
		"given":     given,
		"from":      rec.From,
		"why":       rec.Why,
		"signed_by": rec.SignedBy,
	})
	return api.HousePackage{ID: id, Package: rec, Findings: found, Revision: j.Revision}, err
}

// digestsOf gives the SHA-256 and the SHA-512 of a whole file.
func digestsOf(f *os.File) (short, long string, err error) {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return "", "", err
	}
	h, h512 := sha256.New(), sha512.New()
	_, err = io.Copy(io.MultiWriter(h, h512), f)
	return hex.EncodeToString(h.Sum(nil)), hex.EncodeToString(h512.Sum(nil)), err
}

// removePackage takes a package out of a house source; the file stays as long
// as a revision or an edition knows it.
func (s *Service) removePackage(id, by string) (api.Judgement, error) {
	j, err := s.change(by, api.Operator, "remove package "+id, func(set *definition.Set) error {
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
	return s.addPackage(c.Param("name"), in, c.Request.Body, who(c).Name)
}

func (s *Service) handleHousePackages(c *gin.Context) (any, error) {
	return page(s.housePackages(c.Query("source")))
}

func (s *Service) handleRemovePackage(c *gin.Context) (any, error) {
	return refused("The package was not removed")(s.removePackage(c.Param("id"), who(c).Name))
}
