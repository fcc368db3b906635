package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) poolCommand() *cobra.Command {
	usage := &cobra.Command{
		Use: "usage", Short: "Show what uses the disk", Example: "  stockade pool usage", Args: cobra.NoArgs,
		Long: `Show what uses the disk: the pool as a whole; the files of each edition; and the files
that only this edition uses. Retiring the edition and sweeping the pool frees the latter.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			u, err := client.Get[api.PoolUsage](cmd.Context(), a.client(), "/pool")
			if err != nil {
				return err
			}
			var ids []string
			for _, e := range u.Editions {
				ids = append(ids, e.Name)
			}
			return a.show(u, func() { a.poolUsage(u) }, ids)
		}}
	var detach bool
	sweep := &cobra.Command{
		Use: "sweep", Short: "Remove files that no edition uses",
		Example: "  stockade pool sweep --yes",
		Args:    cobra.NoArgs,
		Long: `Remove files from the pool that no edition, no house source and no next build uses, and
files that were moved aside because they were damaged. The command first shows what would be removed. It
waits for builds and other jobs that add files to the pool, and names them. Ctrl-C stops following the
job; stockade job stop ends it.`,
		RunE: func(cmd *cobra.Command, args []string) error {
			if !a.yes {
				u, err := client.Get[api.PoolUsage](cmd.Context(), a.client(), "/pool")
				if err != nil {
					return err
				}
				goes := api.Space{Files: u.Unheld.Files + u.Aside.Files,
					Bytes: u.Unheld.Bytes + u.Aside.Bytes}
				if goes.Files == 0 {
					a.say("nothing to remove: everything in the pool is in use")
					return nil
				}
				if err := a.sure("This removes " + space(goes) + " of " + space(u.Total) +
					" from the pool."); err != nil {
					return err
				}
			}
			return a.job(cmd.Context(), work{path: "/pool/sweep", detach: detach, told: func(j api.Job) {
				a.say("removed %s", space(decode[api.Space](j.Result)))
			}})
		}}
	sweep.Flags().BoolVar(&detach, "detach", false, "do not wait for the job to end")
	return noun("pool", "Manage the file store that all editions share", usage, sweep)
}

// space says how much, with the files.
func space(s api.Space) string {
	if s.Files == 1 {
		return "1 file, " + size(s.Bytes)
	}
	return fmt.Sprintf("%d files, %s", s.Files, size(s.Bytes))
}

func (a *app) poolUsage(u api.PoolUsage) {
	a.fields("pool", space(u.Total), "not used", space(u.Unheld), "moved aside", space(u.Aside),
		"free on the disk", size(u.Free))
	var rows [][]string
	for _, e := range u.Editions {
		lanes := strings.Join(e.Lanes, ", ")
		if e.Until != nil {
			lanes = "retired; kept until " + date(*e.Until)
		}
		rows = append(rows, []string{e.Name, strconv.Itoa(e.Held.Files), size(e.Held.Bytes),
			size(e.Alone.Bytes), lanes})
	}
	fmt.Fprintln(a.out)
	a.table([]column{{head: "EDITION"}, {head: "FILES", right: true, spare: 1},
		{head: "HOLDS", right: true}, {head: "ALONE", right: true}, {head: "LANES", cut: atEnd}}, rows)
	if n := u.Unheld.Files + u.Aside.Files; n > 0 {
		a.say("to remove %s: stockade pool sweep",
			space(api.Space{Files: n, Bytes: u.Unheld.Bytes + u.Aside.Bytes}))
	}
}
