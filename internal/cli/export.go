package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"path/filepath"
	"time"

	"github.com/spf13/cobra"

	"stockade/core/archive"
	"stockade/core/disk"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/machine"
	"stockade/core/upstream"
	"stockade/internal/api"
	"stockade/internal/client"
)

// exporting is what an export is asked to be.
type exporting struct {
	onto   bool
	groups []string
	at     string
}

func (a *app) editionExport(complete cobra.CompletionFunc) *cobra.Command {
	var x exporting
	c := &cobra.Command{Use: "export MIRROR/N DIR", Short: "Export an edition as plain files",
		Long: `Export an edition as plain files on this machine. DIR/SOURCE/… has the layout of the
upstream, for file:// or any web server. Each file is verified while it is written.

With --onto, DIR already contains an export: files that match stay, only missing or different files are
written, and files that the edition does not have are removed.

With --group, the export also contains the files for the machines of the group, in DIR/machines/GROUP,
laid out as below the root of a machine, for packages at --at. DIR/machines/check.sh verifies the export
at its destination with gpgv and sha256sum. The files in machines have a signature of their own,
GROUP.sums.asc, which names the edition. Only operators and wardens can request files for another
address; the journal records the request.`,
		Example: "  stockade edition export barrage/1 /media/stick/barrage --group gatehouse --at " +
			"/srv/barrage\n  stockade edition export barrage/2 /media/stick/barrage --onto --group " +
			"gatehouse --at /srv/barrage", Args: cobra.ExactArgs(2),
		ValidArgsFunction: complete,
		RunE: func(cmd *cobra.Command, args []string) error {
			if x.at != "" && len(x.groups) == 0 {
				return usage("--at is the address of the packages for the machines of a group: " +
					"add --group")
			}
			return a.export(cmd.Context(), args[0], args[1], x)
		}}
	c.Flags().BoolVar(&x.onto, "onto", false, "update the export that is in DIR")
	c.Flags().StringArrayVar(&x.groups, "group", nil,
		"also write the files for the machines of this group; can be repeated")
	c.Flags().StringVar(&x.at, "at", "",
		"URL or folder where machines will find the export; DIR by default")
	c.RegisterFlagCompletionFunc("group", a.names("/groups", 0, byName))
	return c
}

func (a *app) export(ctx context.Context, what, dir string, x exporting) error {
	name, number, path, err := editionPath(what)
	if err != nil {
		return err
	}
	if err := plainNames("group", x.groups); err != nil {
		return err
	}
	dir, err = filepath.Abs(dir)
	if err != nil {
		return err
	}
	if x.onto {
		if lies, err := edition.ExportedName(dir); err != nil {
			return usageDo("remove --onto to export to a new folder",
				"%s does not contain an export: %v", dir,
				cause(err))
		} else if id, err := edition.ParseID(lies, ""); err == nil && id.Mirror != name {
			return usage("%s contains %s, an export of another mirror", dir, lies)
		}
	}
	if !x.onto {
		err := edition.Vacant(disk.OS, dir)
		var occupied *edition.Occupied
		if errors.As(err, &occupied) {
			return usageDo(occupied.Way, "%s", occupied.Why)
		}
		if err != nil {
			return err
		}
	}
	if err := noLinks(filepath.Join(dir, "machines")); err != nil {
		return err
	}
	c := a.client()
	machines := map[string]api.Files{}
	for _, g := range x.groups { // before anything is written: a group may not be there
		f, err := client.Get[api.Files](ctx, c, "/groups/"+url.PathEscape(g)+"/files?"+
			url.Values{"at": {first(x.at, dir)}, "edition": {what}, "beside": {"yes"}}.Encode())
		if err != nil {
			return err
		}
		machines[g] = f
	}
	files, err := client.Get[api.Manifest](ctx, c, path+"/manifest")
	if err != nil {
		return err
	}
	m, err := edition.ReadManifest(bytes.NewReader(files.Manifest))
	if err != nil {
		return err
	}
	open := func(l edition.Line) (io.ReadCloser, error) { return c.File(ctx, name, number, l.Path) }
	p := a.progress()
	told := copying(p, m.Bytes())
	count := m.Files() + 2 // the manifest and the seal
	renewed := edition.Renewed{Written: count, Bytes: m.Bytes()}
	if x.onto {
		var medium *disk.Beneath
		if medium, err = disk.NewBeneath(dir); err == nil {
			renewed, err = edition.Renew(medium, open, files.Manifest, files.Seal, dir, told)
			err = errors.Join(err, medium.Close())
		}
	} else {
		err = edition.Export(disk.OS, open, files.Manifest, files.Seal, dir, told)
	}
	p.done()
	if err != nil {
		return fmt.Errorf("%s was not exported: %w", what, err)
	}
	for _, g := range x.groups {
		if err := a.besideExport(dir, g, machines[g]); err != nil {
			return err
		}
	}
	return a.show(map[string]any{"edition": what, "folder": dir, "files": count, "bytes": m.Bytes(),
		"written": renewed.Written, "kept": renewed.Kept, "removed": renewed.Removed}, func() {
		a.say("exported %s to %s: %d files, %s. about/README.txt explains how to verify it", what, dir, count,
			size(m.Bytes()))
		if x.onto {
			a.say("%d files were already there, %d were written (%s), %d were removed", renewed.Kept,
				renewed.Written, size(renewed.Bytes), renewed.Removed)
		}
		for _, g := range x.groups {
			a.findings(a.err, machines[g].Findings)
			a.say("the files for machines of %s are in %s, for packages at %s", g, filepath.Join(dir,
				"machines", g),
				machines[g].At)
		}
		if len(x.groups) > 0 {
			a.say("%s verifies the edition at its destination", filepath.Join(dir, "machines", "check.sh"))
		}
	}, []string{dir})
}

