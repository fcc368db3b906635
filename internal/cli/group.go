package cli

import (
	"context"
	"fmt"
	"net/url"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/archive"
	"stockade/core/disk"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/machine"
	"stockade/internal/api"
	"stockade/internal/client"
)

var groupListing = listing[api.Group]{
	columns: []column{{head: "GROUP"}, {head: "FAMILY", spare: 2}, {head: "RELEASE", spare: 3},
		{head: "ARCHITECTURES", spare: 4}, {head: "LANE"}, {head: "EDITION"},
		{head: "PINS", spare: 1, cut: atEnd}, {head: "FINDINGS", cut: atEnd}},
	row: func(g api.Group) []string {
		return []string{g.Name, g.Family, g.Release, strings.Join(g.Architectures, " "), g.Lane,
			first(g.Edition, "none yet"), strings.Join(g.Pins, ", "), worst(g.Findings)}
	},
	name:  func(g api.Group) string { return g.Name },
	empty: "no groups. To define one: stockade record FILE",
}

func (a *app) groupCommand() *cobra.Command {
	complete := a.names("/groups", 1, byName)
	list := lister(a, "List groups", "  stockade group list\n  stockade group list --lane steady", "/groups",
		groupListing, filter[api.Group]{"family", "only groups of this family", families.All.Names(), "",
			func(g api.Group, asked string) bool { return g.Family == asked }},
		filter[api.Group]{"lane", "only groups that follow this lane", nil, "/lanes",
			func(g api.Group, asked string) bool { return g.Lane == asked }},
		bySeverity(func(g api.Group) finding.List { return g.Findings }))
	show := shower(a, "group", "Show groups", "  stockade group show gatehouse", "/groups/",
		a.names("/groups", 0, byName), func(g api.Group) {
			a.fields("group", g.Name, "family", g.Family, "release", g.Release, "architectures",
				strings.Join(g.Architectures, " "), "lane", g.Lane, "edition", first(g.Edition, "none yet"),
				"pins", strings.Join(g.Pins, ", "))
			a.findings(a.out, g.Findings)
		}, groupListing.name)

	itself := func(_ context.Context, name string) (string, error) { return name, nil }
	return noun("group", "Manage groups of machines", list, show, a.filesOf("group", complete, itself),
		a.kitOf("group", complete, itself))
}

// groupOf gives the group that something is of, or is.
type groupOf func(ctx context.Context, name string) (string, error)

// placed gives the query for files of a group: where packages are found, and the edition that
// lies there.
func placed(at, named string) (url.Values, error) {
	if at != "" && !strings.Contains(at, "://") {
		abs, err := filepath.Abs(at)
		if err != nil {
			return nil, err
		}
		at = abs
		if name, err := edition.ExportedName(at); err == nil && named == "" {
			named = name
		}
	}
	return url.Values{"at": {at}, "edition": {named}}, nil
}

func (a *app) kitOf(kind string, complete cobra.CompletionFunc, group groupOf) *cobra.Command {
	var at, out, named string
	c := &cobra.Command{Use: "kit " + strings.ToUpper(kind),
		Short: "Write the files for " + article(kind) + " " + kind + " as one archive",
		Long: `Write the files that a machine of the group needs as one archive: the configuration and
keyrings, their checksums with the signature of the site, a script that applies them (sh apply; with
--alone it also disables the other sources of the machine) and a script that restores the former state
(sh back). --at and --edition work as for stockade group files.`,
		Example: "  stockade " + kind + " kit " + exampleOf[kind] + " --out " + exampleOf[kind] + ".tar.gz",
		Args:    cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames(kind, args); err != nil {
				return err
			}
			of, err := group(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			query, err := placed(at, named)
			if err != nil {
				return err
			}
			raw, err := a.client().Raw(cmd.Context(),
				"/groups/"+url.PathEscape(of)+"/kit?"+query.Encode())
			if err != nil {
				return err
			}
			if out == "-" {
				_, err := a.out.Write(raw)
				return err
			}
			if err := disk.Save(out, raw, 0o644); err != nil {
				return err
			}
			return a.show(map[string]any{"group": of, "file": out, "bytes": len(raw)},
				func() { fmt.Fprintln(a.out, out) }, []string{out})
		}}
	c.Flags().StringVar(&named, "edition", "", "edition MIRROR/N that the files are for")
	c.Flags().StringVar(&at, "at", "",
		"URL or folder where machines find the packages; the address of the lane by default")
	c.Flags().StringVar(&out, "out", "", "archive to write; - is standard output")
	c.MarkFlagRequired("out")
	return c
}

