package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/client"
)

// typedFingerprint reads a whole fingerprint, which may be typed as several words.
func typedFingerprint(words []string) (string, error) {
	f, err := trust.ParseFingerprint(strings.Join(words, ""))
	if err != nil {
		return "", &exit{exitUsage, err}
	}
	return f, nil
}

// decide sends what was decided about a key whose whole fingerprint was typed.
func (a *app) decide(ctx context.Context, verb string, typed []string,
	d api.Decision) (k api.Key, err error) {
	if d.Fingerprint, err = typedFingerprint(typed); err != nil {
		return k, err
	}
	return client.Post[api.Key](ctx, a.client(), "/keys/"+d.Fingerprint+"/"+verb, d)
}

func (a *app) withdrawCommand(complete cobra.CompletionFunc) *cobra.Command {
	var d api.Decision
	c := &cobra.Command{
		Use: "withdraw FINGERPRINT", Short: "Withdraw a vouch for a key",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		Long: `Withdraw the decision that a key may sign a source. Other sources are not affected. The
vouched_for of the recorded definition does not vouch again; to vouch again, use stockade key vouch with
new evidence.`,
		Example: "  stockade key withdraw \"7C1B 22E0 …\" --source kelp --reason \"it was " +
			"compared with the wrong sheet\"\n\nIn the demonstration, which creates new keys " +
			"at each start:\n  stockade key withdraw $(stockade key list --source kelp -o ids) " +
			"--source kelp --reason \"a trial\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if d.Source == "" || d.Reason == "" {
				return usage("--source and --reason are required: the source, and why you " +
					"withdraw the vouch")
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
	c.Flags().StringVar(&d.Source, "source", "", "source that the key may no longer sign")
	c.Flags().StringVar(&d.Reason, "reason", "", "why")
	return c
}

func (a *app) retireKeyCommand(complete cobra.CompletionFunc) *cobra.Command {
	var d api.Decision
	c := &cobra.Command{
		Use:   "retire FINGERPRINT",
		Short: "Retire a key that no decision and no definition uses",
		Args:  cobra.MinimumNArgs(1), ValidArgsFunction: complete,
		Long: `Retire a key that no definition names and no one vouches for. Lists then omit it. The
journal and stockade key show keep its decisions, and a bar stays in force. Importing the certificate
again reverts this.`,
		Example: "  stockade key retire \"7C1B 22E0 …\" --reason \"Kelp signs with another " +
			"since 2025\"\n\nIn the demonstration every key is in use, so Stockade refuses and " +
			"says why:\n  stockade key retire $(stockade key list --source kelp -o ids) " +
			"--reason \"a trial\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if d.Reason == "" {
				return usage("--reason is required: why you retire the key")
			}
			k, err := a.decide(cmd.Context(), "retire", args, d)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				a.say("retired %s. To list it: stockade key list --retired", short(k.Fingerprint))
			}, []string{k.Fingerprint})
		}}
	c.Flags().StringVar(&d.Reason, "reason", "", "why")
	return c
}

// restsOn tells which editions and lanes stand on a key's signatures.
func (a *app) restsOn(k api.Key) {
	if len(k.RestsOn) == 0 {
		a.say("no existing edition depends on it")
		return
	}
	a.say("these editions depend on it and stay as they are: %s", strings.Join(k.RestsOn, ", "))
	if len(k.Lanes) > 0 {
		a.say("machines follow some of them through: %s", strings.Join(k.Lanes, ", "))
	}
	a.say("build their mirrors again and move the lanes. New files for machines no longer " +
		"contain the key")
}

func (a *app) keyCommand() *cobra.Command {
	completeKeys := a.names("/keys", 0, func(m map[string]any) string {
		s, _ := m["fingerprint"].(string)
		return s
	})
	return noun("key", "Manage certificates and decide which sources they may sign", a.keyList(),
		a.keyShow(completeKeys),
		a.keyAdd(), a.keyExamine(), a.keyVouch(), a.withdrawCommand(completeKeys), a.keyBar(completeKeys),
		a.retireKeyCommand(completeKeys))
}

