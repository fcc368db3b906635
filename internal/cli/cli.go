// Package cli is the command line: `stockade NOUN VERB`.
//
// Results go to standard output, progress and messages to standard error.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime/debug"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

// Version is stamped in by the build (-ldflags -X).
var Version = "development"

// Exit codes.
const (
	exitDone        = 0
	exitNo          = 1
	exitUsage       = 2
	exitUnreachable = 3
	exitRefused     = 4
	exitFailed      = 5
)

// exit carries an exit code; its error may be nil when all was told already.
type exit struct {
	code int
	err  error
}

func (e *exit) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}
func (e *exit) Unwrap() error { return e.err }

func no() error { return &exit{code: exitNo} }

func usage(format string, args ...any) error { return &exit{exitUsage, fmt.Errorf(format, args...)} }

// app is one run of the command line.
type app struct {
	in            io.Reader
	out, err      io.Writer
	output        string
	quiet, yes    bool
	server, token string
	env           func(name string) string
	tty           bool // standard output is a terminal
	ttyErr        bool // standard error is one
	colour        bool
}

// Main runs one command in the environment of this process, and gives its exit code.
func Main(args []string, in io.Reader, out, err io.Writer) int {
	return Run(os.Getenv, args, in, out, err)
}

// Run is Main in an environment that is given: several can run in one process.
func Run(env func(name string) string, args []string, in io.Reader, out, err io.Writer) int {
	a := &app{env: env, in: in, out: out, err: err, tty: isTerminal(out), ttyErr: isTerminal(err)}
	a.colour = a.tty && env("NO_COLOR") == "" && env("TERM") != "dumb"
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(err)
	cmd, failed := root.ExecuteContextC(ctx)
	code := a.end(failed)
	var told *exit
	var problem *api.Problem
	if code == exitUsage && !errors.As(failed, &told) && !errors.As(failed, &problem) && cmd != root {
		fmt.Fprintln(err, "  usage: "+cmd.UseLine())
		if cmd.Example != "" {
			fmt.Fprintln(err, "  such as:\n"+cmd.Example)
		}
	}
	return code
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// end tells an error in full and gives its exit code.
func (a *app) end(err error) int {
	if err == nil {
		return exitDone
	}
	var e *exit
	var p *api.Problem
	code := exitUsage
	switch {
	case errors.As(err, &e):
		code = e.code
		if e.err == nil {
			return code
		}
	case errors.Is(err, client.ErrUnreachable):
		code = exitUnreachable
		err = fmt.Errorf("%w\n  to do: start it with \"stockade serve\", or name another with --server or "+
			"STOCKADE_SERVER", err)
	case errors.Is(err, context.Canceled):
		fmt.Fprintln(a.err, "stopped")
		return exitFailed
	case errors.As(err, &p):
	default:
		if _, ok := finding.From(err); ok {
			code = exitNo
		} else if !strings.HasPrefix(err.Error(), "unknown ") && !strings.Contains(err.Error(), "arg(s)") &&
			!strings.Contains(err.Error(), "flag") {
			code = exitFailed
		}
	}
	if errors.As(err, &p) {
		switch {
		case p.Status == 401 || p.Status == 403 || p.Status == 429:
			code = exitRefused
		case p.Status == 404:
			code = exitUsage // a name that nothing has
		case p.Status == 422 || p.Status == 409:
			code = exitNo
		default:
			code = exitFailed
		}
		fmt.Fprintln(a.err, a.paint(red, "error: ")+finding.Harmless(p.Title))
		if len(p.Findings) > 0 && !(len(p.Findings) == 1 && p.Findings[0].Text == p.Detail &&
			p.Findings[0].Place.Line == 0) {
			a.findings(a.err, p.Findings)
			return code
		}
		if p.Detail != "" {
			about := ""
			if p.Object != "" {
				about = p.Object + ": "
			}
			fmt.Fprintln(a.err, "  cause: "+finding.Harmless(about+p.Detail))
		}
		if p.WayOut != "" {
			fmt.Fprintln(a.err, "  to do: "+finding.Harmless(p.WayOut))
		}
		return code
	}
	if f, ok := finding.From(err); ok {
		a.findings(a.err, finding.List{f})
		return code
	}
	fmt.Fprintln(a.err, a.paint(red, "error: ")+err.Error())
	return code
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "stockade",
		Short: "Verified offline mirrors for machines with no way to the internet",
		Long: `Stockade describes package sources and the keys that may sign them, checks both,
builds verified offline mirrors, and hands machines the files they need.

One binary is the service (stockade serve), the client of it (all other
commands), and the tool that checks definitions with no service (stockade check).`,
		Example: `  stockade demo --once                 the whole way, on made-up data
  stockade serve --data /srv/stockade  the service
  stockade check site.yaml             definitions, without a service`,
		SilenceErrors: true, SilenceUsage: true, Args: nearest, DisableSuggestions: true,
		RunE: func(cmd *cobra.Command, args []string) error { return cmd.Help() },
	}
	p := root.PersistentFlags()
	p.StringVarP(&a.output, "output", "o", "", "form of the result: table, json, yaml or ids")
	p.BoolVarP(&a.quiet, "quiet", "q", false, "no progress and no messages, only results and errors")
	p.StringVar(&a.server, "server", "", "address of the service (STOCKADE_SERVER, or what login remembered)")
	p.BoolVar(&a.yes, "yes", false, "do not ask before something is removed")
	root.PersistentPreRunE = func(cmd *cobra.Command, args []string) error {
		switch a.output {
		case "", "table", "json", "yaml", "ids":
			return nil
		}
		return usage("-o %s is not known: table, json, yaml or ids", a.output)
	}
	root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml", "ids"},
		cobra.ShellCompDirectiveNoFileComp))
	root.AddCommand(a.serveCommand(), a.demoCommand(), a.loginCommand(), a.versionCommand(), a.checkCommand(),
		a.compareCommand(), a.recordCommand(),
		a.sourceCommand(), a.packageCommand(), a.keyCommand(), a.mirrorCommand(), a.editionCommand(),
		a.poolCommand(), a.laneCommand(), a.groupCommand(), a.jobCommand(),
		a.revisionCommand(), a.journalCommand(), a.accountCommand())
	return root
}

