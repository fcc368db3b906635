package cli

import (
	"fmt"
	"net/url"
	"os"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"stockade/core/definition"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) credentialCommand() *cobra.Command {
	list := lister(a, "List credentials, without their secrets", "  stockade credential list",
		"/credentials",
		listing[api.Credential]{
			columns: []column{{head: "CREDENTIAL"}, {head: "KIND"}, {head: "USER"}, {head: "HOSTS"},
				{head: "SECRET GIVEN"}, {head: "USED BY"}, {head: "FINDINGS"}},
			row: func(x api.Credential) []string {
				given := "no"
				if x.Given != nil {
					given = date(*x.Given) + " by " + x.By
				}
				return []string{x.Name, x.Kind, x.User, strings.Join(x.Hosts, ", "), given,
					strings.Join(x.UsedBy, ", "), worst(x.Findings)}
			},
			name:  func(x api.Credential) string { return x.Name },
			empty: "no credentials. If an upstream needs a login, define it under credentials",
		}, filter[api.Credential]{"kind", "only credentials of this kind", credentialKinds, "",
			func(x api.Credential, asked string) bool { return x.Kind == asked }})
	return noun("credential", "Manage secrets for upstreams and proxies", list, a.giveSecret(),
		a.forgetSecret())
}

var credentialKinds = []string{definition.Login, definition.Token, definition.Certificate}

func (a *app) giveSecret() *cobra.Command {
	var file string
	add := &cobra.Command{Use: "add NAME",
		Short: "Save the secret of a credential",
		Long: `Save the secret of a credential, replacing the one saved before. The recorded definition
says what kind of credential it is and which hosts it belongs to. Stockade keeps the secret encrypted,
sends it only to those hosts, and never shows it again. If the definition later names another host, the
secret has to be saved again for it.

The command asks for a password or a token, or reads it from --file. A client certificate is read with
its key from --file, both in PEM. Wardens can run this command.`,
		Example: "  stockade credential add shoal-login --file demo-data/shoal/shoal-password",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.names("/credentials", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/credentials/" + url.PathEscape(args[0])
			c, err := client.Get[api.Credential](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			secret, err := a.secretOf(c, file)
			if err != nil {
				return err
			}
			c, err = client.Call[api.Credential](cmd.Context(), a.client(), "PUT", path+"/secret",
				api.Secret{Secret: secret})
			if err != nil {
				return err
			}
			return a.show(c, func() {
				a.say("saved the secret of %s. Stockade sends it only to %s", c.Name, strings.Join(c.GivenFor,
					", "))
				if c.Until != nil {
					a.say("the certificate expires on %s", date(*c.Until))
				}
				a.findings(a.err, c.Findings)
			}, []string{c.Name})
		}}
	add.Flags().StringVar(&file, "file", "", "file with the secret; - is standard input")
	return add
}

// secretOf reads a secret from a file, or asks for it without showing what is typed.
func (a *app) secretOf(c api.Credential, file string) (string, error) {
	if c.Kind == definition.Certificate && file == "" {
		return "", usage("%s is a client certificate: name the file with the certificate and "+
			"its key, in PEM, with --file",
			c.Name)
	}
	what := "token"
	if c.Kind == definition.Login {
		what = "password of " + c.User
	}
	return a.askSecret(what, "The "+what+", for "+strings.Join(c.Hosts, ", ")+": ", file)
}

// askSecret reads a secret from a file, or asks for it without showing what is typed.
func (a *app) askSecret(what, prompt, file string) (string, error) {
	if file != "" {
		raw, err := a.read(file)
		return string(raw), err
	}
	f, ok := a.in.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return "", usage("the %s can only be typed on a terminal. Elsewhere, name a file with "+
			"--file; - is standard input",
			what)
	}
	fmt.Fprint(a.err, prompt)
	return a.typedSecret(f)
}

func (a *app) forgetSecret() *cobra.Command {
	return &cobra.Command{Use: "remove NAME",
		Short: "Remove the secret of a credential",
		Long: `Remove the saved secret of a credential. Its definition stays until you record a
definition without it. Wardens can run this command.`,
		Example: "  stockade credential remove shoal-login --yes",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.names("/credentials", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/credentials/" + url.PathEscape(args[0])
			c, err := client.Get[api.Credential](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			asked := "This removes the secret of " + c.Name + "."
			if len(c.UsedBy) > 0 {
				asked += " " + strings.Join(c.UsedBy, ", ") + " cannot show it again."
			}
			if err := a.sure(asked); err != nil {
				return err
			}
			c, err = client.Call[api.Credential](cmd.Context(), a.client(), "DELETE", path+"/secret", nil)
			if err != nil {
				return err
			}
			return a.show(c, func() { a.say("removed the secret of %s", c.Name) }, []string{c.Name})
		}}
}
