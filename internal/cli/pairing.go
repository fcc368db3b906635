package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/disk"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) sitePair() *cobra.Command {
	var in api.Pair
	c := &cobra.Command{Use: "pair NAME FILE",
		Short: "Pair with another site: record its key",
		Long: `Pair with another site: record that a key is the key of that site, under a name that you
choose. FILE is a statement of the other site (stockade site statement), or its key. Type the whole
fingerprint as a warden of the other site told you through another channel. Its statements about keys
can then serve as evidence: stockade key vouch --from FILE. The pairing alone does not let that site
sign anything.

To end it: stockade key withdraw FINGERPRINT --source site/NAME. Wardens can run this command; two of
them, if a rule of the site requires two persons.`,
		Example: "  stockade site pair harbour demo-data/harbour/statement.asc --fingerprint " +
			"\"$(cat demo-data/harbour/read-out.txt)\" --evidence \"read out by Ola at the harbour office\"",
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if in.Fingerprint == "" || in.Evidence == "" {
				return usage("--fingerprint and --evidence are required: the whole fingerprint " +
					"of the key of the other site, and how it was compared")
			}
			if in.Fingerprint, err = typedFingerprint([]string{in.Fingerprint}); err != nil {
				return err
			}
			in.Name = args[0]
			if in.Data, err = a.read(args[1]); err != nil {
				return err
			}
			s, err := client.Post[api.Site](cmd.Context(), a.client(), "/site/pair", in)
			if err != nil {
				return err
			}
			return a.show(s, func() {
				for _, p := range s.Paired {
					if p.Name == in.Name {
						a.say("paired with %s%s", in.Name, orWaits(p.Waiting))
					}
				}
			}, []string{in.Fingerprint})
		}}
	c.Flags().StringVar(&in.Fingerprint, "fingerprint", "", "whole fingerprint of the key of "+
		"the other site")
	c.Flags().StringVar(&in.Evidence, "evidence", "", "who compared the fingerprint, and how")
	return c
}

func orWaits(waiting bool) string {
	if waiting {
		return " when a second warden vouches for it too, from another account"
	}
	return ""
}

func (a *app) siteStatement() *cobra.Command {
	var out string
	c := &cobra.Command{Use: "statement", Short: "Write a signed statement of the decisions " +
		"about keys here",
		Long: `Write a statement of the decisions about keys at this site, signed with the site key,
for another site: which keys may sign which sources, with evidence, person and time; which keys are
barred; and the certificates. When a warden of the other site has paired the two sites, they can import
it: stockade key vouch --from FILE. Wardens can run this command.`,
		Example: "  stockade site statement --out statement.asc",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := client.Post[api.Text](cmd.Context(), a.client(), "/site/statement", nil)
			if err != nil {
				return err
			}
			if out != "" && out != "-" {
				if err := disk.Save(out, []byte(t.Text), 0o644); err != nil {
					return err
				}
				a.say("wrote %s. Its reader has to compare the fingerprint of this site: "+
					"stockade site show", out)
				return nil
			}
			return a.show(t, func() { fmt.Fprint(a.out, t.Text) }, nil)
		}}
	c.Flags().StringVar(&out, "out", "", "file to write; standard output by default")
	return c
}

// vouchFrom takes the statement of a paired site: it is shown, and asked about, first.
func (a *app) vouchFrom(cmd *cobra.Command, file string, sources []string) error {
	data, err := a.read(file)
	if err != nil {
		return err
	}
	in := api.StatementTaken{Data: data, Look: true, Sources: sources}
	st, err := client.Post[api.Statement](cmd.Context(), a.client(), "/keys/statement", in)
	if err != nil {
		return err
	}
	wanted := func(v trust.Considered) bool {
		return v.Outcome == trust.WouldVouch && (len(sources) == 0 || slices.Contains(sources, v.Source))
	}
	n := len(slices.DeleteFunc(slices.Clone(st.Vouches), func(v trust.Considered) bool { return !wanted(v) }))
	a.drawStatement(a.err, st)
	if n == 0 {
		a.say("the statement contains nothing new; no changes")
		return a.show(st, func() {}, nil)
	}
	if err := a.sure(fmt.Sprintf("This vouches for %s on the evidence of %s.", number(n, "key"),
		st.Site)); err != nil {
		return err
	}
	in.Look = false
	if st, err = client.Post[api.Statement](cmd.Context(), a.client(), "/keys/statement", in); err != nil {
		return err
	}
	var ids []string
	for _, v := range st.Vouches {
		if wanted(v) {
			ids = append(ids, v.Fingerprint)
		}
	}
	return a.show(st, func() {
		a.say("recorded for %s, on the evidence of %s. If a rule requires two persons, each "+
			"vouch takes effect when a second warden vouches too", number(len(ids), "key"), st.Site)
	}, ids)
}

// drawStatement shows what a statement comes to.
func (a *app) drawStatement(w io.Writer, st api.Statement) {
	fmt.Fprintf(w, "%s (%s) stated on %s:\n", st.Site, short(st.Fingerprint), date(st.At))
	for _, v := range st.Vouches {
		what := map[string]string{trust.WouldVouch: "vouch for", trust.Stands: "already vouched",
			trust.Passed: "skipped"}[v.Outcome]
		fmt.Fprintf(w, "  %-15s %s: %s, %s\n", what, line(v.Source), short(v.Fingerprint), line(v.UserID))
		fmt.Fprintf(w, "  %-15s %s, %s: %s\n", "", line(v.By), date(v.At), line(v.Evidence))
		if v.Why != "" {
			fmt.Fprintf(w, "  %-15s %s\n", "", line(v.Why))
		}
	}
	a.findings(w, st.Findings)
}

func drawPaired(w io.Writer, all []api.Paired) {
	for i, p := range all {
		head := ""
		if i == 0 {
			head = "paired"
		}
		state := ""
		switch {
		case p.Barred != "":
			state = "; barred: " + p.Barred
		case p.Waiting:
			state = "; waiting for a second warden"
		case !p.Stated.IsZero():
			state = "; statement of " + date(p.Stated) + " imported"
		}
		fmt.Fprintf(w, "%-14s%s: %s\n%-14s%s by %s: %s%s\n", head, line(p.Name), trust.Spaced(p.Fingerprint),
			"", date(p.At), line(p.By), line(strings.TrimSpace(p.Evidence)), line(state))
	}
}
