package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) siteCommand() *cobra.Command {
	show := &cobra.Command{Use: "show", Short: "Show the site, its keys, and what still " +
		"depends on an older key",
		Example: "  stockade site show", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := client.Get[api.Site](cmd.Context(), a.client(), "/site")
			if err != nil {
				return err
			}
			return a.showSite(s)
		}}
	return noun("site", "Manage the site and its signing keys", show, a.sitePair(),
		a.siteStatement(), a.renewKey(),
		a.retireKey())
}

// showSite shows a site; its identities are the fingerprints of the keys that sign.
func (a *app) showSite(s api.Site) error {
	var ids []string
	for _, k := range s.Keys {
		if k.State != api.SiteKeyFormer {
			ids = append(ids, k.Fingerprint)
		}
	}
	return a.show(s, func() { a.drawSite(a.out, s) }, ids)
}

var siteKeyStates = map[string]string{
	api.SiteKeySigns:  "signs",
	api.SiteKeyNext:   "next key; signs together with the current one",
	api.SiteKeyFormer: "former",
}

func (a *app) drawSite(w io.Writer, s api.Site) {
	fmt.Fprintf(w, "%-14s%s\n", "version", s.Version)
	fmt.Fprintf(w, "%-14s%s\n", "packages at", s.Packages)
	for _, k := range s.Keys {
		fmt.Fprintf(w, "%-14s%s\n", "key", trust.Spaced(k.Fingerprint))
		fmt.Fprintf(w, "%-14s%s, of %s, %s\n", "", k.UserID, date(k.Created), siteKeyStates[k.State])
	}
	if r := s.Renewal; r != nil {
		fmt.Fprintf(w, "%-14suntil %s, since %s by %s: %s\n", "both sign", date(r.Until), date(r.Since), r.By,
			r.Reason)
	}
	for i, r := range s.Resting {
		head := ""
		if i == 0 {
			head = "depends on old key"
		}
		fmt.Fprintf(w, "%-14slane %s (%s): %s%s\n", head, r.Lane, r.Edition, strings.Join(r.Sources, ", "),
			followedBy(r.Groups))
	}
	drawPaired(w, s.Paired)
	a.findings(w, s.Findings)
}

func followedBy(groups []string) string {
	if len(groups) == 0 {
		return ""
	}
	return "; followed by " + strings.Join(groups, ", ")
}

func (a *app) renewKey() *cobra.Command {
	var in api.Renew
	renew := &cobra.Command{Use: "renew-key", Short: "Create the next site key",
		Long: `Create the next site key, certified by the current one. From now on the seals of all
editions have both signatures, and the files for machines contain both keys. Until the older key is
retired, both keys sign what machines of the family deb verify. For rpm and alpm only the older key
signs, because their clients reject a signature by an unknown key.

Next, give every machine new files, then retire the older key: stockade site retire-key. Wardens can run
this command.`,
		Example: "  stockade site renew-key --for 90d --reason \"the key is five years old\" --yes",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.sure("This creates a second site key. Every machine must get new files " +
				"before the older key is retired."); err != nil {
				return err
			}
			s, err := client.Post[api.Site](cmd.Context(), a.client(), "/site/renew-key", in)
			if err != nil {
				return err
			}
			return a.showSite(s)
		}}
	renew.Flags().StringVar(&in.For, "for", "", "how long both keys should sign; 90d by default")
	renew.Flags().StringVar(&in.Reason, "reason", "", "reason, for the journal")
	return renew
}

func (a *app) retireKey() *cobra.Command {
	var reason string
	retire := &cobra.Command{Use: "retire-key FINGERPRINT",
		Short: "Retire the older of the two site keys",
		Long: `Retire the older of the two site keys, whose whole fingerprint is typed. Its secret part
is deleted, and only the new key signs from now on. The command first shows what still depends on the
old key: machines that follow such a lane keep trusting it until you build the mirror again and move the
lane. Packages of house sources are signed again. A machine that got no new files since the renewal
rejects what is built from now on. An export made before the renewal has only the signature of the old
key. Wardens can run this command.`,
		Example: "  stockade site retire-key $(stockade site show -o ids | head -1) --reason \"all " +
			"machines have their files\" --yes",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := client.Get[api.Site](cmd.Context(), a.client(), "/site")
			if err != nil {
				return err
			}
			if err := a.isOlderKey(s, args[0]); err != nil {
				return err
			}
			a.wouldRetire(s)
			if err := a.sure("This deletes the secret part of the older site key. A machine " +
				"that got no new files since the renewal rejects what is built from now on."); err != nil {
				return err
			}
			s, err = client.Post[api.Site](cmd.Context(), a.client(), "/site/retire-key",
				api.Retire{Fingerprint: args[0], Reason: reason})
			if err != nil {
				return err
			}
			return a.showSite(s)
		}}
	retire.Flags().StringVar(&reason, "reason", "", "reason, for the journal")
	return retire
}

// isOlderKey refuses a fingerprint that is not that of the older of two site keys.
func (a *app) isOlderKey(s api.Site, typed string) error {
	f, err := trust.ParseFingerprint(typed)
	switch {
	case err != nil:
		return err
	case s.Renewal == nil:
		return usageDo("to create the next key: stockade site renew-key", "the site has one key")
	case f != s.Keys[0].Fingerprint:
		return usageDo("to show both: stockade site show", "%s is not the older key of the site",
			trust.Spaced(f))
	}
	return nil
}

// wouldRetire says what rests on the older key.
func (a *app) wouldRetire(s api.Site) {
	for _, r := range s.Resting {
		a.say("the lane %s shows %s: for %s there, only the older key signed what the machines "+
			"verify%s", r.Lane,
			r.Edition, strings.Join(r.Sources, ", "), followedBy(r.Groups))
	}
	if s.HousePackages > 0 {
		a.say("house sources have %d packages, which are signed again where their family signs "+
			"packages",
			s.HousePackages)
	}
	if s.Renewal != nil {
		a.say("both keys were planned to sign until %s", date(s.Renewal.Until))
	}
}
