package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"regexp"
	"slices"
	"strings"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

// Exit codes. What each means is said once, in exitTable.
const (
	exitDone        = 0
	exitNo          = 1
	exitUsage       = 2
	exitUnreachable = 3
	exitRefused     = 4
	exitFailed      = 5
	exitInterrupted = 130 // 128 and the number of SIGINT, as shells have it
)

// exitMeaning is one line of the table of exit codes.
type exitMeaning struct {
	Code int
	When string
}

// exitTable is the table that docs/commands.md and the help show.
var exitTable = []exitMeaning{
	{exitDone, "success, or the answer is yes"},
	{exitNo, "the answer is no: a check found errors, a proof or a verification failed, a " +
		"comparison with --same found a difference, status found something that needs " +
		"attention, a definition was rejected, or a question was answered with no"},
	{exitUsage, "the call was wrong: an unknown command, option or name, or an invalid value"},
	{exitUnreachable, "the service could not be reached"},
	{exitRefused, "not allowed: no valid token, or its role does not allow this"},
	{exitFailed, "the work failed, or it was stopped: for example a full disk or a network " +
		"error"},
	{exitInterrupted, "interrupted with Ctrl-C; a job that was followed continues"},
}

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

// wrongUse is a call that was wrong: what, and what to do about it.
type wrongUse struct{ what, way string }

func (w *wrongUse) Error() string {
	if w.way == "" {
		return w.what
	}
	return w.what + " (" + w.way + ")"
}

func usage(format string, args ...any) error {
	return &exit{exitUsage, &wrongUse{what: fmt.Sprintf(format, args...)}}
}

// usageDo is usage with the way out.
func usageDo(way, format string, args ...any) error {
	return &exit{exitUsage, &wrongUse{fmt.Sprintf(format, args...), way}}
}

// failure is an error as it is told: in words, or in the form that was asked for. Its
// fields are those of a problem over HTTP, and the exit code.
type failure struct {
	Type     string       `json:"type"`
	Title    string       `json:"title"`
	Status   int          `json:"status,omitempty"` // of HTTP, where a service answered
	Detail   string       `json:"detail,omitempty"`
	Object   string       `json:"object,omitempty"`
	WayOut   string       `json:"way_out,omitempty"`
	Findings finding.List `json:"findings,omitempty"`
	Exit     int          `json:"exit_code"`
}

// typeOf is the type of a failure that no service told.
func typeOf(code int) string {
	return "urn:stockade:" + map[int]string{exitNo: "no", exitUsage: "usage", exitUnreachable: "unreachable",
		exitRefused: "rights", exitFailed: "failed", exitInterrupted: "interrupted"}[code]
}

// failed says what an error comes to.
func failed(err error) failure {
	var (
		e *exit
		w *wrongUse
		p *api.Problem
	)
	if errors.As(err, &p) {
		return failure{p.Type, p.Title, p.Status, p.Detail, p.Object, p.WayOut, p.Findings, problemExit(p)}
	}
	out := failure{Exit: exitFailed}
	out.Title = err.Error()
	f, found := finding.From(err)
	switch {
	case errors.As(err, &e):
		out.Exit = e.code
	case errors.Is(err, context.Canceled):
		out.Exit, out.Title = exitInterrupted, "interrupted"
	case errors.Is(err, client.ErrUnreachable):
		out.Exit = exitUnreachable
		out.WayOut = "run stockade serve, or name another service with --server or " +
			"STOCKADE_SERVER"
		if hint, ok := client.Hint(err); ok {
			out.WayOut = hint
		}
	case !found && fromCobra(err):
		out.Exit, out.Title = exitUsage, badNumber.ReplaceAllString(err.Error(),
			"$2 is \"$1\", which is not a number")
	case found && !f.Code.In("site"):
		out.Exit = exitNo
	}
	if errors.As(err, &w) {
		out.Title, out.WayOut = w.what, w.way
	}
	out.Type = typeOf(out.Exit)
	if found {
		out.Type, out.Object, out.WayOut = "urn:stockade:"+string(f.Code), f.Object, f.WayOut
		out.Findings = finding.List{f}
	}
	return out
}

