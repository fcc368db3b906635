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
		Long: `Make one change to a mirror or a group, after showing it: the ways out that a proof tells of are
such. It is recorded as a revision, and what was described before is one step away. A build is what
makes an edition of it.`,
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
				if err := a.sure("After this " + change.String() + "."); err != nil {
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
				a.say("recorded as revision %d; as it was before: stockade revision restore %d --only %s/%s",
					j.Revision, j.Revision-1, args[0], args[1])
			}, []string{args[1]})
		}}
	amend.Flags().StringVar(&from, "from", "", "of a mirror: take from this source, too")
	amend.Flags().StringVar(&lift, "lift", "",
		"of a mirror: no longer except this package; a pattern goes whole")
	amend.Flags().StringVar(&pin, "pin", "",
		`of a group: what it stays on, "NAME = VERSION", in place of another version`)
	amend.Flags().StringVar(&leave, "leave", "",
		"leave this package out of the sets that go together, of a group its roles")
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
