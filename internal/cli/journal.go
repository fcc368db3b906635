package cli

import (
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) journalCommand() *cobra.Command {
	return noun("journal", "The tamper-evident record of decisions and changes", a.journalList(),
		a.journalVerify())
}

var journalListing = listing[api.JournalEntry]{
	columns: []column{{head: "ENTRY", right: true}, {head: "WHEN"}, {head: "BY", spare: 1},
		{head: "ACTION"}, {head: "OBJECT", cut: atEnd}, {head: "DETAIL", spare: 2, cut: atEnd}},
	row: func(e api.JournalEntry) []string {
		var d []string
		for k, v := range e.Detail {
			if v != "" {
				d = append(d, k+": "+v)
			}
		}
		slices.Sort(d)
		return []string{strconv.FormatInt(e.Number, 10), date(e.At), e.By, e.Action, e.Object,
			strings.Join(d, "; ")}
	},
	name:  func(e api.JournalEntry) string { return strconv.FormatInt(e.Number, 10) },
	empty: "nothing was journalled yet",
}

func (a *app) journalList() *cobra.Command {
	var search, since string
	var limit int
	list := &cobra.Command{Use: "list", Short: "Who did what, newest first",
		Example: "  stockade journal list --search key\n  stockade journal list --since 2d",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			query, l := url.Values{"q": {search}}, journalListing
			if since != "" {
				at, err := parseWhen(since, time.Now())
				if err != nil {
					return usage("--since: %v", err)
				}
				query.Set("since", at.UTC().Format(time.RFC3339))
			}
			if search != "" || since != "" {
				l.empty = "no entry is like that"
			}
			return newest(a, cmd.Context(), "/journal", query, limit, l)
		}}
	list.Flags().StringVar(&search, "search", "", "only entries with this in object, action or account")
	list.Flags().StringVar(&since, "since", "",
		"only entries since then: 2d, 2026-11-24, \"2026-11-24 06:30\"")
	list.Flags().IntVar(&limit, "limit", 200, "how many at most")
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
