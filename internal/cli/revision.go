package cli

import (
	"fmt"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) revisionCommand() *cobra.Command {
	list := lister(a, "List revisions of the definitions, newest first", "  stockade revision list",
		"/revisions", listing[api.Revision]{
			columns: []column{{head: "REVISION", right: true}, {head: "WHEN"}, {head: "BY"},
				{head: "SUMMARY", cut: atEnd}},
			row: func(r api.Revision) []string {
				return []string{strconv.FormatInt(r.ID, 10), date(r.At), r.By, r.Summary}
			},
			name:  func(r api.Revision) string { return strconv.FormatInt(r.ID, 10) },
			empty: "no revisions. To record definitions: stockade record FILE",
		})
	get := func(cmd *cobra.Command, id string) (api.Revision, error) {
		if n, err := strconv.Atoi(id); err != nil || n < 1 {
			return api.Revision{}, usageDo("to list the numbers: stockade revision list",
				"%q is not the number of a revision", id)
		}
		return client.Get[api.Revision](cmd.Context(), a.client(), "/revisions/"+id)
	}
	show := &cobra.Command{Use: "show REVISION",
		Short: "Show all definitions as they were after a revision", Example: "  stockade revision show 1",
		Args: cobra.ExactArgs(1), RunE: func(cmd *cobra.Command, args []string) error {
			r, err := get(cmd, args[0])
			if err != nil {
				return err
			}
			return a.show(r, func() { fmt.Fprint(a.out, r.Whole) }, []string{args[0]})
		}}
	diff := &cobra.Command{Use: "diff REVISION", Short: "Show what a revision changed",
		Example: "  stockade revision diff 1", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			r, err := get(cmd, args[0])
			if err != nil {
				return err
			}
			j := api.Judgement{Changes: r.Changes}
			a.heading(fmt.Sprintf("from revision %d to revision %d, by %s on %s: %s", r.ID-1, r.ID, r.By,
				date(r.At),
				r.Summary))
			return a.show(r.Changes, func() { a.changes(j) }, changeNames(j))
		}}
	restore := &cobra.Command{
		Use:   "restore REVISION",
		Short: "Restore definitions from a revision",
		Args:  cobra.ExactArgs(1),
		Long: `Restore the definitions, or with --only a single object, as they were after a revision.
The command shows the changes first. Decisions about keys do not change.`,
		Example: "  stockade revision restore 1 --only source/tarn --yes\n  stockade revision restore 1 " +
			"--yes",
	}
	var only string
	restore.Flags().StringVar(&only, "only", "", "restore only this object (KIND/NAME), such "+
		"as source/tarn")
	restore.RunE = func(cmd *cobra.Command, args []string) error {
		if _, err := get(cmd, args[0]); err != nil {
			return err
		}
		path := "/revisions/" + args[0] + "/restore"
		would, err := client.Get[api.Judgement](cmd.Context(), a.client(),
			path+"?object="+url.QueryEscape(only))
		if err != nil {
			return err
		}
		if len(would.Changes) == 0 {
			return a.show(would, func() {
				a.say("no changes: the definitions are those of revision %s", args[0])
			}, nil)
		}
		if !a.yes {
			was := a.out
			a.out = a.err // the question is about what is shown
			a.changes(would)
			a.losses(would)
			a.findings(a.err, withoutNotes(would.Findings))
			a.out = was
			what := fmt.Sprintf("%d objects", len(would.Changes))
			if len(would.Changes) == 1 {
				what = would.Changes[0].Kind + " " + would.Changes[0].Name
			}
			if err := a.sure("This restores " + what + " from revision " + args[0] +
				". Decisions about keys do not change."); err != nil {
				return err
			}
		}
		j, err := client.Post[api.Judgement](cmd.Context(), a.client(), path, api.Restore{Object: only})
		if err != nil {
			return err
		}
		return a.show(j, func() {
			a.changes(j)
			a.findings(a.err, withoutNotes(j.Findings))
			a.say("recorded as revision %d", j.Revision)
		}, changeNames(j))
	}
	return noun("revision", "Manage revisions of the definitions", list, show, diff, restore)
}
