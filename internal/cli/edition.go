package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/definition"
	"stockade/core/edition"
	"stockade/core/finding"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) editionTable(list []api.Edition) {
	var rows [][]string
	for _, e := range list {
		rows = append(rows, editionListing.row(e))
	}
	a.table(editionListing.columns, rows)
}

var editionListing = listing[api.Edition]{
	columns: []column{{head: "EDITION"}, {head: "MADE"}, {head: "COPY", spare: 3},
		{head: "PACKAGES", right: true, spare: 1}, {head: "FILES", right: true, spare: 2},
		{head: "SIZE", right: true}, {head: "LANES", cut: atEnd}},
	row: func(e api.Edition) []string {
		return []string{e.Name, date(e.Created), e.Copy, strconv.Itoa(e.Packages), strconv.Itoa(e.Files),
			size(e.Bytes), strings.Join(e.Lanes, ", ")}
	},
	name:  func(e api.Edition) string { return e.Name },
	empty: "no editions. To build one: stockade mirror build MIRROR",
}

// editionPath turns MIRROR/N into the path of its calls.
func editionPath(arg string) (name string, number int, path string, err error) {
	id, err := edition.ParseID(arg, "")
	if err != nil || !definition.IsName(id.Mirror) {
		return "", 0, "", usageDo("write it as MIRROR/N. To list editions: stockade edition "+
			"list",
			"%q is not the name of an edition, such as barrage/14", arg)
	}
	return id.Mirror, id.Number, fmt.Sprintf("/editions/%s/%d", url.PathEscape(id.Mirror), id.Number), nil
}

// editionPaths does so for several, before anything is done with the first.
func editionPaths(args []string) error {
	for _, arg := range args {
		if _, _, _, err := editionPath(arg); err != nil {
			return err
		}
	}
	return nil
}

func (a *app) editionCommand() *cobra.Command {
	complete := a.names("/editions", 0, byName)
	list := lister(a, "List editions, newest first", "  stockade edition list\n  stockade edition list "+
		"--mirror barrage", "/editions", editionListing,
		filter[api.Edition]{"mirror", "only editions of this mirror", nil, "/mirrors",
			func(e api.Edition, asked string) bool { return e.Mirror == asked }},
		filter[api.Edition]{"lane", "only editions that this lane shows", nil, "/lanes",
			func(e api.Edition, asked string) bool { return slices.Contains(e.Lanes, asked) }})
	return noun("edition", "Manage sealed editions of mirrors", list, a.editionShow(complete),
		a.editionPackages(complete), a.editionAdvisories(complete), a.editionDiff(complete),
		a.editionVerify(complete), a.editionExport(complete), a.editionRetire(complete))
}

func delta(n int64) string {
	if n < 0 {
		return "-" + size(-n)
	}
	return "+" + size(n)
}

func (a *app) editionShow(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "show MIRROR/N…",
		Short:   "Show editions: sources, signers, proofs",
		Example: "  stockade edition show barrage/1", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			return showEach(a, args, func(arg string) (e api.EditionDetail, err error) {
				_, _, path, err := editionPath(arg)
				if err != nil {
					return e, err
				}
				return client.Get[api.EditionDetail](cmd.Context(), a.client(), path)
			}, a.editionDetail, func(e api.EditionDetail) string { return e.Name })
		}}
}

func (a *app) editionDetail(e api.EditionDetail) {
	seal := "valid, by " + short(e.Seal.SiteKey) + ", verified " + date(e.Checked)
	if !e.Sealed {
		seal = "BROKEN: " + e.Problem
	}
	pairs := []string{"edition", e.Name, "made", date(e.Created), "copy", e.Copy, "seal", seal,
		"lanes", strings.Join(e.Lanes, ", "), "packages", strconv.Itoa(e.Packages), "files",
		fmt.Sprintf("%d, %s", e.Files, size(e.Bytes))}
	if len(e.Seal.Because) > 0 {
		pairs = append(pairs, "changed", strings.Join(e.Seal.Because, "; "))
	}
	for _, p := range e.Seal.Proofs {
		pairs = append(pairs, "proof", p.String())
	}
	for _, s := range e.Seal.Sources {
		built := ""
		if s.SourcePackages > 0 {
			built = fmt.Sprintf(", and %d source packages that they were built from", s.SourcePackages)
		}
		pairs = append(pairs, "from "+s.Name, fmt.Sprintf("%d packages%s; release metadata of "+
			"%s from %s",
			s.Packages, built, date(s.RootDate), s.Upstream), "  signed by", signedBy(s.Signer))
		if u := s.Unsigned; u.Reason != "" {
			pairs = append(pairs, "  acknowledged", fmt.Sprintf("until %s, by %s, %s: %s",
				u.Until.AddDate(0, 0, -1).Format(time.DateOnly), u.By, date(u.At),
				finding.Harmless(u.Reason)))
		}
	}
	a.fields(pairs...)
	a.say("to list its packages: stockade edition packages %s", e.Name)
}

