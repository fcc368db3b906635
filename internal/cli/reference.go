package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// Example is one line of a command's example.
type Example struct {
	Command string // such as "mirror build"
	Line    string // as a shell takes it; it may go over several lines
}

// each calls f with every command that people use, in the order of the help.
func each(c *cobra.Command, f func(*cobra.Command)) {
	for _, sub := range c.Commands() {
		if sub.Name() != "help" && sub.Name() != "completion" && !sub.Hidden {
			f(sub)
			each(sub, f)
		}
	}
}

// Examples gives the lines of the examples of all commands. Nouns show those of their
// first verb, which are not told twice.
func Examples() (out []Example) {
	each((&app{env: func(string) string { return "" }}).root(), func(c *cobra.Command) {
		if c.HasSubCommands() {
			return
		}
		name := strings.TrimPrefix(c.CommandPath(), "stockade ")
		goesOn := false
		for line := range strings.Lines(c.Example) {
			line = strings.TrimRight(line, "\n")
			switch {
			case goesOn:
				out[len(out)-1].Line += "\n" + line
			case strings.HasPrefix(line, "  "):
				out = append(out, Example{name, strings.TrimSpace(line)})
			default: // words between them
				continue
			}
			goesOn = strings.HasSuffix(line, "\\")
		}
	})
	return out
}

// Commands gives the names of all commands that do something: "mirror build".
func Commands() (out []string) {
	each((&app{env: func(string) string { return "" }}).root(), func(c *cobra.Command) {
		if !c.HasSubCommands() {
			out = append(out, strings.TrimPrefix(c.CommandPath(), "stockade "))
		}
	})
	return out
}

// Check tells what is wrong with the words of a call, without running it: the command,
// its options, and how many arguments it takes.
func Check(words []string) error {
	root := (&app{env: func(string) string { return "" }, out: io.Discard, err: io.Discard}).root()
	cmd, rest, err := root.Find(words)
	if err != nil {
		return err
	}
	if err := cmd.ParseFlags(rest); err != nil {
		return err
	}
	if cmd.HasSubCommands() && cmd != root {
		return nearest(cmd, cmd.Flags().Args())
	}
	return cmd.ValidateArgs(cmd.Flags().Args())
}

// Reference is docs/commands.md: every command with its options and examples, and the
// exit codes.
func Reference() string {
	var b strings.Builder
	root := (&app{env: func(string) string { return "" }}).root()
	b.WriteString(strings.ReplaceAll(referenceHead, "'", "`"))
	for _, m := range exitTable {
		fmt.Fprintf(&b, "| %d | %s |\n", m.Code, m.When)
	}
	b.WriteString("\n## Options of every command\n\n")
	options(&b, root.PersistentFlags())
	each(root, func(c *cobra.Command) {
		if c.HasSubCommands() {
			fmt.Fprintf(&b, "\n## %s\n\n%s.\n", c.CommandPath(), c.Short)
			return
		}
		level := "##"
		if c.Parent() != root {
			level = "###"
		}
		fmt.Fprintf(&b, "\n%s %s\n\n", level, c.CommandPath())
		paragraphs := strings.Split(c.Long, "\n\n")
		for i, p := range paragraphs {
			if strings.HasPrefix(p, "  ") { // kept as it is, also by a terminal
				paragraphs[i] = "```text\n" + p + "\n```"
			} else {
				paragraphs[i] = strings.Join(strings.Fields(p), " ")
			}
		}
		text := strings.Join(paragraphs, "\n\n")
		if c.Long == "" {
			text = c.Short + "."
		}
		fmt.Fprintf(&b, "%s\n\n```sh\nstockade %s\n```\n\n", text,
			strings.TrimSuffix(strings.TrimPrefix(c.UseLine(), "stockade "), " [flags]"))
		c.InitDefaultHelpFlag()
		options(&b, c.LocalNonPersistentFlags())
		example(&b, c.Example)
	})
	return b.String()
}

func options(b *strings.Builder, flags *pflag.FlagSet) {
	any := false
	flags.VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" || f.Hidden {
			return
		}
		name := "--" + f.Name
		if f.Shorthand != "" {
			name = "-" + f.Shorthand + ", " + name
		}
		if kind, _ := pflag.UnquoteUsage(f); kind != "" {
			name += " " + strings.ToUpper(kind)
		}
		fmt.Fprintf(b, "- `%s`: %s", name, f.Usage)
		if f.DefValue != "" && f.DefValue != "false" && f.DefValue != "0" && f.DefValue != "[]" {
			fmt.Fprintf(b, " (%s by default)", f.DefValue)
		}
		b.WriteString("\n")
		any = true
	})
	if any {
		b.WriteString("\n")
	}
}

// example writes the lines of an example as code, and the words between them as text.
func example(b *strings.Builder, text string) {
	inside := false
	for line := range strings.Lines(text) {
		line = strings.TrimRight(line, "\n")
		code := strings.HasPrefix(line, "  ")
		if code != inside && (code || line != "") {
			b.WriteString(map[bool]string{true: "```sh\n", false: "```\n\n"}[code])
			inside = code
		}
		if line != "" {
			b.WriteString(strings.TrimPrefix(line, "  ") + "\n")
		}
		if line != "" && !code {
			b.WriteString("\n")
		}
	}
	if inside {
		b.WriteString("```\n")
	}
}

// referenceHead is how the reference begins.
const referenceHead = `# Commands

<!-- written by internal/cli; make documents writes it anew -->

A command is 'stockade NOUN VERB'. It writes results to standard output, and progress and messages to standard
error.

## Output

| option | output |
|---|---|
| '-o table' | a table, cut to the width of the terminal; '--wide' shows all columns |
| '-o json', '-o yaml' | the fields of the API; a list if the command can take several names |
| '-o ids' | one name per line, for pipes |

With '-o json' and '-o yaml', errors have that format too. They are on standard error, with the fields of a
problem of the API and 'exit_code'.

Without a terminal the output is neither cut nor coloured. 'NO_COLOR' and 'COLUMNS' are honoured.

## The service

The address of the service is the first of '--server', 'STOCKADE_SERVER' and what 'stockade login' saved. An
address without a scheme means https, or http for this machine. The token is 'STOCKADE_TOKEN' or the one that
'stockade login' saved. A saved token is sent only to the service that it was saved for.

## Values

| value | written as |
|---|---|
| size | '700', '5M', '4GiB' (powers of 1024), '5MB' (powers of 1000) |
| duration | '90s', '30m', '12h', '2d', '3w' |

Ctrl-C stops following a job; the job continues. 'stockade job watch' follows it again, 'stockade job stop'
stops it.

## Exit codes

| code | when |
|---|---|
`
