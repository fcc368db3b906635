package cli

import (
	"fmt"
	"net/url"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) findingCommand() *cobra.Command {
	list := &cobra.Command{Use: "list", Short: "List findings that need attention, and snoozed ones",
		Example: "  stockade finding list", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := client.Get[api.Told](cmd.Context(), a.client(), "/findings")
			if err != nil {
				return err
			}
			return a.showTold(o)
		}}
	return noun("finding", "Manage findings that need attention", list, a.setAside(), a.takeUp())
}

func (a *app) showTold(t api.Told) error {
	var names []string
	for _, f := range t.NeedsYou {
		names = append(names, string(f.Code)+" "+f.Object)
	}
	return a.show(t, func() {
		a.findings(a.out, t.NeedsYou)
		if len(t.NeedsYou) == 0 {
			a.say("No findings need attention.")
		}
		for _, x := range t.Aside {
			fmt.Fprintf(a.out, "%s %s\n", a.paint(faint,
				"snoozed until "+x.Until.UTC().Format(time.DateOnly)),
				x.Finding.Code)
			a.hang(a.out, "  ", 2, x.Finding.Object+": "+x.Finding.Text)
			a.hang(a.out, "  by "+x.By+": ", 2, x.Reason)
		}
	}, names)
}

// meant finds the findings with a code, on an object, among some.
func meant(all []finding.Finding, code, object string) ([]finding.Finding, error) {
	var known []string
	var out []finding.Finding
	for _, f := range all {
		if f.Code == finding.Code(code) && f.Object == object {
			out = append(out, f)
		}
		known = append(known, string(f.Code)+" of \""+f.Object+"\"")
	}
	if len(out) > 0 {
		return out, nil
	}
	way := "stockade finding list"
	if len(known) > 0 {
		way = "existing: " + strings.Join(known[:min(len(known), 8)], ", ")
	}
	return nil, usageDo(way, "no finding with the code %s exists for %q", finding.Harmless(code),
		object)
}

func (a *app) setAside() *cobra.Command {
	var until, reason string
	c := &cobra.Command{Use: "snooze CODE OBJECT", Aliases: []string{"set-aside"},
		Short: "Snooze a finding until a date",
		Long: `Snooze a finding until a date, so that the list of findings that need attention leaves
it out. The journal records the reason. The finding returns before that date if it gets worse or if its
text changes. The page of the object shows it all the time.`,
		Example: "  stockade finding snooze mirror.missing-dependency " +
			"\"mirror tarn-whole\" --until $(date -d +30days +%F) --reason \"the release desk knows\"",
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := time.Parse(time.DateOnly, until)
			if err != nil {
				return usage("--until %q is not a date such as 2027-01-31", until)
			}
			o, err := client.Get[api.Told](cmd.Context(), a.client(), "/findings")
			if err != nil {
				return err
			}
			all, err := meant(o.NeedsYou, args[0], args[1])
			for _, f := range all {
				if err == nil {
					o, err = client.Post[api.Told](cmd.Context(), a.client(), "/aside",
						api.AsideAsked{Object: f.Object, Code: f.Code, Cause: f.Cause, Severity: f.Severity,
							Text: f.Text, Until: at, Reason: reason})
				}
			}
			if err != nil {
				return err
			}
			return a.showTold(o)
		}}
	c.Flags().StringVar(&until, "until", "", "date on which the finding returns (YYYY-MM-DD, UTC)")
	c.Flags().StringVar(&reason, "reason", "", "reason why it can wait")
	c.MarkFlagRequired("until")
	c.MarkFlagRequired("reason")
	return c
}

func (a *app) takeUp() *cobra.Command {
	return &cobra.Command{Use: "wake CODE OBJECT", Aliases: []string{"take-up"},
		Short:   "End the snooze of a finding",
		Example: "  stockade finding wake mirror.missing-dependency \"mirror tarn-whole\"",
		Args:    cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := client.Get[api.Told](cmd.Context(), a.client(), "/findings")
			if err != nil {
				return err
			}
			var aside []finding.Finding
			for _, x := range o.Aside {
				aside = append(aside, x.Finding)
			}
			all, err := meant(aside, args[0], args[1])
			for _, f := range all {
				query := url.Values{"object": {f.Object}, "code": {string(f.Code)}, "cause": {f.Cause},
					"severity": {string(f.Severity)}, "text": {f.Text}}
				if err == nil {
					o, err = client.Call[api.Told](cmd.Context(), a.client(), "DELETE",
						"/aside?"+query.Encode(), nil)
				}
			}
			if err != nil {
				return err
			}
			return a.showTold(o)
		}}
}
