package service

import (
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/pool"
	"stockade/core/trust"
	"stockade/internal/api"
)

// siteRenewal is what the entries of the journal say of the site's keys.
type siteRenewal struct {
	next         string // that signs beside the other, while there are two
	since, until time.Time
	by, why      string

	main, retired string // of the last retirement
}

// renewFor is how long both keys are meant to sign where nothing is said.
const renewFor = 90 * 24 * time.Hour

// countersign adds the signature of the next key to the seal of an edition.
func (s *Service) countersign(name string, number int) error {
	keys := s.site.Load()
	if keys.next == nil {
		return nil
	}
	err := edition.Countersign(disk.OS, s.editionFolder(name, number), keys.all(), keys.next)
	return about(err, "edition "+edition.ID{Mirror: name, Number: number}.String())
}

// about names what a finding is about, where it does not yet.
func about(err error, object string) error {
	if f, ok := finding.From(err); ok && f.Object == "" {
		f.Object = object
		return f
	}
	return err
}

// sealByAll has the next key sign the seals of all editions that stand. One whose seal does
// not hold is told, and left as it is.
func (s *Service) sealByAll() error {
	if s.site.Load().next == nil {
		return nil
	}
	all, err := s.db.Editions("")
	if err != nil {
		return err
	}
	for _, e := range all {
		if e.Retired {
			continue
		}
		err := s.countersign(e.Mirror, e.Number)
		if f, ok := finding.From(err); ok && f.Code != finding.FaultCode {
			s.log.Error("a seal was not countersigned", "edition", f.Object, "why", f.Text)
		} else if err != nil {
			return err
		}
	}
	return nil
}

// siteState tells of the site and its keys.
func (s *Service) siteState() (api.Site, error) {
	keys := s.site.Load()
	out := api.Site{Version: s.cfg.Version, Packages: s.PackagesURL(), Keys: []api.SiteKey{},
		Resting: []api.Resting{}, TwoPersons: []string{}, Findings: finding.List{}}
	for i, c := range keys.all() {
		k := api.SiteKey{Fingerprint: c.Fingerprint, UserID: strings.Join(c.UserIDs, ", "),
			Created: c.Primary.Created, State: api.SiteKeySigns}
		switch {
		case i >= len(keys.now()):
			k.State = api.SiteKeyFormer
		case i > 0:
			k.State = api.SiteKeyNext
		}
		out.Keys = append(out.Keys, k)
	}
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return out, err
	}
	if keys.next != nil {
		r := now.site
		out.Renewal = &api.Renewal{Since: r.since, Until: r.until, By: r.by, Reason: r.why}
		out.Findings = append(out.Findings, s.ofRenewal(now)...)
	}
	set, err := s.db.Described()
	if err != nil {
		return out, err
	}
	out.HousePackages = len(set.Packages)
	for _, standing := range slices.Sorted(maps.Keys(set.Rules)) {
		if set.Rules[standing].TwoPersons {
			out.TwoPersons = append(out.TwoPersons, standing)
		}
	}
	if out.Paired, err = s.paired(); err != nil {
		return out, err
	}
	out.Resting, err = s.restingOnOld(set, now)
	return out, err
}

// ofRenewal tells that the site has two keys, and when the older one should be retired.
func (s *Service) ofRenewal(now *inForce) finding.List {
	keys := s.site.Load()
	if keys.next == nil {
		return nil
	}
	old, next := keys.main.Certificate().Fingerprint, keys.next.Certificate().Fingerprint
	f := finding.New(finding.SiteRenewing, "site", "the site signs with two keys, %s and the "+
		"new key %s, until %s",
		old, next, now.site.until.UTC().Format(time.DateOnly)).
		Do("install new files on each machine, so that it trusts both keys. Then run: stockade "+
			"site retire-key %s", old)
	if !now.site.until.IsZero() && !s.now().Before(now.site.until) {
		f = f.Rated(finding.Warning)
		f.Text += ", which has passed"
	}
	return finding.List{f}
}