// ofCobra is how errors of reading the arguments begin, most of which have no type of their own. What
// a file is called says nothing.
var ofCobra = regexp.MustCompile(`^(unknown (command|flag|shorthand flag)\b|no such flag |bad flag syntax: |` +
	`flag needs an argument: |invalid argument "|required flag\(s\) |if any flags in the group |` +
	`at least one of the flags |(accepts|requires) [a-z0-9 ]*arg\(s\))`)

// badNumber is how an option with a number is told that could not be read.
var badNumber = regexp.MustCompile(`^invalid argument "(.*)" for "(?:-., )?(--[a-z-]+)" flag: strconv\..*$`)

// fromCobra tells errors of reading the arguments.
func fromCobra(err error) bool { return ofCobra.MatchString(err.Error()) }

// problemExit gives the exit code for what a service answered.
func problemExit(p *api.Problem) int {
	switch p.Status {
	case http.StatusUnauthorized, http.StatusForbidden, http.StatusTooManyRequests:
		return exitRefused
	case http.StatusNotFound, http.StatusBadRequest: // a name that nothing has, or a bad value
		return exitUsage
	case http.StatusUnprocessableEntity, http.StatusConflict, http.StatusPreconditionFailed:
		return exitNo
	}
	return exitFailed
}

// end tells an error in full and gives its exit code.
func (a *app) end(err error) int {
	if err == nil {
		return exitDone
	}
	var e *exit
	if errors.As(err, &e) && e.err == nil {
		return e.code
	}
	f := failed(err)
	for _, text := range []*string{&f.Title, &f.Detail, &f.WayOut} {
		*text = finding.WithoutUser(*text)
	}
	a.tell(f)
	return f.Exit
}

// tell writes a failure to standard error.
func (a *app) tell(f failure) {
	if a.output == "json" || a.output == "yaml" {
		raw, err := json.MarshalIndent(f, "", "  ")
		if err == nil && a.output == "yaml" {
			raw, err = asYAML(raw)
		}
		if err == nil {
			fmt.Fprintln(a.err, strings.TrimRight(string(raw), "\n"))
			return
		}
	}
	known := len(f.Findings) > 0
	alone := known && len(f.Findings) == 1 && f.Findings[0].Place.Line == 0
	switch {
	case alone && f.Findings[0].Text == f.Detail: // the problem says all of it
		known = false
	case alone && f.Detail == "":
		a.findings(a.err, f.Findings)
		return
	}
	what := f.Title
	if f.Detail != "" && !known {
		what += ": "
		if slices.Contains([]string{api.NotFound, api.Rejected, api.Broken}, f.Title) {
			what = "" // the detail says what is wrong, and the title nothing more
		}
		if f.Object != "" {
			what += f.Object + ": "
		}
		what += f.Detail + codeOf(strings.TrimPrefix(f.Type, "urn:stockade:"))
	}
	a.hang(a.err, a.paint(red, "error: "), len("error: "), what)
	if known {
		a.findings(a.err, f.Findings)
		return
	}
	if f.WayOut != "" {
		a.hang(a.err, "  Fix: ", 7, f.WayOut)
	}
}

// codeOf names a finding's code behind what it says, for those who look it up.
func codeOf(code string) string {
	if !strings.Contains(code, ".") {
		return ""
	}
	return " [" + code + "]"
}

// exitHelp is the table of exit codes as the help shows it.
func exitHelp() string {
	var b strings.Builder
	for _, m := range exitTable {
		for i, line := range wrapped(m.When, 68) {
			if i == 0 {
				fmt.Fprintf(&b, "  %3d  %s\n", m.Code, line)
				continue
			}
			fmt.Fprintf(&b, "       %s\n", line)
		}
	}
	return b.String()
}

// worse gives the exit code of several pieces of work: the one that keeps most from
// being done.
func worse(codes ...int) int {
	order := []int{exitDone, exitNo, exitFailed, exitUsage, exitRefused, exitUnreachable, exitInterrupted}
	worst := exitDone
	for _, c := range codes {
		if slices.Index(order, c) > slices.Index(order, worst) {
			worst = c
		}
	}
	return worst
}
