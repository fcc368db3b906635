package service

import (
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"stockade/core/edition"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gin-gonic/gin"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/core/mirror"
	"stockade/core/pool"
	"stockade/internal/api"
	"stockade/internal/store"
)

// page wraps a whole list.
func page[T any](items []T, err error) (any, error) {
	if items == nil {
		items = []T{}
	}
	return api.Page[T]{Items: items}, err
}

func (s *Service) handlers() map[string]handler {
	return map[string]handler{
		"about": func(c *gin.Context) (any, error) {
			return api.About{
				Version:    s.cfg.Version,
				SiteKey:    s.site.Certificate().Fingerprint,
				Packages:   s.PackagesURL(),
				Definition: 1,
			}, nil
		},
		"openapi": func(c *gin.Context) (any, error) {
			c.Data(http.StatusOK, "application/json", api.OpenAPI(s.cfg.Version))
			return nil, nil
		},
		"schema": func(c *gin.Context) (any, error) {
			c.Data(http.StatusOK, "application/schema+json", definition.Schema())
			return nil, nil
		},
		"whoami": func(c *gin.Context) (any, error) {
			found, err := s.contradicted()
			return api.Who{Account: who(c).Name, Role: who(c).Role,
				Journal: append(finding.List{}, found...)}, err
		},
		"overview": func(c *gin.Context) (any, error) { return s.overview() },

		"definitions": func(c *gin.Context) (any, error) {
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
		},
		"check": s.judge, "compare": s.judge,
		"record": func(c *gin.Context) (any, error) {
			in, err := body[api.Documents](c)
			if err != nil {
				return nil, err
			}
			return refused("The definition was not recorded")(s.describe(in, who(c).Name, who(c).Role,
				c.GetHeader("If-Match")))
		},

		"sources": func(c *gin.Context) (any, error) {
			t, set, err := s.trustedAndSet()
			if err != nil {
				return nil, err
			}
			var out []api.Source
			all, err := s.states(set, t)
			if err != nil {
				return nil, err
			}
			for _, name := range slices.Sorted(maps.Keys(set.Sources)) {
				out = append(out, s.describeSource(set, all, name))
			}
			return page(out, nil)
		},
		"source": func(c *gin.Context) (any, error) {
			set, all, err := s.toldNow()
			if err != nil {
				return nil, err
			}
			name := c.Param("name")
			if _, ok := set.Sources[name]; !ok {
				return nil, dangling("", "source", name, set.Sources)
			}
			out := s.describeSource(set, all, name)
			out.Text = sourceText(set, name)
			tag, err := s.describedTag()
			c.Header("ETag", tag)
			return out, err
		},
		"refresh": func(c *gin.Context) (any, error) {
			in, err := optional[api.Refresh](c)
			if err != nil {
				return nil, err
			}
			if in.AcceptOnce != "" && who(c).Role != api.Warden {
				return nil, &api.Problem{
					Title:  "Not allowed",
					Status: 403,
					Type:   "urn:stockade:rights",
					Detail: "only a warden may accept an older root",
				}
			}
			return s.startRefresh(c.Param("name"), who(c).Name, in.AcceptOnce)
		},
		"probe": func(c *gin.Context) (any, error) {
			return s.startProbe(c.Param("name"), who(c).Name)
		},
		"enable":       s.editSource("enable", func(src *definition.Source) { src.Disabled = false }),
		"disable":      s.editSource("disable", func(src *definition.Source) { src.Disabled = true }),
		"removeSource": s.editSource("remove", nil),

		"addPackage": func(c *gin.Context) (any, error) {
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
			return s.addPackage(c.Request.Context(), c.Param("name"), in, c.Request.Body, who(c).Name)
		},
		"housePackages": func(c *gin.Context) (any, error) {
			return page(s.housePackages(c.Query("source")))
		},
		"removePackage": func(c *gin.Context) (any, error) {
			return refused("The package was not removed")(s.removePackage(c.Param("id"), who(c).Name))
		},

		"keys": func(c *gin.Context) (any, error) {
			t, set, err := s.trustedAndSet()
			if err != nil {
				return nil, err
			}
			out := []api.Key{s.key(s.site.Certificate(), t, set)}
			for _, f := range slices.Sorted(maps.Keys(t.certificates)) {
				if t.retired[f] && c.Query("retired") == "" {
					continue
				}
				out = append(out, s.key(t.certificates[f], t, set))
			}
			return page(out, nil)
		},
		"key": func(c *gin.Context) (any, error) {
			t, set, err := s.trustedAndSet()
			if err != nil {
				return nil, err
			}
			cert, ok := t.certificates[c.Param("fingerprint")]
			if site := s.site.Certificate(); site.Fingerprint == c.Param("fingerprint") {
				cert, ok = site, true
			}
			if !ok {
				return nil, dangling("", "key", c.Param("fingerprint"), t.certificates)
			}
			out, err := s.keyDetail(cert, t, set)
			out.Armoured = cert.Armoured()
			return out, err
		},
		"addKeys": func(c *gin.Context) (any, error) {
			in, err := body[api.KeyData](c)
			if err != nil {
				return nil, err
			}
			return page(s.addKeys(in.Data, who(c).Name))
		},
		"vouch": decision(s.vouch), "bar": decision(s.bar), "withdraw": decision(s.withdraw),
		"retireKey": decision(s.retireKey),

		"mirrors": func(c *gin.Context) (any, error) {
			set, all, err := s.toldNow()
			if err != nil {
				return nil, err
			}
			var out []api.Mirror
			for _, name := range slices.Sorted(maps.Keys(set.Mirrors)) {
				m, err := s.describeMirror(set, all, name)
				if err != nil {
					return nil, err
				}
				out = append(out, m)
			}
			return page(out, nil)
		},
		"mirror": func(c *gin.Context) (any, error) {
			set, all, err := s.toldNow()
			if err != nil {
				return nil, err
			}
			if _, ok := set.Mirrors[c.Param("name")]; !ok {
				return nil, dangling("", "mirror", c.Param("name"), set.Mirrors)
			}
			return s.describeMirror(set, all, c.Param("name"))
		},
		"estimate": s.mirrorJob("estimate"), "build": s.mirrorJob("build"), "prove": s.mirrorJob("prove"),

		"editions": func(c *gin.Context) (any, error) { return page(s.editionList(c.Query("mirror"))) },
		"edition": s.onEdition(func(c *gin.Context, name string, n int) (any, error) {
			e, rec, err := s.standing(name, n)
			if e == nil && rec.Mirror == "" {
				return nil, err
			}
			shown, serr := s.shown()
			if serr != nil {
				return nil, serr
			}
			out := api.EditionDetail{Edition: editionOf(rec, shown)}
			if err != nil {
				out.Problem = err.Error()
				return out, nil
			}
			out.Seal, out.Sealed = *e.Edition, true
			return out, nil
		}),
		"packages": s.onEdition(s.editionPackages),
		"diff": s.onEdition(func(c *gin.Context, name string, n int) (any, error) {
			against, _ := strconv.Atoi(c.Query("against"))
			return page(s.diff(name, n, against))
		}),
		"advisories": s.onEdition(func(c *gin.Context, name string, n int) (any, error) {
			return page(s.advisories(name, n, c.Query("q")))
		}),
		"manifest": s.onEdition(func(c *gin.Context, name string, n int) (any, error) {
			return s.editionFiles(name, n)
		}),
		"file": s.onEdition(func(c *gin.Context, name string, n int) (any, error) {
			e, _, err := s.standing(name, n)
			if err == nil {
				s.serveFrom(c.Writer, c.Request, e, strings.TrimPrefix(c.Param("path"), "/"), true)
			}
			return nil, err
		}),
		"verify": s.onEdition(func(c *gin.Context, name string, n int) (any, error) {
			return s.startVerify(name, n, who(c).Name)
		}),
		"retire": s.onEdition(func(c *gin.Context, name string, n int) (any, error) {
			return s.retire(name, n, who(c).Name)
		}),

		"lanes": func(c *gin.Context) (any, error) {
			set, all, err := s.toldNow()
			if err != nil {
				return nil, err
			}
			return page(s.laneList(set, all))
		},
		"lane": func(c *gin.Context) (any, error) {
			out, err := s.lane(c.Param("name"))
			if err != nil {
				return nil, err
			}
			_, all, err := s.toldNow()
			out.Findings = all.of("lane " + out.Name)
			return out, err
		},
		"move": s.moveLane(s.move), "back": s.moveLane(s.back),

		"groups": func(c *gin.Context) (any, error) {
			set, all, err := s.toldNow()
			if err != nil {
				return nil, err
			}
			var out []api.Group
			now, err := s.ledger.read(s.db, s.keys)
			if err != nil {
				return nil, err
			}
			for _, name := range slices.Sorted(maps.Keys(set.Groups)) {
				out = append(out, describeGroup(set, all, now, name))
			}
			return page(out, nil)
		},
		"group": func(c *gin.Context) (any, error) {
			set, all, err := s.toldNow()
			if err != nil {
				return nil, err
			}
			if _, ok := set.Groups[c.Param("name")]; !ok {
				return nil, dangling("", "group", c.Param("name"), set.Groups)
			}
			now, err := s.ledger.read(s.db, s.keys)
			if err != nil {
				return nil, err
			}
			return describeGroup(set, all, now, c.Param("name")), nil
		},
		"groupFiles": func(c *gin.Context) (any, error) {
			return s.groupFiles(c.Param("name"), c.Query("at"), c.Query("edition"))
		},

		"jobs": func(c *gin.Context) (any, error) {
			limit := pageSize(c)
			rows, err := s.db.Jobs(c.Query("state"), max(cursorOf(c), 0), limit)
			out := api.Page[api.Job]{Items: []api.Job{}}
			for _, r := range rows {
				if j, err := s.jobs.get(r.ID); err == nil {
					j.Result = nil // told by the job itself
					out.Items = append(out.Items, j)
				}
			}
			if len(rows) == limit {
				out.Next = strconv.FormatInt(rows[limit-1].ID, 10)
			}
			return out, err
		},
		"job": s.onJob(s.jobs.get), "stopJob": s.onJob(s.jobs.stopJob),
		"jobEvents": s.jobEvents,
		"poolUsage": func(c *gin.Context) (any, error) { return s.poolUsage() },
		"sweepPool": func(c *gin.Context) (any, error) { return s.startSweep(who(c).Name) },

		"revisions": func(c *gin.Context) (any, error) {
			limit := pageSize(c)
			rows, err := s.db.Revisions(max(cursorOf(c), 0), limit)
			out := api.Page[api.Revision]{Items: []api.Revision{}}
			for _, r := range rows {
				out.Items = append(out.Items, revision(r))
			}
			if len(rows) == limit {
				out.Next = strconv.FormatInt(rows[limit-1].ID, 10)
			}
			return out, err
		},
		"revision": func(c *gin.Context) (any, error) {
			id, err := number(c, "id")
			if err != nil {
				return nil, err
			}
			r, err := s.db.RevisionBy(int64(id))
			out := revision(r)
			out.Whole = r.Whole
			return out, err
		},
		"restore": func(c *gin.Context) (any, error) {
			id, err := number(c, "id")
			if err != nil {
				return nil, err
			}
			in, err := optional[api.Restore](c)
			if err != nil {
				return nil, err
			}
			return refused("The revision was not restored")(s.restore(int64(id), in.Object,
				who(c).Name, who(c).Role))
		},
		"wouldRestore": func(c *gin.Context) (any, error) {
			id, err := number(c, "id")
			if err != nil {
				return nil, err
			}
			p, err := s.restoring(int64(id), c.Query("object"))
			if err != nil {
				return nil, err
			}
			return p.judgement, nil
		},

		"journal": func(c *gin.Context) (any, error) {
			limit := pageSize(c)
			rows, err := s.db.JournalPage(cursorOf(c), limit, c.Query("q"))
			out := api.Page[journal.Entry]{Items: rows}
			if len(rows) == limit && rows[limit-1].Number > 0 {
				out.Next = strconv.FormatInt(rows[limit-1].Number, 10)
			}
			return out, err
		},
		"verifyJournal": func(c *gin.Context) (any, error) {
			in, err := optional[api.Against](c)
			if err != nil {
				return nil, err
			}
			return s.verifyJournal(in.Against)
		},

		"accounts": func(c *gin.Context) (any, error) {
			rows, err := s.db.Accounts()
			var out []api.Account
			for _, a := range rows {
				out = append(out, api.Account{Name: a.Name, Role: a.Role, Created: a.Created})
			}
			return page(out, err)
		},
		"addAccount":    s.addAccount,
		"removeAccount": s.removeAccount,
	}
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
	p, err := s.propose(in)
	if err != nil {
		return nil, err
	}
	return p.judgement, nil
}

