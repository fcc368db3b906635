package service

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"stockade/core/edition"
	"strconv"
	"time"

	"github.com/robfig/cron/v3"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/internal/api"
	"stockade/internal/store"
)

// source makes what the core needs of a described source.
func (s *Service) source(set *definition.Set, t *trusted, name string) (*mirror.Source, error) {
	src, ok := set.Sources[name]
	if !ok {
		return nil, dangling("", "source", name, set.Sources)
	}
	if src.Managed() {
		return s.houseSource(set, name)
	}
	route, err := set.Route(name)
	if err != nil {
		return nil, err
	}
	age, err := src.MaxAge.Duration()
	if err != nil {
		return nil, err
	}
	out := &mirror.Source{Name: name, Standing: src.Standing, Priority: src.Priority, Spec: src.Archive(name),
		Family: families.All[src.Family],
		Route:  route, Keyring: t.keyring(set, name, s.now), MaxAge: age}
	var a mirror.Accepted
	if _, err := s.db.Kept("accepted", name, &a); err == nil {
		out.Accepted = &a
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if len(out.Keyring.Counting()) == 0 {
		return out, t.WhyNone(name, set.Signers(name), t.certificates)
	}
	return out, nil
}

// checked is what was found out about a source the last time.
type checked struct {
	Findings finding.List `json:"findings"`
}

// keepAccepted remembers the root that was found good. Another job may have
// accepted a newer one of the same source meanwhile: that one stays.
func (s *Service) keepAccepted(p *mirror.Publication) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	a := p.Accepted
	var now *mirror.Accepted
	var kept mirror.Accepted
	if _, err := s.db.Kept("accepted", a.Source, &kept); err == nil {
		now = &kept
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if !p.MayAccept(now) {
		return nil
	}
	if err := s.db.Keep("accepted", a.Source, a, s.now().UTC()); err != nil {
		return err
	}
	if p.Changed {
		day := s.now().UTC().Format(time.DateOnly)
		seen := map[string]int{}
		s.db.Kept("days", a.Source, &seen)
		seen[day]++
		for len(seen) > 120 {
			delete(seen, slices.Min(slices.Collect(maps.Keys(seen))))
		}
		return s.db.Keep("days", a.Source, seen, s.now().UTC())
	}
	return nil
}

func (s *Service) startRefresh(name, by, acceptOnce string) (api.Job, error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return api.Job{}, err
	}
	if _, ok := set.Sources[name]; !ok {
		return api.Job{}, dangling("", "source", name, set.Sources)
	}
	return s.jobs.start("refresh", "source "+name, by,
		func(ctx context.Context, sink func(mirror.Event)) (any, finding.List, error) {
			release, err := s.sweeping.use(ctx) // a house source is published into the pool here
			if err != nil {
				return nil, nil, err
			}
			defer release()
			src, err := s.source(set, t, name)
			if err != nil {
				return nil, nil, s.judged(name, nil, err)
			}
			src.AcceptOnce = acceptOnce
			b := s.builder(sink)
			pub, err := b.Refresh(ctx, src)
			if err != nil {
				return nil, nil, s.judged(name, nil, err)
			}
			if _, err := b.Lists(ctx, pub); err != nil {
				return nil, pub.Findings, s.judged(name, pub.Findings, err)
			}
			if err := s.pool.Flush(); err != nil {
				return nil, nil, err
			}
			if err := s.keepAccepted(pub); err != nil {
				return nil, nil, err
			}
			if acceptOnce != "" {
				if err := s.record(by, "source.accept-once", "source "+name,
					map[string]string{"reason": acceptOnce,
						"root": pub.Accepted.Date.Format(time.RFC3339)}); err != nil {
					return nil, nil, err
				}
			}
			return map[string]any{
					"changed":   pub.Changed,
					"root_date": pub.Root.Date,
					"upstream":  pub.Accepted.Upstream,
					"signer":    pub.Root.Signer,
				},
				pub.Findings, s.judged(name, pub.Findings, nil)
		})
}

// judged keeps what a refresh found, and journals a refusal.
func (s *Service) judged(name string, found finding.List, err error) error {
	all := append(finding.List{}, found...)
	if f, ok := finding.From(err); ok {
		all = append(all, f)
		if jerr := s.record("stockade", "source.refused", "source "+name, map[string]string{"code": f.Code,
			"text": f.Text}); jerr != nil {
			return jerr
		}
	}
	if kerr := s.db.Keep("refresh", name, checked{all}, s.now().UTC()); kerr != nil {
		return kerr
	}
	return err
}

