package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) outcome(j api.Job) {
	o := decode[api.Outcome](j.Result)
	if o.Unchanged {
		a.say("no changes for %s upstream, so no edition was made", o.Mirror)
		return
	}
	if j.Kind == "prove" {
		a.proved(o)
		return
	}
	var by []string
	for s, n := range o.BySource {
		by = append(by, fmt.Sprintf("%d of %s", n, s))
	}
	slices.Sort(by)
	if o.Edition != nil {
		fmt.Fprintf(a.out, "%s\n", o.Edition.Name())
		a.say("sealed: %d packages (%s), %s, of which %s were downloaded in %s", o.Packages, strings.Join(by,
			", "), size(o.Bytes), size(o.FetchBytes), span(j.Ended.Sub(j.Started)))
		for _, p := range o.Proofs {
			a.say("proved: %s", p)
		}
		return
	}
	pairs := []string{"packages", fmt.Sprintf("%d, %d of them wanted by name (%s)", o.Packages,
		o.Wanted, strings.Join(by, ", ")),
		"size", fmt.Sprintf("%s in %d files", size(o.Bytes), o.Files), "to download", fmt.Sprintf(
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
		return "unknown: nothing was downloaded yet"
	}
	return "about " + span(time.Duration(max(seconds, 1))*time.Second)
}

var mirrorListing = listing[api.Mirror]{
	columns: []column{{head: "MIRROR"}, {head: "COPY", spare: 2}, {head: "FROM", cut: atEnd, spare: 3},
		{head: "EDITIONS", right: true, spare: 1}, {head: "NEWEST"}, {head: "MADE"},
		{head: "LANES", cut: atEnd}, {head: "FINDINGS", cut: atEnd}},
	row: func(m api.Mirror) []string {
		var from []string
		for _, f := range m.From {
			from = append(from, f.Source)
		}
		newest, made := "none yet", "–"
		if len(m.Editions) > 0 {
			newest, made = m.Editions[0].Name, age(m.Editions[0].Created)
		}
		return []string{m.Name, m.Copy, strings.Join(from, ", "), strconv.Itoa(len(m.Editions)), newest,
			made, strings.Join(m.Lanes, ", "), worst(m.Findings)}
	},
	name:  func(m api.Mirror) string { return m.Name },
	empty: "no mirrors. To define one: stockade record FILE",
}

func (a *app) mirrorCommand() *cobra.Command {
	list := lister(a, "List mirrors", "  stockade mirror list\n  stockade mirror list --source tarn",
		"/mirrors",
		mirrorListing, filter[api.Mirror]{"source", "only mirrors that use this source", nil, "/sources",
			func(m api.Mirror, asked string) bool {
				return slices.ContainsFunc(m.From, func(f definition.From) bool { return f.Source == asked })
			}},
		filter[api.Mirror]{"copy", "only mirrors with this way to copy", []string{definition.Faithful,
			definition.Tailored}, "", func(m api.Mirror, asked string) bool { return m.Copy == asked }},
		bySeverity(func(m api.Mirror) finding.List { return m.Findings }))
	complete := a.names("/mirrors", 0, byName)
	show := shower(a, "mirror", "Show mirrors: wanted packages, editions, findings",
		"  stockade mirror show barrage\n  stockade mirror show barrage --why libkelp7", "/mirrors/",
		complete,
		a.mirrorDetail, mirrorListing.name)
	a.mirrorWhy(show)
	return noun("mirror", "Manage offline mirrors", list, show,
		a.mirrorWork("estimate", "Estimate what a build would take; download only indexes", complete),
		a.mirrorPreview(complete),
		a.mirrorWork("build", "Build an edition", complete),
		a.mirrorProve(complete))
}

func (a *app) mirrorDetail(m api.Mirror) {
	pairs := []string{"mirror", m.Name, "copy", m.Copy, "complete", m.Complete, "keep",
		strconv.Itoa(m.Keep), "schedule", m.Schedule, "verified", m.VerifySchedule,
		"lanes", strings.Join(m.Lanes, ", ")}
	if !m.Want.IsZero() {
		pairs = append(pairs, "wanted", wanted(m.Want))
	}
	for _, f := range m.From {
		pairs = append(pairs, "from "+f.Source, first(wanted(f.Want),
			"what the mirror wants, and dependencies"))
	}
	for _, set := range m.Together {
		pairs = append(pairs, "together", strings.Join(set, ", "))
	}
	if m.Baseline.List != "" {
		pairs = append(pairs, "baseline", "list "+m.Baseline.List)
	}
	if len(m.Baseline.Sources) > 0 {
		pairs = append(pairs, "baseline", "sources "+strings.Join(m.Baseline.Sources, ", "))
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
}

// mirrorWork makes the command of one kind of work on mirrors.
func (a *app) mirrorWork(verb, short string, complete cobra.CompletionFunc) *cobra.Command {
	var detach bool
	c := &cobra.Command{Use: verb + " MIRROR…", Short: short, Example: "  stockade mirror " + verb +
		" barrage", Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("mirror", args); err != nil {
				return err
			}
			return a.each(args, func(name string) error {
				return a.job(cmd.Context(), work{path: "/mirrors/" + url.PathEscape(name) + "/" + verb,
					detach: detach, told: a.outcome, asked: true,
					ids: func(j api.Job) []string { return a.outcomeNames(cmd.Context(), verb, name, j) }})
			})
		}}
	c.Flags().BoolVar(&detach, "detach", false, "do not wait for the job to end")
	return c
}

// outcomeNames gives what work on a mirror came to: the edition that a build made, or
// the newest where there was nothing new to make one of; otherwise the mirror.
func (a *app) outcomeNames(ctx context.Context, verb, name string, j api.Job) []string {
	if verb != "build" {
		return []string{name}
	}
	o := decode[api.Outcome](j.Result)
	if o.Edition != nil {
		return []string{o.Edition.Name()}
	}
	if a.output != "ids" {
		return nil
	}
	m, err := client.Get[api.Mirror](ctx, a.client(), "/mirrors/"+url.PathEscape(name))
	if err != nil || len(m.Editions) == 0 {
		return nil
	}
	return []string{m.Editions[0].Name}
}

// wanted says what a want is; "" where it is none.
func wanted(w definition.Want) string {
	var parts []string
	if w.Names() {
		parts = append(parts, fmt.Sprintf("with %s, newest %d", w.With, w.Versions))
	}
	if w.Alternatives == definition.EveryAlternative {
		parts = append(parts, "every alternative of a dependency")
	}
	if len(w.Streams) > 0 {
		parts = append(parts, "streams "+strings.Join(w.Streams, ", "))
	}
	if len(w.Except) > 0 {
		parts = append(parts, "except "+strings.Join(w.Except, ", "))
	}
	if w.Only {
		parts = append(parts, "only from this source")
	}
	var ways []string
	for _, x := range []struct {
		word  string
		names []string
	}{{"", w.Packages}, {"packages that provide ", w.Provides}, {"sections ", w.Sections}, {"groups ",
		w.Groups},
		{"packages built from ", w.BuiltFrom}, {"lists ", w.Lists}} {
		if len(x.names) > 0 {
			ways = append(ways, x.word+strings.Join(x.names, ", "))
		}
	}
	what := strings.Join(ways, "; ")
	if w.Everything {
		what = "everything"
	}
	if len(parts) == 0 {
		return what
	}
	return strings.TrimSpace(what + " (" + strings.Join(parts, ", ") + ")")
}
