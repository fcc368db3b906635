package cli

import (
	"net/url"

	"github.com/spf13/cobra"

	"stockade/internal/client"
)

// noun makes the command of one kind of thing.
func noun(name, short string, verbs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: name, Short: short, Args: nearest,
		RunE: func(cmd *cobra.Command, args []string) error {
			cmd.SetOut(cmd.ErrOrStderr())
			cmd.Help()
			return &exit{code: exitUsage}
		}}
	c.AddCommand(verbs...)
	return c
}

// lister makes the "list" of a noun.
func lister[T any](a *app, short, example, path string, heads []string, row func(T) []string,
	name func(T) string, empty string) *cobra.Command {
	return &cobra.Command{Use: "list", Short: short, Example: example, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := client.All[T](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			return showList(a, all, heads, row, name, empty)
		}}
}

// shower makes the "show" of a noun: one thing by its name.
func shower[T any](a *app, use, short, example, path string, complete cobra.CompletionFunc, draw func(T),
	name func(T) string) *cobra.Command {
	return &cobra.Command{Use: use, Short: short, Example: example, Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete, RunE: func(cmd *cobra.Command, args []string) error {
			v, err := client.Get[T](cmd.Context(), a.client(), path+url.PathEscape(args[0]))
			if err != nil {
				return err
			}
			return a.show(v, func() { draw(v) }, []string{name(v)})
		}}
}

func showList[T any](a *app, all []T, heads []string, row func(T) []string,
	name func(T) string, empty string) error {
	var rows [][]string
	var names []string
	for _, v := range all {
		rows, names = append(rows, row(v)), append(names, name(v))
	}
	return a.show(all, func() {
		a.table(heads, rows)
		if len(rows) == 0 {
			a.say("%s", empty)
		}
	}, names)
}
