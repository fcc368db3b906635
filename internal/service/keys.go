package service

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/store"
)

// trusted is all that is recorded about keys, read at once.
type trusted struct {
	*trust.Decisions
	certificates map[string]*trust.Certificate
	added        map[string]store.Certificate
	retired      map[string]bool
	history      map[string][]api.KeyStep
	broken       *journal.Broken             // the journal does not hold: nothing is vouched for
	given        map[string]store.Credential // the secrets of credentials that count
}

// certificates keeps certificates that were read, by the text of their record: reading one takes some
// half a millisecond, and there can be hundreds. They are never changed.
type certificates struct {
	mu sync.Mutex
	of map[string]*trust.Certificate // by the armoured text
}

// read gives the certificate of a record.
func (c *certificates) read(of store.Certificate) (*trust.Certificate, error) {
	c.mu.Lock()
	cert := c.of[of.Armoured]
	c.mu.Unlock()
	if cert == nil {
		list, err := trust.ReadCertificates([]byte(of.Armoured))
		if err != nil || len(list) != 1 {
			return nil, fmt.Errorf("the record of the certificate %s is damaged", of.Fingerprint)
		}
		cert = list[0]
	}
	if cert.Fingerprint != of.Fingerprint {
		return nil, fmt.Errorf("the record of the certificate %s is damaged", of.Fingerprint)
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.of == nil {
		c.of = map[string]*trust.Certificate{}
	}
	c.of[of.Armoured] = cert
	return cert, nil
}

// keep forgets those that no record has any more.
func (c *certificates) keep(now []store.Certificate) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.of) == len(now) {
		return
	}
	kept := map[string]*trust.Certificate{}
	for _, row := range now {
		if cert := c.of[row.Armoured]; cert != nil {
			kept[row.Armoured] = cert
		}
	}
	c.of = kept
}

func (s *Service) readTrusted() (*trusted, error) {
	t := &trusted{certificates: map[string]*trust.Certificate{}, added: map[string]store.Certificate{}}
	certs, err := s.db.Certificates()
	if err != nil {
		return nil, err
	}
	for _, c := range certs {
		cert, err := s.parsed.read(c)
		if err != nil {
			return nil, err
		}
		t.certificates[c.Fingerprint], t.added[c.Fingerprint] = cert, c
	}
	s.parsed.keep(certs)
	// What counts is what the journal's entries made; a record alone bars, and
	// vouches for nothing.
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, err
	}
	t.Decisions, t.broken, t.retired, t.history = now.decisions.Clone(), now.broken, now.retired, now.history
	if t.given, err = s.given(now); err != nil {
		return nil, err
	}
	recorded, err := s.db.Decisions()
	if err != nil {
		return nil, err
	}
	for _, b := range recorded.Bars() {
		t.Add(b)
	}
	return t, nil
}

