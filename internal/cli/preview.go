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
		Long: `Show which packages a build would add, change or remove now, with the advisories that they
are published for: against the newest edition, another one, or what a lane shows. Indexes are
fetched; no package is, so what would be found inside them is not known yet.`,
		Example: "  stockade mirror preview barrage\n  stockade mirror preview barrage --lane steady",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("mirror", args); err != nil {
				return err
			}
			if in.Lane != "" && in.Against != "" {
				return usage("--lane and --against both say what to compare with: take one of the two out")
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
	c.Flags().StringVar(&in.Lane, "lane", "", "compare with what this lane shows")
	c.Flags().StringVar(&in.Against, "against", "",
		"MIRROR/N: compare with this edition; the newest if left out")
	c.Flags().BoolVar(&same, "same", false, "ask whether a build would change nothing: exit with 1 where "+
		"it would")
	c.RegisterFlagCompletionFunc("lane", a.names("/lanes", 0, byName))
	c.RegisterFlagCompletionFunc("against", a.names("/editions", 0, byName))
	return c
}

// previewed says what a preview came to.
func (a *app) previewed(p mirror.Preview) {
	against := "nothing: no edition stands yet"
	if p.Against != "" {
		against = p.Against
	}
	if n := p.Findings.Count(finding.Error); n > 0 {
		fmt.Fprintf(a.out, "a build of %s now would seal nothing (findings of severity error: %d); this is "+
			"what it chose\n", p.Mirror, n)
	}
	counts := map[string]int{}
	for _, c := range p.Changes {
		counts[c.Action]++
	}
	fmt.Fprintf(a.out, "a build of %s now, against %s: %d added, %d changed, %d removed\n", p.Mirror, against,
		counts[edition.Added], counts[edition.Changed], counts[edition.Removed])
	rows := [][]string{}
	for _, c := range p.Changes {
		rows = append(rows, changeListing.row(c))
	}
	a.table(changeListing.columns, rows)
	a.say("%d packages in all; %s to fetch", p.Packages, size(p.FetchBytes))
}
