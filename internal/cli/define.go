package cli

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

// standardInput is what a document from there is called.
const standardInput = "standard input"

// maxStandardInput bounds what is read from standard input (bytes).
const maxStandardInput = 16 << 20

// read reads a file, or standard input where it is called "-".
func (a *app) read(path string) ([]byte, error) {
	if path != "-" {
		raw, err := os.ReadFile(path)
		if err != nil {
			return nil, usage("cannot read %s: %v", finding.Harmless(path), cause(err))
		}
		return raw, nil
	}
	raw, err := io.ReadAll(io.LimitReader(a.in, maxStandardInput+1))
	if err != nil {
		return nil, usage("cannot read standard input: %v", err)
	}
	if len(raw) > maxStandardInput {
		return nil, usage("standard input is larger than %s", size(maxStandardInput))
	}
	return raw, nil
}

// cause is an error without the path that was told already.
func cause(err error) error {
	var pe *fs.PathError
	if errors.As(err, &pe) {
		return pe.Err
	}
	return err
}

// readDocuments reads definitions from files, folders and standard input, with the
// key files that they name.
func (a *app) readDocuments(paths []string) (api.Documents, error) {
	in := api.Documents{Files: map[string][]byte{}}
	var files []string
	for _, p := range paths {
		if p == "-" {
			raw, err := a.read(p)
			if err != nil {
				return in, err
			}
			in.Documents = append(in.Documents, definition.Text{Name: standardInput, Text: string(raw)})
			continue
		}
		st, err := os.Stat(p)
		if err != nil {
			return in, usage("cannot read %s: %v", finding.Harmless(p), cause(err))
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
			return in, usage("the folder %s contains no .yaml file", finding.Harmless(p))
		}
	}
	slices.Sort(files)
	for _, f := range slices.Compact(files) {
		raw, err := a.read(f)
		if err != nil {
			return in, err
		}
		in.Documents = append(in.Documents, definition.Text{Name: f, Text: string(raw)})
	}
	set, _ := definition.Read(in.Documents...)
	for _, path := range set.FileNames() {
		if raw, err := os.ReadFile(path); err == nil {
			in.Files[path] = raw
		}
	}
	return in, nil
}

func (a *app) checkCommand() *cobra.Command {
	m := machineFiles{}
	fix, online := false, false
	c := &cobra.Command{Use: "check PATH…",
		Short: "Check definitions or a machine's configuration files, without a service",
		Long: `Check definitions: files, or folders of .yaml files that belong together; - is standard
input. Without --online, the command contacts neither a service nor an upstream. With --online it
downloads what the upstreams serve now, as if the keys that the documents name were vouched for. The
exit code is 1 if there are errors. A decision that is still open, such as a key that no one has vouched
for, is not an error of a document. --fix corrects what can be corrected automatically: a misspelled
word, a password in a URL, a former field name. -o sarif prints findings in the Static Analysis Results
Interchange Format 2.1.0, for editors and review tools.

The command also checks a machine's own configuration: single files of its package client, an archive of
its /etc, or with --root the whole configuration below the root of a machine.`,
		Example: "  stockade check demo-data/site\n  stockade check demo-data/mistakes.yaml --fix --yes\n" +
			"  stockade check - -o json < demo-data/mistakes.yaml\n" +
			"  stockade check --root demo-data/machine\n  stockade check demo-data/site -o sarif\n" +
			"  stockade check demo-data/site --online",
		RunE: func(cmd *cobra.Command, args []string) error {
			asked := cmd.Flags().Changed("root")
			own := func(p string) bool { return isMachineFile(p) || definition.IsPacked(p) }
			documents := slices.DeleteFunc(slices.Clone(args), own)
			m.paths = slices.DeleteFunc(slices.Clone(args), func(p string) bool { return !own(p) })
			if len(args) == 0 && !asked {
				return usage("name definitions, files of a machine, or its root with --root")
			}
			if online && (asked || len(m.paths) > 0) {
				return usage("--online works for definitions. For files of a machine, run " +
					"stockade source import first")
			}
			if fix {
				if asked || len(m.paths) > 0 || slices.Contains(documents, "-") {
					return usage("--fix works for files with definitions, not for files of a " +
						"machine or for standard input")
				}
				if err := a.mend(documents); err != nil {
					return err
				}
			}
			found, told := finding.List{}, []string{}
			if asked || len(m.paths) > 0 {
				of, sources, err := judgeMachine(m, time.Now())
				if err != nil {
					return err
				}
				found, told = append(found, of...), append(told, "a machine's files with "+number(sources,
					"source"))
			}
			if len(documents) > 0 {
				in, err := a.readDocuments(documents)
				if err != nil {
					return err
				}
				of, counts := judgeDocuments(in)
				found, told = append(found, of...), append(told, counts)
				if online {
					of, asked, err := a.online(cmd.Context(), in)
					if err != nil {
						return err
					}
					found, told = append(found, of...), append(told, asked)
				}
			}
			return a.judged(found, strings.Join(told, "; "))
		}}
	c.Flags().StringVar(&m.root, "root", "/", "folder that contains the root of a machine")
	c.Flags().BoolVar(&online, "online", false, "also check against what the upstreams serve "+
		"now")
	c.Flags().BoolVar(&fix, "fix", false,
		"correct what can be corrected automatically, after showing it; the former text of "+
			"each file is kept beside it")
	return c
}

