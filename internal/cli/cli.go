// Package cli is the command line: `stockade NOUN VERB`.
//
// Results go to standard output, progress and messages to standard error.
package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"os/signal"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"
	"unicode/utf16"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"

	"stockade/core/definition"
	"stockade/core/finding"
	"stockade/internal/client"
)

// Version is stamped in by the build (-ldflags -X).
var Version = "development"

// app is one run of the command line.
type app struct {
	in         io.Reader
	out, err   io.Writer
	output     string
	quiet, yes bool
	wide       bool   // tables as they are
	server, ca string // its address, and the authority that vouches for its certificate
	env        func(name string) string
	ttyErr     bool // standard error is a terminal
	colour     bool
	serves     bool            // the command is the service
	signalled  <-chan struct{} // closed by a signal
	gathering  bool            // results of several pieces of work become one list
	gathered   []any
	width      int // of the terminal (characters); 0: there is none
}

// Main runs one command in the environment of this process, and gives its exit code.
func Main(args []string, in io.Reader, out, err io.Writer) int {
	return Run(os.Getenv, args, in, out, err)
}

// Run is Main in an environment that is given: several can run in one process.
func Run(env func(name string) string, args []string, in io.Reader, out, err io.Writer) int {
	written := &written{to: out}
	a := &app{env: env, in: in, out: written, err: err, ttyErr: isTerminal(err)}
	a.colour = isTerminal(out) && env("NO_COLOR") == "" && env("TERM") != "dumb"
	a.width = terminalWidth(env, out)
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends at once
	a.signalled = ctx.Done()
	defer a.atTheLatest(ctx)()
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(written)
	root.SetErr(err)
	cmd, failed := root.ExecuteContextC(ctx)
	failed = ofArguments(cmd, failed)
	if written.err != nil && (failed == nil || errors.Is(failed,
		written.err)) { // a text that ends somewhere in the middle is no result
		failed = &exit{exitFailed, finding.Doing(written.err, "write the result")}
	}
	if failed != nil && a.output == "" {
		a.output = formOf(args) // what kept the arguments from being read is told in it too
	}
	code := a.end(failed)
	var told *exit
	if code == exitUsage && !errors.As(failed, &told) && fromCobra(failed) && cmd != root &&
		a.output != "json" && a.output != "yaml" {
		fmt.Fprintln(err, "  usage: "+cmd.UseLine())
		if cmd.Example != "" {
			fmt.Fprintln(err, "  for example:\n"+cmd.Example)
		}
	}
	return code
}

// written remembers that something could not be written.
type written struct {
	to  io.Writer
	err error
}

// Write implements io.Writer.
func (w *written) Write(p []byte) (int, error) {
	n, err := w.to.Write(p)
	if w.err == nil {
		w.err = err
	}
	return n, err
}

// leaves is how long a command has to end after a signal, and serviceEnds the service, which lets answers
// that are under way come to their end first.
const (
	leaves      = 1500 * time.Millisecond
	serviceEnds = 2 * time.Second
)

// atTheLatest ends the process where a command does not end after a signal, such as on a disk that does
// not answer. What it writes appears whole or not at all. The function that it gives calls that off.
func (a *app) atTheLatest(ctx context.Context) (off func()) {
	ended := make(chan struct{})
	context.AfterFunc(ctx, func() {
		within := leaves
		if a.serves {
			within = serviceEnds
		}
		select {
		case <-ended:
		case <-time.After(within):
			fmt.Fprintf(a.err, "a signal ended the command after it did not end by itself "+
				"within %s\n", within)
			os.Exit(exitInterrupted)
		}
	})
	return func() { close(ended) }
}

// ofArguments says what a command lacks, or has too much, in its own words.
func ofArguments(cmd *cobra.Command, err error) error {
	if err == nil || !strings.Contains(err.Error(), "arg(s)") {
		return err
	}
	what := "an argument is missing"
	if given := cmd.Flags().Args(); len(given) > len(strings.Fields(cmd.Use))-1 {
		what = "too many arguments"
	}
	return usageDo(fmt.Sprintf("run %s --help to see the usage", cmd.CommandPath()),
		"%s: the usage is %s",
		what, strings.TrimSuffix(cmd.UseLine(), " [flags]"))
}

