package cli

import (
	"database/sql"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	_ "github.com/glebarez/go-sqlite" // reads rpm's keyring
	"github.com/spf13/cobra"

	"stockade/core/archive"
	"stockade/core/definition"
	"stockade/core/disk"
	"stockade/core/families"
	"stockade/core/finding"
)

// readers are the families that read what their clients are configured with, in order.
func readers() (names []string, all map[string]archive.Reading) {
	all = map[string]archive.Reading{}
	for _, name := range families.All.Names() {
		if r, ok := families.All[name].(archive.Reading); ok {
			names, all[name] = append(names, name), r
		}
	}
	return names, all
}

// isMachineFile tells whether a path is one of a machine's own files, and no definition.
func isMachineFile(path string) bool {
	_, all := readers()
	for _, r := range all {
		if archive.ReadsFile(r, filepath.ToSlash(path)) {
			return true
		}
	}
	return false
}

// machineFiles is what is read of one machine: files that are named, or all below a root.
type machineFiles struct {
	root  string // "/" or where its files lie
	paths []string
	arch  string
}

// configured reads what a machine is configured with, of every family that reads it.
func (m machineFiles) configured() (*definition.Imported, error) {
	var files definition.MachineFiles = m
	root := m.root
	if len(m.paths) == 1 && definition.IsPacked(m.paths[0]) {
		raw, err := readNamed(m.paths[0], maxArchive)
		if err != nil {
			return nil, usage("cannot read %s: %v", finding.Harmless(m.paths[0]), cause(err))
		}
		unpacking := definition.NewUnpacking()
		if err := unpacking.Unpack(families.All, raw); err != nil {
			return nil, err
		}
		files, root = unpacking.Files, "/"
	}
	return definition.ReadMachine(families.All, files, root, m.arch)
}

// Limits on what is read of a machine: bytes of one file, of an archive, and of a client's database.
const (
	maxRead     = 16 << 20
	maxArchive  = 256 << 20
	maxDatabase = 512 << 20
)

// readNamed reads a file that somebody named: a regular one, of so many bytes at most. A pipe is not
// waited for.
func readNamed(path string, most int64) ([]byte, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	st, err := f.Stat()
	switch {
	case err != nil:
		return nil, err
	case !st.Mode().IsRegular():
		return nil, errors.New("it is not a regular file")
	}
	data, err := io.ReadAll(io.LimitReader(f, most+1))
	if err == nil && int64(len(data)) > most {
		err = fmt.Errorf("it is larger than %d bytes", most)
	}
	return data, err
}

// machineRoot is the file system of a machine.
type machineRoot interface {
	disk.System
	Dir() string
	Glob(pattern string) ([]string, error) // below the root, slash-separated
	Close() error
}

// below opens the machine's root. It may be somebody else's disk, of which nothing leads elsewhere; on
// the machine itself links are its own.
func (m machineFiles) below() (machineRoot, error) {
	if filepath.Clean(m.root) == "/" {
		return ownRoot{disk.OS}, nil
	}
	return disk.NewBeneath(m.root)
}

// ownRoot is the root of this machine.
type ownRoot struct{ disk.System }

func (ownRoot) Dir() string  { return "/" }
func (ownRoot) Close() error { return nil }

// Glob implements machineRoot.
func (ownRoot) Glob(pattern string) (out []string, err error) {
	found, err := filepath.Glob("/" + pattern)
	for _, path := range found {
		out = append(out, strings.TrimPrefix(path, "/"))
	}
	return out, err
}

// Read implements definition.MachineFiles.
func (m machineFiles) Read(path string) ([]byte, error) {
	root, err := m.below()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	raw, err := disk.ReadMost(root, filepath.Join(root.Dir(), filepath.FromSlash(path)), maxRead)
	return raw, cause(err)
}

// Find implements definition.MachineFiles.
func (m machineFiles) Find(patterns []string) (out []string, err error) {
	root, err := m.below()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	for _, pattern := range patterns {
		found, err := root.Glob(pattern)
		if err != nil {
			return nil, err
		}
		for _, name := range found {
			st, err := root.Stat(filepath.Join(root.Dir(), name))
			if f, ok := finding.From(err); ok && f.Code == finding.ContentUnsafePath {
				return nil, f
			}
			if err == nil && st.Mode().IsRegular() {
				out = append(out, "/"+filepath.ToSlash(name))
			}
		}
	}
	return out, nil
}

