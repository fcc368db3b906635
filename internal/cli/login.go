package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"

	"stockade/core/disk"
	"stockade/internal/api"
	"stockade/internal/client"
)

// remembered is what login keeps.
type remembered struct {
	Server string `yaml:"server"`
	Token  string `yaml:"token"`
	CA     string `yaml:"ca,omitempty"` // file with the authority of its certificate
}

// remembered reads what login kept; nothing where it was never called.
func (a *app) remembered() (r remembered, err error) {
	file, err := a.rememberedFile()
	if err != nil {
		return r, nil // the flags and the environment say all
	}
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		return r, nil
	}
	if err == nil {
		err = yaml.Unmarshal(raw, &r)
	}
	if err != nil {
		return remembered{}, usageDo("run stockade login SERVER again, or delete the file",
			"cannot read the saved login in %s: %v", file, err)
	}
	return r, nil
}

func (a *app) rememberedFile() (string, error) {
	dir := a.env("XDG_CONFIG_HOME") // the XDG Base Directory Specification
	if dir == "" {
		home := a.env("HOME")
		if home == "" {
			return "", errors.New(
				"neither XDG_CONFIG_HOME nor HOME is set. Set --server and STOCKADE_TOKEN " +
					"instead")
		}
		dir = filepath.Join(home, ".config")
	}
	return filepath.Join(dir, "stockade", "login.yaml"), nil
}

func (a *app) loginCommand() *cobra.Command {
	var tokenFile string
	c := &cobra.Command{Use: "login [SERVER]",
		Short: "Save the address of a service and a token for it",
		Long: `Save the address of a service and a token for it, in a file that only you can read. The
command asks for the token, or reads it from --token-file or from STOCKADE_TOKEN.`,
		Example: "  stockade login http://127.0.0.1:8440 --token-file /srv/stockade/warden.token",
		Args:    cobra.MaximumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			server, err := address(first(strings.Join(args, ""), a.server, a.env("STOCKADE_SERVER"),
				"http://127.0.0.1:8440"))
			if err != nil {
				return err
			}
			r := remembered{Server: server, Token: a.env("STOCKADE_TOKEN"),
				CA: first(a.ca, a.env("STOCKADE_CA"))}
			if r.CA != "" {
				if r.CA, err = filepath.Abs(r.CA); err != nil {
					return err
				}
			}
			if tokenFile != "" {
				raw, err := os.ReadFile(tokenFile)
				if err != nil {
					return usage("cannot read the token file: %v", err)
				}
				r.Token = strings.TrimSpace(string(raw))
			}
			if r.Token == "" {
				f, ok := a.in.(*os.File)
				if !ok || !term.IsTerminal(int(f.Fd())) {
					return usage("no token: add --token-file, or set STOCKADE_TOKEN")
				}
				fmt.Fprint(a.err, "Token: ")
				typed, err := a.typedSecret(f)
				if err != nil {
					return err
				}
				r.Token = strings.TrimSpace(typed)
			}
			c, err := a.clientOf(r.Server, r.Token, r.CA)
			if err != nil {
				return err
			}
			who, err := client.Get[api.Who](cmd.Context(), c, "/whoami")
			if err != nil {
				return err
			}
			file, err := a.rememberedFile()
			if err != nil {
				return err
			}
			raw, err := yaml.Marshal(r)
			if err != nil {
				return err
			}
			if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
				return err
			}
			if err := disk.Save(file, raw, 0o600); err != nil {
				return err
			}
			a.say("logged in as %s at %s with the role %s; saved in %s", who.Account, r.Server,
				who.Role, file)
			return nil
		}}
	c.Flags().StringVar(&tokenFile, "token-file", "", "file to read the token from")
	return c
}
