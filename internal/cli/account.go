package cli

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/internal/api"
	"stockade/internal/client"
)

var roles = []string{api.Viewer, api.Operator, api.Warden}

func (a *app) accountCommand() *cobra.Command {
	list := lister(a, "List accounts", "  stockade account list", "/accounts", listing[api.Account]{
		columns: []column{{head: "ACCOUNT"}, {head: "ROLE"}, {head: "SINCE"},
			{head: "TOKENS", right: true}, {head: "PASSWORD"}, {head: "SIGNED IN", right: true}},
		row: func(x api.Account) []string {
			return []string{x.Name, x.Role, date(x.Created), strconv.Itoa(len(x.Tokens)),
				yesNo(x.Password), strconv.Itoa(len(x.Sessions))}
		},
		name: func(x api.Account) string { return x.Name },
	}, filter[api.Account]{"role", "only accounts with this role", roles, "",
		func(x api.Account, asked string) bool { return x.Role == asked }})
	var role string
	add := &cobra.Command{Use: "add NAME",
		Short:   "Create an account and show its token once",
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
				a.say("created %s. Save its token now; it is not shown again:", t.Account)
				fmt.Fprintln(a.out, t.Token)
			}, []string{t.Account})
		}}
	add.Flags().StringVar(&role, "role", "viewer", "role: viewer, operator or warden; viewer "+
		"by default")
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
			return a.show(x, func() { a.say("removed %s", x.Name) }, []string{x.Name})
		}}
	return noun("account", "Manage accounts of the service", list, a.showAccount(), add, remove, a.setRole(),
		a.addToken(), a.removeToken(), a.setPassword(), a.removePassword(), a.endSessions())
}

