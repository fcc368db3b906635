package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"

	"github.com/gin-gonic/gin"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/store"
)

// plan gathers what a build of a mirror starts from.
func (s *Service) plan(name string) (mirror.Plan, error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return mirror.Plan{}, err
	}
	m, ok := set.Mirrors[name]
	if !ok {
		return mirror.Plan{}, dangling("", "mirror", name, set.Mirrors)
	}
	p, err := s.seenBy(set, t, name)
	if err != nil {
		return p, err
	}
	used := map[string]bool{}
	for _, from := range m.From {
		used[from.Source] = true
	}
	for _, other := range slices.Sorted(maps.Keys(set.Sources)) {
		if used[other] || set.Sources[other].Disabled {
			continue
		}
		if src, err := s.source(set, t, other); err == nil {
			p.Others = append(p.Others, src)
		}
	}
	p.Renewed = s.site.Load().renewed()
	if p.Journal, err = s.db.Journal().Checkpoint(); err != nil {
		return p, err
	}
	if t.broken != nil {
		return p, t.broken
	}
	if err := s.explained(); err != nil {
		return p, err
	}
	editions, err := s.db.Editions(name)
	if err != nil {
		return p, err
	}
	for i, e := range editions {
		if i == 0 {
			p.Number = e.Number + 1
		}
		if e.Retired {
			continue
		}
		open, err := s.editions.open(s, name, e.Number)
		if err != nil {
			s.log.Warn("the last edition cannot be read, so everything is checked again", "edition",
				fmt.Sprintf(
					"%s/%d", name, e.Number), "error", err)
			break
		}
		p.Previous = open.Edition
		var same alike
		if _, there, err := s.db.Kept("alike", name, &same); err != nil {
			return p, err
		} else if there && same.Edition == e.Number {
			p.Alike = same.Inputs
		}
		err = open.Items(func(it edition.Item) error {
			p.Items = append(p.Items, it)
			return nil
		})
		if missing, merr := open.Missing(); err != nil || merr != nil || missing != "" {
			p.Previous, p.Items = nil, nil // what is damaged is made again
		}
		break
	}
	return p, nil
}

// seenBy gives the part of a mirror's plan that says what machines see: its sources, with what
// is wanted of each, and the groups that follow it.
func (s *Service) seenBy(set *definition.Set, t *trusted, name string) (mirror.Plan, error) {
	p := mirror.Plan{Name: name, Mirror: set.Mirrors[name], Number: 1, Groups: map[string]definition.Group{},
		Lists: map[string]definition.List{}}
	for group, g := range set.Groups {
		if set.Lanes[g.Lane].Mirror == name {
			p.Groups[group] = g
		}
	}
	for _, list := range set.ListsOf(name) {
		p.Lists[list] = set.Lists[list]
	}
	for _, from := range p.Mirror.From {
		src, err := s.source(set, t, from.Source)
		if err != nil {
			return p, err
		}
		src.Want = from.Want
		p.Sources = append(p.Sources, src)
	}
	return p, nil
}

// alike is kept of a build that found nothing new for machines: what it began
// with leads to what an edition has already.
type alike struct {
	Edition int    `json:"edition"`
	Inputs  string `json:"inputs"`
}

func (s *Service) handlePreview(c *gin.Context) (any, error) {
	in, err := optional[api.PreviewAsked](c)
	if err != nil {
		return nil, err
	}
	return s.startPreview(c.Param("name"), in, who(c).Name)
}

