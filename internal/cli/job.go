package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

// work is a job as a command asks for it.
type work struct {
	path   string
	in     any
	detach bool
	told   func(api.Job)          // what came of it, in words
	about  []string               // what the command is about, where its outcome is no name of its own
	ids    func(api.Job) []string // the names of its outcome
	asked  bool                   // it answers a question: findings are the answer, not a failure
}

// job starts a job, follows it unless detached, and tells how it ended.
func (a *app) job(ctx context.Context, w work) error {
	c := a.client()
	job, err := client.Post[api.Job](ctx, c, w.path, w.in)
	if err != nil {
		if ctx.Err() != nil {
			a.say("the answer of the service did not arrive. To see whether a job was started: " +
				"stockade job list")
		}
		return err
	}
	id := strconv.FormatInt(job.ID, 10)
	if w.detach {
		return a.show(job, func() {
			a.say("started job %d. To follow it: stockade job watch %d", job.ID, job.ID)
			fmt.Fprintln(a.out, job.ID)
		}, []string{id})
	}
	if job, err = a.follow(ctx, c, job); err != nil {
		return err
	}
	return a.ended(job, w)
}

// ended tells what came of a job and gives the exit code for it.
func (a *app) ended(job api.Job, w work) error {
	names := w.about
	if w.ids != nil {
		names = w.ids(job)
	}
	if job.State != api.Done {
		names = nil
	}
	if err := a.show(job, func() {
		if job.State == api.Done {
			a.findings(a.err, job.Findings)
			if w.told != nil {
				w.told(job)
			}
		}
	}, names); err != nil {
		return err
	}
	if job.State == api.Done {
		if job.Findings.HasErrors() {
			return no() // an estimate of what could not be sealed
		}
		return nil
	}
	f := failure{Exit: exitFailed}
	f.Type = typeOf(exitFailed)
	f.Title = fmt.Sprintf("%s of %s failed (job %d)", job.Kind, job.Object, job.ID)
	f.Object, f.Findings = job.Object, job.Findings
	if job.State != api.Failed {
		f.Title = fmt.Sprintf("%s of %s was %s (job %d)", job.Kind, job.Object, job.State, job.ID)
	}
	if job.State != api.Failed || len(job.Findings) == 0 {
		f.Object, f.Detail = "", job.Problem
	}
	if first := firstError(job.Findings); job.State == api.Failed && first != "" {
		f.Type = "urn:stockade:" + string(first)
		if w.asked && isAnswer(first) {
			f.Exit = exitNo
		}
	}
	a.findings(a.failing(), job.Findings)
	if f.Findings = nil; a.output == "json" || a.output == "yaml" {
		f.Findings = job.Findings
	}
	a.tell(f)
	return &exit{code: f.Exit}
}

// isAnswer tells a finding that answers what was asked from one that says why it could
// not be answered.
func isAnswer(code finding.Code) bool {
	return !code.In("site") && !code.In("job") &&
		code != finding.SourceUpstreamDown && code != finding.MirrorWillNotFit
}

// failing is where findings of what failed are told; in other forms than words they
// are part of the failure.
func (a *app) failing() io.Writer {
	if a.output == "json" || a.output == "yaml" {
		return io.Discard
	}
	return a.err
}

// firstError gives the code of the first finding that is an error.
func firstError(l finding.List) finding.Code {
	for _, f := range l {
		if f.Severity == finding.Error {
			return f.Code
		}
	}
	return ""
}

func decode[T any](raw json.RawMessage) (v T) {
	json.Unmarshal(raw, &v)
	return v
}

func (a *app) jobCommand() *cobra.Command {
	list := a.jobList()
	watch := a.jobWatch()
	stop := a.jobStop()
	return noun("job", "Manage jobs", list, watch, stop)
}

// withoutNotes leaves what is wrong, or will be.
func withoutNotes(all finding.List) finding.List {
	return slices.DeleteFunc(slices.Clone(all), func(f finding.Finding) bool {
		return f.Severity == finding.Note
	})
}

// follow waits for a job, with progress on standard error: a bar on a terminal,
// plain lines elsewhere. Left with Ctrl-C, it says that the job goes on.
func (a *app) follow(ctx context.Context, c *client.Client, job api.Job) (api.Job, error) {
	p := a.progress()
	ended, err := c.Follow(ctx, job.ID, func(e api.JobEvent) {
		if e.Progress != nil {
			p.show(*e.Progress)
		}
	})
	p.done()
	if err != nil && ctx.Err() != nil {
		what := ""
		if job.Kind != "" {
			what = " (" + job.Kind + " of " + job.Object + ")"
		}
		a.hang(a.err, "", 0, fmt.Sprintf("stopped following job %d%s, which continues. To "+
			"follow it again: stockade job watch %d. To stop it: stockade job stop %d", job.ID, what,
			job.ID, job.ID))
		return job, &exit{code: exitInterrupted}
	}
	return ended, err
}