// restingOnOld gives the lanes whose edition has something that machines can only check
// with a key of the site that is to go, or has gone.
func (s *Service) restingOnOld(set *definition.Set, now *inForce) ([]api.Resting, error) {
	keys := s.site.Load()
	stays := fingerprints(keys.now())
	if keys.next != nil {
		stays = stays[1:]
	}
	goes := fingerprints(keys.former)
	if keys.next != nil {
		goes = append(goes, keys.main.Certificate().Fingerprint)
	}
	out := []api.Resting{}
	if len(goes) == 0 {
		return out, nil
	}
	followers := followersOf(set)
	for _, lane := range slices.Sorted(maps.Keys(set.Lanes)) {
		moves := now.moves(lane)
		if len(moves) == 0 {
			continue
		}
		e, err := s.editions.brief(s, moves[0].Mirror, moves[0].Edition)
		if err != nil {
			if f, ok := finding.From(err); ok && f.Code != finding.FaultCode {
				continue // told of the lane itself
			}
			return nil, err
		}
		r := api.Resting{Lane: lane, Edition: e.Name(), Sources: []string{},
			Groups: append([]string{}, followers[lane]...)}
		for _, src := range e.Sources {
			byOld := slices.ContainsFunc(src.Keys, func(f string) bool { return slices.Contains(goes, f) })
			byNew := slices.ContainsFunc(src.Keys, func(f string) bool { return slices.Contains(stays, f) })
			if byOld && !byNew {
				r.Sources = append(r.Sources, src.Name)
			}
		}
		if len(r.Sources) > 0 {
			out = append(out, r)
		}
	}
	return out, nil
}

// renewSiteKey makes the key that will follow: certified by the one that signs now, and
// signing beside it from now on.
func (s *Service) renewSiteKey(in api.Renew, by actor) (api.Site, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Site{}, err
	}
	defer ch.end()
	none := api.Site{}
	keys := s.site.Load()
	old := keys.main.Certificate().Fingerprint
	lasts := renewFor
	if in.For != "" {
		var err error
		if lasts, err = definition.Age(in.For).Duration(); err != nil || lasts <= 0 {
			return none, finding.New(finding.DefineBadValue, "site", "%q is not a duration", in.For).
				Do("enter how long both keys sign, such as 90d")
		}
	}
	if strings.TrimSpace(in.Reason) == "" {
		return none, finding.New(finding.DefineMissingField, "site", "the reason is missing")
	}
	if keys.next != nil {
		return none, finding.New(finding.SiteRenewing, "site",
			"the site key is already being renewed: %s signs beside %s",
			keys.next.Certificate().Fingerprint, old).Rated(finding.Error).
			Do("run stockade site retire-key %s to finish the renewal", old)
	}
	if err := s.explained(); err != nil {
		return none, err
	}
	next, err := s.makeSiteKey(s.nextKeyFile(), "renewed "+s.now().UTC().Format(time.DateOnly),
		s.unlocked, keys.main)
	if err != nil {
		return none, err
	}
	until := s.now().UTC().Add(lasts).Truncate(time.Second)
	if err := ch.write(ch.db, "site.renew-key", "site", map[string]string{"old": old,
		"new": next.Certificate().Fingerprint, "until": until.Format(time.RFC3339),
		"reason": in.Reason}); err != nil {
		os.Remove(s.nextKeyFile())
		return none, err
	}
	s.site.Store(&siteKeys{main: keys.main, next: next, former: keys.former})
	if err := s.sealByAll(); err != nil {
		return none, err
	}
	s.editions.forgetAll()
	return s.siteState()
}