func (s *Service) startProbe(name, by string) (api.Job, error) {
	t, set, err := s.trustedAndSet()
	if err != nil {
		return api.Job{}, err
	}
	src, err := s.source(set, t, name)
	if src == nil {
		return api.Job{}, err
	}
	if src.House != nil {
		return api.Job{}, finding.New("define.bad-value", "source "+name,
			"it has no upstreams that could be probed: it holds what is added by hand").
			Do("stockade package list --source %s shows what it holds", name)
	}
	return s.jobs.start("probe", "source "+name, by,
		func(ctx context.Context, sink func(mirror.Event)) (any, finding.List, error) {
			results, found := s.builder(sink).Probe(ctx, src)
			if err := s.db.Keep("probe", name, probed{results, found}, s.now().UTC()); err != nil {
				return nil, nil, err
			}
			return results, found, nil
		})
}

type probed struct {
	Results  []mirror.ProbeResult `json:"results"`
	Findings finding.List         `json:"findings"`
}

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
	p := mirror.Plan{Name: name, Mirror: m, Number: 1, Groups: map[string]definition.Group{}}
	for group, g := range set.Groups {
		if set.Lanes[g.Lane].Mirror == name {
			p.Groups[group] = g
		}
	}
	used := map[string]bool{}
	for _, from := range m.From {
		src, err := s.source(set, t, from.Source)
		if err != nil {
			return p, err
		}
		src.Want = from.Want
		used[from.Source] = true
		p.Sources = append(p.Sources, src)
	}
	for _, other := range slices.Sorted(maps.Keys(set.Sources)) {
		if used[other] || set.Sources[other].Disabled {
			continue
		}
		if src, err := s.source(set, t, other); err == nil {
			p.Others = append(p.Others, src)
		}
	}
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
			s.log.Warn("the last edition cannot be read; everything is checked anew", "edition", fmt.Sprintf(
				"%s/%d", name, e.Number), "error", err)
			break
		}
		p.Previous = open.Edition
		var same alike
		if _, err := s.db.Kept("alike", name, &same); err == nil && same.Edition == e.Number {
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

// alike is kept of a build that found nothing new for machines: what it began
// with leads to what an edition has already.
type alike struct {
	Edition int    `json:"edition"`
	Inputs  string `json:"inputs"`
}

// startMirror begins an estimate, a proof or a build.
func (s *Service) startMirror(kind, name, by string) (api.Job, error) {
	set, err := s.db.Described()
	if err != nil {
		return api.Job{}, err
	}
	if _, ok := set.Mirrors[name]; !ok {
		return api.Job{}, dangling("", "mirror", name, set.Mirrors)
	}
	return s.jobs.start(kind, "mirror "+name, by,
		func(ctx context.Context, sink func(mirror.Event)) (any, finding.List, error) {
			release, err := s.sweeping.use(ctx)
			if err != nil {
				return nil, nil, err
			}
			defer release()
			return s.workMirror(ctx, kind, name, by, sink)
		})
}

func (s *Service) workMirror(ctx context.Context, kind, name, by string, sink func(mirror.Event)) (any,
	finding.List, error) {
	plan, err := s.plan(name)
	if err != nil {
		return nil, nil, s.mirrorJudged(kind, name, nil, err)
	}
	b := s.builder(sink)
	var out *mirror.Outcome
	if kind == "build" {
		out, err = b.Build(ctx, plan)
	} else {
		if kind == "prove" {
			plan.Previous = nil // a proof is worked out even where nothing changed
		}
		out, err = b.Estimate(ctx, plan)
	}
	for _, p := range out.Publications {
		// What was verified stays accepted even when the build fails later on.
		if flush := s.pool.Flush(); flush != nil {
			return nil, nil, flush
		}
		if kerr := s.keepAccepted(p); kerr != nil {
			return nil, nil, kerr
		}
		if kerr := s.db.Keep("refresh", p.Source.Name, checked{p.Findings}, s.now().UTC()); kerr != nil {
			return nil, nil, kerr
		}
	}
	if err != nil {
		return out, out.Findings, s.mirrorJudged(kind, name, out.Findings, err)
	}
	if kind == "prove" && out.Findings.HasErrors() {
		return out, out.Findings, s.mirrorJudged(kind, name, out.Findings,
			finding.List(slices.DeleteFunc(slices.Clone(out.Findings), func(f finding.Finding) bool {
				return f.Severity != finding.Error
			})))
	}
	if out.Edition != nil {
		s.usage.forget()
		if err := s.admit(plan, out, by); err != nil {
			return out, out.Findings, err
		}
	}
	if out.Unchanged && plan.Previous != nil {
		// The next build with the same inputs needs not work it out again.
		if err := s.db.Keep("alike", name, alike{plan.Previous.Number, out.Inputs},
			s.now().UTC()); err != nil {
			return out, out.Findings, err
		}
	}
	found := since(plan, out)
	return out, found, s.mirrorJudged(kind, name, found, nil)
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
func (s *Service) mirrorJudged(kind, name string, found finding.List, err error) error {
	all := append(finding.List{}, found...)
	refusals := reasons(err)
	for _, f := range refusals {
		all = withFinding(all, f)
	}
	if kind == "build" && len(refusals) > 0 {
		detail := map[string]string{"code": refusals[0].Code, "text": refusals[0].Text}
		if n := len(refusals); n > 1 {
			detail["further"] = strconv.Itoa(n - 1)
		}
		if jerr := s.record("stockade", "mirror.refused", "mirror "+name, detail); jerr != nil {
			return jerr
		}
	}
	if kerr := s.db.Keep("mirror", name, checked{all}, s.now().UTC()); kerr != nil {
		return kerr
	}
	return err
}

// admit makes a sealed edition exist: one transaction.
func (s *Service) admit(plan mirror.Plan, out *mirror.Outcome, by string) error {
	open, err := s.editions.open(s, plan.Name, out.Edition.Number)
	if err != nil {
		return err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	shown, err := s.shown()
	if err != nil {
		return err
	}
	e := out.Edition
	return s.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveEdition(store.Edition{Mirror: e.Mirror, Number: e.Number, Created: e.Created,
			Files: open.Manifest.Files(),
			Bytes: open.Manifest.Bytes(), Packages: e.Packages, Copy: e.Copy}); err != nil {
			return err
		}
		if err := s.write(tx, by, "edition.seal", "edition "+e.Name(),
			map[string]string{"packages": strconv.Itoa(e.Packages), "inputs": e.Inputs}); err != nil {
			return err
		}
		return s.retireOld(tx, plan, shown)
	})
}

// retireOld retires what is older than the mirror keeps, unless a lane shows it.
func (s *Service) retireOld(tx *store.DB, plan mirror.Plan, shown map[string][]string) error {
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
		if err := s.write(tx, "stockade", "edition.retire", "edition "+id.String(),
			map[string]string{"reason": fmt.Sprintf("the mirror keeps %d", plan.Mirror.Keep)}); err != nil {
			return err
		}
	}
	return nil
}