// mend shows what is mechanical in documents, asks, and mends it. What is found then is
// told as ever.
func (a *app) mend(paths []string) error {
	in, err := a.readDocuments(paths)
	if err != nil {
		return err
	}
	found, _ := judgeDocuments(in)
	mended := definition.Mend(in.Documents, found)
	if len(mended) == 0 {
		a.say("nothing can be corrected automatically")
		return nil
	}
	for _, m := range mended {
		for _, l := range m.Changed() {
			if l.Old != "" {
				fmt.Fprintf(a.err, "%s:%d %s\n", finding.Harmless(m.Name), l.Number, a.paint(red,
					"- "+shownLine(l.Old)))
			}
			if l.New != "" {
				fmt.Fprintf(a.err, "%s:%d %s\n", finding.Harmless(m.Name), l.Number, a.paint(green,
					"+ "+shownLine(l.New)))
			}
		}
	}
	if err := a.sure("This changes " + number(len(mended), "file") + "."); err != nil {
		return err
	}
	for _, m := range mended {
		kept, err := keepBeside(m.Name, []byte(m.Before))
		if err == nil {
			err = disk.Save(m.Name, []byte(m.After), modeOf(m.Name))
		}
		if err != nil {
			return err
		}
		a.say("corrected %s. The former text is in %s", m.Name, kept)
		if slices.ContainsFunc(m.Changed(), func(l definition.Line) bool {
			return shownLine(
				l.Old) != l.Old && l.Old != ""
		}) {
			a.say("%s still contains the password that was in the URL. Delete it when you no "+
				"longer need it", kept)
		}
	}
	return nil
}

// shownLine is a line as it may be shown: not with a password in it.
func shownLine(line string) string {
	if i := strings.Index(line, "://"); i >= 0 && strings.Contains(line[i:], "@") {
		return "(a line with a user in an address is not shown)"
	}
	return finding.Harmless(strings.TrimRight(line, "\r"))
}

// keepBeside writes what a file was to a file of its own beside it.
func keepBeside(file string, data []byte) (string, error) {
	for n := 1; ; n++ {
		kept := file + ".before"
		if n > 1 {
			kept += "-" + strconv.Itoa(n)
		}
		f, err := os.OpenFile(kept, os.O_WRONLY|os.O_CREATE|os.O_EXCL, modeOf(file))
		if errors.Is(err, fs.ErrExist) && n < 1000 {
			continue
		}
		if err != nil {
			return "", finding.Doing(err, "keep %s as it was", file)
		}
		_, err = f.Write(data)
		return kept, finding.Doing(errors.Join(err, f.Sync(), f.Close()), "keep %s as it was", file)
	}
}

func modeOf(file string) fs.FileMode {
	if st, err := os.Stat(file); err == nil {
		return st.Mode().Perm()
	}
	return 0o644
}

// judgeDocuments checks definitions, and says how much there was.
func judgeDocuments(in api.Documents) (finding.List, string) {
	set, found := definition.Read(in.Documents...)
	if len(found.With(finding.DefineSyntax)) == 0 {
		found = definition.Merge(found, definition.Check(set, surroundings(in)))
	}
	found = definition.Proposed(found)
	definition.Excerpts(found, in.Documents...)
	return found, strings.Join([]string{number(len(in.Documents), "document"), number(len(set.Sources),
		"source"),
		number(len(set.Keys), "key"), number(len(set.Mirrors), "mirror"), number(len(set.Groups), "group")},
		", ")
}