// copying tells how far an export is.
func copying(p *progress, total int64) func(files, of int, done int64) {
	start := time.Now()
	return func(files, of int, done int64) {
		e := upstream.Event{Step: "copy", Files: files, FilesTotal: of, Bytes: done, BytesTotal: total,
			Remaining: -1}
		if took := time.Since(start).Seconds(); took > 0.1 {
			if e.Rate = int64(float64(done) / took); e.Rate > 0 {
				e.Remaining = int((total - done) / e.Rate)
			}
		}
		p.show(e)
	}
}

// besideExport writes a group's files and the check script beside an export.
func (a *app) besideExport(dir, group string, f api.Files) error {
	medium, err := disk.NewBeneath(dir)
	if err != nil {
		return err
	}
	defer medium.Close()
	if f.Beside == nil {
		return fmt.Errorf("the service cannot sign files for machines: it is older than this " +
			"command")
	}
	machines := filepath.Join(dir, "machines")
	files := make([]archive.ClientFile, len(f.Files))
	for i, x := range f.Files {
		files[i] = archive.ClientFile{Path: x.Path, Mode: x.Mode, Data: x.Data}
	}
	if _, err := disk.MakeFolder(medium, filepath.Join(machines, group)); err != nil {
		return err
	}
	if _, _, err := machine.WriteFiles(filepath.Join(machines, group), touched(), files); err != nil {
		return err
	}
	for _, x := range []struct {
		name string
		data []byte
		mode fs.FileMode
	}{{group + ".sums", f.Beside.Sums, 0o644}, {group + ".sums.asc", f.Beside.Seal, 0o644},
		{"site-key.gpg", f.Beside.Keyring, 0o644}, {machine.CheckName, f.Beside.Check, 0o755}} {
		if err := disk.Replace(medium, filepath.Join(machines, x.name), x.data, x.mode); err != nil {
			return err
		}
	}
	return nil
}

// touched gives the paths below which files for machines lie, of every family.
func touched() (out []string) {
	for _, name := range families.All.Names() {
		if f, ok := families.All[name].(archive.Configuring); ok {
			out = append(out, f.Touched()...)
		}
	}
	return out
}

// noLinks refuses links in a folder, which may be there or not: a medium that was
// elsewhere is written to, and nothing beside it.
func noLinks(folder string) error {
	return filepath.WalkDir(folder, func(path string, d fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && d.Type()&fs.ModeSymlink != 0 {
			return fmt.Errorf("%s is a symbolic link, and Stockade does not write through "+
				"links: remove it", path)
		}
		return err
	})
}
