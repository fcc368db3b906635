package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/internal/api"
)

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
	slices.Sort(by)
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
