package cli

import (
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) describeCommand() *cobra.Command {
	return &cobra.Command{Use: "describe [NOUN [NAME…]]",
		Short: "Print the recorded definitions as a document",
		Long: `Print what is recorded as a document that you can edit and record again: everything, all
objects of one kind, or the named ones. NOUN is` + strings.Join(definition.Kinds, ", ") + `. Recording the
document unchanged changes nothing.`,
		Example: "  stockade describe source tarn\n  stockade describe lane\n  stockade describe > all.yaml",
		ValidArgsFunction: func(cmd *cobra.Command, args []string, word string) ([]string,
			cobra.ShellCompDirective) {
			if len(args) == 0 {
				return definition.Kinds, cobra.ShellCompDirectiveNoFileComp
			}
			whole, err := a.described(cmd)
			if err != nil {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return whole.Names(args[0]), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 && !slices.Contains(definition.Kinds, args[0]) {
				return oneOf("the noun", args[0], definition.Kinds)
			}
			whole, err := a.described(cmd)
			if err != nil {
				return err
			}
			some, names, err := part(whole, args)
			if err != nil {
				return err
			}
			text, err := some.YAML()
			if err != nil {
				return err
			}
			return a.show(some.Document, func() { fmt.Fprint(a.out, text) }, names)
		}}
}

// described reads what is recorded.
func (a *app) described(cmd *cobra.Command) (*definition.Set, error) {
	text, err := client.Get[api.Text](cmd.Context(), a.client(), "/definitions")
	if err != nil {
		return nil, err
	}
	whole, found := definition.Read(definition.Text{Name: "what is recorded", Text: text.Text})
	if found.HasErrors() {
		return nil, found
	}
	return whole, nil
}

// part leaves of a description what is asked for: [NOUN [NAME…]].
func part(whole *definition.Set, args []string) (*definition.Set, []string, error) {
	some, names := definition.NewSet(), []string{}
	for _, kind := range definition.Kinds {
		if len(args) > 0 && args[0] != kind {
			continue
		}
		known := whole.Names(kind)
		asked := known
		if len(args) > 1 {
			asked = args[1:]
		}
		for _, name := range asked {
			if !some.Take(whole, kind, name) {
				way := "stockade describe " + kind + " writes all of them"
				if near := definition.Nearest(name, known); near != "" {
					way = fmt.Sprintf("did you mean %q?", near)
				}
				return nil, nil, usageDo(way, "no %s is named %q", kind, name)
			}
			names = append(names, kind+"/"+name)
		}
	}
	return some, names, nil
}
