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
			name: func(x api.Credential) string { return x.Name },
			empty: "no credential is described: servers that ask who it is need one, under credentials " +
				"of a definition",
		}, filter[api.Credential]{"kind", "only those of this kind", credentialKinds, "",
			func(x api.Credential, asked string) bool { return x.Kind == asked }})
	return noun("credential", "Manage secrets for upstreams and proxies", list, a.giveSecret(),
		a.forgetSecret())
}

var credentialKinds = []string{definition.Login, definition.Token, definition.Certificate}

func (a *app) giveSecret() *cobra.Command {
	var file string
	add := &cobra.Command{Use: "add NAME",
		Short: "Save the secret of a credential",
		Long: `Give the secret of a credential, in place of what was given before. What it is, and which hosts
it belongs to, stands under credentials in the definition that was recorded; the secret stands
in no document, is kept encrypted, sent to those hosts alone, and never shown again. A change
of the description leads it to no other host: for a new one it has to be given again.

A password or a token is asked for, or read from --file. A client certificate comes with its key
from --file, both in PEM. Wardens may do this.`,
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
				a.say("the secret of %s is kept, and shown to %s alone", c.Name, strings.Join(c.GivenFor,
					", "))
				if c.Until != nil {
					a.say("the certificate ends on %s", date(*c.Until))
				}
				a.findings(a.err, c.Findings)
			}, []string{c.Name})
		}}
	add.Flags().StringVar(&file, "file", "", "the file with the secret; - is standard input")
	return add
}

// secretOf reads a secret from a file, or asks for it without showing what is typed.
func (a *app) secretOf(c api.Credential, file string) (string, error) {
	if c.Kind == definition.Certificate && file == "" {
		return "", usage("%s is a client certificate: give the file that holds it and its key, in PEM, "+
			"with --file",
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
		return "", usage("the %s has to be typed at a terminal, or read from a file with --file (- is "+
			"standard input)",
			what)
	}
	fmt.Fprint(a.err, prompt)
	return a.typedSecret(f)
}

func (a *app) forgetSecret() *cobra.Command {
	return &cobra.Command{Use: "remove NAME",
		Short: "Remove the secret of a credential",
		Long: `Forget the secret of a credential. What is described of it stays, until a description without it is
recorded. Wardens may do this.`,
		Example: "  stockade credential remove shoal-login --yes",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: a.names("/credentials", 1, byName),
		RunE: func(cmd *cobra.Command, args []string) error {
			path := "/credentials/" + url.PathEscape(args[0])
			c, err := client.Get[api.Credential](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			asked := "This forgets the secret of " + c.Name + "."
			if len(c.UsedBy) > 0 {
				asked += " " + strings.Join(c.UsedBy, ", ") + " cannot show it any more."
			}
			if err := a.sure(asked); err != nil {
				return err
			}
			c, err = client.Call[api.Credential](cmd.Context(), a.client(), "DELETE", path+"/secret", nil)
			if err != nil {
				return err
			}
			return a.show(c, func() { a.say("the secret of %s is forgotten", c.Name) }, []string{c.Name})
		}}
}
