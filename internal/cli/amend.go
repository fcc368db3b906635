package cli

import (
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) amendCommand() *cobra.Command {
	var from, lift, pin, leave string
	amend := &cobra.Command{Use: "amend KIND NAME",
		Short: "Change one setting of a mirror or a group",
		Long: `Change one setting of a mirror or a group. The command shows the change and asks before
it records it as a new revision; stockade revision restore undoes it. Run stockade mirror build
afterwards to put it into an edition. The fixes that stockade mirror prove prints are commands of this
form.`,
		Example: "  stockade amend mirror tarn-whole --from reach-lamps --yes",
		Args:    cobra.ExactArgs(2), ValidArgs: []string{"mirror", "group"},
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames(args[0], args[1:]); err != nil {
				return err
			}
			change := definition.Amendment{Object: strings.Join(args, " ")}
			switch {
			case from != "":
				change.Kind, change.Name = definition.AddSource, from
			case lift != "":
				change.Kind, change.Name = definition.LiftExcept, lift
			case leave != "":
				change.Kind, change.Name = definition.LeaveOut, leave
			case pin != "":
				r, err := archive.ParseWant(pin)
				if err != nil || r.Op != archive.Equal {
					return usage("the pin %s is not NAME = VERSION", strconv.Quote(pin))
				}
				change.Kind, change.Name, change.Version = definition.MovePin, r.Name, r.Version
			}
			in := api.AmendAsked{Amendment: change, Look: true}
			would, err := client.Post[api.Judgement](cmd.Context(), a.client(), "/definitions/amend", in)
			if err != nil {
				return err
			}
			a.changes(would)
			if would.Recordable { // else the service says why not
				if err := a.sure("After this change, " + change.String() + "."); err != nil {
					return err
				}
			}
			in.Look = false
			j, err := client.Post[api.Judgement](cmd.Context(), a.client(), "/definitions/amend", in)
			if err != nil {
				return err
			}
			return a.show(j, func() {
				a.findings(a.err, withoutNotes(j.Findings))
				a.say("recorded as revision %d. To undo it: stockade revision restore %d "+
					"--only %s/%s",
					j.Revision, j.Revision-1, args[0], args[1])
			}, []string{args[1]})
		}}
	amend.Flags().StringVar(&from, "from", "", "mirror: also take packages from this source")
	amend.Flags().StringVar(&lift, "lift", "",
		"mirror: remove the exception for this package; an exception that is a pattern is "+
			"removed whole")
	amend.Flags().StringVar(&pin, "pin", "",
		"group: pin \"NAME = VERSION\", in place of the version pinned now")
	amend.Flags().StringVar(&leave, "leave", "",
		"remove this package from the sets that must be installable together; of a group: from "+
			"its roles")
	amend.MarkFlagsOneRequired("from", "lift", "pin", "leave")
	amend.MarkFlagsMutuallyExclusive("from", "lift", "pin", "leave")
	return amend
}

// amending gives the option of the command that makes a change.
func amending(c definition.Amendment) string {
	option := map[string]string{
		definition.AddSource:  "--from",
		definition.LiftExcept: "--lift",
		definition.MovePin:    "--pin",
		definition.LeaveOut:   "--leave",
	}[c.Kind]
	if c.Kind == definition.MovePin {
		return fmt.Sprintf("%s '%s = %s'", option, c.Name, c.Version)
	}
	return option + " " + c.Name
}
