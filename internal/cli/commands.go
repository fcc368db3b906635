package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"stockade/core/edition"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/core/mirror"
	"stockade/internal/api"
	"stockade/internal/client"
)

// lister makes the "list" of a noun.
func lister[T any](a *app, short, example, path string, heads []string, row func(T) []string,
	name func(T) string, empty string) *cobra.Command {
	return &cobra.Command{Use: "list", Short: short, Example: example, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := client.All[T](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			return showList(a, all, heads, row, name, empty)
		}}
}

// shower makes the "show" of a noun: one thing by its name.
func shower[T any](a *app, use, short, example, path string, complete cobra.CompletionFunc, draw func(T),
	name func(T) string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Example: example, Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete, RunE: func(cmd *cobra.Command, args []string) error {
			v, err := client.Get[T](cmd.Context(), a.client(), path+url.PathEscape(args[0]))
			if err != nil {
				return err
			}
			return a.show(v, func() { draw(v) }, []string{name(v)})
		}}
}

func showList[T any](a *app, all []T, heads []string, row func(T) []string,
	name func(T) string, empty string) error {
	var rows [][]string
	var names []string
	for _, v := range all {
		rows, names = append(rows, row(v)), append(names, name(v))
	}
	return a.show(all, func() {
		a.table(heads, rows)
		if len(rows) == 0 {
			a.say("%s", empty)
		}
	}, names)
}

// job starts a job, follows it unless detached, and tells how it ended.
func (a *app) job(ctx context.Context, path string, in any, detach bool, told func(api.Job)) error {
	c := a.client()
	job, err := client.Post[api.Job](ctx, c, path, in)
	if err != nil {
		return err
	}
	if detach {
		return a.show(job, func() {
			a.say("job %d began; stockade job watch %d follows it", job.ID, job.ID)
			fmt.Fprintln(a.out, job.ID)
		}, []string{strconv.FormatInt(job.ID, 10)})
	}
	if job, err = a.follow(ctx, c, job.ID); err != nil {
		if ctx.Err() != nil {
			a.say("no longer followed; job %d goes on: stockade job stop %d ends it", job.ID, job.ID)
		}
		return err
	}
	return a.ended(job, told)
}

// ended tells what came of a job and gives the exit code for it.
func (a *app) ended(job api.Job, told func(api.Job)) error {
	if err := a.show(job, func() {
		a.findings(a.err, job.Findings)
		if job.State == api.Done && told != nil {
			told(job)
		}
	}, []string{strconv.FormatInt(job.ID, 10)}); err != nil {
		return err
	}
	switch job.State {
	case api.Done:
		return nil
	case api.Failed:
		fmt.Fprintf(a.err, "%s%s of %s failed\n", a.paint(red, "error: "), job.Kind, job.Object)
		if len(job.Findings) == 0 {
			fmt.Fprintln(a.err, "  cause: "+finding.Harmless(job.Problem))
			return &exit{code: exitFailed}
		}
		return no()
	}
	fmt.Fprintf(a.err, "job %d was %s: %s\n", job.ID, job.State, job.Problem)
	return &exit{code: exitFailed}
}