var keyListing = listing[api.Key]{
	columns: []column{{head: "FINGERPRINT", cut: middle}, {head: "USER ID", cut: atEnd},
		{head: "KIND", spare: 2}, {head: "ENDS"}, {head: "DECISION", cut: atEnd},
		{head: "FINDINGS", cut: atEnd}},
	row: func(k api.Key) []string {
		return []string{short(k.Fingerprint), strings.Join(k.UserIDs, "; "), partName(k.Primary),
			signsUntil(k.Certificate, time.Now()), decisions(k), codes(k.Findings)}
	},
	name:  func(k api.Key) string { return k.Fingerprint },
	empty: "No keys yet. Import one: stockade key add FILE",
}

// signsUntil says until when a certificate can sign.
func signsUntil(c trust.Certificate, now time.Time) string {
	end, able := c.SignsUntil(now)
	switch {
	case !able:
		return "signs nothing"
	case end.IsZero():
		return "never"
	}
	return end.Format(time.DateOnly)
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
	if k.Former && k.Barred == nil {
		return "former site key"
	}
	if k.Barred != nil {
		return "barred"
	}
	if k.Retired {
		return "retired"
	}
	said := func(what string, of []api.Vouched) (out []string) {
		var s []string
		for _, v := range of {
			s = append(s, v.Source)
		}
		if len(s) > 0 {
			out = append(out, what+" "+strings.Join(s, ", "))
		}
		return out
	}
	all := append(said("vouched for", k.Vouched), said("waiting for a second warden for", k.Waiting)...)
	if len(all) == 0 {
		return "none yet"
	}
	return strings.Join(all, "; ")
}

func (a *app) keyDetail(k api.Key) {
	a.fields("fingerprint", short(k.Fingerprint), "user ids", strings.Join(k.UserIDs, "; "), "named",
		strings.Join(k.Names, ", "), "decision", decisions(k),
		"needed by", strings.Join(k.NeededBy, ", "), "imported",
		strings.TrimPrefix(date(k.Added)+" by "+k.AddedBy, "– by "))
	for _, v := range k.Vouched {
		a.fields("vouched for", v.Source+", "+date(v.At)+" by "+v.By+": "+v.Evidence)
	}
	for _, v := range k.Waiting {
		a.fields("second warden needed for", v.Source+", "+date(v.At)+" by "+v.By+": "+v.Evidence)
	}
	if k.Barred != nil {
		a.fields("barred", date(k.Barred.At)+" by "+k.Barred.By+": "+k.Barred.Reason)
	}
	a.fields("used by", strings.Join(k.RestsOn, ", "), "on lanes", strings.Join(k.Lanes, ", "))
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
	a.table([]column{{head: "PART"}, {head: "FINGERPRINT", cut: middle}, {head: "KIND", spare: 1},
		{head: "SIGNS"}, {head: "MADE", spare: 2}, {head: "ENDS"}}, rows)
	if len(k.History) > 0 {
		rows = nil
		for _, h := range k.History {
			rows = append(rows, []string{date(h.At), strings.TrimPrefix(h.Action, "key."), h.Source, h.By,
				h.Text})
		}
		fmt.Fprintln(a.out)
		a.table([]column{{head: "WHEN"}, {head: "WHAT"}, {head: "SOURCE"}, {head: "BY", spare: 1},
			{head: "WHY", cut: atEnd}}, rows)
	}
	if len(k.Findings) > 0 {
		fmt.Fprintln(a.out)
		a.findings(a.out, k.Findings)
	}
}

// signedBy says what a key has signed here, and what would stop without it.
func (a *app) signedBy(s api.Signed) {
	if len(s.Roots)+len(s.Packages) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, r := range s.Roots {
			rows = append(rows, []string{"release metadata of " + date(r.Date), r.Source, first(r.Edition,
				"accepted last"),
				date(r.At)})
		}
		for _, p := range s.Packages {
			rows = append(rows, []string{number(p.Packages, "package"), p.Source, p.Edition, "–"})
		}
		a.table([]column{{head: "SIGNED"}, {head: "SOURCE"}, {head: "IN"}, {head: "SIGNED", spare: 1}},
			rows)
	}
	if len(s.Unread) > 0 {
		a.say("cannot read %s, so it is unknown whether the key signed something there",
			strings.Join(s.Unread,
				", "))
	}
	if !s.Stops.None() {
		fmt.Fprintln(a.out)
		a.fields("depends on it", strings.Join(standing(s.Stops), "; "))
	}
}

