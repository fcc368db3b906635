package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
)

// readDocuments reads definitions from files and folders, with the key files
// that they name.
func readDocuments(paths []string) (api.Documents, error) {
	in := api.Documents{Files: map[string][]byte{}}
	var files []string
	for _, p := range paths {
		st, err := os.Stat(p)
		if err != nil {
			return in, usage("%s cannot be read: %v", p, err)
		}
		if !st.IsDir() {
			files = append(files, p)
			continue
		}
		before := len(files)
		for _, pattern := range []string{"*.yaml", "*.yml"} {
			found, _ := filepath.Glob(filepath.Join(p, pattern))
			files = append(files, found...)
		}
		if len(files) == before {
			return in, usage("the folder %s holds no .yaml file", p)
		}
	}
	slices.Sort(files)
	for _, f := range slices.Compact(files) {
		raw, err := os.ReadFile(f)
		if err != nil {
			return in, usage("%s cannot be read: %v", f, err)
		}
		in.Documents = append(in.Documents, definition.Text{Name: f, Text: string(raw)})
	}
	set, _ := definition.Read(in.Documents...)
	for name := range set.Keys {
		if path := set.Resolve(name); path != "" {
			if raw, err := os.ReadFile(path); err == nil {
				in.Files[path] = raw
			}
		}
	}
	return in, nil
}

func (a *app) checkCommand() *cobra.Command {
	return &cobra.Command{Use: "check PATH…", Short: "Check definitions, without a service",
		Long: "Check definitions: files, or folders of .yaml files that belong together. No service is " +
			"asked and nothing is fetched. Exits with 1 when errors are found.",
		Example: "  stockade check demo-data/site\n  stockade check site.yaml -o json",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := readDocuments(args)
			if err != nil {
				return err
			}
			set, found := definition.Read(in.Documents...)
			if len(found.With("define.syntax")) == 0 {
				found = definition.Merge(found,
					definition.Check(set, definition.Surroundings{Families: families.All, Now: time.Now(),
						ReadFile: func(path string) ([]byte, error) {
							if raw, ok := in.Files[path]; ok {
								return raw, nil
							}
							return os.ReadFile(path)
						}}))
			}
			if found == nil {
				found = finding.List{}
			}
			definition.Excerpts(found, in.Documents...)
			var names []string
			for _, f := range found {
				names = append(names, f.Code)
			}
			if err := a.show(found, func() {
				a.findings(a.out, found)
				a.say("%s, %s, %s, %s, %s: %s", number(len(in.Documents), "document"),
					number(len(set.Sources), "source"), number(len(set.Keys), "key"),
					number(len(set.Mirrors), "mirror"), number(len(set.Groups), "group"),
					map[bool]string{true: "nothing to find fault with", false: worst(found)}[len(found) == 0])
			}, names); err != nil {
				return err
			}
			if found.HasErrors() {
				return no()
			}
			return nil
		}}
}

// number counts things in words.
func number(n int, thing string) string {
	if n == 1 {
		return "1 " + thing
	}
	return fmt.Sprintf("%d %ss", n, thing)
}

func (a *app) changes(j api.Judgement) {
	for _, c := range j.Changes {
		sign := map[string]string{
			"add":    a.paint(green, "+ add   "),
			"change": a.paint(yellow, "~ change"),
			"remove": a.paint(red, "- remove"),
		}[c.Action]
		fmt.Fprintf(a.out, "%s %s %s\n", sign, c.Kind, c.Name)
		for _, f := range c.Fields {
			switch {
			case c.Action == "change" && f.Old == "":
				fmt.Fprintf(a.out, "           %s: %s (new)\n", f.Path, finding.Harmless(f.New))
			case c.Action == "change" && f.New == "":
				fmt.Fprintf(a.out, "           %s: %s (gone)\n", f.Path, finding.Harmless(f.Old))
			case c.Action == "change":
				fmt.Fprintf(a.out, "           %s: %s → %s\n", f.Path,
					finding.Harmless(f.Old), finding.Harmless(f.New))
			}
		}
	}
	for _, r := range j.Renewed {
		fmt.Fprintf(a.out, "%s %s, %s: %s\n", a.paint(green, "~ renew "), r.Key, short(r.Fingerprint),
			finding.Harmless(strings.Join(r.Changes, "; ")))
	}
	for _, v := range j.Vouches {
		fmt.Fprintf(a.out, "%s %s may sign %s\n           evidence: %s\n", a.paint(green, "+ vouch "),
			short(v.Fingerprint), v.Source, finding.Harmless(v.Evidence))
	}
}

