package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

var laneListing = listing[api.Lane]{
	columns: []column{{head: "LANE"}, {head: "EDITION"}, {head: "NEWEST"}, {head: "SINCE", spare: 1},
		{head: "GROUPS", cut: atEnd}, {head: "URL", spare: 2}, {head: "FINDINGS", cut: atEnd}},
	row: func(l api.Lane) []string {
		since := "–"
		if len(l.History) > 0 {
			since = age(l.History[0].At)
		}
		return []string{l.Name, first(l.Edition, "none yet"), first(l.Newest, "none yet"), since,
			strings.Join(l.Groups, ", "), l.URL, worst(l.Findings)}
	},
	name:  func(l api.Lane) string { return l.Name },
	empty: "no lanes. To define one: stockade record FILE",
}

func (a *app) laneCommand() *cobra.Command {
	complete := a.names("/lanes", 1, byName)
	list := lister(a, "List lanes and where they point", "  stockade lane list\n  stockade lane list "+
		"--mirror barrage", "/lanes", laneListing, filter[api.Lane]{"mirror",
		"only lanes of this mirror", nil, "/mirrors", func(l api.Lane, asked string) bool {
			return l.Mirror == asked
		}}, bySeverity(func(l api.Lane) finding.List { return l.Findings }))
	show := shower(a, "lane", "Show lanes with their history", "  stockade lane show steady", "/lanes/",
		a.names("/lanes", 0, byName), a.laneDetail, laneListing.name)
	var reason string
	move := &cobra.Command{Use: "move LANE MIRROR/N", Short: "Move a lane to an edition",
		Example: "  stockade lane move trial barrage/1", Args: cobra.ExactArgs(2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("lane", args[:1]); err != nil {
				return err
			}
			l, err := client.Post[api.Lane](cmd.Context(), a.client(), "/lanes/"+url.PathEscape(args[0])+
				"/move", api.Move{Edition: args[1], Reason: reason})
			if err != nil {
				return err
			}
			return a.show(l, func() {
				a.findings(a.err, l.Findings)
				a.say("%s now shows %s", l.Name,
					l.Edition)
			},
				[]string{l.Edition})
		}}
	back := &cobra.Command{Use: "back LANE", Short: "Revert the last move of a lane",
		Example: "  stockade lane move steady barrage/2\n  stockade lane back steady --reason \"gate 3 " +
			"did not close\"", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("lane", args); err != nil {
				return err
			}
			l, err := client.Post[api.Lane](cmd.Context(), a.client(), "/lanes/"+url.PathEscape(args[0])+
				"/back", api.Move{Reason: reason})
			if err != nil {
				return err
			}
			return a.show(l, func() {
				a.findings(a.err, l.Findings)
				a.say("%s now shows %s again", l.Name,
					l.Edition)
			},
				[]string{l.Edition})
		}}
	for _, c := range []*cobra.Command{move, back} {
		c.Flags().StringVar(&reason, "reason", "", "reason, for the journal")
	}
	return noun("lane", "Manage lanes, the names that machines follow", list, show, move, back)
}

func (a *app) laneDetail(l api.Lane) {
	a.fields("lane", l.Name, "mirror", l.Mirror, "shows", first(l.Edition, "nothing yet"),
		"newest", l.Newest, "url", l.URL,
		"groups", strings.Join(l.Groups, ", "))
	var rows [][]string
	for _, s := range l.History {
		how := "moved"
		if s.Back {
			how = "back"
		}
		rows = append(rows, []string{date(s.At), how, s.Edition, s.By, s.Reason})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.table([]column{{head: "WHEN"}, {head: "HOW"}, {head: "EDITION"}, {head: "BY"},
			{head: "REASON", cut: atEnd}}, rows)
	}
}
