package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/store"
)

// paired gives the sites whose key a warden vouched for.
func (s *Service) paired() ([]api.Paired, error) {
	t, err := s.readTrusted()
	if err != nil {
		return nil, err
	}
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, err
	}
	out := []api.Paired{}
	add := func(v trust.Decision, waiting bool) {
		name := trust.PairedSite(v.Source)
		if name == "" {
			return
		}
		p := api.Paired{Name: name, Fingerprint: v.Fingerprint, Evidence: v.Why, By: v.By, At: v.At,
			Waiting: waiting, Stated: now.stated[name]}
		if c := t.certificates[v.Fingerprint]; c != nil {
			p.UserID = strings.Join(c.UserIDs, ", ")
		}
		if b, ok := t.Barred(v.Fingerprint); ok {
			p.Barred = b.Why
		}
		out = append(out, p)
	}
	for _, v := range t.Vouches() {
		add(v, false)
	}
	for _, v := range t.Waiting() {
		add(v, true)
	}
	slices.SortFunc(out, func(a, b api.Paired) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func (s *Service) handlePair(c *gin.Context) (any, error) {
	in, err := body[api.Pair](c)
	if err != nil {
		return nil, err
	}
	if err := s.pair(in, asking(c)); err != nil {
		return nil, err
	}
	return s.siteState()
}

// pair records that a key is another site's. It is a vouch like one for a source, by the same
// rules: with evidence, by two wardens where the site asks for two, taken back and barred alike.
func (s *Service) pair(in api.Pair, by actor) error {
	if !definition.IsName(in.Name) {
		return finding.New(finding.DefineBadValue, "", "the name %q is not valid", in.Name).
			Do("use lower-case letters, digits, dots and hyphens, such as harbour")
	}
	cert, err := s.keyOfSite(in.Data)
	if err != nil {
		return err
	}
	typed, err := trust.ParseFingerprint(in.Fingerprint)
	if err != nil {
		return err
	}
	object := "site " + in.Name
	if typed != cert.Fingerprint {
		return finding.New(finding.KeyFingerprintMismatch, object, "%s was entered, but the "+
			"file contains %s",
			trust.Spaced(typed), trust.Spaced(cert.Fingerprint))
	}
	if s.site.Load().by(cert.Fingerprint) != nil {
		return finding.New(finding.DefineBadValue, object, "this is the key of this site itself")
	}
	ch, err := s.begin(by)
	if err != nil {
		return err
	}
	defer ch.end()
	t, set, err := s.trustedAndSet()
	if err != nil {
		return err
	}
	for _, v := range slices.Concat(t.Vouches(), t.Waiting()) {
		if v.Source == trust.PairedSource(in.Name) && v.Fingerprint != cert.Fingerprint {
			return finding.New(finding.DefineDuplicateName, object, "the site is already "+
				"paired, with the key %s",
				trust.Spaced(v.Fingerprint)).
				Do("choose another name. If the site has a new key, run: stockade key withdraw "+
					"%s --source %s",
					v.Fingerprint, v.Source)
		}
	}
	source := trust.PairedSource(in.Name)
	if err := t.MayVouch(cert, source, []string{cert.Fingerprint}, in.Evidence, set.Policy(""),
		s.now()); err != nil {
		return err
	}
	act, err := t.ActOf(cert.Fingerprint, source, ch.by, set.Rules[definition.SiteRule].TwoPersons)
	if err != nil {
		return err
	}
	return s.db.Tx(func(tx *store.DB) error {
		if err := ch.saveCertificate(tx, cert, t.retired[cert.Fingerprint]); err != nil {
			return err
		}
		return ch.decide(tx, trust.Decision{Act: act, Fingerprint: cert.Fingerprint, Source: source,
			Why: in.Evidence})
	})
}

// keyOfSite reads the key of another site, out of a file of it or of a statement.
func (s *Service) keyOfSite(data []byte) (*trust.Certificate, error) {
	if trust.IsStatement(data) {
		return trust.WhoStates(data, s.now)
	}
	certs, err := trust.ReadCertificates(data)
	if err != nil {
		return nil, err
	}
	if len(certs) != 1 {
		return nil, finding.New(finding.KeyUnreadable, "", "the file contains %d certificates, "+
			"but a site has one",
			len(certs)).Do("use the file that the other site wrote: stockade site statement " +
			"--out FILE")
	}
	return certs[0], nil
}

// handleStatement states what was decided about keys here.
func (s *Service) handleStatement(c *gin.Context) (any, error) {
	ch, err := s.begin(asking(c))
	if err != nil {
		return nil, err
	}
	defer ch.end()
	t, set, err := s.trustedAndSet()
	if err != nil {
		return nil, err
	}
	if err := s.explained(); err != nil {
		return nil, err
	}
	st := trust.Statement{At: s.now().UTC().Truncate(time.Second), Vouches: []trust.Stated{},
		Bars: []trust.StatedBar{}}
	needed := map[string]bool{}
	for _, v := range t.Vouches() {
		src, described := set.Sources[v.Source]
		if _, barred := t.Barred(v.Fingerprint); barred || !described ||
			!slices.Contains(set.Signers(v.Source), v.Fingerprint) {
			continue
		}
		needed[v.Fingerprint] = true
		st.Vouches = append(st.Vouches, trust.Stated{Fingerprint: v.Fingerprint, Source: v.Source,
			Family: src.Family, Release: src.Release, Evidence: v.Why, By: v.By, At: v.At})
	}
	for _, b := range t.Bars() {
		st.Bars = append(st.Bars, trust.StatedBar{Fingerprint: b.Fingerprint, Reason: b.Why, By: b.By,
			At: b.At})
	}
	for _, f := range slices.Sorted(maps.Keys(needed)) {
		if cert := t.certificates[f]; cert != nil {
			st.Certificates += cert.Armoured()
		}
	}
	text, err := s.builder(nil).Site.State(st)
	if err != nil {
		return nil, err
	}
	err = ch.write(ch.db, "site.state", "site", map[string]string{
		"vouches": fmt.Sprint(len(st.Vouches)), "bars": fmt.Sprint(len(st.Bars))})
	return api.Text{Text: string(text)}, err
}

func (s *Service) handleTakeStatement(c *gin.Context) (any, error) {
	in, err := body[api.StatementTaken](c)
	if err != nil {
		return nil, err
	}
	return s.takeStatement(in, asking(c))
}

// takeStatement vouches on the word of a paired site for what its statement says and this
// site describes alike.
func (s *Service) takeStatement(in api.StatementTaken, by actor) (api.Statement, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Statement{}, err
	}
	defer ch.end()
	out := api.Statement{Vouches: []trust.Considered{}, Findings: finding.List{}}
	t, set, err := s.trustedAndSet()
	if err != nil {
		return out, err
	}
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return out, err
	}
	const paired = "paired sites"
	var known []trust.Known
	names := map[string]string{}
	for _, v := range t.Vouches() {
		name, cert := trust.PairedSite(v.Source), t.certificates[v.Fingerprint]
		if name == "" || cert == nil {
			continue
		}
		names[v.Fingerprint] = name
		b, _ := t.Barred(v.Fingerprint)
		known = append(known, trust.Known{Certificate: cert, VouchedFor: []string{paired}, Barred: b.Why})
	}
	st, err := trust.ReadStatement(in.Data, trust.NewKeyring(paired, known, s.now).Under(set.Policy("")))
	if err != nil {
		return out, err
	}
	for _, f := range append([]string{st.Site}, st.With...) {
		if names[f] != "" && out.Site == "" {
			out.Site, out.Fingerprint = names[f], f
		}
	}
	out.At, out.Bars = st.At, st.Bars
	if st.At.After(s.now().Add(clockSlack)) {
		return out, finding.New(finding.StatementUnreadable, "site "+out.Site,
			"the statement is dated %s, but the clock of this machine says %s", st.At.Format(time.DateTime),
			s.now().UTC().Format(time.DateTime)).Do("check which of the two clocks is wrong")
	}
	if last := now.stated[out.Site]; st.At.Before(last) {
		return out, finding.New(finding.StatementOlder, "site "+out.Site,
			"the statement was made on %s, but one made on %s was already imported",
			st.At.Format(time.DateTime),
			last.Format(time.DateTime))
	}
	certs := map[string]*trust.Certificate{}
	if st.Certificates != "" {
		list, err := trust.ReadCertificates([]byte(st.Certificates))
		if err != nil {
			return out, err
		}
		for _, c := range list {
			if have := t.certificates[c.Fingerprint]; have != nil { // what was seen here stays
				if merged, _, err := have.Merge(c); err == nil {
					c = merged
				}
			}
			certs[c.Fingerprint] = c
		}
	}
	here := map[string]trust.Here{}
	for name, src := range set.Sources {
		here[name] = trust.Here{Family: src.Family, Release: src.Release, Named: set.Signers(name),
			Policy: set.Policy(name)}
	}
	out.Vouches = append(out.Vouches, t.Consider(st, here, certs, s.now())...)
	for _, b := range st.Bars {
		for _, v := range t.Vouches() {
			if _, barred := t.Barred(b.Fingerprint); v.Fingerprint == b.Fingerprint && !barred {
				out.Findings = append(out.Findings, finding.New(finding.StatementBarred, "key "+b.Fingerprint,
					"%s barred this key on %s (%s), but here it may sign %s", out.Site,
					b.At.Format(time.DateOnly),
					b.Reason, v.Source))
			}
		}
	}
	for _, name := range in.Sources {
		if !slices.ContainsFunc(out.Vouches, func(c trust.Considered) bool { return c.Source == name }) {
			return out, finding.New(finding.DefineDanglingReference, "site "+out.Site,
				"the statement does not mention the source %q", name)
		}
	}
	if in.Look {
		return out, nil
	}
	return out, s.db.Tx(func(tx *store.DB) error {
		for i, v := range out.Vouches {
			if v.Outcome != trust.WouldVouch || len(in.Sources) > 0 && !slices.Contains(in.Sources,
				v.Source) {
				continue
			}
			act, err := t.ActOf(v.Fingerprint, v.Source, ch.by, set.TwoPersons(v.Source))
			if err != nil {
				out.Vouches[i].Outcome, out.Vouches[i].Why = trust.Passed, err.Error()
				continue
			}
			if err := ch.saveCertificate(tx, certs[v.Fingerprint], t.retired[v.Fingerprint]); err != nil {
				return err
			}
			if err := ch.decide(tx, trust.Decision{Act: act, Fingerprint: v.Fingerprint, Source: v.Source,
				Why: v.Cited(out.Site, out.Fingerprint, st.At)}); err != nil {
				return err
			}
		}
		return ch.write(tx, "site.take-statement", "site "+out.Site, map[string]string{
			"of": st.At.UTC().Format(time.RFC3339), "by_key": out.Fingerprint})
	})
}