func (a *app) keyAdd() *cobra.Command {
	return &cobra.Command{Use: "add FILE…",
		Short: "Import certificates, without deciding about them",
		Long: "Import certificates from files, armored or binary; - is standard input. " +
			"Importing decides nothing about them.",
		Example: "  stockade key add demo-data/site/keys/tarn-archive.asc", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			var all []api.Key
			for _, f := range args {
				raw, err := a.read(f)
				if err != nil {
					return err
				}
				page, err := client.Post[api.Page[api.Key]](cmd.Context(), a.client(),
					"/keys", api.KeyData{Data: raw})
				if err != nil {
					return fmt.Errorf("%s was not imported: %w", f, err)
				}
				all = append(all, page.Items...)
			}
			return keyListing.show(a, all)
		}}
}

func (a *app) keyList() *cobra.Command {
	var away bool
	var source, decision, severity string
	told := bySeverity(func(k api.Key) finding.List { return k.Findings })
	list := &cobra.Command{Use: "list", Short: "List certificates and the decisions about them",
		Example: "  stockade key list\n  stockade key list --source kelp", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := told.allowed(severity); err != nil {
				return err
			}
			if decision != "" && !slices.Contains(keyDecisions, decision) {
				return oneOf("--decision", decision, keyDecisions)
			}
			if source != "" {
				if err := a.isSource(cmd.Context(), source); err != nil {
					return err
				}
			}
			all, err := client.All[api.Key](cmd.Context(), a.client(),
				"/keys"+map[bool]string{true: "?retired=yes"}[away])
			if err != nil {
				return err
			}
			l := keyListing
			if len(all) > 0 {
				l.empty = "no key matches"
			}
			return l.show(a, slices.DeleteFunc(all, func(k api.Key) bool {
				return source != "" && !slices.Contains(k.NeededBy, source) ||
					decision != "" && !decided(k, decision) || severity != "" && !told.has(k, severity)
			}))
		}}
	list.Flags().StringVar(&source, "source", "", "only keys that this source names")
	list.Flags().StringVar(&decision, "decision", "", "only keys that are vouched, barred, or "+
		"open")
	list.Flags().StringVar(&severity, told.flag, "", told.help)
	list.Flags().BoolVar(&away, "retired", false, "also list retired keys")
	list.RegisterFlagCompletionFunc("source", a.names("/sources", 0, byName))
	list.RegisterFlagCompletionFunc("decision", cobra.FixedCompletions(keyDecisions,
		cobra.ShellCompDirectiveNoFileComp))
	return list
}

// What can be decided about a key.
var keyDecisions = []string{"vouched", "barred", "open"}

func decided(k api.Key, how string) bool {
	switch how {
	case "barred":
		return k.Barred != nil
	case "vouched":
		return k.Barred == nil && len(k.Vouched) > 0
	}
	return k.Barred == nil && len(k.Vouched) == 0 && !k.Site
}

// isSource tells whether a source of this name is described.
func (a *app) isSource(ctx context.Context, name string) error {
	if err := plainNames("source", []string{name}); err != nil {
		return err
	}
	_, err := client.Get[api.Source](ctx, a.client(), "/sources/"+url.PathEscape(name))
	return err
}

func (a *app) keyShow(completeKeys cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "show FINGERPRINT",
		Short:   "Show a certificate: parts, dates, decisions, what it has signed here",
		Example: "  stockade key show $(stockade key list -o ids | head -1)",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: completeKeys,
		RunE: func(cmd *cobra.Command, args []string) error {
			f, err := typedFingerprint(args)
			if err != nil {
				return err
			}
			k, err := client.Get[api.Key](cmd.Context(), a.client(), "/keys/"+f)
			if err != nil {
				return err
			}
			signed, err := client.Get[api.Signed](cmd.Context(), a.client(), "/keys/"+f+"/signed")
			if err != nil {
				return err
			}
			whole := struct {
				api.Key
				Signed api.Signed `json:"signed"`
			}{k, signed}
			return a.show(whole, func() { a.keyDetail(k); a.signedBy(signed) }, []string{k.Fingerprint})
		}}
}

