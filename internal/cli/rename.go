package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) renameCommand() *cobra.Command {
	return &cobra.Command{Use: "rename KIND NAME TO",
		Short: "Rename an object and every reference to it",
		Long: `Rename an object and every reference to it, in one revision.

A renamed source stays the same repository: Stockade still rejects metadata older than the last it
accepted. Vouches name their source, so the command makes them again under the new name, with their
evidence; that needs a warden, and a second one if a rule requires two. Existing editions contain the
source under its old name, which no longer has vouched keys: build the mirror again and move its lanes
before you write new files for machines.

A mirror that has editions keeps its name, because their seals contain it. A lane that was moved keeps
its name, because the files of machines contain it.`,
		Example: "  stockade rename group test-bench bench --yes",
		Args:    cobra.ExactArgs(3),
		RunE: func(cmd *cobra.Command, args []string) error {
			in := api.RenameAsked{Kind: args[0], Name: args[1], To: args[2], Look: true}
			would, err := client.Post[api.Judgement](cmd.Context(), a.client(), "/definitions/rename", in)
			if err != nil {
				return err
			}
			a.changes(would)
			asked := fmt.Sprintf("This renames the %s %s to %s.", in.Kind, in.Name, in.To)
			if err := a.sure(asked); err != nil {
				return err
			}
			in.Look = false
			j, err := client.Post[api.Judgement](cmd.Context(), a.client(), "/definitions/rename", in)
			if err != nil {
				return err
			}
			return a.show(j, func() {
				a.findings(a.err, withoutNotes(j.Findings))
				a.say("renamed, as revision %d", j.Revision)
			}, []string{in.To})
		}}
}
