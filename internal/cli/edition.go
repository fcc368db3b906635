package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/url"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/disk"
	"stockade/core/edition"
	"stockade/core/mirror"
	"stockade/internal/api"
	"stockade/internal/client"
)

func (a *app) editionTable(list []api.Edition) {
	var rows [][]string
	for _, e := range list {
		rows = append(rows, editionRow(e))
	}
	a.table(append([]string{}, editionHeads...), rows)
}

var editionHeads = []string{"EDITION", "MADE", "COPY", "PACKAGES>", "FILES>", "SIZE>", "LANES"}

func editionRow(e api.Edition) []string {
	return []string{e.Name, date(e.Created), e.Copy, strconv.Itoa(e.Packages), strconv.Itoa(e.Files),
		size(e.Bytes), strings.Join(e.Lanes, ", ")}
}

// editionPath turns MIRROR/N into the path of its calls.
func editionPath(arg string) (name string, number int, path string, err error) {
	name, n, ok := strings.Cut(arg, "/")
	number, err = strconv.Atoi(n)
	if !ok || err != nil || number < 1 {
		return "", 0, "", usage("%q is not an edition such as barrage/14", arg)
	}
	return name, number, fmt.Sprintf("/editions/%s/%d", url.PathEscape(name), number), nil
}

func (a *app) editionCommand() *cobra.Command {
	complete := a.names("/editions", byName)
	list := lister(a, "List editions, newest first", "  stockade edition list", "/editions",
		append([]string{}, editionHeads...), editionRow, func(e api.Edition) string { return e.Name },
		"no edition was made yet: stockade mirror build MIRROR")

	show := a.editionShow(complete)
	diff := a.editionDiff(complete)
	verify := a.editionVerify(complete)
	export := a.editionExport(complete)
	retire := a.editionRetire(complete)
	return noun("edition", "Sealed editions of mirrors", list, show, diff, verify, export, retire)
}

func delta(n int64) string {
	if n < 0 {
		return "-" + size(-n)
	}
	return "+" + size(n)
}

func (a *app) export(ctx context.Context, what, dir string) error {
	name, number, path, err := editionPath(what)
	if err != nil {
		return err
	}
	c := a.client()
	files, err := client.Get[api.Manifest](ctx, c, path+"/manifest")
	if err != nil {
		return err
	}
	m, err := edition.ReadManifest(bytes.NewReader(files.Manifest))
	if err != nil {
		return err
	}
	p := a.progress()
	total, start := m.Bytes(), time.Now()
	open := func(l edition.Line) (io.ReadCloser, error) { return c.File(ctx, name, number, l.Path) }
	err = edition.Export(disk.OS, open, files.Manifest, files.Seal, dir, func(n, of int, done int64) {
		e := mirror.Event{
			Step:       "copy",
			Files:      n,
			FilesTotal: of,
			Bytes:      done,
			BytesTotal: total,
			Remaining:  -1,
		}
		if took := time.Since(start).Seconds(); took > 0.1 {
			if e.Rate = int64(float64(done) / took); e.Rate > 0 {
				e.Remaining = int((total - done) / e.Rate)
			}
		}
		p.show(e)
	})
	p.done()
	if err != nil {
		return fmt.Errorf("%s was not exported: %w", what, err)
	}
	abs, _ := filepath.Abs(dir)
	count := m.Files() + 2 // the manifest and the seal
	return a.show(map[string]any{"edition": what, "folder": abs, "files": count, "bytes": total}, func() {
		a.say("%s lies in %s: %d files, %s; about/README.txt tells how to check it", what, abs, count,
			size(total))
	}, []string{abs})
}

