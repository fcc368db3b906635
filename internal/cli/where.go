package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/mirror"
	"stockade/internal/api"
)

func (a *app) packageWhere() *cobra.Command {
	var group string
	c := &cobra.Command{Use: "where NAME",
		Short: "Show which sources have a package and which candidate machines would install",
		Long: `Show which sources have packages of a name, in which versions, and which version the
machines of each group would install (the candidate), with the reason: priority, pins and module
streams, among the sources that they see of the mirror of their lane.

The command contacts the sources, as a build would. What a lane shows today can be older. A tailored
mirror contains only wanted packages and their dependencies; stockade mirror preview shows whether this
package is one of them. Only names are compared; stockade mirror prove proves whether a package can be
installed. The exit code is 1 if no source has the package.`,
		Example: "  stockade package where tide-tables\n  stockade package where pump-panel --group " +
			"pump-house",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			none := false
			err := a.job(cmd.Context(), work{path: "/packages/where", in: api.WhereAsked{Name: args[0]},
				told: func(j api.Job) { a.drawWhere(a.out, decode[mirror.Where](j.Result), group) },
				ids: func(j api.Job) (out []string) {
					w := decode[mirror.Where](j.Result)
					none = len(w.Has) == 0
					for _, h := range w.Has {
						if !slices.Contains(out, h.Source) {
							out = append(out, h.Source)
						}
					}
					return out
				}})
			if err == nil && none {
				return no()
			}
			return err
		}}
	c.Flags().StringVar(&group, "group", "", "only the candidate of this group")
	c.RegisterFlagCompletionFunc("group", a.names("/groups", 0, byName))
	return c
}

// drawWhere shows which sources have packages of a name, and what machines take.
func (a *app) drawWhere(w io.Writer, x mirror.Where, group string) {
	of := map[string]*mirror.AskedOf{}
	for _, s := range x.Asked {
		of[s.Source] = s
	}
	var rows [][]string
	for _, h := range x.Has {
		s := of[h.Source]
		rows = append(rows, []string{h.Source, h.Version, h.Arch, fmt.Sprint(s.Priority), s.Standing,
			size(h.Size),
			h.Licence, h.Origin, date(h.Built), date(s.Date)})
	}
	a.table([]column{{head: "SOURCE"}, {head: "VERSION"}, {head: "ARCH"}, {head: "PRIORITY", right: true},
		{head: "STANDING", spare: 1}, {head: "SIZE", right: true, spare: 2}, {head: "LICENCE", spare: 5,
			cut: atEnd},
		{head: "BUILT FROM", spare: 4}, {head: "BUILT", spare: 3}, {head: "ROOT MADE", spare: 6}}, rows)
	if len(x.Has) == 0 {
		a.say("none of %s has a package named %s", number(len(x.Asked), "source"), x.Name)
		if len(x.Near) > 0 {
			a.say("did you mean %s?", strings.Join(x.Near, " or "))
		}
	}
	for _, h := range x.Provided {
		fmt.Fprintf(w, "%s %s of %s provides %s\n", h.Name, h.Version, h.Source, x.Name)
	}
	var without []string
	for _, g := range x.Groups {
		if group != "" && g.Group != group || len(x.Has) == 0 {
			continue
		}
		if len(g.Offers) == 0 && g.None {
			without = append(without, g.Group)
			continue
		}
		fmt.Fprintf(w, "\n%s (%s, lane %s)", g.Group, g.Arch, g.Lane)
		if g.Why != "" {
			fmt.Fprintf(w, ": %s", line(g.Why))
		}
		fmt.Fprintln(w)
		for _, o := range g.Offers {
			what := "      "
			if o.Taken {
				what = "takes "
			}
			fmt.Fprintf(w, "  %s%s of %s: %s\n", what, line(o.Version), line(o.Source), line(o.Why))
		}
	}
	if slices.ContainsFunc(x.Groups, func(g mirror.TakenBy) bool {
		return g.Copy == definition.Tailored && len(g.Offers) > 0
	}) {
		a.say("a tailored mirror contains only wanted packages and their dependencies. To see " +
			"whether this is one: stockade mirror preview")
	}
	if len(without) > 0 {
		fmt.Fprintf(w, "\nno candidate for machines of %s: no source that they see has it\n",
			strings.Join(without, ", "))
	}
	for _, u := range x.Unread {
		a.say("unknown for %s: %s", u.Source, u.Why)
	}
}