var itemListing = listing[api.Item]{
	columns: []column{{head: "PACKAGE"}, {head: "VERSION"}, {head: "ARCH", spare: 3}, {head: "SOURCE",
		spare: 1},
		{head: "SIZE", right: true, spare: 2}, {head: "WHY", cut: atEnd}},
	row: func(it api.Item) []string {
		return []string{it.Name, it.Version, it.Arch, it.Source, size(it.Size), it.Reason()}
	},
	name:  func(it api.Item) string { return it.Name },
	empty: "no package matches",
}

// inEdition refuses a source or an architecture of which an edition has nothing.
func (a *app) inEdition(ctx context.Context, path, source, arch string) error {
	e, err := client.Get[api.EditionDetail](ctx, a.client(), path)
	if err != nil {
		return err
	}
	sources, arches := []string{""}, []string{"", "all", "any", "noarch"}
	for _, s := range e.Seal.Sources {
		sources, arches = append(sources, s.Name), append(arches, s.Architectures...)
	}
	if !slices.Contains(sources, source) {
		return oneOf("--source", source, sources[1:])
	}
	slices.Sort(arches[1:])
	if arches = slices.Compact(arches); !slices.Contains(arches, arch) {
		return oneOf("--arch", arch, arches[1:])
	}
	return nil
}

func (a *app) editionPackages(complete cobra.CompletionFunc) *cobra.Command {
	var search, source, arch string
	c := &cobra.Command{Use: "packages MIRROR/N",
		Short: "List the packages of an edition and why each is in it",
		Example: "  stockade edition packages barrage/1 --search tide\n" +
			"  stockade edition packages barrage/1 --source kelp -o ids", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			items, err := client.All[api.Item](cmd.Context(), a.client(),
				path+"/packages?limit=1000&q="+url.QueryEscape(search))
			if err != nil {
				return err
			}
			items = slices.DeleteFunc(items, func(it api.Item) bool {
				return source != "" && it.Source != source || arch != "" && it.Arch != arch
			})
			if len(items) == 0 && source+arch != "" {
				if err := a.inEdition(cmd.Context(), path, source, arch); err != nil {
					return err
				}
			}
			return itemListing.show(a, items)
		}}
	c.Flags().StringVar(&search, "search", "", "only packages with this in their name or summary")
	c.Flags().StringVar(&source, "source", "", "only packages of this source")
	c.Flags().StringVar(&arch, "arch", "", "only packages of this architecture")
	c.RegisterFlagCompletionFunc("source", a.names("/sources", 0, byName))
	return c
}

var advisoryListing = listing[api.EditionAdvisory]{
	columns: []column{{head: "ADVISORY"}, {head: "KIND"}, {head: "SOURCE", spare: 1},
		{head: "ABOUT", cut: atEnd}, {head: "TITLE", cut: atEnd, spare: 2}},
	row: func(v api.EditionAdvisory) []string {
		var about []string
		for _, p := range v.Packages {
			about = append(about, p.Name+" "+p.Version)
		}
		return []string{v.ID, joined(", ", v.Kind, strings.ToLower(v.Severity)), v.Source,
			strings.Join(about, ", "), v.Title}
	},
	name:  func(v api.EditionAdvisory) string { return v.ID },
	empty: "none of its upstreams publishes advisories for these packages",
}

func (a *app) editionAdvisories(complete cobra.CompletionFunc) *cobra.Command {
	var search string
	c := &cobra.Command{Use: "advisories MIRROR/N",
		Short:   "List the advisories of packages in an edition",
		Example: "  stockade edition advisories pumps/2", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			told, err := client.All[api.EditionAdvisory](cmd.Context(), a.client(),
				path+"/advisories?q="+url.QueryEscape(search))
			if err != nil {
				return err
			}
			return advisoryListing.show(a, told)
		}}
	c.Flags().StringVar(&search, "search", "", "only advisories with this text in their id, "+
		"title or packages")
	return c
}

var changeListing = listing[api.Change]{
	columns: []column{{head: "CHANGE"}, {head: "PACKAGE"}, {head: "ARCH", spare: 3}, {head: "SOURCE",
		spare: 1},
		{head: "OLD"}, {head: "NEW"}, {head: "SIZE", right: true, spare: 2}, {head: "ADVISORIES",
			cut: atEnd}},
	row: func(c api.Change) []string {
		return []string{c.Action, c.Name, c.Arch, c.Source, c.OldVersion, c.NewVersion,
			delta(c.NewSize - c.OldSize), strings.Join(c.Advisories, ", ")}
	},
	name:  func(c api.Change) string { return c.Name },
	empty: "no changes: the packages are the same",
}