// compared gives the edition that a preview compares with; nil: none stands yet.
func (s *Service) compared(set *definition.Set, name string, in api.PreviewAsked) (*edition.ID, error) {
	if in.Lane != "" {
		lane, ok := set.Lanes[in.Lane]
		if !ok {
			return nil, dangling("", "lane", in.Lane, set.Lanes)
		}
		if lane.Mirror != name {
			return nil, finding.New(finding.DefineBadValue, "mirror "+name,
				"the lane %s shows editions of %s",
				in.Lane, lane.Mirror)
		}
		l, err := s.lane(in.Lane)
		if err != nil {
			return nil, err
		}
		if l.Edition == "" {
			return nil, finding.New(finding.DefineBadValue, "mirror "+name,
				"the lane %s shows no edition",
				in.Lane)
		}
		in.Against = l.Edition
	}
	if in.Against == "" {
		standing, err := s.editionList(name)
		if err != nil || len(standing) == 0 {
			return nil, err
		}
		in.Against = standing[0].Name
	}
	id, err := edition.ParseID(in.Against, name)
	if err != nil {
		return nil, err
	}
	if id.Mirror != name {
		return nil, finding.New(finding.DefineBadValue, "mirror "+name, "%s belongs to another "+
			"mirror", in.Against)
	}
	_, _, err = s.standing(id.Mirror, id.Number)
	return &id, err
}

// startPreview begins to work out what a build would change.
func (s *Service) startPreview(name string, in api.PreviewAsked, by string) (api.Job, error) {
	set, err := s.db.Described()
	if err != nil {
		return api.Job{}, err
	}
	if _, ok := set.Mirrors[name]; !ok {
		return api.Job{}, dangling("", "mirror", name, set.Mirrors)
	}
	against, err := s.compared(set, name, in)
	if err != nil {
		return api.Job{}, err
	}
	return s.jobs.start("preview", "mirror "+name, by,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			release, err := s.sweeping.use(ctx)
			if err != nil {
				return nil, nil, err
			}
			defer release()
			return s.previewed(ctx, name, against, sink)
		})
}

func (s *Service) previewed(ctx context.Context, name string, against *edition.ID,
	sink func(upstream.Event)) (any, finding.List, error) {
	revision, err := s.db.LastRevision()
	if err != nil {
		return nil, nil, err
	}
	plan, err := s.plan(name)
	if err != nil {
		return nil, nil, s.mirrorJudged("preview", name, revision, nil, err)
	}
	var items []edition.Item
	title := ""
	if against != nil {
		title = against.String()
		if items, err = s.items(against.Mirror, against.Number); err != nil {
			return nil, nil, err
		}
	}
	out, err := s.builder(sink).Preview(ctx, plan, title, items)
	if kerr := s.keepPublications(slices.Concat(out.Publications, out.Besides)); kerr != nil {
		return nil, nil, kerr
	}
	if ctx.Err() != nil {
		return out, out.Findings, err // it was stopped: it found nothing out
	}
	return out, out.Findings, s.mirrorJudged("preview", name, revision, out.Findings, err)
}

// keepPublications keeps what was verified of sources: it stays accepted whatever
// comes after it.
func (s *Service) keepPublications(all []*upstream.Publication) error {
	for _, p := range all {
		if err := s.pool.Flush(); err != nil {
			return err
		}
		if err := s.keepAccepted(p); err != nil {
			return err
		}
		if err := s.db.Keep("refresh", p.Source.Name, checked{Findings: p.Findings},
			s.now().UTC()); err != nil {
			return err
		}
	}
	return nil
}

// startMirror begins an estimate, a proof or a build.
func (s *Service) startMirror(kind, name string, by actor, asked api.ProofAsked) (api.Job, error) {
	set, err := s.db.Described()
	if err != nil {
		return api.Job{}, err
	}
	if _, ok := set.Mirrors[name]; !ok {
		return api.Job{}, dangling("", "mirror", name, set.Mirrors)
	}
	return s.jobs.start(kind, "mirror "+name, by.name,
		func(ctx context.Context, sink func(upstream.Event)) (any, finding.List, error) {
			release, err := s.sweeping.use(ctx)
			if err != nil {
				return nil, nil, err
			}
			defer release()
			return s.workMirror(ctx, kind, name, by.forJob(), asked, sink)
		})
}

