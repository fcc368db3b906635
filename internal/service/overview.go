package service

import (
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/finding"
	"stockade/core/pool"
	"stockade/internal/api"
)

func (s *Service) handleOverview(c *gin.Context) (any, error) {
	since := time.Time{}
	if text := c.Query("since"); text != "" {
		var err error
		if since, err = time.Parse(time.RFC3339, text); err != nil {
			return nil, badQuery("since", text, "it must be a time in the format of RFC 3339")
		}
	}
	return s.overview(since)
}

// What matters most of a list stands on the overview, and only so much of it: the rest has its own page.
const (
	sourcesOnOverview = 15
	lanesOnOverview   = 8
	stripDays         = 90
	alikeFrom         = 4 // findings that are alike are one line from so many on
	namesOfAlike      = 3
)

// overview answers: is anything wrong, what is new (since a time, unless that is zero), what runs.
func (s *Service) overview(since time.Time) (api.Overview, error) {
	out := api.Overview{Jobs: s.jobs.list()}
	m, all, err := s.toldNow()
	if err != nil {
		return out, err
	}
	needs, aside := m.setApart(all.needsYou(), s.now())
	out.Needs, out.Aside = alikes(needs), len(aside)
	out.Errors, out.Warnings = needs.Count(finding.Error), needs.Count(finding.Warning)
	out.Looked.Journal = s.comparedAt()
	sources, err := m.sourceList()
	if err != nil {
		return out, err
	}
	if out.Looked.Sources, err = m.strips(sources, s.now().UTC(), &out.Sources); err != nil {
		return out, err
	}
	lanes, err := s.laneList(m)
	if err != nil {
		return out, err
	}
	out.Lanes = lanesBriefly(lanes)
	machines, err := s.laneMachines(m.set, lanes)
	if err != nil {
		return out, err
	}
	out.Machines = api.Some[api.LaneMachines]{Items: machines[:min(len(machines), lanesOnOverview)],
		All: len(machines)}
	for _, of := range m.editions {
		out.Editions += len(of)
	}
	if out.First, err = s.firstPath(m, lanes); err != nil {
		return out, err
	}
	if !since.IsZero() {
		if out.Since, err = s.newSince(m, since, lanes); err != nil {
			return out, err
		}
	}
	if out.PoolFiles, out.PoolBytes, err = s.usage.get(s.pool, s.now()); err != nil {
		return out, err
	}
	if out.FreeBytes, err = s.free(); err != nil {
		return out, err
	}
	out.Recent, err = s.db.JournalPage(-1, 8, "", time.Time{})
	return out, err
}

// alikes makes one line of findings that are alike, each where its first stands.
func alikes(all finding.List) []api.Alike {
	type like struct {
		severity    finding.Severity
		code        finding.Code
		cause, kind string
	}
	of := func(f finding.Finding) like {
		kind, _, _ := strings.Cut(f.Object, " ")
		return like{f.Severity, f.Code, f.Cause, kind}
	}
	groups := map[like]finding.List{}
	var order []like
	for _, f := range all {
		if _, seen := groups[of(f)]; !seen {
			order = append(order, of(f))
		}
		groups[of(f)] = append(groups[of(f)], f)
	}
	out := []api.Alike{}
	for _, l := range order {
		group := groups[l]
		line := api.Alike{Severity: l.severity, Code: l.code, Cause: l.cause, Kind: l.kind, Count: len(group),
			Names: []string{}, Findings: group}
		names := map[string]bool{}
		for _, f := range group {
			_, name, _ := strings.Cut(f.Object, " ")
			if !names[name] && len(line.Names) < namesOfAlike && name != "" {
				line.Names = append(line.Names, name)
			}
			names[name] = true
		}
		if line.Objects = len(names); len(group) >= alikeFrom {
			line.Findings = group[:1]
		}
		out = append(out, line)
	}
	return out
}

var worstFirst = map[string]int{string(finding.Error): 0, string(finding.Warning): 1, "": 2,
	string(finding.Note): 3}

// worstOf is the severity of the worst of findings in their order; empty where there are none.
func worstOf(found finding.List) string {
	if len(found) == 0 {
		return ""
	}
	return string(found[0].Severity)
}