func (a *app) compareCommand() *cobra.Command {
	var whole bool
	c := &cobra.Command{Use: "compare PATH…", Short: "Show what recording definitions would change",
		Example: "  stockade compare demo-data/site", Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := readDocuments(args)
			if err != nil {
				return err
			}
			in.Whole = whole
			j, err := client.Post[api.Judgement](cmd.Context(), a.client(), "/definitions/compare", in)
			if err != nil {
				return err
			}
			if err := a.show(j, func() {
				a.findings(a.err, j.Findings)
				a.changes(j)
				if len(j.Changes)+len(j.Vouches)+len(j.Renewed) == 0 && !j.Findings.HasErrors() {
					a.say("nothing would change")
				}
			}, changeNames(j)); err != nil {
				return err
			}
			if j.Findings.HasErrors() {
				return no()
			}
			return nil
		}}
	c.Flags().BoolVar(&whole, "whole", false,
		"the documents are all there is: what they lack would be removed")
	return c
}

func changeNames(j api.Judgement) (out []string) {
	for _, c := range j.Changes {
		out = append(out, c.Kind+"/"+c.Name)
	}
	return out
}

func (a *app) recordCommand() *cobra.Command {
	var whole bool
	var summary string
	c := &cobra.Command{Use: "record PATH…", Short: "Make the description what the definitions say",
		Long: `Make the description what the definitions say. What they do not mention stays,
unless --whole. A definition with vouched_for, fingerprint and evidence is the
act of vouching, and needs a warden. An invalid document changes nothing.`,
		Example: "  stockade record demo-data/site --summary \"first description\"",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := readDocuments(args)
			if err != nil {
				return err
			}
			in.Whole, in.Summary = whole, summary
			if whole {
				would, err := client.Post[api.Judgement](cmd.Context(), a.client(),
					"/definitions/compare", in)
				if err != nil {
					return err
				}
				gone := slices.DeleteFunc(changeNames(would), func(n string) bool {
					return !slices.ContainsFunc(would.Changes, func(c definition.Change) bool {
						return c.Kind+"/"+c.Name == n && c.Action == "remove"
					})
				})
				if len(gone) > 0 {
					if err := a.sure("This removes " + strings.Join(gone, ", ") + "."); err != nil {
						return err
					}
				}
			}
			j, err := client.Post[api.Judgement](cmd.Context(), a.client(), "/definitions/record", in)
			if err != nil {
				return err
			}
			return a.show(j, func() {
				a.findings(a.err, withoutNotes(j.Findings))
				a.changes(j)
				switch {
				case j.Revision > 0:
					a.say("recorded as revision %d", j.Revision)
				case len(j.Renewed) > 0 && len(j.Vouches) == 0:
					a.say("certificates renewed; the description is as it was")
				case len(j.Vouches) > 0:
					a.say("decisions recorded; the description is as it was")
				default:
					a.say("nothing changed")
				}
			}, changeNames(j))
		}}
	c.Flags().BoolVar(&whole, "whole", false, "the documents are all there is: what they lack is removed")
	c.Flags().StringVar(&summary, "summary", "", "why, for the list of revisions")
	return c
}

func (a *app) keyCommand() *cobra.Command {
	completeKeys := a.names("/keys", func(m map[string]any) string {
		s, _ := m["fingerprint"].(string)
		return s
	})
	add := &cobra.Command{Use: "add FILE…", Short: "Bring certificates in; this decides nothing about them",
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
	var source string
	var away bool
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
	show := &cobra.Command{Use: "show FINGERPRINT", Short: "Show one certificate: parts, dates, decisions",
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
