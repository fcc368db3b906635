package cli

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

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

func (a *app) keyCommand() *cobra.Command {
	completeKeys := a.names("/keys", func(m map[string]any) string {
		s, _ := m["fingerprint"].(string)
		return s
	})
	add := a.keyAdd()
	list := a.keyList()
	show := a.keyShow(completeKeys)
	vouch := a.keyVouch()
	bar := a.keyBar(completeKeys)
	return noun("key", "Certificates, and who may sign what", add, list, show, vouch,
		a.withdrawCommand(completeKeys), bar, a.retireKeyCommand(completeKeys))
}

func (a *app) showKeys(all []api.Key) error {
	var rows [][]string
	var names []string
	for _, k := range all {
		names = append(names, k.Fingerprint)
		rows = append(rows, []string{short(k.Fingerprint), strings.Join(k.UserIDs, "; "), partName(k.Primary),
			decisions(k), worst(k.Findings)})
	}
	if all == nil {
		all = []api.Key{}
	}
	return a.show(all, func() {
		a.table([]string{"FINGERPRINT", "USER ID", "KIND", "DECISION", "FINDINGS"}, rows)
		if len(rows) == 0 {
			a.say("no key was brought in yet: stockade key add FILE")
		}
	}, names)
}

func partName(p trust.Part) string {
	if p.Algorithm == "RSA" || p.Algorithm == "DSA" {
		return fmt.Sprintf("%s %d", p.Algorithm, p.Bits)
	}
	return p.Algorithm
}

func decisions(k api.Key) string {
	if k.Site {
		return "site key"
	}
	if k.Barred != nil {
		return "barred"
	}
	if k.Retired {
		return "put away"
	}
	if len(k.Vouched) == 0 {
		return "none yet"
	}
	var s []string
	for _, v := range k.Vouched {
		s = append(s, v.Source)
	}
	return "vouched for " + strings.Join(s, ", ")
}

func (a *app) keyDetail(k api.Key) {
	a.fields("fingerprint", short(k.Fingerprint), "user ids", strings.Join(k.UserIDs, "; "), "named",
		strings.Join(k.Names, ", "), "decision", decisions(k),
		"needed by", strings.Join(k.NeededBy, ", "), "brought in",
		strings.TrimPrefix(date(k.Added)+" by "+k.AddedBy, "– by "))
	for _, v := range k.Vouched {
		a.fields("vouched for", v.Source+", "+date(v.At)+" by "+v.By+": "+v.Evidence)
	}
	if k.Barred != nil {
		a.fields("barred", date(k.Barred.At)+" by "+k.Barred.By+": "+k.Barred.Reason)
	}
	a.fields("rests on it", strings.Join(k.RestsOn, ", "), "shown by", strings.Join(k.Lanes, ", "))
	var rows [][]string
	for i, p := range append([]trust.Part{k.Primary}, k.Subkeys...) {
		role := "subkey"
		if i == 0 {
			role = "primary"
		}
		ends, can := "never", "no"
		if !p.Expires.IsZero() {
			ends = p.Expires.Format(time.DateOnly)
		}
		if p.CanSign {
			can = "yes"
		}
		if p.Revoked {
			ends = "withdrawn: " + p.Reason
		}
		rows = append(rows, []string{role, short(p.Fingerprint), partName(p), can,
			p.Created.Format(time.DateOnly), ends})
	}
	fmt.Fprintln(a.out)
	a.table([]string{"PART", "FINGERPRINT", "KIND", "SIGNS", "MADE", "ENDS"}, rows)
	if len(k.History) > 0 {
		rows = nil
		for _, h := range k.History {
			rows = append(rows, []string{date(h.At), strings.TrimPrefix(h.Action, "key."), h.Source, h.By,
				h.Text})
		}
		fmt.Fprintln(a.out)
		a.table([]string{"WHEN", "WHAT", "SOURCE", "BY", "WHY"}, rows)
	}
	if len(k.Findings) > 0 {
		fmt.Fprintln(a.out)
		a.findings(a.out, k.Findings)
	}
}

func (a *app) keyAdd() *cobra.Command {
	return &cobra.Command{Use: "add FILE…", Short: "Bring certificates in; this decides nothing about them",
		Example: "  stockade key add demo-data/site/keys/tarn-archive.asc", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var all []api.Key
			for _, f := range args {
				raw, err := os.ReadFile(f)
				if err != nil {
					return usage("%s cannot be read: %v", f, err)
				}
				page, err := client.Post[api.Page[api.Key]](cmd.Context(), a.client(),
					"/keys", api.KeyData{Data: raw})
				if err != nil {
					return fmt.Errorf("%s was not brought in: %w", f, err)
				}
				all = append(all, page.Items...)
			}
			return a.showKeys(all)
		}}
}

