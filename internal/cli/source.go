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

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/fetch"
	"stockade/core/finding"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/client"
)

var sourceListing = listing[api.Source]{
	columns: []column{{head: "SOURCE"}, {head: "STANDING", spare: 2}, {head: "FAMILY", spare: 3},
		{head: "RELEASE", spare: 4}, {head: "PRIORITY", right: true, spare: 5}, {head: "ROOT MADE"},
		{head: "UPSTREAM", spare: 6, cut: atEnd}, {head: "FINDINGS", cut: atEnd}},
	row: func(s api.Source) []string {
		made, up := "–", "–"
		if s.Accepted != nil {
			made, up = age(s.Accepted.Date), s.Accepted.Upstream
		}
		name := s.Name
		if s.Disabled {
			name += " (disabled)"
		}
		return []string{name, s.Standing, s.Family, s.Release, strconv.Itoa(s.Priority), made, up,
			worst(s.Findings)}
	},
	name:  func(s api.Source) string { return s.Name },
	empty: "no sources. To define one: stockade record FILE",
}

func (a *app) sourceCommand() *cobra.Command {
	complete := a.names("/sources", 0, byName)
	list := lister(a, "List sources", "  stockade source list\n  stockade source list --family rpm\n"+
		"  stockade source list --severity warning", "/sources", sourceListing,
		filter[api.Source]{"family", "only sources of this family", families.All.Names(), "",
			func(s api.Source, asked string) bool { return s.Family == asked }},
		filter[api.Source]{"standing", "only sources of this standing", definition.Standings, "",
			func(s api.Source, asked string) bool { return s.Standing == asked }},
		filter[api.Source]{"mirror", "only sources of this mirror", nil, "/mirrors",
			func(s api.Source, asked string) bool { return slices.Contains(s.Mirrors, asked) }},
		bySeverity(func(s api.Source) finding.List { return s.Findings }))
	show := shower(a, "source", "Show sources: definition, state, findings", "  stockade source show tarn",
		"/sources/", complete, a.sourceDetail, sourceListing.name)
	return noun("source", "Manage upstream repositories", list, show, a.sourceProbe(complete),
		a.sourceOrder(complete),
		a.sourceRefresh(complete), a.sourceEnable(complete), a.sourceDisable(complete),
		a.sourceRemove(complete), a.sourceImport())
}

// signedBy says who signed a root.
func signedBy(s archive.Signer) string {
	if s.Fingerprint == "" {
		return "nobody"
	}
	return short(s.Fingerprint) + " " + s.UserID
}

func (a *app) sourceDetail(s api.Source) {
	fmt.Fprint(a.out, s.Text)
	fmt.Fprintln(a.out)
	var pairs []string
	if r := s.Accepted; r != nil {
		pairs = []string{"accepted", "release metadata of " + date(r.Date) + ", from " + r.Upstream,
			"signed by",
			signedBy(r.Signer),
			"it says", joined(", ", r.Origin, r.Suite, r.Codename), "offers",
			joined(" for ", strings.Join(r.Offers.Components, " "),
				strings.Join(r.Offers.Architectures, " "))}
	}
	a.fields(append(pairs, "last contacted", age(s.Checked), "mirrors", strings.Join(s.Mirrors, ", "))...)
	if len(s.Probes) > 0 {
		fmt.Fprintln(a.out)
		a.probes(s.Probes)
	}
	if len(s.Findings) > 0 {
		fmt.Fprintln(a.out)
		a.findings(a.out, s.Findings)
	}
}

// changeSource makes one change of a source, and tells what it came to.
func (a *app) changeSource(ctx context.Context, method, name, verb string) error {
	path := "/sources/" + url.PathEscape(name)
	if verb != "" {
		path += "/" + verb
	}
	j, err := client.Call[api.Judgement](ctx, a.client(), method, path, nil)
	if err != nil {
		return err
	}
	return a.show(j, func() {
		a.changes(j)
		if j.Revision > 0 {
			a.say("recorded as revision %d", j.Revision)
		} else {
			a.say("no changes: it is so already")
		}
	}, changeNames(j))
}