// formOf finds the form that arguments ask for, which could not be read as a whole.
func formOf(args []string) string {
	for i, arg := range args {
		if form, ok := strings.CutPrefix(arg, "--output="); ok {
			return form
		}
		if (arg == "-o" || arg == "--output") && i+1 < len(args) {
			return args[i+1]
		}
		if form, ok := strings.CutPrefix(arg, "-o"); ok {
			return strings.TrimPrefix(form, "=")
		}
	}
	return ""
}

func isTerminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// narrowest is the narrowest terminal that tables are cut for (characters).
const narrowest = 40

// terminalWidth is how wide the terminal is; 0 where there is none: then nothing is
// cut. COLUMNS, where it is set, says it in any case.
func terminalWidth(env func(string) string, out any) int {
	if n, err := strconv.Atoi(env("COLUMNS")); err == nil && n >= narrowest {
		return n
	}
	f, ok := out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	if n, _, err := term.GetSize(int(f.Fd())); err == nil && n >= narrowest {
		return n
	}
	return 80
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "stockade",
		Short: "Verified offline mirrors for machines with no way to the internet",
		Long: `Stockade describes package sources and the keys that may sign them, verifies both,
builds verified offline mirrors, and writes the files that machines need to use them.

One binary is the service (stockade serve), its client (most commands) and the tool that checks
definitions without a service (stockade check).`,
		Example: `  stockade demo --once                 run the whole way on made-up data
  stockade serve --data /srv/stockade  run the service
  stockade check site.yaml             check definitions, without a service
  stockade status                      show what needs attention, on one screen`,
		Version:       Version,
		SilenceErrors: true, SilenceUsage: true, Args: nearest, DisableSuggestions: true,
		RunE: func(cmd *cobra.Command, args []string) error { return cmd.Help() },
	}
	root.SetVersionTemplate("stockade {{.Version}}\n")
	root.Flags().Bool("version", false, "show the version")
	p := root.PersistentFlags()
	p.StringVarP(&a.output, "output", "o", "", "output format: table, json, yaml or ids")
	p.BoolVarP(&a.quiet, "quiet", "q", false, "print only results and errors, no progress or "+
		"messages")
	p.StringVar(&a.server, "server", "",
		"address of the service; STOCKADE_SERVER or the saved login by default")
	p.StringVar(&a.ca, "ca", "", "file with the CA certificate that issued the certificate of "+
		"the service; STOCKADE_CA or the saved login by default")
	p.BoolVar(&a.wide, "wide", false, "show all columns of tables, at any width")
	p.BoolVar(&a.yes, "yes", false, "answer yes to questions")
	root.PersistentPreRunE = func(cmd *cobra.Command, args []string) error {
		switch a.output {
		case "", "table", "json", "yaml", "ids":
			return nil
		case "sarif":
			if cmd.Name() == "check" {
				return nil
			}
			return usage("only stockade check can print -o sarif")
		}
		given := a.output
		a.output = ""
		return usage("-o %s is not a format. The formats are table, json, yaml and ids", given)
	}
	root.RegisterFlagCompletionFunc("output", cobra.FixedCompletions([]string{"table", "json", "yaml",
		"ids"},
		cobra.ShellCompDirectiveNoFileComp))
	root.AddCommand(a.serveCommand(), a.demoCommand(), a.loginCommand(), a.versionCommand(),
		a.checkCommand(),
		a.compareCommand(), a.recordCommand(), a.describeCommand(), a.statusCommand(),
		a.sourceCommand(), a.packageCommand(), a.keyCommand(), a.mirrorCommand(), a.editionCommand(),
		a.poolCommand(), a.laneCommand(), a.groupCommand(),
		a.machineCommand(), a.jobCommand(), a.findingCommand(),
		a.amendCommand(), a.renameCommand(),
		a.revisionCommand(), a.journalCommand(), a.credentialCommand(), a.accountCommand(), a.siteCommand())
	a.helped(root)
	return root
}

