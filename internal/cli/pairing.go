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
		Long: `Record that a key is another site's, under a name of your own. FILE is a statement that the
other site made (stockade site statement), or its key. The whole fingerprint has to be typed, as a
warden of the other site told it on another road. What that site states about keys can then be
taken for evidence: stockade key vouch --from FILE. By itself a pairing lets that site sign nothing.

It is taken back as a vouch is: stockade key withdraw FINGERPRINT --source site/NAME. Wardens may
do this; where the site asks for two persons, two.`,
		Example: "  stockade site pair harbour demo-data/harbour/statement.asc --fingerprint " +
			"\"$(cat demo-data/harbour/read-out.txt)\" --evidence \"read out by Ola at the harbour office\"",
		Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) (err error) {
			if in.Fingerprint == "" || in.Evidence == "" {
				return usage("--fingerprint and --evidence are needed: the whole fingerprint of the other " +
					"site's key, and how it was compared")
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
						a.say("%s is paired%s", in.Name, orWaits(p.Waiting))
					}
				}
			}, []string{in.Fingerprint})
		}}
	c.Flags().StringVar(&in.Fingerprint, "fingerprint", "", "the whole fingerprint of the other site's key")
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
		Long: `State what was decided about keys here, signed with the site key, for another site: which
keys may sign which sources, with the evidence, by whom and when; which are barred; and their
certificates. The other site takes it with: stockade key vouch --from FILE, once its warden has
paired the two. Wardens may do this.`,
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
				a.say("%s is written; whoever takes it compares the fingerprint of this site: stockade site "+
					"show", out)
				return nil
			}
			return a.show(t, func() { fmt.Fprint(a.out, t.Text) }, nil)
		}}
	c.Flags().StringVar(&out, "out", "", "file to write to; standard output if left out")
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
		a.say("nothing of it is new here; nothing was changed")
		return a.show(st, func() {}, nil)
	}
	if err := a.sure(fmt.Sprintf("This vouches for %s on the word of %s.", number(n, "key"),
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
		a.say("recorded for %s, on the word of %s; where a rule asks for two persons, it counts when a "+
			"second "+
			"warden vouches too", number(len(ids), "key"), st.Site)
	}, ids)
}

// drawStatement shows what a statement comes to.
func (a *app) drawStatement(w io.Writer, st api.Statement) {
	fmt.Fprintf(w, "%s (%s) stated on %s:\n", st.Site, short(st.Fingerprint), date(st.At))
	for _, v := range st.Vouches {
		what := map[string]string{trust.WouldVouch: "to vouch for", trust.Stands: "stands already",
			trust.Passed: "passed over"}[v.Outcome]
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
			state = "; waits for a second warden"
		case !p.Stated.IsZero():
			state = "; its statement of " + date(p.Stated) + " was taken"
		}
		fmt.Fprintf(w, "%-14s%s: %s\n%-14s%s by %s: %s%s\n", head, line(p.Name), trust.Spaced(p.Fingerprint),
			"", date(p.At), line(p.By), line(strings.TrimSpace(p.Evidence)), line(state))
	}
}