func (a *app) sourceEnable(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "enable SOURCE…", Short: "Enable sources",
		Example: "  stockade source enable reach-spares", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("source", args); err != nil {
				return err
			}
			return a.each(args, func(name string) error {
				return a.changeSource(cmd.Context(), "POST", name, "enable")
			})
		}}
}

// dependOn says what stands on a source, in words; "" where nothing does.
func dependOn(d api.Dependents) string {
	parts := standing(d.Dependents)
	if words := named("edition", "editions", d.Editions); words != "" {
		parts = append(parts, words)
	}
	if len(d.Unread) > 0 {
		parts = append(parts, "perhaps "+strings.Join(d.Unread, ", ")+", which cannot be read")
	}
	return strings.Join(parts, "; ")
}

// standing says what of the description stands on a thing.
func standing(d definition.Dependents) (parts []string) {
	for _, p := range []struct {
		one, many string
		names     []string
	}{{"proxy", "proxies", d.Proxies}, {"source", "sources", d.Sources}, {"mirror", "mirrors", d.Mirrors},
		{"lane", "lanes", d.Lanes}, {"group", "groups", d.Groups}} {
		if words := named(p.one, p.many, p.names); words != "" {
			parts = append(parts, words)
		}
	}
	if d.Machines > 0 {
		parts = append(parts, number(d.Machines, "enrolled machine"))
	}
	return parts
}

// named names things of a kind; "" where there are none.
func named(one, many string, names []string) string {
	switch len(names) {
	case 0:
		return ""
	case 1:
		return "the " + one + " " + names[0]
	}
	return "the " + many + " " + strings.Join(names, ", ")
}

// askAbout shows what depends on sources, and asks.
func (a *app) askAbout(ctx context.Context, args []string, what, after string) error {
	for _, name := range args {
		d, err := client.Get[api.Dependents](ctx, a.client(), "/dependents/source/"+url.PathEscape(name))
		if err != nil {
			return err
		}
		a.say("%s is used by: %s", name, first(dependOn(d), "nothing"))
	}
	return a.sure("This " + what + " " + strings.Join(args, ", ") + "; " + after)
}

func (a *app) sourceDisable(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "disable SOURCE…",
		Short: "Disable sources; their definitions are kept",
		Long: `Disable sources. Stockade no longer contacts them; their definitions stay. A source of a
mirror cannot be disabled: remove it from the mirror first. The command shows what uses the sources, and
asks.`,
		Example: "  stockade source disable reach-spares --yes",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("source", args); err != nil {
				return err
			}
			if err := a.askAbout(cmd.Context(), args, "disables",
				"existing editions keep it."); err != nil {
				return err
			}
			return a.each(args, func(name string) error {
				return a.changeSource(cmd.Context(), "POST", name, "disable")
			})
		}}
}

func (a *app) sourceRemove(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "remove SOURCE…",
		Short: "Remove sources from the definitions",
		Long: `Remove sources from the definitions. The command shows what uses the sources, and asks;
stockade revision restore brings them back. A source of a mirror cannot be removed: remove it from the
mirror first.`,
		Example: "  stockade source remove reach-spares --yes",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("source", args); err != nil {
				return err
			}
			if err := a.askAbout(cmd.Context(), args, "removes",
				"existing editions keep it, and stockade revision restore brings it back."); err != nil {
				return err
			}
			return a.each(args, func(name string) error {
				return a.changeSource(cmd.Context(), "DELETE", name, "")
			})
		}}
}

// joined joins what is not empty.
func joined(sep string, parts ...string) string {
	return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), sep)
}