// Rows implements definition.Rows. Who writes to the database is not disturbed: a copy of it
// is read, with what was not yet written into it.
func (m machineFiles) Rows(path, query string) (out [][]byte, err error) {
	dir, err := os.MkdirTemp("", "stockade-keys-")
	if err != nil {
		return nil, finding.Doing(err, "read %s", path)
	}
	defer os.RemoveAll(dir)
	copied := filepath.Join(dir, "keys.db")
	root, err := m.below()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	for _, beside := range []string{"", "-wal"} {
		from := filepath.Join(root.Dir(), filepath.FromSlash(path)) + beside
		if err := copyFile(copied+beside, root, from); err != nil && (beside == "" || !errors.Is(err,
			fs.ErrNotExist)) {
			return nil, cause(err)
		}
	}
	db, err := sql.Open("sqlite", copied)
	if err != nil {
		return nil, err
	}
	defer db.Close()
	rows, err := db.Query(query)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var row []byte
		if err := rows.Scan(&row); err != nil {
			return nil, err
		}
		out = append(out, row)
	}
	return out, rows.Err()
}

func copyFile(to string, on disk.System, from string) error {
	in, err := disk.Open(on, from)
	if err != nil {
		return err
	}
	defer in.Close()
	out, err := os.Create(to)
	if err != nil {
		return err
	}
	n, err := io.Copy(out, io.LimitReader(in, maxDatabase+1))
	if err == nil && n > maxDatabase {
		err = fmt.Errorf("it is larger than %d bytes", int64(maxDatabase))
	}
	return errors.Join(err, out.Close())
}

// onMachine gives the path on the machine, with a slash before it.
func (m machineFiles) onMachine(path string) string {
	return "/" + strings.Trim(filepath.ToSlash(strings.TrimPrefix(path, filepath.Clean(m.root))), "/")
}