func (s *Service) startVerify(name string, number int, by string) (api.Job, error) {
	object := fmt.Sprintf("edition %s/%d", name, number)
	e, err := s.db.EditionBy(name, number)
	if err != nil || e.Retired {
		return api.Job{}, noEdition(name, number)
	}
	return s.jobs.start("verify", object, by,
		func(ctx context.Context, sink func(mirror.Event)) (any, finding.List, error) {
			s.editions.forget(name, number)
			open, err := s.editions.open(s, name, number)
			if err != nil {
				return nil, nil, err
			}
			all, total := open.Manifest.Files(), open.Manifest.Bytes()
			last := time.Time{}
			found := open.Verify(ctx.Done(),
				func(files int, bytes int64) {
					if now := time.Now(); now.Sub(last) > 100*time.Millisecond ||
						files == all {
						last = now
						sink(mirror.Event{
							Step:       "verify",
							Files:      files,
							FilesTotal: all,
							Bytes:      bytes,
							BytesTotal: total,
							Remaining:  -1,
						})
					}
				})
			if ctx.Err() != nil {
				return nil, nil, ctx.Err()
			}
			if err := s.db.Keep("verify", open.Name(), checked{found}, s.now().UTC()); err != nil {
				return nil, nil, err
			}
			if len(found) > 0 {
				return nil, found, found
			}
			return map[string]any{"files": all, "bytes": total, "seal": "holds"}, found, nil
		})
}

// schedule starts the builds that are due, once a minute.
func (s *Service) schedule(ctx context.Context) {
	last := s.now()
	t := time.NewTicker(20 * time.Second)
	defer t.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-t.C:
		}
		now := s.now()
		set, err := s.db.Described()
		if err != nil {
			s.log.Error("the schedule cannot be read", "error", err)
			continue
		}
		for name, m := range set.Mirrors {
			if m.Schedule == "" {
				continue
			}
			plan, err := cron.ParseStandard(m.Schedule)
			if err != nil || plan.Next(last).After(now) {
				continue
			}
			if _, err := s.startMirror("build", name, "schedule"); err != nil {
				s.log.Warn("a scheduled build did not start", "mirror", name, "error", err)
			}
		}
		last = now
	}
}