func (a *app) sourceCommand() *cobra.Command {
	complete := a.names("/sources", byName)
	list := lister(a, "List sources", "  stockade source list", "/sources", []string{"SOURCE", "STANDING",
		"FAMILY", "RELEASE", "PRIORITY>", "ROOT MADE", "UPSTREAM", "FINDINGS"},
		func(s api.Source) []string {
			made, up := "–", "–"
			if s.Accepted != nil {
				made, up = age(s.Accepted.Date), s.Accepted.Upstream
			}
			name := s.Name
			if s.Disabled {
				name += " (disabled)"
			}
			return []string{name, s.Standing, s.Family, s.Release, strconv.Itoa(s.Priority),
				made, up, worst(s.Findings)}
		}, func(s api.Source) string { return s.Name }, "no source is described yet: stockade record FILE")
	show := shower(a, "show SOURCE", "Show one source: definition, state, findings",
		"  stockade source show tarn", "/sources/", complete, func(s api.Source) {
			fmt.Fprint(a.out, s.Text)
			fmt.Fprintln(a.out)
			var pairs []string
			if r := s.Accepted; r != nil {
				pairs = []string{"accepted", "root of " + date(r.Date) + ", from " + r.Upstream, "signed by",
					short(r.Signer.Fingerprint) + " " + r.Signer.UserID,
					"it says", joined(", ", r.Origin, r.Suite, r.Codename), "offers",
					joined(" for ", strings.Join(r.Offers.Components, " "),
						strings.Join(r.Offers.Architectures, " "))}
			}
			a.fields(append(pairs, "last asked", age(s.Checked), "mirrors", strings.Join(s.Mirrors, ", "))...)
			if len(s.Probes) > 0 {
				fmt.Fprintln(a.out)
				a.probes(s.Probes)
			}
			if len(s.Findings) > 0 {
				fmt.Fprintln(a.out)
				a.findings(a.out, s.Findings)
			}
		}, func(s api.Source) string { return s.Name })
	var reason string
	var detach bool
	refresh := &cobra.Command{Use: "refresh SOURCE", Short: "Ask the upstreams for the root, and judge it",
		Example: "  stockade source refresh tarn", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.job(cmd.Context(), "/sources/"+url.PathEscape(args[0])+"/refresh",
				api.Refresh{AcceptOnce: reason}, detach, func(j api.Job) {
					r := decode[struct {
						Changed  bool      `json:"changed"`
						RootDate time.Time `json:"root_date"`
						Upstream string    `json:"upstream"`
					}](j.Result)
					word := "nothing new"
					if r.Changed {
						word = "a new root"
					}
					a.say("%s: %s, made %s, from %s", args[0], word, date(r.RootDate), r.Upstream)
				})
		}}
	refresh.Flags().StringVar(&reason, "accept-once", "",
		"take a root that is older, or of another repository, this once; for this reason (wardens)")
	refresh.Flags().BoolVar(&detach, "detach", false, "do not wait")
	probe := &cobra.Command{Use: "probe SOURCE", Short: "Measure and compare every upstream of a source",
		Example: "  stockade source probe tarn", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.job(cmd.Context(), "/sources/"+url.PathEscape(args[0])+"/probe", nil, false,
				func(j api.Job) { a.probes(decode[[]mirror.ProbeResult](j.Result)) })
		}}
	edit := func(verb, short string, destructive string) *cobra.Command {
		return &cobra.Command{Use: verb + " SOURCE", Short: short, Example: "  stockade source " + verb +
			" tarn", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
			RunE: func(cmd *cobra.Command, args []string) error {
				path, method := "/sources/"+url.PathEscape(args[0]), "POST"
				if destructive != "" {
					if err := a.sure(fmt.Sprintf(destructive, args[0])); err != nil {
						return err
					}
				}
				if verb == "remove" {
					method = "DELETE"
				} else {
					path += "/" + verb
				}
				j, err := client.Call[api.Judgement](cmd.Context(), a.client(), method, path, nil)
				if err != nil {
					return err
				}
				return a.show(j, func() { a.changes(j); a.say("recorded as revision %d", j.Revision) },
					changeNames(j))
			}}
	}
	return noun("source", "Upstream repositories", list, show, probe, refresh, edit("enable",
		"Use a source again", ""), edit("disable", "Stop using a source", ""),
		edit("remove", "Take a source out of what is described",
			"This removes the source %s from the description; its editions stay."))
}

// joined joins what is not empty.
func joined(sep string, parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), sep)
}

func (a *app) probes(list []mirror.ProbeResult) {
	var rows [][]string
	for _, p := range list {
		what := "good, made " + date(p.RootDate)
		switch {
		case p.Error != "":
			what = "down: " + p.Error
		case p.Finding.Code != "":
			what = p.Finding.Code
		}
		rows = append(rows, []string{p.Upstream.URL, p.Upstream.Region,
			p.Connect.Round(100 * time.Microsecond).String(),
			p.FirstByte.Round(100 * time.Microsecond).String(), size(p.Rate) + "/s", what})
	}
	a.table([]string{"UPSTREAM", "REGION", "CONNECTED>", "FIRST BYTE>", "RATE>", "ROOT"}, rows)
}

func decode[T any](raw json.RawMessage) (v T) {
	json.Unmarshal(raw, &v)
	return v
}

func (a *app) outcome(j api.Job) {
	o := decode[api.Outcome](j.Result)
	if o.Unchanged {
		a.say("nothing changed upstream that concerns %s: no edition was made", o.Mirror)
		return
	}
	var by []string
	for s, n := range o.BySource {
		by = append(by, fmt.Sprintf("%d of %s", n, s))
	}
	sortStrings(by)
	if o.Edition != nil {
		fmt.Fprintf(a.out, "%s\n", o.Edition.Name())
		a.say("sealed: %d packages (%s), %s, of which %s were fetched in %s", o.Packages, strings.Join(by,
			", "), size(o.Bytes), size(o.FetchBytes), span(j.Ended.Sub(j.Started)))
		for _, p := range o.Proofs {
			a.say("proved: %s", p)
		}
		return
	}
	pairs := []string{"packages", fmt.Sprintf("%d, %d of them wanted by name (%s)", o.Packages,
		o.Wanted, strings.Join(by, ", ")),
		"size", fmt.Sprintf("%s in %d files", size(o.Bytes), o.Files), "to fetch", fmt.Sprintf(
			"%s in %d files", size(o.FetchBytes), o.FetchFiles),
		"time", estimate(o.Seconds), "free", size(o.FreeBytes), "found", worst(o.Findings)}
	for _, p := range o.Proofs { // for whom
		pairs = append(pairs, "proof", p.String())
	}
	a.fields(pairs...)
}

