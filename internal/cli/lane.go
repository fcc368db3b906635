package cli

import (
	"fmt"
	"net/url"
	"strings"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) laneCommand() *cobra.Command {
	complete := a.names("/lanes", byName)
	list := lister(a, "List lanes and where they point", "  stockade lane list", "/lanes", []string{"LANE",
		"EDITION", "SINCE", "GROUPS", "URL", "FINDINGS"}, func(l api.Lane) []string {
		since := "–"
		if len(l.History) > 0 {
			since = age(l.History[0].At)
		}
		return []string{l.Name, first(l.Edition, "none yet"), since, strings.Join(l.Groups, ", "),
			l.URL, worst(l.Findings)}
	}, func(l api.Lane) string { return l.Name }, "no lane is described yet: stockade record FILE")
	show := shower(a, "show LANE", "Show one lane with its history", "  stockade lane show steady", "/lanes/",
		complete, func(l api.Lane) { a.laneDetail(l) }, func(l api.Lane) string { return l.Name })
	var reason string
	move := &cobra.Command{Use: "move LANE MIRROR/N", Short: "Point a lane at an edition",
		Example: "  stockade lane move trial barrage/1", Args: cobra.ExactArgs(2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := client.Post[api.Lane](cmd.Context(), a.client(), "/lanes/"+url.PathEscape(args[0])+
				"/move", api.Move{Edition: args[1], Reason: reason})
			if err != nil {
				return err
			}
			return a.show(l, func() { a.say("%s shows %s now", l.Name, l.Edition) }, []string{l.Edition})
		}}
	back := &cobra.Command{Use: "back LANE", Short: "Take the last move of a lane back",
		Example: "  stockade lane move steady barrage/2\n  stockade lane back steady --reason \"gate 3 " +
			"did not close\"", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			l, err := client.Post[api.Lane](cmd.Context(), a.client(), "/lanes/"+url.PathEscape(args[0])+
				"/back", api.Move{Reason: reason})
			if err != nil {
				return err
			}
			return a.show(l, func() { a.say("%s shows %s again", l.Name, l.Edition) }, []string{l.Edition})
		}}
	for _, c := range []*cobra.Command{move, back} {
		c.Flags().StringVar(&reason, "reason", "", "why, for the journal")
	}
	return noun("lane", "Names that machines follow", list, show, move, back)
}

func (a *app) laneDetail(l api.Lane) {
	a.fields("lane", l.Name, "mirror", l.Mirror, "shows", first(l.Edition, "nothing yet"), "url", l.URL,
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
		a.table([]string{"WHEN", "HOW", "EDITION", "BY", "REASON"}, rows)
	}
}