func (a *app) keyVouch() *cobra.Command {
	var d api.Decision
	var from string
	vouch := &cobra.Command{Use: "vouch FINGERPRINT",
		Short: "Vouch for a key: record that it may sign one or more sources",
		Long: "Vouch for a key: record that it may sign a source, or several sources of one " +
			"owner that you compared at once. Type the whole fingerprint as its owner told you " +
			"through another channel; spaces are allowed. If one of several sources cannot be " +
			"vouched for, none is. If a rule requires two persons, the vouch takes effect when " +
			"a second warden vouches too, from another account; both can withdraw it before " +
			"that.\n\nWith --from, the command reads a statement of a paired site instead. It " +
			"shows what the statement says about sources that are defined alike here, asks, " +
			"and records the vouches with the evidence of the statement.",
		Example: "  stockade key vouch \"7C1B 22E0 …\" --source tarn --source tarn-fixes " +
			"--evidence \"read out by the Tarn release desk, call 4471\"\n\nIn the " +
			"demonstration, which creates new keys at each start:\n  stockade key vouch " +
			"$(stockade key list --source kelp -o ids) --source kelp --evidence \"made up\"\n  " +
			"stockade key vouch --from demo-data/harbour/statement.asc --yes",
		Args: cobra.ArbitraryArgs, ValidArgsFunction: cobra.NoFileCompletions,
		RunE: func(cmd *cobra.Command, args []string) error {
			if from != "" && (len(args) > 0 || d.Evidence != "") {
				return usage("remove the fingerprint and --evidence: --from takes them from " +
					"the statement")
			}
			if from != "" {
				return a.vouchFrom(cmd, from, d.Sources)
			}
			if len(args) == 0 {
				return usage("name the whole fingerprint, or a statement of a paired site with " +
					"--from")
			}
			if len(d.Sources) == 0 || d.Evidence == "" {
				return usage("--source and --evidence are required: the source, and how the " +
					"fingerprint was compared")
			}
			if err := plainNames("source", d.Sources); err != nil {
				return err
			}
			k, err := a.decide(cmd.Context(), "vouch", args, d)
			if err != nil {
				return err
			}
			return a.show(k, func() {
				waits := func(name string) bool {
					return slices.ContainsFunc(k.Waiting,
						func(v api.Vouched) bool { return v.Source == name })
				}
				for _, name := range d.Sources {
					if waits(name) {
						a.say("recorded. %s may sign %s when a second warden vouches for it "+
							"too, from another account",
							short(k.Fingerprint), name)
					} else {
						a.say("%s may sign %s", short(k.Fingerprint), name)
					}
				}
			}, []string{k.Fingerprint})
		}}
	vouch.Flags().StringArrayVar(&d.Sources, "source", nil,
		"source that the key may sign; can be repeated")
	vouch.Flags().StringVar(&d.Evidence, "evidence", "", "who compared the fingerprint, and how")
	vouch.Flags().StringVar(&from, "from", "", "file with a statement of a paired site")
	vouch.RegisterFlagCompletionFunc("source", a.names("/sources", 0, byName))
	return vouch
}

func (a *app) keyExamine() *cobra.Command {
	var source string
	c := &cobra.Command{Use: "examine FILE",
		Short: "Find out which certificate of a file signs a source",
		Long: `Find out which certificate of a file, such as the keyring of a distribution, signs a
source. Stockade downloads the release metadata of the source and tries each certificate. The command
shows the certificates that signed it, their expiry dates, and what to write to define them and to vouch
for them.

The command imports nothing and decides nothing. That a key signed what an upstream serves does not show
who owns the key: compare the fingerprint with the owner by another channel.`,
		Example: "  stockade key examine demo-data/site/keys/tarn-archive.asc --source tarn",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if source == "" {
				return usage("--source is required: the source whose release metadata is " +
					"examined")
			}
			if err := plainNames("source", []string{source}); err != nil {
				return err
			}
			raw, err := a.read(args[0])
			if err != nil {
				return err
			}
			signed := 0
			err = a.job(cmd.Context(), work{path: "/sources/" + url.PathEscape(source) + "/examine",
				in:   api.KeyData{Data: raw},
				told: func(j api.Job) { a.examined(args[0], decode[upstream.Examination](j.Result)) },
				ids: func(j api.Job) (out []string) {
					x := decode[upstream.Examination](j.Result)
					signed = x.Signed
					for _, k := range x.Examined {
						if k.Signed {
							out = append(out, k.Certificate.Fingerprint)
						}
					}
					return out
				}})
			if err == nil && signed == 0 {
				return no()
			}
			return err
		}}
	c.Flags().StringVar(&source, "source", "", "source whose release metadata is examined")
	c.RegisterFlagCompletionFunc("source", a.names("/sources", 0, byName))
	return c
}

