package cli

import (
	"context"
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

// state is what status shows: one screen, and its exit code.
type state struct {
	NeedsYou  finding.List       `json:"needs_you"`
	Aside     []api.Aside        `json:"aside"` // known, and left until a date
	Lanes     []api.Lane         `json:"lanes"`
	Behind    []string           `json:"behind"` // lanes that do not show the newest edition of their mirror
	Jobs      []api.Job          `json:"jobs"`   // that run now
	Editions  int                `json:"editions"`
	PoolBytes int64              `json:"pool_bytes"`
	FreeBytes int64              `json:"free_bytes"`
	Looked    api.Looked         `json:"looked"`
	Since     *time.Time         `json:"since,omitempty"`
	Changed   []api.JournalEntry `json:"changed"` // since then, newest first
}

func (a *app) statusCommand() *cobra.Command {
	var since, severity string
	c := &cobra.Command{Use: "status", Short: "Show what needs attention, on one screen",
		Long: `Show on one screen: findings that need attention (stale or quiet sources, keys that
expire, failed jobs, problems of lanes), lanes behind the newest edition of their mirror, running jobs,
and disk use. The exit code is 1 if anything needs attention, so that cron can run it; -q prints the
findings only.

The command shows results of earlier checks and contacts no upstream. It says when the sources were last
refreshed.`,
		Example: "  stockade status\n  stockade status --since 2d\n  stockade status -q --severity error",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			known := finding.Severity("").Values()[:2] // notes need nobody
			if !slices.Contains(known, severity) {
				return oneOf("--severity", severity, known)
			}
			s, err := a.state(cmd.Context(), since)
			if err != nil {
				return err
			}
			bad := s.NeedsYou.Count(finding.Error) > 0 ||
				severity == string(finding.Warning) && s.NeedsYou.Count(finding.Warning) > 0
			var names []string
			for _, f := range s.NeedsYou {
				names = append(names, string(f.Code)+" "+f.Object)
			}
			if err := a.show(s, func() { a.stateDetail(s) }, names); err != nil {
				return err
			}
			if bad {
				return no()
			}
			return nil
		}}
	c.Flags().StringVar(&since, "since", "", "also what changed since then: 2d, 2026-11-24, \"2026-11-24 "+
		"06:30\"")
	c.Flags().StringVar(&severity, "severity", string(finding.Warning),
		"exit with 1 from this severity on: error or warning")
	return c
}

// state asks the service how things stand.
func (a *app) state(ctx context.Context, since string) (state, error) {
	c := a.client()
	s := state{Changed: []api.JournalEntry{}, Behind: []string{}}
	if since != "" {
		at, err := parseWhen(since, time.Now())
		if err != nil {
			return s, usage("--since: %v", err)
		}
		s.Since = &at
		if s.Changed, err = client.All[api.JournalEntry](ctx, c, "/journal?limit=1000&since="+
			url.QueryEscape(at.UTC().Format(time.RFC3339))); err != nil {
			return s, err
		}
	}
	o, err := client.Get[api.Overview](ctx, c, "/overview")
	if err != nil {
		return s, err
	}
	t, err := client.Get[api.Told](ctx, c, "/findings")
	if err != nil {
		return s, err
	}
	if s.Lanes, err = client.All[api.Lane](ctx, c, "/lanes"); err != nil {
		return s, err
	}
	s.NeedsYou, s.Aside, s.Jobs, s.Looked = t.NeedsYou, t.Aside, o.Jobs, o.Looked
	s.Editions, s.PoolBytes, s.FreeBytes = o.Editions, o.PoolBytes, o.FreeBytes
	for _, l := range s.Lanes {
		if l.Edition != "" && l.Edition != l.Newest {
			s.Behind = append(s.Behind, l.Name)
		}
	}
	return s, nil
}

func (a *app) stateDetail(s state) {
	a.findings(a.out, s.NeedsYou)
	if len(s.NeedsYou) > 0 {
		fmt.Fprintln(a.out)
	} else if a.quiet {
		return
	}
	if a.quiet {
		return
	}
	needs := "nothing found"
	if len(s.NeedsYou) > 0 {
		needs = worst(s.NeedsYou)
	}
	asked := "not all refreshed yet"
	if !s.Looked.Sources.IsZero() {
		asked = "all refreshed since " + date(s.Looked.Sources)
	}
	behind := "none"
	if len(s.Behind) > 0 {
		behind = strings.Join(s.Behind, ", ")
	}
	var runs []string
	for _, j := range s.Jobs {
		runs = append(runs, fmt.Sprintf("%s of %s (job %d)", j.Kind, j.Object, j.ID))
	}
	aside := ""
	if len(s.Aside) > 0 {
		aside = number(len(s.Aside), "finding") + ": stockade finding list"
	}
	a.fields("needs attention", needs, "snoozed", aside, "sources", asked, "journal",
		"compared "+date(s.Looked.Journal),
		"lanes behind", behind, "running", first(strings.Join(runs, ", "), "nothing"),
		"disk", fmt.Sprintf("%s in %s, %s free", size(s.PoolBytes), number(s.Editions, "edition"),
			size(s.FreeBytes)))
	if len(s.Lanes) > 0 {
		fmt.Fprintln(a.out)
		var rows [][]string
		for _, l := range s.Lanes {
			since := "–"
			if len(l.History) > 0 {
				since = date(l.History[0].At)
			}
			how := "newest"
			switch {
			case l.Edition == "":
				how = "shows nothing"
			case l.Edition != l.Newest:
				how = "behind " + l.Newest
			}
			rows = append(rows, []string{l.Name, first(l.Edition, "none yet"), since, how,
				strings.Join(l.Groups, ", ")})
		}
		a.table([]column{{head: "LANE"}, {head: "EDITION"}, {head: "SINCE", spare: 1}, {head: "HOW"},
			{head: "GROUPS", cut: atEnd}}, rows)
	}
	if s.Since == nil {
		return
	}
	fmt.Fprintln(a.out)
	a.say("since %s: %s", date(*s.Since), number(len(s.Changed), "change"))
	var rows [][]string
	for _, e := range s.Changed {
		row := journalListing.row(e)
		row[0] = strconv.FormatInt(e.Number, 10)
		rows = append(rows, row)
	}
	a.table(journalListing.columns, rows)
}