// nearest refuses a word that is no command, and names the one that was meant.
func nearest(cmd *cobra.Command, args []string) error {
	if len(args) == 0 {
		return nil
	}
	var known []string
	for _, c := range cmd.Commands() {
		if c.IsAvailableCommand() {
			known = append(known, c.Name())
		}
	}
	way := "it is one of " + strings.Join(known, ", ")
	if near := definition.Nearest(args[0], known); near != "" {
		way = fmt.Sprintf("did you mean %q? %s --help lists all",
			cmd.CommandPath()+" "+near, cmd.CommandPath())
	}
	return usage("%q is no command of %s\n  to do: %s", finding.Harmless(args[0]), cmd.CommandPath(), way)
}

func (a *app) versionCommand() *cobra.Command {
	return &cobra.Command{Use: "version", Short: "Show the version", Args: cobra.NoArgs,
		Example: "  stockade version -o json", RunE: func(cmd *cobra.Command, args []string) error {
			v := map[string]string{"version": Version, "go": "", "revision": ""}
			if info, ok := debug.ReadBuildInfo(); ok {
				v["go"] = info.GoVersion
			}
			if i := strings.LastIndexByte(Version, '-'); i > 0 {
				v["revision"] = Version[i+1:]
			}
			return a.show(v, func() { fmt.Fprintln(a.out, "stockade "+Version) }, []string{Version})
		}}
}

// client gives the client of the service: flags, then environment, then login.
func (a *app) client() *client.Client {
	var r remembered
	if file, err := a.rememberedFile(); err == nil {
		if raw, err := os.ReadFile(file); err == nil {
			yaml.Unmarshal(raw, &r)
		}
	}
	server := first(a.server, a.env("STOCKADE_SERVER"), r.Server, "http://127.0.0.1:8440")
	token := a.env("STOCKADE_TOKEN")
	if token == "" && server == r.Server {
		token = r.Token // a remembered token goes only to the service that it is of
	}
	return client.New(server, token)
}

func first(s ...string) string {
	for _, v := range s {
		if v != "" {
			return v
		}
	}
	return ""
}

// say writes a message to standard error, unless quiet.
func (a *app) say(format string, args ...any) {
	if !a.quiet {
		fmt.Fprintf(a.err, format+"\n", args...)
	}
}

// show prints a result in the form that was asked for.
func (a *app) show(v any, table func(), names []string) error {
	switch a.output {
	case "json":
		e := json.NewEncoder(a.out)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		return e.Encode(v)
	case "yaml":
		raw, err := json.Marshal(v)
		if err != nil {
			return err
		}
		var n any
		if err := json.Unmarshal(raw, &n); err != nil {
			return err
		}
		return yaml.NewEncoder(a.out).Encode(n)
	case "ids":
		for _, n := range names {
			fmt.Fprintln(a.out, n)
		}
		return nil
	}
	table()
	return nil
}

// sure asks before something is removed.
func (a *app) sure(question string) error {
	if a.yes {
		return nil
	}
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return usage("%s\n  to do: give --yes to go on without being asked", question)
	}
	fmt.Fprintf(a.err, "%s Type yes to go on: ", question)
	var answer string
	fmt.Fscanln(a.in, &answer)
	if answer != "yes" {
		fmt.Fprintln(a.err, "nothing was changed")
		return no()
	}
	return nil
}

// names completes from a list that the service has.
func (a *app) names(path string, name func(m map[string]any) string) func(*cobra.Command, []string,
	string) ([]string, cobra.ShellCompDirective) {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		all, err := client.All[map[string]any](cmd.Context(), a.client(), path)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, m := range all {
			out = append(out, name(m))
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func byName(m map[string]any) string { s, _ := m["name"].(string); return s }