func (s *Service) workMirror(ctx context.Context, kind, name string, by actor, asked api.ProofAsked,
	sink func(upstream.Event)) (any, finding.List, error) {
	revision, err := s.db.LastRevision()
	if err != nil {
		return nil, nil, err
	}
	b := s.builder(sink)
	var refilled finding.List
	if kind == "build" {
		if refilled, err = s.refill(ctx, b, name, by); err != nil {
			return nil, nil, err
		}
	}
	plan, err := s.plan(name)
	if err != nil {
		return nil, nil, s.mirrorJudged(kind, name, revision, nil, err)
	}
	var out *mirror.Outcome
	if kind == "build" {
		out, err = b.Build(ctx, plan)
	} else {
		if kind == "prove" {
			plan.Previous = nil // a proof is worked out even where nothing changed
			plan.Every, plan.For = asked.Every, asked.For
		}
		out, err = b.Estimate(ctx, plan)
	}
	if kerr := s.keepPublications(slices.Concat(out.Publications, out.Besides)); kerr != nil {
		return nil, nil, kerr
	}
	if err != nil {
		return out, out.Findings, s.mirrorJudged(kind, name, revision, out.Findings, err)
	}
	if out.Edition != nil {
		s.usage.forget()
		if err := s.admit(plan, out, by); err != nil {
			return out, out.Findings, err
		}
		s.differing(plan.Name, out.Edition.Number)
		s.lacking.nudge() // what cannot be fetched again is kept beside the pool
	}
	if out.Unchanged && plan.Previous != nil {
		// The next build with the same inputs needs not work it out again.
		if err := s.db.Keep("alike", name, alike{plan.Previous.Number, out.Inputs},
			s.now().UTC()); err != nil {
			return out, out.Findings, err
		}
	}
	found := append(since(plan, out), refilled...)
	return out, found, s.mirrorJudged(kind, name, revision, found, nil)
}

// differing works out what a new edition changes against the one before it, and against what lanes
// show: it is what people look at next.
func (s *Service) differing(name string, number int) {
	against := map[int]bool{}
	if before, err := s.before(name, number); err == nil {
		against[before] = true
	}
	shown, err := s.shown()
	for e := range shown {
		if id, perr := edition.ParseID(e, ""); perr == nil && id.Mirror == name && id.Number != number {
			against[id.Number] = true
		}
	}
	for _, other := range slices.Sorted(maps.Keys(against))[:min(len(against), differencesMost/2)] {
		_, derr := s.diff(name, number, other)
		err = errors.Join(err, derr)
	}
	if err != nil { // whoever looks is told
		s.log.Warn("the effect of an edition could not be determined", "edition", name, "error", err)
	}
}

// reasons gives the findings that an error is made of.
func reasons(err error) finding.List {
	var l finding.List
	if errors.As(err, &l) {
		return l
	}
	if f, ok := finding.From(err); ok {
		return finding.List{f}
	}
	return nil
}

// mirrorJudged keeps what was found about a mirror; a refused build is journalled.
func (s *Service) mirrorJudged(kind, name string, revision int64, found finding.List, err error) error {
	all := append(finding.List{}, found...)
	refusals := reasons(err)
	for _, f := range refusals {
		all = withFinding(all, f)
	}
	if kind == "build" && len(refusals) > 0 {
		detail := map[string]string{"code": string(refusals[0].Code), "text": refusals[0].Text}
		if n := len(refusals); n > 1 {
			detail["further"] = strconv.Itoa(n - 1)
		}
		if jerr := s.record(itself("stockade"), "mirror.refused", "mirror "+name, detail); jerr != nil {
			return jerr
		}
	}
	if kerr := s.db.Keep("mirror", name, checked{all, revision}, s.now().UTC()); kerr != nil {
		return kerr
	}
	return err
}

