package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"stockade/core/edition"
	"stockade/internal/api"
	"stockade/internal/client"
)

// mirrorWhy lets the command that shows mirrors tell why the newest edition has a package.
func (a *app) mirrorWhy(show *cobra.Command) {
	plain := show.RunE
	var name string
	show.Flags().StringVar(&name, "why", "", "show why the newest edition contains this package")
	show.RunE = func(cmd *cobra.Command, args []string) error {
		if !cmd.Flags().Changed("why") {
			return plain(cmd, args)
		}
		if len(args) != 1 {
			return usage("--why works for one mirror")
		}
		if err := plainNames("mirror", args); err != nil {
			return err
		}
		m, err := client.Get[api.Mirror](cmd.Context(), a.client(), "/mirrors/"+url.PathEscape(args[0]))
		if err != nil {
			return err
		}
		if len(m.Editions) == 0 {
			return usageDo("build it, or show what a build would contain: stockade mirror "+
				"preview "+m.Name,
				"%s has no edition yet", m.Name)
		}
		newest := m.Editions[0]
		all, err := client.All[api.Reasons](cmd.Context(), a.client(),
			fmt.Sprintf("/editions/%s/%d/why?package=%s",
				url.PathEscape(newest.Mirror), newest.Number, url.QueryEscape(name)))
		if err != nil {
			return err
		}
		var ids []string
		for _, r := range all {
			ids = append(ids, r.Chain[len(r.Chain)-1].Name)
		}
		return a.show(all, func() {
			fmt.Fprintf(a.out, "in %s/%d\n", newest.Mirror, newest.Number)
			for _, r := range all {
				a.reasons(r.Chain)
			}
		}, ids)
	}
}

// reasons shows why a package is in an edition, a step a line.
func (a *app) reasons(chain []edition.Item) {
	for i, it := range chain {
		fmt.Fprintf(a.out, "%*s%s %s (%s) of %s: %s\n", 2*i, "", line(it.Name), line(it.Version),
			line(it.Arch),
			line(it.Source), line(it.Reason()))
	}
	if last := chain[len(chain)-1]; !last.Wanted {
		fmt.Fprintf(a.out, "%*sthe edition records nothing more\n", 2*len(chain), "")
	}
}