// estimate says how long fetching will take, from the last transfers.
func estimate(seconds int) string {
	if seconds < 0 {
		return "unknown: nothing was fetched yet"
	}
	return "about " + span(time.Duration(max(seconds, 1))*time.Second)
}

func (a *app) mirrorCommand() *cobra.Command {
	complete := a.names("/mirrors", byName)
	list := lister(a, "List mirrors", "  stockade mirror list", "/mirrors",
		[]string{"MIRROR", "COPY", "FROM", "EDITIONS>", "NEWEST", "MADE", "LANES", "FINDINGS"},
		func(m api.Mirror) []string {
			var from []string
			for _, f := range m.From {
				from = append(from, f.Source)
			}
			newest, made := "–", "–"
			if len(m.Editions) > 0 {
				newest, made = m.Editions[0].Name, age(m.Editions[0].Created)
			}
			return []string{m.Name, m.Copy, strings.Join(from, ", "), strconv.Itoa(len(m.Editions)), newest,
				made, strings.Join(m.Lanes, ", "), worst(m.Findings)}
		}, func(m api.Mirror) string { return m.Name }, "no mirror is described yet: stockade record FILE")
	show := shower(a, "show MIRROR", "Show one mirror: what is wanted, its editions, findings",
		"  stockade mirror show barrage", "/mirrors/", complete, func(m api.Mirror) {
			pairs := []string{"mirror", m.Name, "copy", m.Copy, "complete", m.Complete, "keep",
				strconv.Itoa(m.Keep), "schedule", m.Schedule, "lanes", strings.Join(m.Lanes, ", ")}
			if !m.Want.IsZero() {
				pairs = append(pairs, "wanted of all", wanted(m.Want))
			}
			for _, f := range m.From {
				pairs = append(pairs, "from "+f.Source, first(wanted(f.Want),
					"what the mirror wants, and what others need"))
			}
			a.fields(pairs...)
			if len(m.Editions) > 0 {
				fmt.Fprintln(a.out)
				a.editionTable(m.Editions)
			}
			if len(m.Findings) > 0 {
				fmt.Fprintln(a.out)
				a.findings(a.out, m.Findings)
			}
		}, func(m api.Mirror) string { return m.Name })
	var detach bool
	work := func(verb, short string) *cobra.Command {
		c := &cobra.Command{Use: verb + " MIRROR", Short: short, Example: "  stockade mirror " + verb +
			" barrage", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
			RunE: func(cmd *cobra.Command, args []string) error {
				return a.job(cmd.Context(), "/mirrors/"+url.PathEscape(args[0])+"/"+verb, nil, detach,
					a.outcome)
			}}
		c.Flags().BoolVar(&detach, "detach", false, "do not wait")
		return c
	}
	return noun("mirror", "Offline mirrors", list, show, work("estimate",
		"Say what a build would take, and fetch only indexes"), work("build", "Build an edition"),
		work("prove", "Prove that all that is wanted can be installed from the mirror alone"))
}

// wanted says what a want is; "" where it is none.
func wanted(w definition.Want) string {
	var parts []string
	if len(w.Packages) > 0 {
		parts = append(parts, fmt.Sprintf("with %s, newest %d", w.With, w.Versions))
	}
	if len(w.Streams) > 0 {
		parts = append(parts, "streams "+strings.Join(w.Streams, ", "))
	}
	if len(w.Except) > 0 {
		parts = append(parts, "except "+strings.Join(w.Except, ", "))
	}
	if w.Only {
		parts = append(parts, "only from here")
	}
	what := strings.Join(w.Packages, ", ")
	if w.Everything {
		what = "everything"
	}
	if len(parts) == 0 {
		return what
	}
	return strings.TrimSpace(what + " (" + strings.Join(parts, ", ") + ")")
}

func (a *app) editionTable(list []api.Edition) {
	var rows [][]string
	for _, e := range list {
		rows = append(rows, editionRow(e))
	}
	a.table(append([]string{}, editionHeads...), rows)
}

var editionHeads = []string{"EDITION", "MADE", "COPY", "PACKAGES>", "FILES>", "SIZE>", "LANES"}

func editionRow(e api.Edition) []string {
	return []string{e.Name, date(e.Created), e.Copy, strconv.Itoa(e.Packages), strconv.Itoa(e.Files),
		size(e.Bytes), strings.Join(e.Lanes, ", ")}
}

// editionPath turns MIRROR/N into the path of its calls.
func editionPath(arg string) (name string, number int, path string, err error) {
	name, n, ok := strings.Cut(arg, "/")
	number, err = strconv.Atoi(n)
	if !ok || err != nil || number < 1 {
		return "", 0, "", usage("%q is not an edition such as barrage/14", arg)
	}
	return name, number, fmt.Sprintf("/editions/%s/%d", url.PathEscape(name), number), nil
}

