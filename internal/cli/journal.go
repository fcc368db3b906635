package cli

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/core/journal"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) journalCommand() *cobra.Command {
	return noun("journal", "Read and verify the tamper-evident journal", a.journalList(),
		a.journalVerify(), a.journalHead(), a.journalProof(), a.journalCheck())
}

var journalListing = listing[api.JournalEntry]{
	columns: []column{{head: "ENTRY", right: true}, {head: "WHEN"}, {head: "BY", spare: 1},
		{head: "ACTION"}, {head: "OBJECT", cut: atEnd}, {head: "DETAIL", spare: 2, cut: atEnd}},
	row: func(e api.JournalEntry) []string {
		var d []string
		for k, v := range e.Detail {
			if v != "" {
				d = append(d, k+": "+v)
			}
		}
		slices.Sort(d)
		return []string{strconv.FormatInt(e.Number, 10), date(e.At), e.By, e.Action, e.Object,
			strings.Join(d, "; ")}
	},
	name:  func(e api.JournalEntry) string { return strconv.FormatInt(e.Number, 10) },
	empty: "the journal has no entries",
}

func (a *app) journalList() *cobra.Command {
	var search, since string
	var limit int
	list := &cobra.Command{Use: "list", Short: "List journal entries, newest first",
		Example: "  stockade journal list --search key\n  stockade journal list --since 2d",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			query, l := url.Values{"q": {search}}, journalListing
			if since != "" {
				at, err := parseWhen(since, time.Now())
				if err != nil {
					return usage("--since: %v", err)
				}
				query.Set("since", at.UTC().Format(time.RFC3339))
			}
			if search != "" || since != "" {
				l.empty = "no entry matches"
			}
			return newest(a, cmd.Context(), "/journal", query, limit, l)
		}}
	list.Flags().StringVar(&search, "search", "", "only entries with this in object, action or account")
	list.Flags().StringVar(&since, "since", "",
		"only entries since this time: 2d, 2026-11-24, \"2026-11-24 06:30\"")
	list.Flags().IntVar(&limit, "limit", 200, "largest number of entries to show")
	return list
}

func (a *app) journalVerify() *cobra.Command {
	var against string
	verify := &cobra.Command{Use: "verify", Short: "Verify that the journal is complete and " +
		"unchanged",
		Long: `Verify that no journal entry was changed, moved or removed since it was written; that
the journal continues every head that the seals of editions contain; and that it explains the recorded
definitions, accounts, vouches, tokens and lanes. --against compares it with an edition, or with a file
that holds a head you kept elsewhere: a journal that was set back to an earlier state is shorter than
that head says.`,
		Example: "  stockade journal verify\n  stockade journal verify --against barrage/1",
		Args:    cobra.NoArgs, RunE: func(cmd *cobra.Command, args []string) error {
			in := api.Against{Against: against}
			if data, err := os.ReadFile(against); against != "" && err == nil {
				in.Against = string(data)
			}
			r, err := client.Post[api.Report](cmd.Context(), a.client(), "/journal/verify", in)
			if err != nil {
				return err
			}
			if err := a.show(r, func() { fmt.Fprintln(a.out, r.Text) },
				[]string{strconv.FormatBool(r.Holds)}); err != nil {
				return err
			}
			if !r.Holds {
				return no()
			}
			return nil
		}}
	verify.Flags().StringVar(&against, "against", "",
		"edition, or file with a journal head that you kept elsewhere")
	return verify
}

// written writes a text to a file, or to standard output.
func (a *app) written(text, file, what string) error {
	if file == "" || file == "-" {
		fmt.Fprint(a.out, text)
		return nil
	}
	if err := disk.Save(file, []byte(text), 0o644); err != nil {
		return err
	}
	a.say("%s is in %s", what, file)
	return nil
}

func (a *app) journalHead() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "head", Short: "Show the newest signed head of the journal",
		Long: `Show the newest signed head of the journal: the number of entries and a hash over all of
them. Keep it outside this machine: stockade journal verify --against FILE then detects a journal that
was set back or changed. Heads are signed notes (C2SP tlog-checkpoint). The command also prints the
public key that verifies them.`,
		Example: "  stockade journal head --out journal.head", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			h, err := client.Get[api.JournalHead](cmd.Context(), a.client(), "/journal/head")
			if err != nil {
				return err
			}
			var failed error
			if err := a.show(h, func() {
				failed = a.written(h.Head, file, "the head over "+number(int(h.Entries), "entry"))
				a.say("to verify it, use the public key %s", h.Key)
			}, []string{h.Key}); err != nil {
				return err
			}
			return failed
		}}
	c.Flags().StringVar(&file, "out", "", "file to write; standard output by default")
	return c
}

