package cli

import (
	"fmt"
	"net/url"
	"slices"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

var roles = []string{api.Viewer, api.Operator, api.Warden}

func (a *app) accountCommand() *cobra.Command {
	list := lister(a, "List accounts", "  stockade account list", "/accounts", listing[api.Account]{
		columns: []column{{head: "ACCOUNT"}, {head: "ROLE"}, {head: "SINCE"}},
		row:     func(x api.Account) []string { return []string{x.Name, x.Role, date(x.Created)} },
		name:    func(x api.Account) string { return x.Name },
	}, filter[api.Account]{"role", "only those with this role", roles, "",
		func(x api.Account, asked string) bool { return x.Role == asked }})
	var role string
	add := &cobra.Command{Use: "add NAME", Short: "Make an account; its token is shown once",
		Example: "  stockade account add mara --role operator", Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(roles, role) {
				return oneOf("--role", role, roles)
			}
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
	add.RegisterFlagCompletionFunc("role", cobra.FixedCompletions(roles, cobra.ShellCompDirectiveNoFileComp))
	remove := &cobra.Command{Use: "remove NAME", Short: "Remove an account and its tokens",
		Example: "  stockade account remove mara --yes", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.names("/accounts", 1, byName),
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