func (a *app) editionCommand() *cobra.Command {
	complete := a.names("/editions", byName)
	list := lister(a, "List editions, newest first", "  stockade edition list", "/editions",
		append([]string{}, editionHeads...), editionRow, func(e api.Edition) string { return e.Name },
		"no edition was made yet: stockade mirror build MIRROR")
	var search string
	show := &cobra.Command{Use: "show MIRROR/N",
		Short:   "Show one edition: sources, who signed them, packages",
		Example: "  stockade edition show barrage/1 --search tide", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			c := a.client()
			e, err := client.Get[api.EditionDetail](cmd.Context(), c, path)
			if err != nil {
				return err
			}
			items, err := client.All[api.Item](cmd.Context(), c,
				path+"/packages?limit=1000&q="+url.QueryEscape(search))
			if err != nil {
				return err
			}
			var names []string
			for _, it := range items {
				names = append(names, it.Name)
			}
			told, err := client.All[api.EditionAdvisory](cmd.Context(), c,
				path+"/advisories?q="+url.QueryEscape(search))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"edition": e, "packages": items, "advisories": told}, func() {
				seal := "holds, by " + short(e.Seal.SiteKey)
				if !e.Sealed {
					seal = "BROKEN: " + e.Problem
				}
				pairs := []string{"edition", e.Name, "made", date(e.Created), "copy", e.Copy, "seal", seal,
					"lanes", strings.Join(e.Lanes, ", "), "files",
					fmt.Sprintf("%d, %s", e.Files, size(e.Bytes))}
				for _, p := range e.Seal.Proofs {
					pairs = append(pairs, "proof", p.String())
				}
				for _, s := range e.Seal.Sources {
					pairs = append(pairs, "from "+s.Name, fmt.Sprintf("%d packages; root of %s from %s",
						s.Packages, date(s.RootDate), s.Upstream), "  signed by", short(s.Signer.Fingerprint)+
						" "+s.Signer.UserID)
				}
				a.fields(pairs...)
				fmt.Fprintln(a.out)
				var rows [][]string
				for _, it := range items {
					why := "needed by " + it.For
					if it.Wanted {
						why = "wanted: " + it.For
					}
					rows = append(rows, []string{it.Name, it.Version, it.Arch, it.Source, size(it.Size), why})
				}
				a.table([]string{"PACKAGE", "VERSION", "ARCH", "SOURCE", "SIZE>", "WHY"}, rows)
				if len(told) == 0 {
					return
				}
				fmt.Fprintln(a.out)
				rows = nil
				for _, v := range told {
					var about []string
					for _, p := range v.Packages {
						about = append(about, p.Name+" "+p.Version)
					}
					rows = append(rows, []string{v.ID, joined(", ", v.Kind, strings.ToLower(v.Severity)),
						v.Source, strings.Join(about, ", "), v.Title})
				}
				a.table([]string{"ADVISORY", "KIND", "SOURCE", "ABOUT", "TITLE"}, rows)
			}, names)
		}}
	show.Flags().StringVar(&search, "search", "",
		"only packages (and advisories) with this in their name or summary")
	diff := &cobra.Command{Use: "diff MIRROR/N [MIRROR/OLDER]",
		Short:   "Show the difference to an older edition; the one before if none is named",
		Example: "  stockade edition diff barrage/2", Args: cobra.RangeArgs(1, 2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			name, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			path += "/diff"
			if len(args) == 2 {
				other, n, _, err := editionPath(args[1])
				if err != nil {
					return err
				}
				if other != name {
					return usage("%s and %s are of different mirrors", args[0], args[1])
				}
				path += "?against=" + strconv.Itoa(n)
			}
			all, err := client.All[api.Change](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			return showList(a, all, []string{"CHANGE", "PACKAGE", "ARCH", "SOURCE", "OLD", "NEW", "SIZE>",
				"ADVISORIES"}, func(c api.Change) []string {
				return []string{c.Action, c.Name, c.Arch, c.Source, c.OldVersion, c.NewVersion,
					delta(c.NewSize - c.OldSize), strings.Join(c.Advisories, ", ")}
			}, func(c api.Change) string { return c.Name }, "no difference")
		}}
	verify := &cobra.Command{Use: "verify MIRROR/N",
		Short:   "Read every file of an edition and compare it with the seal",
		Example: "  stockade edition verify barrage/1", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			return a.job(cmd.Context(), path+"/verify", nil, false, func(j api.Job) {
				r := decode[struct {
					Files int   `json:"files"`
					Bytes int64 `json:"bytes"`
				}](j.Result)
				a.say("%s: the seal holds, and all %d files (%s) are what was sealed",
					args[0], r.Files, size(r.Bytes))
			})
		}}
	export := &cobra.Command{Use: "export MIRROR/N DIR", Short: "Lay an edition out as plain files",
		Long: "Lay an edition out as plain files on this machine, DIR/SOURCE/… as upstream lays each " +
			"out, for file:// or any web server. Every file is checked on the way.",
		Example: "  stockade edition export barrage/1 /media/stick/barrage", Args: cobra.ExactArgs(2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.export(cmd.Context(), args[0], args[1])
		}}
	retire := &cobra.Command{Use: "retire MIRROR/N",
		Short:   "Take an edition out; its files go when nothing else holds them",
		Example: "  stockade edition retire tarn-whole/1", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			c := a.client()
			e, err := client.Get[api.EditionDetail](cmd.Context(), c, path)
			if err != nil {
				return err
			}
			if err := a.sure(fmt.Sprintf("This retires %s: %d packages, %s.", e.Name, e.Packages,
				size(e.Bytes))); err != nil {
				return err
			}
			out, err := client.Call[api.Edition](cmd.Context(), c, "DELETE", path, nil)
			if err != nil {
				return err
			}
			return a.show(out, func() {
				a.say("%s is retired; stockade pool sweep frees its files", out.Name)
			}, []string{out.Name})
		}}
	return noun("edition", "Sealed editions of mirrors", list, show, diff, verify, export, retire)
}