// removal says how a key leaves the machines that trust it.
func (t *trusted) removal(set *definition.Set, fingerprint string) string {
	way := "write the files of the groups again (stockade group files GROUP), and run the " +
		"setup script on each machine"
	commands := map[string]string{} // by family, of the first source that it was for
	for _, name := range slices.Sorted(maps.Keys(set.Sources)) {
		family := families.All[set.Sources[name].Family]
		vouched := slices.ContainsFunc(t.history[fingerprint], func(step api.KeyStep) bool {
			return step.Source == name
		})
		if family != nil && (vouched || slices.Contains(set.Signers(name), fingerprint)) &&
			commands[family.Name()] == "" {
			commands[family.Name()] = family.Untrust(name, fingerprint)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(commands)) {
		way += "; on machines of the family " + name + " that do not get them, run: " + commands[name]
	}
	return way
}

// outOfUse gives the keys that were barred or retired.
func (t *trusted) outOfUse() (out []string) {
	for _, f := range slices.Sorted(maps.Keys(t.certificates)) {
		if _, barred := t.Barred(f); barred || t.retired[f] {
			out = append(out, f)
		}
	}
	return out
}

// keyring gives the keyring of a described source.
func (t *trusted) keyring(set *definition.Set, source string, now func() time.Time) *trust.Keyring {
	return t.Keyring(source, set.Signers(source), t.certificates, now).Under(set.Policy(source))
}

// aboutKeys is what is described and decided about certificates, by fingerprint.
type aboutKeys struct {
	names, neededBy  map[string][]string // in the description; by which sources
	vouched, waiting map[string][]api.Vouched
	site, former     []string // the keys of this site, of now and before
}

// aboutKeys gathers it. It reads all of it once, for a list as for one.
func (s *Service) aboutKeys(t *trusted, set *definition.Set) aboutKeys {
	keys := s.site.Load()
	out := aboutKeys{map[string][]string{}, map[string][]string{}, map[string][]api.Vouched{},
		map[string][]api.Vouched{}, fingerprints(keys.now()), fingerprints(keys.former)}
	for _, name := range slices.Sorted(maps.Keys(set.Keys)) {
		for _, text := range set.Keys[name].All() {
			if f, err := trust.ParseFingerprint(text); err == nil && !slices.Contains(out.names[f], name) {
				out.names[f] = append(out.names[f], name)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(set.Sources)) {
		for _, f := range set.Signers(name) {
			if !slices.Contains(out.neededBy[f], name) {
				out.neededBy[f] = append(out.neededBy[f], name)
			}
		}
	}
	for _, v := range t.Vouches() {
		out.vouched[v.Fingerprint] = append(out.vouched[v.Fingerprint],
			api.Vouched{Source: v.Source, Evidence: v.Why, By: v.By, At: v.At})
	}
	for _, v := range t.Waiting() {
		out.waiting[v.Fingerprint] = append(out.waiting[v.Fingerprint],
			api.Vouched{Source: v.Source, Evidence: v.Why, By: v.By, At: v.At})
	}
	return out
}

// key describes a certificate for the API.
func (s *Service) key(c *trust.Certificate, t *trusted, set *definition.Set) api.Key {
	return s.keyWith(s.aboutKeys(t, set), c, t, set)
}

// keyWith is key with what is known about all keys.
func (s *Service) keyWith(about aboutKeys, c *trust.Certificate, t *trusted, set *definition.Set) api.Key {
	f := c.Fingerprint
	out := api.Key{Certificate: *c, Names: append([]string{}, about.names[f]...),
		Vouched:  append([]api.Vouched{}, about.vouched[f]...),
		Waiting:  append([]api.Vouched{}, about.waiting[f]...),
		NeededBy: append([]string{}, about.neededBy[f]...),
		History:  []api.KeyStep{}, RestsOn: []string{}, Lanes: []string{},
		Findings: c.CheckBy(set.Policy(""), s.now()),
		Added:    t.added[f].At, AddedBy: t.added[f].By, Site: slices.Contains(about.site, f),
		Former: slices.Contains(about.former, f)}
	if b, ok := t.Barred(f); ok {
		out.Barred = &api.Barred{Reason: b.Why, By: b.By, At: b.At}
		out.Findings = append(out.Findings, finding.New(finding.KeyBarred, "key "+f,
			"the key was barred: %s",
			b.Why).Rated(finding.Note).Do("%s", t.removal(set, f)))
	}
	out.Retired = t.retired[f]
	if why, _ := inUse(out); why == "" {
		out.Idle = !out.Retired
	}
	if out.Findings == nil {
		out.Findings = finding.List{}
	}
	return out
}

// keyDetail is key with the editions and lanes that rest on it.
func (s *Service) keyDetail(c *trust.Certificate, t *trusted, set *definition.Set) (api.Key, error) {
	out := s.key(c, t, set)
	out.History = append(out.History, t.history[c.Fingerprint]...)
	m, err := s.model()
	if err != nil {
		return out, err
	}
	for _, e := range m.editionsOf("") {
		open, err := s.editions.brief(s, e.Mirror, e.Number)
		if err != nil || !restsOn(open, c.Fingerprint) {
			continue // one that cannot be read is told where it is looked at
		}
		out.RestsOn = append(out.RestsOn, open.Name())
		out.Lanes = append(out.Lanes, e.Lanes...)
	}
	slices.Sort(out.Lanes)
	return out, nil
}

// restsOn tells whether a key signed a root that an edition was made from, or is
// one that its packages may be signed by.
func restsOn(e *edition.Edition, fingerprint string) bool {
	return slices.ContainsFunc(e.Sources, func(s edition.Source) bool {
		return s.Signer.Fingerprint == fingerprint || slices.Contains(s.Keys, fingerprint)
	})
}

// addKeys brings certificates in, and statements by which their owners withdraw some that
// are there. It decides nothing about them.
func (s *Service) addKeys(data []byte, by actor) ([]api.Key, error) {
	ch, err := s.begin(by)
	if err != nil {
		return nil, err
	}
	defer ch.end()
	t, err := s.readTrusted()
	if err != nil {
		return nil, err
	}
	certs, err := trust.ReadCertificates(data)
	if f, _ := finding.From(err); f.Cause == "none" {
		certs, err = trust.WithRevocations(data, t.certificates)
	}
	if err != nil {
		return nil, err
	}
	err = s.db.Tx(func(tx *store.DB) error {
		for _, c := range certs {
			if err := ch.saveCertificate(tx, c, t.retired[c.Fingerprint]); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	t, set, err := s.trustedAndSet()
	if err != nil {
		return nil, err
	}
	var out []api.Key
	for _, c := range certs {
		out = append(out, s.key(t.certificates[c.Fingerprint], t, set))
	}
	return out, nil
}

// saveCertificate brings a certificate in. One that is there is never replaced:
// what the new copy has more is added to it. One that was put away is back.
func (ch *change) saveCertificate(tx *store.DB, c *trust.Certificate, away bool) error {
	recorded, err := tx.CertificateBy(c.Fingerprint)
	if err == nil {
		err = ch.mergeCertificate(tx, recorded, c)
		if err != nil || !away {
			return err
		}
		return ch.write(tx, "key.add", "key "+c.Fingerprint,
			map[string]string{"user_ids": strings.Join(c.UserIDs, "; ")})
	}
	if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if err := tx.SaveCertificate(store.Certificate{Fingerprint: c.Fingerprint, Armoured: c.Armoured(),
		At: ch.now().UTC(), By: ch.by}); err != nil {
		return err
	}
	return ch.write(tx, "key.add", "key "+c.Fingerprint,
		map[string]string{"user_ids": strings.Join(c.UserIDs, "; ")})
}

func (ch *change) mergeCertificate(tx *store.DB, recorded store.Certificate,
	c *trust.Certificate) error {
	have, err := trust.ReadCertificates([]byte(recorded.Armoured))
	if err != nil || len(have) != 1 {
		return fmt.Errorf("the record of the certificate %s is damaged", c.Fingerprint)
	}
	merged, more, err := have[0].Merge(c)
	if err != nil || !more {
		return err
	}
	recorded.Armoured = merged.Armoured()
	if err := tx.SaveCertificate(recorded); err != nil {
		return err
	}
	return ch.write(tx, "key.merge", "key "+c.Fingerprint,
		map[string]string{"changed": strings.Join(have[0].Changes(merged), "; ")})
}

func (s *Service) trustedAndSet() (*trusted, *definition.Set, error) {
	t, err := s.readTrusted()
	if err != nil {
		return nil, nil, err
	}
	set, err := s.db.Described()
	return t, set, err
}

// typed checks that a decision is about the key that was typed, and that it is there.
func (s *Service) typed(path string, d api.Decision) (*trusted, *definition.Set, *trust.Certificate, error) {
	typed, err := trust.ParseFingerprint(d.Fingerprint)
	if err != nil {
		return nil, nil, nil, err
	}
	if want, err := trust.ParseFingerprint(path); err != nil || want != typed {
		return nil, nil, nil, finding.New(finding.KeyFingerprintMismatch, "key "+path,
			"the fingerprint %s belongs to another key", trust.Spaced(typed))
	}
	t, set, err := s.trustedAndSet()
	if err != nil {
		return nil, nil, nil, err
	}
	c := t.certificates[typed]
	if site := s.site.Load().by(typed); site != nil {
		c = site
	}
	if c == nil {
		return nil, nil, nil, finding.New(finding.KeyMissing, "key "+typed,
			"this certificate was never imported")
	}
	return t, set, c, nil
}

// settle has a decision checked and recorded, and gives the key as it stands then.
func (s *Service) settle(path string, d api.Decision, by actor, record func(*change, *trusted,
	*definition.Set, *trust.Certificate) error) (api.Key, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Key{}, err
	}
	defer ch.end()
	t, set, c, err := s.typed(path, d)
	if err != nil {
		return api.Key{}, err
	}
	if err := record(ch, t, set, c); err != nil {
		return api.Key{}, err
	}
	if t, err = s.readTrusted(); err != nil {
		return api.Key{}, err
	}
	return s.keyDetail(c, t, set)
}

// reasoned refuses a decision without a reason.
func reasoned(c *trust.Certificate, d api.Decision) error {
	if strings.TrimSpace(d.Reason) == "" {
		return finding.New(finding.DefineMissingField, "key "+c.Fingerprint, "the reason is missing")
	}
	return nil
}

// vouch records that a key may sign one source, or several: all of them, or none.
func (s *Service) vouch(path string, d api.Decision, by actor) (api.Key, error) {
	return s.settle(path, d, by, func(ch *change, t *trusted, set *definition.Set,
		c *trust.Certificate) error {
		sources := slices.Clone(d.Sources)
		if d.Source != "" || len(sources) == 0 {
			sources = append(sources, d.Source)
		}
		slices.Sort(sources)
		sources = slices.Compact(sources)
		for _, name := range sources {
			if _, ok := set.Sources[name]; !ok {
				return dangling("key "+c.Fingerprint, "source", name, set.Sources)
			}
			if err := t.MayVouch(c, name, set.Signers(name), d.Evidence, set.Policy(name),
				s.now()); err != nil {
				return err
			}
		}
		acts := map[string]trust.Act{}
		for _, name := range sources {
			act, err := t.ActOf(c.Fingerprint, name, ch.by, set.TwoPersons(name))
			if err != nil {
				return err
			}
			acts[name] = act
		}
		return ch.db.Tx(func(tx *store.DB) error {
			for _, name := range sources {
				if err := ch.decide(tx, trust.Decision{Act: acts[name], Fingerprint: c.Fingerprint,
					Source: name,
					Why:    d.Evidence}); err != nil {
					return err
				}
			}
			return nil
		})
	})
}

// withdraw takes a vouch for one source back.
func (s *Service) withdraw(path string, d api.Decision, by actor) (api.Key, error) {
	return s.settle(path, d, by, func(ch *change, t *trusted, set *definition.Set,
		c *trust.Certificate) error {
		object := "key " + c.Fingerprint
		if err := reasoned(c, d); err != nil {
			return err
		}
		_, waits := t.Proposed(c.Fingerprint, d.Source)
		if _, ok := t.Vouched(c.Fingerprint, d.Source); !ok && !waits {
			f := finding.New(finding.KeyUnvouched, object,
				"no one has vouched for this key for the source %q, so there is nothing to "+
					"withdraw", d.Source)
			if k := s.key(c, t, set); len(k.Vouched) > 0 {
				f = f.Do("the key is %s", vouchedFor(k))
			}
			return f
		}
		return s.db.Tx(func(tx *store.DB) error {
			return ch.decide(tx, trust.Decision{Act: trust.Withdraw, Fingerprint: c.Fingerprint,
				Source: d.Source, Why: d.Reason, ByHand: true})
		})
	})
}

func vouchedFor(k api.Key) string {
	var names []string
	for _, v := range k.Vouched {
		names = append(names, v.Source)
	}
	return "vouched for " + strings.Join(names, ", ")
}

// retireKey puts a certificate away that decides nothing any more. What was
// decided about it stays in the journal, and a bar stays in force.
func (s *Service) retireKey(path string, d api.Decision, by actor) (api.Key, error) {
	return s.settle(path, d, by, func(ch *change, t *trusted, set *definition.Set,
		c *trust.Certificate) error {
		if err := reasoned(c, d); err != nil {
			return err
		}
		if why, way := inUse(s.key(c, t, set)); why != "" {
			return finding.New(finding.KeyInUse, "key "+c.Fingerprint, "%s", why).Do("%s", way)
		}
		return ch.write(ch.db, "key.retire", "key "+c.Fingerprint, map[string]string{"reason": d.Reason})
	})
}

// inUse tells what a key still decides, and how that is ended; "" where nothing.
func inUse(k api.Key) (why, way string) {
	switch {
	case k.Site:
		return "it is this site's own key", "none needed"
	case len(k.Vouched) > 0 && k.Barred == nil:
		return "it is " + vouchedFor(k), "run stockade key withdraw for each source"
	case len(k.NeededBy) > 0:
		return "it is listed under signed_by of " + strings.Join(k.NeededBy, ", "),
			"remove it from these definitions"
	case len(k.Names) > 0:
		return "the definitions name it " + strings.Join(k.Names, ", "),
			"record all definitions without it: stockade record PATH --whole"
	}
	return "", ""
}

// bar records that a key may sign nothing any more.
func (s *Service) bar(path string, d api.Decision, by actor) (api.Key, error) {
	return s.settle(path, d, by, func(ch *change, _ *trusted, _ *definition.Set, c *trust.Certificate) error {
		if err := reasoned(c, d); err != nil {
			return err
		}
		if s.site.Load().isNow(c.Fingerprint) {
			return finding.New(finding.DefineBadValue, "key "+c.Fingerprint,
				"this is the site's own key. Barring it would invalidate every edition")
		}
		return s.db.Tx(func(tx *store.DB) error {
			return ch.decide(tx, trust.Decision{Act: trust.Bar, Fingerprint: c.Fingerprint, Why: d.Reason})
		})
	})
}

// absent tells that there is no thing of a kind with a number.
func absent(kind string, number int64) error {
	return finding.New(finding.DefineDanglingReference, "", "no %s has the number %d", kind, number).
		Do("run stockade %s list to see the numbers", kind)
}

func dangling[T any](object, kind, name string, among map[string]T) error {
	f := finding.New(finding.DefineDanglingReference, object, "no %s is named %q", kind, name)
	var names []string
	for n := range among {
		names = append(names, n)
	}
	slices.Sort(names)
	if near := definition.Nearest(name, names); near != "" {
		f.WayOut = fmt.Sprintf("did you mean %q?", near)
	} else if len(names) > 0 && len(names) < 12 {
		f.WayOut = "existing: " + strings.Join(names, ", ")
	}
	return f
}

func (s *Service) handleKeys(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	all, err := m.keys.get(func() ([]api.Key, error) {
		about, out := s.aboutKeys(m.trusted, m.set), []api.Key{}
		for _, c := range s.site.Load().all() {
			out = append(out, s.keyWith(about, c, m.trusted, m.set))
		}
		for _, f := range slices.Sorted(maps.Keys(m.trusted.certificates)) {
			out = append(out, s.keyWith(about, m.trusted.certificates[f], m.trusted, m.set))
		}
		return out, nil
	})
	if c.Query("retired") == "" {
		all = slices.DeleteFunc(slices.Clone(all), func(k api.Key) bool { return k.Retired })
	}
	return page(all, err)
}

func (s *Service) handleKey(c *gin.Context) (any, error) {
	m, err := s.model()
	if err != nil {
		return nil, err
	}
	t, set := m.trusted, m.set
	cert := t.certificates[c.Param("fingerprint")]
	if site := s.site.Load().by(c.Param("fingerprint")); site != nil {
		cert = site
	}
	if cert == nil {
		return nil, dangling("", "key", c.Param("fingerprint"), t.certificates)
	}
	out, err := s.keyDetail(cert, t, set)
	out.Armoured = cert.Armoured()
	if text, ofSite := s.site.Load().armoured(cert.Fingerprint); ofSite {
		out.Armoured = text
	}
	return out, err
}

func (s *Service) handleAddKeys(c *gin.Context) (any, error) {
	in, err := body[api.KeyData](c)
	if err != nil {
		return nil, err
	}
	return page(s.addKeys(in.Data, asking(c)))
}

// decision reads what was decided about the key of the path, and has it recorded.
func decision(record func(fingerprint string, d api.Decision, by actor) (api.Key, error)) handler {
	return func(c *gin.Context) (any, error) {
		in, err := body[api.Decision](c)
		if err != nil {
			return nil, err
		}
		return record(c.Param("fingerprint"), in, asking(c))
	}
}