func (a *app) probes(list []upstream.ProbeResult) {
	var rows [][]string
	ms := func(d time.Duration) string {
		if d == 0 {
			return "–"
		}
		return d.Round(100 * time.Microsecond).String()
	}
	for _, p := range list {
		what := "good, made " + date(p.RootDate)
		score := fmt.Sprintf("%d = %d+%d+%d", p.Score.Of(), p.Score.Fresh, p.Score.FirstByte, p.Score.Rate)
		switch {
		case p.Error != "":
			what, score = "down: "+p.Error, "–"
		case p.Finding.Code != "":
			what, score = string(p.Finding.Code), "–"
		}
		rows = append(rows, []string{p.Upstream.URL, p.Upstream.Region, ms(p.Lookup), ms(p.Connect),
			ms(p.TLS),
			ms(p.FirstByte), size(p.Rate) + "/s", score, what})
	}
	a.table([]column{{head: "UPSTREAM", cut: atEnd}, {head: "REGION", spare: 5},
		{head: "NAME", right: true, spare: 6}, {head: "CONNECTED", right: true, spare: 3},
		{head: "TLS", right: true, spare: 4}, {head: "FIRST BYTE", right: true, spare: 1},
		{head: "RATE", right: true}, {head: "SCORE", right: true, spare: 2}, {head: "ROOT", cut: atEnd}},
		rows)
}

func (a *app) sourceOrder(complete cobra.CompletionFunc) *cobra.Command {
	var o upstream.Ordering
	var last string
	order := &cobra.Command{Use: "order SOURCE",
		Short: "Sort the upstreams of a source by their last probe",
		Long: `Sort the upstreams of a source by their last probe, best first. The command shows the
order and asks; it is recorded as a revision.

The score has up to 100 points, relative to the best upstream in each part: 40 for current release
metadata (0 if a week behind), 30 for the time to the first byte, 30 for the transfer rate. An upstream
that is behind is placed after all current ones. One that is down, or whose release metadata is
rejected, is placed last. Lists of servers are placed after the probed upstreams.

--best keeps only the best upstreams, including candidates of the probe, and removes the others;
--region and --protocol restrict which ones count. The command shows what would be removed and what uses
it.

--last moves one upstream behind the others, whose order stays. It needs no probe.`,
		Example: "  stockade source order tarn --yes\n  stockade source order tarn --best 2 --region " +
			"north --yes", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("source", args); err != nil {
				return err
			}
			if err := o.Check(args[0]); err != nil {
				f, _ := finding.From(err)
				return usage("%s: %s", f.Text, f.WayOut)
			}
			path := "/sources/" + url.PathEscape(args[0])
			s, err := client.Get[api.Source](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			if last != "" {
				then, err := upstream.PutLast(s.Source, args[0], last)
				if err != nil {
					return err
				}
				a.reordered(s.Source.Upstreams, then)
				if err := a.sure("This moves " + last + " behind the other upstreams of " + args[0] +
					"."); err != nil {
					return err
				}
			} else if len(s.Probes) > 0 {
				fmt.Fprintf(a.err, "probed %s\n", date(s.Probes[0].At))
				best := slices.SortedStableFunc(slices.Values(s.Probes), func(x, y upstream.ProbeResult) int {
					return x.Rank - y.Rank
				})
				a.probes(best)
				then, err := o.Ordered(s.Source, args[0], s.Probes)
				if err != nil {
					return err
				}
				a.reordered(s.Source.Upstreams, then)
				if err := a.sure("This sorts the upstreams of " + args[0] + " in this order."); err != nil {
					return err
				}
			}
			j, err := client.Post[api.Judgement](cmd.Context(), a.client(), path+"/order",
				api.Ordering{Ordering: o, Last: last})
			if err != nil {
				return err
			}
			return a.show(j, func() {
				if j.Revision == 0 {
					a.say("no changes: they are in this order already")
				} else {
					a.say("recorded as revision %d. To undo it: stockade revision restore %d "+
						"--only source/%s",
						j.Revision, j.Revision-1, args[0])
				}
			}, []string{args[0]})
		}}
	order.Flags().StringVar(&last, "last", "", "move this upstream (its URL) behind the others")
	order.Flags().IntVar(&o.Best, "best", 0, "keep only this many of the best upstreams")
	order.Flags().StringVar(&o.Region, "region", "", "with --best: only upstreams of this "+
		"region")
	order.Flags().StringVar(&o.Protocol, "protocol", "",
		"with --best: only upstreams of this protocol, https or http")
	return order
}