func delta(n int64) string {
	if n < 0 {
		return "-" + size(-n)
	}
	return "+" + size(n)
}

func (a *app) export(ctx context.Context, what, dir string) error {
	name, number, path, err := editionPath(what)
	if err != nil {
		return err
	}
	c := a.client()
	files, err := client.Get[api.Manifest](ctx, c, path+"/manifest")
	if err != nil {
		return err
	}
	m, err := edition.ReadManifest(bytes.NewReader(files.Manifest))
	if err != nil {
		return err
	}
	p := a.progress()
	total, start := m.Bytes(), time.Now()
	open := func(l edition.Line) (io.ReadCloser, error) { return c.File(ctx, name, number, l.Path) }
	err = edition.Export(open, files.Manifest, files.Seal, dir, func(n, of int, done int64) {
		e := mirror.Event{
			Step:       "copy",
			Files:      n,
			FilesTotal: of,
			Bytes:      done,
			BytesTotal: total,
			Remaining:  -1,
		}
		if took := time.Since(start).Seconds(); took > 0.1 {
			if e.Rate = int64(float64(done) / took); e.Rate > 0 {
				e.Remaining = int((total - done) / e.Rate)
			}
		}
		p.show(e)
	})
	p.done()
	if err != nil {
		return fmt.Errorf("%s was not exported: %w", what, err)
	}
	abs, _ := filepath.Abs(dir)
	count := m.Files() + 2 // the manifest and the seal
	return a.show(map[string]any{"edition": what, "folder": abs, "files": count, "bytes": total}, func() {
		a.say("%s lies in %s: %d files, %s; about/README.txt tells how to check it", what, abs, count,
			size(total))
	}, []string{abs})
}

func (a *app) laneCommand() *cobra.Command {
	complete := a.names("/lanes", byName)
	list := lister(a, "List lanes and where they point", "  stockade lane list", "/lanes", []string{"LANE",
		"EDITION", "SINCE", "GROUPS", "URL", "FINDINGS"}, func(l api.Lane) []string {
		since := "–"
		if len(l.History) > 0 {
			since = age(l.History[0].At)
		}
		return []string{l.Name, first(l.Edition, "none yet"), since, strings.Join(l.Groups, ", "),
			l.URL, worst(l.Findings)}
	}, func(l api.Lane) string { return l.Name }, "no lane is described yet: stockade record FILE")
	show := shower(a, "show LANE", "Show one lane with its history", "  stockade lane show steady", "/lanes/",
		complete, func(l api.Lane) { a.laneDetail(l) }, func(l api.Lane) string { return l.Name })
	var reason string
	move := &cobra.Command{Use: "move LANE MIRROR/N", Short: "Point a lane at an edition",
		Example: "  stockade lane move trial barrage/1", Args: cobra.ExactArgs(2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := client.Post[api.Lane](cmd.Context(), a.client(), "/lanes/"+url.PathEscape(args[0])+
				"/move", api.Move{Edition: args[1], Reason: reason})
			if err != nil {
				return err
			}
			return a.show(l, func() { a.say("%s shows %s now", l.Name, l.Edition) }, []string{l.Edition})
		}}
	back := &cobra.Command{Use: "back LANE", Short: "Take the last move of a lane back",
		Example: "  stockade lane move steady barrage/2\n  stockade lane back steady --reason \"gate 3 " +
			"did not close\"", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := client.Post[api.Lane](cmd.Context(), a.client(), "/lanes/"+url.PathEscape(args[0])+
				"/back", api.Move{Reason: reason})
			if err != nil {
				return err
			}
			return a.show(l, func() { a.say("%s shows %s again", l.Name, l.Edition) }, []string{l.Edition})
		}}
	for _, c := range []*cobra.Command{move, back} {
		c.Flags().StringVar(&reason, "reason", "", "why, for the journal")
	}
	return noun("lane", "Names that machines follow", list, show, move, back)
}

