package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/store"
)

// proposal is a description that somebody would like to have.
type proposal struct {
	recorded, target *definition.Set
	judgement        api.Judgement
	certificates     map[string]*trust.Certificate // that come with it
	trusted          *trusted
}

// propose reads documents, checks them over what is recorded, and compares. It ends with ctx: between two
// documents, two things that are checked, or two of its steps.
func (s *Service) propose(ctx context.Context, in api.Documents) (*proposal, error) {
	recorded, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	given, found := definition.Read(in.Documents...)
	p := &proposal{recorded: recorded, certificates: map[string]*trust.Certificate{}}
	p.judgement = api.Judgement{Findings: found, Changes: []definition.Change{},
		Vouches: []api.Vouching{}, Renewed: []api.Renewed{}, Losses: []definition.Loss{}}
	if p.trusted, err = s.readTrusted(); err != nil {
		return nil, err
	}
	if len(found.With(finding.DefineSyntax)) > 0 {
		p.target = recorded
		return p, nil
	}
	p.target = definition.Overlay(recorded, given)
	if in.Whole {
		p.target = given
	}
	p.takeFiles(given, in.Files)
	around := p.surroundings(s, given, in.Files)
	around.Ended = func() bool { return ctx.Err() != nil }
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	p.judgement.Findings = definition.Proposed(definition.Merge(found, definition.Check(p.target, around)))
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	definition.Excerpts(p.judgement.Findings, in.Documents...)
	p.judgement.Changes = append(p.judgement.Changes, definition.Compare(recorded, p.target)...)
	if p.judgement.Losses, err = s.losses(recorded, p.target); err != nil {
		return nil, err
	}
	p.judgement.Vouches = append(p.judgement.Vouches, p.vouches(given)...)
	p.judgement.Recordable = p.recordable()
	return p, nil
}

// recordable tells whether there is something to record that nothing blocks.
func (p *proposal) recordable() bool {
	j := p.judgement
	something := len(j.Changes) > 0 || len(j.Vouches) > 0 || len(j.Renewed) > 0
	return something && len(definition.Blocking(j.Findings)) == 0
}

// vouches gives the decisions that documents make. Words that only stand in what
// is recorded make none: they were an act once, and may have been undone since.
// Nor do the very words that a warden has taken back.
func (p *proposal) vouches(given *definition.Set) (out []api.Vouching) {
	for _, name := range slices.Sorted(maps.Keys(given.Keys)) {
		k := given.Keys[name]
		for _, src := range k.VouchedFor {
			for _, f := range k.All() {
				if p.trusted.IsNew(f, src, k.Evidence) {
					out = append(out, api.Vouching{Fingerprint: f, Source: src, Evidence: k.Evidence})
				}
			}
		}
	}
	return out
}

// takeFiles reads the certificates that come with documents and writes
// fingerprints whole, so that records say what was meant. It tells what a
// certificate that is there already gets from its new copy. Of authorities it keeps
// the certificates themselves.
func (p *proposal) takeFiles(given *definition.Set, files map[string][]byte) {
	given.TakeFiles(files, families.All)
	maps.Copy(p.target.Authorities, given.Authorities)
	maps.Copy(p.target.Lists, given.Lists)
	for name, k := range given.Keys {
		if f, err := trust.ParseFingerprint(k.Fingerprint); err == nil {
			k.Fingerprint = f
		}
		k.Fingerprints = slices.Clone(k.Fingerprints)
		for i, text := range k.Fingerprints {
			if f, err := trust.ParseFingerprint(text); err == nil {
				k.Fingerprints[i] = f
			}
		}
		if certs, err := trust.ReadCertificates(files[given.Resolve(name)]); err == nil {
			if len(k.All()) == 0 && len(certs) == 1 {
				k.Fingerprint = certs[0].Fingerprint
			}
			for _, c := range certs {
				if slices.Contains(k.All(), c.Fingerprint) {
					p.certificates[c.Fingerprint] = c
					p.renews(name, c)
				}
			}
		}
		p.target.Keys[name] = k
		given.Keys[name] = k
	}
}

// renews tells what is new in a copy of a certificate that is there already.
func (p *proposal) renews(name string, c *trust.Certificate) {
	have, ok := p.trusted.certificates[c.Fingerprint]
	if !ok {
		return
	}
	merged, more, err := have.Merge(c)
	if err != nil || !more {
		return
	}
	p.judgement.Renewed = append(p.judgement.Renewed, api.Renewed{Key: name, Fingerprint: c.Fingerprint,
		Changes: have.Changes(merged)})
}