// strips gives the sources of which the worst is found, with the days on which they published something.
// asked is when the enabled source that was asked longest ago was asked; zero where one never was.
func (m *model) strips(sources []api.Source, now time.Time, out *api.Some[api.SourceStrip]) (asked time.Time,
	err error) {
	out.All, out.Items = len(sources), []api.SourceStrip{}
	sources = slices.Clone(sources)
	any := false
	for _, src := range sources {
		if src.Disabled || src.Managed {
			continue
		}
		if !any || src.Checked.Before(asked) {
			asked, any = src.Checked, true
		}
	}
	slices.SortStableFunc(sources, func(a, b api.Source) int {
		return worstFirst[worstOf(a.Findings)] - worstFirst[worstOf(b.Findings)]
	})
	for _, src := range sources[:min(len(sources), sourcesOnOverview)] {
		strip := api.SourceStrip{Name: src.Name, Standing: src.Standing, Disabled: src.Disabled,
			Worst: worstOf(src.Findings), Published: make([]int, stripDays)}
		if src.Accepted != nil {
			strip.RootDate = src.Accepted.Date
		}
		days := map[string]int{}
		if _, _, err := m.keptOf("days", src.Name, &days); err != nil {
			return asked, err
		}
		for i := range strip.Published {
			strip.Published[i] = days[now.AddDate(0, 0, i-stripDays+1).Format(time.DateOnly)]
		}
		out.Items = append(out.Items, strip)
	}
	return asked, nil
}

// lanesBriefly gives the lanes that matter most: of which something is found, then those that do not
// show the newest edition.
func lanesBriefly(lanes []api.Lane) api.Some[api.LaneBrief] {
	matters := func(l api.Lane) int {
		switch {
		case len(l.Findings) > 0:
			return 0
		case l.Edition != l.Newest:
			return 1
		}
		return 2
	}
	out := api.Some[api.LaneBrief]{Items: []api.LaneBrief{}, All: len(lanes)}
	lanes = slices.Clone(lanes)
	slices.SortStableFunc(lanes, func(a, b api.Lane) int { return matters(a) - matters(b) })
	for _, l := range lanes[:min(len(lanes), lanesOnOverview)] {
		out.Items = append(out.Items, api.LaneBrief{Name: l.Name, Edition: l.Edition, Newest: l.Newest,
			Groups: l.Groups[:min(len(l.Groups), namesOfAlike)], All: len(l.Groups),
			Worst: worstOf(l.Findings)})
	}
	return out
}

// handleFindings gives what needs attention, or a part of it.
func (s *Service) handleFindings(c *gin.Context) (any, error) {
	severity := c.Query("severity")
	if severity != "" && severity != string(finding.Error) && severity != string(finding.Warning) {
		return nil, badQuery("severity", severity, "it must be error or warning")
	}
	told, err := s.told()
	if err != nil {
		return nil, err
	}
	only := func(f finding.Finding) bool {
		kind, _, _ := strings.Cut(f.Object, " ")
		return (severity == "" || string(f.Severity) == severity) &&
			(c.Query("code") == "" || f.Code == finding.Code(c.Query("code"))) &&
			(c.Query("cause") == "" || f.Cause == c.Query("cause")) &&
			(c.Query("kind") == "" || slices.Contains(strings.Split(c.Query("kind"), ","), kind))
	}
	told.NeedsYou = slices.DeleteFunc(told.NeedsYou, func(f finding.Finding) bool { return !only(f) })
	told.Aside = slices.DeleteFunc(told.Aside, func(a api.Aside) bool { return !only(a.Finding) })
	return told, nil
}

// told gives what needs attention now, and what of that was set aside.
func (s *Service) told() (out api.Told, err error) {
	m, all, err := s.toldNow()
	if err != nil {
		return out, err
	}
	out.NeedsYou, out.Aside = m.setApart(all.needsYou(), s.now())
	return out, nil
}

// usage remembers how large the pool is: looking at every file takes long for a
// large one, and the overview asks every few seconds.
type usage struct {
	mu    sync.Mutex
	at    time.Time
	files int
	bytes int64

	// what uses it, of a model, as of a time
	of      *model
	spaceAt time.Time
	space   api.PoolUsage
}

// spaceOf gives what uses the pool, worked out again after a change, or when it is a minute old.
func (u *usage) spaceOf(m *model, now time.Time, find func() (api.PoolUsage, error)) (api.PoolUsage, error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if age := now.Sub(u.spaceAt); u.of == m && age >= 0 && age < usageFor {
		return u.space, nil
	}
	space, err := find()
	if err == nil {
		u.of, u.spaceAt, u.space = m, now, space
	}
	return space, err
}

// usageFor is how long the answer is good.
const usageFor = time.Minute

func (u *usage) get(store pool.Store, now time.Time) (files int, bytes int64, err error) {
	u.mu.Lock()
	defer u.mu.Unlock()
	if age := now.Sub(u.at); age >= 0 && age < usageFor {
		return u.files, u.bytes, nil
	}
	u.files, u.bytes = 0, 0
	err = store.Each(func(_ string, size int64) error { u.files++; u.bytes += size; return nil })
	if err == nil {
		u.at = now
	}
	return u.files, u.bytes, err
}

// forget makes the next question look again.
func (u *usage) forget() {
	u.mu.Lock()
	u.at, u.of = time.Time{}, nil
	u.mu.Unlock()
}
