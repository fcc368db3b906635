package cli

import (
	"net/url"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/families"
	"stockade/internal/api"
	"stockade/internal/client"
)

// foundRow is one version of a package that was found, for all of its architectures.
type foundRow struct {
	v    api.FoundVersion
	arch []string
}

func (a *app) packageFind() *cobra.Command {
	f := struct{ source, family, standing, arch, edition, lane, limit string }{}
	every := false
	c := &cobra.Command{Use: "find WORDS…",
		Short: "Find packages by part of a name or description",
		Long: `Find packages in all enabled sources and all editions. A package is found when its name
contains all of the words, or when each of the words begins a word of its name, summary, section, source
package or of the names that it provides. A pattern with * or ? is compared with the whole name. Names
that match best come first. The table shows the newest version that each source offers and the versions
that lanes show; --versions shows all. The service searches an index that it updates after each refresh
and each build; it contacts no upstream. The exit code is 1 if nothing is found.`,
		Example: "  stockade package find tide\n  stockade package find 'pump-*' --source brine-drivers\n" +
			"  stockade package find gate --lane steady -o ids",
		Args: cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			query := url.Values{"q": {strings.Join(args, " ")}}
			for _, given := range []struct {
				flag, value string
				known       []string
			}{{"source", f.source, nil}, {"family", f.family, families.All.Names()},
				{"standing", f.standing, definition.Standings}, {"arch", f.arch, nil},
				{"edition", f.edition, nil}, {"lane", f.lane, nil}, {"limit", f.limit, nil}} {
				if given.known != nil && given.value != "" && !slices.Contains(given.known, given.value) {
					return oneOf("--"+given.flag, given.value, given.known)
				}
				if given.value != "" {
					query.Set(given.flag, given.value)
				}
			}
			found, err := client.Get[api.FoundPackages](cmd.Context(), a.client(),
				"/packages/find?"+query.Encode())
			if err != nil {
				return err
			}
			names := []string{}
			for _, p := range found.Items {
				names = append(names, p.Name)
			}
			if err := a.show(found, func() { a.drawFound(found, every) }, names); err != nil {
				return err
			}
			if found.More {
				a.say("more packages match: add a word, or set --limit (200 at most)")
			}
			if len(found.Items) > 0 {
				return nil
			}
			if found.Near != "" {
				a.say("no package matches. Did you mean %s?", found.Near)
			} else {
				a.say("no package matches")
			}
			return no()
		}}
	c.Flags().StringVar(&f.source, "source", "", "only packages of this source")
	c.Flags().StringVar(&f.family, "family", "", "only packages of this family of repositories")
	c.Flags().StringVar(&f.standing, "standing", "", "only packages of sources with this standing")
	c.Flags().StringVar(&f.arch, "arch", "", "only packages of this architecture")
	c.Flags().StringVar(&f.edition, "edition", "", "only packages that this edition (MIRROR/N) holds")
	c.Flags().StringVar(&f.lane, "lane", "", "only packages that this lane shows")
	c.Flags().StringVar(&f.limit, "limit", "",
		"the largest number of names to show; 50 by default, 200 at most")
	c.Flags().BoolVar(&every, "versions", false, "show every version")
	c.RegisterFlagCompletionFunc("source", a.names("/sources", 0, byName))
	c.RegisterFlagCompletionFunc("lane", a.names("/lanes", 0, byName))
	c.RegisterFlagCompletionFunc("edition", a.names("/editions", 0, byName))
	c.RegisterFlagCompletionFunc("family", cobra.FixedCompletions(families.All.Names(),
		cobra.ShellCompDirectiveNoFileComp))
	c.RegisterFlagCompletionFunc("standing", cobra.FixedCompletions(definition.Standings,
		cobra.ShellCompDirectiveNoFileComp))
	return c
}

func (a *app) drawFound(found api.FoundPackages, every bool) {
	var rows [][]string
	for _, p := range found.Items {
		for _, r := range foundRows(p, every) {
			offered := "no"
			if r.v.Offered {
				offered = "yes"
			}
			rows = append(rows, []string{p.Name, r.v.Version, r.v.Source, strings.Join(r.arch, ", "), offered,
				first(strings.Join(r.v.Lanes, ", "), "–"), size(r.v.Size), p.Summary})
		}
	}
	a.table([]column{{head: "PACKAGE"}, {head: "VERSION"}, {head: "SOURCE"}, {head: "ARCH", spare: 3},
		{head: "OFFERED", spare: 2}, {head: "LANES", cut: atEnd}, {head: "SIZE", right: true, spare: 4},
		{head: "SUMMARY", spare: 1, cut: atEnd}}, rows)
	for _, u := range found.Unread.Items {
		a.say("not searched: %s: %s", u.Object, u.Why)
	}
	if more := found.Unread.All - len(found.Unread.Items); more > 0 {
		a.say("not searched: %d further sources and editions", more)
	}
}

// foundRows gives the main versions of a package, or every one, with the architectures of each.
func foundRows(p api.FoundPackage, every bool) (out []foundRow) {
	for _, v := range p.Versions {
		if !every && !v.Main {
			continue
		}
		if i := slices.IndexFunc(out, func(r foundRow) bool {
			return r.v.Source == v.Source && r.v.Version == v.Version && r.v.Offered == v.Offered &&
				slices.Equal(r.v.Lanes, v.Lanes)
		}); i >= 0 {
			out[i].arch = append(out[i].arch, v.Arch)
			continue
		}
		out = append(out, foundRow{v, []string{v.Arch}})
	}
	return out
}