func (p *proposal) surroundings(s *Service, given *definition.Set,
	files map[string][]byte) definition.Surroundings {
	proposed := map[vouching]bool{}
	for _, v := range p.vouches(given) {
		if p.target.TwoPersons(v.Source) {
			continue // it waits for a second warden
		}
		proposed[vouching{v.Fingerprint, v.Source}] = true
	}
	recorded := map[string][]string{} // by file: the keys that were recorded with it, and are not given again
	for name, k := range p.recorded.Keys {
		if _, again := given.Keys[name]; again {
			continue
		}
		recorded[k.File] = append(recorded[k.File], name)
		if resolved := p.target.Resolve(name); resolved != k.File {
			recorded[resolved] = append(recorded[resolved], name)
		}
	}
	return definition.Surroundings{
		Families: families.All,
		ReadFile: func(path string) ([]byte, error) {
			if data, ok := files[path]; ok {
				return data, nil
			}
			// A recorded key's file was read when it was recorded.
			var all []byte
			for _, name := range recorded[path] {
				for _, f := range p.recorded.Keys[name].All() {
					if c, ok := p.trusted.certificates[f]; ok {
						all = append(all, c.Binary()...)
					}
				}
			}
			if all == nil {
				return nil, errors.New("not supplied")
			}
			return all, nil
		},
		Certificate: func(f string) (*trust.Certificate, bool) {
			if c, ok := p.certificates[f]; ok {
				return c, true
			}
			c, ok := p.trusted.certificates[f]
			return c, ok
		},
		Given: func(name string, c definition.Credential) ([]string, time.Time, bool) {
			g, ok := p.trusted.given[name]
			return g.For(), g.Until, ok && fits(g, c)
		},
		Held: func(sum string) bool {
			_, ok := s.pool.Has(sum)
			return ok
		},
		Vouched: func(f, source string) bool {
			_, vouched := p.trusted.Vouched(f, source)
			return vouched || proposed[vouching{f, source}]
		},
		Awaiting: func(f, source string) string {
			first, _ := p.trusted.Proposed(f, source)
			return first.By
		},
		Barred: func(f string) string {
			b, _ := p.trusted.Barred(f)
			return b.Why
		},
		Now: s.now(),
	}
}

var errRefused = errors.New("refused")

// describe makes the change. The role decides about the vouching in it.
// expected, if not empty, is the ETag of the description that the caller saw:
// one that changed meanwhile is not overwritten.
func (s *Service) describe(ctx context.Context, in api.Documents, by actor,
	expected string) (api.Judgement, error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Judgement{}, err
	}
	defer ch.end()
	if tag, err := s.describedTag(); err != nil {
		return api.Judgement{}, err
	} else if expected != "" && expected != tag {
		return api.Judgement{}, &api.Problem{Title: "The definition was not recorded", Status: 412,
			Type:   "urn:stockade:changed-meanwhile",
			Detail: "someone else changed the definitions after you started",
			WayOut: "look at the current definitions (stockade revision list), and make your " +
				"change again"}
	}
	if err := s.explained(); err != nil {
		return api.Judgement{}, err
	}
	p, err := s.propose(ctx, in)
	if err != nil {
		return api.Judgement{}, err
	}
	if len(definition.Blocking(p.judgement.Findings)) > 0 {
		return p.judgement, errRefused
	}
	if err := p.permitted(ch.role); err != nil {
		return p.judgement, err
	}
	return ch.commit(p, in.Summary)
}

