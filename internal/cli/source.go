package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/mirror"
	"stockade/internal/api"
	"stockade/internal/client"
)

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

	refresh := a.sourceRefresh(complete)
	probe := a.sourceProbe(complete)
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

func (a *app) sourceRefresh(complete cobra.CompletionFunc) *cobra.Command {
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
	return refresh
}

func (a *app) sourceProbe(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "probe SOURCE", Short: "Measure and compare every upstream of a source",
		Example: "  stockade source probe tarn", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.job(cmd.Context(), "/sources/"+url.PathEscape(args[0])+"/probe", nil, false,
				func(j api.Job) { a.probes(decode[[]mirror.ProbeResult](j.Result)) })
		}}
}