// reordered says how the upstreams will stand.
func (a *app) reordered(before, then []definition.Upstream) {
	address := func(u definition.Upstream) string {
		text, _ := u.Address()
		return text
	}
	has := func(list []definition.Upstream, u definition.Upstream) bool {
		return slices.ContainsFunc(list,
			func(x definition.Upstream) bool { return address(x) == address(u) })
	}
	for i, u := range then {
		text := fmt.Sprintf("%2d  %s", i+1, fetch.Shown(address(u)))
		if !has(before, u) {
			text += "  (new)"
		}
		fmt.Fprintln(a.err, text)
	}
	for _, u := range before {
		if !has(then, u) {
			fmt.Fprintln(a.err, " –  "+fetch.Shown(address(u))+"  (removed)")
		}
	}
}

func (a *app) sourceRefresh(complete cobra.CompletionFunc) *cobra.Command {
	var reason string
	var detach bool
	refresh := &cobra.Command{Use: "refresh SOURCE…",
		Short:   "Download and verify the release metadata of sources",
		Example: "  stockade source refresh tarn tarn-fixes", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("source", args); err != nil {
				return err
			}
			return a.each(args, func(name string) error {
				return a.job(cmd.Context(), work{path: "/sources/" + url.PathEscape(name) + "/refresh",
					in: api.Refresh{AcceptOnce: reason}, detach: detach, asked: true,
					told: func(j api.Job) { a.refreshed(name, j) }, about: []string{name}})
			})
		}}
	refresh.Flags().StringVar(&reason, "accept-once", "",
		"accept release metadata that is older, or of another repository, once, for this "+
			"reason (wardens)")
	refresh.Flags().BoolVar(&detach, "detach", false, "do not wait for the job to end")
	return refresh
}

func (a *app) sourceProbe(complete cobra.CompletionFunc) *cobra.Command {
	var file string
	probe := &cobra.Command{Use: "probe SOURCE…",
		Short: "Measure and compare the upstreams of a source",
		Long: `Measure and compare every upstream of a source: name lookup, connection, TLS, time to
the first byte, transfer rate of a real list, and age of its release metadata. --candidates also
measures servers that a file names: one URL per line, followed by its region; a list in the format of
the clients of the family; or a Metalink (RFC 5854). Builds do not use candidates until stockade source
order SOURCE --best N adds them.`,
		Example: "  stockade source probe tarn\n  stockade source probe tarn --candidates " +
			"demo-data/site/servers.txt",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("source", args); err != nil {
				return err
			}
			var in api.Probing
			if file != "" {
				var err error
				if in.Candidates, err = a.read(file); err != nil {
					return err
				}
			}
			return a.each(args, func(name string) error {
				return a.job(cmd.Context(), work{path: "/sources/" + url.PathEscape(name) + "/probe", in: in,
					told:  func(j api.Job) { a.probes(decode[[]upstream.ProbeResult](j.Result)) },
					about: []string{name}})
			})
		}}
	probe.Flags().StringVar(&file, "candidates", "", "file with further servers; - is standard "+
		"input")
	return probe
}

func (a *app) refreshed(name string, j api.Job) {
	r := decode[struct {
		Changed  bool      `json:"changed"`
		RootDate time.Time `json:"root_date"`
		Upstream string    `json:"upstream"`
	}](j.Result)
	word := "no changes"
	if r.Changed {
		word = "new release metadata"
	}
	a.say("%s: %s, made %s, from %s", name, word, date(r.RootDate), r.Upstream)
}