func (a *app) editionShow(complete cobra.CompletionFunc) *cobra.Command {
	var search string
	show := &cobra.Command{Use: "show MIRROR/N",
		Short:   "Show one edition: sources, who signed them, packages",
		Example: "  stockade edition show barrage/1 --search tide", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			c := a.client()
			e, err := client.Get[api.EditionDetail](cmd.Context(), c, path)
			if err != nil {
				return err
			}
			items, err := client.All[api.Item](cmd.Context(), c,
				path+"/packages?limit=1000&q="+url.QueryEscape(search))
			if err != nil {
				return err
			}
			var names []string
			for _, it := range items {
				names = append(names, it.Name)
			}
			told, err := client.All[api.EditionAdvisory](cmd.Context(), c,
				path+"/advisories?q="+url.QueryEscape(search))
			if err != nil {
				return err
			}
			return a.show(map[string]any{"edition": e, "packages": items, "advisories": told}, func() {
				seal := "holds, by " + short(e.Seal.SiteKey)
				if !e.Sealed {
					seal = "BROKEN: " + e.Problem
				}
				pairs := []string{"edition", e.Name, "made", date(e.Created), "copy", e.Copy, "seal", seal,
					"lanes", strings.Join(e.Lanes, ", "), "files",
					fmt.Sprintf("%d, %s", e.Files, size(e.Bytes))}
				for _, p := range e.Seal.Proofs {
					pairs = append(pairs, "proof", p.String())
				}
				for _, s := range e.Seal.Sources {
					pairs = append(pairs, "from "+s.Name, fmt.Sprintf("%d packages; root of %s from %s",
						s.Packages, date(s.RootDate), s.Upstream), "  signed by", short(s.Signer.Fingerprint)+
						" "+s.Signer.UserID)
				}
				a.fields(pairs...)
				fmt.Fprintln(a.out)
				var rows [][]string
				for _, it := range items {
					why := "needed by " + it.For
					if it.Wanted {
						why = "wanted: " + it.For
					}
					rows = append(rows, []string{it.Name, it.Version, it.Arch, it.Source, size(it.Size), why})
				}
				a.table([]string{"PACKAGE", "VERSION", "ARCH", "SOURCE", "SIZE>", "WHY"}, rows)
				if len(told) == 0 {
					return
				}
				fmt.Fprintln(a.out)
				rows = nil
				for _, v := range told {
					var about []string
					for _, p := range v.Packages {
						about = append(about, p.Name+" "+p.Version)
					}
					rows = append(rows, []string{v.ID, joined(", ", v.Kind, strings.ToLower(v.Severity)),
						v.Source, strings.Join(about, ", "), v.Title})
				}
				a.table([]string{"ADVISORY", "KIND", "SOURCE", "ABOUT", "TITLE"}, rows)
			}, names)
		}}
	show.Flags().StringVar(&search, "search", "",
		"only packages (and advisories) with this in their name or summary")
	return show
}

func (a *app) editionDiff(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "diff MIRROR/N [MIRROR/OLDER]",
		Short:   "Show the difference to an older edition; the one before if none is named",
		Example: "  stockade edition diff barrage/2", Args: cobra.RangeArgs(1, 2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			name, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			path += "/diff"
			if len(args) == 2 {
				other, n, _, err := editionPath(args[1])
				if err != nil {
					return err
				}
				if other != name {
					return usage("%s and %s are of different mirrors", args[0], args[1])
				}
				path += "?against=" + strconv.Itoa(n)
			}
			all, err := client.All[api.Change](cmd.Context(), a.client(), path)
			if err != nil {
				return err
			}
			return showList(a, all, []string{"CHANGE", "PACKAGE", "ARCH", "SOURCE", "OLD", "NEW", "SIZE>",
				"ADVISORIES"}, func(c api.Change) []string {
				return []string{c.Action, c.Name, c.Arch, c.Source, c.OldVersion, c.NewVersion,
					delta(c.NewSize - c.OldSize), strings.Join(c.Advisories, ", ")}
			}, func(c api.Change) string { return c.Name }, "no difference")
		}}
}

func (a *app) editionVerify(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "verify MIRROR/N",
		Short:   "Read every file of an edition and compare it with the seal",
		Example: "  stockade edition verify barrage/1", Args: cobra.ExactArgs(1), ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			return a.job(cmd.Context(), path+"/verify", nil, false, func(j api.Job) {
				r := decode[struct {
					Files int   `json:"files"`
					Bytes int64 `json:"bytes"`
				}](j.Result)
				a.say("%s: the seal holds, and all %d files (%s) are what was sealed",
					args[0], r.Files, size(r.Bytes))
			})
		}}
}

func (a *app) editionExport(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "export MIRROR/N DIR", Short: "Lay an edition out as plain files",
		Long: "Lay an edition out as plain files on this machine, DIR/SOURCE/… as upstream lays each " +
			"out, for file:// or any web server. Every file is checked on the way.",
		Example: "  stockade edition export barrage/1 /media/stick/barrage", Args: cobra.ExactArgs(2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			return a.export(cmd.Context(), args[0], args[1])
		}}
}

func (a *app) editionRetire(complete cobra.CompletionFunc) *cobra.Command {
	return &cobra.Command{Use: "retire MIRROR/N",
		Short:   "Take an edition out; its files go when nothing else holds them",
		Example: "  stockade edition retire tarn-whole/1", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			_, _, path, err := editionPath(args[0])
			if err != nil {
				return err
			}
			c := a.client()
			e, err := client.Get[api.EditionDetail](cmd.Context(), c, path)
			if err != nil {
				return err
			}
			if err := a.sure(fmt.Sprintf("This retires %s: %d packages, %s.", e.Name, e.Packages,
				size(e.Bytes))); err != nil {
				return err
			}
			out, err := client.Call[api.Edition](cmd.Context(), c, "DELETE", path, nil)
			if err != nil {
				return err
			}
			return a.show(out, func() {
				a.say("%s is retired; stockade pool sweep frees its files", out.Name)
			}, []string{out.Name})
		}}
}
