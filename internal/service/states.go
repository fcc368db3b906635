package service

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/store"
)

// states is all that is told of anything now, by object: "source tarn". The
// overview, each list and each page draw from it, so that none of them says less
// than another.
type states map[string]finding.List

func (st states) add(found ...finding.Finding) {
	for _, f := range found {
		st[f.Object] = withFinding(st[f.Object], f)
	}
}

// ofCertificate gives a finding that is about a certificate by its fingerprint, whatever the
// certificate is called in the description, so that it is told once.
func (s *Service) ofCertificate(f finding.Finding, set *definition.Set, t *trusted) finding.Finding {
	name, ok := strings.CutPrefix(f.Object, "key ")
	if !ok {
		return f
	}
	for _, fingerprint := range set.Keys[name].All() {
		if c := t.certificates[fingerprint]; c != nil {
			for _, own := range c.CheckBy(set.Policy(""), s.now()) {
				if own.Code == f.Code && own.Text == f.Text {
					return own
				}
			}
		}
	}
	return f
}

// of gives what is told of one object, the worst first.
func (st states) of(object string) finding.List {
	out := append(finding.List{}, st[object]...)
	out.Sort()
	return out
}

// needsYou gives everything but notes, the worst first.
func (st states) needsYou() finding.List {
	out := finding.List{}
	for _, object := range slices.Sorted(maps.Keys(st)) {
		for _, f := range st[object] {
			if f.Severity != finding.Note {
				out = append(out, f)
			}
		}
	}
	out.Sort()
	return out
}

// states gathers them, but for what is found of machines.
func (s *Service) states(m *model) (states, error) {
	set, t, out := m.set, m.trusted, states{}
	found, err := s.contradicted()
	if err != nil {
		return nil, err
	}
	out.add(found...)
	for _, f := range s.checks(set, t) {
		out.add(s.ofCertificate(f, set, t))
	}
	if err := s.foundBefore(m, out); err != nil {
		return nil, err
	}
	for name, src := range set.Sources {
		for _, f := range set.Signers(name) {
			if c, ok := t.certificates[f]; ok {
				out.add(c.CheckBy(set.Policy(""),
					s.now())...) // what its standing adds is told at the source
			}
		}
		if !src.Disabled && !src.Managed() && !out["source "+name].HasErrors() {
			if _, there := m.kept["accepted"][name]; !there {
				out.add(finding.New(finding.SourceNeverAccepted, "source "+name,
					"no release metadata of this source was accepted yet").
					Do("run stockade source refresh %s, or build a mirror that uses it", name))
			}
		}
	}
	s.ofLanes(m, out)
	if err := s.ofSiteKeys(m, out); err != nil {
		return nil, err
	}
	if err := s.notLookedAt(m, out); err != nil {
		return nil, err
	}
	if err := s.missed(m, out); err != nil {
		return nil, err
	}
	return out, s.unfinished(m, out)
}

// ofSiteKeys adds that the site has two keys, and which lanes rest on one that is retired.
func (s *Service) ofSiteKeys(m *model, out states) error {
	set, now := m.set, m.force
	if s.site.Load().next != nil {
		out.add(s.ofRenewal(now)...)
		return nil
	}
	resting, err := s.restingOnOld(set, now)
	for _, r := range resting {
		out.add(finding.New(finding.LaneFormerKey, "lane "+r.Lane,
			"the lane shows %s. Machines verify %s of it with the site's former key, and still "+
				"trust that key", r.Edition, strings.Join(r.Sources, ", ")).
			Do("run stockade mirror build %s, then move the lane", set.Lanes[r.Lane].Mirror).
			By(finding.Build, "mirror "+set.Lanes[r.Lane].Mirror))
	}
	return err
}