func (a *app) laneDetail(l api.Lane) {
	a.fields("lane", l.Name, "mirror", l.Mirror, "shows", first(l.Edition, "nothing yet"), "url", l.URL,
		"groups", strings.Join(l.Groups, ", "))
	var rows [][]string
	for _, s := range l.History {
		how := "moved"
		if s.Back {
			how = "back"
		}
		rows = append(rows, []string{date(s.At), how, s.Edition, s.By, s.Reason})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.table([]string{"WHEN", "HOW", "EDITION", "BY", "REASON"}, rows)
	}
}

func (a *app) groupCommand() *cobra.Command {
	complete := a.names("/groups", byName)
	list := lister(a, "List groups", "  stockade group list", "/groups", []string{"GROUP", "FAMILY",
		"RELEASE", "ARCHITECTURES", "LANE", "EDITION", "PINS", "FINDINGS"}, func(g api.Group) []string {
		return []string{g.Name, g.Family, g.Release, strings.Join(g.Architectures, " "), g.Lane,
			first(g.Edition, "none yet"), strings.Join(g.Pins, ", "), worst(g.Findings)}
	}, func(g api.Group) string { return g.Name }, "no group is described yet: stockade record FILE")
	show := shower(a, "show GROUP", "Show one group", "  stockade group show gatehouse", "/groups/",
		complete, func(g api.Group) {
			a.fields("group", g.Name, "family", g.Family, "release", g.Release, "architectures",
				strings.Join(g.Architectures, " "), "lane", g.Lane, "edition", first(g.Edition, "none yet"),
				"pins", strings.Join(g.Pins, ", "))
		}, func(g api.Group) string { return g.Name })
	var at, out, named string
	files := &cobra.Command{Use: "files GROUP", Short: "Write the files that a machine of the group needs",
		Long: `Write the package client's own configuration, keys included, as it lies under a
machine's root. Without --out the files are shown. They are for the edition that
the lane shows, or for the one that --edition names, or for the one that lies in
the folder of --at. What an earlier call wrote below the same root and is no longer
needed is taken away.`,
		Example: "  stockade group files gatehouse --out /mnt/machine\n  stockade group files gatehouse " +
			"--edition barrage/2\n  stockade group files gatehouse --at /media/stick/barrage --out " +
			"/mnt/machine", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if at != "" && !strings.Contains(at, "://") {
				abs, err := filepath.Abs(at)
				if err != nil {
					return err
				}
				at = abs
				if name, err := edition.ExportedName(at); err == nil && named == "" {
					named = name
				}
			}
			path := "/groups/" + url.PathEscape(args[0]) + "/files?" + url.Values{"at": {at},
				"edition": {named}}.Encode()
			f, err := client.Get[api.Files](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			var names []string
			for _, x := range f.Files {
				names = append(names, x.Path)
			}
			if out != "" {
				files := make([]archive.ClientFile, len(f.Files))
				for i, x := range f.Files {
					files[i] = archive.ClientFile{Path: x.Path, Mode: x.Mode, Data: x.Data}
				}
				gone, left, err := machine.WriteFiles(out, files)
				if err != nil {
					return err
				}
				for _, path := range gone {
					a.say("/%s is no longer needed, and was taken away", path)
				}
				for _, path := range left {
					a.say("/%s is no longer needed; it was changed since it was written, so it stays", path)
				}
			}
			if err := a.show(f, func() {
				a.findings(a.err, f.Findings)
				for _, x := range f.Files {
					switch {
					case out != "":
						fmt.Fprintln(a.out, filepath.Join(out, x.Path))
					case strings.HasSuffix(x.Path, ".gpg"):
						fmt.Fprintf(a.out, "%s\n    (a keyring of %d bytes)\n\n",
							a.paint(bold, "/"+x.Path), len(x.Data))
					default:
						fmt.Fprintf(a.out, "%s\n", a.paint(bold, "/"+x.Path))
						for l := range strings.Lines(string(x.Data)) {
							fmt.Fprint(a.out, "    "+l)
						}
						fmt.Fprintln(a.out)
					}
				}
			}, names); err != nil {
				return err
			}
			if f.Findings.HasErrors() {
				return no()
			}
			return nil
		}}
	files.Flags().StringVar(&named, "edition", "", "MIRROR/N: the edition that the files are for")
	files.Flags().StringVar(&at, "at", "",
		"URL or folder where the packages are found; the lane's address if left out")
	files.Flags().StringVar(&out, "out", "", "the machine's root, below which the files are written")
	return noun("group", "Kinds of machines", list, show, files)
}

