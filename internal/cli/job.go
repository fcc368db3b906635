package cli

import (
	"context"
	"encoding/json"
	"fmt"
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

// job starts a job, follows it unless detached, and tells how it ended.
func (a *app) job(ctx context.Context, path string, in any, detach bool, told func(api.Job)) error {
	c := a.client()
	job, err := client.Post[api.Job](ctx, c, path, in)
	if err != nil {
		return err
	}
	if detach {
		return a.show(job, func() {
			a.say("job %d began; stockade job watch %d follows it", job.ID, job.ID)
			fmt.Fprintln(a.out, job.ID)
		}, []string{strconv.FormatInt(job.ID, 10)})
	}
	if job, err = a.follow(ctx, c, job.ID); err != nil {
		if ctx.Err() != nil {
			a.say("no longer followed; job %d goes on: stockade job stop %d ends it", job.ID, job.ID)
		}
		return err
	}
	return a.ended(job, told)
}

// ended tells what came of a job and gives the exit code for it.
func (a *app) ended(job api.Job, told func(api.Job)) error {
	if err := a.show(job, func() {
		a.findings(a.err, job.Findings)
		if job.State == api.Done && told != nil {
			told(job)
		}
	}, []string{strconv.FormatInt(job.ID, 10)}); err != nil {
		return err
	}
	switch job.State {
	case api.Done:
		return nil
	case api.Failed:
		fmt.Fprintf(a.err, "%s%s of %s failed\n", a.paint(red, "error: "), job.Kind, job.Object)
		if len(job.Findings) == 0 {
			fmt.Fprintln(a.err, "  cause: "+finding.Harmless(job.Problem))
			return &exit{code: exitFailed}
		}
		return no()
	}
	fmt.Fprintf(a.err, "job %d was %s: %s\n", job.ID, job.State, job.Problem)
	return &exit{code: exitFailed}
}

func decode[T any](raw json.RawMessage) (v T) {
	json.Unmarshal(raw, &v)
	return v
}

func (a *app) jobCommand() *cobra.Command {
	list := a.jobList()
	watch := a.jobWatch()
	stop := a.jobStop()
	return noun("job", "Pieces of work that take time", list, watch, stop)
}

// withoutNotes leaves what is wrong, or will be.
func withoutNotes(all finding.List) finding.List {
	return slices.DeleteFunc(slices.Clone(all), func(f finding.Finding) bool {
		return f.Severity == finding.Note
	})
}

// follow waits for a job, with progress on standard error: a bar on a terminal,
// plain lines elsewhere.
func (a *app) follow(ctx context.Context, c *client.Client, id int64) (api.Job, error) {
	if a.quiet {
		return c.Follow(ctx, id, nil)
	}
	p := a.progress()
	defer p.done()
	return c.Follow(ctx, id, func(e api.JobEvent) {
		if e.Progress != nil {
			p.show(*e.Progress)
		}
	})
}

func (a *app) jobList() *cobra.Command {
	return &cobra.Command{Use: "list", Short: "List jobs, newest first", Example: "  stockade job list",
		Args: cobra.NoArgs, RunE: func(cmd *cobra.Command, args []string) error {
			page, err := client.Get[api.Page[api.Job]](cmd.Context(), a.client(), "/jobs?limit=50")
			if err != nil {
				return err
			}
			return showList(a, page.Items, []string{"JOB>", "KIND", "OBJECT", "STATE", "BY", "BEGAN", "TOOK>",
				"FINDINGS"}, func(j api.Job) []string {
				took := "–"
				if j.Ended != nil {
					took = j.Ended.Sub(j.Started).Round(10 * time.Millisecond).String()
				}
				return []string{strconv.FormatInt(j.ID, 10), j.Kind, j.Object, string(j.State), j.By,
					date(j.Started), took, worst(j.Findings)}
			}, func(j api.Job) string { return strconv.FormatInt(j.ID, 10) }, "no job was run yet")
		}}
}

func (a *app) jobWatch() *cobra.Command {
	return &cobra.Command{Use: "watch JOB", Short: "Follow a job until it ends",
		Example: "  stockade job watch 3", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			id, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil {
				return usage("%q is not the number of a job", args[0])
			}
			job, err := a.follow(cmd.Context(), a.client(), id)
			if err != nil {
				return err
			}
			return a.ended(job, func(j api.Job) {
				if strings.HasPrefix(j.Object, "mirror ") {
					a.outcome(j)
					return
				}
				a.say("job %d (%s of %s) is done", j.ID, j.Kind, j.Object)
			})
		}}
}

func (a *app) jobStop() *cobra.Command {
	return &cobra.Command{Use: "stop JOB", Short: "Stop a running job; what was verified is kept",
		Example: "  stockade job stop 3", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			j, err := client.Post[api.Job](cmd.Context(), a.client(), "/jobs/"+url.PathEscape(args[0])+
				"/stop",
				nil)
			if err != nil {
				return err
			}
			return a.show(j, func() { a.say("job %d is being stopped", j.ID) }, []string{args[0]})
		}}
}
