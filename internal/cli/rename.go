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
		Long: `Give what is described another name, as one revision in which all that names it follows. A source
stays the repository that it is: what was accepted of it goes on guarding against older roots. Who
vouched did so for a name, so that vouches for it are made anew by who renames it, on the evidence
that there is: that needs a warden, and a second one where a rule says so. Editions that stand have a renamed source under its old name, for
which nobody vouches any more: build again and move the lanes before machines get files anew. A mirror of which
editions stand keeps its name, which is in their seals, and a lane that was moved keeps the name
that machines have in their files.`,
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
