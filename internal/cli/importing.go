package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

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

// machineFiles is what is read of one machine.
type machineFiles struct {
	root  string // "/" or where its files lie
	paths []string
	arch  string
}

// configured reads what a machine is configured with, of every family that reads it.
func (m machineFiles) configured() (*definition.Imported, error) {
	var all []definition.Machine
	names, known := readers()
	for _, name := range names {
		files, err := m.of(known[name])
		if err != nil {
			return nil, err
		}
		if len(files) == 0 {
			continue
		}
		global := map[string][]byte{}
		for _, pattern := range known[name].Keyrings() {
			found, _ := filepath.Glob(filepath.Join(m.root, filepath.FromSlash(pattern)))
			for _, path := range found {
				global[path] = nil
			}
		}
		arch := m.arch
		if arch == "" {
			arch = known[name].MachineArchitecture(runtime.GOARCH)
		}
		all = append(all, definition.Machine{Configured: known[name].ReadConfiguration(files),
			Architecture: arch,
			Root:         m.root, Global: global, ReadKey: m.readKey})
	}
	return definition.Import(all...), nil
}

func (m machineFiles) readKey(path string) ([]byte, error) {
	raw, err := os.ReadFile(filepath.Join(m.root, filepath.FromSlash(path)))
	if err != nil {
		return nil, cause(err)
	}
	return raw, nil
}

// of gives the files of one family: those that were named, or those of the whole root.
func (m machineFiles) of(r archive.Reading) ([]archive.MachineFile, error) {
	paths := m.paths
	if len(paths) == 0 {
		for _, pattern := range r.Configuration() {
			found, err := filepath.Glob(filepath.Join(m.root, filepath.FromSlash(pattern)))
			if err != nil {
				return nil, err
			}
			paths = append(paths, found...)
		}
	}
	var out []archive.MachineFile
	for _, path := range paths {
		if !archive.ReadsFile(r, filepath.ToSlash(path)) {
			continue
		}
		raw, err := os.ReadFile(path)
		if err != nil {
			return nil, usage("%s cannot be read: %v", finding.Harmless(path), cause(err))
		}
		below := strings.TrimPrefix(filepath.ToSlash(strings.TrimPrefix(path, m.root)), "/")
		out = append(out, archive.MachineFile{Path: below, Name: path, Data: raw})
	}
	return out, nil
}

// whole is every file of a root, or what was named; nothing is a wrong call.
func (m machineFiles) whole() (*definition.Imported, error) {
	for _, p := range m.paths {
		if _, err := os.Stat(p); errors.Is(err, fs.ErrNotExist) {
			return nil, usage("%s is not there", finding.Harmless(p))
		}
		if !isMachineFile(p) {
			names, all := readers()
			known := []string{}
			for _, n := range names {
				known = append(known, all[n].Configuration()...)
			}
			return nil, usageDo("read are "+strings.Join(known, ", "),
				"%s is not one of a package client's files that are read", finding.Harmless(p))
		}
	}
	i, err := m.configured()
	if err == nil && len(i.Set.Sources) == 0 && len(i.Findings) == 0 {
		err = usage("below %s lies no file of a package client that says where packages come from",
			finding.Harmless(m.root))
	}
	return i, err
}

func (a *app) sourceImport() *cobra.Command {
	m := machineFiles{}
	var out string
	c := &cobra.Command{Use: "import [PATH…]",
		Short: "Make a definition of what a machine is configured with",
		Long: `Make a definition of what a machine is configured with: the sources of its package client, with
their keyrings. Named are single files, or with --root the folder that a machine's root lies in, or
an unpacked copy of its /etc. Read are files of the families deb (sources.list and what lies in
sources.list.d, in both forms), rpm (repository files of dnf and zypper, with their variables) and
alpm (pacman.conf, with what it includes).

The document is written to standard output, or with --out to DIR/site.yaml, together with
certificates that stand in the files themselves. Above each source stands where it was found, and
what a person has to decide; all of it is told as findings too. Nothing is vouched for. No service is
asked.`,
		Example: "  stockade source import demo-data/machine/etc/apt/sources.list.d/stockade.sources\n" +
			"  stockade source import --root demo-data/machine --out imported",
		RunE: func(cmd *cobra.Command, args []string) error {
			m.paths = args
			if len(args) == 0 && m.root == "/" && !cmd.Flags().Changed("root") {
				return usage("name files, or a machine's root with --root DIR (--root / for this machine)")
			}
			i, err := m.whole()
			if err != nil {
				return err
			}
			return a.imported(i, out)
		}}
	c.Flags().StringVar(&m.root, "root", "/", "the folder that the machine's root lies in")
	c.Flags().StringVar(&m.arch, "arch", "", "architecture of sources that name none; this machine's if "+
		"left out")
	c.Flags().StringVar(&out, "out", "", "folder to write to: site.yaml, and keys")
	return c
}

// imported writes what was read of a machine.
func (a *app) imported(i *definition.Imported, dir string) error {
	if len(i.Keys) > 0 && dir == "" {
		return usageDo("give --out DIR, to which they are written",
			"certificates stand in the files themselves, "+
				"and a document names files of keys")
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
	return a.show(map[string]any{"sources": names, "findings": i.Findings, "document": text}, func() {
		if dir == "" {
			fmt.Fprint(a.out, text)
			a.say("%s; what stands behind \"decide:\" needs you before it is recorded", number(len(names),
				"source"))
		}
	}, names)
}

func (a *app) writeImported(i *definition.Imported, dir, text string) error {
	site := filepath.Join(dir, "site.yaml")
	if _, err := os.Stat(site); err == nil {
		if err := a.sure("This writes " + site + " anew."); err != nil {
			return err
		}
	}
	for _, file := range slices.Sorted(maps.Keys(i.Keys)) {
		path := filepath.Join(dir, filepath.FromSlash(file))
		if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
			return finding.Doing(err, "write to %s", dir)
		}
		if err := disk.Replace(disk.OS, path, i.Keys[file], 0o644); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return finding.Doing(err, "write to %s", dir)
	}
	if err := disk.Replace(disk.OS, site, []byte(text), 0o644); err != nil {
		return err
	}
	a.say("%s has %s; look through it, then: stockade check %s", site, number(len(i.Set.Sources), "source"),
		site)
	return nil
}

// judgeMachine checks a machine's own files as they are.
func judgeMachine(m machineFiles, now time.Time) (finding.List, int, error) {
	i, err := m.whole()
	if err != nil {
		return nil, 0, err
	}
	checked := definition.Check(i.Set, definition.Surroundings{Families: families.All, Now: now,
		ReadFile: func(path string) ([]byte, error) {
			for name, raw := range i.Keys { // that stand in the files themselves
				if strings.HasSuffix(filepath.ToSlash(path), "/"+name) {
					return raw, nil
				}
			}
			return os.ReadFile(path)
		}})
	found := append(slices.Clone(i.Findings), slices.DeleteFunc(checked, func(f finding.Finding) bool {
		// Whom a person trusts is no matter of a machine's files; keyrings that lack are told already.
		return f.Code == "key.unvouched" || f.Code == "key.missing"
	})...)
	found.Sort()
	return found, len(i.Set.Sources), nil
}