func (a *app) jobCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List jobs, newest first", Example: "  stockade job list",
		Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, args []string) error {
			page, err := client.Get[api.Page[api.Job]](cmd.Context(), a.client(), "/jobs?limit=50")
			if err != nil {
				return err
			}
			return showList(a, page.Items, []string{"JOB>", "KIND", "OBJECT", "STATE", "BY", "BEGAN", "TOOK>",
				"FINDINGS"}, func(j api.Job) []string {
				took := "–"
				if j.Ended != nil {
					took = j.Ended.Sub(j.Started).Round(10 * time.Millisecond).String()
				}
				return []string{strconv.FormatInt(j.ID, 10), j.Kind, j.Object, string(j.State), j.By,
					date(j.Started), took, worst(j.Findings)}
			}, func(j api.Job) string { return strconv.FormatInt(j.ID, 10) }, "no job was run yet")
		}}
	watch := &cobra.Command{Use: "watch JOB", Short: "Follow a job until it ends",
		Example: "  stockade job watch 3", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is not the number of a job", args[0])
			}
			job, err := a.follow(cmd.Context(), a.client(), id)
			if err != nil {
				return err
			}
			return a.ended(job, func(j api.Job) {
				if strings.HasPrefix(j.Object, "mirror ") {
					a.outcome(j)
					return
				}
				a.say("job %d (%s of %s) is done", j.ID, j.Kind, j.Object)
			})
		}}
	stop := &cobra.Command{Use: "stop JOB", Short: "Stop a running job; what was verified is kept",
		Example: "  stockade job stop 3", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			j, err := client.Post[api.Job](cmd.Context(), a.client(), "/jobs/"+url.PathEscape(args[0])+
				"/stop",
				nil)
			if err != nil {
				return err
			}
			return a.show(j, func() { a.say("job %d is being stopped", j.ID) }, []string{args[0]})
		}}
	return noun("job", "Pieces of work that take time", list, watch, stop)
}

// withoutNotes leaves what is wrong, or will be.
func withoutNotes(all finding.List) finding.List {
	return slices.DeleteFunc(slices.Clone(all), func(f finding.Finding) bool {
		return f.Severity == finding.Note
	})
}

func (a *app) revisionCommand() *cobra.Command {
	list := lister(a, "List changes of what is described, newest first", "  stockade revision list",
		"/revisions", []string{"REVISION>", "WHEN", "BY", "SUMMARY"}, func(r api.Revision) []string {
			return []string{strconv.FormatInt(r.ID, 10), date(r.At), r.By, r.Summary}
		}, func(r api.Revision) string { return strconv.FormatInt(r.ID, 10) },
		"nothing was described yet: stockade record FILE")
	get := func(cmd *cobra.Command, id string) (api.Revision, error) {
		if _, err := strconv.Atoi(id); err != nil {
			return api.Revision{}, usage("%q is not the number of a revision", id)
		}
		return client.Get[api.Revision](cmd.Context(), a.client(), "/revisions/"+id)
	}
	show := &cobra.Command{Use: "show REVISION",
		Short: "Show the whole description as it was after a revision", Example: "  stockade revision show 1",
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			r, err := get(cmd, args[0])
			if err != nil {
				return err
			}
			return a.show(r, func() { fmt.Fprint(a.out, r.Whole) }, []string{args[0]})
		}}
	diff := &cobra.Command{Use: "diff REVISION", Short: "Show what a revision changed",
		Example: "  stockade revision diff 1", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := get(cmd, args[0])
			if err != nil {
				return err
			}
			j := api.Judgement{Changes: r.Changes}
			return a.show(r.Changes, func() { a.changes(j) }, changeNames(j))
		}}
	restore := &cobra.Command{
		Use: "restore REVISION", Short: "Make the description what it was after a revision",
		Args: cobra.ExactArgs(1),
		Long: `Make the description, or with --only one object of it, what it was after a revision.
What that would change is shown first. Decisions about keys stay as they are now.`,
		Example: "  stockade revision restore 1 --only source/tarn\n  stockade revision restore 1",
	}
	var only string
	restore.Flags().StringVar(&only, "only", "", "KIND/NAME: this alone, such as source/tarn")
	restore.RunE = func(cmd *cobra.Command, args []string) error {
		if _, err := get(cmd, args[0]); err != nil {
			return err
		}
		path := "/revisions/" + args[0] + "/restore"
		would, err := client.Get[api.Judgement](cmd.Context(), a.client(),
			path+"?object="+url.QueryEscape(only))
		if err != nil {
			return err
		}
		if len(would.Changes) == 0 {
			return a.show(would, func() {
				a.say("nothing would change: it is what revision %s says", args[0])
			}, nil)
		}
		if !a.yes {
			was := a.out
			a.out = a.err // the question is about what is shown
			a.changes(would)
			a.findings(a.err, withoutNotes(would.Findings))
			a.out = was
			what := fmt.Sprintf("%d objects", len(would.Changes))
			if len(would.Changes) == 1 {
				what = would.Changes[0].Kind + " " + would.Changes[0].Name
			}
			if err := a.sure("This changes " + what + " back to revision " + args[0] +
				"; decisions about keys stay as they are now."); err != nil {
				return err
			}
		}
		j, err := client.Post[api.Judgement](cmd.Context(), a.client(), path, api.Restore{Object: only})
		if err != nil {
			return err
		}
		return a.show(j, func() {
			a.changes(j)
			a.findings(a.err, withoutNotes(j.Findings))
			a.say("recorded as revision %d", j.Revision)
		}, changeNames(j))
	}
	return noun("revision", "Changes of what is described", list, show, diff, restore)
}