func (a *app) journalProof() *cobra.Command {
	var file, since string
	c := &cobra.Command{Use: "proof [ENTRY]",
		Short: "Write a proof of an entry, or that the journal continues an older head",
		Long: `Write a proof that an entry is in the journal or, with --since, that every entry covered
by an older head is still there, unchanged and in its place. stockade journal check verifies the proof
without this service, as can any program that implements its open formats (C2SP tlog-proof, RFC 9162).`,
		Example: "  stockade journal proof 3 --out entry-3.proof\n" +
			"  stockade journal proof --since journal.head --out since.proof",
		Args: cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if (len(args) == 1) == (since != "") {
				return usage("name an entry by its number, or an older head with --since FILE")
			}
			var t api.Text
			var err error
			what := "the proof that the journal continues"
			if since != "" {
				old, rerr := a.read(since)
				if rerr != nil {
					return rerr
				}
				t, err = client.Post[api.Text](cmd.Context(), a.client(), "/journal/since",
					api.KeptHead{Head: string(old)})
			} else {
				if _, nerr := strconv.ParseInt(args[0], 10, 64); nerr != nil {
					return usage("%q is not the number of an entry", args[0])
				}
				what = "the proof of entry " + args[0]
				t, err = client.Get[api.Text](cmd.Context(), a.client(), "/journal/"+args[0]+"/proof")
			}
			if err != nil {
				return err
			}
			var failed error
			if err := a.show(t, func() { failed = a.written(t.Text, file, what) },
				[]string{t.Text}); err != nil {
				return err
			}
			return failed
		}}
	c.Flags().StringVar(&file, "out", "", "file to write; standard output by default")
	c.Flags().StringVar(&since, "since", "", "file with a journal head that you kept elsewhere")
	return c
}

func (a *app) journalCheck() *cobra.Command {
	var key, since string
	c := &cobra.Command{Use: "check PROOF --key KEY",
		Short: "Check a journal proof, without a service",
		Long: `Verify a proof that stockade journal proof wrote. The command contacts no service. It
trusts only the public key that you name: get that key from stockade journal head through a channel that
you trust. With --since it verifies that the journal continues the head in that file. The exit code is 1
if the proof does not hold.`,
		Example: "  stockade journal check entry-3.proof --key \"$(stockade journal head -o ids)\"\n" +
			"  stockade journal check since.proof --since journal.head --key \"$(stockade journal head " +
			"-o ids)\"",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if key == "" {
				return usage("name the public key of the journal with --key. To print it: " +
					"stockade journal head")
			}
			v, err := journal.NewVerifier(key)
			if err != nil {
				return usage("--key: %v", err)
			}
			proof, err := a.read(args[0])
			if err != nil {
				return err
			}
			var r api.Report
			if since != "" {
				older, rerr := a.read(since)
				if rerr != nil {
					return rerr
				}
				var old, now journal.Head
				old, now, err = v.Since(string(proof), string(older))
				r = api.Report{Entries: now.Size, Text: fmt.Sprintf(
					"OK: the journal of %d entries continues the head over %d entries, all of "+
						"them unchanged",
					now.Size,
					old.Size)}
			} else {
				var e journal.Entry
				var head journal.Head
				e, head, err = v.Entry(string(proof))
				r = api.Report{Entries: head.Size,
					Text: fmt.Sprintf("OK: entry %d is in the journal of %d entries: %s, %s %s "+
						"of %s", e.Number, head.Size, e.By, date(e.At), e.Action,
						finding.Harmless(e.Object))}
			}
			var broken *journal.Broken
			if err != nil && !errors.As(err, &broken) {
				return usage("%s: %v", finding.Harmless(args[0]), err)
			}
			if r.Holds = err == nil; !r.Holds {
				r.FirstBad, r.Text = broken.First, "the proof does not hold: "+broken.Text
			}
			if err := a.show(r, func() { fmt.Fprintln(a.out, r.Text) },
				[]string{strconv.FormatBool(r.Holds)}); err != nil {
				return err
			}
			if !r.Holds {
				return no()
			}
			return nil
		}}
	c.Flags().StringVar(&key, "key", "", "public key of the journal")
	c.Flags().StringVar(&since, "since", "", "file with the older head")
	return c
}