// helped fits the help of all commands to the terminal.
func (a *app) helped(root *cobra.Command) {
	room := a.width
	if room == 0 {
		room = 100
	}
	root.SetUsageTemplate(strings.ReplaceAll(root.UsageTemplate(), ".FlagUsages",
		fmt.Sprintf(".FlagUsagesWrapped %d", room)))
	var each func(c *cobra.Command)
	each = func(c *cobra.Command) {
		c.Long = reflowed(c.Long, min(room, 90))
		for _, sub := range c.Commands() {
			each(sub)
		}
	}
	each(root)
	root.Long += "\n\nExit codes:\n" + strings.TrimRight(exitHelp(), "\n")
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
	way := "it must be one of " + strings.Join(known, ", ")
	word := strings.ToLower(args[0])
	if near := definition.Nearest(word, known); near != "" {
		way = fmt.Sprintf("did you mean %q? Run %s --help to list all commands",
			cmd.CommandPath()+" "+near, cmd.CommandPath())
	}
	return usageDo(way, "%q is not a command of %s", args[0], cmd.CommandPath())
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

// client gives the client of the service. What keeps it from being made is told by its
// first call.
func (a *app) client() *client.Client {
	c, err := a.reach()
	if err != nil {
		return client.Refusing(err)
	}
	return c
}

// reach makes the client of the service: from flags, then the environment, then login.
func (a *app) reach() (*client.Client, error) {
	r, broken := a.remembered()
	server, err := address(first(a.server, a.env("STOCKADE_SERVER"), r.Server, "http://127.0.0.1:8440"))
	if err != nil {
		return nil, err
	}
	token := a.env("STOCKADE_TOKEN")
	if token == "" && broken != nil {
		return nil, broken
	}
	ca := first(a.ca, a.env("STOCKADE_CA"))
	if server == r.Server {
		token, ca = first(token, r.Token), first(ca, r.CA) // they go only to the service that they are of
	}
	return a.clientOf(server, token, ca)
}

func (a *app) clientOf(server, token, ca string) (*client.Client, error) {
	if ca == "" {
		return client.New(server, token), nil
	}
	raw, err := os.ReadFile(ca)
	if err != nil {
		return nil, usage("cannot read the CA certificate: %v", err)
	}
	c, err := client.New(server, token).Trusting(raw)
	if err != nil {
		return nil, usage("%s: %v", ca, err)
	}
	return c, nil
}

// address completes the address of a service: one without a scheme is taken to be
// http on this machine, and https elsewhere.
func address(text string) (string, error) {
	text = strings.TrimRight(strings.TrimSpace(text), "/")
	if !strings.Contains(text, "://") {
		scheme := "https://"
		host := text
		if h, _, err := net.SplitHostPort(text); err == nil {
			host = h
		}
		if host = strings.Trim(host, "[]"); host == "localhost" || host == "" {
			scheme = "http://"
		} else if ip := net.ParseIP(host); ip != nil && ip.IsLoopback() {
			scheme = "http://"
		}
		text = scheme + text
	}
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return "", usageDo("give it as http://HOST:PORT or https://HOST:PORT",
			"%q is not an address of a service", text)
	}
	if u.User != nil {
		return "", usageDo("remove them, and run stockade login or set STOCKADE_TOKEN",
			"the address of the service contains a user or password")
	}
	return text, nil
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
	if a.gathering && (a.output == "json" || a.output == "yaml") {
		a.gathered = append(a.gathered, v)
		return nil
	}
	switch a.output {
	case "json":
		var raw bytes.Buffer
		e := json.NewEncoder(&raw)
		e.SetIndent("", "  ")
		e.SetEscapeHTML(false)
		if err := e.Encode(v); err != nil {
			return err
		}
		_, err := io.WriteString(a.out, escaped(raw.String()))
		return err
	case "yaml":
		raw, err := json.Marshal(v)
		if err == nil {
			raw, err = asYAML(raw)
		}
		if err != nil {
			return err
		}
		_, err = io.WriteString(a.out, finding.HarmlessLines(string(raw)))
		return err
	case "ids":
		for _, n := range names {
			fmt.Fprintln(a.out, finding.Harmless(n))
		}
		return nil
	}
	table()
	return nil
}