func (a *app) journalCommand() *cobra.Command {
	var search string
	list := &cobra.Command{Use: "list", Short: "Who did what, newest first",
		Example: "  stockade journal list --search key", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			page, err := client.Get[api.Page[api.JournalEntry]](cmd.Context(), a.client(),
				"/journal?limit=200&q="+url.QueryEscape(search))
			if err != nil {
				return err
			}
			return showList(a, page.Items, []string{"ENTRY>", "WHEN", "BY", "ACTION", "OBJECT", "DETAIL"},
				func(e api.JournalEntry) []string {
					var d []string
					for k, v := range e.Detail {
						if v != "" {
							d = append(d, k+": "+v)
						}
					}
					sortStrings(d)
					return []string{strconv.FormatInt(e.Number, 10), date(e.At), e.By, e.Action,
						e.Object, strings.Join(d, "; ")}
				}, func(e api.JournalEntry) string { return strconv.FormatInt(e.Number, 10) },
				"nothing was journalled yet")
		}}
	list.Flags().StringVar(&search, "search", "", "only entries with this in object, action or account")
	var against string
	verify := &cobra.Command{Use: "verify", Short: "Prove that the journal is whole and unchanged",
		Long: `Prove that no entry of the journal was changed, moved or taken out since it was
written, that it goes on from every head that the seals of editions carry, and
that it explains what is described, which accounts there are, which keys are
vouched for, which tokens there are and what lanes show. --against takes an
edition, or a file with a head that was kept elsewhere: a journal that was put
back to an earlier state lacks what that head covers.`,
		Example: "  stockade journal verify\n  stockade journal verify --against barrage/1",
		Args:    cobra.NoArgs, RunE: func(cmd *cobra.Command, args []string) error {
			in := api.Against{Against: against}
			if data, err := os.ReadFile(against); against != "" && err == nil {
				in.Against = string(data)
			}
			r, err := client.Post[api.Report](cmd.Context(), a.client(), "/journal/verify", in)
			if err != nil {
				return err
			}
			if err := a.show(r, func() { fmt.Fprintln(a.out, r.Text) },
				[]string{strconv.FormatBool(r.Holds)}); err != nil {
				return err
			}
			if !r.Holds {
				return no()
			}
			return nil
		}}
	verify.Flags().StringVar(&against, "against", "",
		"an edition, or a file with a head of the journal that was kept elsewhere")
	return noun("journal", "The tamper-evident record of decisions and changes", list, verify)
}

func (a *app) accountCommand() *cobra.Command {
	list := lister(a, "List accounts", "  stockade account list", "/accounts", []string{"ACCOUNT", "ROLE",
		"SINCE"}, func(x api.Account) []string { return []string{x.Name, x.Role, date(x.Created)} },
		func(x api.Account) string { return x.Name }, "")
	var role string
	add := &cobra.Command{Use: "add NAME", Short: "Make an account; its token is shown once",
		Example: "  stockade account add mara --role operator", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := client.Post[api.NewToken](cmd.Context(), a.client(), "/accounts",
				api.NewAccount{Name: args[0], Role: role})
			if err != nil {
				return err
			}
			return a.show(t, func() {
				a.say("the token of %s; it is not shown again:", t.Account)
				fmt.Fprintln(a.out, t.Token)
			}, []string{t.Account})
		}}
	add.Flags().StringVar(&role, "role", "viewer", "viewer, operator or warden")
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove an account and its tokens",
		Example: "  stockade account remove mara", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.sure("This removes the account " + args[0] + " and its tokens."); err != nil {
				return err
			}
			x, err := client.Call[api.Account](cmd.Context(), a.client(), "DELETE",
				"/accounts/"+url.PathEscape(args[0]), nil)
			if err != nil {
				return err
			}
			return a.show(x, func() { a.say("%s is removed", x.Name) }, []string{x.Name})
		}}
	return noun("account", "Who may use the service", list, add, remove)
}