// judged shows what was found, and gives the exit code for it.
func (a *app) judged(found finding.List, of string) error {
	var names []string
	for _, f := range found {
		names = append(names, string(f.Code))
	}
	if a.output == "sarif" {
		raw, err := sarif(found)
		if err != nil {
			return err
		}
		fmt.Fprintln(a.out, string(raw))
	} else if err := a.show(found, func() {
		a.findings(a.out, found)
		a.say("%s: %s", of, map[bool]string{true: "no problems found",
			false: worst(found)}[len(found) == 0])
	}, names); err != nil {
		return err
	}
	if found.HasErrors() {
		return no()
	}
	return nil
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
			case c.Action == "change" && len(f.Order) > 0:
				fmt.Fprintf(a.out, "           %s: new order: %s\n", f.Path,
					finding.Harmless(strings.Join(f.Order, ", ")))
			case c.Action == "change" && len(f.Gone)+len(f.Came) > 0:
				for _, item := range f.Gone {
					fmt.Fprintf(a.out, "           %s: - %s\n", f.Path, finding.Harmless(item))
				}
				for _, item := range f.Came {
					fmt.Fprintf(a.out, "           %s: + %s\n", f.Path, finding.Harmless(item))
				}
			case c.Action == "change" && f.Old == "":
				fmt.Fprintf(a.out, "           %s: %s (new)\n", f.Path, finding.Harmless(f.New))
			case c.Action == "change" && f.New == "":
				fmt.Fprintf(a.out, "           %s: %s (removed)\n", f.Path, finding.Harmless(f.Old))
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
	var same bool
	c := &cobra.Command{Use: "compare PATH…",
		Short: "Show what recording definitions would change",
		Long: "Show what recording definitions would change; - is standard input. The exit " +
			"code is 1 if errors keep the\ndefinitions from being recorded and, with --same, " +
			"if anything would change.",
		Example: "  stockade compare demo-data/site\n  stockade describe source tarn | stockade compare " +
			"- --same",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := a.readDocuments(args)
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
				a.losses(j)
				if len(j.Changes)+len(j.Vouches)+len(j.Renewed) == 0 && !j.Findings.HasErrors() {
					a.say("no changes")
				}
			}, changeNames(j)); err != nil {
				return err
			}
			if j.Findings.HasErrors() {
				return no()
			}
			return differs(same, len(j.Changes)+len(j.Vouches)+len(j.Renewed))
		}}
	c.Flags().BoolVar(&same, "same", false, "exit with 1 if anything would change")
	c.Flags().BoolVar(&whole, "whole", false,
		"treat the documents as complete: show what they lack as removed")
	return c
}

// askAboutLosses shows what stands on what a change takes away, and asks. Where it takes
// nothing away, or would be refused, nothing is asked.
func (a *app) askAboutLosses(j api.Judgement) error {
	var gone []string
	for _, c := range j.Changes {
		if c.Action == "remove" {
			gone = append(gone, c.Kind+"/"+c.Name)
		}
	}
	if !j.Recordable || len(gone)+len(j.Losses) == 0 {
		return nil
	}
	a.losses(j)
	if len(gone) > 0 {
		return a.sure("This removes " + strings.Join(gone, ", ") + ".")
	}
	return a.sure("This removes or disables the objects named above.")
}

// losses says what stands on what a change takes away.
func (a *app) losses(j api.Judgement) {
	for _, l := range j.Losses {
		what := l.Kind + " " + finding.Harmless(l.Name)
		a.say("%s is %s; in use by: %s", what, l.How, strings.Join(standing(l.Dependents), "; "))
		switch {
		case l.Kind == "upstream" && l.Left > 0:
			a.say("  %s keeps %s", l.Sources[0], number(l.Left, "upstream"))
		case l.Kind == "key" && len(l.Alone) > 0:
			a.say("  it is the only key of %s", strings.Join(l.Alone, ", "))
		}
	}
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
	c := &cobra.Command{Use: "record PATH…", Short: "Record definitions",
		Long: `Record definitions. Objects that the documents do not mention stay as they are, unless
you add --whole. A definition with vouched_for, fingerprint and evidence vouches for a key; only a
warden can record it. A document with an error changes nothing. - is standard input.`,
		Example: "  stockade record demo-data/site --summary \"first description\"",
		Args:    cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			in, err := a.readDocuments(args)
			if err != nil {
				return err
			}
			in.Whole, in.Summary = whole, summary
			would, err := client.Post[api.Judgement](cmd.Context(), a.client(), "/definitions/compare", in)
			if err != nil {
				return err
			}
			if err := a.askAboutLosses(would); err != nil {
				return err
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
					a.say("renewed certificates; no other changes")
				case len(j.Vouches) > 0:
					a.say("recorded decisions; no other changes")
				default:
					a.say("no changes")
				}
			}, changeNames(j))
		}}
	c.Flags().BoolVar(&whole, "whole", false, "treat the documents as complete: remove what "+
		"they lack")
	c.Flags().StringVar(&summary, "summary", "", "summary of the change, for the list of "+
		"revisions")
	return c
}