// admit makes a sealed edition exist: one transaction.
func (s *Service) admit(plan mirror.Plan, out *mirror.Outcome, by actor) error {
	open, err := s.editions.open(s, plan.Name, out.Edition.Number)
	if err != nil {
		return err
	}
	ch, err := s.begin(by)
	if err != nil {
		return err
	}
	defer ch.end()
	shown, err := s.shown()
	if err != nil {
		return err
	}
	e := out.Edition
	if !s.site.Load().isNow(e.SiteKey) {
		return finding.New(finding.EditionSealBad, "edition "+e.Name(),
			"the site key that sealed it was retired during the build").
			Do("run stockade mirror build %s", e.Mirror)
	}
	for _, src := range e.Sources {
		if err := ch.stillSigned(src.Signer, src.Name); err != nil {
			return err
		}
	}
	if err := s.countersign(e.Mirror, e.Number); err != nil {
		return err
	}
	return s.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveEdition(store.Edition{Mirror: e.Mirror, Number: e.Number, Created: e.Created,
			Files: open.Manifest.Files(),
			Bytes: open.Manifest.Bytes(), Packages: e.Packages, Copy: e.Copy}); err != nil {
			return err
		}
		if err := ch.write(tx, "edition.seal", "edition "+e.Name(),
			map[string]string{"packages": strconv.Itoa(e.Packages), "inputs": e.Inputs}); err != nil {
			return err
		}
		return ch.retireOld(tx, plan, shown)
	})
}

// retireOld retires what is older than the mirror keeps, unless a lane shows it.
func (ch *change) retireOld(tx *store.DB, plan mirror.Plan, shown map[string][]string) error {
	all, err := tx.Editions(plan.Name)
	if err != nil {
		return err
	}
	standing := map[edition.ID]store.Edition{}
	var ids []edition.ID
	for _, e := range all {
		if !e.Retired {
			id := edition.ID{Mirror: e.Mirror, Number: e.Number}
			ids, standing[id] = append(ids, id), e
		}
	}
	isShown := func(id edition.ID) bool { return len(shown[id.String()]) > 0 }
	for _, id := range edition.Surplus(ids, plan.Mirror.Keep, isShown) {
		e := standing[id]
		e.Retired = true
		if err := tx.SaveEdition(e); err != nil {
			return err
		}
		if err := ch.writeAs(tx, "stockade", "edition.retire", "edition "+id.String(),
			map[string]string{"reason": fmt.Sprintf("the mirror keeps %d", plan.Mirror.Keep)}); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) handleMirrors(c *gin.Context) (any, error) {
	m, all, err := s.toldNow()
	if err != nil {
		return nil, err
	}
	var out []api.Mirror
	for _, name := range slices.Sorted(maps.Keys(m.set.Mirrors)) {
		one, err := s.describeMirror(m, all, name)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return page(out, nil)
}

func (s *Service) handleMirror(c *gin.Context) (any, error) {
	m, all, err := s.toldNow()
	if err != nil {
		return nil, err
	}
	if _, ok := m.set.Mirrors[c.Param("name")]; !ok {
		return nil, dangling("", "mirror", c.Param("name"), m.set.Mirrors)
	}
	return s.describeMirror(m, all, c.Param("name"))
}

func (s *Service) mirrorJob(kind string) handler {
	return func(c *gin.Context) (any, error) {
		return s.startMirror(kind, c.Param("name"), asking(c), api.ProofAsked{})
	}
}

func (s *Service) handleProve(c *gin.Context) (any, error) {
	in, err := optional[api.ProofAsked](c)
	if err != nil {
		return nil, err
	}
	if in.For != "" {
		if err := archive.CheckName(in.For); err != nil {
			return nil, err
		}
	}
	return s.startMirror("prove", c.Param("name"), asking(c), in)
}

func (s *Service) describeMirror(m *model, all states, name string) (api.Mirror, error) {
	out := api.Mirror{
		Name:     name,
		Mirror:   m.set.Mirrors[name],
		Editions: m.editionsOf(name),
		Lanes:    []string{},
		Findings: all.of("mirror " + name),
		Job:      s.jobs.on("mirror " + name),
	}
	for l, lane := range m.set.Lanes {
		if lane.Mirror == name {
			out.Lanes = append(out.Lanes, l)
		}
	}
	slices.Sort(out.Lanes)
	var last checked
	var err error
	if out.Checked, _, err = m.keptOf("mirror", name, &last); err != nil {
		return out, err
	}
	for _, f := range last.Findings { // also those about its sources and groups
		out.Findings = withFinding(out.Findings, f)
	}
	out.Findings.Sort()
	return out, nil
}