func yesNo(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// moment is a time that may not be.
func moment(t *time.Time, never string) string {
	if t == nil {
		return never
	}
	return date(*t)
}

func (a *app) showAccount() *cobra.Command {
	return &cobra.Command{Use: "show ACCOUNT…",
		Short: "Show an account, its tokens and its sessions",
		Long: `Show an account with its tokens and sessions. Wardens can show every account, others
only their own. Secrets are not shown: of a token, the command shows its name, when it ends and when it
was last used.`,
		Example: "  stockade account show mara",
		Args:    cobra.MinimumNArgs(1), ValidArgsFunction: a.names("/accounts", 0, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			return showEach(a, args, func(name string) (api.Account, error) {
				return client.Get[api.Account](cmd.Context(), a.client(), "/accounts/"+url.PathEscape(name))
			}, a.drawAccount, func(x api.Account) string { return x.Name })
		}}
}

func (a *app) drawAccount(x api.Account) {
	a.fields("account", x.Name, "role", x.Role, "since", date(x.Created), "password", yesNo(x.Password))
	var rows [][]string
	for _, t := range x.Tokens {
		ends := moment(t.Ends, "never")
		if t.Ended {
			ends += " (ended)"
		}
		rows = append(rows, []string{t.ID, t.Name, date(t.Created), ends, moment(t.Used, "not yet")})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.table([]column{{head: "TOKEN"}, {head: "NAME"}, {head: "MADE"}, {head: "ENDS"},
			{head: "LAST USED"}}, rows)
	}
	rows = nil
	for _, v := range x.Sessions {
		rows = append(rows, []string{v.ID, v.By, v.From, date(v.Began), date(v.Used), date(v.Ends)})
	}
	if len(rows) > 0 {
		fmt.Fprintln(a.out)
		a.table([]column{{head: "SESSION"}, {head: "BEGAN WITH"}, {head: "FROM"}, {head: "BEGAN"},
			{head: "LAST USED"}, {head: "ENDS BY"}}, rows)
	}
}

// changeAccount makes a call that changes an account, and says what came of it.
func (a *app) changeAccount(cmd *cobra.Command, method, name, path string, body any, say string) error {
	x, err := client.Call[api.Account](cmd.Context(), a.client(), method,
		"/accounts/"+url.PathEscape(name)+path, body)
	if err != nil {
		return err
	}
	return a.show(x, func() { a.say("%s", say) }, []string{x.Name})
}

func (a *app) setRole() *cobra.Command {
	return &cobra.Command{Use: "role ACCOUNT ROLE", Short: "Change the role of an account",
		Long: `Change the role of an account. Its tokens, password and sessions end, and the command
shows a new token once. Hand that token to the person. If a rule requires two wardens for a vouch, no
account can make another one a warden; run stockade serve --new-warden NAME on the machine of the
service instead.`,
		Example: "  stockade account role mara viewer", Args: cobra.ExactArgs(2),
		ValidArgsFunction: a.names("/accounts", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			if !slices.Contains(roles, args[1]) {
				return oneOf("the role", args[1], roles)
			}
			t, err := client.Call[api.NewToken](cmd.Context(), a.client(), "PUT",
				"/accounts/"+url.PathEscape(args[0])+"/role", api.RoleGiven{Role: args[1]})
			if err != nil {
				return err
			}
			return a.show(t, func() {
				a.say("%s now has the role %s. Its former tokens, password and sessions no "+
					"longer work. Save the new token now; it is not shown again:", t.Account, args[1])
				fmt.Fprintln(a.out, t.Token)
			}, []string{t.Account})
		}}
}

func (a *app) addToken() *cobra.Command {
	var name, ends string
	c := &cobra.Command{Use: "add-token ACCOUNT",
		Short: "Create another token for an account and show it once",
		Long: `Create another token for your own account or, as a warden, for an account that is not a
warden. With --ends, the token works until that day begins (UTC). A token that ends cannot create a
token that ends later.`,
		Example: "  stockade account add-token mara --name night-report --ends 2027-06-01",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.names("/accounts", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			in := api.TokenAsked{Name: name}
			if ends != "" {
				at, err := time.Parse(time.DateOnly, ends)
				if err != nil {
					return usage("--ends %q is not a date such as 2027-06-01", ends)
				}
				in.Ends = &at
			}
			t, err := client.Post[api.NewToken](cmd.Context(), a.client(),
				"/accounts/"+url.PathEscape(args[0])+"/tokens", in)
			if err != nil {
				return err
			}
			return a.show(t, func() {
				a.say("created the token %s of %s. Save it now; it is not shown again:", name, t.Account)
				fmt.Fprintln(a.out, t.Token)
			}, []string{t.Account})
		}}
	c.Flags().StringVar(&name, "name", "", "name of the token, such as its use")
	c.Flags().StringVar(&ends, "ends", "", "day from which the token no longer works "+
		"(YYYY-MM-DD, UTC); it does not end by default")
	c.MarkFlagRequired("name")
	return c
}

func (a *app) removeToken() *cobra.Command {
	return &cobra.Command{Use: "remove-token ACCOUNT TOKEN", Short: "Revoke a token",
		Long: `Revoke a token, by its name or by the id that stockade account show prints. Sessions
that were started with the token end.`,
		Example: "  stockade account remove-token mara night-report --yes",
		Args:    cobra.ExactArgs(2), ValidArgsFunction: a.names("/accounts", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.sure("This revokes the token " + args[1] + " of " + args[0] + " back."); err != nil {
				return err
			}
			return a.changeAccount(cmd, "DELETE", args[0], "/tokens/"+url.PathEscape(args[1]), nil,
				"revoked the token")
		}}
}

func (a *app) setPassword() *cobra.Command {
	var file string
	c := &cobra.Command{Use: "set-password", Short: "Set a password for signing in to the " +
		"console",
		Long: `Set a password for your own account, for signing in to the console by name. The command
asks for the password, or reads it from --file. Stockade stores a hash of it. The command line keeps
using tokens.`,
		Example: "  stockade account set-password --file demo-data/password", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			who, err := client.Get[api.Who](cmd.Context(), a.client(), "/whoami")
			if err != nil {
				return err
			}
			word, err := a.askSecret("password", "The new password of "+who.Account+": ", file)
			if err != nil {
				return err
			}
			return a.changeAccount(cmd, "PUT", who.Account, "/password",
				api.PasswordGiven{Password: strings.TrimRight(word, "\r\n")},
				who.Account+" can now sign in to the console with the password")
		}}
	c.Flags().StringVar(&file, "file", "", "file with the password; - is standard input")
	return c
}

func (a *app) removePassword() *cobra.Command {
	return &cobra.Command{Use: "remove-password ACCOUNT",
		Short:   "Remove the password of an account",
		Example: "  stockade account remove-password warden --yes",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.names("/accounts", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.sure("This removes the password of " + args[0] +
				". The account can still sign in with its tokens. " +
				"Sessions that were started with the password end."); err != nil {
				return err
			}
			return a.changeAccount(cmd, "DELETE", args[0], "/password", nil,
				"removed the password")
		}}
}

func (a *app) endSessions() *cobra.Command {
	return &cobra.Command{Use: "end-sessions ACCOUNT",
		Short:   "End all console sessions of an account",
		Example: "  stockade account end-sessions mara",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.names("/accounts", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/accounts/" + url.PathEscape(args[0])
			x, err := client.Get[api.Account](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			ended := len(x.Sessions)
			for _, v := range x.Sessions {
				x, err = client.Call[api.Account](cmd.Context(), a.client(), "DELETE",
					path+"/sessions/"+url.PathEscape(v.ID), nil)
				if err != nil {
					return err
				}
			}
			return a.show(x, func() { a.say("ended %s of %s", number(ended, "session"), x.Name) },
				[]string{x.Name})
		}}
}
