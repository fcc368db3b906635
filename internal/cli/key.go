package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
)

// decide sends what was decided about a key whose whole fingerprint was typed.
func (a *app) decide(ctx context.Context, verb string, typed []string,
	d api.Decision) (k api.Key, err error) {
	if d.Fingerprint, err = trust.ParseFingerprint(strings.Join(typed, "")); err != nil {
		return k, err
	}
	return client.Post[api.Key](ctx, a.client(), "/keys/"+d.Fingerprint+"/"+verb, d)
}

func (a *app) withdrawCommand(complete cobra.CompletionFunc) *cobra.Command {
	var d api.Decision
	c := &cobra.Command{
		Use: "withdraw FINGERPRINT", Short: "Take back that a key may sign one source",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		Long: `Take back the decision that a key may sign one source, and no other. The words in a
definition that made the decision do not make it again; vouching anew, with other
evidence, does.`,
		Example: "  stockade key withdraw \"7C1B 22E0 …\" --source kelp --reason \"it was compared with " +
			"the wrong sheet\"\n\n" +
			"On the demonstration, whose keys are made up as it starts:\n" +
			"  stockade key withdraw $(stockade key list --source kelp -o ids) --source kelp " +
			"--reason \"a trial\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if d.Source == "" || d.Reason == "" {
				return usage("--source and --reason are needed: for which source, and why")
			}
			k, err := a.decide(cmd.Context(), "withdraw", args, d)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				a.say("%s may no longer sign %s", short(k.Fingerprint), d.Source)
				a.restsOn(k)
			}, []string{k.Fingerprint})
		}}
	c.Flags().StringVar(&d.Source, "source", "", "the source that it may no longer sign")
	c.Flags().StringVar(&d.Reason, "reason", "", "why")
	return c
}

func (a *app) retireKeyCommand(complete cobra.CompletionFunc) *cobra.Command {
	var d api.Decision
	c := &cobra.Command{
		Use: "retire FINGERPRINT", Short: "Put a key away that decides nothing any more",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		Long: `Put a key away that nothing names and nobody vouches for any more: lists leave it
out. What was decided about it stays in the journal and under key show, and a bar
stays in force. Bringing the certificate in again takes it back.`,
		Example: "  stockade key retire \"7C1B 22E0 …\" --reason \"Kelp signs with another since 2025\"\n\n" +
			"On the demonstration every key is in use, so this is refused, and says why:\n" +
			"  stockade key retire $(stockade key list --source kelp -o ids) --reason \"a trial\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if d.Reason == "" {
				return usage("--reason is needed: why it is put away")
			}
			k, err := a.decide(cmd.Context(), "retire", args, d)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				a.say("%s is put away; stockade key list --retired shows it", short(k.Fingerprint))
			}, []string{k.Fingerprint})
		}}
	c.Flags().StringVar(&d.Reason, "reason", "", "why")
	return c
}

// restsOn tells which editions and lanes stand on a key's signatures.
func (a *app) restsOn(k api.Key) {
	if len(k.RestsOn) == 0 {
		a.say("no edition that stands rests on it")
		return
	}
	a.say("these rest on it and stay as they are: %s", strings.Join(k.RestsOn, ", "))
	if len(k.Lanes) > 0 {
		a.say("of them, machines follow what is shown by: %s", strings.Join(k.Lanes, ", "))
	}
	a.say("build their mirrors anew, and move the lanes; files for machines leave the key out from now on")
}