// Of implements definition.MachineFiles: those that were named, or those of the whole root.
func (m machineFiles) Of(r archive.Reading) ([]archive.MachineFile, error) {
	var out []archive.MachineFile
	take := func(path, on string, raw []byte, err error) error {
		if err != nil {
			return usage("cannot read %s: %v", finding.Harmless(path), cause(err))
		}
		out = append(out, archive.MachineFile{Path: strings.TrimPrefix(on, "/"), Name: path, Data: raw})
		return nil
	}
	for _, path := range m.paths {
		if !archive.ReadsFile(r, filepath.ToSlash(path)) {
			continue
		}
		raw, err := readNamed(path, maxRead)
		if err := take(path, m.onMachine(path), raw, err); err != nil {
			return nil, err
		}
	}
	if len(m.paths) > 0 {
		return out, nil
	}
	found, err := m.Find(r.Configuration())
	if err != nil {
		return nil, err
	}
	for _, on := range found {
		raw, err := m.Read(on)
		if err := take(filepath.Join(m.root, filepath.FromSlash(on)), on, raw, err); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// whole is every file of a root, or what was named; nothing is a wrong call.
func (m machineFiles) whole() (*definition.Imported, error) {
	// Paths of keys are written into the document, and must lead there from wherever it lies.
	root, err := filepath.Abs(m.root)
	if err != nil {
		return nil, finding.Doing(err, "find the folder %s", m.root)
	}
	m.root = root
	if len(m.paths) > 1 && slices.ContainsFunc(m.paths, definition.IsPacked) {
		return nil, usage("an archive of a machine cannot be combined with other files: name " +
			"only the archive")
	}
	for _, p := range m.paths {
		if _, err := os.Stat(p); errors.Is(err, fs.ErrNotExist) {
			return nil, usage("%s does not exist", finding.Harmless(p))
		}
		if !isMachineFile(p) && !definition.IsPacked(p) {
			names, all := readers()
			known := []string{}
			for _, n := range names {
				known = append(known, all[n].Configuration()...)
			}
			return nil, usageDo("the files that can be read are "+strings.Join(known, ", "),
				"%s is not a file of a package client that Stockade can read", finding.Harmless(p))
		}
	}
	i, err := m.configured()
	if err == nil && len(i.Set.Sources) == 0 && len(i.Findings) == 0 {
		err = usage("no file of a package client below %s defines where packages come from",
			finding.Harmless(m.root))
	}
	return i, err
}

func (a *app) sourceImport() *cobra.Command {
	m := machineFiles{}
	var out string
	c := &cobra.Command{Use: "import [PATH…]",
		Short: "Import a machine's configuration as definitions",
		Long: `Convert the configuration of a machine to a definition: the sources of its package
client, with their keyrings. Name single files, or an archive of its /etc (tar, compressed or not), or
with --root the folder that contains its root. The command reads the files of three families: deb
(sources.list and sources.list.d in both formats, with settings, logins and preferences), rpm
(repository files of dnf and zypper, with variables, module streams, services and locks) and alpm
(pacman.conf, with the files that it includes).

The document is written to standard output, or with --out to DIR/site.yaml, together with the
certificates that the files contain. A comment above each source says where it was found and what a
person has to decide; the command also prints these as findings. The exit code is 1 if there are errors.
The command vouches for no key and contacts no service.`,
		Example: "  stockade source import --root demo-data/machine --out imported",
		RunE: func(cmd *cobra.Command, args []string) error {
			m.paths = args
			if len(args) == 0 && m.root == "/" && !cmd.Flags().Changed("root") {
				return usage("name files, or the root of a machine with --root DIR (--root / " +
					"for this machine)")
			}
			i, err := m.whole()
			if err != nil {
				return err
			}
			return a.imported(i, out)
		}}
	c.Flags().StringVar(&m.root, "root", "/", "folder that contains the root of the machine")
	c.Flags().StringVar(&m.arch, "arch", "", "architecture of sources that name none; the "+
		"architecture of this machine by default")
	c.Flags().StringVar(&out, "out", "", "folder for site.yaml and the keys")
	return c
}

// imported writes what was read of a machine.
func (a *app) imported(i *definition.Imported, dir string) error {
	if len(i.Keys) > 0 && dir == "" {
		return usageDo("add --out DIR to write them to files",
			"the files contain certificates, and a document can only refer to certificates in "+
				"files")
	}
	text, err := i.YAML()
	if err != nil {
		return err
	}
	names := slices.Sorted(maps.Keys(i.Set.Sources))
	a.findings(a.err, i.Findings)
	if dir != "" {
		if err := a.writeImported(i, dir, text); err != nil {
			return err
		}
	}
	if err := a.show(map[string]any{"sources": names, "findings": i.Findings, "document": text}, func() {
		if dir == "" {
			fmt.Fprint(a.out, text)
			a.say("%s. Decide about each comment that begins with \"decide:\" before you "+
				"record the document", number(len(names),
				"source"))
		}
	}, names); err != nil {
		return err
	}
	if i.Findings.HasErrors() {
		return no()
	}
	return nil
}

func (a *app) writeImported(i *definition.Imported, dir, text string) error {
	site := filepath.Join(dir, "site.yaml")
	if _, err := os.Stat(site); !errors.Is(err, fs.ErrNotExist) {
		if err := a.sure("This writes " + site + " anew."); err != nil {
			return err
		}
	}
	for _, file := range slices.Sorted(maps.Keys(i.Keys)) {
		path := filepath.Join(dir, filepath.FromSlash(file))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return finding.Doing(err, "write to %s", dir)
		}
		if err := disk.Save(path, i.Keys[file], 0o644); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return finding.Doing(err, "write to %s", dir)
	}
	if err := disk.Save(site, []byte(text), 0o644); err != nil {
		return err
	}
	a.say("wrote %s with %s. Read it, then run: stockade check %s", site, number(len(i.Set.Sources),
		"source"),
		site)
	return nil
}

// judgeMachine checks a machine's own files as they are.
func judgeMachine(m machineFiles, now time.Time) (finding.List, int, error) {
	i, err := m.whole()
	if err != nil {
		return nil, 0, err
	}
	if m.root, err = filepath.Abs(m.root); err != nil {
		return nil, 0, finding.Doing(err, "find the folder %s", m.root)
	}
	return i.Judge(families.All, now, func(path string) ([]byte, error) {
		return m.Read(m.onMachine(path))
	}), len(i.Set.Sources), nil
}