var jobListing = listing[api.Job]{
	columns: []column{{head: "JOB", right: true}, {head: "KIND"}, {head: "OBJECT"}, {head: "STATE"},
		{head: "BY", spare: 3}, {head: "BEGAN", spare: 1}, {head: "TOOK", right: true, spare: 2},
		{head: "FINDINGS", cut: atEnd}},
	row: func(j api.Job) []string {
		took := "–"
		if j.Ended != nil {
			took = j.Ended.Sub(j.Started).Round(10 * time.Millisecond).String()
		}
		return []string{strconv.FormatInt(j.ID, 10), j.Kind, j.Object, string(j.State), j.By,
			date(j.Started), took, worst(j.Findings)}
	},
	name:  func(j api.Job) string { return strconv.FormatInt(j.ID, 10) },
	empty: "no jobs",
}

func (a *app) jobList() *cobra.Command {
	var state, mirror string
	var limit int
	c := &cobra.Command{Use: "list", Short: "List jobs, newest first",
		Example: "  stockade job list\n  stockade job list --state failed", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if known := api.JobState("").Values(); state != "" && !slices.Contains(known, state) {
				return oneOf("--state", state, known)
			}
			query := url.Values{"state": {state}}
			if mirror != "" {
				query.Set("object", "mirror "+mirror)
			}
			l := jobListing
			if state != "" || mirror != "" {
				l.empty = "no job matches"
			}
			return newest(a, cmd.Context(), "/jobs", query, limit, l)
		}}
	c.Flags().StringVar(&state, "state", "", "only jobs in this state")
	c.Flags().StringVar(&mirror, "mirror", "", "only jobs of this mirror")
	c.Flags().IntVar(&limit, "limit", 50, "largest number of jobs to show")
	c.RegisterFlagCompletionFunc("state", cobra.FixedCompletions(api.JobState("").Values(),
		cobra.ShellCompDirectiveNoFileComp))
	c.RegisterFlagCompletionFunc("mirror", a.names("/mirrors", 0, byName))
	return c
}

// newest shows the first of a list that is told newest first, and says when there are
// more.
func newest[T any](a *app, ctx context.Context, path string, query url.Values, limit int,
	l listing[T]) error {
	if limit < 1 || limit > 1000 {
		return usage("--limit is %d; it must be from 1 to 1000", limit)
	}
	query.Set("limit", strconv.Itoa(limit))
	page, err := client.Get[api.Page[T]](ctx, a.client(), path+"?"+query.Encode())
	if err != nil {
		return err
	}
	if err := l.show(a, page.Items); err != nil {
		return err
	}
	if page.Next != "" {
		a.say("the newest %d are shown. To show more: --limit", limit)
	}
	return nil
}

// jobNumber reads the number of a job.
func jobNumber(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usageDo("to list the numbers: stockade job list", "%q is not the number of a job",
			text)
	}
	return id, nil
}

func (a *app) jobWatch() *cobra.Command {
	return &cobra.Command{Use: "watch JOB", Short: "Follow a job until it ends",
		Example: "  stockade job watch 3", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.names("/jobs?state=running", 1, byID),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := jobNumber(args[0])
			if err != nil {
				return err
			}
			job, err := a.follow(cmd.Context(), a.client(), api.Job{ID: id})
			if err != nil {
				return err
			}
			return a.ended(job, work{about: []string{args[0]}, told: func(j api.Job) {
				if strings.HasPrefix(j.Object, "mirror ") && j.Kind != "preview" {
					a.outcome(j)
					return
				}
				a.say("job %d (%s of %s) is done", j.ID, j.Kind, j.Object)
			}})
		}}
}

func byID(m map[string]any) string {
	id, _ := m["id"].(float64)
	return strconv.FormatFloat(id, 'f', -1, 64)
}

func (a *app) jobStop() *cobra.Command {
	return &cobra.Command{Use: "stop JOB…",
		Short:   "Stop running jobs; everything that was verified is kept",
		Example: "  stockade job stop 3", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: a.names("/jobs?state=running", 0, byID),
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.each(args, func(arg string) error {
				id, err := jobNumber(arg)
				if err != nil {
					return err
				}
				j, err := client.Post[api.Job](cmd.Context(), a.client(),
					fmt.Sprintf("/jobs/%d/stop", id), nil)
				if err != nil {
					return err
				}
				return a.show(j, func() { a.say("asked job %d to stop", j.ID) }, []string{arg})
			})
		}}
}