// examined says what an examination came to.
func (a *app) examined(file string, x upstream.Examination) {
	if x.Signed == 0 {
		a.say("no key of the %s in %s signed the release metadata of %s", number(len(x.Examined),
			"certificate"), file,
			x.Source)
		for _, k := range x.Examined {
			a.findings(a.err, k.Findings)
		}
		return
	}
	a.say("%d of %s signed the release metadata of %s: made %s, from %s, which calls itself %s", x.Signed,
		number(len(x.Examined), "certificate"), x.Source, date(x.RootDate), x.Upstream, x.Says)
	now := time.Now()
	var signers []string
	for _, k := range x.Examined {
		if !k.Signed {
			continue
		}
		c := k.Certificate
		signers = append(signers, c.Fingerprint)
		a.fields("fingerprint", short(c.Fingerprint), "user ids", strings.Join(c.UserIDs, "; "),
			"kind", partName(c.Primary), "can sign until", signsUntil(*c, now))
		a.findings(a.out, k.Findings)
		fmt.Fprintln(a.out)
	}
	a.howToDescribe(file, x.Source, signers)
}

// howToDescribe writes what describes keys that signed a source, and what vouches for
// them.
func (a *app) howToDescribe(file, source string, signers []string) {
	which := "fingerprint: " + strconv.Quote(short(signers[0]))
	if len(signers) > 1 { // any one of them counts
		which = "fingerprints:"
		for _, f := range signers {
			which += "\n      - " + strconv.Quote(short(f))
		}
	}
	fmt.Fprintf(a.out, "To define them, after you have compared the fingerprints with their "+
		"owner:\n\nkeys:\n  %s-key:\n    file: %s\n    %s\nsources:\n  %s:\n    signed_by: "+
		"[%[1]s-key]\n\nTo vouch for them:\n\n  stockade key add %s\n", source, strconv.Quote(file), which,
		source,
		file)
	for _, f := range signers {
		fmt.Fprintf(a.out, "  stockade key vouch %s --source %s --evidence \"who compared it, and how\"\n",
			f, source)
	}
}

func (a *app) keyBar(completeKeys cobra.CompletionFunc) *cobra.Command {
	var d api.Decision
	bar := &cobra.Command{Use: "bar FINGERPRINT",
		Short: "Bar a key: record that it may not sign anything any more",
		Example: "  stockade key bar \"7C1B 22E0 …\" --reason \"lost with the desk's " +
			"laptop\"\n\nIn the demonstration, which creates new keys at each start:\n  " +
			"stockade key bar $(stockade key list --source kelp -o ids) --reason \"a trial\" " +
			"--yes",
		Args: cobra.MinimumNArgs(1), ValidArgsFunction: completeKeys,
		RunE: func(cmd *cobra.Command, args []string) error {
			if d.Reason == "" {
				return usage("--reason is required: why the key may no longer sign anything")
			}
			f, err := typedFingerprint(args)
			if err != nil {
				return err
			}
			signed, err := client.Get[api.Signed](cmd.Context(), a.client(), "/keys/"+f+"/signed")
			if err != nil {
				return err
			}
			if !signed.Stops.None() {
				a.say("no other vouched key covers these, so they stop: %s",
					strings.Join(standing(signed.Stops),
						"; "))
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
			return a.show(k, func() { a.say("barred %s", short(k.Fingerprint)); a.restsOn(k) },
				[]string{k.Fingerprint})
		}}
	bar.Flags().StringVar(&d.Reason, "reason", "", "why")
	return bar
}