// escaped writes what a terminal would obey, or show as something else, as JSON escapes it (RFC 8259,
// section 7): names and texts come from upstreams. It means the same.
func escaped(text string) string {
	if finding.HarmlessLines(text) == text {
		return text
	}
	var b strings.Builder
	for _, r := range text {
		if r == '\n' || r == '\t' || finding.Harmless(string(r)) == string(r) {
			b.WriteRune(r)
			continue
		}
		for _, unit := range utf16.Encode([]rune{r}) {
			fmt.Fprintf(&b, `\u%04x`, unit)
		}
	}
	return b.String()
}

// asYAML writes JSON as YAML; integers stay what they are.
func asYAML(raw []byte) ([]byte, error) {
	d := json.NewDecoder(bytes.NewReader(raw))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, err
	}
	return yaml.Marshal(numbers(v))
}

// numbers turns JSON's numbers into integers where they are integers.
func numbers(v any) any {
	switch x := v.(type) {
	case json.Number:
		if n, err := x.Int64(); err == nil {
			return n
		}
		n, err := x.Float64()
		if err != nil {
			return x.String()
		}
		return n
	case []any:
		for i := range x {
			x[i] = numbers(x[i])
		}
	case map[string]any:
		for k := range x {
			x[k] = numbers(x[k])
		}
	}
	return v
}

// sure asks before something is removed.
func (a *app) sure(question string) error {
	if a.yes {
		return nil
	}
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return usageDo("add --yes to answer yes", "%s", question)
	}
	fmt.Fprintf(a.err, "%s Type yes to continue: ", question)
	answer, err := a.typed(f, func() (answer string, err error) {
		fmt.Fscanln(a.in, &answer)
		return answer, nil
	})
	if err != nil {
		return err
	}
	if answer != "yes" {
		fmt.Fprintln(a.err, "nothing was changed")
		return no()
	}
	return nil
}

// typed waits for what somebody types at a terminal. A signal ends that at once, and the terminal is as it
// was before: with its echo, where a secret was asked for.
func (a *app) typed(at *os.File, read func() (string, error)) (string, error) {
	before, _ := term.GetState(int(at.Fd()))
	type answer struct {
		text string
		err  error
	}
	given := make(chan answer, 1)
	go func() {
		text, err := read()
		given <- answer{text, err}
	}()
	select {
	case got := <-given:
		return got.text, got.err
	case <-a.signalled:
		if before != nil {
			term.Restore(int(at.Fd()), before)
		}
		fmt.Fprintln(a.err)
		return "", context.Canceled
	}
}

// typedSecret is typed for what is not shown.
func (a *app) typedSecret(at *os.File) (string, error) {
	text, err := a.typed(at, func() (string, error) {
		raw, err := term.ReadPassword(int(at.Fd()))
		return string(raw), err
	})
	if !errors.Is(err, context.Canceled) {
		fmt.Fprintln(a.err)
	}
	return text, err
}

// names completes from a list that the service has: as many as a command takes, each
// once.
func (a *app) names(path string, most int, name func(m map[string]any) string) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		if most > 0 && len(args) >= most {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		all, err := client.All[map[string]any](cmd.Context(), a.client(), path)
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, m := range all {
			if n := name(m); !slices.Contains(args, n) {
				out = append(out, n)
			}
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func byName(m map[string]any) string { s, _ := m["name"].(string); return s }
