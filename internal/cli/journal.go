package cli

import (
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) journalCommand() *cobra.Command {

	list := a.journalList()
	verify := a.journalVerify()
	return noun("journal", "The tamper-evident record of decisions and changes", list, verify)
}

func (a *app) journalList() *cobra.Command {
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
					slices.Sort(d)
					return []string{strconv.FormatInt(e.Number, 10), date(e.At), e.By, e.Action,
						e.Object, strings.Join(d, "; ")}
				}, func(e api.JournalEntry) string { return strconv.FormatInt(e.Number, 10) },
				"nothing was journalled yet")
		}}
	list.Flags().StringVar(&search, "search", "", "only entries with this in object, action or account")
	return list
}

func (a *app) journalVerify() *cobra.Command {
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
	return verify
}