func (s *Service) editSource(verb string, edit func(*definition.Source)) handler {
	return func(c *gin.Context) (any, error) {
		name := c.Param("name")
		return refused("The source was not changed")(s.change(who(c).Name, who(c).Role, verb+" source "+name,
			func(set *definition.Set) error {
				src, ok := set.Sources[name]
				if !ok {
					return dangling("", "source", name, set.Sources)
				}
				if edit == nil {
					delete(set.Sources, name)
					for k, key := range set.Keys { // decisions for it go with it
						key.VouchedFor = slices.DeleteFunc(slices.Clone(key.VouchedFor), func(v string) bool {
							return v == name
						})
						set.Keys[k] = key
					}
					return nil
				}
				edit(&src)
				set.Sources[name] = src
				return nil
			}))
	}
}

func (s *Service) mirrorJob(kind string) handler {
	return func(c *gin.Context) (any, error) { return s.startMirror(kind, c.Param("name"), who(c).Name) }
}

func (s *Service) onEdition(f func(c *gin.Context, name string, n int) (any, error)) handler {
	return func(c *gin.Context) (any, error) {
		n, err := number(c, "number")
		if err != nil {
			return nil, err
		}
		return f(c, c.Param("mirror"), n)
	}
}

func (s *Service) onJob(f func(int64) (api.Job, error)) handler {
	return func(c *gin.Context) (any, error) {
		id, err := number(c, "id")
		if err != nil {
			return nil, err
		}
		return f(int64(id))
	}
}