// exampleOf names one of a kind, for examples.
var exampleOf = map[string]string{"group": "gatehouse", "machine": "gate-north"}

func (a *app) filesOf(kind string, complete cobra.CompletionFunc, group groupOf) *cobra.Command {
	var at, out, named string
	short := "Write the files that a machine of the group needs"
	if kind == "machine" {
		short = "Write the files that the machine needs: those of its group"
	}
	files := &cobra.Command{Use: "files " + strings.ToUpper(kind), Short: short,
		Long: `Write the configuration of the package client, with keys, laid out as below the root of
a machine. Without --out, the command prints the files. The files are for the edition that the lane
shows, or the edition named with --edition, or the edition in the folder named with --at. Files that an
earlier run wrote below the same root and that are no longer needed are removed.`,
		Example: strings.ReplaceAll("  FILES --out /mnt/machine\n  FILES --edition barrage/2\n  FILES "+
			"--at /media/stick/barrage --out /mnt/machine", "FILES",
			"stockade "+kind+" files "+exampleOf[kind]), Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames(kind, args); err != nil {
				return err
			}
			of, err := group(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			query, err := placed(at, named)
			if err != nil {
				return err
			}
			if out != "" {
				query.Set("taken", "yes")
			}
			path := "/groups/" + url.PathEscape(of) + "/files?" + query.Encode()
			f, err := client.Get[api.Files](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			var names []string
			for _, x := range f.Files {
				names = append(names, x.Path)
			}
			if out != "" {
				files := make([]archive.ClientFile, len(f.Files))
				for i, x := range f.Files {
					files[i] = archive.ClientFile{Path: x.Path, Mode: x.Mode, Data: x.Data}
				}
				gone, left, err := machine.WriteFiles(out, touched(), files)
				if err != nil {
					return err
				}
				for _, path := range gone {
					a.say("removed /%s, which is no longer needed", path)
				}
				for _, path := range left {
					a.say("kept /%s: it is no longer needed, but someone changed it since it "+
						"was written", path)
				}
			}
			if err := a.show(f, func() {
				a.findings(a.err, f.Findings)
				for _, x := range f.Files {
					switch {
					case out != "":
						fmt.Fprintln(a.out, filepath.Join(out, x.Path))
					case strings.HasSuffix(x.Path, ".gpg"):
						fmt.Fprintf(a.out, "%s\n    (a keyring of %d bytes)\n\n",
							a.paint(bold, "/"+x.Path), len(x.Data))
					default:
						fmt.Fprintf(a.out, "%s\n", a.paint(bold, "/"+x.Path))
						for l := range strings.Lines(string(x.Data)) {
							fmt.Fprint(a.out, "    "+l)
						}
						fmt.Fprintln(a.out)
					}
				}
			}, names); err != nil {
				return err
			}
			if f.Findings.HasErrors() {
				return no()
			}
			return nil
		}}
	files.Flags().StringVar(&named, "edition", "", "edition MIRROR/N that the files are for")
	files.Flags().StringVar(&at, "at", "",
		"URL or folder where machines find the packages; the address of the lane by default")
	files.Flags().StringVar(&out, "out", "", "root of the machine, below which the files are "+
		"written")
	return files
}