// permitted refuses what only wardens may do, on whichever road it comes: by a
// document, a change in the console, or a revision that is restored.
func (p *proposal) permitted(role string) error {
	no := func(detail, way string) error {
		return &api.Problem{Title: "The definition was not recorded", Status: 403,
			Type: "urn:stockade:rights", Detail: detail, WayOut: way}
	}
	if what := p.weakens(); what != "" {
		return no(what+", and no account may",
			"leave the rule as it is. Whoever starts the service can lift all rules: stockade "+
				"serve --lift-rules")
	}
	if role == api.Warden {
		return nil
	}
	if len(p.judgement.Vouches) > 0 {
		return no(fmt.Sprintf("it vouches for %s, which only a warden may do",
			p.judgement.Vouches[0].Fingerprint),
			"ask a warden to record it, or remove vouched_for")
	}
	for _, c := range p.judgement.Changes {
		if c.Kind == "rule" {
			return no(fmt.Sprintf("it changes the rule for %s, which only a warden may do", c.Name),
				"ask a warden to record it, or remove the rule")
		}
		if c.Kind == "authority" && c.Action != "remove" {
			return no(fmt.Sprintf("it changes the authority %s for TLS certificates, which "+
				"only a warden may do",
				c.Name),
				"ask a warden to record it, or remove that authority")
		}
		if u := p.acknowledges(c); u != (definition.Unsigned{}) {
			return no(fmt.Sprintf("it accepts the source %s as unsigned, which only a warden "+
				"may do",
				c.Name), "ask a warden to record it, or remove unsigned")
		}
		if c.Kind == "package" && c.Action != "remove" {
			return no(fmt.Sprintf(
				"it adds the package %s to a house source, which the site signs. Only a warden "+
					"may do that",
				c.Name), "ask a warden to do it, or remove that package")
		}
	}
	return nil
}

// acknowledges gives what a change acknowledges anew, that nobody signs a source: the words
// themselves, or another server for what they are about.
func (p *proposal) acknowledges(c definition.Change) definition.Unsigned {
	before, now := p.recorded.Sources[c.Name], p.target.Sources[c.Name]
	if c.Kind != "source" || now.Unsigned == before.Unsigned && now.From() == before.From() {
		return definition.Unsigned{}
	}
	return now.Unsigned
}

