package cli

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"stockade/core/archive"
	"stockade/core/edition"
	"stockade/core/families"
	"stockade/core/finding"
	"stockade/core/trust"
	"stockade/internal/api"
	"stockade/internal/client"
)

var packageListing = listing[api.HousePackage]{
	columns: []column{{head: "ID"}, {head: "VERSION", spare: 5}, {head: "SOURCE"},
		{head: "SIZE", right: true, spare: 4}, {head: "ADDED"}, {head: "BY", spare: 3},
		{head: "FROM", spare: 2, cut: atEnd}, {head: "WHY", spare: 1, cut: atEnd}},
	row: func(p api.HousePackage) []string {
		added := p.At
		if len(added) > 10 {
			added = added[:10]
		}
		return []string{p.ID, p.Version, p.Source, size(int64(p.Size)), added, p.By, p.From, p.Why}
	},
	name:  func(p api.HousePackage) string { return p.ID },
	empty: "no house source has packages. To add one: stockade package add FILE --source SOURCE",
}

// packageCommand is about the packages that house sources hold.
func (a *app) packageCommand() *cobra.Command {

	list := a.packageList()
	add := a.packageAdd()
	remove := a.packageRemove()
	return noun("package",
		"Find packages, show their chain of trust, manage packages of house sources", list,
		a.packageFind(), a.packageShow(), a.packageWhere(),
		add, remove)
}

// readSmall reads a signature file.
func readSmall(path string) ([]byte, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	raw, err := io.ReadAll(io.LimitReader(f, 64<<10+1))
	if len(raw) > 64<<10 {
		return nil, fmt.Errorf("%s is larger than a signature can be", path)
	}
	return raw, err
}

// signatureBeside gives the file beside a package that a family has its signature in, if
// there is one.
func signatureBeside(file string) string {
	for _, name := range families.All.Names() {
		beside := archive.SignatureOf(families.All[name], file)
		if beside == "" {
			continue
		}
		if _, err := os.Stat(beside); !errors.Is(err, fs.ErrNotExist) {
			return beside // also one that cannot be read: whoever reads it is told
		}
	}
	return ""
}

func (a *app) packageList() *cobra.Command {
	var source string
	list := &cobra.Command{Use: "list", Short: "List the packages of house sources",
		Example: "  stockade package list --source reach-lamps", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, args []string) error {
			all, err := client.All[api.HousePackage](cmd.Context(), a.client(),
				"/packages?source="+url.QueryEscape(source))
			if err != nil {
				return err
			}
			return packageListing.show(a, all)
		}}
	list.Flags().StringVar(&source, "source", "", "only packages of this source")
	return list
}

// packageToAdd is what is said about package files that are added.
type packageToAdd struct{ into, from, why, signature string }

func (a *app) packageAdd() *cobra.Command {
	var p packageToAdd
	add := &cobra.Command{Use: "add FILE…",
		Short: "Add package files to a house source",
		Args:  cobra.MinimumNArgs(1),
		Long: `Add package files to a house source: a source of standing house, which has no upstreams.
Stockade reads each file, adds it to the index of the source, and signs the index with the site key. A
detached signature in FILE.sig is recorded with the package. Wardens can run this command.`,
		Example: "  stockade package add demo-data/site/house/lamp-chart_1.0-1reach1_all.deb --source " +
			"reach-lamps \\\n    --from \"built from recipe 12 in the workshop\" --why \"the old lamps " +
			"need it\"",
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := plainNames("source", []string{p.into}); err != nil {
				return err
			}
			if len(args) > 1 && p.signature != "" {
				return usage("--signature is for one file, and %d are named", len(args))
			}
			return a.each(args, func(file string) error { return a.addPackage(cmd.Context(), file, p) })
		}}
	add.Flags().StringVar(&p.into, "source", "", "house source")
	add.Flags().StringVar(&p.from, "from", "", "where the file came from")
	add.Flags().StringVar(&p.why, "why", "", "why it is needed")
	add.Flags().StringVar(&p.signature, "signature", "",
		"file with its detached signature; FILE.sig by default, if that exists")
	add.MarkFlagRequired("source")
	add.RegisterFlagCompletionFunc("source", a.names("/sources", 0, byName))
	return add
}

func (a *app) addPackage(ctx context.Context, file string, in packageToAdd) error {
	f, err := os.Open(file)
	if err != nil {
		return usage("cannot read the file: %v", err)
	}
	defer f.Close()
	if st, err := f.Stat(); err != nil || !st.Mode().IsRegular() {
		return usage("%s is not a regular file", file)
	}
	query := url.Values{"from": {in.from}, "why": {in.why}}
	if signature := first(in.signature, signatureBeside(file)); signature != "" {
		raw, err := readSmall(signature)
		if err != nil {
			return usage("cannot read the signature: %v", err)
		}
		query.Set("signature", base64.StdEncoding.EncodeToString(raw))
	}
	p, err := client.Send[api.HousePackage](ctx, a.client(),
		"/sources/"+url.PathEscape(in.into)+"/packages?"+query.Encode(), f)
	if err != nil {
		return fmt.Errorf("%s was not added: %w", file, err)
	}
	return a.show(p, func() {
		a.findings(a.err, p.Findings)
		fmt.Fprintln(a.out, p.ID)
		a.say("added %s %s (%s) to %s, as revision %d. The next build of a mirror that uses "+
			"the source includes it",
			p.Name, p.Version, p.Architecture, p.Source, p.Revision)
		if p.SignedBy != "" {
			a.say("its signature: %s", p.SignedBy)
		}
	}, []string{p.ID})
}