// differs is the answer where --same asked whether two are the same.
func differs(same bool, changes int) error {
	if same && changes > 0 {
		return no()
	}
	return nil
}

func (a *app) editionDiff(complete cobra.CompletionFunc) *cobra.Command {
	var same bool
	c := &cobra.Command{Use: "diff [MIRROR/OLD] MIRROR/NEW",
		Short:   "Show the changes between two editions, or since the one before",
		Example: "  stockade edition diff barrage/2\n  stockade edition diff barrage/1 barrage/2",
		Args:    cobra.RangeArgs(1, 2), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			name, to, path, err := editionPath(args[len(args)-1])
			if err != nil {
				return err
			}
			from := 0
			if len(args) == 2 {
				other, n, _, err := editionPath(args[0])
				if err != nil {
					return err
				}
				if other != name {
					return usage("%s and %s are editions of different mirrors", args[0], args[1])
				}
				if n > to {
					return usageDo(fmt.Sprintf("name the older one first: stockade edition "+
						"diff %s %s", args[1],
						args[0]), "%s is newer than %s", args[0], args[1])
				}
				from = n
			} else if from, err = a.before(cmd.Context(), name, to); err != nil {
				return err
			}
			all, err := client.All[api.Change](cmd.Context(), a.client(), path+"/diff?limit=1000&against="+
				strconv.Itoa(from))
			if err != nil {
				return err
			}
			a.heading(fmt.Sprintf("from %s/%d to %s/%d: %s", name, from, name, to, number(len(all),
				"change")))
			if err := changeListing.show(a, all); err != nil {
				return err
			}
			return differs(same, len(all))
		}}
	c.Flags().BoolVar(&same, "same", false, "exit with 1 if they differ")
	return c
}

// before gives the number of the edition before one.
func (a *app) before(ctx context.Context, name string, number int) (int, error) {
	all, err := client.All[api.Edition](ctx, a.client(), "/editions?mirror="+url.QueryEscape(name))
	if err != nil {
		return 0, err
	}
	there := false
	for _, e := range all {
		if e.Number < number {
			return e.Number, nil
		}
		there = there || e.Number == number
	}
	if !there {
		return 0, usageDo("stockade edition list --mirror "+name, "no edition is named %s/%d", name, number)
	}
	return 0, usage("%s has no edition before %d to compare with", name, number)
}

// heading says what a table is about, where it is one.
func (a *app) heading(text string) {
	if a.output == "" || a.output == "table" {
		a.hang(a.out, "", 0, text)
	}
}

func (a *app) editionVerify(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "verify MIRROR/N…",
		Short:   "Verify every file of editions against the seal",
		Example: "  stockade edition verify barrage/1", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := editionPaths(args); err != nil {
				return err
			}
			return a.each(args, func(arg string) error {
				_, _, path, _ := editionPath(arg)
				return a.job(cmd.Context(), work{path: path + "/verify", asked: true, about: []string{arg},
					told: func(j api.Job) {
						r := decode[struct {
							Files int   `json:"files"`
							Bytes int64 `json:"bytes"`
						}](j.Result)
						a.say("%s: OK. The seal is valid and all %d files (%s) match it",
							arg, r.Files, size(r.Bytes))
					}})
			})
		}}
}

func (a *app) editionRetire(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "retire MIRROR/N…",
		Short:   "Retire editions; a sweep then frees files that nothing else uses",
		Example: "  stockade edition retire tarn-whole/1 --yes", Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := editionPaths(args); err != nil {
				return err
			}
			c := a.client()
			for _, arg := range args {
				_, _, path, _ := editionPath(arg)
				e, err := client.Get[api.EditionDetail](cmd.Context(), c, path)
				if err != nil {
					return err
				}
				if err := a.sure(fmt.Sprintf("This retires %s: %d packages, %s.", e.Name, e.Packages,
					size(e.Bytes))); err != nil {
					return err
				}
			}
			return a.each(args, func(arg string) error {
				_, _, path, _ := editionPath(arg)
				out, err := client.Call[api.Edition](cmd.Context(), c, "DELETE", path, nil)
				if err != nil {
					return err
				}
				return a.show(out, func() {
					a.say("retired %s. To free its files: stockade pool sweep", out.Name)
				}, []string{out.Name})
			})
		}}
}
