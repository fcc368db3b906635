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
	list := &cobra.Command{Use: "list", Short: "List what needs somebody, and what was set aside",
		Example: "  stockade finding list", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			o, err := client.Get[api.Told](cmd.Context(), a.client(), "/findings")
			if err != nil {
				return err
			}
			return a.showTold(o)
		}}
	return noun("finding", "What needs somebody", list, a.setAside(), a.takeUp())
}

func (a *app) showTold(t api.Told) error {
	var names []string
	for _, f := range t.NeedsYou {
		names = append(names, string(f.Code)+" "+f.Object)
	}
	return a.show(t, func() {
		a.findings(a.out, t.NeedsYou)
		if len(t.NeedsYou) == 0 {
			a.say("nothing of what was looked at needs somebody")
		}
		for _, x := range t.Aside {
			fmt.Fprintf(a.out, "%s %s\n", a.paint(faint, "aside until "+x.Until.UTC().Format(time.DateOnly)),
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
		way = "there are: " + strings.Join(known[:min(len(known), 8)], ", ")
	}
	return nil, usageDo(way, "nothing with the code %s is told of %q", finding.Harmless(code),
		object)
}

func (a *app) setAside() *cobra.Command {
	var until, reason string
	c := &cobra.Command{Use: "set-aside CODE OBJECT", Short: "Set a finding aside until a date",
		Long: `Set what is told with a code of an object aside until a date, with a reason that the journal
keeps: what needs somebody does not have it until then. What gets worse, or says something new of
the object, is told all the same; the page of the object goes on saying it.`,
		Example: "  stockade finding set-aside mirror.missing-dependency " +
			"\"mirror tarn-whole\" --until $(date -d +30days +%F) --reason \"the release desk knows\"",
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			at, err := time.Parse(time.DateOnly, until)
			if err != nil {
				return usage("--until %q is not a day as 2027-01-31", until)
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
	c.Flags().StringVar(&until, "until", "", "the day (YYYY-MM-DD, UTC) on which it is told again")
	c.Flags().StringVar(&reason, "reason", "", "why it can wait")
	c.MarkFlagRequired("until")
	c.MarkFlagRequired("reason")
	return c
}

func (a *app) takeUp() *cobra.Command {
	return &cobra.Command{Use: "take-up CODE OBJECT", Short: "Take up again what was set aside",
		Example: "  stockade finding take-up mirror.missing-dependency \"mirror tarn-whole\"",
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