func (a *app) packageRemove() *cobra.Command {
	return &cobra.Command{Use: "remove ID…",
		Short:   "Remove packages from their house source",
		Example: "  stockade package remove \"$(stockade package list --source reach-pumps -o ids)\" --yes",
		Args:    cobra.MinimumNArgs(1),
		ValidArgsFunction: a.names("/packages", 0, func(m map[string]any) string {
			s, _ := m["id"].(string)
			return s
		}),
		RunE: func(cmd *cobra.Command, args []string) error {
			if err := a.sure("This removes " + strings.Join(args, ", ") +
				" from the house source. Existing editions keep it, and stockade revision " +
				"restore brings it " +
				"back."); err != nil {
				return err
			}
			return a.each(args, func(id string) error {
				j, err := client.Call[api.Judgement](cmd.Context(), a.client(), "DELETE",
					"/packages/"+url.PathEscape(id), nil)
				if err != nil {
					return err
				}
				return a.show(j, func() { a.changes(j); a.say("recorded as revision %d", j.Revision) },
					changeNames(j))
			})
		}}
}

// packageShow shows a package of an edition, and with --chain what stands behind it.
func (a *app) packageShow() *cobra.Command {
	var of, version, arch string
	var chain bool
	c := &cobra.Command{Use: "show NAME --edition MIRROR/N",
		Short: "Show a package of an edition and its chain of trust",
		Long: `Show a package of an edition. --chain shows and verifies the chain of trust: from the
package file to the index that lists it, the release metadata that lists the index, the signature on
that, the key, and the person who vouched for the key; and from the file to the seal. Each step is
compared with the stored bytes. The command says what it could not compare. The exit code is 1 if a step
does not hold.`,
		Example: "  stockade package show sluicectl --edition barrage/1\n" +
			"  stockade package show kelp-drive --edition barrage/1 --chain",
		Args: cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			if of == "" {
				return usage("name the edition with --edition MIRROR/N")
			}
			_, _, path, err := editionPath(of)
			if err != nil {
				return err
			}
			q := url.Values{"package": {args[0]}, "version": {version}, "arch": {arch}}
			page, err := client.Get[api.Page[api.Chain]](cmd.Context(), a.client(), path+"/chain?"+q.Encode())
			if err != nil {
				return err
			}
			var names []string
			holds := true
			for _, c := range page.Items {
				names = append(names, c.Package.Path)
				holds = holds && c.Holds()
			}
			if err := a.show(page.Items, func() {
				for i, c := range page.Items {
					if i > 0 {
						fmt.Fprintln(a.out)
					}
					a.packageChain(c, chain)
				}
			}, names); err != nil {
				return err
			}
			if !holds {
				return no()
			}
			return nil
		}}
	c.Flags().StringVar(&of, "edition", "", "edition that contains it")
	c.Flags().StringVar(&version, "version", "", "only this version")
	c.Flags().StringVar(&arch, "arch", "", "only this architecture")
	c.Flags().BoolVar(&chain, "chain", false, "show and verify the chain of trust")
	c.RegisterFlagCompletionFunc("edition", a.names("/editions", 0, byName))
	return c
}

func (a *app) packageChain(c api.Chain, whole bool) {
	it := c.Package
	why := it.Reason()
	pairs := []string{"package", it.Name, "version", it.Version, "architecture", it.Arch, "source", it.Source,
		"size", size(it.Size), "why it is in", why, "summary", it.Summary, "licence", it.Licence,
		"file", it.Path, "sha256", it.SHA256}
	if it.Signer != "" {
		pairs = append(pairs, "package signed by", short(it.Signer))
	}
	holds := "every step that was compared is valid"
	if slices.ContainsFunc(c.Upstream, func(l edition.Link) bool { return l.Kind == "acknowledged" }) {
		holds += "; upstream does not sign its metadata"
	}
	if !c.Holds() {
		holds = "BROKEN"
	}
	a.fields(append(pairs, "chain of trust", holds)...)
	if c.Since != "" {
		a.say("changed since the edition was made: %s", c.Since)
	}
	if !whole {
		return
	}
	for _, way := range []struct {
		head  string
		links []edition.Link
	}{{"from upstream", c.Upstream}, {"to the seal", c.Site}} {
		fmt.Fprintf(a.out, "\n%s\n", a.paint(bold, way.head))
		for _, l := range way.links {
			a.link(l)
		}
	}
}

// link prints one step of a chain.
func (a *app) link(l edition.Link) {
	word := map[edition.State]string{edition.Compared: "compared", edition.AsSealed: "as sealed",
		edition.Broken: "BROKEN"}[l.State]
	fmt.Fprintf(a.out, "  %-12s %-10s %s\n", l.Kind, word, finding.Harmless(l.Text))
	indent := strings.Repeat(" ", 26)
	if l.Why != "" && l.State != edition.Compared {
		fmt.Fprintf(a.out, "%s%s\n", indent, finding.Harmless(l.Why))
	}
	if l.By != "" {
		fmt.Fprintf(a.out, "%sby %s, %s\n", indent, l.By, date(l.At))
	} else if !l.At.IsZero() {
		fmt.Fprintf(a.out, "%s%s\n", indent, date(l.At))
	}
	if l.Fingerprint != "" && l.Kind == "key" {
		fmt.Fprintf(a.out, "%s%s\n", indent, trust.Spaced(l.Fingerprint))
	}
	if l.SHA256 != "" {
		fmt.Fprintf(a.out, "%ssha256 %s\n", indent, l.SHA256)
	}
	if l.Path != "" {
		fmt.Fprintf(a.out, "%s%s\n", indent, finding.Harmless(l.Path))
	}
}