// foundBefore adds what refreshing, probing, building and verifying found last, of
// what is still there.
func (s *Service) foundBefore(m *model, out states) error {
	for kind, about := range map[string]string{"refresh": "source", "probe": "source", "mirror": "mirror",
		"verify": "edition"} {
		for _, name := range slices.Sorted(maps.Keys(m.kept[kind])) {
			if k := m.kept[kind][name]; m.has(about + " " + name) {
				// That no key counts is said by what is described and decided now.
				out.add(slices.DeleteFunc(decode[checked](k.Body).Findings, func(f finding.Finding) bool {
					return f.Cause == trust.NoneCounts
				})...)
			}
		}
	}
	return nil
}

// notLookedAt adds which mirrors were described otherwise since somebody last looked at what a build
// would come to: that nothing is found of such a mirror means nothing.
func (s *Service) notLookedAt(m *model, out states) error {
	set := m.set
	since, err := s.db.RevisionsOf()
	if err != nil {
		return err
	}
	looked := map[string]int64{}
	for name, k := range m.kept["mirror"] {
		looked[name] = decode[checked](k.Body).Revision
	}
	followers := followersOf(set)
	for name, m := range set.Mirrors {
		revision, ever := looked[name]
		if !ever || revision == 0 {
			continue // first steps, and the build that is to come, are told otherwise
		}
		rests := []string{"mirror " + name}
		for _, from := range m.From {
			rests = append(rests, "source "+from.Source)
		}
		for lane, l := range set.Lanes {
			for _, group := range followers[lane] {
				if l.Mirror == name {
					rests = append(rests, "group "+group)
				}
			}
		}
		for _, list := range set.ListsOf(name) {
			rests = append(rests, "list "+list)
		}
		for _, object := range rests {
			if since[object] > revision {
				out.add(finding.New(finding.MirrorNotLookedAt, "mirror "+name,
					"%s changed in revision %d. No build, preview or estimate has finished "+
						"since, so it is unknown whether a build would succeed", object, since[object]).
					Do("run stockade mirror preview %s", name))
				break
			}
		}
	}
	return nil
}

// has tells whether a source or a mirror is described, and whether an edition exists that is not retired. Of
// what is gone nothing is told: nobody could mend it. Other objects, such as the pool, always exist.
func (m *model) has(object string) bool {
	kind, name, _ := strings.Cut(object, " ")
	switch kind {
	case "source":
		_, ok := m.set.Sources[name]
		return ok
	case "mirror":
		_, ok := m.set.Mirrors[name]
		return ok
	case "edition":
		id, err := edition.ParseID(name, "")
		if err != nil {
			return false
		}
		return m.edition(id.Mirror, id.Number)
	}
	return true
}

// ofLanes adds lanes that show nothing, and what rests on keys that are trusted no
// more.
func (s *Service) ofLanes(m *model, out states) {
	set, t, now := m.set, m.trusted, m.force
	followers := followersOf(set)
	for name, l := range set.Lanes {
		moves := now.moves(name)
		if len(moves) == 0 {
			f := finding.New(finding.LaneEmpty, "lane "+name, "the lane shows no edition").
				Do("build its mirror, then run: stockade lane move %s %s/1", name, l.Mirror)
			if groups := followers[name]; len(groups) > 0 {
				f.Text += fmt.Sprintf(", and machines of %s follow it", strings.Join(groups, ", "))
			} else {
				f = f.Rated(finding.Note)
			}
			out.add(f)
			continue
		}
		open, err := s.editions.brief(s, moves[0].Mirror, moves[0].Edition)
		if err == nil && !m.edition(moves[0].Mirror, moves[0].Edition) {
			err = noEdition(moves[0].Mirror, moves[0].Edition)
		}
		if err != nil {
			f, ok := finding.From(err)
			if !ok {
				f = finding.Unread(err, "the record of it")
			}
			f.Object, f.Text = "lane "+name, "the edition "+latest(moves)+", cannot be served: "+f.Text
			out.add(f)
			continue
		}
		if f, lost := s.lacking.found(open.Name()); lost {
			f.Object, f.Text = "lane "+name, "the edition "+open.Name()+
				" is not complete: "+f.Text
			out.add(f.By(finding.Build, "mirror "+open.Mirror))
		}
		for _, src := range open.Sources {
			keys := map[string]string{} // what each is to the edition
			for _, key := range src.Keys {
				keys[key] = "machines verify it with the key"
			}
			if t.NoLonger(src.Signer, src.Name) != "" {
				keys[src.Signer.Fingerprint] = "its release metadata was signed by"
			}
			for _, key := range slices.Sorted(maps.Keys(keys)) {
				if why := t.Distrusted(key, src.Name); why != "" {
					f := finding.New(finding.KeyBarred, "lane "+name,
						"the lane shows %s. Of %s in it, %s %s, and that key %s", open.Name(),
						src.Name, keys[key], key, why)
					out.add(f.Rated(finding.Warning).Do("run stockade mirror build %s, then "+
						"move the lane",
						open.Mirror).By(finding.Build, "mirror "+open.Mirror))
				}
			}
		}
		if ahead := open.Created.Sub(s.now()); ahead > clockSlack {
			out.add(finding.New(finding.SiteClock, "site",
				"the clock of this machine says %s, but %s was sealed on %s: one of the two is "+
					"wrong",
				s.now().UTC().Format(time.DateTime), open.Name(),
				open.Created.UTC().Format(time.DateTime)).Rated(finding.Warning))
		}
	}
}

