package cli

import (
	"fmt"
	"net/url"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) accountCommand() *cobra.Command {
	list := lister(a, "List accounts", "  stockade account list", "/accounts", []string{"ACCOUNT", "ROLE",
		"SINCE"}, func(x api.Account) []string { return []string{x.Name, x.Role, date(x.Created)} },
		func(x api.Account) string { return x.Name }, "")
	var role string
	add := &cobra.Command{Use: "add NAME", Short: "Make an account; its token is shown once",
		Example: "  stockade account add mara --role operator", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			t, err := client.Post[api.NewToken](cmd.Context(), a.client(), "/accounts",
				api.NewAccount{Name: args[0], Role: role})
			if err != nil {
				return err
			}
			return a.show(t, func() {
				a.say("the token of %s; it is not shown again:", t.Account)
				fmt.Fprintln(a.out, t.Token)
			}, []string{t.Account})
		}}
	add.Flags().StringVar(&role, "role", "viewer", "viewer, operator or warden")
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove an account and its tokens",
		Example: "  stockade account remove mara", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.sure("This removes the account " + args[0] + " and its tokens."); err != nil {
				return err
			}
			x, err := client.Call[api.Account](cmd.Context(), a.client(), "DELETE",
				"/accounts/"+url.PathEscape(args[0]), nil)
			if err != nil {
				return err
			}
			return a.show(x, func() { a.say("%s is removed", x.Name) }, []string{x.Name})
		}}
	return noun("account", "Who may use the service", list, add, remove)
}