func (a *app) keyList() *cobra.Command {
	var away bool
	var source string
	list := &cobra.Command{Use: "list", Short: "List certificates and the decisions about them",
		Example: "  stockade key list\n  stockade key list --source kelp", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := client.All[api.Key](cmd.Context(), a.client(),
				"/keys"+map[bool]string{true: "?retired=yes"}[away])
			if err != nil {
				return err
			}
			if source != "" {
				all = slices.DeleteFunc(all, func(k api.Key) bool {
					return !slices.Contains(k.NeededBy, source)
				})
			}
			return a.showKeys(all)
		}}
	list.Flags().StringVar(&source, "source", "", "only the keys that this source names")
	list.Flags().BoolVar(&away, "retired", false, "also the keys that were put away")
	return list
}

func (a *app) keyShow(completeKeys cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "show FINGERPRINT", Short: "Show one certificate: parts, dates, decisions",
		Example: "  stockade key show $(stockade key list -o ids | head -1)",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: completeKeys,
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := trust.ParseFingerprint(strings.Join(args, ""))
			if err != nil {
				return err
			}
			k, err := client.Get[api.Key](cmd.Context(), a.client(), "/keys/"+f)
			if err != nil {
				return err
			}
			return a.show(k, func() { a.keyDetail(k) }, []string{k.Fingerprint})
		}}
}

func (a *app) keyVouch() *cobra.Command {
	var d api.Decision
	vouch := &cobra.Command{Use: "vouch FINGERPRINT", Short: "Record that a key may sign one source",
		Long: "Record that a key may sign one source. The whole fingerprint has to be typed, as its owner " +
			"told it on another road; spaces are allowed.",
		Example: "  stockade key vouch \"7C1B 22E0 …\" --source tarn --evidence \"read out by the Tarn " +
			"release desk, call 4471\"\n\n" +
			"On the demonstration, whose keys are made up as it starts:\n" +
			"  stockade key vouch $(stockade key list --source kelp -o ids) --source kelp --evidence " +
			"\"made up\"",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			if d.Source == "" || d.Evidence == "" {
				return usage("--source and --evidence are needed: which source it may sign, and how the " +
					"fingerprint was compared")
			}
			f, err := trust.ParseFingerprint(strings.Join(args, ""))
			if err != nil {
				return err
			}
			d.Fingerprint = f
			k, err := client.Post[api.Key](cmd.Context(), a.client(), "/keys/"+f+"/vouch", d)
			if err != nil {
				return err
			}
			return a.show(k, func() { a.say("%s may sign %s", short(k.Fingerprint), d.Source) },
				[]string{k.Fingerprint})
		}}
	vouch.Flags().StringVar(&d.Source, "source", "", "the source that it may sign")
	vouch.Flags().StringVar(&d.Evidence, "evidence", "", "who compared the fingerprint, and how")
	return vouch
}

func (a *app) keyBar(completeKeys cobra.CompletionFunc) *cobra.Command {
	var d api.Decision
	bar := &cobra.Command{Use: "bar FINGERPRINT", Short: "Record that a key may sign nothing any more",
		Example: "  stockade key bar \"7C1B 22E0 …\" --reason \"lost with the desk's laptop\"\n\n" +
			"On the demonstration, whose keys are made up as it starts:\n" +
			"  stockade key bar $(stockade key list --source kelp -o ids) --reason \"a trial\"",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: completeKeys,
		RunE: func(cmd *cobra.Command, args []string) error {
			if d.Reason == "" {
				return usage("--reason is needed: why it may sign nothing any more")
			}
			f, err := trust.ParseFingerprint(strings.Join(args, ""))
			if err != nil {
				return err
			}
			if err := a.sure("After this, nothing that " + short(f) +
				" signed is accepted for any source."); err != nil {
				return err
			}
			d.Fingerprint = f
			k, err := client.Post[api.Key](cmd.Context(), a.client(), "/keys/"+f+"/bar", d)
			if err != nil {
				return err
			}
			return a.show(k, func() { a.say("%s is barred", short(k.Fingerprint)); a.restsOn(k) },
				[]string{k.Fingerprint})
		}}
	bar.Flags().StringVar(&d.Reason, "reason", "", "why")
	return bar
}