// clockSlack is how far ahead of the clock a seal may be dated before that is told.
const clockSlack = 10 * time.Minute

// unfinished adds jobs that did not come to an end of their own, where none of the
// same kind did since.
func (s *Service) unfinished(m *model, out states) error {
	all, err := s.db.Unfinished()
	if err != nil {
		return err
	}
	for _, j := range all {
		told := j.State == api.Failed && len(jobFrom(j).Findings) > 0
		if told || !m.has(j.Object) {
			continue
		}
		f := finding.New(finding.JobFailed, j.Object, "the %s that started on %s did not "+
			"finish: %s",
			j.Kind, j.Started.UTC().Format(time.DateTime), j.Problem)
		if kind, name, ok := strings.Cut(j.Object, " "); ok {
			f = again(f.Do("run stockade %s %s %s", kind, j.Kind, name), j.Kind, j.Object)
		}
		out.add(f)
	}
	return nil
}

// again returns f with the job run again as what can be done about it.
func again(f finding.Finding, verb, object string) finding.Finding {
	if slices.Contains([]string{finding.Build, finding.Refresh, finding.Probe}, verb) {
		return f.By(verb, object)
	}
	return f
}

// since tells how an outcome leaves what is told of its mirror: what was found now;
// and where nothing changed, what the edition that still stands was sealed with. How
// its sources were then is no longer so: they were asked again.
func since(plan mirror.Plan, out *mirror.Outcome) finding.List {
	found := append(finding.List{}, out.Findings...)
	if out.Unchanged && plan.Previous != nil {
		for _, f := range plan.Previous.Findings {
			if !strings.HasPrefix(f.Object, "source ") || f.Code.In("content") {
				found = withFinding(found, f)
			}
		}
	}
	return found
}

// checks gives the findings about all that is described, to be worked out once
// for a list.
func (s *Service) checks(set *definition.Set, t *trusted) finding.List {
	now := s.db.ChangesBut(store.MachineRows, store.InventoryRows, store.Comparisons, store.Personal,
		store.JobRows)
	s.checked.mu.Lock()
	defer s.checked.mu.Unlock()
	if s.checked.changes == now && time.Since(s.checked.at) < toldFor {
		return s.checked.found
	}
	around := (&proposal{recorded: set, target: set, trusted: t}).surroundings(s, definition.NewSet(), nil)
	around.ReadFile = nil // key files were read when they were recorded
	s.checked.changes, s.checked.at, s.checked.found = now, time.Now(), definition.Check(set, around)
	return s.checked.found
}

// judgement is what the checks of the description found, kept until something is
// recorded: keys end by themselves, so it is not kept for long.
type judgement struct {
	mu      sync.Mutex
	changes int64 // of the database, when it was judged
	at      time.Time
	found   finding.List
}