func (s *Service) moveLane(f func(string, api.Move, string) (api.Lane, error)) handler {
	return func(c *gin.Context) (any, error) {
		in, err := optional[api.Move](c)
		if err != nil {
			return nil, err
		}
		return f(c.Param("name"), in, who(c).Name)
	}
}

var errEnough = errors.New("enough")

// editionPackages reads one page of the package list; the cursor is where the
// next line begins (bytes).
func (s *Service) editionPackages(c *gin.Context, name string, n int) (any, error) {
	e, _, err := s.standing(name, n)
	if err != nil {
		return nil, err
	}
	limit, q := pageSize(c), strings.ToLower(c.Query("q"))
	out := api.Page[api.Item]{Items: []api.Item{}}
	last := int64(0) // behind the last one that is on the page
	err = e.ItemsFrom(max(cursorOf(c), 0),
		func(it edition.Item, next int64) error {
			if q != "" && !strings.Contains(strings.ToLower(it.Name+" "+it.Summary), q) {
				return nil
			}
			if len(out.Items) == limit {
				out.Next = strconv.FormatInt(last, 10)
				return errEnough
			}
			out.Items, last = append(out.Items, it), next
			return nil
		})
	if errors.Is(err, edition.ErrNoLine) {
		return nil, &api.Problem{
			Title:  "The request could not be read",
			Status: 400,
			Type:   "urn:stockade:request",
			Detail: "the cursor is not one that a page of this list told",
		}
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	return out, err
}

// checks gives the findings about all that is described, to be worked out once
// for a list.
func (s *Service) checks(set *definition.Set, t *trusted) finding.List {
	around := (&proposal{recorded: set, target: set, trusted: t}).surroundings(s, definition.NewSet(), nil)
	around.ReadFile = nil // key files were read when they were recorded
	return definition.Check(set, around)
}

func (s *Service) describeSource(set *definition.Set, all states, name string) api.Source {
	out := api.Source{
		Name:     name,
		Source:   set.Sources[name],
		Mirrors:  set.UsersOf(name),
		Findings: all.of("source " + name),
	}
	if out.Mirrors == nil {
		out.Mirrors = []string{}
	}
	for _, f := range set.Signers(name) { // what is wrong with a key is wrong with what it signs
		for _, k := range all["key "+f] {
			out.Findings = withFinding(out.Findings, k)
		}
	}
	out.Findings.Sort()
	var a mirror.Accepted
	if at, err := s.db.Kept("accepted", name, &a); err == nil {
		a.Conditional = nil
		out.Accepted, out.Checked = &a, at
	}
	if at, err := s.db.Kept("refresh", name, &checked{}); err == nil && at.After(out.Checked) {
		out.Checked = at
	}
	var pr probed
	if _, err := s.db.Kept("probe", name, &pr); err == nil {
		out.Probes = pr.Results
	}
	return out
}

func (s *Service) describeMirror(set *definition.Set, all states, name string) (api.Mirror, error) {
	out := api.Mirror{
		Name:     name,
		Mirror:   set.Mirrors[name],
		Lanes:    []string{},
		Findings: all.of("mirror " + name),
		Job:      s.jobs.on("mirror " + name),
	}
	var err error
	if out.Editions, err = s.editionList(name); err != nil {
		return out, err
	}
	for l, lane := range set.Lanes {
		if lane.Mirror == name {
			out.Lanes = append(out.Lanes, l)
		}
	}
	slices.Sort(out.Lanes)
	var last checked
	if at, err := s.db.Kept("mirror", name, &last); err == nil {
		out.Checked = at
		for _, f := range last.Findings { // also those about its sources and groups
			out.Findings = withFinding(out.Findings, f)
		}
	}
	out.Findings.Sort()
	return out, nil
}

func describeGroup(set *definition.Set, all states, now *inForce, name string) api.Group {
	g := set.Groups[name]
	out := api.Group{Name: name, Group: g, Findings: all.of("group " + name)}
	if moves := now.moves(g.Lane); len(moves) > 0 {
		out.Edition = latest(moves)
	}
	return out
}

func (s *Service) laneList(set *definition.Set, all states) ([]api.Lane, error) {
	now, err := s.ledger.read(s.db, s.keys)
	if err != nil {
		return nil, err
	}
	followers := followersOf(set)
	var out []api.Lane
	for _, name := range slices.Sorted(maps.Keys(set.Lanes)) {
		l, err := s.describeLane(set, now, name, followers[name])
		if err != nil {
			return nil, err
		}
		l.Findings = all.of("lane " + name)
		out = append(out, l)
	}
	return out, nil
}

// overview answers: is anything wrong, what is new, what runs.
func (s *Service) overview() (api.Overview, error) {
	out := api.Overview{NeedsYou: finding.List{}, Jobs: s.jobs.list(), Sources: []api.SourceStrip{}}
	set, all, err := s.toldNow()
	if err != nil {
		return out, err
	}
	out.NeedsYou = all.needsYou()
	var asked []time.Time
	out.Looked.Journal = s.comparedAt()
	for _, name := range slices.Sorted(maps.Keys(set.Sources)) {
		src := s.describeSource(set, all, name)
		if !src.Disabled && !set.Sources[name].Managed() {
			asked = append(asked, src.Checked)
		}
		strip := api.SourceStrip{Name: name, Standing: src.Standing,
			Disabled: src.Disabled, Days: []api.Day{}}
		if src.Accepted != nil {
			strip.RootDate = src.Accepted.Date
		}
		if len(src.Findings) > 0 {
			strip.Worst = string(src.Findings[0].Severity)
		}
		days := map[string]int{}
		s.db.Kept("days", name, &days)
		for i := 89; i >= 0; i-- {
			d := s.now().UTC().AddDate(0, 0, -i).Format(time.DateOnly)
			strip.Days = append(strip.Days, api.Day{Date: d, Published: days[d]})
		}
		out.Sources = append(out.Sources, strip)
	}
	if len(asked) > 0 {
		out.Looked.Sources = slices.MinFunc(asked, time.Time.Compare)
	}
	if out.Lanes, err = s.laneList(set, all); err != nil {
		return out, err
	}
	if out.Lanes == nil {
		out.Lanes = []api.Lane{}
	}
	editions, err := s.editionList("")
	if err != nil {
		return out, err
	}
	out.Editions = len(editions)
	if out.PoolFiles, out.PoolBytes, err = s.usage.get(s.pool, s.now()); err != nil {
		return out, err
	}
	if out.FreeBytes, err = s.pool.Free(); err != nil {
		return out, err
	}
	out.Recent, err = s.db.JournalPage(-1, 8, "")
	return out, err
}

// usage remembers how large the pool is: looking at every file takes long for a
// large one, and the overview asks every few seconds.
type usage struct {
	mu    sync.Mutex
	at    time.Time
	files int
	bytes int64
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
	u.at = time.Time{}
	u.mu.Unlock()
}

// jobEvents streams a job's progress until it ends.
func (s *Service) jobEvents(c *gin.Context) (any, error) {
	id, err := number(c, "id")
	if err != nil {
		return nil, err
	}
	if _, err := s.jobs.get(int64(id)); err != nil {
		return nil, err
	}
	_, events, stop, running := s.jobs.listen(int64(id))
	c.Header("Content-Type", "text/event-stream")
	control := http.NewResponseController(c.Writer)
	control.SetReadDeadline(time.Time{})
	deadline := func() { control.SetWriteDeadline(time.Now().Add(streamTime)) }
	send := func(name string, e api.JobEvent) {
		raw, _ := json.Marshal(e)
		deadline()
		fmt.Fprintf(c.Writer, "event: %s\ndata: %s\n\n", name, raw)
		c.Writer.Flush()
	}
	if running {
		defer stop()
		beat := time.NewTicker(15 * time.Second)
		defer beat.Stop()
		for open := true; open; {
			select {
			case e, ok := <-events:
				if open = ok; ok && e.Progress != nil {
					send("progress", e)
				}
			case <-beat.C:
				deadline()
				io.WriteString(c.Writer, ": still here\n\n")
				c.Writer.Flush()
			case <-c.Request.Context().Done():
				return nil, nil
			}
		}
	}
	job, err := s.jobs.get(int64(id))
	if err != nil {
		return nil, err
	}
	send("end", api.JobEvent{Job: &job})
	return nil, nil
}

func (s *Service) addAccount(c *gin.Context) (any, error) {
	in, err := body[api.NewAccount](c)
	if err != nil {
		return nil, err
	}
	if in.Role != api.Viewer && in.Role != api.Operator && in.Role != api.Warden {
		return nil, finding.New("define.bad-value", "account "+in.Name,
			"the role %q is not viewer, operator or warden", in.Role)
	}
	if in.Name == "" || len(in.Name) > 64 || finding.Harmless(in.Name) != in.Name ||
		strings.ContainsAny(in.Name, " \t/") {
		return nil, finding.New("define.bad-value", "account", "the name %q does not fit", in.Name).Do(
			"give 1 to 64 letters without spaces")
	}
	if _, err := s.db.AccountBy(in.Name); err == nil {
		return nil, finding.New("define.duplicate-name", "account "+in.Name,
			"there is an account of this name")
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	token := secret()
	return api.NewToken{Account: in.Name, Token: token}, s.db.Tx(func(tx *store.DB) error {
		if err := tx.SaveAccount(store.Account{Name: in.Name, Role: in.Role, Created: s.now().UTC()}); err !=
			nil {
			return err
		}
		if err := tx.AddToken(store.Token{Hash: tokenHash(token), Account: in.Name, Label: "first",
			Created: s.now().UTC()}); err != nil {
			return err
		}
		return s.write(tx, who(c).Name, "account.add", "account "+in.Name, map[string]string{"role": in.Role,
			"token": tokenHash(token)})
	})
}

func (s *Service) removeAccount(c *gin.Context) (any, error) {
	name := c.Param("name")
	a, err := s.db.AccountBy(name)
	if err != nil {
		return nil, err
	}
	if name == who(c).Name {
		return nil, finding.New("define.bad-value", "account "+name,
			"this is the account that asks; another warden has to remove it")
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	return api.Account{Name: a.Name, Role: a.Role, Created: a.Created}, s.db.Tx(func(tx *store.DB) error {
		if err := tx.RemoveAccount(name); err != nil {
			return err
		}
		return s.write(tx, who(c).Name, "account.remove", "account "+name, nil)
	})
}

// decision reads what was decided about the key of the path, and has it recorded.
func decision(record func(fingerprint string, d api.Decision, by string) (api.Key, error)) handler {
	return func(c *gin.Context) (any, error) {
		in, err := body[api.Decision](c)
		if err != nil {
			return nil, err
		}
		return record(c.Param("fingerprint"), in, who(c).Name)
	}
}