// retireSiteKey ends a renewal: the new key alone signs from now on. Packages of house
// sources that carry a signature of the old one are signed anew first.
func (s *Service) retireSiteKey(in api.Retire, by actor) (api.Site, error) {
	none := api.Site{}
	typed, err := trust.ParseFingerprint(in.Fingerprint)
	if err != nil {
		return none, err
	}
	keys := s.site.Load()
	old := keys.main.Certificate()
	if keys.next == nil {
		return none, finding.New(finding.DefineBadValue, "site",
			"no next key exists. Nothing was changed").
			Do("run stockade site renew-key to create one")
	}
	if typed != old.Fingerprint {
		return none, finding.New(finding.KeyFingerprintMismatch, "site",
			"the fingerprint %s belongs to another key than the one to retire", trust.Spaced(typed))
	}
	if strings.TrimSpace(in.Reason) == "" {
		return none, finding.New(finding.DefineMissingField, "site", "the reason is missing")
	}
	if err := s.signHouseAnew(keys.next, by); err != nil {
		return none, err
	}
	ch, err := s.begin(by)
	if err != nil {
		return none, err
	}
	defer ch.end()
	if s.site.Load() != keys {
		return none, finding.New(finding.SiteRenewing, "site", "someone else retired the key "+
			"in the meantime").
			Rated(finding.Error)
	}
	if err := s.sealByAll(); err != nil {
		return none, err
	}
	if err := s.keepFormer(old, len(keys.former)+1); err != nil {
		return none, err
	}
	next := keys.next.Certificate()
	if err := ch.write(ch.db, "site.retire-key", "site", map[string]string{"old": old.Fingerprint,
		"new": next.Fingerprint, "reason": in.Reason}); err != nil {
		return none, err
	}
	if err := s.dropOldKey(); err != nil {
		return none, err
	}
	s.site.Store(&siteKeys{main: keys.next, former: append(slices.Clone(keys.former), old)})
	if err := s.keepPublic(); err != nil {
		return none, err
	}
	s.editions.forgetAll()
	return s.siteState()
}

// signHouseAnew signs the packages of house sources with a key, where their family has
// such signatures.
func (s *Service) signHouseAnew(with *trust.SiteKey, by actor) error {
	set, err := s.db.Described()
	if err != nil {
		return err
	}
	release, err := s.sweeping.now()
	if err != nil {
		return err
	}
	defer release()
	b := s.builder(nil)
	b.Site = with
	signed := map[string]mirror.HousePackage{}
	for id, p := range set.Packages {
		got, err := s.signAnew(b, set.Sources[p.Source], id, p)
		if err != nil {
			return err
		}
		if got.SHA256 != p.SHA256 || got.Signature != p.Signature {
			signed[id] = got
		}
	}
	if len(signed) == 0 {
		return nil
	}
	_, err = s.edit(by, fmt.Sprintf("sign %d packages of house sources with the new site key",
		len(signed)), func(set *definition.Set) error {
		for id, got := range signed {
			p, ok := set.Packages[id]
			if !ok {
				continue
			}
			p.SHA256, p.Size, p.Signature = got.SHA256, int(got.Size), got.Signature
			set.Packages[id] = p
		}
		return nil
	})
	return err
}

func (s *Service) signAnew(b *mirror.Builder, src definition.Source, id string,
	p definition.Package) (mirror.HousePackage, error) {
	none := mirror.HousePackage{}
	f, err := s.pool.Open(p.SHA256)
	if err != nil {
		gone, _ := finding.From(pool.Gone(err, "the file of "+id))
		if gone.Code == finding.FaultCode {
			return none, gone
		}
		gone.Object = "package " + id
		return none, gone.Do("add the file again, or remove the package: stockade package remove %s", id)
	}
	defer f.Close()
	tmp, err := s.upload(io.NewSectionReader(f, 0, f.Size()), "package "+id)
	if err != nil {
		return none, err
	}
	defer os.Remove(tmp.Name())
	defer tmp.Close()
	got, err := b.Endorsed(families.All[src.Family], src.Archive(p.Source), tmp)
	return got, about(err, "package "+id)
}

func (s *Service) handleSite(*gin.Context) (any, error) { return s.siteState() }

func (s *Service) handleRenewSiteKey(c *gin.Context) (any, error) {
	in, err := body[api.Renew](c)
	if err != nil {
		return nil, err
	}
	return s.renewSiteKey(in, asking(c))
}

func (s *Service) handleRetireSiteKey(c *gin.Context) (any, error) {
	in, err := body[api.Retire](c)
	if err != nil {
		return nil, err
	}
	return s.retireSiteKey(in, asking(c))
}