// weakens tells which rule a change would take away or get round; "" where none.
func (p *proposal) weakens() string {
	for name, r := range p.recorded.Rules {
		if r.TwoPersons && !p.target.Rules[name].TwoPersons {
			return "it removes the rule that two wardens must vouch (" + name + ")"
		}
		now := p.target.Rules[name]
		if now.RSABits < r.RSABits {
			return fmt.Sprintf("it lowers the RSA key length that the rule for %s requires", name)
		}
		for _, word := range r.Refuse {
			if !slices.Contains(now.Refuse, word) {
				return fmt.Sprintf("it changes the rule for %s so that it no longer refuses %s", name, word)
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(p.recorded.Sources)) {
		if _, still := p.target.Sources[name]; still && p.recorded.TwoPersons(name) &&
			!p.target.TwoPersons(name) {
			return fmt.Sprintf("it changes %s so that one warden alone could vouch for its keys", name)
		}
		if _, still := p.target.Sources[name]; still &&
			p.target.Policy(name).Weaker(p.recorded.Policy(name)) {
			return fmt.Sprintf("it changes %s so that algorithms count that are refused now", name)
		}
	}
	return ""
}

// liftRules takes all rules away, for who starts the service with --lift-rules: whoever may
// holds its key and its records already.
func (s *Service) liftRules() error {
	if !s.cfg.LiftRules {
		return nil
	}
	ch, err := s.begin(itself("--lift-rules"))
	if err != nil {
		return err
	}
	defer ch.end()
	recorded, err := s.db.Described()
	if err != nil || len(recorded.Rules) == 0 {
		return err
	}
	if err := s.explained(); err != nil {
		return err
	}
	target := definition.Overlay(recorded, definition.NewSet())
	for name := range recorded.Rules {
		target.Remove("rule", name)
	}
	p, err := s.proposeSet(recorded, target)
	if err != nil {
		return err
	}
	_, err = ch.commit(p, "lift all rules")
	return err
}

// describedTag is the ETag of the description: its newest revision.
func (s *Service) describedTag() (string, error) {
	newest, err := s.db.Revisions(0, 1)
	if err != nil || len(newest) == 0 {
		return `"0"`, err
	}
	return fmt.Sprintf(`"%d"`, newest[0].ID), nil
}

// commit records a proposal.
func (ch *change) commit(p *proposal, summary string) (api.Judgement, error) {
	out := p.judgement
	err := ch.db.Tx(func(tx *store.DB) error {
		for _, f := range slices.Sorted(maps.Keys(p.certificates)) {
			if err := ch.saveCertificate(tx, p.certificates[f], p.trusted.retired[f]); err != nil {
				return err
			}
		}
		for _, v := range out.Vouches {
			act := trust.Vouch
			if p.target.TwoPersons(v.Source) {
				act = trust.Propose
			}
			if err := ch.decide(tx, trust.Decision{Act: act, Fingerprint: v.Fingerprint,
				Source: v.Source, Why: v.Evidence}); err != nil {
				return err
			}
		}
		ended := map[vouching]bool{}
		for name, old := range p.recorded.Keys {
			now := p.target.Keys[name]
			if err := ch.endWords(tx, old, now, ended); err != nil {
				return err
			}
		}
		if err := tx.Say(p.said()); err != nil {
			return err
		}
		if len(out.Changes) == 0 {
			return nil
		}
		if summary == "" {
			summary = summarise(out.Changes)
		}
		rev, err := tx.Describe(p.target, out.Changes, ch.by, summary, ch.now().UTC())
		if err != nil {
			return err
		}
		out.Revision = rev.ID
		for _, name := range definition.Sources(out.Changes, "remove") {
			if err := ch.remember(tx, p.recorded, name); err != nil {
				return err
			}
			if err := ch.endDecisions(tx, p.trusted, name, ended); err != nil {
				return err
			}
			for _, kind := range []string{"accepted", "refresh", "probe", "house"} {
				if err := tx.Drop(kind, name); err != nil {
					return err
				}
			}
		}
		if err := ch.forgetUndescribed(tx, p); err != nil {
			return err
		}
		for _, name := range definition.Sources(out.Changes, "add") {
			if err := ch.recall(tx, p.target, name); err != nil {
				return err
			}
		}
		for _, c := range out.Changes {
			if u := p.acknowledges(c); u != (definition.Unsigned{}) {
				if err := ch.write(tx, "source.acknowledge-unsigned", "source "+c.Name,
					map[string]string{"reason": u.Reason, "until": u.Until}); err != nil {
					return err
				}
			}
		}
		digest, err := tx.DescribedDigest()
		if err != nil {
			return err
		}
		return ch.write(tx, "definition.record", fmt.Sprintf("revision %d", rev.ID), map[string]string{
			"summary": summary, "described": digest})
	})
	return out, err
}

// said gives what is written otherwise of objects that do not change: their comments and the
// order of their fields.
func (p *proposal) said() map[string]string {
	out := map[string]string{}
	for id, words := range p.target.Words {
		if p.recorded.Words[id] != words {
			kind, name, _ := strings.Cut(id, " ")
			out[id] = p.target.WordsOf(kind, name)
		}
	}
	for id := range p.recorded.Words {
		if p.target.Words[id] == "" {
			out[id] = ""
		}
	}
	return out
}

// vouching is what a vouch is about: a fingerprint and a source.
type vouching struct{ fingerprint, source string }

// endWords takes back what the words of a definition decided that are no longer in
// it. Each is taken back once: done says which were.
func (ch *change) endWords(tx *store.DB, old, now definition.Key, done map[vouching]bool) error {
	for _, src := range old.VouchedFor {
		for _, f := range old.All() {
			id := vouching{f, src}
			if done[id] || slices.Contains(now.VouchedFor, src) && slices.Contains(now.All(), f) {
				continue
			}
			done[id] = true
			if err := ch.decide(tx, trust.Decision{Act: trust.Withdraw, Fingerprint: f, Source: src,
				Why: "the definition no longer contains it"}); err != nil {
				return err
			}
		}
	}
	return nil
}

func summarise(changes []definition.Change) string {
	var parts []string
	for i, c := range changes {
		if i == 4 {
			parts = append(parts, fmt.Sprintf("and %d more", len(changes)-4))
			break
		}
		parts = append(parts, c.Action+" "+c.Kind+" "+c.Name)
	}
	return strings.Join(parts, ", ")
}

// edit changes the recorded description in place, with the same checks as documents.
func (s *Service) edit(by actor, summary string, edit func(set *definition.Set) error) (api.Judgement,
	error) {
	ch, err := s.begin(by)
	if err != nil {
		return api.Judgement{}, err
	}
	defer ch.end()
	if err := s.explained(); err != nil {
		return api.Judgement{}, err
	}
	recorded, err := s.db.Described()
	if err != nil {
		return api.Judgement{}, err
	}
	target := definition.Overlay(recorded, definition.NewSet())
	if err := edit(target); err != nil {
		return api.Judgement{}, err
	}
	return ch.recordSet(recorded, target, summary)
}

// would says what a change would come to, and makes none.
func (s *Service) would(edit func(set *definition.Set) error) (any, error) {
	recorded, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	target := definition.Overlay(recorded, definition.NewSet())
	if err := edit(target); err != nil {
		return nil, err
	}
	p, err := s.proposeSet(recorded, target)
	if err != nil {
		return nil, err
	}
	return p.judgement, nil
}

// losses gives what a change takes away that something stands on, machines included.
func (s *Service) losses(from, to *definition.Set) ([]definition.Loss, error) {
	out := definition.Losses(from, to)
	counts, err := s.db.MachineCounts()
	for _, n := range counts {
		_, was := from.Groups[n.Group]
		if _, is := to.Groups[n.Group]; was && !is {
			out = append(out, definition.Loss{Kind: "group", Name: n.Group, How: definition.Removed,
				Dependents: definition.Dependents{Machines: n.Machines}.Whole()})
		}
	}
	return out, err
}

func (ch *change) recordSet(recorded, target *definition.Set, summary string) (api.Judgement, error) {
	p, err := ch.proposeSet(recorded, target)
	if err != nil {
		return api.Judgement{}, err
	}
	if len(definition.Blocking(p.judgement.Findings)) > 0 {
		return p.judgement, errRefused
	}
	if err := p.permitted(ch.role); err != nil {
		return p.judgement, err
	}
	return ch.commit(p, summary)
}

// proposeSet checks a description over what is recorded, and compares the two.
func (s *Service) proposeSet(recorded, target *definition.Set) (*proposal, error) {
	t, err := s.readTrusted()
	if err != nil {
		return nil, err
	}
	p := &proposal{recorded: recorded, target: target, trusted: t}
	around := p.surroundings(s, definition.NewSet(), nil)
	around.ReadFile = nil
	lost, err := s.losses(recorded, target)
	if err != nil {
		return nil, err
	}
	p.judgement = api.Judgement{Findings: definition.Proposed(definition.Check(target, around)),
		Changes: definition.Compare(recorded, target), Losses: lost,
		Vouches: []api.Vouching{}, Renewed: []api.Renewed{}}
	if p.judgement.Changes == nil {
		p.judgement.Changes = []definition.Change{}
	}
	p.judgement.Recordable = p.recordable()
	return p, nil
}

func (s *Service) handleDefinitions(c *gin.Context) (any, error) {
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	tag, err := s.describedTag()
	if err != nil {
		return nil, err
	}
	c.Header("ETag", tag)
	text, err := set.YAML()
	return api.Text{Text: text}, err
}

func (s *Service) handleNames(*gin.Context) (any, error) {
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	out := api.Names{Names: map[string][]string{"family": families.All.Names()}}
	for _, kind := range definition.Kinds {
		out.Names[kind] = set.Names(kind)
	}
	return out, nil
}

// handleDescribed gives one thing as a document, with the tag of the whole description.
func (s *Service) handleDescribed(c *gin.Context) (any, error) {
	set, err := s.db.Described()
	if err != nil {
		return nil, err
	}
	kind, name := c.Param("kind"), c.Param("name")
	if err := isDescribed(set, kind, name); err != nil {
		return nil, err
	}
	tag, err := s.describedTag()
	if err != nil {
		return nil, err
	}
	c.Header("ETag", tag)
	text, err := set.Only(kind, name).YAML()
	return api.Text{Text: text}, err
}

func (s *Service) handleRecord(c *gin.Context) (any, error) {
	in, err := body[api.Documents](c)
	if err != nil {
		return nil, err
	}
	return refused("The definition was not recorded")(s.describe(c.Request.Context(), in, asking(c),
		c.GetHeader("If-Match")))
}

// refused turns a judgement that was refused into a problem with its findings.
func refused(title string) func(api.Judgement, error) (any, error) {
	return func(j api.Judgement, err error) (any, error) {
		if errors.Is(err, errRefused) {
			return nil, &refusal{title, definition.Blocking(j.Findings)}
		}
		return j, err
	}
}

func (s *Service) judge(c *gin.Context) (any, error) {
	in, err := body[api.Documents](c)
	if err != nil {
		return nil, err
	}
	p, err := s.propose(c.Request.Context(), in)
	if err != nil {
		return nil, err
	}
	return p.judgement, nil
}
