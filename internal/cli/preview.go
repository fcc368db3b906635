package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/core/mirror"
	"stockade/internal/api"
)

func (a *app) mirrorPreview(complete cobra.CompletionFunc) *cobra.Command {
	var in api.PreviewAsked
	var same bool
	c := &cobra.Command{Use: "preview MIRROR",
		Short: "Show which packages a build would add, change or remove",
		Long: `Show which packages a build would add, change or remove now, with the advisories of
each: compared with the newest edition, another edition, or the edition that a lane shows. Stockade
downloads indexes, but no packages, so problems inside packages do not show yet.`,
		Example: "  stockade mirror preview barrage\n  stockade mirror preview barrage --lane steady",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("mirror", args); err != nil {
				return err
			}
			if in.Lane != "" && in.Against != "" {
				return usage("--lane and --against both name an edition to compare with: " +
					"remove one of them")
			}
			changes := 0
			err := a.job(cmd.Context(), work{path: "/mirrors/" + url.PathEscape(args[0]) + "/preview", in: in,
				asked: true,
				told:  func(j api.Job) { a.previewed(decode[mirror.Preview](j.Result)) },
				ids: func(j api.Job) (out []string) {
					for _, c := range decode[mirror.Preview](j.Result).Changes {
						out = append(out, c.Name)
					}
					changes = len(out)
					return out
				}})
			if err != nil {
				return err
			}
			return differs(same, changes)
		}}
	c.Flags().StringVar(&in.Lane, "lane", "", "compare with the edition that this lane shows")
	c.Flags().StringVar(&in.Against, "against", "",
		"compare with this edition (MIRROR/N); the newest by default")
	c.Flags().BoolVar(&same, "same", false, "exit with 1 if a build would change anything")
	c.RegisterFlagCompletionFunc("lane", a.names("/lanes", 0, byName))
	c.RegisterFlagCompletionFunc("against", a.names("/editions", 0, byName))
	return c
}

// previewed says what a preview came to.
func (a *app) previewed(p mirror.Preview) {
	against := "nothing, as there is no edition yet"
	if p.Against != "" {
		against = p.Against
	}
	if n := p.Findings.Count(finding.Error); n > 0 {
		fmt.Fprintf(a.out, "Building %s now would seal nothing, because of %s. It chose "+
			"these packages:\n", p.Mirror, number(n, "error"))
	}
	counts := map[string]int{}
	for _, c := range p.Changes {
		counts[c.Action]++
	}
	fmt.Fprintf(a.out, "Building %s now would change %s compared with %s (%d added, %d removed)\n", p.Mirror,
		number(counts[edition.Changed], "package"), against, counts[edition.Added], counts[edition.Removed])
	rows := [][]string{}
	for _, c := range p.Changes {
		rows = append(rows, changeListing.row(c))
	}
	a.table(changeListing.columns, rows)
	a.say("%d packages in total; %s to download", p.Packages, size(p.FetchBytes))
}
